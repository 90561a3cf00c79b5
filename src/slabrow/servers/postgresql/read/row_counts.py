"""Reads rows rather than the catalogue: extremes, counts by bounds and by value, exact censuses, hash routes."""

from collections.abc import Iterator, Sequence

from slabrow.core.table.bounds import Bounds
from slabrow.core.table.counted import BucketCounts, CatchAllCount, Extent, FoundRows, LeafCount
from slabrow.core.table.relation import ColumnFact
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.values.key_values import Edge, Far, Key, Kind, Value, kind_of, parse_value
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.quoting import identifier, literal


def extent(connection: Connection, table: Name, column: ColumnFact) -> Extent:
    """Exact. Where the column cannot be NULL this is two index look-ups, else one scan."""
    name = identifier(column.name)
    nulls = "0" if column.not_null else f"(SELECT count(*) FROM {quoting.table(table)} WHERE {name} IS NULL)"
    row = connection.execute(
        f"SELECT min({name})::text, max({name})::text, {nulls} FROM {quoting.table(table)}"
    ).fetchone()
    low, high, missing = row or (None, None, 0)
    found = Extent(
        None if low is None else parse_value(low, column.kind),
        None if high is None else parse_value(high, column.kind),
        missing,
    )
    if not isinstance(found.low, Edge | Far) and not isinstance(found.high, Edge | Far):
        return found
    within = f"isfinite({name}) AND {name} >= '0001-01-02' AND {name} < '9999-12-31'"
    ends = ", ".join(f"({end}({name}) FILTER (WHERE {within}))::text" for end in ("min", "max"))
    row = connection.execute(
        f"SELECT {ends}, count(*) FILTER (WHERE NOT ({within})) FROM {quoting.table(table)}".encode()
    ).fetchone()
    low, high, beyond = row or (None, None, 0)
    return Extent(
        None if low is None else parse_value(low, column.kind),
        None if high is None else parse_value(high, column.kind),
        missing,
        beyond,
    )


def count_buckets(connection: Connection, table: Name, column: ColumnFact, thresholds: Sequence[Value]) -> BucketCounts:
    """Counts the rows between sorted thresholds: one scan, whatever their number."""
    name = identifier(column.name)
    array = quoting.array([quoting.value(each) for each in thresholds], column.type_name)
    rows = connection.execute(
        f"SELECT width_bucket({name}, {array}), count(*) FROM {quoting.table(table)} GROUP BY 1"
    ).fetchall()
    found: dict[int | None, int] = dict(rows)
    return BucketCounts(tuple(found.get(bucket, 0) for bucket in range(len(thresholds) + 1)), found.get(None, 0))


def count_values(connection: Connection, table: Name, column: ColumnFact) -> dict[Value | None, int]:
    """Counts the rows of each value: one scan."""
    name = identifier(column.name)
    rows = connection.execute(
        f"SELECT {name}::text, count(*) FROM {quoting.table(table)} GROUP BY {name} ORDER BY {name}"
    ).fetchall()
    return {None if text is None else parse_value(text, column.kind): count for text, count in rows}


# A query on the parent would lock every partition with all its indexes at once; this many leaves, named one by one,
# stay far below the default lock table.
LEAVES_A_QUERY = 200
KEYS_A_FETCH = 50_000


def count_leaves(connection: Connection, tree: Tree) -> dict[str, LeafCount]:
    """Exact rows and extremes of every leaf, by spelling. Each batch of leaves is its own transaction."""
    column = tree.key[0]
    counted: dict[str, LeafCount] = {}
    leaves = tree.leaves
    for first in range(0, len(leaves), LEAVES_A_QUERY):
        batch = leaves[first : first + LEAVES_A_QUERY]
        query = "\nUNION ALL ".join(_count_of(place, leaf, column.name) for place, leaf in enumerate(batch))
        with reading(connection, f"count the rows of {tree.spelling}"):
            rows = connection.execute(query).fetchall()
        for place, count, low, high in rows:
            counted[batch[place].spelling] = LeafCount(count, _key(low, column.kind), _key(high, column.kind))
    return counted


def _count_of(place: int, leaf: Partition, column: str | None) -> str:
    extremes = f"min({identifier(column)})::text, max({identifier(column)})::text" if column else "NULL, NULL"
    return f"SELECT {place}, count(*), {extremes} FROM ONLY {quoting.table(leaf.name)}"


def _key(text: str | None, kind: Kind) -> Key | None:
    return None if text is None else (parse_value(text, kind),)


