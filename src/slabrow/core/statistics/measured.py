"""Queries as they were measured on one table, and what two such measurements say together (N47)."""

from collections.abc import Mapping
from dataclasses import dataclass
from statistics import median

from slabrow.core.pruning.plan_reading import PlanReading

ESTIMATES_DIFFER = 0.02  # of the rows: what two estimates of one number may be apart
COUNTS_DIFFER = 0.001  # what is written between two counts


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """One query on one table, run several times.

    blocks           found in the server's memory or read into it
    reads            those of them that were read
    planning_ms, execution_ms, waiting_ms  the medians; waiting is a part of the execution
    least_ms, most_ms  planning and execution together, of the fastest and of the slowest run
    sent             rows that other servers sent over
    rows, print      how many rows it returns, and their fingerprint, whatever their order
    """

    blocks: int
    reads: int
    planning_ms: float
    execution_ms: float
    waiting_ms: float
    least_ms: float
    most_ms: float
    rows: int
    print: str
    sent: int = 0

    @property
    def total_ms(self) -> float:
        """Planning and execution."""
        return self.planning_ms + self.execution_ms

    @property
    def busy_ms(self) -> float:
        """Without waiting for the disk."""
        return max(0.0, self.total_ms - self.waiting_ms)


def measured_of(runs: list[PlanReading], rows: int, print_: str) -> Measured:
    """The medians of runs."""
    totals = [(run.planning_ms or 0.0) + (run.execution_ms or 0.0) for run in runs]
    return Measured(
        blocks=round(median(run.blocks or 0 for run in runs)),
        reads=round(median(run.read or 0 for run in runs)),
        planning_ms=median(run.planning_ms or 0.0 for run in runs),
        execution_ms=median(run.execution_ms or 0.0 for run in runs),
        waiting_ms=median(run.waiting_ms or 0.0 for run in runs),
        least_ms=min(totals),
        most_ms=max(totals),
        rows=rows,
        print=print_,
        sent=round(median(sum(scan.rows_read or 0 for scan in run.scans if scan.is_sent) for run in runs)),
    )


@dataclass(frozen=True, slots=True)
class Side:
    """One table of a comparison.

    rows        None where nothing is known
    is_counted  whether the rows were counted; else the planner's estimate
    bytes       with indexes
    server      family and version
    """

    table: str
    rows: int | None
    is_counted: bool
    bytes: int
    server: str


@dataclass(frozen=True, slots=True)
class Measurement:
    """A side, and its queries: the name of each with its statement and its runs a day."""

    side: Side
    queries: Mapping[str, tuple[str, float, Measured]]


def rows_apart(one: Side, other: Side) -> int | None:
    """How many rows one side has more than the other, where that is more than counting them can explain; else None."""
    if one.rows is None or other.rows is None:
        return None
    allowed = COUNTS_DIFFER if one.is_counted and other.is_counted else ESTIMATES_DIFFER
    apart = abs(one.rows - other.rows)
    return apart if apart > allowed * max(one.rows, other.rows) else None
