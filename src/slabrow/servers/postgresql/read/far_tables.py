"""Reads what a table needs, and loses, before a partition of it lies on another server (postgres_fdw)."""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from slabrow.core.table.shape import Index
from slabrow.core.upkeep.elsewhere import FarFacts, FarLook, FarTable, OwnKey
from slabrow.core.values.errors import SlabrowError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.far import FarServers
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.shape import indexes

WRAPPER = "postgres_fdw"
# Objects that users make have numbers from here on, and others on each server (FirstNormalObjectId, transam.h).
_FIRST_MADE = 16_384

# As measured: rows a message, and how long a server that does not answer is waited for.
_OPTIONS = {"fetch_size": "10000", "batch_size": "500", "connect_timeout": "3"}

# Who reads or writes the table, directly or by a role it has, and may log in. A superuser needs a mapping too, but
# only the one that works here is known to come.
_UNMAPPED = """
    SELECT r.rolname FROM pg_roles r LEFT JOIN pg_class c ON c.oid = %(root)s::oid
    WHERE (r.rolname = current_user OR (r.rolcanlogin AND NOT r.rolsuper AND EXISTS (
             SELECT FROM (SELECT c.relowner AS who UNION SELECT a.grantee FROM aclexplode(c.relacl) a
                          WHERE a.privilege_type IN ('SELECT', 'INSERT', 'UPDATE', 'DELETE')) g
             WHERE g.who = 0 OR pg_has_role(r.oid, g.who, 'USAGE'))))
      AND NOT EXISTS (SELECT FROM pg_user_mappings m WHERE m.srvname = %(server)s AND m.umuser IN (0, r.oid))
    ORDER BY 1"""

# A partitioned table with any of these takes no foreign partition, or serves it no more (PostgreSQL manual, CREATE
# FOREIGN TABLE and ALTER TABLE; each was tried on 15 and 18).
_OTHERS = """
    SELECT 'foreign key', conname FROM pg_constraint WHERE conrelid = %(root)s AND contype = 'f' AND conparentid = 0
    UNION ALL SELECT 'incoming foreign key', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE confrelid = %(root)s AND contype = 'f' AND conparentid = 0
    UNION ALL SELECT 'exclusion constraint', conname FROM pg_constraint WHERE conrelid = %(root)s AND contype = 'x'
    UNION ALL SELECT 'constraint trigger', tgname FROM pg_trigger
        WHERE tgrelid = %(root)s AND NOT tgisinternal AND tgconstraint <> 0
    UNION ALL SELECT 'trigger with transition tables', tgname FROM pg_trigger
        WHERE tgrelid = %(root)s AND NOT tgisinternal AND (tgoldtable IS NOT NULL OR tgnewtable IS NOT NULL)
    UNION ALL SELECT DISTINCT 'publication', t.pubname::text FROM pg_publication_tables t
        JOIN pg_namespace n ON n.nspname = t.schemaname
        JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.tablename
        WHERE c.oid IN (SELECT relid FROM pg_partition_tree(%(root)s::oid))
    UNION ALL SELECT 'policy of a partition', c.oid::regclass || '.' || polname FROM pg_policy p
        JOIN pg_class c ON c.oid = p.polrelid
        WHERE c.oid IN (SELECT relid FROM pg_partition_tree(%(root)s::oid) WHERE level > 0)"""

_REMEDIES = {
    "foreign key": "drop it: a table with a partition elsewhere can refer to no other",
    "incoming foreign key": "drop it: no table can refer to one with a partition elsewhere",
    "exclusion constraint": "drop it: no table with a partition elsewhere can have one",
    "constraint trigger": "drop it, or make it a plain trigger",
    "trigger with transition tables": "drop it: every INSERT would fail",
    "publication": "take the table out of it: a partition elsewhere cannot be published from here, and without a key "
    "every UPDATE of what is published would fail",
    "policy of a partition": "drop it: a partition elsewhere can have none; those of the table stay",
}

