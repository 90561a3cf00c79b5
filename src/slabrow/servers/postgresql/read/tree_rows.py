"""Reads partitioned tables with all their partitions as plain rows: two queries at most, whatever their number.

With little to load, so that a run can ask before it has loaded what it needs for the answer.
"""

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, reading

# The table itself first, then everything below it; partitioned ones with their own keys. Bounds hold no columns: with 0
# the server does not look the relation up for each (PostgreSQL manual, 9.27.5, pg_get_expr).
_QUERY = """
    WITH RECURSIVE asked AS ({asked}), below AS (
        SELECT a.oid AS root, a.oid AS relid, NULL::oid AS parent, false AS detaching, 0 AS depth, false AS in_rest
        FROM asked a
        UNION ALL
        SELECT b.root, i.inhrelid, i.inhparent, i.inhdetachpending, b.depth + 1, b.in_rest OR t.partdefid = i.inhrelid
        FROM pg_inherits i JOIN below b ON i.inhparent = b.relid
        JOIN pg_partitioned_table t ON t.partrelid = i.inhparent)
    SELECT b.root::bigint, b.parent::bigint, n.nspname, c.relname, c.oid::regclass::text,
           c.relkind <> 'p', pg_get_expr(c.relpartbound, 0), c.reltuples::bigint, b.detaching,
           CASE WHEN c.relkind = 'p' OR NOT %s THEN 0 ELSE coalesce(pg_total_relation_size(c.oid), 0) END,
           c.oid::bigint,
           c.relkind = 'r' AND CASE WHEN b.in_rest OR %s THEN pg_relation_size(c.oid) = 0 ELSE false END,
           p.partstrat::text,
           CASE WHEN c.relkind = 'p' THEN (
               SELECT jsonb_agg(jsonb_build_array(
                          a.attname, coalesce(a.attname, pg_get_expr(p.partexprs, p.partrelid)),
                          format_type(coalesce(a.atttypid, 'text'::regtype), a.atttypmod),
                          coalesce(a.attnotnull, false),
                          CASE WHEN l.collname = 'default' THEN d.datcollate IN ('C', 'POSIX') OR d.datlocprovider = 'b'
                          ELSE coalesce(l.collcollate IN ('C', 'POSIX') OR l.collprovider = 'b', false) END,
                          CASE WHEN k.sorting <> 0 THEN k.sorting::regcollation::text END,
                          coalesce(a.attcollation <> k.sorting, false))
                          ORDER BY k.place)
               FROM unnest(p.partattrs::int2[], p.partcollation::oid[]) WITH ORDINALITY AS k (attnum, sorting, place)
               JOIN pg_database d ON d.datname = current_database()
               LEFT JOIN pg_collation l ON l.oid = k.sorting
               LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.attnum AND k.attnum > 0) END,
           CASE WHEN b.depth = 0 THEN (SELECT places FROM asked WHERE oid = b.root) END,
           CASE WHEN c.relkind = 'r' THEN s.spcname END,
           CASE WHEN c.relkind = 'f' THEN (SELECT srvname FROM pg_foreign_server f JOIN pg_foreign_table g
                                           ON f.oid = g.ftserver WHERE g.ftrelid = c.oid) END
    FROM below b CROSS JOIN (SELECT dattablespace FROM pg_database WHERE datname = current_database()) d
    JOIN pg_class c ON c.oid = b.relid JOIN pg_namespace n ON n.oid = c.relnamespace
    LEFT JOIN pg_partitioned_table p ON p.partrelid = c.oid
    LEFT JOIN pg_tablespace s ON s.oid = coalesce(nullif(c.reltablespace, 0), d.dattablespace)
    ORDER BY b.depth"""
BY_OID = _QUERY.format(asked="SELECT oid, NULL::int[] AS places FROM unnest(%s::oid[]) AS r (oid)")
_BY_NAME = _QUERY.format(
    asked="""
        SELECT c.oid, array_agg(w.place::int) AS places
        FROM unnest(%s::text[], %s::text[]) WITH ORDINALITY AS w (schema, name, place)
        LEFT JOIN pg_namespace n ON n.nspname = w.schema
        JOIN pg_class c ON c.relkind = 'p' AND c.oid =
             CASE WHEN w.schema IS NULL OR has_schema_privilege(n.oid, 'USAGE') THEN to_regclass(w.name) END
        GROUP BY c.oid"""
)


class TreeRow(NamedTuple):
    """A row of the query.

    key     [name, text, type, not null, in byte order, collation] for each key column of a divided table
    places  of the table itself: under which names it was asked for, counted from 1
    space   the tablespace of a partition that holds rows
    server  the other server that its rows lie on
    """

    root_oid: int
    parent_oid: int
    schema: str
    table: str
    spelling: str
    is_leaf: bool
    bound: str | None
    rows: int
    is_detaching: bool
    bytes: int
    oid: int
    is_empty: bool
    strategy: str | None
    key: list[list[Any]] | None
    places: list[int] | None
    space: str | None
    server: str | None


def rows_of(connection: Connection, oid: int) -> list[TreeRow]:
    """Of one table, itself first, with the bytes of every partition. Call it within `reading`."""
    return [TreeRow._make(row) for row in connection.execute(BY_OID, [[oid], True, True]).fetchall()]


Rows = dict[Name, list[TreeRow]]

_MANY = 50  # tables: their rows take long enough to look at the first ones meanwhile
_FIRST_PART = 0.6  # of many: what is left to look at when the second part has come should be the smaller one


def rows_in_parts(connection: Connection, names: Sequence[Name], *, with_sizes: bool = True) -> Iterator[Rows]:
    """Of many tables, by the names that were asked for.

    What is not there, is not partitioned, or lies in a schema that may not be used, is left out.

    Many come in two parts, in the order of their names, so that the first can be looked at while the server reads the
    second. The connection is free when the last has come.
    with_sizes   False: the server need not open each partition; only those of catch-alls are looked at
    """
    border = round(len(names) * _FIRST_PART) if len(names) >= _MANY else len(names)
    with reading(connection):
        for part in (names[:border], names[border:]):
            if not part:
                continue
            asked = [[name.schema for name in part], [str(name) for name in part], with_sizes, with_sizes]
            by_root: dict[int, list[TreeRow]] = {}
            for row in connection.execute(_BY_NAME, asked).fetchall():
                by_root.setdefault(row[0], []).append(TreeRow._make(row))
            yield {part[place - 1]: rows for rows in by_root.values() for place in rows[0].places or ()}
