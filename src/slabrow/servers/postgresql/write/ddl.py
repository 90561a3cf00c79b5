"""Writes tables, partitions and what belongs to them as SQL. Pure: text out, nothing sent."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import assert_never

from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Column, Shape, Traits, extended
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action, Adopt, Archive, Create, Detach, Drop, Merge, Place, Sweep
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.statements import Part, Statement, Transaction
from slabrow.core.upkeep.upkeep_facts import COPIED_ABOVE, Copying, UpkeepFacts
from slabrow.core.values.names import NAME_LIMIT, Name, fit
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write.sweeping import Sweeping

USUAL = Traits()

# Creating a partition locks it, its TOAST table and each index: a transaction of this many stays far below the
# 6,400 locks of a server with default settings (PostgreSQL manual, 19.12 max_locks_per_transaction).
PARTITIONS_A_TRANSACTION = 100


def create_table(shape: Shape, name: Name, layout: Layout) -> str:
    """CREATE TABLE … PARTITION BY with columns and checks; keys and indexes come later, when there are rows."""
    lines = [column_definition(column) for column in shape.columns]
    lines += [
        f"CONSTRAINT {identifier(constraint.name)} {constraint.definition}"
        for constraint in shape.constraints
        if constraint.kind == "c"
    ]
    body = ",\n    ".join(lines)
    tablespace = f" TABLESPACE {identifier(shape.tablespace)}" if shape.tablespace else ""
    return f"CREATE TABLE {quoting.table(name)} (\n    {body}\n) {partition_by(layout)}{tablespace}"


def partition_by(layout: Layout) -> str:
    """The PARTITION BY clause."""
    return f"PARTITION BY {layout.by.upper()} ({quoting.columns(layout.key)})"


def column_definition(column: Column) -> str:
    """A column as CREATE TABLE takes it."""
    parts = [identifier(column.name), column.type_name]
    if column.collation:
        parts.append(f"COLLATE {column.collation}")
    if column.default is not None:
        parts.append(f"DEFAULT {column.default}")
    if column.generated is not None:
        expression, kind = column.generated.rsplit(" ", 1)
        parts.append(f"GENERATED ALWAYS AS ({expression}) {kind}")
    if column.identity:
        counting = f" ({column.identity_options})" if column.identity_options else ""
        parts.append(f"GENERATED {'ALWAYS' if column.identity == 'a' else 'BY DEFAULT'} AS IDENTITY" + counting)
    if column.not_null:
        named = f"CONSTRAINT {identifier(column.not_null_name)} " if column.not_null_name else ""
        parts.append(named + "NOT NULL")
    return " ".join(parts)


def create_partitions(parent: Name, planned: tuple[Planned, ...], shape: Shape, layout: Layout) -> Iterator[Statement]:
    """CREATE TABLE … PARTITION OF for each, and for its own partitions: for a parent that is not in use yet."""
    options = f" WITH ({', '.join(shape.options)})" if shape.options else ""
    unlogged = "UNLOGGED " if shape.is_unlogged else ""
    for partition in planned:
        name = parent.sibling(partition.name)
        divided = f" {partition_by(layout.within)}" if partition.inner and layout.within else ""
        # A table that is divided itself holds no rows, and takes no storage options.
        kind = "" if divided else unlogged
        yield Statement(
            f"CREATE {kind}TABLE {quoting.table(name)} PARTITION OF {quoting.table(parent)} "
            f"{quoting.bounds(partition.bounds, len(layout.key))}{divided or options}"
        )
        if partition.inner and layout.within is not None:
            yield from create_partitions(name, partition.inner, shape, layout.within)


def names_of(parent: Name, planned: tuple[Planned, ...]) -> Iterator[Name]:
    """Every table of the planned partitions, and of their own partitions."""
    for partition in planned:
        yield parent.sibling(partition.name)
        yield from names_of(parent, partition.inner)


def column_settings(shape: Shape, name: Name) -> Iterator[Statement]:
    """The settings of columns that CREATE TABLE cannot express: storage, compression, statistics targets."""
    alter = f"ALTER TABLE {quoting.table(name)} ALTER COLUMN"
    for column in shape.columns:
        if column.storage:
            yield Statement(f"{alter} {identifier(column.name)} SET STORAGE {column.storage}")
        if column.compression:
            yield Statement(f"{alter} {identifier(column.name)} SET COMPRESSION {column.compression}")
        if column.statistics_target is not None:
            yield Statement(f"{alter} {identifier(column.name)} SET STATISTICS {column.statistics_target}")
        if column.options:
            yield Statement(f"{alter} {identifier(column.name)} SET ({column.options})")


def comments(shape: Shape, name: Name) -> Iterator[Statement]:
    """The comments on the table and its columns."""
    if shape.comment is not None:
        yield Statement(f"COMMENT ON TABLE {quoting.table(name)} IS {literal(shape.comment)}")
    for column in shape.columns:
        if column.comment is not None:
            yield Statement(
                f"COMMENT ON COLUMN {quoting.table(name)}.{identifier(column.name)} IS {literal(column.comment)}"
            )


def grants(shape: Shape, name: Name, planned: tuple[Planned, ...]) -> Iterator[Statement]:
    """The old table's rights and no others: what default privileges gave the new tables is taken away first."""
    for granted in shape.granted_by_default:
        for made in (name, *names_of(name, planned)):
            yield Statement(f"REVOKE ALL ON {quoting.table(made)} FROM {_grantee(granted)}")
    for grant in shape.grants:
        column = f" ({identifier(grant.column)})" if grant.column else ""
        option = " WITH GRANT OPTION" if grant.grantable else ""
        yield Statement(
            f"GRANT {grant.privilege}{column} ON {quoting.table(name)} TO {_grantee(grant.grantee)}{option}"
        )


