"""What a played day has measured: percentiles, and the order of the layouts (N48)."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from slabrow.core.rehearsal.made_up_column import Array

_LEFT_OUT = 0.25  # at each end, from a mean: the slowest runs may be those that met a queue or the machine's own work


@dataclass(frozen=True, slots=True)
class Latencies:
    """In milliseconds, from the moment at which a run was due. mean: of the middle half."""

    runs: int
    mean_ms: float
    p50_ms: float
    p95_ms: float
    p99_ms: float
    most_ms: float


def latencies(milliseconds: Array) -> Latencies | None:
    """None without a run."""
    if not len(milliseconds):
        return None
    ordered = np.sort(milliseconds)
    cut = int(len(ordered) * _LEFT_OUT)
    kept = ordered[cut : len(ordered) - cut]
    p50, p95, p99 = np.percentile(ordered, [50, 95, 99])
    return Latencies(len(ordered), float(kept.mean()), float(p50), float(p95), float(p99), float(ordered[-1]))


@dataclass(frozen=True, slots=True, kw_only=True)
class QueryOutcome:
    """One statement of the workload.

    weight        runs a day
    service       without waiting for its turn
    blocks, reads touched, and of them read; the median of some runs. None where none was looked at
    touched       partitions that it read, the median
    planning_ms, execution_ms  as the server says, the medians
    failed        runs that ended with an error; its words are in `error`
    """

    name: str
    weight: float
    latency: Latencies | None
    service: Latencies | None
    blocks: float | None
    reads: float | None
    touched: float | None
    planning_ms: float | None
    execution_ms: float | None
    failed: int = 0
    error: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Upkeep:
    """The upkeep in the middle of the day.

    how             in words: what was done
    duration_ms     of all of it
    longest_lock_ms the longest that a strong lock was held; None where none was taken
    longest_stall_ms the longest that a write took that was due meanwhile
    """

    how: str
    created: int
    retired: int
    duration_ms: float
    longest_lock_ms: float | None
    longest_stall_ms: float
    wal_bytes: int


@dataclass(frozen=True, slots=True)
class HourOutcome:
    """Of one hour of the played day."""

    hour: int
    runs: int
    p50_ms: float
    p95_ms: float


@dataclass(frozen=True, slots=True)
class ServerCounters:
    """What the server has counted so far: blocks found and read, bytes of WAL, temporary files and their bytes."""

    found: int
    read: int
    wal_bytes: int
    temp_files: int
    temp_bytes: int

    def __add__(self, other: "ServerCounters") -> "ServerCounters":
        return ServerCounters(
            self.found + other.found,
            self.read + other.read,
            self.wal_bytes + other.wal_bytes,
            self.temp_files + other.temp_files,
            self.temp_bytes + other.temp_bytes,
        )

    def since(self, before: "ServerCounters") -> "ServerCounters":
        """The difference."""
        return ServerCounters(
            max(0, self.found - before.found),
            max(0, self.read - before.read),
            max(0, self.wal_bytes - before.wal_bytes),
            max(0, self.temp_files - before.temp_files),
            max(0, self.temp_bytes - before.temp_bytes),
        )


def hours(hour_of: Array, milliseconds: Array) -> tuple[HourOutcome, ...]:
    """Latencies hour by hour; hours without a run are left out."""
    found = []
    for hour in range(24):
        some = milliseconds[hour_of == hour]
        if len(some):
            p50, p95 = np.percentile(some, [50, 95])
            found.append(HourOutcome(hour, len(some), float(p50), float(p95)))
    return tuple(found)


def day_ms(
    queries: Sequence[QueryOutcome], write: Latencies | None, rows_a_day: float, upkeep_a_day_ms: float
) -> float:
    """What a real day would take of the server: each statement as often as it runs, new rows, and upkeep."""
    reads = sum(each.weight * each.service.mean_ms for each in queries if each.service is not None)
    return reads + (write.mean_ms * rows_a_day if write is not None else 0.0) + upkeep_a_day_ms


def ranks(scores: Mapping[str, float]) -> dict[str, int]:
    """The least score has rank 1."""
    return {name: place for place, (name, _) in enumerate(sorted(scores.items(), key=lambda each: each[1]), 1)}


def rank_correlation(one: Mapping[str, float], other: Mapping[str, float], apart: float = 0.05) -> float | None:
    """Spearman's, of two scores for the same names, -1 to 1; None where one of them has no order.

    apart   scores that differ by less than this share are a tie, and have one rank between them: what was measured
            twice differs by as much
    """
    names = [name for name in one if name in other]
    if len(names) < 2:
        return None
    ranked = [_shared_ranks([scores[name] for name in names], apart) for scores in (one, other)]
    if ranked[0].std() == 0 or ranked[1].std() == 0:  # all in one tie: there is no order to compare
        return None
    return float(np.corrcoef(ranked[0], ranked[1])[0, 1])


def _shared_ranks(scores: Sequence[float], apart: float) -> Array:
    """The mean of its places for each score of a tie."""
    order = np.argsort(scores)
    found = np.empty(len(scores))
    first = 0
    for place in range(1, len(scores) + 1):
        if place == len(scores) or scores[order[place]] > scores[order[first]] * (1 + apart):
            found[order[first:place]] = (first + place + 1) / 2
            first = place
    return found
