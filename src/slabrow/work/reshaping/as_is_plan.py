"""Plans `convert --way as-is`: where the first partition ends, and what the layout says then (N18)."""

from dataclasses import replace
from datetime import date, datetime
from typing import Any

from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import ColumnFact
from slabrow.core.table.shape import key_changes
from slabrow.core.table.spans import Grid, Span, Unit, shifted
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK, BUILT, LivePlan, Reshaping
from slabrow.core.upkeep.planned_partitions import Planned, as_key
from slabrow.core.values.errors import Refusal, UsageError
from slabrow.core.values.key_values import Value, order, parse_value, spell, spell_local
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, fit
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.work.context import Context
from slabrow.work.layout_preview import key_columns, preview
from slabrow.work.reshaping.plan import INCOMING, PlannedLive, planned_of, refuse, refuse_missing_rights


def plan_as_is(
    context: Context, session: Session, layout: Layout, schema: str, store: ReshapingStore, to: str | None
) -> PlannedLive:
    """Raises Refusal when the table cannot be taken in as it is, UsageError for a bound that does not fit."""
    if layout.by is not By.RANGE or layout.within is not None:
        raise Refusal(
            f"{layout.table} cannot be taken in as it is",
            found=f"the layout is {layout}",
            fix="a table as it is becomes a range of its key: use a range layout, or --way live, which copies",
        )
    with session.reading():
        found = session.catalogue.relation(layout.table)
        if found.is_partitioned:
            raise Refusal(f"{found.spelling} is partitioned already", fix="--way live changes its layout")
        shape = session.catalogue.shape(layout.table)
        belongings = session.catalogue.belongings(found)
        names = session.catalogue.names_in_schema(found.name.schema)
        role = session.catalogue.current_role()
        columns = session.catalogue.columns(found)
        extent = session.counting.extent(found.name, key_columns(layout, columns, found.spelling)[0])
    refuse(shape, belongings, layout)
    column = key_columns(layout, columns, found.spelling)[0]
    if extent.nulls or extent.beyond:
        what = f"{extent.nulls:,} rows without {column.name}" if extent.nulls else f"{extent.beyond:,} infinite times"
        raise Refusal(
            f"{found.spelling} cannot be the first partition",
            found=f"it has {what}, and no range holds those",
            fix="give them a value first, or use --way live with catch_all = true",
        )
    bound = _bound(context, layout, column, extent.high, to)
    declared = replace(layout, from_=_as_from(bound), open_below=True)
    seen = preview(context, session, declared, exact=False)
    incoming = fit(found.name.table, INCOMING)
    taken = [each.name for each in seen.planned if each.name in names] + ([incoming] if incoming in names else [])
    if taken:
        raise Refusal(
            f"the new table needs the name {taken[0]}",
            found="there is a table of that name already",
            fix="rename it, or give the layout another partition_name",
        )
    plan = LivePlan(
        job=store.next_number(),
        schema=schema,
        shape=shape,
        belongings=belongings,
        layout=declared,
        planned=seen.planned,
        old_name=found.name.sibling(seen.planned[0].name),
        followed=(),
        leaves=(found.name,),
        is_partitioned=False,
        key_type=column.type_name,
        record_hash=True,
        role=role,
        version=session.version,
        lock_wait_ms=context.lock_wait_ms,
    )
    refuse_missing_rights(store, plan)
    local = spell_local(bound, layout.grid(column.kind).zone)
    notes = (
        f"{found.spelling} becomes the partition {seen.planned[0].name}: everything before {local}. From the "
        "first lock on "
        f"the server refuses rows that are not before it, until the table is taken in: --to names a later end.",
    )
    changes = key_changes(shape, layout.full_key)
    return PlannedLive(plan=plan, seen=seen, key_changes=changes, notes=notes)


def as_is_details(plan: LivePlan) -> dict[str, Any]:
    """What the record holds."""
    bounds = plan.planned[0].bounds
    to = getattr(bounds, "to", None)
    assert to is not None
    return {"first": plan.planned[0].name, "to": spell(to[0]), "width": len(to)}


