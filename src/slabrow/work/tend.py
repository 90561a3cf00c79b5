"""`tend`: the routine upkeep. Creates what lies ahead, sweeps the catch-all, retires what is past `keep` (N39–N45)."""

import uuid
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from slabrow.core.by import By
from slabrow.core.errors import ServerError, SlabrowError
from slabrow.core.guards import guard_clock, guard_grid
from slabrow.core.layout import Layout
from slabrow.core.names import Name
from slabrow.core.reconcile import reconcile
from slabrow.core.tree import Tree
from slabrow.servers.postgresql import catalogue
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.ledger import Ledger
from slabrow.servers.postgresql.tree_rows import TreeRow, rows_by_name
from slabrow.work.context import Context, Event, unseen
from slabrow.work.moments import Moments
from slabrow.work.upkeep import TableReport, TendResult

if TYPE_CHECKING:
    from slabrow.work.keeping import Keeping
    from slabrow.work.trees_ahead import TreesAhead


SIDE_BY_SIDE = 4  # servers at a time


@dataclass(frozen=True, slots=True)
class Asked:
    """go: do it; retiring: how many partitions may leave, by name; ledger_schema: None for no ledger.

    with_sizes   whether the bytes of tables that need nothing are wanted
    """

    go: bool
    retiring: int | None = None
    ledger_schema: str | None = None
    with_sizes: bool = False


def tend(context: Context, layouts: Iterable[Layout], asked: Asked, ahead: "TreesAhead | None" = None) -> TendResult:
    """Does, or without `go` proposes, what each layout needs at the context's `now`.

    ahead   the session, where the trees have been asked for already
    A failure on one table is reported and never stops the others.
    Raises Refusal when the clocks do not agree, ServerError when the server cannot be reached.
    """
    reports = []
    note = None
    layouts = tuple(layouts)
    with ahead.connected() if ahead is not None else _asking(context, layouts, asked) as (connection, rows):
        ledger = Ledger(connection, asked.ledger_schema) if asked.ledger_schema is not None else None
        if context.is_machine_clock:
            guard_clock(context.now, catalogue.moment(connection), ledger.last_clock() if ledger else None)
        if ledger is not None and asked.go:
            # One that is there and cannot be used ends the run: it may hold what keeps a partition from leaving.
            exists = ledger.version() > 0
            try:
                ledger.prepare()
            except ServerError as error:
                if exists:
                    raise
                note = f"{error.problem}: {error.found}; {error.fix}"
                ledger = None
        moments = Moments(context, connection, ledger, asked.go)
        keeping = None
        trees = catalogue.trees(rows)
        for layout in layouts:
            try:
                # Most tables of most runs need nothing: that is seen in what is read of all of them at once.
                idle = _idle(moments, layout, trees[layout.table]) if layout.table in trees else None
                if idle is not None:
                    reports.append(idle)
                    continue
                keeping = keeping or _keeping(moments, asked)
                reports.append(keeping.tend(layout))
            except SlabrowError as error:
                if connection.closed:
                    raise
                reports.append(TableReport(layout, error=error))
    return TendResult(context.now, tuple(reports), note)


def tend_on(
    context: Context, servers: Sequence[tuple[str, str]], layouts: Sequence[Layout], asked: Asked
) -> TendResult:
    """As `tend`, on several servers side by side. servers: the name and the DSN of each.

    One that cannot be reached, or refuses, is reported at each of its tables and never stops the others.
    """

    def on_one(server: tuple[str, str]) -> TendResult:
        name, dsn = server

        def tell(event: Event) -> None:
            context.tell({**event, "server": name})

        try:
            result = tend(replace(context, dsn=dsn, progress=unseen, tell=tell), layouts, asked)
        except SlabrowError as error:
            result = TendResult(context.now, tuple(TableReport(layout, error=error) for layout in layouts))
        return replace(result, reports=tuple(replace(report, server=name) for report in result.reports))

    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        results = list(pool.map(on_one, servers))
    notes = [f"{name}: {result.note}" for (name, _), result in zip(servers, results, strict=True) if result.note]
    return TendResult(
        context.now, tuple(report for each in results for report in each.reports), "; ".join(notes) or None
    )


def _idle(moments: Moments, layout: Layout, tree: Tree) -> TableReport | None:
    """The report of a table that needs nothing; None for one that has to be looked at."""
    try:
        now = moments.now(layout, tree)
        counted, unknown = moments.counted(layout, tree, now)
        due = reconcile(counted, tree, now)
        if any(finding.code == "foreign_partition" for finding in due.leftovers):
            guard_grid(layout, tree)
    except SlabrowError:
        return None
    catch_all = tree.catch_all
    is_swept = layout.by is By.RANGE or layout.takes_new_values
    may_lie = is_swept and catch_all is not None and not all(leaf.is_empty for leaf in tree.leaves_of(catch_all))
    return None if due.actions or may_lie else TableReport(layout, (), (*due.leftovers, *unknown), None, tree, now)


@contextmanager
def _asking(
    context: Context, layouts: Sequence[Layout], asked: Asked
) -> Iterator[tuple[Connection, dict[Name, list[TreeRow]]]]:
    with context.connected() as connection:
        names = [layout.table for layout in layouts]
        yield connection, rows_by_name(connection, names, with_sizes=asked.with_sizes)


def _keeping(moments: Moments, asked: Asked) -> "Keeping":
    """With what most runs never need, and load only then."""
    from slabrow.work.doing import Doing
    from slabrow.work.keeping import Keeping

    doing = Doing(moments.context, moments.connection, moments.ledger, str(uuid.uuid4()))
    return Keeping(moments, doing, asked.go, asked.retiring)
