"""`convert`: an existing plain table becomes the declared partitioned one (N15, N16, N18 in its first form).

One transaction copies the rows, proves the copy equal partition by partition, and swaps the names. The old table stays
until it is dropped on purpose.
"""

from dataclasses import dataclass, replace

from slabrow.core.table.bounds import CatchAll
from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import Relation
from slabrow.core.table.shape import KeyChange, Shape, key_changes
from slabrow.core.upkeep.conversion_plan import ConversionPlan
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.steps import LongWork, StepReport, StepState
from slabrow.core.values.errors import Refusal, ServerError, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, fit, parse_name
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.layout_preview import LayoutPreview, preview
from slabrow.work.step_runner import StepRunner, ledger_or_none


@dataclass(frozen=True, slots=True)
class ComparedPartition:
    """Rows of one partition before and after. The fingerprints were compared as well, or this would not exist."""

    partition: str
    rows_before: int
    rows_after: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ConvertResult:
    """A conversion, planned or done. compared is empty until it was done."""

    layout: Layout
    preview: LayoutPreview
    key_changes: tuple[KeyChange, ...]
    old_name: Name
    work: LongWork
    steps: tuple[StepReport, ...]
    is_done: bool
    compared: tuple[ComparedPartition, ...] = ()

    @property
    def transactions(self) -> tuple[Transaction, ...]:
        """The transactions of a script."""
        return tuple(step.transaction for step in self.work.steps)


@dataclass(frozen=True, slots=True)
class DropResult:
    """The old table of an earlier conversion, dropped or about to be."""

    old_name: Name
    rows: int | None
    bytes: int
    transaction: Transaction
    is_done: bool


def convert(
    context: Context,
    layout: Layout,
    ledger_schema: str | None,
    *,
    go: bool,
    old_name: str | None = None,
    compares: bool = True,
) -> ConvertResult:
    """Converts the table of `layout`, or with `go` False works out what would be done.

    compares   False: the copy is not compared, which only made-up rows can do without

    Raises Refusal when something would be lost, LayoutError when the layout does not fit.
    """
    with context.connected() as session, runner.sole(session, [layout.table], context.lock_wait_ms):
        plan, seen = _plan(context, session, layout, old_name)
        plan = replace(plan, is_compared=compares)
        work = LongWork(kind="convert", table=plan.shape.name, steps=session.writer.conversion(plan))
        proposed = ConvertResult(
            layout=layout,
            preview=seen,
            key_changes=key_changes(plan.shape, layout.full_key),
            old_name=plan.old_name,
            work=work,
            steps=tuple(StepReport(name=step.name, state=StepState.PROPOSED) for step in work.steps),
            is_done=False,
        )
        if not go:
            return proposed
        context.guard_pretended_clock(session.catalogue.moment())
        reports = StepRunner(context, session, ledger_or_none(context, session, ledger_schema)).do(work)
        rows = [row for report in reports for row in (report.checked[-1] if report.checked else ())]
        compared = tuple(
            ComparedPartition(str(leaf), int(str(old)), int(str(new)))
            for leaf, old, new, _ in sorted(rows, key=lambda row: str(row[0]))
        )
        return replace(proposed, steps=reports, is_done=True, compared=compared)


def refuse_servers(layout: Layout) -> None:
    """Rows are copied within one server. Raises Refusal for a layout whose parts lie on several."""
    if layout.servers:
        raise Refusal(
            f"the parts of {layout.table} are to lie on several servers, and a conversion makes all of them here",
            fix="convert without `servers`, then move parts: slabrow relocate PARTITION --elsewhere NAME; or make a "
            "new table with slabrow build",
        )


def _plan(context: Context, session: Session, layout: Layout, old: str | None) -> tuple[ConversionPlan, LayoutPreview]:
    refuse_servers(layout)
    with session.reading():
        found = session.catalogue.relation(layout.table)
        if found.is_partitioned:
            raise Refusal(
                f"{found.spelling} is partitioned already",
                found=f"it has {session.catalogue.leaves_total(found).leaves} leaves",
                fix="`slabrow tend` keeps it as its layout says; `slabrow census` shows it as it is",
            )
        table = session.catalogue.shape(layout.table)
        _refuse_obstacles(table)
        names = session.catalogue.names_in_schema(found.name.schema)
        blocks, role = session.catalogue.blocks(found), session.catalogue.current_role()
    # Every row of a hash layout has a part, so nothing has to be counted by key before.
    seen = preview(context, session, layout, exact=layout.by is not By.HASH)
    refuse_homeless(layout, seen, table)
    kept_as = old_name_of(found.name, old)
    if kept_as in names:
        raise Refusal(
            f"the old table cannot be kept as {kept_as}",
            found="there is a table of that name already",
            fix="drop it with --drop-old if it is of an earlier conversion, or name another with --old-name",
        )
    return ConversionPlan(
        shape=table,
        layout=layout,
        planned=seen.planned,
        old_name=found.name.sibling(kept_as),
        blocks=blocks,
        key_type=seen.key[0].type_name,
        record_hash=session.catalogue.has_record_hash(found),
        role=role,
        lock_wait_ms=context.lock_wait_ms,
    ), seen


def old_name_of(table: Name, old: str | None) -> str:
    """The name of the plain table afterwards, in its own schema."""
    if old is None:
        return fit(table.table, "_before")
    name = parse_name(old)
    if name.schema not in (None, table.schema):
        raise UsageError(f"--old-name {old} is in another schema", fix=f"name a table of schema {table.schema}")
    return name.table


def _refuse_obstacles(table: Shape) -> None:
    if table.obstacles:
        raise Refusal(
            f"converting {table.name} would lose what belongs to it",
            found="\n".join(table.obstacles),
            fix="follow the step in each line, then convert again",
        )


def refuse_homeless(layout: Layout, seen: LayoutPreview, table: Shape) -> None:
    """Rows that no partition would take: by a NULL in the key, or by a key before the first bound."""
    in_primary_key = any(constraint.kind == "p" for constraint in table.constraints)
    column = layout.key[0]
    if seen.nulls and in_primary_key:
        raise Refusal(
            f"{seen.nulls:,} rows of {table.name} have NULL in {column}",
            found=f"{column} has to become a part of the primary key, which holds no NULL",
            fix=f"give them a value with UPDATE {table.name} SET {column} = … WHERE {column} IS NULL",
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
    with context.connected() as session, runner.sole(session, [table], context.lock_wait_ms):
        with session.reading():
            current = session.catalogue.relation(table)
            kept_as = old_name_of(current.name, old_name)
            old = session.catalogue.relation(current.name.sibling(kept_as))
            _refuse_unmarked(session, old, current)
        dropping = session.writer.dropping(old.name, context.lock_wait_ms)
        if go:
            runner.run(session, [dropping], context.lock_wait_ms, context.progress, context.say)
        return DropResult(old.name, old.rows, old.bytes, dropping, go)


def _refuse_unmarked(session: Session, old: Relation, current: Relation) -> None:
    was = session.writer.old_table(session.catalogue.comment(old))
    if was is None or was[0] != current.name:
        raise Refusal(
            f"{old.spelling} is not dropped",
            found="its comment does not say that Slabrow kept it from a conversion",
            fix="drop it by hand if you are sure",
        )
    if not current.is_partitioned:
        raise ServerError(f"{old.spelling} is not dropped", found=f"{current.spelling} is not partitioned")


def catch_all_rows(result: ConvertResult) -> int:
    """How many rows went, or would go, into the catch-all."""
    return sum(each.rows or 0 for each in result.preview.sized if isinstance(each.top.bounds, CatchAll))
