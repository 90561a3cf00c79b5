"""Reads what is special about single partitions. Names in definitions are spelled with their schemas."""

from collections.abc import Sequence

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed
from slabrow.core.table.partition_facts import PartitionFacts
from slabrow.core.table.relation import Relation
from slabrow.core.table.shape import Index
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK
from slabrow.core.upkeep.membership import Staged, column_faults
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.belongings import digest
from slabrow.servers.postgresql.read.shape import indexes, shape


def root_of(connection: Connection, name: Name) -> tuple[Name, Name] | None:
    """The partitioned table that a partition belongs to in the end, and its parent; None for what is no partition."""
    with reading(connection):
        found = catalogue.relation(connection, name)
        row = connection.execute(
            """SELECT rn.nspname, r.relname, pn.nspname, p.relname
               FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid AND c.relispartition
               JOIN pg_class p ON p.oid = i.inhparent JOIN pg_namespace pn ON pn.oid = p.relnamespace
               JOIN pg_class r ON r.oid = pg_partition_root(c.oid) JOIN pg_namespace rn ON rn.oid = r.relnamespace
               WHERE i.inhrelid = %s""",
            [found.identity],
        ).fetchone()
    return None if row is None else (Name(row[0], row[1]), Name(row[2], row[3]))


def facts(connection: Connection, root: Name, parent: Name, names: Sequence[Name]) -> PartitionFacts:
    """Of partitions of one parent."""
    with reading(connection):
        above, top = catalogue.relation(connection, parent), catalogue.relation(connection, root)
        found = [catalogue.relation(connection, name) for name in names]
        numbers = [each.identity for each in found]
        own = tuple(_own_indexes(connection, each) for each in found)
        connection.execute("SELECT set_config('search_path', 'pg_catalog', true)")
        divided_by, parent_condition, spelled = connection.execute(
            """SELECT pg_get_partkeydef(%(parent)s), coalesce(pg_get_partition_constraintdef(%(parent)s), ''),
                      ARRAY(SELECT coalesce(pg_get_partition_constraintdef(number), '')
                            FROM unnest(%(numbers)s::oid[]) WITH ORDINALITY u (number, place) ORDER BY place)""",
            {"parent": above.identity, "numbers": numbers},
        ).fetchall()[0]
        obstacles = connection.execute(
            _OBSTACLES.encode(),
            {"numbers": numbers, "parents": [above.identity, top.identity], "bounds": BOUNDS_CHECK},
        ).fetchall()
        printed = connection.execute(digest(str(above.identity)).encode()).fetchall()[0][0]
    return PartitionFacts(
        divided_by=divided_by,
        parent_condition=parent_condition,
        conditions=tuple(spelled),
        own_indexes=own,
        obstacles=tuple(f"{what} {name}: {_REMEDIES[what]}" for what, name in obstacles),
        digest=printed,
    )


def staged(
    connection: Connection, parent: Name, name: Name, bounds: Bounds, key: tuple[str, ...], catch_all: Name | None
) -> Staged:
    """A table that is to become a partition, with all that keeps it from that. Reads its rows once.

    Raises UsageError for what is no plain table of its own.
    """
    with reading(connection):
        above, found = catalogue.relation(connection, parent), catalogue.relation(connection, name)
        parent_shape = shape(connection, parent)
        table = shape(connection, found.name)
        connection.execute("SELECT set_config('search_path', 'pg_catalog', true)")
        faults = [f"{what} {thing}: {_STAGED_REMEDIES[what]}" for what, thing in connection.execute(
            _STAGED.encode(), {"oid": found.identity, "parent": above.identity}).fetchall()]  # fmt: skip
        faults += column_faults(parent_shape, table)
        if faults:
            return Staged(shape=table, faults=tuple(faults))
        held = _held(bounds, key, above.identity)
        place = quoting.table(found.name)
        spelled = " || ', ' || ".join(f"coalesce({quoting.identifier(each)}::text, 'NULL')" for each in key)
        rows, outside, examples = connection.execute(
            f"""SELECT count(*), count(*) FILTER (WHERE ({held}) IS NOT TRUE),
                       (array_agg({spelled} ORDER BY {quoting.columns(key)}) FILTER (WHERE ({held}) IS NOT TRUE))[1:3]
                FROM {place}""".encode()
        ).fetchall()[0]
        waiting = 0
        if catch_all is not None and not isinstance(bounds, CatchAll):
            waiting = connection.execute(
                f"SELECT count(*) FROM {quoting.table(catch_all)} WHERE {held}".encode()
            ).fetchall()[0][0]
    return Staged(shape=table, rows=rows, outside=outside, examples=tuple(examples or ()), in_catch_all=waiting)


