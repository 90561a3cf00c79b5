"""`weigh`: candidate keys and layouts against the workload that really runs (N02, N04–N09)."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from slabrow.core.pruning.family_rules import USUAL_RULES, PruningRules
from slabrow.core.sql.schema import Schema
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.row_growth import Growth, growth
from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Unit, shifted
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.core.values.prices import Prices
from slabrow.core.weighing.candidates import Ageing, Candidates, Wishes, ageing, candidates
from slabrow.core.weighing.costs import Costs
from slabrow.core.weighing.piece_upkeep import SizeLimit, size_limit
from slabrow.core.weighing.ranking import verdict
from slabrow.core.weighing.tomorrow import Then, Tomorrow, as_of, grown
from slabrow.core.weighing.weighed import Ranking
from slabrow.core.weighing.weighing import ExpectedGrowth, Weigher
from slabrow.core.weighing.workload import Workload
from slabrow.core.weighing.workload_reading import TableWorkload, read_workload, together, usage
from slabrow.work.context import Context
from slabrow.work.weighing.workloads import gathered, named_tables

# All runs of all shapes together, and a share for each of some forty candidates: about ten seconds of weighing.
MOST_RUNS = 2_400


@dataclass(frozen=True, slots=True)
class Sources:
    """Where the workload and the constants come from."""

    paths: tuple[Path, ...] = ()
    statistics: bool = False
    calibrate: bool = False
    costs: Costs | None = None
    prices: Prices | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Weighing:
    """The result of `weigh`.

    is_measured   whether the constants were measured in this run
    left_out      what was not weighed, each with the reason
    tomorrow      the same for the table as it will be; None where that was not asked for
    """

    facts: TableFacts
    workload: Workload
    read: TableWorkload
    verdict: Ranking
    ageing: tuple[Ageing, ...]
    trend: Growth | None
    wishes: Wishes
    costs: Costs
    is_measured: bool
    product: str
    zone: str
    left_out: tuple[tuple[str, str], ...] = ()
    tomorrow: Tomorrow | None = None
    prices: Prices | None = None


def weigh(context: Context, table: Name, sources: Sources, wishes: Wishes) -> Weighing:
    """Reads statistics and the workload, and weighs. Nothing is changed; the server only reads.

    Raises UsageError without a workload, or when none of it names the table.
    """
    with context.connected() as session:
        context.reading(sources.paths, "reading the workload")
        workload = gathered(sources.paths, session, statistics=sources.statistics, jobs=context.jobs)
        with session.reading(f"weigh {table}"):
            facts = session.catalogue.table_facts(table)
            schema = named_tables(session, workload, facts.name)
        current = session.catalogue.tree(facts.name) if facts.is_partitioned else None
        zone = session.catalogue.time_zone() or ZoneInfo("UTC")
        costs = sources.costs or session.planner.usual_costs()
        if sources.calibrate:
            costs = session.planner.calibrated(context.progress)
        product = session.product
        known = Known(facts, schema, zone, product, current, session.rules)
        return weighed(context, known, workload, costs, wishes, sources.calibrate, sources.prices)


@dataclass(frozen=True, slots=True)
class Known:
    """The facts that weighing needs.

    product   family and version of the server, empty without one
    current   the tree of a partitioned table
    rules     of pruning, those of the server's family
    """

    facts: TableFacts
    schema: Schema
    zone: ZoneInfo
    product: str = ""
    current: Tree | None = None
    rules: PruningRules = USUAL_RULES


def weighed(
    context: Context,
    known: Known,
    workload: Workload,
    costs: Costs,
    wishes: Wishes,
    is_measured: bool,
    prices: Prices | None = None,
    layouts: Sequence[Layout] | None = None,
) -> Weighing:
    """The weighing itself, with or without a server behind what is known.

    layouts   those that are weighed; None: candidates are looked for
    """
    facts = known.facts
    if wishes.memory_bytes is not None:
        facts = replace(
            facts, cache_bytes=wishes.memory_bytes, buffers_bytes=min(facts.buffers_bytes, wishes.memory_bytes)
        )
        known = replace(known, facts=facts)
    context.progress(0.1, "working out what every statement asks")
    read = read_workload(workload, facts, known.schema, known.zone, context.now, MOST_RUNS, known.rules)
    if not read.shapes:
        raise UsageError(
            f"nothing in the workload names {facts.spelling}",
            found=f"{len(workload.shapes):,} shapes of {workload.source}, {len(read.unread)} of them not understood",
            fix="check the table and --workload: names without a schema are looked for on the search path",
        )
    used = usage(read)
    aged = ageing(facts, used, read.weight)
    times = [each.column for each in aged if facts.columns[each.column].kind.is_time]
    trend = growth(times[0], facts.statistics[times[0]], facts.rows) if times else None
    found = candidates(facts, used, together(read), wishes)
    own = replace(context, table=str(facts.name)).layout_or_none() if layouts is None else None
    if layouts is not None:
        found = replace(found, layouts=tuple(layouts), left_out=())
    elif own is not None and known.current is None:
        found = _with_own(found, own, facts, wishes)
    weigher = Weigher(
        facts=facts,
        workload=read,
        costs=costs,
        now=context.now,
        growth=ExpectedGrowth(trend.rows_a_day if trend else 0.0),
        ageing=_retired_along(aged, times),
        keeps=wishes.keep is not None,
        ceiling=wishes.ceiling,
        current=known.current,
        rules=known.rules,
        placed=own,
    )
    limit = _limit(wishes, facts, costs)
    looks_ahead = wishes.grown is not None or wishes.as_of is not None
    today = 0.5 if looks_ahead else 0.85
    ranking = verdict(
        weigher, found.layouts, limit, lambda done: context.progress(0.15 + today * done, "weighing layouts")
    )
    tomorrow = None
    if looks_ahead:
        context.progress(0.65, "weighing the table as it will be")
        ahead = Ahead(context, known, workload, wishes, weigher, limit, trend)
        tomorrow = ahead.tomorrow(ranking, found.layouts)
    context.progress(1.0, "done")
    return Weighing(
        facts=facts,
        workload=workload,
        read=read,
        verdict=ranking,
        ageing=aged,
        trend=trend,
        wishes=wishes,
        costs=costs,
        is_measured=is_measured,
        product=known.product,
        zone=str(known.zone),
        left_out=found.left_out,
        tomorrow=tomorrow,
        prices=prices,
    )


def _with_own(found: Candidates, own: Layout, facts: TableFacts, wishes: Wishes) -> Candidates:
    """The candidates with the layout that the file has for the table, unless the options ask for others."""
    is_other = (wishes.keys and own.key not in wishes.keys) or (wishes.bys and own.by not in wishes.bys)
    if is_other or set(own.full_key) & set(wishes.barred) or str(own) in map(str, found.layouts):
        return found
    if unknown := [name for name in own.full_key if name not in facts.columns]:
        left_out = (f"{own}, of the layout file", f"{facts.spelling} has no column {unknown[0]}")
        return replace(found, left_out=(*found.left_out, left_out))
    return replace(found, layouts=(*found.layouts, own))


def _retired_along(aged: Sequence[Ageing], times: Sequence[str]) -> str | None:
    """The column that `keep` is counted along: of time where there is one."""
    return times[0] if times else aged[0].column if aged else None


def _limit(wishes: Wishes, facts: TableFacts, costs: Costs) -> SizeLimit:
    heap_share = facts.heap_bytes / max(1, facts.bytes)
    return size_limit(wishes.target_bytes, facts.cache_bytes, heap_share, len(facts.indexes), costs)


_STEPS = 6  # halvings in the search for the day on which the first place changes
_RIVALS = 5


@dataclass(frozen=True, slots=True)
class Ahead:
    """Weighs a table as it will be, by what is known of it today."""

    context: Context
    known: Known
    workload: Workload
    wishes: Wishes
    weigher: Weigher
    limit: SizeLimit
    trend: Growth | None

    def tomorrow(self, today: Ranking, layouts: Sequence[Layout]) -> Tomorrow:
        """Raises UsageError when the table shows no growth by which a day could be told."""
        facts, wishes = self.known.facts, self.wishes
        if wishes.as_of is not None:
            if self.trend is None:
                raise UsageError(
                    f"{facts.spelling} shows no growth along a time column",
                    fix="say how many times the rows it will have: --grown 10",
                )
            if wishes.as_of <= self.trend.newest:
                raise UsageError(
                    f"{wishes.as_of:%Y-%m-%d} is no day to come",
                    found=f"its newest row is of {self.trend.newest:%Y-%m-%d}",
                    fix="give a later day with --as-of",
                )
        then = self._then(1.0)
        ranking = self._ranking(then, layouts)
        at = None
        if ranking.winner.layout != today.winner.layout:
            rivals = [each.layout for each in (*today.ranked[:_RIVALS], *ranking.ranked[:_RIVALS])]
            some = tuple(dict.fromkeys(layout for layout in rivals if layout is not None))
            low, high = 0.0, 1.0
            for step in range(_STEPS):
                self.context.progress(0.8 + 0.03 * step, "looking for the day on which the first place changes")
                middle = (low + high) / 2
                same = self._ranking(self._then(middle), some).winner.layout == today.winner.layout
                low, high = (middle, high) if same else (low, middle)
            at = high
        if at is None:
            return Tomorrow(then, ranking, None, None)
        changed = self._then(at)
        return Tomorrow(then, ranking, changed.facts.rows / max(1, facts.rows), self._day(at, changed))

    def _then(self, share: float) -> Then:
        """On the way from today, 0, to what was asked for, 1."""
        facts, wishes = self.known.facts, self.wishes
        if wishes.as_of is None or self.trend is None:
            return grown(facts, (wishes.grown or 1.0) ** share, self.weigher.rows_a_day)
        day = self.trend.newest + (wishes.as_of - self.trend.newest) * share
        kept = None
        if wishes.keep is not None and wishes.keep.unit is not Unit.NUMBER:
            back = shifted(day, wishes.keep, -1, self.known.zone)
            kept = day - back if isinstance(back, datetime) else None
        return as_of(facts, self.trend, day, kept)

    def _day(self, share: float, changed: Then) -> datetime | None:
        if self.trend is None:
            return None
        if self.wishes.as_of is not None:
            return self.trend.newest + (self.wishes.as_of - self.trend.newest) * share
        return self.trend.day_of(changed.facts.rows)

    def _ranking(self, then: Then, layouts: Sequence[Layout]) -> Ranking:
        known, today = self.known, self.weigher
        read = read_workload(
            self.workload, then.facts, known.schema, known.zone, self.context.now, MOST_RUNS, known.rules
        )
        weigher = replace(
            today, facts=then.facts, workload=read, growth=ExpectedGrowth(then.rows_a_day), current=today.current
        )
        return verdict(weigher, layouts, self.limit, lambda _: None)


def chosen(ranking: Ranking, rank: int | None) -> Layout:
    """The layout of a rank, or the winner's. Raises UsageError when that is the table as it is, or there is none."""
    if rank is not None and not 1 <= rank <= len(ranking.ranked):
        raise UsageError(f"there is no candidate {rank}", found=f"there are {len(ranking.ranked)}")
    layout = ranking.ranked[(rank or 1) - 1].layout
    if layout is None:
        raise UsageError(
            "there is no layout to write: leaving the table as it is comes first" if rank is None else
            f"candidate {rank} is the table as it is, which has no layout",
            fix="choose another one with --choose RANK",
        )  # fmt: skip
    return layout