def _grantee(role: str | None) -> str:
    return "PUBLIC" if role is None else identifier(role)


def owners(shape: Shape, name: Name, planned: tuple[Planned, ...], role: str) -> Iterator[Statement]:
    """The old owner for the parent and each partition, where the acting role is another."""
    if shape.owner == role:
        return
    for owned in (name, *names_of(name, planned)):
        yield Statement(f"ALTER TABLE {quoting.table(owned)} OWNER TO {identifier(shape.owner)}")


@dataclass(frozen=True, slots=True)
class NewKeys:
    """The unique keys, indexes and foreign keys of a new parent, under names that end in `suffix` until they are final.

    The final names may still belong to the old table: indexes share their schema's names.
    """

    shape: Shape
    layout: Layout
    suffix: str = ""

    def _name(self, name: str) -> str:
        return fit(name, self.suffix, NAME_LIMIT)

    @property
    def mended(self) -> Shape:
        """The shape with the partition key in every unique key."""
        key = self.layout.full_key
        return extended(self.shape, key, {column: identifier(column) for column in key})

    def statements(self, parent: Name, share: float) -> list[Statement]:
        """share: of the whole work, divided evenly."""
        shape, table = self.mended, quoting.table(parent)
        made = [
            f"ALTER TABLE {table} ADD CONSTRAINT {identifier(self._name(constraint.name))} {constraint.definition}"
            for constraint in shape.constraints
            if constraint.is_key
        ]
        made += [
            f"CREATE {'UNIQUE ' if index.is_unique else ''}INDEX {identifier(self._name(index.name))} "
            f"ON {table} {index.definition}"
            for index in shape.indexes
        ]
        made += [
            f"ALTER TABLE {table} ADD CONSTRAINT {identifier(constraint.name)} {constraint.definition}"
            for constraint in shape.constraints
            if constraint.kind == "f"
        ]
        made += [
            f"COMMENT ON INDEX {quoting.table(parent.sibling(self._name(index.name)))} IS {literal(index.comment)}"
            for index in shape.indexes
            if index.comment is not None
        ]
        each = share / max(1, len(made))
        return [Statement(sql, each, f"building keys and indexes of {self.shape.name}") for sql in made]

    def renames(self, parent: Name) -> Iterator[Statement]:
        """From the passing names to the final ones."""
        if not self.suffix:
            return
        for constraint in self.shape.constraints:
            if constraint.is_key:
                yield Statement(
                    f"ALTER TABLE {quoting.table(parent)} RENAME CONSTRAINT "
                    f"{identifier(self._name(constraint.name))} TO {identifier(constraint.name)}"
                )
        for index in self.shape.indexes:
            yield Statement(
                f"ALTER INDEX {quoting.table(parent.sibling(self._name(index.name)))} "
                f"RENAME TO {identifier(index.name)}"
            )

    @property
    def count(self) -> int:
        """How many indexes each partition gets."""
        return len(self.shape.indexes) + sum(constraint.is_key for constraint in self.shape.constraints)


