"""Reads the catalogue: trees in two queries whatever the number of partitions, shapes, and what columns hold.

No function here takes a lock that waits: the recursive query over pg_inherits is used where pg_partition_tree()
would lock every partition, which fails beyond what max_locks_per_transaction allows.
"""

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from psycopg import errors as sqlstate

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.table.relation import (
    ColumnFact,
    ForeignKeyFact,
    IndexFact,
    LeafFact,
    LeavesTotal,
    Relation,
    RelationKind,
)
from slabrow.core.table.tree import Division, KeyColumn, Partition, Tree, in_order
from slabrow.core.values.errors import ServerError, UsageError, nearest
from slabrow.core.values.key_values import Key, Kind, kind_of, parse_value
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.values.zones import parse_zone
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read.bound_text import parse_bounds
from slabrow.servers.postgresql.read.tree_rows import TreeRow, rows_of

_STRATEGIES = {"r": By.RANGE, "l": By.LIST, "h": By.HASH}
_KINDS = {
    "r": RelationKind.TABLE,
    "p": RelationKind.PARTITIONED,
    "v": RelationKind.VIEW,
    "m": RelationKind.MATERIALIZED_VIEW,
    "f": RelationKind.FOREIGN_TABLE,
    "i": RelationKind.INDEX,
    "I": RelationKind.INDEX,
    "S": RelationKind.SEQUENCE,
}


def relation(connection: Connection, name: Name) -> Relation:
    """The relation of that name. Raises UsageError with the nearest names when there is none."""
    row = connection.execute(
        """SELECT c.oid::bigint, n.nspname, c.relname, c.oid::regclass::text, c.relkind::text, c.relispartition,
                  c.reltuples::bigint,
                  pg_table_size(c.oid) - coalesce(pg_total_relation_size(nullif(c.reltoastrelid, 0)), 0),
                  pg_indexes_size(c.oid), coalesce(pg_total_relation_size(nullif(c.reltoastrelid, 0)), 0)
           FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = to_regclass(%s)""",
        [str(name)],
    ).fetchone()
    if row is None:
        raise _no_such_table(connection, name)
    oid, schema, table, spelling, kind, is_partition, rows, *sizes = row
    heap, index, toast = (max(0, size or 0) for size in sizes)
    return Relation(
        identity=oid,
        name=Name(schema, table),
        spelling=spelling,
        kind=_KINDS.get(kind, RelationKind.OTHER),
        is_partition=is_partition,
        rows=rows if rows >= 0 else None,
        heap_bytes=heap,
        index_bytes=index,
        toast_bytes=toast,
    )


def _no_such_table(connection: Connection, name: Name) -> UsageError:
    rows = connection.execute(
        """SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
           WHERE c.relkind IN ('r', 'p', 'f') AND NOT c.relispartition AND n.nspname !~ '^(pg_|information_schema)'"""
    ).fetchall()
    known = [str(Name(schema, table)) for schema, table in rows]
    near = nearest(str(name), known) or next((each for each in known if each.endswith("." + str(name))), None)
    fix = f"did you mean {near}?" if near else f"database {connection.info.dbname} has {len(known)} tables"
    return UsageError(
        f"there is no table {name}", found=f"nothing of that name in database {connection.info.dbname}", fix=fix
    )


def recorded_by(connection: Connection, table: Name) -> str | None:
    """By the function of the trigger that a conversion has put on the table, or a split or a merge on a partition."""
    row = connection.execute(
        """WITH RECURSIVE part AS (
               SELECT to_regclass(%s)::oid AS relid
               UNION ALL SELECT i.inhrelid FROM part p JOIN pg_inherits i ON i.inhparent = p.relid)
           SELECT n.nspname FROM part r JOIN pg_trigger t ON t.tgrelid = r.relid JOIN pg_proc p ON p.oid = t.tgfoid
           JOIN pg_namespace n ON n.oid = p.pronamespace
           WHERE t.tgname ~ '^slabrow_(log|back)(_[0-9]+)?$' LIMIT 1""",
        [str(table)],
    ).fetchone()
    return row[0] if row else None


