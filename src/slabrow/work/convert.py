"""`convert`: an existing plain table becomes the declared partitioned one (N15, N16, N18 in its first form).

One transaction copies the rows, proves the copy equal partition by partition, and swaps the names. The old table stays
until it is dropped on purpose.
"""

from dataclasses import dataclass

from slabrow.core.table.bounds import CatchAll
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import KeyChange, Shape, key_changes
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.values.errors import Refusal, ServerError, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, fit, parse_name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.catalogue import Relation
from slabrow.servers.postgresql.read.shape import shape
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.conversion import Conversion, is_marked
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.layout_preview import Prospect, prospect


@dataclass(frozen=True, slots=True)
class Compared:
    """Rows of one partition before and after. The fingerprints were compared as well, or this would not exist."""

    partition: str
    rows_before: int
    rows_after: int


@dataclass(frozen=True, slots=True)
class ConvertResult:
    """What conversion does, or did. compared is empty until it was done."""

    layout: Layout
    prospect: Prospect
    key_changes: tuple[KeyChange, ...]
    old_name: Name
    transaction: Transaction
    is_done: bool
    compared: tuple[Compared, ...] = ()


@dataclass(frozen=True, slots=True)
class DropResult:
    """The old table of an earlier conversion, dropped or about to be."""

    old_name: Name
    rows: int | None
    bytes: int
    transaction: Transaction
    is_done: bool


def convert(context: Context, layout: Layout, *, go: bool, old_name: str | None = None) -> ConvertResult:
    """Converts the table of `layout`, or with `go` False works out what would be done.

    Raises Refusal when something would be lost, LayoutError when the layout does not fit.
    """
    with context.connected() as connection, runner.sole(connection, [layout.table], context.lock_wait_ms):
        plan, seen = _plan(context, connection, layout, old_name)
        transaction = plan.transaction()
        changes = key_changes(plan.shape, layout.full_key)
        if not go:
            return ConvertResult(layout, seen, changes, plan.old_name, transaction, is_done=False)
        context.guard_pretended_clock(catalogue.moment(connection))
        checked = runner.run(connection, [transaction], context.lock_wait_ms, context.progress, context.say)
        compared = tuple(
            Compared(str(leaf), old, new) for leaf, old, new, _ in sorted(checked[-1], key=lambda row: str(row[0]))
        )
        return ConvertResult(layout, seen, changes, plan.old_name, transaction, True, compared)


def _plan(context: Context, connection: Connection, layout: Layout, old: str | None) -> tuple[Conversion, Prospect]:
    with reading(connection):
        found = catalogue.relation(connection, layout.table)
        if found.kind == "p":
            raise Refusal(
                f"{found.spelling} is partitioned already",
                found=f"it has {catalogue.leaves_total(connection, found).leaves} leaves",
                fix="`slabrow tend` keeps it as its layout says; `slabrow census` shows it as it is",
            )
        table = shape(connection, layout.table)
        _refuse_obstacles(table)
        names = catalogue.names_in_schema(connection, found.name.schema)
        blocks, role = catalogue.blocks(connection, found), catalogue.current_role(connection)
    # Every row of a hash layout has a part, so nothing has to be counted by key before.
    seen = prospect(context, connection, layout, exact=layout.by is not By.HASH)
    _refuse_homeless(layout, seen, table)
    kept_as = _old_name(found.name, old)
    if kept_as in names:
        raise Refusal(
            f"the old table cannot be kept as {kept_as}",
            found="there is a table of that name already",
            fix="drop it with --drop-old if it is of an earlier conversion, or name another with --old-name",
        )
    return Conversion(
        shape=table,
        layout=layout,
        planned=seen.planned,
        old_name=found.name.sibling(kept_as),
        blocks=blocks,
        key_type=seen.key[0].type_name,
        record_hash=catalogue.has_record_hash(connection, found),
        role=role,
        lock_wait_ms=context.lock_wait_ms,
    ), seen


def _old_name(table: Name, old: str | None) -> str:
    """What the plain table is called afterwards, in its own schema."""
    if old is None:
        return fit(table.table, "_before", 63)
    name = parse_name(old)
    if name.schema not in (None, table.schema):
        raise UsageError(f"--old-name {old} is in another schema", fix=f"name a table of schema {table.schema}")
    return name.table


def _refuse_obstacles(table: Shape) -> None:
    if table.obstacles:
        raise Refusal(
            f"converting {table.name} would lose what belongs to it",
            found="\n".join(table.obstacles),
            fix="do what stands behind each, then convert again",
        )


def _refuse_homeless(layout: Layout, seen: Prospect, table: Shape) -> None:
    """Rows that no partition would take: by a NULL in the key, or by a key before the first bound."""
    in_primary_key = any(constraint.kind == "p" for constraint in table.constraints)
    column = layout.key[0]
    if seen.nulls and in_primary_key:
        raise Refusal(
            f"{seen.nulls:,} rows of {table.name} have NULL in {column}",
            found=f"{column} has to become a part of the primary key, which holds no NULL",
            fix=f"give them a value: UPDATE {quoting.table(table.name)} SET {quoting.identifier(column)} = … "
            f"WHERE {quoting.identifier(column)} IS NULL",
        )
    if seen.homeless:
        what = "have NULL in" if seen.nulls == seen.homeless else "have no partition for their"
        raise Refusal(
            f"{seen.homeless:,} rows of {table.name} {what} {column}",
            found=f"the layout begins at from = {layout.from_}"
            if layout.by is By.RANGE and layout.from_
            else "the layout has no catch-all",
            fix="add catch_all = true to the layout"
            + (", or an earlier `from`" if layout.by is By.RANGE else ", or a group for their values"),
        )


def drop_old(context: Context, table: Name, *, go: bool, old_name: str | None = None) -> DropResult:
    """Drops the plain table that a conversion of `table` kept. Refuses any other table."""
    with context.connected() as connection, runner.sole(connection, [table], context.lock_wait_ms):
        with reading(connection):
            current = catalogue.relation(connection, table)
            kept_as = _old_name(current.name, old_name)
            old = catalogue.relation(connection, current.name.sibling(kept_as))
            _refuse_unmarked(connection, old, current)
        sql = f"DROP TABLE {quoting.table(old.name)}"
        dropping = Transaction(f"drop {old.name}", (ddl.lock_timeout(context.lock_wait_ms), Statement(sql, 1.0)))
        if go:
            runner.run(connection, [dropping], context.lock_wait_ms, context.progress, context.say)
        return DropResult(old.name, old.rows, old.bytes, dropping, go)


def _refuse_unmarked(connection: Connection, old: Relation, current: Relation) -> None:
    if not is_marked(catalogue.comment(connection, old), current.name):
        raise Refusal(
            f"{old.spelling} is not dropped",
            found="its comment does not say that Slabrow kept it from a conversion",
            fix="drop it by hand if you are sure",
        )
    if not catalogue.is_partitioned(current):
        raise ServerError(f"{old.spelling} is not dropped", found=f"{current.spelling} is not partitioned")


def catch_all_rows(result: ConvertResult) -> int:
    """How many rows went, or would go, into the catch-all."""
    return sum(each.rows or 0 for each in result.prospect.sized if isinstance(each.top.bounds, CatchAll))
