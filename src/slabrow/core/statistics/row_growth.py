"""How fast a table grows: the rate of new rows along the column that data ages by, its trend, and what follows from it.

Method: the bounds of an equi-depth histogram are moments between which equally many rows arrived, so each bin gives a
rate. A straight line through the rates by least squares gives the trend; the scatter around it its uncertainty.
"""

from dataclasses import dataclass
from datetime import datetime, timedelta
from math import sqrt

import numpy as np
from numpy.typing import NDArray

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.values.key_values import as_moment

LEAST_BINS = 4
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Growth:
    """New rows of a table.

    column        along which they come
    newest        its greatest value
    rows          of the table now
    rows_a_day    the rate now, on the trend's line
    trend         by how much the rate changes from one day to the next, in rows a day
    uncertainty   one standard error of the rate, in rows a day
    still_since   the newest value, when no row came for so long that the rate is none of now; else None
    """

    column: str
    newest: datetime
    rows: int
    rows_a_day: float
    trend: float
    uncertainty: float
    still_since: datetime | None = None

    @property
    def rows_a_month(self) -> float:
        """New rows in thirty days."""
        return self.rows_a_day * 365.25 / 12

    @property
    def share_a_year(self) -> float | None:
        """By which share the rate grows in a year, on the trend's line; None where nothing comes."""
        return self.trend * 365.25 / self.rows_a_day if self.rows_a_day > 0 else None

    def rows_until(self, moment: datetime, errors: float = 0.0) -> float:
        """New rows from the newest until then. errors: standard errors above or below the line."""
        days = (moment - self.newest).total_seconds() / 86_400
        if days <= 0:
            return 0.0
        rate = self.rows_a_day + errors * self.uncertainty
        # A falling rate ends at zero; it does not take rows away again.
        if self.trend < 0 and rate > 0:
            days = min(days, -rate / self.trend)
        return max(0.0, rate * days + self.trend * days * days / 2)

    @property
    def doubles_on(self) -> datetime | None:
        """When there will be twice the rows; None when never, or not within a hundred years, or nothing comes."""
        return self.day_of(2 * self.rows)

    def day_of(self, rows: float) -> datetime | None:
        """When there will be so many rows; None when never, or not within a hundred years, or nothing comes."""
        if self.still_since is not None:
            return None
        low, high = 0.0, 36_525.0
        wanted = rows - self.rows
        try:
            if self.rows_until(self.newest + timedelta(days=high)) < wanted:
                return None
            while high - low > 0.5:
                middle = (low + high) / 2
                if self.rows_until(self.newest + timedelta(days=middle)) < wanted:
                    low = middle
                else:
                    high = middle
            return self.newest + timedelta(days=high)
        except OverflowError:
            return None


def growth(column: str, statistics: ColumnStatistics, rows: int, now: datetime | None = None) -> Growth | None:
    """None when the histogram has too few bins, or no moments in it.

    rows   those that the statistics were taken of
    now    to tell whether rows still come; None: not looked at
    """
    moments = [as_moment(value) for value in statistics.histogram]
    known = [moment for moment in moments if moment is not None]
    if len(known) != len(moments) or len(known) <= LEAST_BINS:
        return None
    in_bins = rows * max(0.0, 1 - statistics.null_share - sum(share for _, share in statistics.common))
    each = in_bins / (len(known) - 1)
    days = np.array([(moment - known[-1]).total_seconds() / 86_400 for moment in known])
    widths, middles = np.diff(days), (days[1:] + days[:-1]) / 2
    # A bin that is narrower than the smallest step of the column (a day) is merged with the next.
    usable = widths > 0
    if usable.sum() < LEAST_BINS:
        return None
    rates = each / widths[usable]
    # Each bin counts by its width: the line is through time, not through bins.
    slope, level = np.polyfit(middles[usable], rates, 1, w=np.sqrt(widths[usable]))
    error = _error(middles[usable], rates, widths[usable], slope, level)
    # A trend that its own scatter explains is none.
    if abs(slope) < 2 * error.slope:
        level, slope = float(np.average(rates, weights=widths[usable])), 0.0
    level = max(0.0, float(level))
    # Rates rise and fall in waves: the distance between the line and the last tenth is an error of today's rate too.
    last = max(1, len(rates) // 10)
    recent = float(np.average(rates[-last:], weights=widths[usable][-last:]))
    uncertainty = max(error.level * _inflation(rates - (level + slope * middles[usable])), abs(recent - level))
    still = None
    if now is not None and (now - known[-1]).total_seconds() / 86_400 > max(LEAST_STILL_DAYS, 3 * float(widths.max())):
        still = known[-1]
    return Growth(
        column=column,
        newest=known[-1],
        rows=rows,
        rows_a_day=level,
        trend=float(slope),
        uncertainty=uncertainty,
        still_since=still,
    )


LEAST_STILL_DAYS = 7.0


def _inflation(residuals: Floats) -> float:
    """By how much a standard error grows as neighbours resemble each other: n / (effective n), by their correlation.

    For a first-order autoregression with correlation r it is sqrt((1 + r) / (1 - r)) (Zwiers and von Storch, 1995).
    """
    if len(residuals) < 3 or not float(np.square(residuals).sum()):
        return 1.0
    r = float((residuals[1:] * residuals[:-1]).sum() / np.square(residuals).sum())
    r = min(0.95, max(0.0, r))
    return sqrt((1 + r) / (1 - r))


@dataclass(frozen=True, slots=True)
class _Error:
    level: float
    slope: float


def _error(x: Floats, y: Floats, widths: Floats, slope: float, level: float) -> _Error:
    """Standard errors of the line's value now (at 0) and of its slope, by weighted least squares."""
    w = widths / widths.mean()
    residuals = y - (level + slope * x)
    variance = float((w * residuals**2).sum() / max(1, len(x) - 2))
    mean = float((w * x).sum() / w.sum())
    spread = float((w * (x - mean) ** 2).sum()) or 1.0
    return _Error(sqrt(variance * (1 / float(w.sum()) + mean**2 / spread)), sqrt(variance / spread))