def extent(connection: Connection, name: Name, column: str) -> tuple[str | None, str | None]:
    """The least and the greatest value of a column, as the server spells them."""
    with reading(connection):
        found = catalogue.relation(connection, name)
        quoted = quoting.identifier(column)
        row = connection.execute(
            f"SELECT min({quoted})::text, max({quoted})::text FROM {quoting.table(found.name)}".encode()
        ).fetchall()[0]
    return row[0], row[1]


def _held(bounds: Bounds, key: tuple[str, ...], parent: int) -> str:
    match bounds:
        case Hashed(modulus=modulus, remainder=remainder):
            return f"satisfies_hash_partition({parent}::oid, {modulus}, {remainder}, {quoting.columns(key)})"
        case CatchAll():
            return "true"
        case _:
            return quoting.condition(bounds, key)


_STAGED = """
    SELECT 'partition', oid::regclass::text FROM pg_class WHERE oid = %(oid)s AND relispartition
    UNION ALL SELECT 'partitioned table', oid::regclass::text FROM pg_class WHERE oid = %(oid)s AND relkind = 'p'
    UNION ALL SELECT 'foreign table', oid::regclass::text FROM pg_class WHERE oid = %(oid)s AND relkind = 'f'
    UNION ALL SELECT 'no table', oid::regclass::text FROM pg_class
        WHERE oid = %(oid)s AND relkind NOT IN ('r', 'p', 'f')
    UNION ALL SELECT 'temporary table', oid::regclass::text FROM pg_class
        WHERE oid = %(oid)s AND relpersistence = 't'
    UNION ALL SELECT 'unlogged table', c.oid::regclass::text FROM pg_class c JOIN pg_class p ON p.oid = %(parent)s
        WHERE c.oid = %(oid)s AND c.relpersistence = 'u' AND p.relpersistence = 'p'
    UNION ALL SELECT 'inheritance', i.inhparent::regclass::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
        WHERE i.inhrelid = %(oid)s AND NOT c.relispartition
    UNION ALL SELECT 'inheritance', inhrelid::regclass::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhparent
        WHERE i.inhparent = %(oid)s AND c.relkind = 'r'
    UNION ALL SELECT 'rule', rulename::text FROM pg_rewrite WHERE ev_class = %(oid)s AND rulename <> '_RETURN'
    UNION ALL SELECT 'row type', reloftype::regtype::text FROM pg_class WHERE oid = %(oid)s AND reloftype <> 0
    UNION ALL SELECT 'trigger with transition tables', tgname FROM pg_trigger
        WHERE tgrelid = %(oid)s AND NOT tgisinternal AND tgtype & 1 = 1
          AND (tgoldtable IS NOT NULL OR tgnewtable IS NOT NULL)
    UNION ALL SELECT 'trigger', t.tgname FROM pg_trigger t JOIN pg_trigger p ON p.tgname = t.tgname
        WHERE t.tgrelid = %(oid)s AND p.tgrelid = %(parent)s AND NOT t.tgisinternal AND p.tgtype & 1 = 1
    UNION ALL SELECT 'check', t.conname FROM pg_constraint t JOIN pg_constraint p ON p.conname = t.conname
        WHERE t.conrelid = %(oid)s AND p.conrelid = %(parent)s AND p.contype = 'c'
          AND pg_get_constraintdef(t.oid) <> pg_get_constraintdef(p.oid)
    UNION ALL SELECT 'unchecked constraint', conname FROM pg_constraint
        WHERE conrelid = %(oid)s AND NOT convalidated AND contype IN ('c', 'f')
          AND NOT EXISTS (SELECT FROM pg_constraint p WHERE p.conrelid = %(parent)s AND p.contype = 'f'
                          AND pg_get_constraintdef(p.oid) || ' NOT VALID' = pg_get_constraintdef(pg_constraint.oid))
    UNION ALL SELECT 'invalid index', indexrelid::regclass::text FROM pg_index
        WHERE indrelid = %(oid)s AND NOT indisvalid
    UNION ALL SELECT 'another primary key', t.conname || ' ' || pg_get_constraintdef(t.oid) FROM pg_constraint t
        WHERE t.conrelid = %(oid)s AND t.contype = 'p' AND EXISTS (SELECT FROM pg_constraint p
          WHERE p.conrelid = %(parent)s AND p.contype = 'p' AND pg_get_constraintdef(p.oid) <>
                pg_get_constraintdef(t.oid))"""

