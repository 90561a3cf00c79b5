"""Checks behind the lock of a split or a merge: nothing has become another thing since the work began."""

from collections.abc import Sequence

from slabrow.core.table.bounds import CatchAll
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.statements import Check, Part, Statement
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.read.belongings import digest

_BEGIN_AGAIN = "give up with --give-up --go, and begin again"


def same_parent(parent: Name, expected: str) -> tuple[Part, ...]:
    """The table is as it was when its shape was read: else attaching would build an index under the lock."""
    number = f"{literal(str(parent))}::regclass::oid"
    return (
        # Definitions are spelled as they were read: with the schema of each name.
        Statement("SET LOCAL search_path = pg_catalog"),
        Check(
            f"SELECT 'definition', 0, 0, digest IS DISTINCT FROM {literal(expected)} AS differs "
            f"FROM ({digest(number)}) d",
            f"{parent} was altered meanwhile: an index, a constraint, a column, a right or the like",
            fix=f"take that back, or {_BEGIN_AGAIN}",
        ),
        Statement("SET LOCAL search_path TO DEFAULT"),
    )


def same_sources(plan: RedivisionPlan) -> Check:
    """The partitions are still partitions of the same parent, with the same bounds. Those of a catch-all move along
    with its siblings, and are looked through when the new one is attached.
    """
    pairs = ", ".join(
        f"({literal(str(source.name))}, "
        f"{'NULL' if isinstance(source.bounds, CatchAll) else literal(source.condition)}::text)"
        for source in plan.sources
    )
    return Check(
        f"SELECT 'partitions', count(*), count(i.inhrelid), count(*) <> count(i.inhrelid) AS differs "
        f"FROM (VALUES {pairs}) v (name, held) LEFT JOIN pg_inherits i ON i.inhrelid = to_regclass(v.name) "
        f"AND i.inhparent = {literal(str(plan.parent))}::regclass AND NOT i.inhdetachpending "
        "AND (v.held IS NULL OR pg_get_partition_constraintdef(i.inhrelid) = v.held)",
        "a partition has left its table, or has other bounds",
        fix=_BEGIN_AGAIN,
    )


def same_files(schema: str, job: int) -> Check:
    """No table that the rows were copied from was rewritten since."""
    return Check(
        "SELECT 'tables', count(*), count(*) FILTER (WHERE is_same), NOT coalesce(bool_and(is_same), true) AS differs "
        f"FROM (SELECT pg_relation_filenode(relation) IS NOT DISTINCT FROM filenode AS is_same "
        f"FROM {identifier(schema)}.reshaping_source WHERE job = {job:d}) t",
        "a partition was rewritten",
        renews=True,
    )


def triggers_at_work(trigger: str, tables: Sequence[Name]) -> Check:
    """The recorder is there, and switched on, on every one of the tables."""
    names = quoting.array([literal(str(each)) for each in tables], "text")
    return Check(
        f"SELECT 'triggers', {len(tables)}, count(*), {len(tables)} <> count(*) AS differs FROM pg_trigger "
        f"WHERE tgrelid IN (SELECT to_regclass(name) FROM unnest({names}) name) AND tgname = {literal(trigger)} "
        "AND tgenabled = 'A'",
        "changes are no longer recorded: somebody switched a trigger off",
        fix=_BEGIN_AGAIN,
    )
