"""Every table of a database at a glance: four queries of the catalogue, whatever the number of tables."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.glance import Glance, Overview, Parts
from slabrow.core.statistics.row_growth import Growth, growth
from slabrow.core.table.bounds import CatchAll, Range
from slabrow.core.table.tree import Tree
from slabrow.core.values.key_values import as_moment, kind_of, parse_value
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.family import TRAITS
from slabrow.servers.postgresql.read import upkeep
from slabrow.servers.postgresql.read.facts import cache_bytes

_LEAST_CORRELATION = 0.5


def overview(connection: Connection, now: datetime) -> Overview:
    """Of the tables that the role may read; the others are counted. Nothing is locked that writers need."""
    rows = connection.execute(_TABLES.encode()).fetchall()
    readable = [row for row in rows if row[-1]]
    ageing = _ageing(connection)
    names = [Name(schema, table) for schema, table, _, kind, *_ in readable if kind == "p"]
    trees: dict[Name, Tree] = {}
    for part in upkeep.trees_in_parts(connection, names, with_sizes=False):
        trees.update(part())
    tables = tuple(_glance(row, ageing, trees, now) for row in readable)
    since = connection.execute(
        "SELECT current_database(), coalesce(stats_reset, pg_postmaster_start_time()) FROM pg_stat_database "
        "WHERE datname = current_database()"
    ).fetchone()
    assert since is not None
    return Overview(
        database=since[0],
        tables=tuple(sorted(tables, key=lambda each: -each.bytes)),
        hidden=len(rows) - len(readable),
        cache_bytes=cache_bytes(connection),
        since=since[1],
        now=now,
        analyse=TRAITS.analyse,
    )


def _glance(
    row: tuple[Any, ...], ageing: Mapping[int, list[ColumnStatistics]], trees: Mapping[Name, Tree], now: datetime
) -> Glance:
    schema, table, spelling, kind, oid, own_rows, rows, leaves, unanalysed, heap, index, *counters, _ = row
    scanned, fetched, written = map(int, counters)
    name = Name(schema, table)
    known = None if rows is None or rows < 0 else round(rows)
    tree = trees.get(name)
    column, grows = _growth(ageing.get(oid, []), tree.key[0].name if tree is not None else None, known, now)
    parts = None
    if kind == "p":
        parts = _parts(tree, leaves, None if own_rows < 0 else round(own_rows), unanalysed)
    return Glance(
        name=name,
        spelling=spelling,
        rows=known,
        heap_bytes=int(heap),
        index_bytes=int(index),
        ageing=column,
        growth=grows,
        scanned=scanned,
        fetched=fetched,
        written=written,
        parts=parts,
    )


def _growth(
    columns: list[ColumnStatistics], key: str | None, rows: int | None, now: datetime
) -> tuple[str | None, Growth | None]:
    """Along the key, where it is a time; else the time column that follows the order of the rows most closely."""
    best = next((each for each in columns if each.name == key), None)
    best = best or max(columns, key=lambda each: each.correlation or 0.0, default=None)
    if best is None or (best.name != key and (best.correlation or 0.0) < _LEAST_CORRELATION):
        return None, None
    return best.name, growth(best.name, best, rows or 0, now) if rows else None


def _parts(tree: Tree | None, leaves: int, own_rows: int | None, unanalysed: int) -> Parts:
    begins: list[datetime] = []
    ends: list[datetime] = []
    caught = 0
    for child in tree.partitions if tree is not None else ():
        if isinstance(child.bounds, CatchAll):
            caught += child.rows or 0
        if child.parent == (tree.spelling if tree else "") and isinstance(child.bounds, Range):
            for key, found in ((child.bounds.from_, begins), (child.bounds.to, ends)):
                if key and (moment := as_moment(key[0])) is not None:
                    found.append(moment)
    by = "" if tree is None else f"{tree.by} ({', '.join(column.text for column in tree.key)})"
    return Parts(
        leaves=leaves,
        by=by,
        oldest=min(begins, default=None),
        ends=max(ends, default=None),
        catch_all_rows=caught,
        statistics_rows=own_rows,
        unanalysed=unanalysed,
    )


def _ageing(connection: Connection) -> dict[int, list[ColumnStatistics]]:
    """Time columns with their histograms, by the oid of their table. Of a partitioned one the whole's statistics."""
    found: dict[int, list[ColumnStatistics]] = {}
    for oid, name, type_name, nulls, distinct, histogram, correlation in connection.execute(_TIMES.encode()).fetchall():
        kind = kind_of(type_name)
        bounds = tuple(parse_value(text, kind) for text in histogram or ())
        found.setdefault(oid, []).append(
            ColumnStatistics(name, nulls, distinct if distinct >= 0 else None, (), bounds, correlation)
        )
    return found


