"""What is known of the rows of a table: from the server's own column statistics, else from some rows; and of a table as
a whole what weighing needs.

Column statistics are there where somebody ran ANALYZE TABLE … PERSISTENT FOR ALL, and the user may read `mysql`
(MariaDB manual, Engine-Independent Table Statistics). Without them a small table is read, and some of its rows are
taken. Of a large one some hundred rows are looked up, evenly along the primary key, else along another index: each is
one descent, whatever the size of the table. Of a large table without an index nothing is known.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

from pymysql import err

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.sample import column_statistics as of_sample
from slabrow.core.table.relation import ColumnFact, IndexShape, Relation
from slabrow.core.values.errors import ServerError
from slabrow.core.values.key_values import Kind, Opaque, Value, order
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.read import catalogue
from slabrow.servers.mariadb.read.row_counts import as_value, text_of

_SMALL = 50_000  # rows: up to so many are read, in some tens of milliseconds
_SMALL_BYTES = 32 << 20
_OF_SMALL = 2_000  # rows that are taken of them
_PICKED = 240  # rows
_PICKED_OF_MANY = 40  # where each descent goes into every leaf
_MANY_LEAVES = 50
_PAGE = 16_384


def column_statistics(connection: Connection, found: Relation) -> dict[str, ColumnStatistics]:
    """Each column, as far as it is known."""
    columns = catalogue.columns(connection, found)
    leads = _leads(connection, found)
    picked = _picked(connection, found, columns, leads)
    known = {
        name: of_sample(name, values, found.rows or len(values))
        for name, values in picked.values.items()
        if any_known(values)
    }
    if not picked.are_in_order:
        known = {name: replace(each, correlation=None) for name, each in known.items()}
    for name, own in _own_statistics(connection, found, columns).items():
        correlation = known[name].correlation if name in known else None
        known[name] = replace(own, correlation=correlation)
    for lead in leads:
        each = known.get(lead.column)
        if each is not None and not each.common and (each.distinct or 0) < lead.distinct:
            known[lead.column] = replace(each, distinct=float(lead.distinct))
    return _with_ends(connection, found, columns, leads, known)


def any_known(values: Sequence[Value | None]) -> bool:
    """Whether there is a value among them at all."""
    return any(value is not None and not isinstance(value, Opaque) for value in values)


@dataclass(frozen=True, slots=True)
class _Lead:
    """A column that an index begins with. distinct: the engine's estimate of its values."""

    column: str
    is_primary: bool
    distinct: int


def _leads(connection: Connection, found: Relation) -> list[_Lead]:
    """The primary key's first; then that with the most values."""
    rows = connection.rows(
        "SELECT column_name, max(index_name = 'PRIMARY'), coalesce(max(cardinality), 0) "
        "FROM information_schema.statistics WHERE table_schema = %s AND table_name = %s AND seq_in_index = 1 "
        "AND index_type = 'BTREE' AND sub_part IS NULL AND column_name IS NOT NULL GROUP BY 1 ORDER BY 2 DESC, 3 DESC",
        (found.name.schema, found.name.table),
    )
    return [_Lead(name, bool(primary), int(count)) for name, primary, count in rows]


@dataclass(frozen=True, slots=True)
class _Picked:
    """Values of some rows, by column. are_in_order: the rows come as they lie in the table."""

    values: dict[str, list[Value | None]]
    are_in_order: bool


_PLACED = (Kind.INTEGER, Kind.DATE, Kind.TIMESTAMP, Kind.TIMESTAMPTZ)  # kinds with places between two values


def _picked(connection: Connection, found: Relation, columns: Sequence[ColumnFact], leads: Sequence[_Lead]) -> _Picked:
    """The values of all columns in some rows."""
    kinds = {each.name: each.kind for each in columns}
    table = quoting.table(found.name)
    texts = ", ".join(text_of(each) for each in columns)
    lead = next((each for each in leads if kinds.get(each.column) in _PLACED), None)
    is_small = (found.rows or 0) <= _SMALL and found.bytes <= _SMALL_BYTES
    if is_small:
        share = min(1.0, _OF_SMALL / max(1, found.rows or 0))
        some = f" WHERE rand(1) < {share:.9f}" if share < 1 else ""
        primary = next((each.column for each in leads if each.is_primary), None)
        # The primary key is the order in which rows lie; of a partitioned table they would come leaf by leaf.
        ordered = f" ORDER BY {identifier(primary)}" if primary is not None else ""
        rows = connection.rows(f"SELECT {texts} FROM {table}{some}{ordered}")
    elif lead is None:
        rows = []
    else:
        rows = _along(connection, found, lead.column, kinds[lead.column], texts)
    return _Picked(
        values={each.name: _values(each.kind, [row[place] for row in rows]) for place, each in enumerate(columns)},
        are_in_order=is_small or (lead is not None and lead.is_primary),
    )


