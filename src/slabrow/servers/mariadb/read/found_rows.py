"""Reads which partitions hold the rows that satisfy a condition, and some rows of one partition."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

from slabrow.core.table.counted import FoundRows
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.connection import Connection, reading
from slabrow.servers.mariadb.quoting import identifier, literal
from slabrow.servers.mariadb.read import catalogue
from slabrow.servers.mariadb.read.row_counts import leaf_source


def query_of(tree: Tree, condition: str) -> str:
    """One query with an arm for each leaf: the server has no column that tells the partition of a row. It leaves out
    the arms in which no such row can be.
    """
    column = tree.key[0]
    key = identifier(column.name) if column.name is not None else column.text
    return " UNION ALL ".join(
        f"SELECT {literal(leaf.spelling)}, count(*), CAST(min({key}) AS CHAR), CAST(max({key}) AS CHAR) "
        f"FROM {leaf_source(tree.table, leaf)} WHERE ({condition}) HAVING count(*) > 0"
        for leaf in tree.leaves
    )


def rows_where(connection: Connection, query: str, doing: str) -> dict[str, FoundRows]:
    """The rows of each partition that has any, by its spelling."""
    with reading(connection, doing):
        rows = connection.rows(query)
    return {_text(spelling): FoundRows(int(count), _text(low), _text(high)) for spelling, count, low, high in rows}


def _text(value: Any) -> Any:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else value


def leaf_named(connection: Connection, name: Name) -> tuple[Name, str] | None:
    """The table that has a partition of that name, and that name; None when there is none.

    Partitions of several tables may be called the same. Raises UsageError then.
    """
    database = name.schema or connection.database
    rows = connection.rows(
        "SELECT DISTINCT table_schema, table_name FROM information_schema.partitions WHERE table_schema = %s "
        "AND (partition_name = %s OR subpartition_name = %s OR concat(partition_name, '_', subpartition_name) = %s)",
        (database, name.table, name.table, name.table),
    )
    if len(rows) > 1:
        tables = ", ".join(str(Name(*row)) for row in rows)
        raise UsageError(
            f"several tables have a partition {name.table}",
            found=f"they are {tables}",
            fix="tell the server's own client which one is meant; layouts name partitions after their table",
        )
    return (Name(*rows[0]), name.table) if rows else None


def first_rows(connection: Connection, name: Name, most: int) -> tuple[tuple[str, ...], list[list[Any]]]:
    """Columns and some rows of a table, or of a partition, as JSON has the values."""
    with reading(connection, f"read {name}"):
        root = None if catalogue.exists(connection, name) else leaf_named(connection, name)
        found = catalogue.relation(connection, root[0] if root is not None else name)
        columns = tuple(column.name for column in catalogue.columns(connection, found))
        part = (
            ""
            if root is None
            else f" PARTITION ({identifier(root[1].rsplit('_', 1)[-1] if _is_sub(connection, root) else root[1])})"
        )
        rows = connection.rows(f"SELECT * FROM {quoting.table(found.name)}{part} LIMIT {most:d}")
    return columns, [[_plain(value) for value in row] for row in rows]


def _is_sub(connection: Connection, root: tuple[Name, str]) -> bool:
    """Whether a name is that of a sub-partition behind its partition's."""
    row = connection.row(
        "SELECT 1 FROM information_schema.partitions WHERE table_schema = %s AND table_name = %s "
        "AND concat(partition_name, '_', subpartition_name) = %s AND partition_name <> %s",
        (root[0].schema, root[0].table, root[1], root[1]),
    )
    return row is not None


def _plain(value: Any) -> Any:
    match value:
        case datetime():
            return value.isoformat(sep="T")
        case date() | time():
            return value.isoformat()
        case timedelta():
            return str(value)
        case Decimal():
            return float(value)
        case bytes():
            return "0x" + value.hex()
    return value