# The bytes of an analysed table are told from its pages in the catalogue: looking at its files would wait for whoever
# rewrites the table.
_BYTES = (
    "CASE WHEN c.relpages > 0 THEN c.relpages::bigint * current_setting('block_size')::int "
    "ELSE pg_relation_size(c.oid) END"
)
_TABLES = f"""
    WITH RECURSIVE root AS (
        SELECT c.oid, c.relname, n.nspname, c.relkind, c.reltuples
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE c.relkind IN ('r', 'p', 'm') AND NOT c.relispartition AND c.relpersistence <> 't'
              AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'),
    below AS (
        SELECT oid AS root, oid AS relid FROM root
        UNION ALL SELECT b.root, i.inhrelid FROM below b JOIN pg_inherits i ON i.inhparent = b.relid
                  JOIN pg_class k ON k.oid = b.relid AND k.relkind = 'p'),
    heap AS (
        SELECT b.root, sum(CASE WHEN c.reltuples >= 0 THEN c.reltuples END) AS rows,
               count(*) AS leaves, count(*) FILTER (WHERE c.reltuples < 0 AND {_BYTES} > 0) AS unanalysed,
               sum({_BYTES}) AS bytes,
               sum(pg_stat_get_tuples_returned(c.oid)) AS scanned, sum(pg_stat_get_tuples_fetched(c.oid)) AS fetched,
               sum(pg_stat_get_tuples_inserted(c.oid) + pg_stat_get_tuples_updated(c.oid)
                   + pg_stat_get_tuples_deleted(c.oid)) AS written
        FROM below b JOIN pg_class c ON c.oid = b.relid WHERE c.relkind IN ('r', 'm') GROUP BY 1),
    indexes AS (
        SELECT b.root, sum({_BYTES}) AS bytes
        FROM below b JOIN pg_index x ON x.indrelid = b.relid JOIN pg_class c ON c.oid = x.indexrelid
        WHERE c.relkind = 'i' GROUP BY 1)
    SELECT r.nspname, r.relname, r.oid::regclass::text, r.relkind, r.oid, r.reltuples, h.rows,
           coalesce(h.leaves, 0), coalesce(h.unanalysed, 0), coalesce(h.bytes, 0), coalesce(i.bytes, 0),
           coalesce(h.scanned, 0), coalesce(h.fetched, 0), coalesce(h.written, 0),
           has_schema_privilege(r.nspname, 'USAGE') AND (has_table_privilege(r.oid, 'SELECT')
               OR has_any_column_privilege(r.oid, 'SELECT')) AS readable
    FROM root r LEFT JOIN heap h ON h.root = r.oid LEFT JOIN indexes i ON i.root = r.oid"""
_TIMES = """
    SELECT c.oid, s.attname, format_type(a.atttypid, a.atttypmod), s.null_frac, s.n_distinct,
           s.histogram_bounds::text::text[], s.correlation
    FROM pg_stats s JOIN pg_namespace n ON n.nspname = s.schemaname
         JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = s.tablename
         JOIN pg_attribute a ON a.attrelid = c.oid AND a.attname = s.attname
    WHERE a.atttypid IN ('date'::regtype, 'timestamp'::regtype, 'timestamptz'::regtype) AND NOT c.relispartition
          AND s.inherited = (c.relkind = 'p') AND n.nspname !~ '^pg_'"""