_STAGED_REMEDIES = {
    "partition": "let it out first: slabrow release",
    "partitioned table": "bring in a plain table",
    "foreign table": "bring its rows here first",
    "no table": "bring in a table",
    "temporary table": "use a permanent table",
    "unlogged table": "ALTER TABLE … SET LOGGED: a crash would empty it",
    "inheritance": "end it with ALTER TABLE … NO INHERIT",
    "rule": "drop it",
    "row type": "end it with ALTER TABLE … NOT OF",
    "trigger with transition tables": "drop it: the server allows none for each row of a partition",
    "trigger": "drop it: the table has one of that name, which its partitions get",
    "check": "rename or change it: the table has another one of that name",
    "unchecked constraint": "validate it, or drop it",
    "invalid index": "drop it, or build it again with REINDEX",
    "another primary key": "drop it: the one of the table takes its place",
}


def _own_indexes(connection: Connection, found: Relation) -> tuple[Index, ...]:
    rows = connection.execute(
        """SELECT i.relname FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
           WHERE x.indrelid = %s AND NOT i.relispartition AND x.indisvalid""",
        [found.identity],
    ).fetchall()
    alone = {row[0] for row in rows}
    return tuple(index for index in indexes(connection, found) if index.name in alone)


_OBSTACLES = """
    SELECT 'trigger of its own', tgrelid::regclass || '.' || tgname FROM pg_trigger
        WHERE tgrelid = ANY (%(numbers)s::oid[]) AND NOT tgisinternal AND tgparentid = 0 AND tgname !~ '^slabrow_'
    UNION ALL SELECT DISTINCT 'view', r.ev_class::regclass::text
        FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
        WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass
          AND d.refobjid = ANY (%(numbers)s::oid[]) AND NOT r.ev_class = ANY (%(numbers)s::oid[])
    UNION ALL SELECT 'rule', ev_class::regclass || '.' || rulename FROM pg_rewrite
        WHERE ev_class = ANY (%(numbers)s::oid[])
    UNION ALL SELECT 'function', d.objid::regprocedure::text FROM pg_depend d
        WHERE d.classid = 'pg_proc'::regclass AND d.refclassid = 'pg_class'::regclass
          AND d.refobjid = ANY (%(numbers)s::oid[])
    UNION ALL SELECT 'publication', p.pubname || ' of ' || r.prrelid::regclass
        FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE r.prrelid = ANY (%(numbers)s::oid[])
    UNION ALL SELECT 'check of its own', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE conrelid = ANY (%(numbers)s::oid[]) AND contype = 'c' AND coninhcount = 0 AND conname <> %(bounds)s
    UNION ALL SELECT 'foreign key of its own', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE conrelid = ANY (%(numbers)s::oid[]) AND contype = 'f' AND conparentid = 0
    UNION ALL SELECT 'exclusion constraint', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE conrelid = ANY (%(parents)s::oid[] || %(numbers)s::oid[]) AND contype = 'x'
    UNION ALL SELECT 'incoming foreign key', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE confrelid = ANY (%(parents)s::oid[] || %(numbers)s::oid[]) AND contype = 'f' AND conparentid = 0
    UNION ALL SELECT 'foreign table', oid::regclass::text FROM pg_class
        WHERE oid = ANY (%(numbers)s::oid[]) AND relkind = 'f'
    UNION ALL SELECT 'partitioned partition', oid::regclass::text FROM pg_class
        WHERE oid = ANY (%(numbers)s::oid[]) AND relkind = 'p'
    UNION ALL SELECT 'unfinished detaching', inhrelid::regclass::text FROM pg_inherits
        WHERE inhrelid = ANY (%(numbers)s::oid[]) AND inhdetachpending"""

_REMEDIES = {
    "trigger of its own": "drop it, or make it one of the table",
    "view": "let it read the table instead: it would go on reading the old partition",
    "rule": "drop it",
    "function": "write its body as a text: it would go on using the old partition",
    "publication": "publish the table instead, or take the partition out of it",
    "check of its own": "drop it, or add it to the table",
    "foreign key of its own": "drop it, or add it to the table",
    "exclusion constraint": "drop it: it cannot be built beside writers",
    "incoming foreign key": "drop it for the time: the server lets no partition go that other tables refer to",
    "foreign table": "bring its rows home first: slabrow relocate … --to-tablespace NAME",
    "partitioned partition": "name its own partitions, one by one",
    "unfinished detaching": "finish that: slabrow tend --go",
}
