"""Too many partitions: planning takes longer than executing, and how many would be sensible (N34).

The server plans every partition that is left, so planning grows with their number; what a query that prunes executes
shrinks with it, at best in proportion. With P the planning time that grows and E the execution time of the queries that
prune, n of N partitions cost P·n/N + E·N/n, which is least at n = N·√(E/P). Indexes make the gain smaller than that,
so the number is the most that can be sensible, and not a wish.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import sqrt

_LEAST_MS = 1.0  # planning below a millisecond is no matter of partitions


@dataclass(frozen=True, slots=True)
class Timed:
    """One query as it was measured on one table.

    total, in_plan   leaves of the table, and those that were planned
    weight           runs a day
    """

    name: str
    total: int
    in_plan: int
    prunes: bool
    planning_ms: float
    execution_ms: float
    weight: float = 1.0


@dataclass(frozen=True, slots=True)
class Crowding:
    """queries plan longer than they execute.

    planning_ms, execution_ms   of one run of each, together
    sensible                    the most partitions that pay for these queries; None: their number is not at fault
    gains                       whether any query gains by the partitions at all
    """

    queries: tuple[str, ...]
    planning_ms: float
    execution_ms: float
    total: int
    sensible: int | None
    gains: bool


def crowding(timed: Sequence[Timed]) -> Crowding | None:
    """The sensible number of partitions for the queries of one table; None when planning is never the longer part."""
    slow = [each for each in timed if each.in_plan > 1 and each.planning_ms > max(_LEAST_MS, each.execution_ms)]
    if not slow:
        return None
    total = max(each.total for each in timed)
    fixed = min(each.planning_ms for each in timed) if len(timed) > 1 else 0.0
    growing = sum(each.weight * max(0.0, each.planning_ms - fixed) for each in timed if each.in_plan > 1)
    pruned = sum(each.weight * each.execution_ms for each in timed if each.prunes)
    sensible = max(1, round(total * sqrt(pruned / growing))) if growing else total
    return Crowding(
        queries=tuple(each.name for each in slow),
        planning_ms=sum(each.planning_ms for each in slow),
        execution_ms=sum(each.execution_ms for each in slow),
        total=total,
        sensible=sensible if sensible < total else None,
        gains=pruned > 0,
    )