def lock_timeout(milliseconds: int) -> Statement:
    """Limits the waits for locks, until the transaction ends."""
    return Statement(f"SET LOCAL lock_timeout = {milliseconds}")


def build(
    shape: Shape, layout: Layout, planned: tuple[Planned, ...], role: str, lock_wait_ms: int
) -> list[Transaction]:
    """A new partitioned table and its partitions, the partitions in transactions of a bounded size."""
    name = layout.table
    keys = NewKeys(shape, layout)
    parent = Transaction(
        f"create the partitioned table {name}",
        (
            lock_timeout(lock_wait_ms),
            Statement(create_table(shape, name, layout)),
            *column_settings(shape, name),
            *keys.statements(name, 0.0),
            *owners(shape, name, (), role),
            *grants(shape, name, ()),
            *comments(shape, name),
        ),
    )
    return [parent, *build_partitions(shape, layout, planned, role, lock_wait_ms)]


def build_partitions(
    shape: Shape, layout: Layout, planned: tuple[Planned, ...], role: str, lock_wait_ms: int
) -> Iterator[Transaction]:
    """The partitions of a parent that exists, in transactions of a bounded size."""
    inner = max((len(partition.inner) for partition in planned), default=0)
    step = max(1, PARTITIONS_A_TRANSACTION // (inner + 1))
    for first in range(0, len(planned), step):
        some = planned[first : first + step]
        share = 1 / len(planned)
        made = [Statement(statement.sql, share) for statement in create_partitions(layout.table, some, shape, layout)]
        owned = [
            Statement(f"ALTER TABLE {quoting.table(name)} OWNER TO {identifier(shape.owner)}")
            for name in names_of(layout.table, some)
            if shape.owner != role
        ]
        yield Transaction(
            f"create partitions {first + 1} to {first + len(some)} of {len(planned)}",
            (lock_timeout(lock_wait_ms), *made, *owned),
        )


@dataclass(frozen=True, slots=True)
class Upkeep:
    """Writes actions on a table in use, with the weakest locks that the server offers for each.

    key            the columns of the key
    columns        of the table, those that are generated left out
    detaching      partitions whose DETACH … CONCURRENTLY was interrupted, and has to be finished
    owner          the parent's owner, when the acting role is another; None when it is the same
    traits         what new partitions take from a sibling
    detach_to      the schema into which detached partitions go; None: they stay in theirs
    copying        for sweeps that copy first; None: rows move under the lock
    far            the partitions whose rows lie on another server
    """

    key: tuple[str, ...]
    columns: tuple[str, ...]
    has_catch_all: bool
    detaching: frozenset[Name]
    lock_wait_ms: int
    owner: str | None
    within: Layout | None = None
    traits: Traits = USUAL
    detach_to: str | None = None
    copying: Copying | None = None
    far: frozenset[Name] = frozenset()

    def under_lock(self, action: Action) -> Transaction:
        """As `transaction`; a sweep moves all its rows under the lock, and copies none before."""
        return replace(self, copying=None).transaction(action)

    def after_archive(self, action: Archive) -> tuple[Transaction, Name | None]:
        """As `ActionWriter.after_archive`."""
        return self.transaction(Drop(action.table, action.partition, action.bounds, action.reason)), None

    def transaction(self, action: Action) -> Transaction:
        """The statements of one action. Raises NotImplementedError for an Archive, which writes files."""
        purpose = f"{action.kind} {action.partition}"
        if isinstance(action, Sweep):
            return Transaction(purpose, (lock_timeout(self.lock_wait_ms), *self._sweeping(action)))
        statements, is_atomic = self._statements(action)
        share = 1 / len(statements)
        timeout = (lock_timeout(self.lock_wait_ms),) if is_atomic else ()
        made = (*timeout, *(Statement(sql, share) for sql in statements))
        return Transaction(purpose, made, is_atomic)

    def _statements(self, action: Create | Detach | Drop | Archive | Merge | Place) -> tuple[list[str], bool]:
        """The SQL, and whether it may stand in a transaction block."""
        parent, partition = quoting.table(action.table), quoting.table(action.partition)
        match action:
            case Create():
                return self._creation(action, parent, partition), True
            case Detach() | Drop():
                # CONCURRENTLY waits for readers without holding up others; it is refused beside a catch-all, and in a
                # transaction block (PostgreSQL manual, ALTER TABLE, "DETACH PARTITION").
                is_gentle = isinstance(action, Detach) and not self.has_catch_all
                how = " FINALIZE" if action.partition in self.detaching else " CONCURRENTLY" if is_gentle else ""
                detach = f"ALTER TABLE {parent} DETACH PARTITION {partition}{how}"
                if isinstance(action, Drop):
                    kind = "FOREIGN TABLE" if action.partition in self.far else "TABLE"
                    return [detach, f"DROP {kind} {partition}"], True
                if self.detach_to is None or self.detach_to == action.partition.schema:
                    return [detach], how != " CONCURRENTLY"
                # Moved while it is still a partition: when this is stopped midway, the next run finds it and goes on.
                # IF EXISTS, because an earlier try may have got no lock for the second statement.
                move = f"ALTER TABLE IF EXISTS {partition} SET SCHEMA {identifier(self.detach_to)}"
                moved = quoting.table(Name(self.detach_to, action.partition.table))
                return [move, detach.replace(f"PARTITION {partition}", f"PARTITION {moved}")], how != " CONCURRENTLY"
            case Archive() | Merge() | Place():
                raise NotImplementedError("archiving writes files, merging goes in steps: neither is a statement")
            case _:
                assert_never(action)

    def _sweeping(self, action: Sweep) -> list[Part]:
        """In one transaction, so that no reader misses a row, under the lock that ATTACH takes on a catch-all."""
        parent, partition = quoting.table(action.table), quoting.table(action.partition)
        sweeping = Sweeping(action, self.key, self.columns)
        *made, attach = map(Statement, self._creation(action, parent, partition))
        if action.rows <= COPIED_ABOVE or self.copying is None:
            return [*made, *sweeping.under_lock(), attach]
        return [*made, *sweeping.copied_first(self.copying), attach, sweeping.after()]

    def adoption(self, action: Adopt | Create) -> tuple[list[str], str]:
        """The statements that make a partition like the others, and the one that attaches it."""
        *made, attach = self._creation(action, quoting.table(action.table), quoting.table(action.partition))
        return made, attach

    def _creation(self, action: Create | Sweep | Adopt, parent: str, partition: str) -> list[str]:
        """Made apart and attached: ATTACH PARTITION takes SHARE UPDATE EXCLUSIVE on the parent, where CREATE TABLE …
        PARTITION OF takes ACCESS EXCLUSIVE (PostgreSQL manual, ALTER TABLE, "ATTACH PARTITION"). A catch-all, if there
        is one, is still locked and looked through.
        """
        like = "INCLUDING ALL EXCLUDING INDEXES EXCLUDING IDENTITY"
        within = self.within if action.inner else None
        divided = f" {partition_by(within)}" if within is not None else ""
        inner = [
            f"CREATE TABLE {quoting.table(action.table.sibling(each.name))} PARTITION OF {partition} "
            f"{quoting.bounds(each.bounds, len(within.key))}"
            for each in action.inner
            if within is not None
        ]
        names = (action.partition, *names_of(action.table, action.inner))
        owned = [f"ALTER TABLE {quoting.table(name)} OWNER TO {identifier(self.owner)}" for name in names if self.owner]
        assert action.bounds is not None
        attach = f"ALTER TABLE {parent} ATTACH PARTITION {partition} {quoting.bounds(action.bounds, len(self.key))}"
        leaves = list(names_of(action.table, action.inner)) or [action.partition]
        taken = [statement for leaf in leaves for statement in self._taken(quoting.table(leaf))]
        made = f"CREATE TABLE {partition} (LIKE {parent} {like}){divided}{self._placed(is_divided=bool(divided))}"
        return [made, *inner, *taken, *owned, attach]

    def _placed(self, *, is_divided: bool) -> str:
        """A partition that is divided passes its tablespace on, and has no access method of its own."""
        traits = self.traits
        using = f" USING {identifier(traits.access_method)}" if traits.access_method and not is_divided else ""
        return using + (f" TABLESPACE {identifier(traits.tablespace)}" if traits.tablespace else "")

    def like_siblings(self, name: Name) -> list[str]:
        """What a table needs to be a partition like the others, beside columns, keys and indexes."""
        owned = [f"ALTER TABLE {quoting.table(name)} OWNER TO {identifier(self.owner)}"] if self.owner else []
        return [*self._taken(quoting.table(name)), *owned]

    def _taken(self, leaf: str) -> Iterator[str]:
        """The properties that a leaf copies from its siblings."""
        if self.traits.options:
            yield f"ALTER TABLE {leaf} SET ({', '.join(map(_option, self.traits.options))})"
        for key in self.traits.keys:
            yield f"CREATE UNIQUE INDEX ON {leaf} {key}"
        if self.traits.replica_identity is not None:
            yield f"ALTER TABLE {leaf} REPLICA IDENTITY {self.traits.replica_identity}"
        for publication in self.traits.publications:
            yield f"ALTER PUBLICATION {identifier(publication)} ADD TABLE ONLY {leaf}"
        for name, policy in self.traits.policies:
            yield f"CREATE POLICY {identifier(name)} ON {leaf} {policy}"
        for how in self.traits.row_security:
            yield f"ALTER TABLE {leaf} {how} ROW LEVEL SECURITY"
        for privilege, grantee, grantable in self.traits.grants:
            option = " WITH GRANT OPTION" if grantable else ""
            yield f"GRANT {privilege} ON {leaf} TO {_grantee(grantee)}{option}"


def _option(option: str) -> str:
    name, _, value = option.partition("=")
    return f"{name} = {literal(value)}"


def upkeep_of(
    tree: Tree, layout: Layout, facts: UpkeepFacts, lock_wait_ms: int, copying: Copying | None = None
) -> Upkeep:
    """How actions on this tree are written. copying: as of Upkeep."""
    return Upkeep(
        key=tuple(column.name or column.text for column in tree.key),
        columns=facts.columns,
        # A catch-all that the layout has and the tree has not is made before anything leaves.
        has_catch_all=tree.catch_all is not None or layout.catch_all,
        detaching=frozenset(partition.name for partition in tree.partitions if partition.is_detaching),
        lock_wait_ms=lock_wait_ms,
        owner=None if facts.owner == facts.role else facts.owner,
        within=layout.within,
        traits=facts.traits,
        detach_to=layout.detach_to,
        copying=copying,
        far=frozenset(partition.name for partition in tree.partitions if partition.server is not None),
    )
