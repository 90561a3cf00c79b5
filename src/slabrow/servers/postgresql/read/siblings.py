"""The properties that a new partition copies from its siblings, because the parent does not pass them on."""

from slabrow.core.table.shape import Traits
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection

_IDENTITIES = {"f": "FULL", "n": "NOTHING"}


def traits(connection: Connection, parent: Name, sibling: Name | None) -> Traits:
    """Of one partition, its owner's own rights left out. sibling: None for the first one.

    Tablespace and access method are the parent's where it has its own (PostgreSQL manual, CREATE TABLE).
    """
    row = connection.execute(
        """SELECT (SELECT spcname FROM pg_tablespace
                   WHERE oid = coalesce(nullif(p.reltablespace, 0), nullif(c.reltablespace, 0))),
                  (SELECT amname FROM pg_am WHERE oid = coalesce(nullif(p.relam, 0), nullif(c.relam, 0))
                                                  AND amname <> current_setting('default_table_access_method')),
                  coalesce(c.reloptions, '{}'), c.relreplident::text,
                  (SELECT jsonb_agg(jsonb_build_array(a.privilege_type, r.rolname, a.is_grantable)
                                    ORDER BY r.rolname, a.privilege_type)
                   FROM aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee
                   WHERE a.grantee <> c.relowner),
                  (SELECT jsonb_agg(jsonb_build_array(p.pubname, pg_has_role(p.pubowner, 'USAGE')) ORDER BY p.pubname)
                   FROM pg_publication_rel m JOIN pg_publication p ON p.oid = m.prpubid WHERE m.prrelid = c.oid),
                  array_remove(ARRAY[CASE WHEN c.relrowsecurity THEN 'ENABLE' END,
                                     CASE WHEN c.relforcerowsecurity THEN 'FORCE' END], NULL),
                  (SELECT jsonb_agg(jsonb_build_array(o.policyname, o.permissive, o.cmd, o.roles, o.qual, o.with_check)
                                    ORDER BY o.policyname)
                   FROM pg_policies o JOIN pg_namespace n ON n.nspname = o.schemaname
                   WHERE n.oid = c.relnamespace AND o.tablename = c.relname),
                  -- Only where the table has no key: what it has, its partitions have anyway.
                  (SELECT jsonb_agg(substring(pg_get_indexdef(x.indexrelid) FROM ' (USING .*)$') ORDER BY x.indexrelid)
                   FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
                   WHERE x.indrelid = c.oid AND x.indisunique AND x.indisvalid AND NOT i.relispartition
                     AND NOT EXISTS (SELECT FROM pg_constraint WHERE conindid = x.indexrelid)
                     AND NOT EXISTS (SELECT FROM pg_index k WHERE k.indrelid = p.oid AND k.indisunique))
           FROM pg_class p LEFT JOIN pg_class c ON c.oid = to_regclass(%s) WHERE p.oid = to_regclass(%s)""",
        [None if sibling is None else str(sibling), str(parent)],
    ).fetchone()
    if row is None:
        return Traits()
    named = f"{quoting.identifier(sibling.table)}." if sibling is not None else ""
    tablespace, access_method, options, identity, grants, publications, row_security, policies, keys = row
    written = [(name, _policy(*rest)) for name, *rest in policies or ()]
    return Traits(
        tablespace=tablespace,
        access_method=access_method,
        options=tuple(options),
        replica_identity=_IDENTITIES.get(identity),
        grants=tuple(tuple(each) for each in grants or ()),
        publications=tuple(name for name, is_ours in publications or () if is_ours),
        out_of_reach=tuple(name for name, is_ours in publications or () if not is_ours),
        row_security=tuple(row_security or ()),
        policies=tuple((name, text) for name, text in written if named not in text),
        named_policies=tuple(name for name, text in written if named in text),
        keys=tuple(keys or ()),
    )


def _policy(kind: str, command: str, roles: list[str], using: str | None, check: str | None) -> str:
    to = ", ".join("PUBLIC" if role == "public" else quoting.identifier(role) for role in roles)
    conditions = (f" USING ({using})" if using else "") + (f" WITH CHECK ({check})" if check else "")
    return f"AS {kind} FOR {command} TO {to}{conditions}"
