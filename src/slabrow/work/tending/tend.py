"""`tend`: the routine upkeep. Creates what lies ahead, sweeps the catch-all, retires what is past `keep` (N39–N45)."""

import uuid
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import nullcontext
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

from slabrow.core.table.layout import Analyse, Layout, PastKeep
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.guards import guard_clock, guard_grid
from slabrow.core.upkeep.reconcile import reconcile
from slabrow.core.values.errors import ServerError, SlabrowError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, parse_name
from slabrow.work.context import Context, Event, ignore_progress
from slabrow.work.tending.table_clock import TableClock
from slabrow.work.tending.trees_ahead import TreesAhead
from slabrow.work.tending.upkeep_result import TableReport, TendResult

if TYPE_CHECKING:
    from slabrow.core.upkeep.live_plan import Reshaping
    from slabrow.servers.protocols import Session
    from slabrow.work.tending.table_upkeep import TableUpkeep


SIDE_BY_SIDE = 4  # servers at a time


@dataclass(frozen=True, slots=True)
class TendOptions:
    """go: do it; retiring: how many partitions may leave, by name; ledger_schema: None for no ledger.

    with_sizes   whether the bytes of tables that need nothing are wanted
    checks       whether indexes that are not everywhere, and wishes that do not hold, are to be found too
    """

    go: bool
    retiring: int | None = None
    ledger_schema: str | None = None
    with_sizes: bool = False
    checks: bool = False


def tend(
    context: Context, layouts: Iterable[Layout], asked: TendOptions, ahead: "TreesAhead | None" = None
) -> TendResult:
    """Does, or without `go` proposes, what each layout needs at the context's `now`.

    ahead   the session, where the trees of these tables have been asked for already
    A failure on one table is reported and never stops the others.
    Raises Refusal when the clocks do not agree, ServerError when the server cannot be reached.
    """
    layouts = tuple(layouts)
    names = [layout.table for layout in layouts]
    note, barred = None, None
    with (
        nullcontext(ahead)
        if ahead is not None
        else TreesAhead(context.dsn, names, with_sizes=asked.with_sizes) as trees_ahead
    ):
        reports, numbered = _looked_at(layouts, trees_ahead.parts(), context.now)
        session = trees_ahead.session()
        session.reach(context.elsewhere)
        for name in _left_behind(session, layouts):
            reports.pop(name, None)
            numbered.pop(name, None)
        ledger = session.ledger(asked.ledger_schema) if asked.ledger_schema is not None else None
        if context.is_machine_clock:
            guard_clock(context.now, session.catalogue.moment(), ledger.last_clock() if ledger else None)
        elif asked.go:
            context.guard_pretended_clock(session.catalogue.moment())
        if ledger is not None and asked.go:
            # If the ledger exists but cannot be used, nothing leaves: the ledger may contain holds.
            exists = ledger.version() > 0
            try:
                ledger.prepare()
            except ServerError as error:
                barred = error if exists else None
                note = f"{error.problem}: {error.found}; {error.fix}"
                ledger = None
        clock = TableClock(context, session, ledger, asked.go)
        upkeep = None
        schema = asked.ledger_schema
        changing = session.reshapings(schema).open_jobs() if schema is not None and ledger is not None else ()
        found = _being_changed(clock, layouts, changing, asked)
        for name, said in found.items():
            if any(finding.code == "conversion_under_way" for finding in said):
                # Its partitions are those of another layout, and upkeep by this one would undo the work.
                reports[name] = TableReport(layout=_layout_of(layouts, name), leftovers=tuple(said))
        for layout in layouts:
            if layout.table in reports:
                continue
            try:
                tree = numbered.get(layout.table)
                if tree is not None and (idle := _idle_at(clock, layout, tree)) is not None:
                    reports[layout.table] = idle
                    continue
                upkeep = upkeep or _upkeep(clock, asked, barred)
                reports[layout.table] = upkeep.tend(layout)
            except SlabrowError as error:
                if session.closed:
                    raise
                reports[layout.table] = TableReport(layout=layout, error=error)
        for name, said in found.items():
            if not any(finding.code == "conversion_under_way" for finding in said):
                reports[name] = replace(reports[name], leftovers=(*reports[name].leftovers, *said))
        if asked.go:
            reports = {name: _analysed(clock, report) for name, report in reports.items()}
        if asked.checks:
            reports = {name: _with_index_finding(session, report) for name, report in reports.items()}
            reports = {name: _with_wishes(session, report, context.now) for name, report in reports.items()}
    return TendResult(context.now, tuple(reports[name] for name in names), note)


def _analysed(clock: TableClock, report: TableReport) -> TableReport:
    """Of a table that needs nothing: fresh statistics where the layout says how old they may be."""
    if report.error is not None or report.tended or isinstance(report.layout.analyse, Analyse):
        return report
    from slabrow.work import runner
    from slabrow.work.tending.analysing import analysed

    try:
        with runner.sole(clock.session, [report.layout.table], clock.context.lock_wait_ms):
            return analysed(clock, report, changed=False)
    except SlabrowError:
        return report  # another run has the table, and will do it


def _left_behind(session: "Session", layouts: Iterable[Layout]) -> list[Name]:
    """Tables of which a partition stands apart: a run was stopped between archiving it and dropping it."""
    archived = [layout.table for layout in layouts if layout.past_keep is PastKeep.ARCHIVE]
    return [table for table in archived if session.archives.left_behind(table)]


def _with_index_finding(session: "Session", report: TableReport) -> TableReport:
    from slabrow.work.indexes import finding_of_indexes

    if report.error is not None:
        return report
    finding = finding_of_indexes(session, report.layout.table)
    return report if finding is None else replace(report, leftovers=(*report.leftovers, finding))


