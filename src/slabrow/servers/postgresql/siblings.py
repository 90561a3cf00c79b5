"""What a new partition takes over from those beside it, because the parent does not hand it down."""

from slabrow.core.names import Name
from slabrow.core.shape import Traits
from slabrow.servers.postgresql.connection import Connection


def traits(connection: Connection, sibling: Name) -> Traits:
    """Of one partition, its owner's own rights left out."""
    row = connection.execute(
        """SELECT coalesce(c.reloptions, '{}'), c.relreplident::text,
                  (SELECT jsonb_agg(jsonb_build_array(a.privilege_type, r.rolname, a.is_grantable)
                                    ORDER BY r.rolname, a.privilege_type)
                   FROM aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee
                   WHERE a.grantee <> c.relowner),
                  (SELECT jsonb_agg(jsonb_build_array(p.pubname, pg_has_role(p.pubowner, 'USAGE')) ORDER BY p.pubname)
                   FROM pg_publication_rel m JOIN pg_publication p ON p.oid = m.prpubid WHERE m.prrelid = c.oid)
           FROM pg_class c WHERE c.oid = to_regclass(%s)""",
        [str(sibling)],
    ).fetchone()
    if row is None:
        return Traits()
    options, identity, grants, publications = row
    identities = {"f": "FULL", "n": "NOTHING"}
    return Traits(
        tuple(options),
        identities.get(identity),
        tuple(tuple(each) for each in grants or ()),
        tuple(name for name, is_ours in publications or () if is_ours),
        tuple(name for name, is_ours in publications or () if not is_ours),
    )