def hash_routes(connection: Connection, tree: Tree, keys: Sequence[Sequence[str | None]]) -> list[str | None]:
    """For each key (its columns as text, None for NULL) the hash partition that the server picks: one query.

    Asked with satisfies_hash_partition(), the function behind every hash partition's own constraint.
    """
    if not keys:
        return []
    names = [f"k{place}" for place in range(len(tree.key))]
    values = ", ".join(
        "(" + ", ".join([str(place), *("NULL" if text is None else literal(text) for text in key)]) + ")"
        for place, key in enumerate(keys)
    )
    casts = ", ".join(f"v.{name}::{column.type_name}" for name, column in zip(names, tree.key, strict=True))
    tests = "\nUNION ALL ".join(
        f"SELECT v.place, {number} FROM v WHERE satisfies_hash_partition({literal(str(tree.table))}::regclass, "
        f"{child.bounds.modulus}, {child.bounds.remainder}, {casts})"  # type: ignore[union-attr]
        for number, child in enumerate(tree.children)
    )
    rows = connection.execute(f"WITH v (place, {', '.join(names)}) AS (VALUES {values}) {tests}").fetchall()
    homes: dict[int, int] = dict(rows)
    return [tree.children[homes[place]].spelling if place in homes else None for place in range(len(keys))]


def count_rows(connection: Connection, table: Name) -> int:
    """Exact: one scan."""
    row = connection.execute(f"SELECT count(*) FROM {quoting.table(table)}").fetchone()
    return int(row[0]) if row else 0


def rows_of_leaves(connection: Connection, leaves: Sequence[Partition]) -> dict[str, int]:
    """Exact, by the spelling of each leaf: one scan of all. Each batch of leaves is its own transaction."""
    counted: dict[str, int] = {}
    for first in range(0, len(leaves), LEAVES_A_QUERY):
        batch = leaves[first : first + LEAVES_A_QUERY]
        counts = ", ".join(f"(SELECT count(*) FROM ONLY {quoting.table(each.name)})" for each in batch)
        with reading(connection, "count rows"):
            row = connection.execute(f"SELECT {counts}".encode()).fetchone()
        assert row is not None
        counted |= {leaf.spelling: rows for leaf, rows in zip(batch, row, strict=True)}
    return counted


def any_rows(connection: Connection, tables: Sequence[Name]) -> bool:
    """Whether one of the tables holds a row at all. Each batch of tables is its own transaction."""
    for first in range(0, len(tables), LEAVES_A_QUERY):
        tests = " OR ".join(
            f"EXISTS (SELECT FROM ONLY {quoting.table(each)})" for each in tables[first : first + LEAVES_A_QUERY]
        )
        with reading(connection, "look for rows"):
            row = connection.execute(f"SELECT {tests}").fetchone()
        if row and row[0]:
            return True
    return False


def heap_blocks(connection: Connection, tables: Sequence[Name]) -> tuple[tuple[Name, int], ...] | None:
    """The blocks of each table; None when one is not a heap, whose rows alone have the server's ctid and xmin."""
    names = [quoting.table(each) for each in tables]
    with reading(connection, "look through the catch-all"):
        rows = connection.execute(
            """SELECT c.relkind = 'r' AND a.amname = 'heap',
                      pg_relation_size(c.oid) / current_setting('block_size')::int
               FROM unnest(%s::text[]) WITH ORDINALITY w (name, place) JOIN pg_class c ON c.oid = w.name::regclass
               LEFT JOIN pg_am a ON a.oid = c.relam ORDER BY w.place""",
            [names],
        ).fetchall()
    if not all(is_heap for is_heap, _ in rows):
        return None
    return tuple((table, size) for table, (_, size) in zip(tables, rows, strict=True))


def count_catch_all(
    connection: Connection, catch_all: Name, key: tuple[str, ...], held: Sequence[Bounds | None]
) -> CatchAllCount:
    """The rows of a catch-all within each of the bounds: one scan for up to some two hundred of them.

    key    the columns of the key, in which the bounds are written
    held   None for bounds that hold nothing
    Raises ValueError for bounds that cannot be written as a condition.
    """
    column = identifier(key[0])
    conditions = ["false" if each is None else quoting.condition(each, key) for each in held]
    conditions += [f"{column} IS NULL", "true"]
    kinds = (("count(*)", ""), (f"min({column})", "::text"), (f"max({column})", "::text"))
    parts = [", ".join(f"({what} FILTER (WHERE {test})){cast}" for what, cast in kinds) for test in conditions]
    found: list[FoundRows] = []
    for first in range(0, len(parts), 200):
        with reading(connection, "look through the catch-all"):
            row = connection.execute(
                f"SELECT {', '.join(parts[first : first + 200])} FROM {quoting.table(catch_all)}".encode()
            ).fetchone()
        assert row is not None
        found += [FoundRows(*row[place : place + 3]) for place in range(0, len(row), 3)]
    *within, nulls, every = found
    return CatchAllCount(tuple(within), nulls, every)


