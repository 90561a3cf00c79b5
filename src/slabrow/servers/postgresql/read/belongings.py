"""Reads what is bound to a table by its number, as SQL that binds it to whatever table has the name when it is run.

All definitions are spelled with an empty search path, so that each name in them has its schema.
"""

from typing import Any

from slabrow.core.table.belongings import Belongings, Definition, ExtendedStatistics, IncomingKey, Publication
from slabrow.core.table.relation import Relation
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK, BUILT
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection


def belongings(connection: Connection, found: Relation) -> Belongings:
    """Everything that is bound to the table. Call it within `connection.reading`."""
    before = connection.execute("SELECT current_setting('search_path')").fetchall()[0][0]
    connection.execute("SELECT set_config('search_path', 'pg_catalog', true)")
    try:
        return _read(connection, found)
    finally:
        connection.execute("SELECT set_config('search_path', %s, true)", [before])


def _read(connection: Connection, found: Relation) -> Belongings:
    def rows(query: str) -> list[tuple[Any, ...]]:
        return connection.execute(query.encode(), {"oid": found.identity}).fetchall()

    [(security, forced, identity, identity_index)] = rows(_TABLE)
    return Belongings(
        triggers=tuple(Definition(*row) for row in rows(_TRIGGERS)),
        policies=tuple(Definition(*row) for row in rows(_POLICIES)),
        views=tuple(Definition(*row) for row in rows(_VIEWS)),
        functions=tuple(Definition(*row) for row in rows(_FUNCTIONS)),
        publications=tuple(Publication(*row) for row in rows(_PUBLICATIONS)),
        statistics=tuple(
            ExtendedStatistics(Name(schema, name), form, target, comment)
            for schema, name, form, target, comment in rows(_STATISTICS)
        ),
        incoming=tuple(
            IncomingKey(Name(schema, child), name, definition, tuple(columns))
            for schema, child, name, definition, columns in rows(_INCOMING)
        ),
        row_security=(*(("ENABLE",) if security else ()), *(("FORCE",) if forced else ())),
        replica_identity=identity,
        identity_index=identity_index,
        constraint_comments=tuple((name, comment) for name, comment in rows(_CONSTRAINT_COMMENTS)),
        sequence_grants=tuple((Name(schema, name), grant) for schema, name, grant in rows(_SEQUENCE_GRANTS)),
        obstacles=tuple(f"{what} {name}: {_REMEDIES[what]}" for what, name in rows(_OBSTACLES)),
        digest=connection.execute(digest(str(found.identity)).encode()).fetchall()[0][0],
    )


def digest(table: str) -> str:
    """The query of the digest, to be asked with `search_path = pg_catalog`. table: its number as SQL.

    What a conversion itself adds to the table is left out.
    """
    return f"""SELECT md5(string_agg(said, E'\\n' ORDER BY said)) AS digest FROM (
    SELECT pg_get_indexdef(x.indexrelid) AS said FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
        WHERE x.indrelid = {table} AND i.relname !~ '{BUILT}$'
    UNION ALL SELECT conname || pg_get_constraintdef(oid) FROM pg_constraint
        WHERE conrelid = {table} AND contype IN ('p', 'u', 'f', 'c', 'x') AND conname <> '{BOUNDS_CHECK}'
    UNION ALL SELECT conrelid::text || conname || pg_get_constraintdef(oid) FROM pg_constraint
        WHERE confrelid = {table} AND conparentid = 0
    UNION ALL SELECT concat_ws(' ', a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity,
                               a.attgenerated,
                               a.attstorage, a.attacl, pg_get_expr(d.adbin, d.adrelid))
        FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        WHERE a.attrelid = {table} AND a.attnum > 0 AND NOT a.attisdropped
    UNION ALL SELECT concat_ws(' ', pg_get_triggerdef(oid), tgenabled) FROM pg_trigger
        WHERE tgrelid = {table} AND NOT tgisinternal AND tgname !~ '^slabrow_'
    UNION ALL SELECT concat_ws(' ', polname, polcmd, polroles, pg_get_expr(polqual, polrelid),
                               pg_get_expr(polwithcheck, polrelid))
        FROM pg_policy WHERE polrelid = {table}
    UNION ALL SELECT pg_get_statisticsobjdef(oid) FROM pg_statistic_ext WHERE stxrelid = {table}
    UNION ALL SELECT concat_ws(' ', p.pubname, r.prattrs, r.prqual) FROM pg_publication_rel r
        JOIN pg_publication p ON p.oid = r.prpubid WHERE r.prrelid = {table}
    UNION ALL SELECT concat_ws(' ', relowner, relacl, reloptions, relrowsecurity, relforcerowsecurity, relreplident)
        FROM pg_class WHERE oid = {table}) s"""


_TABLE = """
    SELECT c.relrowsecurity, c.relforcerowsecurity, c.relreplident::text,
           (SELECT i.relname FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
            WHERE x.indrelid = c.oid AND x.indisreplident)
    FROM pg_class c WHERE c.oid = %(oid)s"""

