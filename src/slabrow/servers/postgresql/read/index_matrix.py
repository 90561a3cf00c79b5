"""Reads all indexes of a partitioned table and of all its partitions: two queries, whatever their number."""

from slabrow.core.table.index_matrix import IndexFound, IndexMatrix, TablePart
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue


def index_matrix(connection: Connection, table: Name) -> IndexMatrix:
    """Raises UsageError for a table that has no partitions."""
    with reading(connection):
        found = catalogue.relation(connection, table)
        if not found.is_partitioned:
            raise UsageError(f"{found.spelling} is not partitioned", fix="name a partitioned table")
        parts = connection.execute(_PARTS.encode(), {"oid": found.identity}).fetchall()
        rows = connection.execute(_INDEXES.encode(), {"oid": found.identity}).fetchall()
    indexes = tuple(
        IndexFound(
            name=Name(schema, name),
            table=Name(table_schema, of_table),
            definition=definition[len(prefix) :],
            columns=tuple(columns),
            is_unique=unique,
            is_valid=valid,
            constraint=constraint,
            attached_to=None if above is None else Name(above_schema, above),
            bytes=size,
            is_left=left,
        )
        for (schema, name, table_schema, of_table, definition, prefix, columns, unique, valid, constraint,
             above_schema, above, size, left) in rows
    )  # fmt: skip
    return IndexMatrix(
        found.name,
        tuple(
            TablePart(Name(schema, name), None if parent is None else Name(parent_schema, parent), leaf, level)
            for schema, name, parent_schema, parent, leaf, level in parts
        ),
        indexes,
    )


def index_faults(connection: Connection, table: Name) -> dict[str, int]:
    """Of each index that is not on every leaf: its name, and on how many leaves it is missing or invalid.

    One query that spells no definition: for thousands of partitions it takes a fraction of the time of the matrix.
    """
    with reading(connection):
        found = catalogue.relation(connection, table)
        rows = connection.execute(_FAULTS.encode(), {"oid": found.identity}).fetchall()
    return {name: missing for name, missing in rows if missing}


# Not by pg_partition_tree(): that locks every partition, and thousands do not fit into the server's lock table.
# A partition on another server has its indexes there, and none here.
_BELOW = """
    WITH RECURSIVE part AS (
        SELECT c.oid AS relid, NULL::oid AS parentrelid, false AS isleaf, 0 AS level
        FROM pg_class c WHERE c.oid = %(oid)s
        UNION ALL SELECT i.inhrelid, i.inhparent, c.relkind <> 'p', p.level + 1
        FROM part p JOIN pg_inherits i ON i.inhparent = p.relid
        JOIN pg_class c ON c.oid = i.inhrelid AND c.relkind <> 'f')"""

_FAULTS = (
    _BELOW
    + """, indexed AS (
        SELECT x.indexrelid AS root, x.indexrelid AS index FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
        WHERE x.indrelid = %(oid)s AND i.relkind = 'I'
        UNION ALL SELECT d.root, h.inhrelid FROM indexed d JOIN pg_inherits h ON h.inhparent = d.index)
    SELECT i.relname, greatest((SELECT count(*) FROM part WHERE isleaf) - f.valid,
                               CASE WHEN x.indisvalid THEN 0 ELSE 1 END)
    FROM (SELECT d.root, count(*) FILTER (WHERE l.indisvalid AND c.relkind = 'i') AS valid
          FROM indexed d JOIN pg_index l ON l.indexrelid = d.index JOIN pg_class c ON c.oid = d.index GROUP BY 1) f
    JOIN pg_index x ON x.indexrelid = f.root JOIN pg_class i ON i.oid = f.root
    UNION ALL
    SELECT i.relname, 1 FROM part r JOIN pg_index x ON x.indrelid = r.relid
    JOIN pg_class i ON i.oid = x.indexrelid WHERE NOT x.indisvalid AND i.relkind = 'i' AND NOT i.relispartition"""
)

_PARTS = (
    _BELOW
    + """
    SELECT n.nspname, c.relname, pn.nspname, p.relname, t.isleaf, t.level
    FROM part t JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace
    LEFT JOIN pg_class p ON p.oid = t.parentrelid LEFT JOIN pg_namespace pn ON pn.oid = p.relnamespace
    ORDER BY t.level, n.nspname, c.relname"""
)

# The prefix is spelled by the server too, so that cutting it off leaves exactly the rest.
_INDEXES = (
    _BELOW
    + """
    SELECT n.nspname, i.relname, tn.nspname, t.relname, pg_get_indexdef(x.indexrelid),
           'CREATE ' || CASE WHEN x.indisunique THEN 'UNIQUE ' ELSE '' END || 'INDEX ' || quote_ident(i.relname)
               || ' ON ' || CASE WHEN t.relkind = 'p' THEN 'ONLY ' ELSE '' END
               || quote_ident(tn.nspname) || '.' || quote_ident(t.relname) || ' ',
           ARRAY(SELECT coalesce(a.attname, '') FROM generate_series(0, x.indnkeyatts - 1) k
                 LEFT JOIN pg_attribute a ON a.attrelid = x.indrelid AND a.attnum = x.indkey[k] AND a.attnum > 0
                 ORDER BY k),
           x.indisunique, x.indisvalid AND x.indisready, coalesce(c.contype::text, ''), pn.nspname, p.relname,
           pg_relation_size(i.oid), NOT x.indisvalid AND i.relname ~ '_cc(new|old)[0-9]*$'
    FROM part r JOIN pg_index x ON x.indrelid = r.relid
    JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_namespace n ON n.oid = i.relnamespace
    JOIN pg_class t ON t.oid = x.indrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace
    LEFT JOIN pg_constraint c ON c.conindid = x.indexrelid AND c.contype IN ('p', 'u', 'x') AND c.conrelid = x.indrelid
    LEFT JOIN pg_inherits h ON h.inhrelid = i.oid LEFT JOIN pg_class p ON p.oid = h.inhparent
    LEFT JOIN pg_namespace pn ON pn.oid = p.relnamespace
    ORDER BY 3, 4, 2"""
)
