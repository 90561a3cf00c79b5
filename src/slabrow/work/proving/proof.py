"""The findings of `prove` about queries: plain data."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from slabrow.core.pruning.explain import Explanation
from slabrow.core.pruning.verdicts import PrunedAt, Verdict
from slabrow.core.rewriting.mistakes import Mistake
from slabrow.core.rewriting.statement_rewrites import Rewrite, Unequal
from slabrow.core.weighing.partition_ceiling import Crowding, Timed, crowding
from slabrow.files.query_file import FileQuery, Limit


@dataclass(frozen=True, slots=True)
class Generic:
    """The partitions that the generic plan touches when it starts with the values given.

    predicted   as in `Proof`
    """

    leaves: tuple[str, ...]
    pruned_at: PrunedAt
    predicted: tuple[str, ...] | None = None


@dataclass(frozen=True, slots=True)
class Measured:
    """The measures of one execution.

    read, returned   rows that the scans of the table looked at, and rows that the query returned or changed
    is_mean          whether rows were counted by several workers, of which the server tells the rounded mean
    sent             of the rows that were read, those that other servers sent over
    hit, missed      shared blocks found in the server's memory, and read into it
    """

    leaves: int
    read: int
    returned: int
    hit: int
    missed: int
    planning_ms: float
    execution_ms: float
    is_mean: bool = False
    sent: int = 0

    @property
    def blocks(self) -> int:
        """Blocks touched."""
        return self.hit + self.missed


@dataclass(frozen=True, slots=True)
class Slipped:
    """A silent mistake. rows: how many lie between what is asked and what was probably meant; None: not counted."""

    mistake: Mistake
    rows: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Proof:
    """The partitions of one table that one query touches.

    predicted  leaves that Slabrow itself finds, sorted; None where it does not understand the statement or its zone
    planned    leaves in the plan once execution has started, sorted; None when no server was asked
    executed   leaves that were read, None when the query did not run
    in_plan    leaves that were planned, those too that were left out as execution started
    rows, all_rows   the planner's estimate of the rows in the touched leaves, and in all of them
    rewrite    words that let it prune, None when none are known here
    is_same    whether both return the same rows; None when they were not run
    generic    of a prepared statement with values: what its generic plan does
    types      of a prepared statement without values: its parameters. What is touched is then what values may touch
    unsent     the conditions that are worked out here on rows that other servers send, one for each leaf
    contrast   the same execution with pruning switched off
    """

    query: FileQuery
    table: str
    total: int
    predicted: tuple[str, ...] | None
    planned: tuple[str, ...] | None
    executed: tuple[str, ...] | None
    verdict: Verdict
    pruned_at: PrunedAt
    rows: int
    all_rows: int
    planning_ms: float | None = None
    measured: Measured | None = None
    in_plan: int | None = None
    limit: Limit | None = None
    note: str | None = None
    reasons: tuple[Explanation, ...] = ()
    rewrite: Rewrite | None = None
    unequal: tuple[Unequal, ...] = ()
    is_same: bool | None = None
    generic: Generic | None = None
    types: tuple[str, ...] | None = None
    contrast: Measured | None = None
    mistakes: tuple[Slipped, ...] = ()
    unsent: tuple[str, ...] = ()

    @property
    def is_known(self) -> bool:
        """Whether anything is known of the leaves at all."""
        return self.executed is not None or self.planned is not None or self.predicted is not None

    @property
    def leaves(self) -> tuple[str, ...]:
        """The touched leaves: as executed, else as planned, else as predicted."""
        known = self.executed if self.executed is not None else self.planned
        return known if known is not None else self.predicted or ()

    @property
    def touched(self) -> int:
        """How many leaves are touched."""
        return len(self.leaves)

    @property
    def execution_ms(self) -> float | None:
        """Of the run; None when it was not run."""
        return None if self.measured is None else self.measured.execution_ms

    @property
    def is_ok(self) -> bool | None:
        """Whether the limits hold, on the number of leaves and on when that is decided; None when there are none."""
        if self.limit is None and self.query.decided is None:
            return None
        holds = self.limit is None or (self.is_known and self.limit.holds(self.touched))
        return holds and (self.query.decided is None or _is_by(self.pruned_at, self.query.decided))


_MOMENTS = (PrunedAt.PLAN, PrunedAt.START, PrunedAt.RUN)


def _is_by(found: PrunedAt, wanted: PrunedAt) -> bool:
    """Whether leaves were left out at that moment or before it."""
    return found is not PrunedAt.NEVER and _MOMENTS.index(found) <= _MOMENTS.index(wanted)


NOT_TOUCHED = "touches no partitioned table"


def brings_limit(query: FileQuery) -> bool:
    """Whether a query says what it expects."""
    return query.limit is not None or query.decided is not None


@dataclass(frozen=True, slots=True)
class Unproven:
    """A query that the server would not plan, or that touches no partitioned table.

    is_unchecked   whether it brings a limit, which could not be checked: that is no success
    """

    query: FileQuery
    reason: str
    is_error: bool
    is_unchecked: bool = False


@dataclass(frozen=True, slots=True)
class ProveResult:
    """leaves: every leaf of each table, in the order of the bounds."""

    proofs: tuple[Proof, ...]
    unproven: tuple[Unproven, ...]
    leaves: Mapping[str, tuple[str, ...]]

    @property
    def pruning(self) -> int:
        """How many entries touch fewer leaves than there are."""
        return sum(proof.verdict is not Verdict.EVERY for proof in self.proofs)

    @property
    def predictions(self) -> tuple[int, int, int]:
        """How many predictions equal the plan, keep more leaves than it, and keep fewer: the last must be 0."""
        pairs = [
            (set(proof.predicted), set(proof.planned))
            for proof in self.proofs
            if proof.predicted is not None and proof.planned is not None
        ]
        fewer = sum(bool(planned - predicted) for predicted, planned in pairs)
        return sum(one == other for one, other in pairs), sum(one > other for one, other in pairs), fewer

    @property
    def read_share(self) -> float | None:
        """The rows in touched leaves, weighted by runs a day, as a share of reading every leaf each time."""
        every = sum(proof.all_rows * proof.query.weight for proof in self.proofs)
        return sum(proof.rows * proof.query.weight for proof in self.proofs) / every if every else None

    @property
    def pruning_share(self) -> float:
        """The share of all runs a day that touch fewer leaves than there are; 1.0 without any."""
        weights = [(proof.query.weight, proof.verdict is not Verdict.EVERY) for proof in self.proofs]
        every = sum(weight for weight, _ in weights)
        return sum(weight for weight, prunes in weights if prunes) / every if every else 1.0

    @property
    def broken(self) -> int:
        """Limits that do not hold, and queries that the server refuses."""
        return sum(proof.is_ok is False for proof in self.proofs) + sum(
            unproven.is_error or unproven.is_unchecked for unproven in self.unproven
        )

    @property
    def unchecked(self) -> tuple[Unproven, ...]:
        """Queries whose limits could not be checked."""
        return tuple(each for each in self.unproven if each.is_unchecked and not each.is_error)

    @property
    def crowded(self) -> dict[str, Crowding]:
        """The tables on which queries plan longer than they execute."""
        found = {table: crowding(tuple(_timed(self.proofs, table))) for table in {each.table for each in self.proofs}}
        return {table: each for table, each in sorted(found.items()) if each is not None}


def _timed(proofs: Iterable[Proof], table: str) -> Iterable[Timed]:
    for proof in proofs:
        if proof.table == table and proof.measured is not None:
            measured = proof.measured
            yield Timed(
                name=proof.query.name,
                total=proof.total,
                in_plan=proof.in_plan or 0,
                prunes=proof.verdict is not Verdict.EVERY,
                planning_ms=measured.planning_ms,
                execution_ms=measured.execution_ms,
                weight=proof.query.weight,
            )
