"""Column statistics from a sample of rows, as the server's ANALYZE would make them.

Sources: the number of distinct values is estimated by the Duj1 estimator of Haas and Stokes (1998), common values are
those that stand out from the average, the rest make an equi-depth histogram (PostgreSQL, commands/analyze.c).
"""

from collections import Counter
from collections.abc import Sequence

import numpy as np

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.values.key_values import Opaque, Value, order

_MOST_COMMON = 100
_BOUNDS = 101


def column_statistics(name: str, values: Sequence[Value | None], total: int) -> ColumnStatistics:
    """The statistics of a column of the whole table. values: of the sampled rows, in their order; total: all rows."""
    seen = len(values)
    present = [value for value in values if value is not None]
    if not present:
        return ColumnStatistics(name, 1.0 if seen else 0.0, None)
    nulls = (seen - len(present)) / seen
    counts = Counter(present)
    total_present = total * (1 - nulls)
    distinct = _distinct(counts, len(present), max(total_present, len(present)))
    common = _common(counts, len(present), distinct, total_present > len(present))
    named = {value for value, _ in common}
    rest = [value for value in present if value not in named]
    histogram: tuple[Value, ...] = ()
    correlation: float | None = None
    if not any(isinstance(value, Opaque) for value in counts):
        ranked = sorted(rest, key=lambda value: order((value,)))
        if len(set(ranked)) > 1:
            places = np.linspace(0, len(ranked) - 1, min(_BOUNDS, len(ranked))).round().astype(int)
            histogram = tuple(ranked[place] for place in places)
        correlation = _correlation(present)
    shares = tuple((value, count / seen) for value, count in common)
    return ColumnStatistics(
        name=name, null_share=nulls, distinct=distinct, common=shares, histogram=histogram, correlation=correlation
    )


def _distinct(counts: Counter[Value], seen: int, total: float) -> float:
    once = sum(1 for count in counts.values() if count == 1)
    if once == 0 or total <= seen:
        return float(len(counts))
    if once == seen:
        return total  # no value twice: the column is taken to be unique
    return min(total, seen * len(counts) / (seen - once + once * seen / total))


def _common(counts: Counter[Value], seen: int, distinct: float, is_sample: bool) -> list[tuple[Value, int]]:
    most = counts.most_common(_MOST_COMMON)
    if len(counts) <= _MOST_COMMON and not (is_sample and distinct > len(counts) * 1.1):
        return most if len(counts) > 1 or seen > 1 else []
    least = max(2.0, 1.25 * seen / distinct)
    return [(value, count) for value, count in most if count >= least]


def _correlation(values: Sequence[Value]) -> float | None:
    """Of the values' ranks with their places, -1 to 1."""
    if len(values) < 2:
        return None
    ranks = {value: rank for rank, value in enumerate(sorted(set(values), key=lambda value: order((value,))))}
    ranked = np.array([ranks[value] for value in values], float)
    if ranked.std() == 0:
        return 1.0
    return float(np.corrcoef(ranked, np.arange(len(values)))[0, 1])