# The last column is what follows ON table in CREATE INDEX. The prefix is spelled as the server does.
_KEYS = """
    SELECT coalesce(k.conname, i.relname), coalesce(pg_get_constraintdef(k.oid), pg_get_indexdef(i.oid)),
           substr(pg_get_indexdef(i.oid), 1 + length(
               'CREATE UNIQUE INDEX ' || quote_ident(i.relname) || ' ON ONLY '
               || quote_ident(n.nspname) || '.' || quote_ident(t.relname) || ' '))
    FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_class t ON t.oid = x.indrelid
    JOIN pg_namespace n ON n.oid = t.relnamespace
    LEFT JOIN pg_constraint k ON k.conindid = i.oid AND k.conrelid = t.oid AND k.contype IN ('p', 'u')
    WHERE x.indrelid = %(root)s AND x.indisunique ORDER BY NOT x.indisprimary, 1"""

# A unique index of the leaf's own, by which each of its rows is found again.
_LEAVES = """
    SELECT n.nspname, c.relname, EXISTS (
             SELECT FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
             WHERE x.indrelid = c.oid AND x.indisunique AND x.indisvalid AND x.indpred IS NULL AND NOT i.relispartition
               AND NOT EXISTS (SELECT FROM unnest(x.indkey) k LEFT JOIN pg_attribute a
                                 ON a.attrelid = c.oid AND a.attnum = k WHERE a.attnotnull IS NOT TRUE))
    FROM pg_partition_tree(%(root)s::oid) t JOIN pg_class c ON c.oid = t.relid AND c.relkind = 'r'
    JOIN pg_namespace n ON n.oid = c.relnamespace WHERE t.isleaf ORDER BY 1, 2"""


def missing(connection: Connection, server: str, far: FarServers, root: Name | None = None) -> tuple[str, ...]:
    """What the database, and the roles that use a table, need before a partition lies there: each with its statement.

    root   the table; None for one that is not there yet, which only this role uses
    Raises UsageError for a server that the layout file does not name.
    """
    far.entry(server)
    with reading(connection):
        role, has_wrapper, is_known, may_use = connection.execute(
            f"""SELECT current_user, EXISTS (SELECT FROM pg_foreign_data_wrapper WHERE fdwname = '{WRAPPER}'),
                       EXISTS (SELECT FROM pg_foreign_server WHERE srvname = %(server)s),
                       coalesce((SELECT has_server_privilege(oid, 'USAGE') FROM pg_foreign_server
                                 WHERE srvname = %(server)s), false)""".encode(),
            {"server": server},
        ).fetchall()[0]
        identity = None if root is None else catalogue.relation(connection, root).identity
        unmapped = connection.execute(_UNMAPPED.encode(), {"root": identity, "server": server}).fetchall()
    named, found = identifier(server), []
    if not has_wrapper:
        found.append(f"the extension {WRAPPER}: a superuser makes it with CREATE EXTENSION {WRAPPER}")
    if not is_known:
        found.append(f"the foreign server {server}: {making_server(server, far)}")
    elif not may_use:
        found.append(f"the right to use it: GRANT USAGE ON FOREIGN SERVER {named} TO {identifier(role)}")
    found += [
        f"a user mapping for {name}: CREATE USER MAPPING FOR {identifier(name)} SERVER {named} "
        "OPTIONS (user '…', password '…')"
        for (name,) in unmapped
    ]
    return tuple(found)


def making_server(server: str, far: FarServers) -> str:
    """The statement that makes a foreign server. Raises UsageError for one that the layout file does not name."""
    options = far.options(server) | _OPTIONS
    spelled = ", ".join(f"{name} {literal(value)}" for name, value in options.items())
    return f"CREATE SERVER {identifier(server)} FOREIGN DATA WRAPPER {WRAPPER} OPTIONS ({spelled})"


