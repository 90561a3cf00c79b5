"""Takes fresh statistics of partitioned tables: the server never does so by itself (N54)."""

import time
import uuid
from dataclasses import replace
from datetime import datetime
from zoneinfo import ZoneInfo

from slabrow.core.table.layout import Analyse, Layout
from slabrow.core.table.shape import Shape
from slabrow.core.table.spans import Span, shifted
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.ledger_entries import LedgerEntry
from slabrow.core.upkeep.statements import sql_of
from slabrow.core.values.errors import SlabrowError
from slabrow.core.values.names import Name
from slabrow.servers.protocols import LedgerStore, Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.tending.table_clock import TableClock
from slabrow.work.tending.upkeep_result import TableReport

_MANY_COLUMNS = 12  # from here on only the columns of keys and indexes are analysed


def analysed(clock: TableClock, report: TableReport, *, changed: bool) -> TableReport:
    """The report, with fresh statistics of the table as a whole where the layout asks for them now.

    The caller has the table for itself. changed: whether partitions came or left in this run.
    """
    if report.error is not None or report.is_analysed or not is_due(clock.session, report.layout, changed=changed):
        return report
    failed = analyse(clock.context, clock.session, clock.ledger, report.layout)
    if failed is not None:
        return replace(report, leftovers=(*report.leftovers, failed))
    return replace(report, is_analysed=True)


def is_due(session: Session, layout: Layout, *, changed: bool) -> bool:
    """Whether the layout asks for fresh statistics now. changed: whether partitions came or left in this run."""
    match layout.analyse:
        case Analyse.AFTER_CHANGE:
            return changed
        case Span() as most:
            tree = session.catalogue.tree(layout.table)
            known = session.partitions.parent_statistics(tree)
            if known.analysed is None:
                return known.leaf_rows > 0
            limit = shifted(session.catalogue.moment(), most, -1, ZoneInfo("UTC"))
            return isinstance(limit, datetime) and known.analysed < limit
        case _:
            return False


def analyse(context: Context, session: Session, ledger: LedgerStore | None, layout: Layout) -> Finding | None:
    """Analyses the table as a whole; writers go on. Returns a finding when the server refuses."""
    with session.reading():
        shape = session.catalogue.shape(layout.table)
    transaction = session.writer.analysis(shape.name, _columns(shape, layout), session.version)
    began, error = time.monotonic(), None
    try:
        runner.run(session, [transaction], context.lock_wait_ms, say=context.say)
    except SlabrowError as refused:
        if session.closed:
            raise
        error = refused
    if ledger is not None:
        ledger.write(
            LedgerEntry(
                kind="analyse",
                table=str(shape.name),
                partition="",
                state="done" if error is None else "failed",
                clock=context.now,
                is_machine_clock=context.is_machine_clock,
                run=str(uuid.uuid4()),
                statements=tuple(map(sql_of, transaction.statements)),
                duration_ms=(time.monotonic() - began) * 1_000,
                note=None if error is None else error.found or error.problem,
            )
        )
    return None if error is None else Finding("parent_statistics", f"{layout.table} was not analysed: {error.line}")


def _columns(shape: Shape, layout: Layout) -> tuple[str, ...]:
    """Of a wide table those by which rows are found; else all."""
    if len(shape.columns) <= _MANY_COLUMNS:
        return ()
    wanted = [*layout.full_key]
    wanted += [column for constraint in shape.constraints if constraint.is_key for column in constraint.columns]
    wanted += [column for index in shape.indexes for column in index.columns if column]
    return tuple(dict.fromkeys(wanted))


def finding_of_statistics(session: Session, table: Name) -> Finding | None:
    """One finding, when the statistics of the table as a whole no longer describe its partitions."""
    fault = session.partitions.parent_statistics(session.catalogue.tree(table)).fault
    if fault is None:
        return None
    return Finding(
        "parent_statistics",
        f"the statistics of {table} as a whole {fault}: the planner misjudges queries over many partitions; "
        f"`slabrow tend --go` takes them after each change, by hand: {session.traits.analyse.format(table)}",
    )
