"""A table on a future day: the rows of each partition, the trend and its uncertainty, and `keep`."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

from slabrow.core.statistics.row_growth import Growth
from slabrow.core.table.bounds import Bounds, Range
from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Unit, shifted
from slabrow.core.values.key_values import as_moment

ERRORS = 2.0  # standard errors on both sides: about 95 of 100 outcomes, if rates scatter normally


@dataclass(frozen=True, slots=True)
class Expected:
    """Rows of one partition then. low and high: two standard errors below and above."""

    rows: int
    low: int
    high: int


@dataclass(frozen=True, slots=True)
class Outlook:
    """until      the day
    growth        how rows come
    expected      for each leaf
    retired       partitions that `keep` has let go by then
    steady_rows   rows once as many leave as come, None without `keep`
    """

    until: datetime
    growth: Growth
    expected: tuple[Expected, ...]
    retired: int
    steady_rows: int | None

    @property
    def rows(self) -> int:
        """Rows of all partitions together, as expected."""
        return sum(each.rows for each in self.expected)

    @property
    def low(self) -> int:
        """The lower end of the 95 % interval of `rows`."""
        return sum(each.low for each in self.expected)

    @property
    def high(self) -> int:
        """The upper end of the 95 % interval of `rows`."""
        return sum(each.high for each in self.expected)


def expected_in(bounds: Bounds, rows: int, growth: Growth, until: datetime, zone: ZoneInfo) -> Expected:
    """Rows of a range along time: those that it has, and those that will have come. Others: see `grown`."""
    if not isinstance(bounds, Range):
        return Expected(rows, rows, rows)
    start = as_moment(bounds.from_[0] if bounds.from_ else None, zone)
    end = as_moment(bounds.to[0] if bounds.to else None, zone)
    found = []
    for errors in (0.0, -ERRORS, ERRORS):
        begins = growth.rows_until(start, errors) if start is not None and start > growth.newest else 0.0
        ends = growth.rows_until(min(end, until) if end is not None else until, errors)
        found.append(rows + max(0, round(ends - begins)))
    return Expected(*found)


def grown(rows: Sequence[int], growth: Growth, until: datetime) -> list[Expected]:
    """Rows of partitions that all grow alike: hash and list by another column than time."""
    total = sum(rows) or 1
    factors = [1 + growth.rows_until(until, errors) / total for errors in (0.0, -ERRORS, ERRORS)]
    return [Expected(*(round(each * factor) for factor in factors)) for each in rows]


def steady_rows(layout: Layout, growth: Growth, until: datetime) -> int | None:
    """How many rows lie within `keep` at the rate of that day."""
    if layout.keep is None or layout.keep.unit is Unit.NUMBER:
        return None
    kept = until - _back(until, layout)
    days = (until - growth.newest).total_seconds() / 86_400
    rate = max(0.0, growth.rows_a_day + growth.trend * max(0.0, days))
    return round(rate * kept.total_seconds() / 86_400)


def _back(until: datetime, layout: Layout) -> datetime:
    assert layout.keep is not None
    back = shifted(until, layout.keep, -1, ZoneInfo(layout.zone))
    assert isinstance(back, datetime)
    return back
