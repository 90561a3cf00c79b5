"""Reads where partitions and their indexes lie."""

from collections.abc import Sequence

from slabrow.core.upkeep.relocation import IndexPlace, LeafPlace, PlaceFacts
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, reading

# `reltablespace` is 0 for what lies in the database's own tablespace.
_SPACE = "(SELECT spcname FROM pg_tablespace WHERE oid = coalesce(nullif({}.reltablespace, 0), d.dattablespace))"
_LEAVES = f"""
    SELECT n.nspname, c.relname, {_SPACE.format("c")},
           pg_relation_size(c.oid) + coalesce(pg_total_relation_size(nullif(c.reltoastrelid, 0)), 0)
    FROM unnest(%(names)s::text[]) WITH ORDINALITY u (name, place)
    JOIN pg_class c ON c.oid = to_regclass(u.name) AND c.relkind = 'r' JOIN pg_namespace n ON n.oid = c.relnamespace
    CROSS JOIN (SELECT dattablespace FROM pg_database WHERE datname = current_database()) d ORDER BY u.place"""
# What REINDEX CONCURRENTLY leaves when it is stopped (PostgreSQL manual, REINDEX): an invalid index by such a name.
_INDEXES = f"""
    SELECT t.relname, n.nspname, c.relname, {_SPACE.format("c")}, pg_relation_size(c.oid),
           NOT i.indisvalid AND c.relname ~ '_cc(new|old)[0-9]*$', i.indisexclusion
    FROM unnest(%(names)s::text[]) u (name) JOIN pg_index i ON i.indrelid = to_regclass(u.name)
    JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
    CROSS JOIN (SELECT dattablespace FROM pg_database WHERE datname = current_database()) d
    ORDER BY t.relname, c.relname"""


def places(connection: Connection, names: Sequence[Name], target: str) -> PlaceFacts:
    """Of these leaves. target: the tablespace that they are to lie in, which may not be there."""
    spelled = [str(name) for name in names]
    with reading(connection):
        leaves = connection.execute(_LEAVES.encode(), {"names": spelled}).fetchall()
        indexes = connection.execute(_INDEXES.encode(), {"names": spelled}).fetchall()
        known = connection.execute(
            "SELECT spcname FROM pg_tablespace WHERE spcname <> 'pg_global' ORDER BY 1"
        ).fetchall()
        usual, may_use, standbys = connection.execute(
            """SELECT (SELECT spcname FROM pg_tablespace t JOIN pg_database d ON t.oid = d.dattablespace
                       WHERE d.datname = current_database()),
                      coalesce((SELECT has_tablespace_privilege(oid, 'CREATE') FROM pg_tablespace
                                WHERE spcname = %(target)s), false),
                      (SELECT count(*) FROM pg_stat_replication)""",
            {"target": target},
        ).fetchall()[0]
    found = tuple(
        LeafPlace(
            Name(schema, table),
            space,
            int(size),
            tuple(
                IndexPlace(Name(*rest[:2]), rest[2], int(rest[3]), rest[4], rest[5])
                for owner, *rest in indexes
                if owner == table and rest[0] == schema
            ),
        )
        for schema, table, space, size in leaves
    )
    return PlaceFacts(found, tuple(name for (name,) in known), usual, may_use or target == usual, int(standbys))
