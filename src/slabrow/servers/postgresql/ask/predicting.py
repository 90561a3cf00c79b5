"""The facts that predictions need beside the tree: columns and views of the tables named, and the settings.

Apart from the catalogue because it needs the parser, which is slow to load.
"""

from collections.abc import Iterable

from slabrow.core.pruning.predict import Settings
from slabrow.core.sql.mentions import tables_in
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import kind_of
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.ask.side_effects import FIRST_OF_USERS
from slabrow.servers.postgresql.connection import Connection


def schema(connection: Connection, names: Iterable[Name]) -> Schema:
    """The columns of the tables that statements name, and what the views among them are: one query.

    Names that stand for nothing are left out. Views bring the tables that they read.
    """
    found: dict[Name, dict[str, KeyColumn]] = {}
    views: dict[Name, str] = {}
    path = connection.execute("SELECT current_schemas(true)::text[]").fetchone()
    waiting = {str(name) for name in names}
    asked: set[str] = set()
    while waiting:
        rows = connection.execute(
            """SELECT n.nspname, c.relname, CASE WHEN c.relkind = 'v' THEN pg_get_viewdef(c.oid) END,
                      (SELECT jsonb_agg(jsonb_build_array(
                           a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull,
                           CASE WHEN a.attcollation <> 0 THEN a.attcollation::regcollation::text END)
                           ORDER BY a.attnum)
                       FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)
               FROM (SELECT DISTINCT to_regclass(name) AS oid FROM unnest(%s::text[]) name) w
               JOIN pg_class c ON c.oid = w.oid JOIN pg_namespace n ON n.oid = c.relnamespace""",
            [sorted(waiting)],
        ).fetchall()
        asked |= waiting
        waiting = set()
        for schema_name, table, view, columns_found in rows:
            name = Name(schema_name, table)
            if view is not None:
                views[name] = view.strip().removesuffix(";")
                waiting |= {str(each) for each in tables_in(views[name]) or ()} - asked
                continue
            found[name] = {
                column: KeyColumn(column, column, kind_of(type_name), type_name, not_null, collation=collation)
                for column, type_name, not_null, collation in columns_found or ()
            }
    volatile = connection.execute(
        "SELECT DISTINCT proname::text FROM pg_proc WHERE provolatile = 'v' AND oid >= %s", [FIRST_OF_USERS]
    ).fetchall()
    return Schema(found, tuple(path[0]) if path else (), views, frozenset(name for (name,) in volatile))


def settings(connection: Connection) -> Settings:
    """The settings of the session that change what prunes."""
    names = ("enable_partition_pruning", "enable_partitionwise_join", "enable_partitionwise_aggregate")
    prunes, joins, aggregates = (_is_on(connection, name) for name in names)
    return Settings(prunes, joins or aggregates)


def _is_on(connection: Connection, name: str) -> bool:
    row = connection.execute("SELECT current_setting(%s) = 'on'", [name]).fetchone()
    return bool(row and row[0])
