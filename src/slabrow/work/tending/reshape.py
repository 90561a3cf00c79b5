"""Long work on old partitions as a part of upkeep: merged into wider ones, or moved to another server (N50, N55)."""

from dataclasses import replace

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.reshaping.redivision import Redivision
from slabrow.work.reshaping.redivision_result import RedivisionOptions

_LOCK_WAIT_MS = 100


def coarsen(
    context: Context, session: Session, schema: str, layout: Layout, table: Name, names: tuple[Name, ...]
) -> int:
    """Merges these, and lets go of the old ones when all rows were compared. Returns how many rows there are.

    The caller has the table for itself. Stopped midway, the next run of upkeep goes on with `finish`.
    """
    return _ended(_run(context, session, schema, layout, table, names, None, _merging(layout)))


def move_elsewhere(
    context: Context, session: Session, schema: str, layout: Layout, table: Name, name: Name, server: str
) -> int:
    """Moves one there, and lets go of the rows here when all were compared. Otherwise as `coarsen`.

    The keys of the table are never given up by upkeep: Refusal says what does it.
    """
    options = RedivisionOptions(relocates=True, elsewhere=server, coarsens=True)
    return _ended(_run(context, session, schema, layout, table, (name,), None, options))


def _merging(layout: Layout) -> RedivisionOptions:
    return RedivisionOptions(span=layout.coarsen.span if layout.coarsen is not None else None, coarsens=True)


def finish(context: Context, session: Session, schema: str, layout: Layout, record: Reshaping) -> None:
    """Goes on with one that was stopped."""
    root = parse_name(record.root)
    names = tuple(Name(*each["name"]) for each in record.details["sources"])
    with runner.sole(session, [root], context.lock_wait_ms):
        session.execution.end_orphans(root)
        options = RedivisionOptions(relocates=True, coarsens=True) if record.kind == "relocate" else _merging(layout)
        _ended(_run(context, session, schema, layout, root, names, record, options))


def _run(
    context: Context, session: Session, schema: str, layout: Layout, table: Name, names: tuple[Name, ...],
    record: Reshaping | None, options: RedivisionOptions,
) -> Redivision:  # fmt: skip
    # Upkeep may wait longer for other locks; behind these, writers queue.
    context = replace(context, lock_wait_ms=min(context.lock_wait_ms, _LOCK_WAIT_MS))
    store = session.reshapings(schema)
    return Redivision(context, session, schema, store, layout, options, names, table, record)


def _ended(run: Redivision) -> int:
    if run.record is not None and run.record.state == ReshapingState.GIVEN_UP:
        run.give_up(go=True)
        return 0
    if run.record is not None and run.record.state == ReshapingState.UNDONE:
        run.undo(go=True)
        return 0
    result = run.divide(go=True)
    run.record = run.store.of_partition(run.names[0])
    run.let_go(go=True)
    return sum(each.rows or 0 for each in result.after)
