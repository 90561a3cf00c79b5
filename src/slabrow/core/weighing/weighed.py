"""Candidates with their figures, and their ranking: plain results of a weighing."""

from dataclasses import dataclass

from slabrow.core.table.layout import Layout
from slabrow.core.weighing.changes import NO_RETIRING, Retiring
from slabrow.core.weighing.coarser import Coarser
from slabrow.core.weighing.costs import Paid
from slabrow.core.weighing.piece_upkeep import PieceUpkeep, SizeLimit
from slabrow.core.weighing.windows import WindowRule
from slabrow.core.weighing.workload_reading import ReadShape


@dataclass(frozen=True, slots=True)
class ShapeCost:
    """The cost of one shape on one layout. touched: leaves of a run, on average; paid: by one run."""

    read: ReadShape
    touched: float
    paid: Paid


@dataclass(frozen=True, slots=True, kw_only=True)
class Weighed:
    """A candidate with its figures. layout is None for the table as it is.

    partitions        leaves with the rows that there are
    partitions_kept   once `keep` is reached, with what lies ahead
    smallest, median, largest   bytes of leaves that hold rows
    skew              the largest leaf against the mean
    touched_mean, touched_p95   leaves that a run touches
    read_share        blocks read a day against the table as it is
    blocks            visited a day; reads: those of them that are not found in memory
    planning_ms       of a run, on average; first_ms of a new connection's first statement that meets every leaf
    workload_ms       of a day's reads and changes: planning and running
    retiring          of a day, where rows are kept for a time only
    insert_ms         of a day's new rows; insert_reads the blocks that are read for them
    waiting_ms        of a day, for blocks that are read
    sent              rows that other servers send a day
    upkeep            of the largest partition
    """

    layout: Layout | None
    partitions: int
    partitions_kept: int
    smallest: int
    median: int
    largest: int
    skew: float
    touched_mean: float
    touched_p95: float
    read_share: float
    blocks: float
    planning_ms: float
    workload_ms: float
    insert_ms: float
    obstacles: tuple[str, ...]
    shapes: tuple[ShapeCost, ...]
    retiring: Retiring = NO_RETIRING
    reads: float = 0.0
    insert_reads: float = 0.0
    waiting_ms: float = 0.0
    first_ms: float = 0.0
    sent: float = 0.0
    upkeep: PieceUpkeep

    @property
    def retire_ms(self) -> float:
        """Of a day's retiring."""
        return self.retiring.ms

    @property
    def all_reads(self) -> float:
        """Blocks read a day, for queries and for new rows."""
        return self.reads + self.insert_reads

    @property
    def every_share(self) -> float:
        """The share of the queries that touch every partition of several."""
        reading = [cost for cost in self.shapes if cost.read.runs]
        weight = sum(cost.read.shape.weight for cost in reading)
        missed = sum(cost.read.shape.weight for cost in reading if cost.touched >= self.partitions > 1)
        return missed / weight if weight else 0.0

    @property
    def ms(self) -> float:
        """A day's cost: what candidates are ranked by."""
        return self.workload_ms + self.retire_ms + self.insert_ms


@dataclass(frozen=True, slots=True)
class Ranking:
    """The ranking, with its explanation.

    ranked      the best first; the table as it is among them
    reasons     why the first wins
    price       what it takes
    runner_up   when the second would win, in words; None when there is no second
    coarser     what `coarsen` would bring to the first; None where it brings nothing
    answer      partition or not, by what, how many, what is gained and paid: the lines that are read first
    others      the candidates that win by another measure, with the measure in words
    limit       the most that a partition should hold
    """

    ranked: tuple[Weighed, ...]
    reasons: tuple[str, ...]
    price: tuple[str, ...]
    runner_up: str | None
    windows: WindowRule | None
    coarser: Coarser | None = None
    answer: tuple[str, ...] = ()
    others: tuple[tuple[str, Weighed], ...] = ()
    limit: SizeLimit | None = None

    @property
    def now(self) -> Weighed:
        """The table as it is."""
        return next(each for each in self.ranked if each.layout is None)

    @property
    def winner(self) -> Weighed:
        """The candidate that comes first."""
        return self.ranked[0]