def far_facts(connection: Connection, root: Name, server: str, far: FarServers) -> FarFacts:
    """Of a table and a server. Raises UsageError for a server that the layout file does not name."""
    lacking = missing(connection, server, far, root)
    with reading(connection):
        asked = {"root": catalogue.relation(connection, root).identity}
        is_plain = connection.execute(
            f"""SELECT bool_and(atttypid < {_FIRST_MADE}) FROM pg_attribute
                WHERE attrelid = %(root)s AND attnum > 0 AND NOT attisdropped""".encode(),
            asked,
        ).fetchall()[0][0]
        keys = connection.execute(_KEYS.encode(), asked).fetchall()
        others = connection.execute(_OTHERS.encode(), asked).fetchall()
        leaves = connection.execute(_LEAVES.encode(), asked).fetchall()
    return FarFacts(
        missing=lacking,
        keys=tuple(OwnKey(*key) for key in keys),
        others=tuple(f"{what} {name}: {_REMEDIES[what]}" for what, name in others),
        leaves=tuple((Name(schema, table), is_keyed) for schema, table, is_keyed in leaves),
        is_plain=is_plain,
    )


# By the options of the foreign tables.
_FAR_TABLES = """
    SELECT s.srvname, n.nspname, c.relname,
           (SELECT bool_and(atttypid < %s) FROM pg_attribute
            WHERE attrelid = f.ftrelid AND attnum > 0 AND NOT attisdropped),
           (SELECT option_value FROM pg_options_to_table(f.ftoptions) WHERE option_name = 'schema_name'),
           (SELECT option_value FROM pg_options_to_table(f.ftoptions) WHERE option_name = 'table_name')
    FROM pg_foreign_table f JOIN pg_foreign_server s ON s.oid = f.ftserver
    JOIN pg_class c ON c.oid = f.ftrelid JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE {} ORDER BY 2, 3"""


def far_tables(connection: Connection, name: Name) -> dict[Name, FarTable]:
    """By leaf, where the rows of a partition, or of those below it, lie on other servers."""
    below = "f.ftrelid = to_regclass(%s) OR f.ftrelid IN (SELECT relid FROM pg_partition_tree(to_regclass(%s)))"
    with reading(connection):
        rows = connection.execute(_FAR_TABLES.format(below).encode(), [_FIRST_MADE, str(name), str(name)]).fetchall()
    return _tables_of(rows)


def _tables_of(rows: Sequence[tuple[Any, ...]]) -> dict[Name, FarTable]:
    """By the names of the foreign tables."""
    return {
        Name(schema, table): FarTable(server, Name(far_schema or schema, far_name or table), is_plain=is_plain)
        for server, schema, table, is_plain, far_schema, far_name in rows
    }


def indexes_there(far: FarServers, table: FarTable) -> tuple[Index, ...]:
    """Of the table on the other server."""
    there = far.connection(table.server)
    with far.errors(table.server, "read the indexes of a table"), reading(there):
        return indexes(there, catalogue.relation(there, table.table))


def exists_there(far: FarServers, server: str, name: Name) -> bool:
    """Asked of the other server itself."""
    there = far.connection(server)
    with far.errors(server, "look for a table"):
        found: bool = there.execute("SELECT to_regclass(%s) IS NOT NULL", [str(name)]).fetchall()[0][0]
    return found


# A column there is known by its own name, or by the one that the foreign table's option says.
_COLUMNS_HERE = """
    SELECT n.nspname, c.relname,
           jsonb_object_agg(coalesce((SELECT option_value FROM pg_options_to_table(a.attfdwoptions)
                                      WHERE option_name = 'column_name'), a.attname),
                            format_type(a.atttypid, a.atttypmod)),
           -- CHECKs of the parent only. The server does not enforce a CHECK of the foreign table itself.
           (SELECT coalesce(jsonb_agg(conname), '[]') FROM pg_constraint
            WHERE conrelid = c.oid AND contype = 'c' AND convalidated AND coninhcount > 0)
    FROM unnest(%s::text[]) asked JOIN pg_class c ON c.oid = to_regclass(asked)
    JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid
    WHERE a.attnum > 0 AND NOT a.attisdropped GROUP BY 1, 2, c.oid"""