def bodies_naming(connection: Connection, table: Name) -> tuple[tuple[str, str], ...]:
    """Functions and procedures whose text holds the table's name. The server's own are left out."""
    rows = connection.execute(
        """SELECT p.oid::regprocedure::text, p.prosrc FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
           WHERE n.nspname !~ '^(pg_|information_schema)' AND strpos(p.prosrc, %s) > 0 AND p.prokind IN ('f', 'p')
             AND p.proname !~ '^(log|back|guard)_[0-9]+$' ORDER BY 1""",
        [table.table],
    ).fetchall()
    return tuple((str(name), str(body)) for name, body in rows)


def tree(connection: Connection, name: Name, *, with_values: bool = False) -> Tree:
    """A partitioned table and all its partitions, in the order of their bounds.

    with_values   also the least and greatest key of each leaf, from its statistics: one query more
    Raises UsageError when there is no such table, or it is not partitioned.
    """
    with reading(connection):
        found = relation(connection, name)
        if not found.is_partitioned:
            is_table = found.kind is RelationKind.TABLE
            raise UsageError(
                f"{found.spelling} is not partitioned",
                found=f"it is a {found.kind}",
                fix="`slabrow convert` makes a table into a partitioned one" if is_table else None,
            )
        return _tree_of(connection, found, with_values)


def trees(rows_by_name: Mapping[Name, Sequence[TreeRow]]) -> dict[Name, Tree]:
    """Many partitioned tables with all their partitions. rows_by_name: as `tree_rows.rows_in_parts` reads them.

    One whose bounds cannot be read is left out: who looks at it alone hears why.
    """
    found: dict[Name, Tree] = {}
    for name, rows in rows_by_name.items():
        with suppress(ServerError):
            found[name] = _tree_from(rows, {})
    return found


def _tree_of(connection: Connection, found: Relation, with_values: bool) -> Tree:
    rows = rows_of(connection, found.identity)
    key = _columns(rows[0])
    return _tree_from(rows, _extremes(connection, found.identity, key[0]) if with_values and key[0].name else {})


def _tree_from(rows: Sequence[TreeRow], extremes: Mapping[int, tuple[Key, Key]]) -> Tree:
    """Rows of one table: itself first."""
    root, *below = rows
    keys = {row.oid: _columns(row) for row in rows if row.key}
    kinds = {oid: tuple(column.kind for column in columns) for oid, columns in keys.items()}
    spelled = {row.oid: row.spelling for row in rows if row.key}
    partitions = [
        _partition(row, spelled[row.parent_oid], kinds[row.parent_oid], *extremes.get(row.oid, (None, None)))
        for row in below
    ]
    ordered = in_order(root.spelling, partitions)
    return Tree(Name(root.schema, root.table), root.spelling, _STRATEGIES[root.strategy or ""], keys[root.oid], ordered)


def _columns(row: TreeRow) -> tuple[KeyColumn, ...]:
    return tuple(
        KeyColumn(name, text, kind_of(type_name) if name else Kind.OTHER, type_name, not_null, *sorting)
        for name, text, type_name, not_null, *sorting in row.key or ()
    )


def _partition(row: TreeRow, parent: str, kinds: tuple[Kind, ...], low: Key | None, high: Key | None) -> Partition:
    """kinds: of the parent's key, in which the bounds are spelled."""
    return Partition(
        name=Name(row.schema, row.table),
        spelling=row.spelling,
        parent=parent,
        bounds=parse_bounds(row.bound or "DEFAULT", kinds),
        is_leaf=row.is_leaf,
        rows=row.rows if row.rows >= 0 else None,
        bytes=row.bytes,
        is_empty=row.is_empty,
        low=low,
        high=high,
        is_detaching=row.is_detaching,
        division=Division(_STRATEGIES[row.strategy], _columns(row)) if row.strategy and row.key else None,
        place=row.space,
        server=row.server,
    )


def _extremes(connection: Connection, oid: int, column: KeyColumn) -> dict[int, tuple[Key, Key]]:
    rows = connection.execute(
        """WITH RECURSIVE below AS (
               SELECT inhrelid FROM pg_inherits WHERE inhparent = %s
               UNION ALL SELECT i.inhrelid FROM pg_inherits i JOIN below b ON i.inhparent = b.inhrelid)
           SELECT c.oid::bigint, s.most_common_vals::text::text[], (s.histogram_bounds::text::text[])[1],
                  (s.histogram_bounds::text::text[])[array_upper(s.histogram_bounds::text::text[], 1)]
           FROM below b JOIN pg_class c ON c.oid = b.inhrelid JOIN pg_namespace n ON n.oid = c.relnamespace
           JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = c.relname AND s.attname = %s""",
        [oid, column.name],
    ).fetchall()
    found: dict[int, tuple[Key, Key]] = {}
    for relid, common, first, last in rows:
        values = [parse_value(text, column.kind) for text in (*(common or ()), first, last) if text is not None]
        statistics = ColumnStatistics(column.name or "", 0.0, None, (), tuple(values))
        if statistics.low is not None and statistics.high is not None:
            found[relid] = ((statistics.low,), (statistics.high,))
    return found


