"""The results of counting rows: extremes, rows between thresholds, rows of a leaf, rows in a catch-all."""

from dataclasses import dataclass

from slabrow.core.values.key_values import Key, Value


@dataclass(frozen=True, slots=True)
class Extent:
    """The least and greatest value of a column, and how many rows have none.

    beyond   rows of a time that no calendar of periods reaches: infinities, before the year 1, after 9999. low and
             high are then those of the other rows
    """

    low: Value | None
    high: Value | None
    nulls: int
    beyond: int = 0


@dataclass(frozen=True, slots=True)
class BucketCounts:
    """Rows between thresholds: counts[0] below the first, counts[i] from threshold i-1 (in) to i (out)."""

    counts: tuple[int, ...]
    nulls: int


@dataclass(frozen=True, slots=True)
class LeafCount:
    """An exact count of one leaf. low and high are of the leading key column."""

    rows: int
    low: Key | None
    high: Key | None


@dataclass(frozen=True, slots=True)
class FoundRows:
    """Rows that satisfy one condition: how many, with the least and the greatest key among them as text."""

    rows: int
    low: str | None
    high: str | None


@dataclass(frozen=True, slots=True)
class CatchAllCount:
    """The rows in a catch-all.

    held    rows within each of the bounds that were asked about, in their order
    nulls   rows whose leading key column is NULL
    every   all rows
    """

    held: tuple[FoundRows, ...]
    nulls: FoundRows
    every: FoundRows
