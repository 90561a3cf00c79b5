"""The steps by which a table becomes a partition.

Where nothing holds its keys, one statement takes it in (CONVERT TABLE … TO PARTITION). Else a partition is cut out
of the one that holds them (REORGANIZE), and the table is put in its place: by EXCHANGE while that is empty, behind
LOCK TABLES, so that no row can come in between; by INSERT … SELECT when rows were moved there, because EXCHANGE would
take those out. CONVERT TABLE beside the DEFAULT of a list would leave rows where no query finds them (measured on
10.11), and CONVERT and EXCHANGE look through all rows of the table meanwhile.
"""

from __future__ import annotations

from collections.abc import Iterator

from slabrow.core.upkeep.membership import JoiningPlan, room_for
from slabrow.core.upkeep.statements import Check, Part, Statement, StrongLock, Transaction
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.errors import Refusal
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier, literal
from slabrow.servers.mariadb.write.room import definition, making_room
from slabrow.servers.mariadb.write.upkeep import NOBODY, WAIT


def joining(plan: JoiningPlan) -> tuple[Step, ...]:
    """A table becomes a partition of another. Raises Refusal where there is no room for it."""
    return tuple(_steps(plan))


def _steps(plan: JoiningPlan) -> Iterator[Step]:
    assert plan.tree is not None
    tree, table, name = plan.tree, plan.table.name, plan.table.name.table
    parent, here = quoting.table(tree.table), quoting.table(table)
    room = room_for(plan.bounds, tree, name)
    if room.fault is not None:
        raise Refusal(f"{table} cannot become a partition of {tree.table}", found=room.fault, fix="give other bounds")
    if missing := [f"ADD {each.definition}" for each in plan.missing_indexes]:
        sql = f"ALTER TABLE {here} {', '.join(missing)}"
        yield Step(
            name="build indexes",
            transaction=Transaction(f"build indexes of {table}", (Statement(sql),), is_atomic=False),
            is_done="SELECT FALSE",  # the plan holds those alone that are missing
        )
    if room.host is None and not room.is_made:
        sql = f"ALTER TABLE {parent} {WAIT}CONVERT TABLE {here} TO {definition(tree, plan.bounds, name)}"
        yield Step(
            name="take it in",
            transaction=Transaction(f"adopt {table}", (Statement(sql),), is_atomic=False, strong=NOBODY),
            is_done=f"SELECT {_is_partition(plan)} AND NOT {_is_table(plan)}",
        )
        return
    if (made := making_room(tree, plan.bounds, name)) is not None:
        yield Step(name="make room", transaction=made, is_done=f"SELECT {_is_partition(plan)}")
    inside = f"{parent} PARTITION ({identifier(name)})"
    gone = f"SELECT NOT {_is_table(plan)}"
    if plan.is_empty:
        pass  # a run that was stopped has put its rows in
    elif plan.moves:
        listed = quoting.columns(tuple(column.name for column in plan.parent.columns if not column.generated))
        put = Statement(f"INSERT INTO {inside} ({listed}) SELECT {listed} FROM {here}", 0.8)
        # In the same transaction: a run that was stopped must not bring the same rows in twice.
        emptied = Statement(f"DELETE FROM {here}", 0.2)
        yield Step(name="put rows in", transaction=Transaction(f"adopt {table}", (put, emptied)), is_done=gone)
    else:
        exchange = f"ALTER TABLE {parent} EXCHANGE PARTITION {identifier(name)} WITH TABLE {here}"
        parts = (_is_empty(inside, f"rows came into {name} meanwhile", "--from-catch-all"), Statement(exchange))
        yield Step(name="put rows in", transaction=_locked(f"adopt {table}", (parent, here), parts), is_done=gone)
    emptied_table = (_is_empty(here, f"rows came into {table} meanwhile", ""), Statement(f"DROP TABLE {here}"))
    yield Step(
        name="drop the empty table",
        transaction=_locked(f"drop the empty table {table}", (here,), emptied_table),
        is_done=gone,
    )


def _locked(purpose: str, tables: tuple[str, ...], parts: tuple[Part, ...]) -> Transaction:
    lock = f"LOCK TABLES {', '.join(f'{each} WRITE' for each in tables)}"
    return Transaction(purpose, parts, is_atomic=False, strong=StrongLock(NOBODY.look, strong=lock))


def _is_empty(source: str, text: str, option: str) -> Check:
    fix = f"run it again with {option}" if option else "run it again"
    return Check(f"SELECT 'rows', 0, count(*), count(*) > 0 FROM (SELECT 1 FROM {source} LIMIT 1) s", text, fix=fix)


def _is_partition(plan: JoiningPlan) -> str:
    parent = plan.parent.name
    return (
        "EXISTS (SELECT 1 FROM information_schema.partitions "
        f"WHERE table_schema = {literal(parent.schema or '')} AND table_name = {literal(parent.table)} "
        f"AND partition_name = {literal(plan.table.name.table)})"
    )


def _is_table(plan: JoiningPlan) -> str:
    table = plan.table.name
    return (
        "EXISTS (SELECT 1 FROM information_schema.tables "
        f"WHERE table_schema = {literal(table.schema or '')} AND table_name = {literal(table.table)})"
    )
