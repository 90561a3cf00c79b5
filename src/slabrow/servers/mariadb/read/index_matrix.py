"""Reads the indexes of a partitioned table: each is on every partition, or there is none."""

from __future__ import annotations

from dataclasses import replace

from pymysql import err

from slabrow.core.table.index_matrix import IndexFound, IndexMatrix, TablePart
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.read import catalogue


def index_matrix(connection: Connection, table: Name) -> IndexMatrix:
    """Bytes where the engine's statistics may be read. Raises UsageError for a table that is not partitioned."""
    tree = catalogue.tree(connection, table)
    rows = connection.rows(
        "SELECT index_name, min(non_unique), min(index_type), group_concat(coalesce(column_name, '') ORDER BY "
        "seq_in_index SEPARATOR '\x01') FROM information_schema.statistics "
        "WHERE table_schema = %s AND table_name = %s GROUP BY index_name",
        (tree.table.schema, tree.table.table),
    )
    sizes = _sizes(connection, tree.table)
    own = tuple(
        IndexFound(
            name=Name(tree.table.schema, name),
            table=tree.table,
            definition=f"USING {kind.lower()} ({', '.join(columns.split(chr(1)))})",
            columns=tuple(columns.split(chr(1))),
            is_unique=not non_unique,
            is_valid=True,
            constraint="p" if name == "PRIMARY" else "",
            attached_to=None,
            bytes=0,
        )
        for name, non_unique, kind, columns in rows
    )
    parts = [TablePart(tree.table, None, is_leaf=False, level=0)]
    names = {each.spelling: each.name for each in tree.partitions}
    for each in tree.partitions:
        above = names.get(each.parent, tree.table)
        parts.append(TablePart(each.name, above, is_leaf=each.is_leaf, level=1 if above == tree.table else 2))
    # Within a partition, names of its own parts may be those of other partitions: each has all indexes all the same.
    on_parts = tuple(
        replace(index, table=part.name, attached_to=index.name, bytes=sizes.get((spelling, index.name.table), 0))
        for spelling, part in zip((each.spelling for each in tree.partitions), parts[1:], strict=True)
        for index in own
    )
    return IndexMatrix(tree.table, tuple(parts), own + on_parts)


def _sizes(connection: Connection, table: Name) -> dict[tuple[str, str], int]:
    """By a leaf's spelling and an index: the engine calls them `table#P#partition#SP#part`."""
    like = table.table.replace("\\", "\\\\").replace("_", "\\_").replace("%", "\\%") + "#P#%"
    try:
        rows = connection.rows(
            "SELECT table_name, index_name, stat_value * @@innodb_page_size FROM mysql.innodb_index_stats "
            "WHERE database_name = %s AND table_name LIKE %s AND stat_name = 'size'",
            (table.schema, like),
        )
    except err.MySQLError:  # without the right on `mysql`
        return {}
    return {(name[len(table.table) + 3 :].replace("#SP#", "_"), index): int(size) for name, index, size in rows}