# Slabrow's own are not the table's.
_TRIGGERS = """
    SELECT tgname, pg_get_triggerdef(oid), tgenabled::text FROM pg_trigger
    WHERE tgrelid = %(oid)s AND NOT tgisinternal AND tgparentid = 0 AND tgname !~ '^slabrow_' ORDER BY tgname"""

_POLICIES = """
    SELECT p.polname, format('CREATE POLICY %%I ON %%I.%%I AS %%s FOR %%s TO %%s%%s%%s', p.polname, n.nspname,
    c.relname,
               CASE WHEN p.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END,
               CASE p.polcmd::text WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE'
                                   WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
               CASE WHEN p.polroles = '{0}' THEN 'PUBLIC'
                    ELSE (SELECT string_agg(quote_ident(rolname), ', ') FROM pg_roles WHERE oid = ANY (p.polroles)) END,
               ' USING (' || pg_get_expr(p.polqual, p.polrelid) || ')',
               ' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')')
    FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE p.polrelid = %(oid)s ORDER BY p.polname"""

_VIEWS = """
    SELECT DISTINCT v.oid::regclass::text,
           format('CREATE OR REPLACE VIEW %%I.%%I%%s AS %%s', n.nspname, v.relname,
                  coalesce(' WITH (' || (SELECT string_agg(format('%%I = %%L', split_part(option, '=', 1),
                      substr(option, strpos(option, '=') + 1)), ', ') FROM unnest(v.reloptions) option) || ')', ''),
                  pg_get_viewdef(v.oid))
    FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class v ON v.oid = r.ev_class
    JOIN pg_namespace n ON n.oid = v.relnamespace
    WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
      AND r.ev_class <> %(oid)s AND v.relkind = 'v' ORDER BY 1"""

# Those whose body the server has read already (BEGIN ATOMIC). A text body is read by name each time.
_FUNCTIONS = """
    SELECT DISTINCT d.objid::regprocedure::text, pg_get_functiondef(d.objid) FROM pg_depend d
    WHERE d.classid = 'pg_proc'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
    ORDER BY 1"""

_PUBLICATIONS = """
    SELECT p.pubname, coalesce(' (' || (SELECT string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum)
               FROM pg_attribute a WHERE a.attrelid = r.prrelid AND a.attnum = ANY (r.prattrs)) || ')', '')
           || coalesce(' WHERE (' || pg_get_expr(r.prqual, r.prrelid) || ')', ''), p.pubviaroot
    FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE r.prrelid = %(oid)s ORDER BY 1"""

_STATISTICS = """
    SELECT n.nspname, s.stxname,
           CASE WHEN cardinality(s.stxkind) = 1 AND s.stxkind[1] = 'e' THEN '' ELSE
               '(' || array_to_string(ARRAY(SELECT CASE kind WHEN 'd' THEN 'ndistinct' WHEN 'f' THEN 'dependencies'
                   ELSE 'mcv' END FROM unnest(s.stxkind) kind WHERE kind <> 'e'), ', ') || ')' END
           || ' ON ' || pg_get_statisticsobjdef_columns(s.oid),
           nullif(s.stxstattarget, -1), obj_description(s.oid, 'pg_statistic_ext')
    FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE s.stxrelid = %(oid)s ORDER BY 1, 2"""

# conparentid: of a partitioned child only its own key counts, its partitions follow.
_INCOMING = """
    SELECT n.nspname, t.relname, c.conname, pg_get_constraintdef(c.oid),
           ARRAY(SELECT a.attname FROM unnest(c.confkey) WITH ORDINALITY k (attnum, place)
                 JOIN pg_attribute a ON a.attrelid = c.confrelid AND a.attnum = k.attnum ORDER BY k.place)
    FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid JOIN pg_namespace n ON n.oid = t.relnamespace
    WHERE c.confrelid = %(oid)s AND c.contype = 'f' AND c.conparentid = 0 ORDER BY 1, 2, 3"""

_CONSTRAINT_COMMENTS = """
    SELECT conname, obj_description(oid, 'pg_constraint') FROM pg_constraint
    WHERE conrelid = %(oid)s AND contype IN ('p', 'u', 'c', 'f') AND obj_description(oid, 'pg_constraint') IS NOT NULL
    ORDER BY 1"""

_SEQUENCE_GRANTS = """
    SELECT n.nspname, s.relname, format('GRANT %%s ON SEQUENCE %%I.%%I TO %%s%%s', g.privilege_type, n.nspname,
    s.relname,
               CASE WHEN g.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END,
               CASE WHEN g.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END)
    FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
    JOIN pg_namespace n ON n.oid = s.relnamespace CROSS JOIN aclexplode(s.relacl) g
    WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
      AND d.deptype = 'i' AND g.grantee <> s.relowner ORDER BY 1, 2, 3"""