def _values(kind: Kind, texts: Sequence[object]) -> list[Value | None]:
    """Zero and half dates, which no calendar holds, are left out: they have no place among the others."""
    values = [None if text is None else as_value(text, kind) for text in texts]
    return [value for value in values if not (kind.is_time and isinstance(value, Opaque))]


def _along(connection: Connection, found: Relation, column: str, kind: Kind, texts: str) -> list[tuple[object, ...]]:
    """Rows at places that lie evenly between the least and the greatest value of an indexed column."""
    table, name = quoting.table(found.name), identifier(column)
    ends = connection.row(f"SELECT CAST(min({name}) AS CHAR), CAST(max({name}) AS CHAR) FROM {table}")
    if ends is None or ends[0] is None:
        return []
    leaves = catalogue.leaves_total(connection, found).leaves if found.is_partitioned else 1
    places = _between(
        as_value(ends[0], kind), as_value(ends[1], kind), _PICKED_OF_MANY if leaves > _MANY_LEAVES else _PICKED
    )
    if not places:
        return []
    query = " UNION ALL ".join(
        f"(SELECT {texts} FROM {table} WHERE {name} >= {quoting.value(place)} ORDER BY {name} LIMIT 1)"
        for place in places
    )
    # In a gap of the column many places lead to one row, which counts once.
    return list(dict.fromkeys(map(tuple, connection.rows(query))))


def _with_ends(
    connection: Connection,
    found: Relation,
    columns: Sequence[ColumnFact],
    leads: Sequence[_Lead],
    known: dict[str, ColumnStatistics],
) -> dict[str, ColumnStatistics]:
    """Columns that an index begins with have their real least and greatest value: two look-ups each (a leaf)."""
    kinds = {each.name: each.kind for each in columns}
    led = [each.column for each in leads if each.column in known and len(known[each.column].histogram) > 1]
    if not led:
        return known
    asked = ", ".join(
        f"(SELECT CAST({end}({identifier(column)}) AS CHAR) FROM {quoting.table(found.name)})"
        for column in led
        for end in ("min", "max")
    )
    ends = connection.row(f"SELECT {asked}") or ()
    found_ends = dict(known)
    for place, column in enumerate(led):
        low, high = (as_value(text, kinds[column]) for text in ends[2 * place : 2 * place + 2])
        own = known[column]
        if not isinstance(low, Opaque) and not isinstance(high, Opaque):
            found_ends[column] = replace(own, histogram=_in_order([low, *own.histogram[1:-1], high]) or own.histogram)
    return found_ends


def _between(low: Value, high: Value, count: int) -> Sequence[Value]:
    """Places evenly from the least to the greatest value."""
    if isinstance(low, int) and isinstance(high, int):
        step = (high - low) / max(1, count - 1)
        return sorted({round(low + step * place) for place in range(count)})
    if isinstance(low, datetime) and isinstance(high, datetime):
        return [low + (high - low) * place / max(1, count - 1) for place in range(count)]
    if isinstance(low, date) and isinstance(high, date):
        days = (high - low).days
        return sorted({low + timedelta(days=round(days * place / max(1, count - 1))) for place in range(count)})
    return []


def _own_statistics(
    connection: Connection, found: Relation, columns: Sequence[ColumnFact]
) -> dict[str, ColumnStatistics]:
    """Those of ANALYZE TABLE … PERSISTENT; none where they were never taken, or may not be read."""
    try:
        rows = connection.rows(
            "SELECT column_name, min_value, max_value, nulls_ratio, avg_frequency, hist_type, histogram "
            "FROM mysql.column_stats WHERE db_name = %s AND table_name = %s",
            (found.name.schema, found.name.table),
        )
    except err.MySQLError:
        return {}
    kinds = {each.name: each.kind for each in columns}
    known = {}
    for name, low, high, nulls, frequency, form, histogram in rows:
        if name not in kinds or low is None:
            continue
        kind = kinds[name]
        bounds, common = _histogram(form, histogram, kind)
        if not bounds:
            bounds = _in_order([as_value(low, kind), as_value(high, kind)])
        distinct = None if not frequency else max(1.0, (found.rows or 0) / float(frequency))
        known[name] = ColumnStatistics(name, float(nulls or 0.0), distinct, common, bounds)
    return known


