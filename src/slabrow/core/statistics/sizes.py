"""Which share of a table's rows each planned leaf would get, from column statistics; partitions of partitions too."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from slabrow.core.sql.dialect import BACKQUOTED, spoken
from slabrow.core.statistics.estimates import ColumnStatistics, shares
from slabrow.core.table.bounds import CatchAll, Listed
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import KeyColumn, Partition
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import spell
from slabrow.core.values.method import By


def leaf_shares(
    planned: Sequence[Planned],
    layout: Layout,
    columns: Mapping[str, KeyColumn],
    statistics: Mapping[str, ColumnStatistics],
) -> list[float]:
    """The share of all rows in each leaf, in the order of `planned` and its inner partitions.

    A layout within another is estimated as if its key were independent of the outer one.
    """
    outer = _shares(planned, layout, columns, statistics)
    if layout.within is None:
        return outer
    seen = dict(statistics)
    column = layout.key[0]
    if layout.divides_catch_all_only and column in seen:
        seen[column] = _without_listed(planned, seen[column])
    found: list[float] = []
    for share, each in zip(outer, planned, strict=True):
        inner = _shares(each.inner, layout.within, columns, seen) if each.inner else [1.0]
        found += [share * part for part in inner]
    return found


def _shares(
    planned: Sequence[Planned],
    layout: Layout,
    columns: Mapping[str, KeyColumn],
    statistics: Mapping[str, ColumnStatistics],
) -> list[float]:
    seen = statistics.get(layout.key[0])
    if layout.by is By.HASH and spoken() == BACKQUOTED:
        from slabrow.core.statistics.key_shares import key_shares

        return key_shares(
            [columns[name].type_name for name in layout.key],
            [statistics.get(name) for name in layout.key],
            len(planned),
        )
    if layout.by is By.HASH:
        return hash_shares([columns[name].type_name for name in layout.key], seen, len(planned))
    if seen is None:
        return [1 / len(planned)] * len(planned)
    return shares([each.bounds for each in planned], seen)


def hash_shares(type_names: Sequence[str], statistics: ColumnStatistics | None, parts: int) -> list[float]:
    """The share of all rows in each part: the common values are hashed one by one, all others spread evenly.

    With several key columns, or a type that is not hashed here, everything spreads evenly.
    """
    from slabrow.core.hashing.key_places import key_places

    even = [1 / parts] * parts
    if len(type_names) > 1 or statistics is None:
        return even
    try:
        texts: list[str | None] = [spell(value) for value, _ in statistics.common]
        if statistics.null_share:
            texts.append(None)
        places = key_places([texts], type_names, parts)
    except UsageError:
        return even
    common = [share for _, share in statistics.common] + [statistics.null_share] * bool(statistics.null_share)
    found = [max(0.0, 1 - sum(common)) / parts] * parts
    # Few distinct values do not spread evenly: as many parts as there are values get any.
    unnamed = (statistics.distinct or parts * 100) - len(statistics.common)
    if 0 < unnamed < parts:
        found = [max(0.0, 1 - sum(common)) / max(1.0, unnamed) if part < unnamed else 0.0 for part in range(parts)]
    for place, share in zip(places, common, strict=True):
        found[place] += share
    return found


def _without_listed(planned: Sequence[Planned], statistics: ColumnStatistics) -> ColumnStatistics:
    """The statistics of what the catch-all holds."""
    listed = {
        value
        for each in planned
        if isinstance(each.bounds, Listed)
        for value in each.bounds.values
        if value is not None
    }
    left = 1 - sum(share for value, share in statistics.common if value in listed)
    if left <= 0 or not any(isinstance(each.bounds, CatchAll) for each in planned):
        return statistics
    kept = tuple((value, share / left) for value, share in statistics.common if value not in listed)
    return replace(statistics, common=kept, null_share=min(1.0, statistics.null_share / left))


def estimated_rows(leaves: Sequence[Partition]) -> dict[str, int | None]:
    """The rows of each leaf, by its spelling: the planner's estimate, none for an empty leaf.

    The rows of a leaf that was never analysed are told from its bytes, by the density of the analysed ones; None where
    there is none of these.
    """
    known = [leaf for leaf in leaves if leaf.rows]
    rows, bytes_ = sum(leaf.rows or 0 for leaf in known), sum(leaf.bytes for leaf in known)

    def of(leaf: Partition) -> int | None:
        if leaf.rows is not None or leaf.is_empty:
            return leaf.rows or 0
        return round(leaf.bytes * rows / bytes_) if bytes_ else None

    return {leaf.spelling: of(leaf) for leaf in leaves}