def _with_wishes(session: "Session", report: TableReport, now: datetime) -> TableReport:
    if report.error is not None or report.layout.wanted is None:
        return report
    from slabrow.work.tending.wishes import findings_of_wishes

    return replace(report, leftovers=(*report.leftovers, *findings_of_wishes(session, report.layout, now)))


def _is(named: Name, table: Name) -> bool:
    return named.table == table.table and named.schema in (None, table.schema)


def _layout_of(layouts: Iterable[Layout], table: Name) -> Layout:
    return next(layout for layout in layouts if layout.table == table)


def _being_changed(
    clock: TableClock, layouts: Sequence[Layout], changing: "Sequence[Reshaping]", asked: TendOptions
) -> dict[Name, list[Finding]]:
    """What is to be said of tables that are being changed; what was there before gets what was written since."""
    if not changing or asked.ledger_schema is None:
        return {}
    from slabrow.core.upkeep.live_plan import ReshapingState
    from slabrow.work.reshaping.kept_in_step import finding_of, keep_in_step

    found: dict[Name, list[Finding]] = {}
    for record in changing:
        root = parse_name(record.root)
        layout = next((each for each in layouts if _is(each.table, root)), None)
        if layout is None:
            continue
        if asked.go and record.details.get("coarsens"):
            from slabrow.work.tending.reshape import finish

            # Its own work, which was stopped midway: the table is tended as usual afterwards.
            finish(clock.context, clock.session, asked.ledger_schema, layout, record)
            continue
        said = found.setdefault(layout.table, [])
        if asked.go and record.state == ReshapingState.SWAPPED and record.way == "live":
            try:
                keep_in_step(clock.context, clock.session, layout, asked.ledger_schema, record)
            except SlabrowError as error:
                said.append(Finding("old_table_behind", f"{record.old_name} is not kept in step: {error.line}"))
                continue
        said.append(finding_of(clock.session, asked.ledger_schema, record))
    return found


def tend_on(
    context: Context, servers: Sequence[tuple[str, str]], layouts: Sequence[Layout], asked: TendOptions
) -> TendResult:
    """As `tend`, on several servers side by side. servers: the name and the DSN of each.

    One that cannot be reached, or refuses, is reported at each of its tables and never stops the others.
    """

    def on_one(server: tuple[str, str]) -> TendResult:
        name, dsn = server

        def tell(event: Event) -> None:
            context.tell({**event, "server": name})

        try:
            result = tend(replace(context, dsn=dsn, server=name, progress=ignore_progress, tell=tell), layouts, asked)
        except SlabrowError as error:
            result = TendResult(context.now, tuple(TableReport(layout=layout, error=error) for layout in layouts))
        return replace(result, reports=tuple(replace(report, server=name) for report in result.reports))

    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        results = list(pool.map(on_one, servers))
    notes = [f"{name}: {result.note}" for (name, _), result in zip(servers, results, strict=True) if result.note]
    return TendResult(
        context.now, tuple(report for each in results for report in each.reports), "; ".join(notes) or None
    )


def _looked_at(
    layouts: Sequence[Layout], parts: Iterable[dict[Name, Tree]], now: datetime
) -> tuple[dict[Name, TableReport], dict[Name, Tree]]:
    """The reports of tables that need nothing, as most of most runs do; and those whose key has to be looked at first.

    The parts are looked at as they come: meanwhile the server reads the next one.
    """
    by_name = {layout.table: layout for layout in layouts}
    reports: dict[Name, TableReport] = {}
    numbered: dict[Name, Tree] = {}
    for trees in parts:
        for name, tree in trees.items():
            layout = by_name.get(name)
            if layout is None:
                continue  # the file has changed since its tables were asked for
            if layout.by is By.RANGE and not tree.kinds[0].is_time:
                numbered[name] = tree
            elif (idle := _idle(layout, tree, now)) is not None:
                reports[name] = idle
    return reports, numbered


def _idle_at(clock: TableClock, layout: Layout, tree: Tree) -> TableReport | None:
    """As `_idle`, of a table whose key is a number: where it has got to is what time it is."""
    try:
        now = clock.now(layout, tree)
        counted, unknown = clock.counted(layout, tree, now)
    except SlabrowError:
        return None
    return _idle(layout, tree, now, counted, unknown)


def _idle(
    layout: Layout,
    tree: Tree,
    now: datetime | int,
    counted: Layout | None = None,
    unknown: Sequence[Finding] = (),
) -> TableReport | None:
    """The report of a table with nothing to do; None for a table that needs a closer look.

    counted, unknown   as of `TableClock.counted`, for a key that is a number
    """
    try:
        due = reconcile(counted or layout, tree, now)
        if any(finding.code == "undeclared_partition" for finding in due.leftovers):
            guard_grid(layout, tree)
    except SlabrowError:
        return None
    catch_all = tree.catch_all
    is_swept = layout.by is By.RANGE or layout.takes_new_values
    may_lie = is_swept and catch_all is not None and not all(leaf.is_empty for leaf in tree.leaves_of(catch_all))
    return (
        None
        if due.actions or may_lie
        else TableReport(
            layout=layout, tended=(), leftovers=(*due.leftovers, *unknown), error=None, tree=tree, here=now
        )
    )


def _upkeep(clock: TableClock, asked: TendOptions, barred: SlabrowError | None) -> "TableUpkeep":
    """With what most runs never need, and load only then."""
    from slabrow.work.tending.action_runner import ActionRunner
    from slabrow.work.tending.table_upkeep import TableUpkeep

    actions = ActionRunner(clock.context, clock.session, clock.ledger, str(uuid.uuid4()), asked.ledger_schema)
    return TableUpkeep(clock, actions, asked.go, asked.retiring, barred)
