"""`weigh`: candidate keys and layouts against the workload that really runs (N02, N04–N09)."""

from dataclasses import dataclass
from pathlib import Path
from zoneinfo import ZoneInfo

from slabrow.core.pruning.family_rules import USUAL_RULES, PruningRules
from slabrow.core.sql.schema import Schema
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.row_growth import Growth, growth
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.core.weighing.candidates import Ageing, Wishes, ageing, candidates
from slabrow.core.weighing.costs import Costs
from slabrow.core.weighing.weighing import ExpectedGrowth, Ranking, Weigher
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Weighing:
    """The result of `weigh`. measured: whether the constants were measured in this run."""

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


def weigh(context: Context, table: Name, sources: Sources, wishes: Wishes) -> Weighing:
    """Reads statistics and the workload, and weighs. Nothing is changed; the server only reads.

    Raises UsageError without a workload, or when none of it names the table.
    """
    with context.connected() as session:
        context.progress(0.0, "reading the workload")
        workload = gathered(sources.paths, session, statistics=sources.statistics)
        with session.reading(f"weigh {table}"):
            facts = session.catalogue.table_facts(table)
            schema = named_tables(session, workload, facts.name)
        current = session.catalogue.tree(facts.name) if facts.is_partitioned else None
        zone = session.catalogue.time_zone() or ZoneInfo("UTC")
        costs = sources.costs or Costs()
        if sources.calibrate:
            costs = session.planner.calibrated(context.progress)
        product = session.product
        known = Known(facts, schema, zone, product, current, session.rules)
        return weighed(context, known, workload, costs, wishes, sources.calibrate)


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
    context: Context, known: Known, workload: Workload, costs: Costs, wishes: Wishes, is_measured: bool
) -> Weighing:
    """The weighing itself, with or without a server behind what is known."""
    facts, zone = known.facts, known.zone
    context.progress(0.1, "working out what every statement asks")
    read = read_workload(workload, facts, known.schema, zone, context.now, MOST_RUNS, known.rules)
    if not read.shapes:
        raise UsageError(
            f"nothing in the workload names {facts.spelling}",
            found=f"{len(workload.shapes):,} shapes of {workload.source}, {len(read.unread)} of them not understood",
            fix="check the table and --workload: names without a schema are looked for on the search path",
        )
    used = usage(read)
    aged = ageing(facts, used, read.weight)
    trend = growth(aged[0].column, facts.statistics[aged[0].column], facts.rows) if aged else None
    layouts = candidates(facts, used, together(read), wishes)
    weigher = Weigher(
        facts=facts,
        workload=read,
        costs=costs,
        now=context.now,
        growth=ExpectedGrowth(trend.rows_a_day if trend else 0.0),
        ageing=aged[0].column if aged else None,
        keeps=wishes.keep is not None,
        ceiling=wishes.ceiling,
        current=known.current,
        rules=known.rules,
    )
    verdict = weigher.verdict(
        layouts, wishes.target_bytes, lambda done: context.progress(0.15 + 0.85 * done, "weighing layouts")
    )
    context.progress(1.0, "done")
    return Weighing(
        facts=facts,
        workload=workload,
        read=read,
        verdict=verdict,
        ageing=aged,
        trend=trend,
        wishes=wishes,
        costs=costs,
        is_measured=is_measured,
        product=known.product,
        zone=str(zone),
    )


def chosen(verdict: Ranking, rank: int | None) -> Layout:
    """The layout of a rank, or the winner's. Raises UsageError when that is the table as it is, or there is none."""
    if rank is not None and not 1 <= rank <= len(verdict.ranked):
        raise UsageError(f"there is no candidate {rank}", found=f"there are {len(verdict.ranked)}")
    layout = verdict.ranked[(rank or 1) - 1].layout
    if layout is None:
        raise UsageError(
            "there is no layout to write: leaving the table as it is comes first" if rank is None else
            f"candidate {rank} is the table as it is, which has no layout",
            fix="choose another one with --choose RANK",
        )  # fmt: skip
    return layout
