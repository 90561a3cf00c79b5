"""Reads what is special about single partitions. Names in definitions are spelled with their schemas."""

from collections.abc import Sequence

from slabrow.core.table.partition_facts import PartitionFacts
from slabrow.core.table.relation import Relation
from slabrow.core.table.shape import Index
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.belongings import digest
from slabrow.servers.postgresql.read.shape import indexes


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
        WHERE tgrelid = ANY (%(numbers)s) AND NOT tgisinternal AND tgparentid = 0 AND tgname !~ '^slabrow_'
    UNION ALL SELECT DISTINCT 'view', r.ev_class::regclass::text
        FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
        WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass
          AND d.refobjid = ANY (%(numbers)s) AND NOT r.ev_class = ANY (%(numbers)s)
    UNION ALL SELECT 'rule', ev_class::regclass || '.' || rulename FROM pg_rewrite WHERE ev_class = ANY (%(numbers)s)
    UNION ALL SELECT 'function', d.objid::regprocedure::text FROM pg_depend d
        WHERE d.classid = 'pg_proc'::regclass AND d.refclassid = 'pg_class'::regclass
          AND d.refobjid = ANY (%(numbers)s)
    UNION ALL SELECT 'publication', p.pubname || ' of ' || r.prrelid::regclass
        FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE r.prrelid = ANY (%(numbers)s)
    UNION ALL SELECT 'check of its own', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE conrelid = ANY (%(numbers)s) AND contype = 'c' AND coninhcount = 0 AND conname <> %(bounds)s
    UNION ALL SELECT 'foreign key of its own', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE conrelid = ANY (%(numbers)s) AND contype = 'f' AND conparentid = 0
    UNION ALL SELECT 'exclusion constraint', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE conrelid = ANY (%(parents)s || %(numbers)s) AND contype = 'x'
    UNION ALL SELECT 'incoming foreign key', conrelid::regclass || '.' || conname FROM pg_constraint
        WHERE confrelid = ANY (%(parents)s || %(numbers)s) AND contype = 'f' AND conparentid = 0
    UNION ALL SELECT 'foreign table', oid::regclass::text FROM pg_class
        WHERE oid = ANY (%(numbers)s) AND relkind = 'f'
    UNION ALL SELECT 'partitioned partition', oid::regclass::text FROM pg_class
        WHERE oid = ANY (%(numbers)s) AND relkind = 'p'
    UNION ALL SELECT 'unfinished detaching', inhrelid::regclass::text FROM pg_inherits
        WHERE inhrelid = ANY (%(numbers)s) AND inhdetachpending"""

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
    "foreign table": "bring its rows here first: a foreign table cannot be followed",
    "partitioned partition": "divide, or merge, its own partitions one by one: name those",
    "unfinished detaching": "finish that: slabrow tend --go",
}
