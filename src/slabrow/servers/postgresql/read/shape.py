"""Reads the shape of a table, and names what a conversion would lose: obstacles."""

from collections.abc import Iterator
from typing import Any

from slabrow.core.table.relation import Relation, RelationKind
from slabrow.core.table.shape import Column, Constraint, Grant, Index, Sequence, Shape
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.read.catalogue import relation


def shape(connection: Connection, name: Name) -> Shape:
    """The shape of a plain table. Raises ServerError when it is a view or anything else that holds no rows of its own.

    Call it within `connection.reading`, so that all its queries see one state.
    """
    found = relation(connection, name)
    if found.kind not in (RelationKind.TABLE, RelationKind.PARTITIONED):
        raise UsageError(
            f"{found.spelling} cannot be partitioned",
            found=f"it is a {found.kind}",
            fix="name the table that holds the rows",
        )
    owner, comment, options, tablespace, persistence, granted = _one(connection, _TABLE, found)
    return Shape(
        name=found.name,
        owner=owner,
        columns=tuple(Column(*row) for row in connection.execute(_COLUMNS, [found.identity]).fetchall()),
        constraints=constraints(connection, found),
        indexes=indexes(connection, found),
        grants=tuple(Grant(*row) for row in connection.execute(_GRANTS, {"oid": found.identity}).fetchall()),
        sequences=tuple(
            Sequence(Name(schema, name), column, identity)
            for schema, name, column, identity in connection.execute(_SEQUENCES, [found.identity]).fetchall()
        ),
        options=tuple(options or ()),
        tablespace=tablespace,
        granted_by_default=tuple(granted),
        comment=comment,
        is_unlogged=persistence == "u",
        obstacles=tuple(_obstacles(connection, found)),
    )


def constraints(connection: Connection, found: Relation) -> tuple[Constraint, ...]:
    """Keys, foreign keys and checks, keys first."""
    rows = connection.execute(_CONSTRAINTS, [found.identity]).fetchall()
    return tuple(Constraint(name, kind, sql, tuple(columns or ())) for name, kind, sql, columns in rows)


def indexes(connection: Connection, found: Relation) -> tuple[Index, ...]:
    """The indexes that no constraint owns. Raises ServerError when a definition cannot be read."""
    return tuple(_index(found, row) for row in connection.execute(_INDEXES, [found.identity]).fetchall())


def _one(connection: Connection, query: str, found: Relation) -> tuple[Any, ...]:
    row = connection.execute(query, [found.identity]).fetchone()
    if row is None:
        raise ServerError(f"{found.spelling} was dropped while it was read", fix="run it again")
    return row


_TABLE = """
    SELECT pg_get_userbyid(c.relowner), obj_description(c.oid, 'pg_class'),
           coalesce(c.reloptions, '{}') || ARRAY(SELECT 'toast.' || option FROM unnest(toast.reloptions) option),
           t.spcname, c.relpersistence::text,
           ARRAY(SELECT DISTINCT CASE WHEN g.grantee <> 0 THEN pg_get_userbyid(g.grantee) END
                 FROM pg_default_acl d CROSS JOIN aclexplode(d.defaclacl) g
                 WHERE d.defaclrole = current_user::regrole AND d.defaclobjtype = 'r'
                   AND d.defaclnamespace IN (0, c.relnamespace) AND g.grantee <> d.defaclrole ORDER BY 1)
    FROM pg_class c LEFT JOIN pg_tablespace t ON t.oid = c.reltablespace
    LEFT JOIN pg_class toast ON toast.oid = c.reltoastrelid WHERE c.oid = %s"""

_COLUMNS = """
    SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull,
           CASE WHEN a.attgenerated = '' THEN pg_get_expr(d.adbin, d.adrelid) END, a.attidentity::text,
           CASE WHEN a.attgenerated <> '' THEN pg_get_expr(d.adbin, d.adrelid)
                || CASE a.attgenerated::text WHEN 'v' THEN ' VIRTUAL' ELSE ' STORED' END END,
           CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation::regcollation::text END,
           col_description(a.attrelid, a.attnum),
           CASE WHEN a.attstorage <> t.typstorage THEN CASE a.attstorage::text
                WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END END,
           CASE a.attcompression::text WHEN 'p' THEN 'pglz' WHEN 'l' THEN 'lz4' END,
           nullif(a.attstattarget, -1),
           coalesce((SELECT format('INCREMENT BY %%s MINVALUE %%s MAXVALUE %%s CACHE %%s%%s', seqincrement, seqmin,
                                   seqmax, seqcache, CASE WHEN seqcycle THEN ' CYCLE' ELSE '' END)
                     FROM pg_sequence q JOIN pg_depend o ON o.objid = q.seqrelid AND o.classid = 'pg_class'::regclass
                     WHERE o.refobjid = a.attrelid AND o.refobjsubid = a.attnum AND o.deptype = 'i'
                       AND a.attidentity <> ''), ''),
           array_to_string(a.attoptions, ', '),
           (SELECT conname FROM pg_constraint n
            WHERE n.conrelid = a.attrelid AND n.contype = 'n' AND n.conkey = ARRAY[a.attnum])
    FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
    LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
    WHERE a.attrelid = %s AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum"""