def column_statistics(connection: Connection, found: Relation) -> dict[str, ColumnStatistics]:
    """Each column of a table as the last ANALYZE saw it; columns without statistics are left out.

    n_distinct below zero is a share of the rows (PostgreSQL manual, 53.25 pg_stats).
    """
    rows = connection.execute(
        """SELECT s.attname, s.null_frac, s.n_distinct, s.most_common_vals::text::text[], s.most_common_freqs,
                  s.histogram_bounds::text::text[], s.correlation, format_type(a.atttypid, a.atttypmod)
           FROM pg_stats s JOIN pg_attribute a ON a.attrelid = %s AND a.attname = s.attname
           WHERE s.schemaname = %s AND s.tablename = %s AND s.inherited = %s""",
        [found.identity, found.name.schema, found.name.table, found.is_partitioned],
    ).fetchall()
    result = {}
    for name, nulls, distinct, common, shares, histogram, correlation, type_name in rows:
        kind = kind_of(type_name)
        if distinct < 0:
            distinct = -distinct * found.rows if found.rows is not None else None
        result[name] = ColumnStatistics(
            name=name,
            null_share=nulls,
            distinct=distinct,
            common=tuple(
                (parse_value(text, kind), share) for text, share in zip(common or (), shares or (), strict=True)
            ),
            histogram=tuple(parse_value(text, kind) for text in histogram or ()),
            correlation=correlation,
        )
    return result


def columns(connection: Connection, found: Relation) -> tuple[ColumnFact, ...]:
    """The columns of a table in their order."""
    rows = connection.execute(
        """SELECT attname, format_type(atttypid, atttypmod), attnotnull FROM pg_attribute
           WHERE attrelid = %s AND attnum > 0 AND NOT attisdropped ORDER BY attnum""",
        [found.identity],
    ).fetchall()
    return tuple(ColumnFact(*row) for row in rows)


def movable_columns(connection: Connection, found: Relation) -> tuple[str, ...]:
    """The columns that an INSERT may name: all but the generated ones."""
    rows = connection.execute(
        """SELECT attname::text FROM pg_attribute
           WHERE attrelid = %s AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum""",
        [found.identity],
    ).fetchall()
    return tuple(name for (name,) in rows)


def indexes(connection: Connection, found: Relation) -> tuple[IndexFact, ...]:
    """The indexes of a table with their sizes and how often they were scanned."""
    rows = connection.execute(
        """WITH RECURSIVE below AS (
               SELECT indexrelid AS top, indexrelid AS part FROM pg_index WHERE indrelid = %(oid)s
               UNION ALL SELECT b.top, h.inhrelid FROM below b JOIN pg_inherits h ON h.inhparent = b.part)
           SELECT i.indexrelid::regclass::text, pg_get_indexdef(i.indexrelid), s.bytes::bigint,
                  i.indisunique, i.indisprimary, i.indisvalid, s.scans::bigint
           FROM pg_index i CROSS JOIN LATERAL (
               SELECT coalesce(sum(pg_relation_size(b.part)), 0) AS bytes,
                      coalesce(sum(pg_stat_get_numscans(b.part)), 0) AS scans
               FROM below b WHERE b.top = i.indexrelid) s
           WHERE i.indrelid = %(oid)s ORDER BY i.indisprimary DESC, 1""",
        {"oid": found.identity},
    ).fetchall()
    names = ("name", "definition", "bytes", "is_unique", "is_primary", "is_valid", "scans")
    return tuple(IndexFact(**dict(zip(names, row, strict=True))) for row in rows)


def foreign_keys(connection: Connection, found: Relation) -> tuple[ForeignKeyFact, ...]:
    """The foreign keys out of a table and into it."""
    rows = connection.execute(
        """SELECT conname, CASE WHEN conrelid = %(oid)s THEN 'out' ELSE 'in' END,
                  CASE WHEN conrelid = %(oid)s THEN confrelid ELSE conrelid END::regclass::text,
                  pg_get_constraintdef(oid)
           FROM pg_constraint WHERE contype = 'f' AND %(oid)s IN (conrelid, confrelid) AND conparentid = 0
           ORDER BY 2 DESC, 1""",
        {"oid": found.identity},
    ).fetchall()
    return tuple(ForeignKeyFact(*row) for row in rows)


