"""The table as it will be (N52): so many times the rows, or the rows of a day to come, with the same shape.

A day to come is seen from that day: the newest rows are as new as those of today are now, and what is older lies
further back. So the windows that the workload asks for stay where they are, at the newest end.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.row_growth import Growth
from slabrow.core.values.key_values import Value
from slabrow.core.weighing.arrival import IN_ORDER
from slabrow.core.weighing.weighed import Ranking

_UNIQUE = 0.1  # distinct values per row from which on they grow with the rows
_BINS = 100


@dataclass(frozen=True, slots=True)
class Then:
    """A table that is to be weighed. rows_a_day: new ones then; asked: what was asked for, in words."""

    asked: str
    facts: TableFacts
    rows_a_day: float


@dataclass(frozen=True, slots=True)
class Tomorrow:
    """The ranking then.

    changes_at     how many times the rows of today the first place changes at; None: it does not by then
    changes_on     the day on which the table has so many, by the growth that it has shown; None: unknown
    """

    then: Then
    ranking: Ranking
    changes_at: float | None
    changes_on: datetime | None


def grown(facts: TableFacts, factor: float, rows_a_day: float) -> Then:
    """So many times the rows over the same time: each day has brought, and brings, so many times as many."""
    rows = round(facts.rows * factor)
    statistics = {name: _denser(seen, facts.rows, factor) for name, seen in facts.statistics.items()}
    return Then(f"{factor:g} times the rows", _sized(facts, rows, statistics), rows_a_day * factor)


def as_of(facts: TableFacts, growth: Growth, day: datetime, kept: timedelta | None) -> Then:
    """The table on a day, as its growth tells. kept: how long rows are kept, None for ever."""
    new = growth.rows_until(day)
    days = max(0.0, (day - growth.newest).total_seconds() / 86_400)
    rate = max(0.0, growth.rows_a_day + growth.trend * days)
    rows = facts.rows + new
    history = _history_days(facts, growth)
    lasts = history + days
    if kept is not None and lasts > kept.total_seconds() / 86_400:
        lasts = kept.total_seconds() / 86_400
        rows = min(rows, max(1.0, rate * lasts))
    times = rows / max(1, facts.rows)
    statistics = {}
    for name, seen in facts.statistics.items():
        is_in_order = (seen.correlation or 0.0) >= IN_ORDER and len(seen.histogram) > 2
        if not is_in_order:
            statistics[name] = _denser(seen, facts.rows, times)
        elif facts.columns[name].kind.is_time:
            statistics[name] = _longer(seen, lasts / max(history, 1e-9), min(1.0, days / lasts), times)
        else:
            statistics[name] = _longer(seen, times, min(1.0, new / max(rows, 1.0)), times)
    return Then(f"{day:%Y-%m-%d}", _sized(facts, round(rows), statistics), rate)


def _sized(facts: TableFacts, rows: int, statistics: Mapping[str, ColumnStatistics]) -> TableFacts:
    factor = rows / max(1, facts.rows)
    return replace(
        facts,
        rows=rows,
        heap_bytes=round(facts.heap_bytes * factor),
        index_bytes=round(facts.index_bytes * factor),
        indexes=tuple(replace(index, bytes=round(index.bytes * factor)) for index in facts.indexes),
        statistics=statistics,
    )


def _denser(seen: ColumnStatistics, rows: int, factor: float) -> ColumnStatistics:
    if seen.distinct is None or seen.distinct < _UNIQUE * rows:
        return seen
    return replace(seen, distinct=seen.distinct * factor)


def _history_days(facts: TableFacts, growth: Growth) -> float:
    """How long the rows of today reach back along the column that they grow by."""
    seen = facts.statistics.get(growth.column)
    width = _distance(seen.histogram[0], seen.histogram[-1]) if seen is not None and len(seen.histogram) > 1 else None
    if seen is None or width is None:
        return growth.rows / growth.rows_a_day if growth.rows_a_day > 0 else 1.0
    return max(1.0, width / 86_400 if isinstance(seen.histogram[0], datetime) else width)


def _longer(seen: ColumnStatistics, factor: float, new_share: float, times: float) -> ColumnStatistics:
    """A column in the order of arrival whose values reach `factor` times as far back from the same newest one.

    new_share   of that stretch, at its newest end, is filled evenly by rows that come from now on; the rows of today
                keep their shape in the rest, further back
    times       so many times as many different values
    """
    low, high = seen.histogram[0], seen.histogram[-1]
    width = _distance(low, high)
    if width is None or width <= 0 or factor <= 0:
        return seen
    new = width * factor * new_share
    old = width * factor - new
    bins: list[Value] = []
    for place in range(_BINS + 1):
        share = place / _BINS
        if share < 1 - new_share:
            at = seen.histogram[round(share / (1 - new_share) * (len(seen.histogram) - 1))]
            back = new + (_distance(at, high) or 0.0) / width * old
        else:
            back = new * (1 - share) / max(new_share, 1e-9)
        bins.append(_before(high, back))
    distinct = seen.distinct * times if seen.distinct is not None else None
    return replace(seen, histogram=tuple(bins), common=(), distinct=distinct)


def _distance(low: Value, high: Value) -> float | None:
    match low, high:
        case datetime(), datetime():
            return (high - low).total_seconds()
        case date(), date():
            return float((high - low).days)
        case int(), int():
            return float(high - low)
        case _:
            return None


def _before(value: Value, distance: float) -> Value:
    match value:
        case datetime():
            return value - timedelta(
                seconds=min(distance, (value.replace(tzinfo=None) - datetime(1, 1, 2)).total_seconds())
            )
        case date():
            return value - timedelta(days=min(round(distance), value.toordinal() - 2))
        case int():
            return value - round(distance)
        case _:
            return value