_CONSTRAINTS = """
    SELECT c.conname, c.contype::text,
           pg_get_constraintdef(c.oid) || coalesce(' USING INDEX TABLESPACE ' || quote_ident(t.spcname), ''),
           ARRAY(SELECT a.attname FROM unnest(c.conkey) WITH ORDINALITY k (attnum, place)
                 JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.attnum ORDER BY k.place)
    FROM pg_constraint c LEFT JOIN pg_class i ON i.oid = c.conindid AND c.contype IN ('p', 'u')
    LEFT JOIN pg_tablespace t ON t.oid = i.reltablespace
    WHERE c.conrelid = %s AND c.contype IN ('p', 'u', 'f', 'c')
    ORDER BY array_position('{p,u,c,f}', c.contype::text), 1"""

# The prefix is spelled by the server too, so that cutting it off leaves exactly the rest.
_INDEXES = """
    SELECT i.relname, pg_get_indexdef(x.indexrelid),
           'CREATE ' || CASE WHEN x.indisunique THEN 'UNIQUE ' ELSE '' END
               || 'INDEX ' || quote_ident(i.relname) || ' ON '
               || CASE WHEN t.relkind = 'p' THEN 'ONLY ' ELSE '' END
               || quote_ident(n.nspname) || '.' || quote_ident(t.relname) || ' ',
           x.indisunique, s.spcname, obj_description(i.oid, 'pg_class'),
           ARRAY(SELECT coalesce(a.attname, '') FROM generate_series(0, x.indnkeyatts - 1) k
                 LEFT JOIN pg_attribute a ON a.attrelid = x.indrelid AND a.attnum = x.indkey[k] AND a.attnum > 0
                 ORDER BY k)
    FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_class t ON t.oid = x.indrelid
    JOIN pg_namespace n ON n.oid = t.relnamespace LEFT JOIN pg_tablespace s ON s.oid = i.reltablespace
    WHERE x.indrelid = %s AND NOT EXISTS (SELECT FROM pg_constraint c WHERE c.conindid = x.indexrelid
                                          AND c.contype IN ('p', 'u', 'x'))
    ORDER BY i.relname"""

_GRANTS = """
    SELECT pg_get_userbyid(nullif(g.grantee, 0)), g.privilege_type, g.is_grantable, NULL
    FROM pg_class c CROSS JOIN aclexplode(c.relacl) g WHERE c.oid = %(oid)s AND g.grantee <> c.relowner
    UNION ALL
    SELECT pg_get_userbyid(nullif(g.grantee, 0)), g.privilege_type, g.is_grantable, a.attname
    FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid CROSS JOIN aclexplode(a.attacl) g
    WHERE c.oid = %(oid)s AND g.grantee <> c.relowner AND NOT a.attisdropped ORDER BY 1, 2, 4"""

_SEQUENCES = """
    SELECT n.nspname, s.relname, a.attname, d.deptype = 'i'
    FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
    JOIN pg_namespace n ON n.oid = s.relnamespace
    JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
    WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %s
      AND d.deptype IN ('a', 'i') ORDER BY a.attnum"""


def _index(found: Relation, row: tuple[Any, ...]) -> Index:
    name, definition, prefix, unique, tablespace, comment, columns = row
    if not definition.startswith(prefix):
        raise ServerError(f"the definition of index {name} on {found.spelling} cannot be read", found=definition)
    rest = definition[len(prefix) :]
    if tablespace:
        before, where, condition = rest.partition(" WHERE ")
        rest = f"{before} TABLESPACE {quoting.identifier(tablespace)}{where}{condition}"
    return Index(name, rest, unique, tuple(columns), comment)


