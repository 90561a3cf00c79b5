"""Reads what the planner knows of a partitioned table as a whole, and what it knows of its leaves."""

from slabrow.core.statistics.parent_statistics import ParentStatistics
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import SlabrowError
from slabrow.core.values.key_values import order, parse_value
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue


def parent_statistics(connection: Connection, tree: Tree) -> ParentStatistics:
    """Of one table, in one query."""
    with reading(connection):
        found = catalogue.relation(connection, tree.table)
        row = connection.execute(_QUERY, {"oid": found.identity, "key": tree.key[0].name or ""}).fetchall()[0]
    rows, leaf_rows, analysed, leaves_analysed, low, high = row
    came, left = _beyond(tree, low, high)
    return ParentStatistics(
        rows=None if rows < 0 else round(rows),
        leaf_rows=round(leaf_rows),
        analysed=analysed,
        leaves_analysed=leaves_analysed,
        came=came,
        left=left,
    )


def _beyond(tree: Tree, low: str | None, high: str | None) -> tuple[bool, bool]:
    """Whether a partition with rows lies beyond the greatest value known, and whether the least lies below them all."""
    holding = [bounds for child, bounds in tree.ranges if child.rows]
    if low is None or high is None or not holding or (tree.catch_all is not None and tree.catch_all.rows):
        return False, False
    try:
        least, greatest = ((parse_value(text, tree.kinds[0]),) for text in (low, high))
        came = any(each.from_ is not None and order(greatest) < order(each.from_[:1]) for each in holding)
        first = holding[0].from_
        return came, first is not None and order(least) < order(first[:1])
    except (SlabrowError, TypeError):  # values without a known order tell nothing
        return False, False


# Not by pg_partition_tree(): that locks every partition, and thousands do not fit into the server's lock table.
_QUERY = """
    WITH RECURSIVE part AS (
        SELECT i.inhrelid AS relid FROM pg_inherits i WHERE i.inhparent = %(oid)s
        UNION ALL SELECT i.inhrelid FROM part p JOIN pg_inherits i ON i.inhparent = p.relid),
    leaves AS (
        SELECT sum(greatest(c.reltuples, 0)) AS rows,
               max(greatest(pg_stat_get_last_analyze_time(c.oid), pg_stat_get_last_autoanalyze_time(c.oid))) AS analysed
        FROM part t JOIN pg_class c ON c.oid = t.relid WHERE c.relkind <> 'p')
    SELECT p.reltuples, coalesce(l.rows, 0), pg_stat_get_last_analyze_time(p.oid), l.analysed,
           (st.bounds)[1], (st.bounds)[cardinality(st.bounds)]
    FROM pg_class p JOIN pg_namespace n ON n.oid = p.relnamespace CROSS JOIN leaves l
    LEFT JOIN LATERAL (SELECT histogram_bounds::text::text[] AS bounds FROM pg_stats
                       WHERE schemaname = n.nspname AND tablename = p.relname AND attname = %(key)s AND inherited) st
        ON true
    WHERE p.oid = %(oid)s"""
