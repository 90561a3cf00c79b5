"""Every table of a database at a glance: a few queries, whatever the number of tables."""

from __future__ import annotations

from datetime import datetime

from slabrow.core.statistics.glance import Glance, Overview, Parts
from slabrow.core.table.bounds import CatchAll, Range
from slabrow.core.table.tree import Tree
from slabrow.core.values.key_values import as_moment
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.family import TRAITS
from slabrow.servers.mariadb.read import catalogue
from slabrow.servers.mariadb.read.counters import OFF, Counters, counters

_FEW = 200  # partitioned tables of which the bounds are read, one SHOW CREATE each


def overview(connection: Connection, now: datetime) -> Overview:
    """Of the tables of the database that the user may read."""
    rows = connection.rows(
        "SELECT table_schema, table_name, create_options, table_rows, data_length, index_length, update_time "
        "FROM information_schema.tables WHERE table_type = 'BASE TABLE' AND table_schema "
        + ("= %s" if connection.database else "NOT IN %s"),
        (connection.database or catalogue.SYSTEM,),
    )
    names = [Name(row[0], row[1]) for row in rows if "partitioned" in (row[2] or "")]
    trees = catalogue.trees(connection, names[:_FEW], with_sizes=True)
    counted = counters(connection)
    tables = []
    for schema, table, options, count, heap, index, _ in rows:
        name = Name(schema, table)
        # A table that nobody has touched since the counters began has none.
        seen = None if counted is None else counted.get(name, Counters())
        tables.append(
            Glance(
                name=name,
                spelling=catalogue.spelling(connection, name),
                rows=None if count is None else int(count),
                heap_bytes=int(heap or 0),
                index_bytes=int(index or 0),
                ageing=None,
                growth=None,
                scanned=None if seen is None else seen.scanned,
                fetched=None if seen is None else seen.fetched,
                written=None if seen is None else seen.written,
                parts=_parts(trees.get(name), int(count or 0)) if "partitioned" in (options or "") else None,
            )
        )
    row = connection.row("SELECT @@innodb_buffer_pool_size")
    return Overview(
        database=connection.database,
        tables=tuple(sorted(tables, key=lambda each: -each.bytes)),
        hidden=0,
        cache_bytes=int(row[0]) if row else 0,
        since=None,
        now=now,
        analyse=TRAITS.analyse,
        uncounted=OFF if counted is None else "",
    )


def _parts(tree: Tree | None, rows: int) -> Parts:
    begins: list[datetime] = []
    ends: list[datetime] = []
    caught = 0
    for child in tree.children if tree is not None else ():
        if isinstance(child.bounds, CatchAll):
            caught += sum(leaf.rows or 0 for leaf in tree.leaves_of(child)) if tree is not None else 0
        if isinstance(child.bounds, Range):
            for key, found in ((child.bounds.from_, begins), (child.bounds.to, ends)):
                if key and (moment := as_moment(key[0])) is not None:
                    found.append(moment)
    return Parts(
        leaves=len(tree.leaves) if tree is not None else 0,
        by="" if tree is None else f"{tree.by} ({', '.join(column.text for column in tree.key)})",
        oldest=min(begins, default=None),
        ends=max(ends, default=None),
        catch_all_rows=caught,
        statistics_rows=rows,
        unanalysed=0,
    )
