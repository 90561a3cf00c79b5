"""Reads rows rather than the catalogue: extremes, counts by bounds and by value, exact censuses, routes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Bounds
from slabrow.core.table.counted import BucketCounts, CatchAllCount, Extent, FoundRows, LeafCount
from slabrow.core.table.relation import ColumnFact
from slabrow.core.table.tree import KeyColumn, Partition, Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Key, Kind, Opaque, Value, parse_value
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.connection import Connection, reading
from slabrow.servers.mariadb.quoting import identifier, literal

LEAVES_A_QUERY = 100  # of UNION ALL: one statement for each leaf is slower, one for thousands is not parsed quickly
KEYS_A_FETCH = 20_000
_MOST_EXTREMES = 500  # leaves whose extremes are looked up beside a census that is not exact


# The server casts none of them to a text, and no partitioned table has one.
SPATIAL = ("geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
           "geometrycollection")  # fmt: skip


def text_of(column: ColumnFact) -> str:
    """A column as text in the form in which values are read back; NULL for a spatial one, whose values say nothing."""
    if column.type_name.lower() in SPATIAL:
        return "NULL"
    return f"CAST({identifier(column.name)} AS CHAR CHARACTER SET utf8mb4)"


def as_value(text: object, kind: Kind) -> Value:
    """A text of the server as a value. Zero and half dates, which no calendar holds, come back opaque."""
    spelled = text.decode("utf-8", "replace") if isinstance(text, bytes | bytearray) else str(text)
    try:
        return parse_value(spelled, kind)
    except UsageError:
        return Opaque(spelled)


def _value_or_none(text: object, kind: Kind) -> Value | None:
    return None if text is None else as_value(text, kind)


def leaf_source(tree_or_table: Name, leaf: Partition | None = None) -> str:
    """A table, or one leaf of it, as FROM names it."""
    named = quoting.table(tree_or_table)
    return named if leaf is None else f"{named} PARTITION ({identifier(leaf.name.table)})"


def extent(connection: Connection, table: Name, column: ColumnFact, *, part: str | None = None) -> Extent:
    """Exact. With an index on a column that cannot be NULL this is two look-ups a leaf, else a scan. part: of
    this partition alone.
    """
    source = quoting.table(table) + ("" if part is None else f" PARTITION ({identifier(part)})")
    name = identifier(column.name)
    nulls = "0" if column.not_null else f"(SELECT count(*) FROM {source} WHERE {name} IS NULL)"
    row = connection.row(f"SELECT CAST(min({name}) AS CHAR), CAST(max({name}) AS CHAR), {nulls} FROM {source}")
    low, high, missing = row or (None, None, 0)
    found = Extent(_value_or_none(low, column.kind), _value_or_none(high, column.kind), int(missing))
    if not column.kind.is_time or not isinstance(found.low, Opaque):
        return found
    within = f"{name} >= '0001-01-01'"
    row = connection.row(
        f"SELECT CAST(min(CASE WHEN {within} THEN {name} END) AS CHAR), "
        f"count(*) - count(CASE WHEN {within} THEN 1 END) - {nulls} FROM {source}"
    )
    low, beyond = row or (None, 0)
    return Extent(_value_or_none(low, column.kind), found.high, found.nulls, int(beyond))


_ORDINAL = {Kind.DATE: "TO_DAYS", Kind.TIMESTAMP: "TO_SECONDS", Kind.TIMESTAMPTZ: "UNIX_TIMESTAMP"}


def _bucket(column: ColumnFact, thresholds: Sequence[Value]) -> str:
    """The number of the range between the thresholds: 0 below the first; NULL for NULL. By INTERVAL(), which searches
    by halving and compares numbers only.
    """
    name = identifier(column.name)
    function = _ORDINAL.get(column.kind, "")
    if not thresholds:
        return f"CASE WHEN {name} IS NULL THEN NULL ELSE 0 END"
    ends = [f"{function}({quoting.value(each)})" if function else quoting.value(each) for each in thresholds]
    value = f"{function}({name})" if function else name
    # A zero date has no number: it lies below every threshold.
    return f"CASE WHEN {name} IS NULL THEN NULL ELSE INTERVAL(coalesce({value}, 0), {', '.join(ends)}) END"


def count_buckets(connection: Connection, table: Name, column: ColumnFact, thresholds: Sequence[Value]) -> BucketCounts:
    """Counts the rows between sorted thresholds: one scan, whatever their number."""
    rows = connection.rows(f"SELECT {_bucket(column, thresholds)}, count(*) FROM {quoting.table(table)} GROUP BY 1")
    found = {None if bucket is None else int(bucket): int(count) for bucket, count in rows}
    return BucketCounts(tuple(found.get(bucket, 0) for bucket in range(len(thresholds) + 1)), found.get(None, 0))


def count_values(connection: Connection, table: Name, column: ColumnFact) -> dict[Value | None, int]:
    """Counts the rows of each value: one scan. Values that the collation calls equal are one."""
    name = identifier(column.name)
    rows = connection.rows(
        f"SELECT CAST(min({name}) AS CHAR), count(*) FROM {quoting.table(table)} GROUP BY {name} ORDER BY {name}"
    )
    return {_value_or_none(text, column.kind): int(count) for text, count in rows}


def count_leaves(connection: Connection, tree: Tree) -> dict[str, LeafCount]:
    """Exact rows and extremes of every leaf, by spelling. Each batch of leaves is its own transaction."""
    column = tree.key[0]
    counted: dict[str, LeafCount] = {}
    for first in range(0, len(tree.leaves), LEAVES_A_QUERY):
        batch = tree.leaves[first : first + LEAVES_A_QUERY]
        query = " UNION ALL ".join(
            f"SELECT {place}, count(*), {_extremes(column)} FROM {leaf_source(tree.table, leaf)}"
            for place, leaf in enumerate(batch)
        )
        with reading(connection, f"count the rows of {tree.spelling}"):
            rows = connection.rows(query)
        for place, count, low, high in rows:
            counted[batch[place].spelling] = LeafCount(int(count), _key(low, column.kind), _key(high, column.kind))
    return counted


def _extremes(column: KeyColumn) -> str:
    if column.name is None:
        return f"CAST(min({column.text}) AS CHAR), CAST(max({column.text}) AS CHAR)"
    return f"CAST(min({identifier(column.name)}) AS CHAR), CAST(max({identifier(column.name)}) AS CHAR)"


def _key(text: object, kind: Kind) -> Key | None:
    return None if text is None else (as_value(text, kind),)


def with_extremes(connection: Connection, tree: Tree) -> Tree:
    """The tree with the least and greatest key of each leaf, where an index that begins with the key gives them by two
    look-ups; the engine keeps none in its statistics.
    """
    column = tree.key[0]
    if column.name is None or len(tree.leaves) > _MOST_EXTREMES:
        return tree
    led = connection.row(
        "SELECT 1 FROM information_schema.statistics WHERE table_schema = %s AND table_name = %s AND column_name = %s "
        "AND seq_in_index = 1 AND index_type = 'BTREE' AND sub_part IS NULL LIMIT 1",
        (tree.table.schema, tree.table.table, column.name),
    )
    if led is None:
        return tree
    found: dict[str, tuple[Key | None, Key | None]] = {}
    for first in range(0, len(tree.leaves), LEAVES_A_QUERY):
        batch = tree.leaves[first : first + LEAVES_A_QUERY]
        query = " UNION ALL ".join(
            f"SELECT {place}, {_extremes(column)} FROM {leaf_source(tree.table, leaf)}"
            for place, leaf in enumerate(batch)
        )
        for place, low, high in connection.rows(query):
            found[batch[place].spelling] = (_key(low, column.kind), _key(high, column.kind))
    partitions = []
    for partition in tree.partitions:
        low, high = found.get(partition.spelling, (None, None))
        partitions.append(partition._replace(low=low, high=high))
    return replace(tree, partitions=tuple(partitions))


def count_rows(connection: Connection, table: Name) -> int:
    """Exact: one scan."""
    row = connection.row(f"SELECT count(*) FROM {quoting.table(table)}")
    return int(row[0]) if row else 0


def rows_of_leaves(connection: Connection, table: Name, leaves: Sequence[Partition]) -> dict[str, int]:
    """Exact, by the spelling of each leaf. Each batch of leaves is its own transaction."""
    counted: dict[str, int] = {}
    for first in range(0, len(leaves), LEAVES_A_QUERY):
        batch = leaves[first : first + LEAVES_A_QUERY]
        query = " UNION ALL ".join(
            f"SELECT {place}, count(*) FROM {leaf_source(table, leaf)}" for place, leaf in enumerate(batch)
        )
        with reading(connection, "count rows"):
            for place, count in connection.rows(query):
                counted[batch[place].spelling] = int(count)
    return counted


def any_rows(connection: Connection, sources: Sequence[str]) -> bool:
    """Whether one of these, as FROM names them, holds a row at all."""
    for first in range(0, len(sources), LEAVES_A_QUERY):
        tests = " OR ".join(
            f"EXISTS (SELECT 1 FROM {each} LIMIT 1)" for each in sources[first : first + LEAVES_A_QUERY]
        )
        with reading(connection, "look for rows"):
            row = connection.row(f"SELECT {tests}")
        if row and row[0]:
            return True
    return False


def count_catch_all(
    connection: Connection, source: str, key: tuple[str, ...], held: Sequence[Bounds | None]
) -> CatchAllCount:
    """The rows of a catch-all within each of the bounds: one scan for up to some two hundred of them.

    source  as FROM names it
    held    None for bounds that hold nothing
    Raises ValueError for bounds that cannot be written as a condition.
    """
    column = identifier(key[0])
    conditions = ["FALSE" if each is None else quoting.condition(each, key) for each in held]
    conditions += [f"{column} IS NULL", "TRUE"]
    parts = [
        f"count(CASE WHEN {test} THEN 1 END), CAST(min(CASE WHEN {test} THEN {column} END) AS CHAR), "
        f"CAST(max(CASE WHEN {test} THEN {column} END) AS CHAR)"
        for test in conditions
    ]
    found: list[FoundRows] = []
    for first in range(0, len(parts), 200):
        with reading(connection, "look through the catch-all"):
            row = connection.row(f"SELECT {', '.join(parts[first : first + 200])} FROM {source}")
        assert row is not None
        found += [FoundRows(*row[place : place + 3]) for place in range(0, len(row), 3)]
    *within, nulls, every = found
    return CatchAllCount(tuple(within), nulls, every)


def some_values(connection: Connection, source: str, column: ColumnFact, most: int) -> list[Value]:
    """Different values of a column, NULL left out, at most so many: one scan."""
    name = identifier(column.name)
    with reading(connection, "look through the catch-all"):
        rows = connection.rows(
            f"SELECT CAST(min({name}) AS CHAR) FROM {source} WHERE {name} IS NOT NULL GROUP BY {name} "
            f"ORDER BY {name} LIMIT {most:d}"
        )
    return [as_value(text, column.kind) for (text,) in rows]


def count_keys(
    connection: Connection, table: Name, columns: Sequence[ColumnFact]
) -> Iterator[tuple[list[list[str | None]], list[int]]]:
    """The different keys of a table with their rows: batches of (the texts of each column, rows). One scan."""
    names = ", ".join(identifier(column.name) for column in columns)
    texts = ", ".join(f"CAST(min({identifier(column.name)}) AS CHAR)" for column in columns)
    query = f"SELECT {texts}, count(*) FROM {quoting.table(table)} GROUP BY {names}"
    for rows in connection.streamed(query, KEYS_A_FETCH):
        *keys, counts = ([*column] for column in zip(*rows, strict=True))
        yield keys, [int(count) for count in counts]


def count_pairs(
    connection: Connection,
    table: Name,
    leading: ColumnFact,
    thresholds: Sequence[Value] | None,
    columns: Sequence[ColumnFact],
) -> Iterator[tuple[list[str | None], list[list[str | None]], list[int]]]:
    """Rows by a label and the values of columns: see `Counting.count_pairs`. One scan."""
    label = text_of(leading) if thresholds is None else f"CAST({_bucket(leading, thresholds)} AS CHAR)"
    texts = ", ".join(text_of(column) for column in columns)
    groups = ", ".join(str(place + 1) for place in range(len(columns) + 1))
    query = f"SELECT {label}, {texts}, count(*) FROM {quoting.table(table)} GROUP BY {groups}"
    for rows in connection.streamed(query, KEYS_A_FETCH):
        labels, *keys, counts = ([*column] for column in zip(*rows, strict=True))
        yield labels, keys, [int(count) for count in counts]


def sample(
    connection: Connection, table: Name, columns: Sequence[ColumnFact], percent: float
) -> dict[str, list[Value | None]]:
    """The values of every column in a sample of the rows, in the table's order. The server has no sample by blocks:
    every row is looked at, and a share of them is taken, the same each time.
    """
    texts = ", ".join(text_of(column) for column in columns)
    rows = connection.rows(f"SELECT {texts} FROM {quoting.table(table)} WHERE rand(1) < {percent / 100:.9f}")
    return {
        column.name: [_value_or_none(row[place], column.kind) for row in rows] for place, column in enumerate(columns)
    }


def routes(
    connection: Connection, tree: Tree, keys: Sequence[Sequence[str | None]], zone: ZoneInfo
) -> list[str | None]:
    """The leaf of each key, as the server itself prunes for a key that is given whole: one EXPLAIN each, which reads
    nothing. None where the server would refuse such a row.

    zone   where a TIMESTAMP without an offset is read
    Raises UsageError when a value does not fit its column.
    """
    columns = tree.routed_by
    known = {leaf.spelling for leaf in tree.leaves}
    found: list[str | None] = []
    with reading(connection, f"ask where keys of {tree.spelling} go"):
        for key in keys:
            tests = " AND ".join(
                f"{identifier(column.name or '')} <=> {_constant(text, column, zone)}"
                for text, column in zip(key, columns, strict=True)
            )
            rows = connection.rows(f"EXPLAIN PARTITIONS SELECT 1 FROM {quoting.table(tree.table)} WHERE {tests}")
            listed = [each for row in rows for each in str(row[3] or "").split(",") if each in known]
            found.append(listed[0] if len(listed) == 1 else None)
    return found


def _constant(text: str | None, column: KeyColumn, zone: ZoneInfo) -> str:
    if text is None:
        return "NULL"
    if column.kind is Kind.OTHER or text.startswith("0000-") or "-00" in text:
        return literal(text)  # the server reads it as it reads any text
    return quoting.value(parse_value(text, column.kind, zone))
