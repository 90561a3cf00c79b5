"""What a layout wants to hold, against the server: sizes, numbers, and what the statement statistics say of pruning."""

from datetime import datetime
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.wanted import PrunedShare, unmet
from slabrow.core.values.errors import SlabrowError
from slabrow.core.values.one_line import one_line
from slabrow.core.weighing.weighing import ExpectedGrowth, Weigher
from slabrow.core.weighing.workload_reading import read_workload
from slabrow.work.weighing.workloads import gathered, named_tables

if TYPE_CHECKING:
    from slabrow.servers.protocols import Session


def findings_of_wishes(session: "Session", layout: Layout, now: datetime) -> tuple[Finding, ...]:
    """The wishes that do not hold, or soon will not. Raises ServerError when the table cannot be read."""
    wanted = layout.wanted
    if wanted is None:
        return ()
    tree = session.catalogue.tree(layout.table)
    pruned = None if wanted.pruned is None else _pruned(session, layout, now)
    return unmet(wanted, layout, tree, now, pruned)


def _pruned(session: "Session", layout: Layout, now: datetime) -> PrunedShare | None:
    """From the server's statement statistics; None where there are none, or none of this table."""
    try:
        workload = gathered((), session, statistics=True)
        facts = session.catalogue.table_facts(layout.table)
    except SlabrowError:
        if session.closed:
            raise
        return None
    schema = named_tables(session, workload, facts.name)
    zone = session.catalogue.time_zone() or ZoneInfo("UTC")
    read = read_workload(workload, facts, schema, zone, now, rules=session.rules)
    weigher = Weigher(
        facts=facts,
        workload=read,
        costs=session.planner.usual_costs(),
        now=now,
        growth=ExpectedGrowth(),
        ageing=None,
        keeps=False,
        current=session.catalogue.tree(facts.name),
        rules=session.rules,
    )
    found = weigher.as_it_is()
    reading = [cost for cost in found.shapes if cost.read.runs]
    runs = sum(cost.read.shape.weight for cost in reading)
    if not runs:
        return None
    missed = [cost for cost in reading if cost.touched >= found.partitions > 1]
    widest = max(missed, key=lambda cost: cost.read.shape.weight, default=None)
    text = "" if widest is None else one_line(widest.read.shape.text)[:80]
    return PrunedShare(1 - sum(cost.read.shape.weight for cost in missed) / runs, runs, workload.begins, text)