_TABLES_THERE = """
    SELECT c.reltuples::bigint, pg_total_relation_size(c.oid), c.relkind::text,
           (SELECT jsonb_object_agg(attname, format_type(atttypid, atttypmod)) FROM pg_attribute
            WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped),
           (SELECT coalesce(jsonb_agg(conname), '[]') FROM pg_constraint
            WHERE conrelid = c.oid AND contype = 'c' AND convalidated)
    FROM unnest(%s::text[]) WITH ORDINALITY asked (name, place) LEFT JOIN pg_class c ON c.oid = to_regclass(asked.name)
    ORDER BY asked.place"""


def look_there(connection: Connection, names: Sequence[Name], far: FarServers) -> dict[Name, FarLook]:
    """The servers are asked side by side, each once for all its tables. names: of leaves whose rows lie elsewhere."""
    spelled = [str(name) for name in names]
    with reading(connection):
        tables = _tables_of(connection.execute(_FAR_TABLES.format("f.ftrelid = ANY (%s::regclass[])").encode(),
                                               [_FIRST_MADE, spelled]).fetchall())  # fmt: skip
        rows = connection.execute(_COLUMNS_HERE.encode(), [spelled]).fetchall()
    here = {Name(schema, table): (columns, checks) for schema, table, columns, checks in rows}
    by_server: dict[str, list[Name]] = {}
    for name, table in tables.items():
        by_server.setdefault(table.server, []).append(name)

    def ask(server: str) -> dict[Name, FarLook]:
        asked = by_server[server]
        try:
            there = far.connection(server)
            with far.errors(server, "look at its tables"):
                found = there.execute(_TABLES_THERE.encode(), [[str(tables[name].table) for name in asked]]).fetchall()
        except SlabrowError as error:
            why = "; ".join(filter(None, (error.problem, error.found)))
            return {name: FarLook(tables[name], error=why) for name in asked}
        return {name: _look(tables[name], *here[name], row) for name, row in zip(asked, found, strict=True)}

    looks: dict[Name, FarLook] = {}
    with ThreadPoolExecutor(max_workers=max(1, len(by_server))) as crew:
        for some in crew.map(ask, by_server):
            looks |= some
    return looks


def _look(table: FarTable, here: dict[str, str], checks: list[str], row: tuple[Any, ...]) -> FarLook:
    """here: the types of the columns by their names; checks: the names of those that the partition has here."""
    rows, size, kind, there, kept = row
    if kind is None:
        return FarLook(table, faults=(f"its table {table.table} is not there",))
    spelled, faults, missing = quoting.table(table.table), [], []
    unknown = {name: type_name for name, type_name in there.items() if name not in here}
    for name, type_name in here.items():
        if name in there:
            if there[name] != type_name:
                faults.append(f"its column {name} is {type_name} here and {there[name]} there: make them alike")
            continue
        # It may have been renamed here: then a new column there would hide its values.
        if alike := [other for other, of_type in unknown.items() if of_type == type_name]:
            faults.append(
                f"its column {name} is missing there, and {alike[0]}, of the same type, is not known here. If that is "
                f"the same one: ALTER TABLE {spelled} RENAME COLUMN {identifier(alike[0])} TO {identifier(name)}. If "
                f"not, drop {alike[0]} there first"
            )
        else:
            missing.append(name)
    if kind == "p":
        faults.append("its table there is partitioned: an UPDATE may change a row of another partition there")
    return FarLook(
        table,
        None if rows < 0 else rows,
        size,
        missing=tuple(missing),
        checks=tuple(name for name in checks if name not in kept),
        is_guarded=kind == "p" or bool(set(kept) - set(checks)),
        faults=tuple(faults),
    )