def all_leaves(connection: Connection) -> tuple[LeafFact, ...]:
    """Every partitioned table in the database with its leaves: one query."""
    rows = connection.execute(
        """WITH RECURSIVE below AS (
               SELECT p.partrelid AS root, p.partrelid AS relid FROM pg_partitioned_table p
               JOIN pg_class c ON c.oid = p.partrelid AND NOT c.relispartition
               UNION ALL
               SELECT b.root, i.inhrelid FROM below b JOIN pg_inherits i ON i.inhparent = b.relid)
           SELECT b.root::regclass::text, rn.nspname, r.relname, n.nspname || '.' || c.relname,
                  CASE WHEN c.relkind <> 'p' THEN c.oid::regclass::text END, greatest(c.reltuples, 0)::bigint
           FROM below b JOIN pg_class c ON c.oid = b.relid JOIN pg_namespace n ON n.oid = c.relnamespace
           JOIN pg_class r ON r.oid = b.root JOIN pg_namespace rn ON rn.oid = r.relnamespace
           WHERE c.relkind <> 'p' OR b.relid = b.root"""
    ).fetchall()
    return tuple(
        LeafFact(root=root, root_name=Name(schema, table), plan_name=plan_name, spelling=spelling, rows=estimate)
        for root, schema, table, plan_name, spelling, estimate in rows
    )


def names_like(connection: Connection, prefix: str, *, partitions: bool, most: int) -> tuple[str, ...]:
    """Tables, or leaves, whose names begin so, as `schema.table`, quoted where needed."""
    rows = connection.execute(
        """SELECT name FROM (
               SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname) AS name
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE c.relkind = ANY (%(kinds)s) AND c.relispartition = %(partitions)s
                 AND n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\\_%%') named
           WHERE starts_with(name, %(prefix)s) ORDER BY name LIMIT %(most)s""",
        {"kinds": ["r", "p", "f"], "partitions": partitions, "prefix": prefix, "most": most},
    ).fetchall()
    return tuple(name for (name,) in rows)


def names_in_schema(connection: Connection, schema: str | None) -> frozenset[str]:
    """Every relation name in a schema: what a new partition cannot be called."""
    rows = connection.execute(
        "SELECT relname FROM pg_class WHERE relnamespace = to_regnamespace(%s)",
        [quoting.identifier(schema or "public")],
    ).fetchall()
    return frozenset(name for (name,) in rows)


def leaves_total(connection: Connection, found: Relation) -> LeavesTotal:
    """One query, whatever the number of leaves."""
    row = connection.execute(
        """WITH RECURSIVE below AS (
               SELECT inhrelid FROM pg_inherits WHERE inhparent = %s
               UNION ALL SELECT i.inhrelid FROM pg_inherits i JOIN below b ON i.inhparent = b.inhrelid),
           leaf AS (
               SELECT c.oid::regclass::text AS name, c.reltuples, pg_relation_size(c.oid) AS main,
                      pg_table_size(c.oid) AS heap, pg_indexes_size(c.oid) AS indexes,
                      coalesce(pg_total_relation_size(nullif(c.reltoastrelid, 0)), 0) AS toast
               FROM below b JOIN pg_class c ON c.oid = b.inhrelid AND c.relkind <> 'p')
           SELECT count(*), coalesce(sum(reltuples) FILTER (WHERE reltuples >= 0), 0)::float8,
                  coalesce(sum(main) FILTER (WHERE reltuples > 0), 0)::bigint,
                  coalesce(sum(main) FILTER (WHERE reltuples < 0), 0)::bigint,
                  count(*) FILTER (WHERE reltuples < 0 AND main > 0),
                  (array_agg(name ORDER BY name) FILTER (WHERE reltuples < 0 AND main > 0))[1:3],
                  coalesce(sum(heap) - sum(toast), 0)::bigint, coalesce(sum(indexes), 0)::bigint,
                  coalesce(sum(toast), 0)::bigint
           FROM leaf""",
        [found.identity],
    ).fetchone()
    assert row is not None
    leaves, known_rows, known_bytes, unknown_bytes, unanalysed, names, heap, indexes, toast = row
    rows: int | None = round(known_rows)
    if unknown_bytes:
        rows = round(known_rows + unknown_bytes * known_rows / known_bytes) if known_bytes and known_rows else None
    return LeavesTotal(
        leaves=leaves,
        rows=rows,
        heap_bytes=max(0, heap),
        index_bytes=indexes,
        toast_bytes=toast,
        unanalysed=unanalysed,
        some_unanalysed=tuple(names or ()),
    )