def _histogram(
    form: str | None, histogram: bytes | str | None, kind: Kind
) -> tuple[tuple[Value, ...], tuple[tuple[Value, float], ...]]:
    """Bounds of equal shares, and values that are a share by themselves, of a histogram in JSON (JSON_HB)."""
    if form != "JSON_HB" or not histogram:
        return (), ()
    text = histogram.decode("utf-8", "replace") if isinstance(histogram, bytes) else histogram
    try:
        buckets = json.loads(text)["histogram_hb"]
        common = tuple(
            (as_value(each["start"], kind), float(each["size"])) for each in buckets if int(each.get("ndv", 0)) == 1
        )
        rest = [each for each in buckets if int(each.get("ndv", 0)) != 1]
        bounds = [as_value(each["start"], kind) for each in rest]
        if rest:
            bounds.append(as_value(rest[-1].get("end", buckets[-1].get("end", buckets[-1]["start"])), kind))
    except (ValueError, KeyError, TypeError, IndexError):
        return (), ()
    return _in_order(bounds), common


def _in_order(values: list[Value]) -> tuple[Value, ...]:
    try:
        return tuple(sorted(values, key=lambda value: order((value,))))
    except TypeError:
        return ()


def table_facts(connection: Connection, name: Name) -> TableFacts:
    """Raises ServerError when the table holds no rows of its own, or nothing is known of them."""
    found = catalogue.relation(connection, name)
    if not found.kind.holds_rows:
        raise ServerError(f"{found.spelling} holds no rows of its own", found=f"it is a {found.kind}")
    columns = catalogue.columns(connection, found)
    statistics = column_statistics(connection, found)
    rows = found.rows or 0
    if rows and not statistics:
        raise ServerError(
            f"nothing is known of the rows of {found.spelling}",
            fix=f"give it a primary key, or run ANALYZE TABLE {found.spelling} PERSISTENT FOR ALL",
        )
    buffers = _buffers(connection)
    return TableFacts(
        name=found.name,
        spelling=found.spelling,
        rows=rows,
        heap_bytes=found.heap_bytes,
        index_bytes=found.index_bytes,
        columns={column.name: column.as_key() for column in columns},
        statistics=statistics,
        indexes=_indexes(connection, found),
        referenced_by=_referenced_by(connection, found),
        cache_bytes=buffers,
        buffers_bytes=buffers,
        block_bytes=_PAGE,
        can_skip=False,
        parallel_workers=0,
        is_partitioned=found.is_partitioned,
        not_null=frozenset(column.name for column in columns if column.not_null),
    )


def _buffers(connection: Connection) -> int:
    row = connection.row("SELECT @@innodb_buffer_pool_size")
    return int(row[0]) if row else 128 << 20


def _indexes(connection: Connection, found: Relation) -> tuple[IndexShape, ...]:
    rows = connection.rows(
        "SELECT index_name, non_unique, column_name, sub_part FROM information_schema.statistics "
        "WHERE table_schema = %s AND table_name = %s AND index_type = 'BTREE' "
        "ORDER BY index_name = 'PRIMARY' DESC, index_name, seq_in_index",
        (found.name.schema, found.name.table),
    )
    columns: dict[str, list[str]] = {}
    unique: dict[str, bool] = {}
    for index, non_unique, column, part in rows:
        columns.setdefault(index, []).append("" if part is not None or column is None else column)
        unique[index] = not non_unique
    others = max(1, len(columns) - ("PRIMARY" in columns))
    return tuple(
        IndexShape(
            name=name,
            columns=tuple(names),
            is_unique=unique[name],
            is_primary=name == "PRIMARY",
            bytes=found.heap_bytes if name == "PRIMARY" else found.index_bytes // others,
        )
        for name, names in columns.items()
    )


def _referenced_by(connection: Connection, found: Relation) -> tuple[tuple[str, tuple[str, ...]], ...]:
    rows = connection.rows(
        "SELECT table_schema, table_name, constraint_name, referenced_column_name "
        "FROM information_schema.key_column_usage WHERE referenced_table_schema = %s AND referenced_table_name = %s "
        "ORDER BY 1, 2, 3, ordinal_position",
        (found.name.schema, found.name.table),
    )
    grouped: dict[tuple[str, str, str], list[str]] = {}
    for schema, table, constraint, column in rows:
        grouped.setdefault((schema, table, constraint), []).append(column)
    return tuple((str(Name(schema, table)), tuple(columns)) for (schema, table, _), columns in grouped.items())