# Each row: the kind of object, and the names found. A copy would lose these silently: they are named and refused.
_OBSTACLES = """
    SELECT 'trigger', tgname::text FROM pg_trigger WHERE tgrelid = %(oid)s AND NOT tgisinternal
    UNION ALL SELECT 'rule', rulename FROM pg_rewrite WHERE ev_class = %(oid)s AND rulename <> '_RETURN'
    UNION ALL SELECT DISTINCT 'view', r.ev_class::regclass::text FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
        WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
          AND r.ev_class <> %(oid)s
    UNION ALL SELECT 'function', d.objid::regprocedure::text FROM pg_depend d
        WHERE d.classid = 'pg_proc'::regclass AND ((d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s)
              OR (d.refclassid = 'pg_type'::regclass AND d.refobjid IN
                 (SELECT unnest(ARRAY[t.oid, t.typarray]) FROM pg_type t WHERE t.typrelid = %(oid)s)))
    UNION ALL SELECT 'column of its row type', a.attrelid::regclass || '.' || quote_ident(a.attname)
        FROM pg_attribute a JOIN pg_type t ON a.atttypid IN (t.oid, t.typarray)
        WHERE t.typrelid = %(oid)s AND NOT a.attisdropped
    UNION ALL SELECT 'incoming foreign key', conname || ' of ' || conrelid::regclass FROM pg_constraint
        WHERE confrelid = %(oid)s AND contype = 'f'
    UNION ALL SELECT 'exclusion constraint', conname FROM pg_constraint WHERE conrelid = %(oid)s AND contype = 'x'
    UNION ALL SELECT 'unvalidated constraint', conname FROM pg_constraint WHERE conrelid = %(oid)s AND NOT convalidated
    UNION ALL SELECT 'invalid index', indexrelid::regclass::text FROM pg_index
        WHERE indrelid = %(oid)s AND NOT indisvalid
    UNION ALL SELECT 'row security policy', polname FROM pg_policy WHERE polrelid = %(oid)s
    UNION ALL SELECT 'row security', relname FROM pg_class WHERE oid = %(oid)s AND relrowsecurity
    UNION ALL SELECT 'publication', p.pubname FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
        WHERE r.prrelid = %(oid)s
    UNION ALL SELECT 'extended statistics', stxname FROM pg_statistic_ext WHERE stxrelid = %(oid)s
    UNION ALL SELECT 'inheritance', CASE WHEN inhparent = %(oid)s THEN inhrelid ELSE inhparent END::regclass::text
        FROM pg_inherits WHERE %(oid)s IN (inhparent, inhrelid)
    UNION ALL SELECT 'replica identity', relreplident::text FROM pg_class WHERE oid = %(oid)s AND relreplident <> 'd'
    UNION ALL SELECT 'row type', reloftype::regtype::text FROM pg_class WHERE oid = %(oid)s AND reloftype <> 0
    UNION ALL SELECT 'temporary table', relname FROM pg_class WHERE oid = %(oid)s AND relpersistence = 't'
    UNION ALL SELECT 'access method', a.amname FROM pg_class c JOIN pg_am a ON a.oid = c.relam
        WHERE c.oid = %(oid)s AND a.amname <> 'heap'"""

_REMEDIES = {
    "trigger": "drop it, and create it again on the partitioned table",
    "rule": "drop it: partitioned tables are better served by triggers",
    "view": "drop it, and create it again afterwards: it would go on reading the old table",
    "function": "drop it, and create it again afterwards: it would go on using the old table",
    "column of its row type": "change its type: it would go on using the old table's",
    "incoming foreign key": "drop it: what it refers to is no longer unique without the partition key",
    "exclusion constraint": "drop it: partitioned tables of PostgreSQL 15 and 16 have none",
    "unvalidated constraint": "validate it, or drop it",
    "invalid index": "drop it, or build it again with REINDEX",
    "row security policy": "drop it, and create it again on the partitioned table",
    "row security": "disable it, and enable it again on the partitioned table",
    "publication": "take the table out of it, and add it again afterwards",
    "extended statistics": "drop them, and create them again afterwards",
    "inheritance": "end it with ALTER TABLE … NO INHERIT",
    "replica identity": "set it to DEFAULT, and set it again afterwards",
    "row type": "end it with ALTER TABLE … NOT OF",
    "temporary table": "use a permanent table",
    "access method": "set it to heap",
}


def _obstacles(connection: Connection, found: Relation) -> Iterator[str]:
    for what, name in connection.execute(_OBSTACLES, {"oid": found.identity}).fetchall():
        yield f"{what} {name}: {_REMEDIES[what]}"
