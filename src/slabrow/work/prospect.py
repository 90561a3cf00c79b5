"""What a layout would make of a table: the partitions it asks for, and how many rows and bytes each would get."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from slabrow.core.bounds import Listed, Range
from slabrow.core.due import Namer, Planned, due_partitions
from slabrow.core.errors import LayoutError, UsageError, nearest
from slabrow.core.estimates import ColumnStatistics, shares, split_evenly
from slabrow.core.hash_keys import HashType, keys_hash, parse_types
from slabrow.core.keys import Value, order, spell
from slabrow.core.layout import By, Layout
from slabrow.core.reconcile import NAME_LIMIT
from slabrow.core.spread import SpreadCounter
from slabrow.servers.postgresql import catalogue, measure
from slabrow.servers.postgresql.catalogue import ColumnFact, Relation
from slabrow.servers.postgresql.connection import Connection
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class Sized:
    """A planned partition with what it would hold; rows and bytes are None where they cannot be told."""

    planned: Planned
    rows: int | None
    bytes: int | None


@dataclass(frozen=True, slots=True)
class Prospect:
    """relation   the table as it is
    key          its key columns
    sized        the partitions, in the order of their bounds, the catch-all last
    homeless     rows that no partition would hold: they have a NULL key, or lie before `from`
    is_exact     counted, not estimated
    """

    layout: Layout
    relation: Relation
    key: tuple[ColumnFact, ...]
    sized: tuple[Sized, ...]
    homeless: int
    nulls: int
    is_exact: bool

    @property
    def planned(self) -> tuple[Planned, ...]:
        return tuple(each.planned for each in self.sized)


def key_columns(layout: Layout, columns: Sequence[ColumnFact], table: str) -> tuple[ColumnFact, ...]:
    """The columns that a layout's key names. Raises LayoutError for one that is not there, or a misfit."""
    by_name = {column.name: column for column in columns}
    for name in layout.key:
        if name not in by_name:
            near = nearest(name, by_name)
            raise LayoutError(
                f"{table} has no column {name}",
                found=f"its columns are {', '.join(by_name)}",
                fix=f"did you mean {near}?" if near else "correct `key` in the layout",
            )
    key = tuple(by_name[name] for name in layout.key)
    if layout.by is By.RANGE:
        layout.grid(key[0].kind)
    return key


def prospect(context: Context, connection: Connection, layout: Layout, *, exact: bool) -> Prospect:
    """What `layout` would make of its table at the context's `now`.

    exact   count the rows (one or two scans) instead of asking the statistics; a hash layout's are counted by key
    Raises LayoutError when the layout does not fit the table, ServerError when there is no such table or it was never
    analysed and `exact` is not asked for.
    """
    with catalogue.reading(connection, f"read {layout.table}"):
        found = catalogue.relation(connection, layout.table)
        key = key_columns(layout, catalogue.columns(connection, found), found.spelling)
        statistics = catalogue.column_statistics(connection, found)
        # A table that is partitioned already has its own partitions' names in use.
        taken = frozenset() if found.kind == "p" else catalogue.names_in_schema(connection, found.name.schema)
        namer = Namer(layout, key[0].kind, NAME_LIMIT, taken)
        if exact:
            return _counted(context, connection, layout, found, key, namer)
    return _estimated(context, layout, found, key, namer, statistics)


def _planned(
    context: Context,
    layout: Layout,
    key: tuple[ColumnFact, ...],
    namer: Namer,
    low: Value | None,
    high: Value | None,
    values: tuple[Value | None, ...],
) -> tuple[Planned, ...]:
    kinds = tuple(column.kind for column in key)
    now = number_now(high) if layout.by is By.RANGE and not kinds[0].is_time else context.now
    return due_partitions(layout, kinds, namer, now=now, low=low, high=high, values=values)


def number_now(high: Value | None) -> int:
    """Where a key of whole numbers has got to: its greatest value; 0 before the first row."""
    return high if isinstance(high, int) else 0


def _estimated(
    context: Context,
    layout: Layout,
    found: Relation,
    key: tuple[ColumnFact, ...],
    namer: Namer,
    statistics: dict[str, ColumnStatistics],
) -> Prospect:
    seen = statistics.get(layout.key[0])
    if seen is None or found.rows is None:
        # Without statistics the rows are not known, unless there are none.
        planned = _planned(context, layout, key, namer, None, None, ())
        known = 0 if found.rows == 0 else None
        return Prospect(layout, found, key, tuple(Sized(each, known, known) for each in planned), 0, 0, False)
    values = tuple(value for value, _ in seen.common) if layout.by is By.LIST else ()
    planned = _planned(context, layout, key, namer, seen.low, seen.high, values)
    if layout.by is By.HASH:
        rows = list(split_evenly(found.rows, _hash_shares(key, seen, len(planned))))
        return Prospect(layout, found, key, _with_sizes(planned, rows, found), 0, 0, False)
    rows = _share_rows(planned, seen, found.rows)
    nulls = round(seen.null_share * found.rows)
    return Prospect(layout, found, key, _with_sizes(planned, rows, found), max(0, found.rows - sum(rows)), nulls, False)


