"""Reads from the catalogue what weighing needs to know of a table: a few queries, whatever its size."""

from dataclasses import replace

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.relation import IndexShape, Relation
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.read import catalogue


def table_facts(connection: Connection, name: Name) -> TableFacts:
    """Raises ServerError when there is no such table, it holds no rows of its own, or was never analysed."""
    found = catalogue.relation(connection, name)
    if not found.kind.holds_rows:
        raise UsageError(f"{found.spelling} cannot be weighed", found=f"it is a {found.kind}", fix="name a table")
    found, _ = catalogue.whole(connection, found)
    rows, heap, indexes = found.rows, found.heap_bytes + found.toast_bytes, found.index_bytes
    if not found.is_partitioned:
        heap = found.heap_bytes
    statistics = catalogue.column_statistics(connection, found)
    if found.is_partitioned:
        statistics = _in_leaves(connection, found, statistics)
    columns = catalogue.columns(connection, found)
    if rows is None or (rows > 0 and not statistics):
        raise ServerError(
            f"nothing is known of the rows of {found.spelling}",
            found="it has never been analysed" if rows is None else "the role may not read its columns' statistics",
            fix=f"run ANALYZE {found.spelling}" if rows is None else f"GRANT SELECT ON {found.spelling} TO the role",
        )
    return TableFacts(
        name=found.name,
        spelling=found.spelling,
        rows=rows,
        heap_bytes=heap,
        index_bytes=indexes,
        columns={column.name: column.as_key() for column in columns},
        statistics=statistics,
        indexes=_indexes(connection, found, indexes),
        referenced_by=_referenced_by(connection, found),
        cache_bytes=cache_bytes(connection),
        buffers_bytes=int(_setting(connection, "shared_buffers")) * 8192,
        visible_share=_visible_share(connection, found),
        random_page_cost=_setting(connection, "random_page_cost"),
        sequential_page_cost=_setting(connection, "seq_page_cost"),
        parallel_workers=int(_setting(connection, "max_parallel_workers_per_gather")),
        is_partitioned=found.is_partitioned,
        can_skip=connection.info.server_version >= 180_000,
        not_null=frozenset(column.name for column in columns if column.not_null),
    )


def _indexes(connection: Connection, found: Relation, all_bytes: int) -> tuple[IndexShape, ...]:
    rows = connection.execute(
        """SELECT i.indexrelid::regclass::text, i.indisunique, i.indisprimary, pg_relation_size(i.indexrelid),
                  i.indpred IS NOT NULL,
                  ARRAY(SELECT coalesce(a.attname, '') FROM unnest(i.indkey::int2[]) WITH ORDINALITY k (attnum, place)
                        LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum AND k.attnum > 0
                        WHERE k.place <= i.indnkeyatts ORDER BY k.place)::text[]
           FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_am m ON m.oid = c.relam
           WHERE i.indrelid = %s AND i.indisvalid AND m.amname = 'btree' ORDER BY i.indisprimary DESC, 1""",
        [found.identity],
    ).fetchall()
    # The indexes of a partitioned table are empty themselves; the bytes are those of its leaves' indexes.
    of_leaves = _leaf_index_bytes(connection, found) if found.is_partitioned else {}
    each = all_bytes // len(rows) if rows else 0
    return tuple(
        IndexShape(
            name=name,
            columns=tuple(columns),
            is_unique=unique,
            is_primary=primary,
            bytes=of_leaves.get(name, each) if found.is_partitioned else size,
            is_partial=partial,
        )
        for name, unique, primary, size, partial, columns in rows
    )


def _referenced_by(connection: Connection, found: Relation) -> tuple[tuple[str, tuple[str, ...]], ...]:
    rows = connection.execute(
        """SELECT c.conrelid::regclass::text,
                  ARRAY(SELECT a.attname FROM unnest(c.confkey) k (attnum)
                        JOIN pg_attribute a ON a.attrelid = c.confrelid AND a.attnum = k.attnum)::text[]
           FROM pg_constraint c WHERE c.contype = 'f' AND c.confrelid = %s AND c.conparentid = 0 ORDER BY 1""",
        [found.identity],
    ).fetchall()
    return tuple((other, tuple(columns)) for other, columns in rows)


def _visible_share(connection: Connection, found: Relation) -> float:
    row = connection.execute(
        """WITH RECURSIVE below AS (SELECT %s::oid AS relid
               UNION ALL SELECT i.inhrelid FROM pg_inherits i JOIN below b ON i.inhparent = b.relid)
           SELECT coalesce(sum(c.relallvisible)::float8 / nullif(sum(c.relpages), 0), 0)
           FROM below b JOIN pg_class c ON c.oid = b.relid AND c.relkind <> 'p'""",
        [found.identity],
    ).fetchone()
    return min(1.0, float(row[0])) if row else 0.0


def _in_leaves(
    connection: Connection, found: Relation, statistics: dict[str, ColumnStatistics]
) -> dict[str, ColumnStatistics]:
    """The correlation of a partitioned table's columns within its leaves: its own tells of one leaf after the other."""
    rows = connection.execute(
        """WITH RECURSIVE below AS (SELECT %s::oid AS relid
               UNION ALL SELECT i.inhrelid FROM pg_inherits i JOIN below b ON i.inhparent = b.relid)
           SELECT s.attname, sum(s.correlation * c.reltuples) / nullif(sum(c.reltuples), 0)
           FROM below b JOIN pg_class c ON c.oid = b.relid AND c.relkind = 'r' AND c.reltuples > 0
                JOIN pg_namespace n ON n.oid = c.relnamespace
                JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = c.relname
           WHERE s.correlation IS NOT NULL GROUP BY 1""",
        [found.identity],
    ).fetchall()
    inner = {name: float(correlation) for name, correlation in rows if correlation is not None}
    return {name: replace(seen, correlation=inner.get(name, seen.correlation)) for name, seen in statistics.items()}


def _leaf_index_bytes(connection: Connection, found: Relation) -> dict[str, int]:
    """The bytes of the leaves' indexes, by the name of the table's index that they belong to."""
    rows = connection.execute(
        """WITH RECURSIVE below AS (SELECT indexrelid AS top, indexrelid AS relid FROM pg_index WHERE indrelid = %s
               UNION ALL SELECT b.top, i.inhrelid FROM pg_inherits i JOIN below b ON i.inhparent = b.relid)
           SELECT top::regclass::text, sum(pg_relation_size(relid))::bigint FROM below GROUP BY 1""",
        [found.identity],
    ).fetchall()
    return {name: int(size) for name, size in rows}


def cache_bytes(connection: Connection) -> int:
    """What the server's settings say may be found in memory; its own cache alone where it reads past the system's."""
    buffers = int(_setting(connection, "shared_buffers")) * 8192
    row = connection.execute("SELECT setting FROM pg_settings WHERE name = 'debug_io_direct'").fetchone()
    if row is not None and "data" in str(row[0]):
        return buffers
    return max(buffers, int(_setting(connection, "effective_cache_size")) * 8192)


def _setting(connection: Connection, name: str) -> float:
    row = connection.execute("SELECT setting::float8 FROM pg_settings WHERE name = %s", [name]).fetchone()
    assert row is not None
    return float(row[0])
