"""What belongs to a table beside its columns, keys and indexes, and must belong to the table that takes its place."""

from dataclasses import dataclass

from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class Definition:
    """An object that is bound to a table by name when its definition is run. sql: the whole statement that makes it.

    enabled   of a trigger: the catalogue's letter, O as usual, A always, R in replicas, D not at all
    """

    name: str
    sql: str
    enabled: str = "O"


@dataclass(frozen=True, slots=True)
class Publication:
    """tail: what follows the table's name in ALTER PUBLICATION … ADD TABLE; by_root: it publishes as the table."""

    name: str
    tail: str
    by_root: bool


@dataclass(frozen=True, slots=True)
class ExtendedStatistics:
    """form: what stands between its name and FROM, such as `(ndistinct) ON a, b`."""

    name: Name
    form: str
    target: int | None = None
    comment: str | None = None


@dataclass(frozen=True, slots=True)
class IncomingKey:
    """A foreign key of another table that refers to this one. definition: SQL; columns: of this table."""

    child: Name
    name: str
    definition: str
    columns: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Belongings:
    """Everything that is bound to the table itself, and not to its name.

    views, functions   those whose definitions the server keeps as bound to this very table
    row_security       `ENABLE`, `FORCE`
    replica_identity   the catalogue's letter: d usual, f all columns, n none, i by an index
    identity_index     the name of that index
    constraint_comments   (constraint, comment)
    sequence_grants    (sequence, statement that gives the right on the sequence of that name)
    obstacles          what cannot be carried over, each with the remedy
    digest             of everything about the table that a conversion takes over: another one means that it was changed
    """

    triggers: tuple[Definition, ...] = ()
    policies: tuple[Definition, ...] = ()
    views: tuple[Definition, ...] = ()
    functions: tuple[Definition, ...] = ()
    publications: tuple[Publication, ...] = ()
    statistics: tuple[ExtendedStatistics, ...] = ()
    incoming: tuple[IncomingKey, ...] = ()
    row_security: tuple[str, ...] = ()
    replica_identity: str = "d"
    identity_index: str | None = None
    constraint_comments: tuple[tuple[str, str], ...] = ()
    sequence_grants: tuple[tuple[Name, str], ...] = ()
    obstacles: tuple[str, ...] = ()
    digest: str = ""
