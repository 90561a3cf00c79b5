"""Lets a partition out as a table of its own: one statement, that copies no row."""

from __future__ import annotations

from slabrow.core.upkeep.membership import LeavingPlan
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.errors import Refusal
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier, literal
from slabrow.servers.mariadb.write.upkeep import NOBODY, WAIT


def leaving(plan: LeavingPlan) -> tuple[Step, ...]:
    """A partition becomes a table of its own. Raises Refusal when a check of its bounds is to stay."""
    if plan.keeps:
        raise Refusal(
            "this server keeps no check of the bounds",
            found="it looks through all rows of a table that comes in, whatever is checked on it",
            fix="leave --keep-check out",
        )
    part, table = identifier(plan.partition.table), quoting.table(plan.released)
    sql = f"ALTER TABLE {quoting.table(plan.parent)} {WAIT}CONVERT PARTITION {part} TO TABLE {table}"
    in_parent = f"table_schema = {literal(plan.parent.schema or '')} AND table_name = {literal(plan.parent.table)}"
    is_done = (
        "SELECT NOT EXISTS (SELECT 1 FROM information_schema.partitions "
        f"WHERE {in_parent} AND partition_name = {literal(plan.partition.table)})"
    )
    release = Transaction(f"release {plan.released}", (Statement(sql),), is_atomic=False, strong=NOBODY)
    return (Step(name="release", transaction=release, is_done=is_done),)
