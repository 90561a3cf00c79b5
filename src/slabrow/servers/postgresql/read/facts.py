"""Reads from the catalogue what weighing needs to know of a table: a few queries, whatever its size."""

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
        cache_bytes=int(_setting(connection, "effective_cache_size")) * 8192,
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
    each = all_bytes // len(rows) if rows and found.is_partitioned else None
    return tuple(
        IndexShape(
            name=name,
            columns=tuple(columns),
            is_unique=unique,
            is_primary=primary,
            bytes=size if each is None else each,
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


def _setting(connection: Connection, name: str) -> float:
    row = connection.execute("SELECT setting::float8 FROM pg_settings WHERE name = %s", [name]).fetchone()
    assert row is not None
    return float(row[0])