def plan_as_is_again(context: Context, session: Session, layout: Layout, schema: str, record: Reshaping) -> PlannedLive:
    """One that is under way: its other partitions are those that the server has."""
    from slabrow.core.table.bounds import Range
    from slabrow.core.values.key_values import Edge

    is_swapped = "swapped" in record.marks
    new = record.table if is_swapped else record.table.sibling(fit(record.table.table, INCOMING))
    with session.reading():
        found = session.catalogue.relation(record.table)
        shape = session.catalogue.shape(record.table)
        belongings = session.catalogue.belongings(found)
        role = session.catalogue.current_role()
        columns = session.catalogue.columns(found)
        others = planned_of(session.catalogue.tree(new)) if session.catalogue.exists(new) else ()
    named = [*(each.name for each in shape.constraints), *(each.name for each in shape.indexes)]
    own = {fit(name, BUILT) for name in named}
    # What was made for the work is none of the table's own.
    shape = replace(
        shape,
        constraints=tuple(each for each in shape.constraints if each.name != BOUNDS_CHECK),
        indexes=tuple(each for each in shape.indexes if each.name not in own),
    )
    column = key_columns(layout, columns, found.spelling)[0]
    bound = parse_value(str(record.details["to"]), column.kind)
    tail: tuple[Value, ...] = (Edge.MINVALUE,) * (int(record.details["width"]) - 1)
    first = Planned(str(record.details["first"]), Range(None, (bound, *tail)))
    plan = LivePlan(
        job=record.job,
        schema=schema,
        shape=shape,
        belongings=belongings,
        layout=replace(layout, from_=_as_from(bound), open_below=True),
        planned=(first, *(each for each in others if each.name != first.name)),
        old_name=record.old_name,
        followed=(),
        leaves=(Name(record.table.schema, record.table.table),),
        is_partitioned=False,
        key_type=column.type_name,
        record_hash=True,
        role=role,
        version=session.version,
        lock_wait_ms=context.lock_wait_ms,
    )
    return PlannedLive(plan=plan, seen=None, key_changes=())


def layout_lines(plan: LivePlan) -> tuple[str, ...]:
    """The lines by which the layout file says what the table is then."""
    from_ = plan.layout.from_
    written = from_.isoformat() if isinstance(from_, date | datetime) else str(from_)
    return (f"from = {written}", "open_below = true")


def _as_from(bound: Value) -> date | datetime | int:
    assert isinstance(bound, date | datetime | int)
    return bound


def _bound(context: Context, layout: Layout, column: ColumnFact, high: Value | None, to: str | None) -> Value:
    grid = layout.grid(column.kind)
    last = _last(context, grid, column, high)
    if to is not None:
        bound = parse_value(to, column.kind)
        if not grid.holds(bound):
            slot = grid.index(bound)
            near = " or ".join(spell_local(grid.start(each), grid.zone) for each in (slot, slot + 1))
            raise UsageError(
                f"--to {to} is no boundary of the layout", found=f"its spans are {layout.span}", fix=f"give {near}"
            )
        if high is not None and order((bound,)) <= order((high,)):
            raise Refusal(
                f"--to {to} leaves rows outside",
                found=f"the greatest {column.name} is {spell_local(high, grid.zone)}",
                fix="give a later end: every row of the table must lie before it",
            )
        return bound
    start = layout.start(column.kind) if layout.open_below else None
    if start is not None and order((start,)) > order((last,)) and grid.holds(start):
        return start
    return grid.start(grid.index(last) + 1)


def _last(context: Context, grid: Grid, column: ColumnFact, high: Value | None) -> Value:
    """The last key that the first partition must be able to hold: rows that come while the work is under way are
    bounded
    by it too. So for times a day from now at least, for numbers a span more than there are.
    """
    if not column.kind.is_time:
        assert high is None or isinstance(high, int)
        return (high or 0) + grid.span.count
    here = as_key(context.now, column.kind, grid.zone)
    day = Span(1, Unit.DAY) if grid.span.unit is not Unit.HOUR else grid.span
    soon = shifted(here, day, 1, grid.zone)
    return soon if high is None or order((high,)) < order((soon,)) else high