_OBSTACLES = """
    SELECT 'rule', rulename::text FROM pg_rewrite WHERE ev_class = %(oid)s AND rulename <> '_RETURN'
    UNION ALL SELECT 'trigger with transition tables', tgname FROM pg_trigger
        WHERE tgrelid = %(oid)s AND NOT tgisinternal AND tgtype & 1 = 1 AND (tgoldtable IS NOT NULL OR tgnewtable IS
        NOT NULL)
    UNION ALL SELECT DISTINCT 'materialized view', r.ev_class::regclass::text
        FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class v ON v.oid = r.ev_class
        WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
          AND v.relkind = 'm'
    UNION ALL SELECT DISTINCT 'rule of another table', r.ev_class::regclass || '.' || r.rulename
        FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class v ON v.oid = r.ev_class
        WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
          AND r.ev_class <> %(oid)s AND v.relkind IN ('r', 'p')
    UNION ALL SELECT 'function with its row type', d.objid::regprocedure::text FROM pg_depend d
        WHERE d.classid = 'pg_proc'::regclass AND d.refclassid = 'pg_type'::regclass AND d.refobjid IN
              (SELECT unnest(ARRAY[t.oid, t.typarray]) FROM pg_type t WHERE t.typrelid = %(oid)s)
    UNION ALL SELECT 'column of its row type', a.attrelid::regclass || '.' || quote_ident(a.attname)
        FROM pg_attribute a JOIN pg_type t ON a.atttypid IN (t.oid, t.typarray)
        WHERE t.typrelid = %(oid)s AND NOT a.attisdropped
    UNION ALL SELECT DISTINCT 'policy of another table', p.polrelid::regclass || '.' || p.polname
        FROM pg_depend d JOIN pg_policy p ON p.oid = d.objid
        WHERE d.classid = 'pg_policy'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = %(oid)s
          AND p.polrelid <> %(oid)s
    UNION ALL SELECT 'exclusion constraint', conname FROM pg_constraint WHERE conrelid = %(oid)s AND contype = 'x'
    UNION ALL SELECT 'unvalidated constraint', conname FROM pg_constraint WHERE conrelid = %(oid)s AND NOT convalidated
    UNION ALL SELECT 'foreign key to itself', conname FROM pg_constraint
        WHERE conrelid = %(oid)s AND confrelid = %(oid)s AND contype = 'f'
    UNION ALL SELECT 'invalid index', indexrelid::regclass::text FROM pg_index
        WHERE indrelid = %(oid)s AND NOT indisvalid
    UNION ALL SELECT 'inheritance', CASE WHEN i.inhparent = %(oid)s THEN i.inhrelid ELSE i.inhparent END::regclass::text
        FROM pg_inherits i JOIN pg_class p ON p.oid = i.inhparent
        WHERE %(oid)s IN (i.inhparent, i.inhrelid) AND p.relkind <> 'p'
    UNION ALL SELECT 'partition', relname FROM pg_class WHERE oid = %(oid)s AND relispartition
    UNION ALL SELECT 'foreign partition', i.inhrelid::regclass::text
        FROM pg_partition_tree(%(oid)s) t JOIN pg_inherits i ON i.inhrelid = t.relid JOIN pg_class c ON c.oid = t.relid
        WHERE c.relkind = 'f'
    UNION ALL SELECT 'row type', reloftype::regtype::text FROM pg_class WHERE oid = %(oid)s AND reloftype <> 0
    UNION ALL SELECT 'temporary table', relname FROM pg_class WHERE oid = %(oid)s AND relpersistence = 't'
    UNION ALL SELECT 'access method', a.amname FROM pg_class c JOIN pg_am a ON a.oid = c.relam
        WHERE c.oid = %(oid)s AND c.relkind = 'r' AND a.amname <> 'heap'"""

_REMEDIES = {
    "rule": "drop it: partitioned tables are better served by triggers",
    "trigger with transition tables": "drop it: the server allows none for each row of a partitioned table",
    "materialized view": "drop it, and create it again afterwards: it would go on reading the old table",
    "rule of another table": "drop it, and create it again afterwards: it would go on using the old table",
    "function with its row type": "drop it, and create it again afterwards: it would go on using the old table's "
    "row type",
    "column of its row type": "change its type: it would go on using the old table's",
    "policy of another table": "drop it, and create it again afterwards: it would go on reading the old table",
    "exclusion constraint": "drop it: partitioned tables of PostgreSQL 15 and 16 have none",
    "unvalidated constraint": "validate it, or drop it",
    "foreign key to itself": "drop it, and add it again afterwards with the partition key in it",
    "invalid index": "drop it, or build it again with REINDEX",
    "inheritance": "end it with ALTER TABLE … NO INHERIT",
    "partition": "convert the table that it is a part of",
    "foreign partition": "bring its rows here first: a foreign table cannot be followed",
    "row type": "end it with ALTER TABLE … NOT OF",
    "temporary table": "use a permanent table",
    "access method": "set it to heap",
}
