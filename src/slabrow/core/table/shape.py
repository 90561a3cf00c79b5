"""The shape of a table: what has to be the same after it has been partitioned, and what cannot be."""

from dataclasses import dataclass, replace

from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name, parse_name


@dataclass(frozen=True, slots=True)
class Column:
    """A column as CREATE TABLE needs it.

    default           SQL
    identity          '', 'a' (always) or 'd' (by default)
    identity_options  SQL: how its sequence counts
    options           as SET (…) takes them, such as `n_distinct=-0.5`
    not_null_name     of its NOT NULL constraint, where the server names them
    kind              of its values, where the family says it
    definition        all of it as SQL, behind its name, where the family keeps it in one piece
    """

    name: str
    type_name: str
    not_null: bool = False
    default: str | None = None
    identity: str = ""
    generated: str | None = None
    collation: str | None = None
    comment: str | None = None
    storage: str | None = None
    compression: str | None = None
    statistics_target: int | None = None
    identity_options: str = ""
    options: str | None = None
    not_null_name: str | None = None
    kind: Kind | None = None
    definition: str = ""


@dataclass(frozen=True, slots=True)
class Constraint:
    """kind is the catalogue's letter: p primary key, u unique, f foreign key, c check. `definition` is SQL."""

    name: str
    kind: str
    definition: str
    columns: tuple[str, ...] = ()

    @property
    def is_key(self) -> bool:
        """Whether it is a primary key or a unique constraint."""
        return self.kind in ("p", "u")

    @property
    def referenced(self) -> Name:
        """The table that a foreign key refers to, as its definition spells it.

        >>> Constraint("of_a_hive", "f", "FOREIGN KEY (hive_id) REFERENCES apiary.hive(hive_id)").referenced.table
        'hive'
        """
        rest = self.definition.split(" REFERENCES ", 1)[1]
        end, is_quoted = 0, False
        while end < len(rest) and (is_quoted or rest[end] not in "( "):
            is_quoted ^= rest[end] == '"'
            end += 1
        return parse_name(rest[:end])


@dataclass(frozen=True, slots=True)
class Index:
    """An index that no constraint owns. `definition` is what follows ON table: `USING btree (taken_at)`."""

    name: str
    definition: str
    is_unique: bool
    columns: tuple[str, ...]  # an expression stands as ""
    comment: str | None = None


@dataclass(frozen=True, slots=True)
class Grant:
    """A privilege; grantee None is PUBLIC, column None the whole table."""

    grantee: str | None
    privilege: str
    grantable: bool
    column: str | None = None


@dataclass(frozen=True, slots=True)
class Sequence:
    """A sequence that a column owns; identity sequences carry their state over by value."""

    name: Name
    column: str
    is_identity: bool


@dataclass(frozen=True, slots=True)
class Shape:
    """Everything about a table but its rows.

    granted_by_default   who gets rights on every new table of the acting role, without being asked; None is PUBLIC
    obstacles   what Slabrow would lose if it went on, each with the remedy: conversion refuses while there are any
    """

    name: Name
    owner: str
    columns: tuple[Column, ...]
    constraints: tuple[Constraint, ...] = ()
    indexes: tuple[Index, ...] = ()
    grants: tuple[Grant, ...] = ()
    sequences: tuple[Sequence, ...] = ()
    options: tuple[str, ...] = ()
    tablespace: str | None = None
    granted_by_default: tuple[str | None, ...] = ()
    comment: str | None = None
    is_unlogged: bool = False
    obstacles: tuple[str, ...] = ()

    def column(self, name: str) -> Column | None:
        """The column of that name."""
        return next((column for column in self.columns if column.name == name), None)


@dataclass(frozen=True, slots=True)
class KeyChange:
    """A unique key that must take in the partition key (N15)."""

    name: str
    what: str  # "primary key", "unique constraint", "unique index"
    before: tuple[str, ...]
    after: tuple[str, ...]

    @property
    def added(self) -> tuple[str, ...]:
        """The columns that the new key has and the old one had not."""
        return self.after[len(self.before) :]


def key_changes(shape: Shape, key: tuple[str, ...]) -> tuple[KeyChange, ...]:
    """The unique keys of a table that do not contain its partition key yet.

    "A unique or primary key constraint on a partitioned table must include all the partition key columns"
    (PostgreSQL manual, 5.12.2.3 Limitations).
    """
    words = {"p": "primary key", "u": "unique constraint"}
    uniques = [
        (constraint.name, words[constraint.kind], constraint.columns)
        for constraint in shape.constraints
        if constraint.is_key
    ]
    uniques += [(index.name, "unique index", index.columns) for index in shape.indexes if index.is_unique]
    return tuple(
        KeyChange(name, what, columns, (*columns, *(column for column in key if column not in columns)))
        for name, what, columns in uniques
        if not set(key) <= set(columns)
    )


def with_key(definition: str, added: tuple[str, ...]) -> str:
    """`definition` (SQL of a unique key) with more columns at the end of its column list.

    >>> with_key('PRIMARY KEY (reading_id)', ('taken_at',))
    'PRIMARY KEY (reading_id, taken_at)'
    """
    end = _closing_parenthesis(definition)
    return definition[:end] + "".join(f", {column}" for column in added) + definition[end:]


def _closing_parenthesis(definition: str) -> int:
    """Where the first parenthesis of the SQL closes, looking past quoted names and texts."""
    depth, quote = 0, ""
    for place, letter in enumerate(definition):
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif letter == "(":
            depth += 1
        elif letter == ")":
            depth -= 1
            if depth == 0:
                return place
    raise ValueError(f"{definition!r} has no column list")


def extended(shape: Shape, key: tuple[str, ...], quoted_key: dict[str, str]) -> Shape:
    """The shape with every unique key taking in the partition key. quoted_key: each key column as SQL spells it."""
    changes = {change.name: tuple(quoted_key[column] for column in change.added) for change in key_changes(shape, key)}

    def mended(owner: Constraint | Index) -> str:
        return with_key(owner.definition, changes[owner.name]) if owner.name in changes else owner.definition

    return replace(
        shape,
        constraints=tuple(replace(constraint, definition=mended(constraint)) for constraint in shape.constraints),
        indexes=tuple(replace(index, definition=mended(index)) for index in shape.indexes),
    )


@dataclass(frozen=True, slots=True)
class Traits:
    """The properties that a new partition copies from its newest sibling, because the parent does not pass them on.

    tablespace         the parent's, else the sibling's; None for the database's own
    access_method      alike; None for the usual one
    options            storage parameters as `name=value`
    replica_identity   `FULL`, `NOTHING`, or None for the usual one; one by an index is left to people
    grants             [privilege, grantee or None for PUBLIC, with grant option] on the partition itself
    publications       that hold the partition by its own name; those that hold the table have its partitions anyway
    out_of_reach       such publications whose owner the acting role is not
    row_security       `ENABLE`, `FORCE`: what the partition itself has
    policies           of its own: the name, and what follows the table's name in CREATE POLICY
    named_policies     those left out, as they name the sibling itself
    keys               unique indexes of its own, as what follows ON table: where the table cannot have them
    """

    tablespace: str | None = None
    access_method: str | None = None
    options: tuple[str, ...] = ()
    replica_identity: str | None = None
    grants: tuple[tuple[str, str | None, bool], ...] = ()
    publications: tuple[str, ...] = ()
    out_of_reach: tuple[str, ...] = ()
    row_security: tuple[str, ...] = ()
    policies: tuple[tuple[str, str], ...] = ()
    named_policies: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
