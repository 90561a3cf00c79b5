"""Reads which partitions hold the rows that satisfy a condition, and some rows of one partition."""

import json
from typing import Any

from slabrow.core.table.counted import FoundRows
from slabrow.core.table.tree import Tree
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue

_WITHOUT_ORDER = (Kind.UUID, Kind.BOOL, Kind.OTHER)  # the server has no min() for some of these


def query_of(tree: Tree, condition: str) -> str:
    """The one query that is asked. Partitions that cannot hold such rows are pruned as in any other."""
    column = tree.key[0]
    ends = "NULL, NULL"
    if column.name is not None and column.kind not in _WITHOUT_ORDER:
        key = quoting.identifier(column.name)
        ends = f"min({key})::text, max({key})::text"
    table = quoting.table(tree.table)
    return f"SELECT tableoid::regclass::text, count(*), {ends} FROM {table} WHERE ({condition}) GROUP BY 1 ORDER BY 1"


def rows_where(connection: Connection, query: str, doing: str) -> dict[str, FoundRows]:
    """The rows of each partition that has any, by its spelling."""
    with reading(connection, doing):
        rows = connection.execute(query.encode()).fetchall()
    return {spelling: FoundRows(count, low, high) for spelling, count, low, high in rows}


def first_rows(connection: Connection, name: Name, most: int) -> tuple[tuple[str, ...], list[list[Any]]]:
    """Columns and some rows of a table, as JSON has the values."""
    with reading(connection, f"read {name}"):
        found = catalogue.relation(connection, name)
        columns = tuple(column.name for column in catalogue.columns(connection, found))
        rows = connection.execute(
            # Without parameters: a percent sign in a name is no placeholder then.
            f"SELECT row_to_json(r)::text FROM {quoting.table(found.name)} r LIMIT {most:d}".encode()
        ).fetchall()
    return columns, [[json.loads(text)[column] for column in columns] for (text,) in rows]
