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


_QUERY = """
    SELECT p.reltuples, coalesce((SELECT sum(greatest(c.reltuples, 0)) FROM pg_partition_tree(%(oid)s) t
                         JOIN pg_class c ON c.oid = t.relid WHERE t.isleaf), 0),
           s.last_analyze,
           (SELECT max(greatest(l.last_analyze, l.last_autoanalyze)) FROM pg_partition_tree(%(oid)s) t
            JOIN pg_stat_all_tables l ON l.relid = t.relid WHERE t.isleaf),
           (st.bounds)[1], (st.bounds)[cardinality(st.bounds)]
    FROM pg_class p JOIN pg_namespace n ON n.oid = p.relnamespace
    LEFT JOIN pg_stat_all_tables s ON s.relid = p.oid
    LEFT JOIN LATERAL (SELECT histogram_bounds::text::text[] AS bounds FROM pg_stats
                       WHERE schemaname = n.nspname AND tablename = p.relname AND attname = %(key)s AND inherited) st
        ON true
    WHERE p.oid = %(oid)s"""