def _share_rows(planned: tuple[Planned, ...], statistics: ColumnStatistics, total: int) -> list[int]:
    return list(split_evenly(total, shares([each.bounds for each in planned], statistics)))


def _with_sizes(planned: tuple[Planned, ...], rows: Sequence[int | None], found: Relation) -> tuple[Sized, ...]:
    """Bytes in proportion to the rows: the table's own bytes a row, indexes and TOAST included."""
    total = sum(count or 0 for count in rows) or 1
    known = max(total, found.rows or 0)
    return tuple(
        Sized(each, count, None if count is None else round(found.bytes * count / known))
        for each, count in zip(planned, rows, strict=True)
    )


def _counted(
    context: Context, connection: Connection, layout: Layout, found: Relation, key: tuple[ColumnFact, ...], namer: Namer
) -> Prospect:
    match layout.by:
        case By.RANGE:
            extent = measure.extent(connection, found.name, key[0])
            planned = _planned(context, layout, key, namer, extent.low, extent.high, ())
            counts, nulls = _count_ranges(connection, found, key[0], planned)
        case By.LIST:
            by_value = measure.count_values(connection, found.name, key[0])
            planned = _planned(context, layout, key, namer, None, None, tuple(by_value))
            nulls = by_value.get(None, 0)
            listed = [
                sum(by_value.get(value, 0) for value in each.bounds.values) if isinstance(each.bounds, Listed) else 0
                for each in planned
            ]
            counts = _rest_last(planned, listed, sum(by_value.values()))
        case By.HASH:
            planned = _planned(context, layout, key, namer, None, None, ())
            counts, is_exact = _count_hashed(connection, found, key, planned)
            return Prospect(layout, found, key, _with_sizes(planned, counts, found), 0, 0, is_exact)
    homeless = counts.pop()
    return Prospect(layout, found, key, _with_sizes(planned, counts, found), homeless, nulls, True)


def _count_hashed(
    connection: Connection, found: Relation, key: tuple[ColumnFact, ...], planned: tuple[Planned, ...]
) -> tuple[list[int], bool]:
    """Rows of each part: keys are counted on the server and hashed here. False: such keys are not, so spread evenly."""
    try:
        types = _hashing(key)
    except UsageError:
        even = [1 / len(planned)] * len(planned)
        return list(split_evenly(measure.count_rows(connection, found.name), even)), False
    counter = SpreadCounter(len(planned))
    for columns, rows in measure.count_keys(connection, found.name, key):
        counter.add(keys_hash(columns, types), np.array(rows, np.int64))
    spread = counter.spread(len(planned))
    return list(spread.rows) if spread else [], True


def _hashing(key: tuple[ColumnFact, ...]) -> tuple[HashType, ...]:
    return tuple(parse_types(column.type_name)[0] for column in key)


def _hash_shares(key: tuple[ColumnFact, ...], statistics: ColumnStatistics, parts: int) -> list[float]:
    """The share of all rows in each part: the common values are hashed one by one, all others spread evenly.

    With several key columns, or a type that is not hashed here, everything spreads evenly.
    """
    even = [1 / parts] * parts
    if len(key) > 1:
        return even
    try:
        types = _hashing(key)
        texts: list[str | None] = [spell(value) for value, _ in statistics.common]
        if statistics.null_share:
            texts.append(None)
        places = (keys_hash([texts], types) % np.uint64(parts)).tolist() if texts else []
    except UsageError:
        return even
    common = [share for _, share in statistics.common] + [statistics.null_share] * bool(statistics.null_share)
    shares_ = [max(0.0, 1 - sum(common)) / parts] * parts
    for place, share in zip(places, common, strict=True):
        shares_[place] += share
    return shares_


def _count_ranges(
    connection: Connection, found: Relation, column: ColumnFact, planned: tuple[Planned, ...]
) -> tuple[list[int], int]:
    """Rows of each planned partition, then the rows that none holds; and the rows whose key is NULL."""
    ranges = [each.bounds for each in planned if isinstance(each.bounds, Range)]
    ends = {end[0] for bounds in ranges for end in (bounds.from_, bounds.to) if end is not None}
    thresholds = sorted(ends, key=lambda value: order((value,)))
    counted = measure.count_buckets(connection, found.name, column, thresholds)
    by_start = dict(zip(thresholds, counted.counts[1:], strict=True))
    rows = [
        _range_rows(each.bounds, by_start, counted.counts[0]) if isinstance(each.bounds, Range) else 0
        for each in planned
    ]
    return _rest_last(planned, rows, sum(counted.counts) + counted.nulls), counted.nulls


def _range_rows(bounds: Range, by_start: dict[Value, int], below: int) -> int:
    return below if bounds.from_ is None else by_start[bounds.from_[0]]


def _rest_last(planned: tuple[Planned, ...], rows: list[int], total: int) -> list[int]:
    """Gives what no partition holds to the catch-all when there is one; what is left over stands at the end."""
    homeless = total - sum(rows)
    if planned and not isinstance(planned[-1].bounds, Range | Listed):
        return [*rows[:-1], homeless, 0]
    return [*rows, homeless]
