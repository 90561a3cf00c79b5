"""How rows spread over HASH and KEY partitions of the family that has these, told from statistics.

HASH of one whole number is its remainder: even, as long as the numbers are. KEY is not: its running hash takes numbers
that follow each other to few leaves (the largest of 16 holds 2.8 times the mean, measured on MariaDB 10.11). So keys of
whole numbers are made up as the statistics have them, and hashed.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from slabrow.core.hashing.key_leaves import KeyBytes, hash_leaves, key_leaves
from slabrow.core.hashing.stored_bytes import StoredType, parse_stored_type, stored
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.values.errors import UsageError

_WHOLE = ("tinyint", "smallint", "mediumint", "int", "bigint")
_KEYS = 20_000  # that are made up


def key_shares(type_names: Sequence[str], statistics: Sequence[ColumnStatistics | None], parts: int) -> list[float]:
    """The share of all rows in each part. Even where a column is no whole number, or nothing is known of it."""
    even = [1 / parts] * parts
    try:
        types = [parse_stored_type(name) for name in type_names]
    except UsageError:
        return even
    if any(each.name not in _WHOLE for each in types) or not any(statistics):
        return even
    rows = [_numbers(each, place) for place, each in enumerate(statistics)]
    if len(types) == 1:
        leaves = hash_leaves(rows[0], parts)
    else:
        try:
            leaves = key_leaves([_stored(kind, column) for kind, column in zip(types, rows, strict=True)], parts)
        except (ValueError, OverflowError):
            return even
    counts = np.bincount(leaves, minlength=parts)
    return [float(count) / _KEYS for count in counts]


def _stored(kind: StoredType, column: NDArray[np.int64]) -> KeyBytes:
    return stored(kind, column.tolist(), 2)


def _numbers(seen: ColumnStatistics | None, place: int) -> NDArray[np.int64]:
    """As many values as rows are made up, in the shares that the statistics have; the same at every call."""
    order = np.random.default_rng(place).permutation(_KEYS)
    if seen is None:
        return order.astype(np.int64)
    common = [(value, share) for value, share in seen.common if isinstance(value, int)]
    taken = np.zeros(0, np.int64)
    if common:
        counts = np.round(np.array([share for _, share in common]) * _KEYS).astype(int)
        taken = np.repeat(np.array([value for value, _ in common], np.int64), counts)[:_KEYS]
    bounds = [value for value in seen.histogram if isinstance(value, int)]
    left = _KEYS - len(taken)
    if len(bounds) > 1:
        drawn = np.interp(np.linspace(0, len(bounds) - 1, left), np.arange(len(bounds)), np.array(bounds, float))
        spread = np.floor(drawn).astype(np.int64)
    else:
        distinct = max(1, int(seen.distinct or left))
        spread = np.arange(left, dtype=np.int64) * min(distinct, max(1, left)) // max(1, left)
    return np.concatenate([taken, spread])[order]
