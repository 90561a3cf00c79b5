"""How keys would spread over N hash partitions before there are any: sizes, evenness, and one giant key (N06)."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

MOST_KEYS = 2_000_000  # different keys that are told apart; 32 MB
CURVE = tuple(range(2, 257))
POWERS = (2, 4, 8, 16, 32, 64, 128, 256)


@dataclass(frozen=True, slots=True)
class Spread:
    """Rows in each of the parts."""

    rows: tuple[int, ...]

    @property
    def parts(self) -> int:
        """How many hash partitions there are."""
        return len(self.rows)

    @property
    def mean(self) -> float:
        """Rows of a partition on average."""
        return sum(self.rows) / len(self.rows)

    @property
    def largest(self) -> int:
        """Rows of the fullest partition."""
        return max(self.rows)

    @property
    def empty(self) -> int:
        """How many partitions got no row."""
        return self.rows.count(0)

    @property
    def variation(self) -> float:
        """The coefficient of variation: standard deviation over mean. 0 is perfectly even."""
        return float(np.std(self.rows)) / self.mean if self.mean else 0.0

    @property
    def largest_to_mean(self) -> float:
        """How many times the mean the largest part is; 1 is perfectly even."""
        return self.largest / self.mean if self.mean else 0.0


class SpreadCounter:
    """Counts keys by their hash, in constant memory.

    Up to MOST_KEYS different keys each is told apart, and any number of parts can be asked for. Beyond, rows are only
    counted by a few numbers of parts: so many keys spread evenly, and none stands out.
    """

    def __init__(self, parts: int) -> None:
        """parts: a number that will be asked for in any case."""
        self._asked = parts
        self._hashes: NDArray[np.uint64] = np.zeros(0, np.uint64)
        self._rows: NDArray[np.int64] = np.zeros(0, np.int64)
        self._counts: dict[int, NDArray[np.int64]] = {}
        self.total = 0

    def add(self, hashes: NDArray[np.uint64], rows: NDArray[np.int64] | None = None) -> None:
        """hashes: of n keys; rows: the number of rows of each key, one when None."""
        weights = np.ones(len(hashes), np.int64) if rows is None else rows
        self.total += int(weights.sum())
        if self._counts:
            self._count(hashes, weights)
            return
        self._hashes, place = np.unique(np.concatenate([self._hashes, hashes]), return_inverse=True)
        self._rows = np.bincount(place, np.concatenate([self._rows, weights])).astype(np.int64)
        if len(self._hashes) > MOST_KEYS:
            self._counts = {parts: np.zeros(parts, np.int64) for parts in {self._asked, *POWERS}}
            self._count(self._hashes, self._rows)
            self._hashes, self._rows = np.zeros(0, np.uint64), np.zeros(0, np.int64)

    def _count(self, hashes: NDArray[np.uint64], weights: NDArray[np.int64]) -> None:
        for parts, counts in self._counts.items():
            counts += np.bincount(_parted(hashes, parts), weights, parts).astype(np.int64)

    @property
    def keys(self) -> int | None:
        """How many different keys were seen; None when they were too many to tell apart."""
        return None if self._counts else len(self._hashes)

    @property
    def giant(self) -> int | None:
        """The rows of the most frequent key; None when the keys were too many to tell apart."""
        return None if self._counts else int(self._rows.max(initial=0))

    def spread(self, parts: int) -> Spread | None:
        """Rows in each of `parts`; None for a number that was not counted, once the keys are too many."""
        if self._counts:
            return Spread(tuple(self._counts[parts].tolist())) if parts in self._counts else None
        counts = np.bincount(_parted(self._hashes, parts), self._rows, parts)
        return Spread(tuple(counts.astype(np.int64).tolist()))

    def curve(self) -> tuple[Spread, ...]:
        """The spread over 2 to 256 parts, or over those of them that were counted."""
        return tuple(spread for parts in CURVE if (spread := self.spread(parts)) is not None)


def _parted(hashes: NDArray[np.uint64], parts: int) -> NDArray[np.int64]:
    return (hashes % np.uint64(parts)).view(np.int64)