def some_values(connection: Connection, table: Name, column: ColumnFact, most: int) -> list[Value]:
    """Different values of a column, NULL left out, at most so many: one scan."""
    name = identifier(column.name)
    with reading(connection, "look through the catch-all"):
        rows = connection.execute(
            f"SELECT DISTINCT {name}::text FROM {quoting.table(table)} WHERE {name} IS NOT NULL "
            f"ORDER BY 1 LIMIT {most:d}".encode()
        ).fetchall()
    kind = kind_of(column.type_name)
    return [parse_value(text, kind) for (text,) in rows]


def moving_obstacle(connection: Connection, parent: Name, catch_all: Name) -> str | None:
    """Why rows cannot be moved out of a catch-all by DELETE and INSERT without side effects; None when they can."""
    with reading(connection, "look for triggers and foreign keys"):
        trigger = connection.execute(
            # Slabrow's own only record which rows changed: they have to hear of rows that move too.
            "SELECT tgname FROM pg_trigger WHERE tgrelid = %s::regclass AND NOT tgisinternal AND tgenabled <> 'D' "
            "AND tgname !~ '^slabrow_(log|back)'",
            [quoting.table(catch_all)],
        ).fetchone()
        foreign = connection.execute(
            "SELECT conname, conrelid::regclass::text FROM pg_constraint "
            "WHERE contype = 'f' AND confrelid = %s::regclass",
            [quoting.table(parent)],
        ).fetchone()
    if trigger is not None:
        return f"its trigger {trigger[0]} would fire for each row that moves"
    if foreign is not None:
        return f"the foreign key {foreign[0]} of {foreign[1]} points at its rows"
    return None


def count_keys(
    connection: Connection, table: Name, columns: Sequence[ColumnFact]
) -> Iterator[tuple[list[list[str | None]], list[int]]]:
    """The different keys of a table with their rows: batches of (the texts of each column, rows). One scan.

    Read through a cursor on the server, so that memory stays constant; call it within `connection.reading`.
    """
    names = ", ".join(identifier(column.name) for column in columns)
    texts = ", ".join(f"{identifier(column.name)}::text" for column in columns)
    query = f"SELECT {texts}, count(*) FROM {quoting.table(table)} GROUP BY {names}"
    with connection.cursor("slabrow_keys") as cursor:
        cursor.execute(query.encode())
        while rows := cursor.fetchmany(KEYS_A_FETCH):
            *keys, counts = ([*column] for column in zip(*rows, strict=True))
            yield keys, counts


def _text_sql(column: ColumnFact) -> str:
    return f"{identifier(column.name)}::text"


def count_pairs(
    connection: Connection,
    table: Name,
    leading: ColumnFact,
    thresholds: Sequence[Value] | None,
    columns: Sequence[ColumnFact],
) -> Iterator[tuple[list[str | None], list[list[str | None]], list[int]]]:
    """Rows by a label and the values of columns: batches of (labels, texts of each column, rows). One scan.

    leading      the column that the label is of
    thresholds   None: the label is the value's text. Else it is the number of the range between the thresholds, 0
                 below the first one. The label of a NULL is None
    Read through a cursor on the server, so that memory stays constant; call it within `reading`.
    """
    label = _text_sql(leading)
    if thresholds is not None:
        array = quoting.array([quoting.value(each) for each in thresholds], leading.type_name)
        label = f"width_bucket({identifier(leading.name)}, {array})::text"
    texts = ", ".join(_text_sql(column) for column in columns)
    groups = ", ".join(str(place + 1) for place in range(len(columns) + 1))
    with connection.cursor("slabrow_pairs") as cursor:
        query = f"SELECT {label}, {texts}, count(*) FROM {quoting.table(table)} GROUP BY {groups}"
        cursor.execute(query.encode())
        while rows := cursor.fetchmany(KEYS_A_FETCH):
            labels, *keys, counts = ([*column] for column in zip(*rows, strict=True))
            yield labels, keys, counts


def sample(
    connection: Connection, table: Name, columns: Sequence[ColumnFact], percent: float
) -> dict[str, list[Value | None]]:
    """The values of every column in a sample of the table's blocks, in the table's order (TABLESAMPLE SYSTEM)."""
    texts = ", ".join(_text_sql(column) for column in columns)
    rows = connection.execute(
        f"SELECT {texts} FROM {quoting.table(table)} TABLESAMPLE SYSTEM ({percent}) REPEATABLE (1)"
    ).fetchall()
    return {
        column.name: [None if row[place] is None else parse_value(row[place], column.kind) for row in rows]
        for place, column in enumerate(columns)
    }
