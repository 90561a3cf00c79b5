"""Rows per partition before there are partitions: from the planner's statistics of the key column.

Method: the most common values are known one by one; the remaining rows lie evenly between neighbouring bounds of an
equi-depth histogram, as the server itself assumes (PostgreSQL manual, 68.1 Row Estimation Examples).
"""

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any, assert_never

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range
from slabrow.core.values.key_values import Edge, Key, Value, order


@dataclass(frozen=True, slots=True)
class ColumnStatistics:
    """A column as the server's last ANALYZE saw it. Shares are of all rows, from 0 to 1.

    distinct      how many different values, None when not known
    common        the most common values with their shares
    histogram     bounds between which equally many of the remaining values lie
    correlation   of the values with their place in the table, from -1 to 1
    """

    name: str
    null_share: float
    distinct: float | None
    common: tuple[tuple[Value, float], ...] = ()
    histogram: tuple[Value, ...] = ()
    correlation: float | None = None
    # Worked out once: a workload asks for thousands of shares.
    _ranks: tuple[Any, ...] = field(init=False, repr=False, compare=False)
    _common: dict[Value, float] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        try:
            ranks = tuple(order((bound,)) for bound in self.histogram)
        except TypeError:  # opaque values have no order
            ranks = ()
        object.__setattr__(self, "_ranks", ranks)
        object.__setattr__(self, "_common", dict(self.common))

    def between(self, low: Value | None, high: Value | None) -> float:
        """The share of values from `low` (in) to `high` (out); None: open."""
        common = sum(share for value, share in self.common if _within(value, low, high))
        remaining = max(0.0, 1 - self.null_share - sum(self._common.values()))
        return common + remaining * max(0.0, self._place(high, 1.0) - self._place(low, 0.0))

    def equal(self, value: Value | None) -> float:
        """The share of rows with this value; None is NULL."""
        if value is None:
            return self.null_share
        if (known := self._common.get(value)) is not None:
            return known
        others = max(0.0, 1 - self.null_share - sum(self._common.values()))
        unnamed = (self.distinct or 0) - len(self.common)
        return others / unnamed if unnamed >= 1 else 0.0

    def _place(self, value: Value | None, if_open: float) -> float:
        """The share of the histogram that lies below `value`."""
        histogram = self.histogram
        if value is None or not self._ranks:
            return if_open
        place = bisect_left(self._ranks, order((value,)))
        if place == 0 or len(histogram) == 1:
            return 0.0
        if place == len(histogram):
            return 1.0
        return (place - 1 + _between(histogram[place - 1], histogram[place], value)) / (len(histogram) - 1)

    @property
    def low(self) -> Value | None:
        """The least value that the statistics show; None without any."""
        return _extreme([*(value for value, _ in self.common), *self.histogram], least=True)

    @property
    def high(self) -> Value | None:
        """The greatest value that the statistics show; None without any."""
        return _extreme([*(value for value, _ in self.common), *self.histogram], least=False)

    @property
    def commonest_share(self) -> float | None:
        """The share of the most common value; None when no value is common."""
        return max((share for _, share in self.common), default=None)


def _extreme(values: Sequence[Value], *, least: bool) -> Value | None:
    try:
        return (min if least else max)(values, key=lambda value: order((value,)), default=None)
    except TypeError:  # opaque values have no order
        return None


def share_of(bounds: Bounds, statistics: ColumnStatistics) -> float | None:
    """The share of all rows whose key lies in `bounds`; None for a catch-all, which needs its siblings to tell."""
    match bounds:
        case Range():
            return _range_share(bounds, statistics)
        case Listed(values=values):
            return sum(statistics.equal(value) for value in values)
        case Hashed(modulus=modulus):
            return 1 / modulus
        case CatchAll():
            return None
        case _:
            assert_never(bounds)


def shares(all_bounds: Sequence[Bounds], statistics: ColumnStatistics) -> list[float]:
    """The share of all rows in each of the partitions of one table; the catch-all takes what is left."""
    known = [share_of(bounds, statistics) for bounds in all_bounds]
    rest = max(0.0, 1 - sum(share for share in known if share is not None))
    return [rest if share is None else share for share in known]


def _range_share(bounds: Range, statistics: ColumnStatistics) -> float:
    return statistics.between(_first(bounds.from_), _first(bounds.to))


def _first(key: Key | None) -> Value | None:
    return None if key is None else key[0]


def _within(value: Value, low: Value | None, high: Value | None) -> bool:
    place = order((value,))
    return (low is None or order((low,)) <= place) and (high is None or place < order((high,)))


def _between(lower: Value, upper: Value, value: Value) -> float:
    """How far `value` lies on the way from `lower` to `upper`, 0 to 1; half way where values have no distances."""
    numbers = [_number(each) for each in (lower, upper, value)]
    if any(number is None for number in numbers):
        return 0.5
    low, high, here = (number for number in numbers if number is not None)
    return 0.5 if high == low else min(1.0, max(0.0, (here - low) / (high - low)))


def _number(value: Value) -> float | None:
    match value:
        case bool() | Edge() | str():
            return None
        case int() | Decimal():
            return float(value)
        case datetime():
            return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
        case date():
            return float(value.toordinal())
        case _:
            return None


def split_evenly(total: int, parts: Sequence[float]) -> Iterator[int]:
    """`total` divided by shares into whole numbers; the roundings add up to the rounded sum of the shares."""
    carried = 0.0
    given = 0
    for share in parts:
        carried += share * total
        yield round(carried) - given
        given = round(carried)