def whole(connection: Connection, found: Relation) -> tuple[Relation, LeavesTotal | None]:
    """A partitioned table with the rows and bytes of its leaves, and what these come from; another one as it is."""
    if not found.is_partitioned:
        return found, None
    total = leaves_total(connection, found)
    filled = replace(
        found,
        rows=total.rows,
        heap_bytes=total.heap_bytes,
        index_bytes=total.index_bytes,
        toast_bytes=total.toast_bytes,
    )
    return filled, total


def blocks(connection: Connection, found: Relation) -> int:
    """The size of a table's main fork, in blocks."""
    row = connection.execute(
        "SELECT pg_relation_size(%s::oid) / current_setting('block_size')::int", [found.identity]
    ).fetchone()
    return int(row[0]) if row else 0


def current_role(connection: Connection) -> str:
    """The role that acts."""
    row = connection.execute("SELECT current_user").fetchone()
    return str(row[0]) if row else ""


def owner(connection: Connection, found: Relation) -> str:
    """The role that owns a relation."""
    row = connection.execute(
        "SELECT pg_get_userbyid(relowner) FROM pg_class WHERE oid = %s", [found.identity]
    ).fetchone()
    return str(row[0]) if row else ""


def comment(connection: Connection, found: Relation) -> str | None:
    """The comment on a relation, None without one."""
    row = connection.execute("SELECT obj_description(%s::oid, 'pg_class')", [found.identity]).fetchone()
    return None if row is None else row[0]


def has_record_hash(connection: Connection, found: Relation) -> bool:
    """Whether the type of every column has a hash operator class that `hash_record_extended()` can use.

    Arrays, ranges, enums and records are answered for by their own pseudo-type's class; what they are made of is not
    looked at, so types other than the built-in scalars count as not hashable.
    """
    row = connection.execute(
        """SELECT bool_and(EXISTS (SELECT FROM pg_opclass o JOIN pg_am m ON m.oid = o.opcmethod AND m.amname = 'hash'
                                   JOIN pg_amproc p ON p.amprocfamily = o.opcfamily AND p.amproclefttype = o.opcintype
                                        AND p.amprocnum = 2
                                   WHERE o.opcdefault AND o.opcintype =
                                         CASE t.typname WHEN 'varchar' THEN 'text'::regtype ELSE t.oid END))
           FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
           WHERE a.attrelid = %s AND a.attnum > 0 AND NOT a.attisdropped""",
        [found.identity],
    ).fetchone()
    return bool(row and row[0])


def has_schema(connection: Connection, name: str) -> bool:
    """Whether there is a schema of that name."""
    row = connection.execute("SELECT to_regnamespace(%s) IS NOT NULL", [quoting.identifier(name)]).fetchone()
    return bool(row and row[0])


def exists(connection: Connection, name: Name) -> bool:
    """Whether there is a relation of that name."""
    row = connection.execute("SELECT to_regclass(%s) IS NOT NULL", [str(name)]).fetchone()
    return bool(row and row[0])


def is_type(connection: Connection, text: str) -> bool:
    """Whether the server knows a text as the name of a type. The text is never run."""
    try:
        row = connection.execute("SELECT to_regtype(%s) IS NOT NULL", [text]).fetchone()
    except (sqlstate.SyntaxErrorOrAccessRuleViolation, sqlstate.DataException):
        return False
    return bool(row and row[0])


def time_zone(connection: Connection) -> ZoneInfo | None:
    """The session's time zone; None when the zone has no name here."""
    row = connection.execute("SELECT current_setting('TimeZone')").fetchone()
    try:
        return parse_zone(str(row[0])) if row else None
    except UsageError:
        return None


def moment(connection: Connection) -> datetime:
    """The server's now()."""
    row = connection.execute("SELECT now()").fetchone()
    assert row is not None
    now: datetime = row[0]
    return now.astimezone(UTC)
