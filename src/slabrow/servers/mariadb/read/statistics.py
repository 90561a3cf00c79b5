"""What is known of the rows of a table: from the server's own column statistics, else from a few rows picked by the
primary key; and of a table as a whole what weighing needs.

Column statistics are there where somebody ran ANALYZE TABLE … PERSISTENT FOR ALL, and the user may read `mysql`
(MariaDB manual, Engine-Independent Table Statistics). Without them some hundred rows are looked up, evenly along the
primary key: each is one descent, whatever the size of the table.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
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

_PICKED = 240  # rows
_PICKED_OF_MANY = 40  # where each descent goes into every leaf
_MANY_LEAVES = 50
_PAGE = 16_384


def column_statistics(connection: Connection, found: Relation) -> dict[str, ColumnStatistics]:
    """Each column, as far as it is known."""
    columns = catalogue.columns(connection, found)
    picked = _picked(connection, found, columns)
    known = {
        name: of_sample(name, values, found.rows or len(values)) for name, values in picked.items() if any_known(values)
    }
    for name, own in _own_statistics(connection, found, columns).items():
        correlation = known[name].correlation if name in known else None
        known[name] = replace(own, correlation=correlation)
    distinct = _cardinalities(connection, found)
    for name, count in distinct.items():
        if name in known and not known[name].common and (known[name].distinct or 0) < count:
            known[name] = replace(known[name], distinct=float(count))
    return known


def any_known(values: Sequence[Value | None]) -> bool:
    """Whether there is a value among them at all."""
    return any(value is not None and not isinstance(value, Opaque) for value in values)


def _cardinalities(connection: Connection, found: Relation) -> dict[str, int]:
    """Of the leading columns of indexes: the engine's estimate of how many values there are."""
    rows = connection.rows(
        "SELECT column_name, max(cardinality) FROM information_schema.statistics "
        "WHERE table_schema = %s AND table_name = %s AND seq_in_index = 1 AND cardinality IS NOT NULL GROUP BY 1",
        (found.name.schema, found.name.table),
    )
    return {name: int(count) for name, count in rows if name is not None}


def _picked(connection: Connection, found: Relation, columns: Sequence[ColumnFact]) -> dict[str, list[Value | None]]:
    """The values of all columns in rows along the primary key."""
    lead = connection.row(
        "SELECT column_name FROM information_schema.statistics WHERE table_schema = %s AND table_name = %s "
        "AND index_name = 'PRIMARY' AND seq_in_index = 1",
        (found.name.schema, found.name.table),
    )
    column = next((each for each in columns if lead is not None and each.name == lead[0]), None)
    table = quoting.table(found.name)
    texts = ", ".join(text_of(each.name) for each in columns)
    if column is None or column.kind not in (Kind.INTEGER, Kind.DATE, Kind.TIMESTAMP, Kind.TIMESTAMPTZ):
        rows = connection.rows(f"SELECT {texts} FROM {table} LIMIT {_PICKED}")
    else:
        name = identifier(column.name)
        ends = connection.row(f"SELECT CAST(min({name}) AS CHAR), CAST(max({name}) AS CHAR) FROM {table}")
        if ends is None or ends[0] is None:
            return {}
        low, high = as_value(ends[0], column.kind), as_value(ends[1], column.kind)
        leaves = catalogue.leaves_total(connection, found).leaves if found.is_partitioned else 1
        places = _between(low, high, _PICKED_OF_MANY if leaves > _MANY_LEAVES else _PICKED)
        query = " UNION ALL ".join(
            f"(SELECT {texts} FROM {table} WHERE {name} >= {quoting.value(place)} ORDER BY {name} LIMIT 1)"
            for place in places
        )
        rows = connection.rows(query) if places else []
    return {
        each.name: [None if row[place] is None else as_value(row[place], each.kind) for row in rows]
        for place, each in enumerate(columns)
    }


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
