"""The steps that move a partition to another tablespace directly: indexes first, beside everybody, then its rows.

Moving rows keeps everybody off that partition for as long as the copy takes; the lock is asked for briefly, and again.
What lies there already is not touched: even that would take the lock (measured: 3 to 9 ms each).
"""

from collections.abc import Iterator

from slabrow.core.upkeep.relocation import IndexPlace, LeafPlace, RelocationPlan
from slabrow.core.upkeep.statements import Part, Statement, Transaction
from slabrow.core.upkeep.steps import NOT_YET, Piece, SpreadStep, Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.locking import ALL_OUT, lock_alone
from slabrow.servers.postgresql.quoting import identifier, literal


def relocating(plan: RelocationPlan) -> tuple[Step, ...]:
    """Leaf by leaf: a plan holds only what is to be moved, and a step that is done is left alone."""
    return tuple(step for leaf in plan.leaves for step in _of_leaf(leaf, plan.target))


def _of_leaf(leaf: LeafPlace, target: str) -> Iterator[Step]:
    called = leaf.name.table
    if left := [each for each in leaf.indexes if each.is_left]:
        yield SpreadStep(
            name=f"clear up {called}",
            pieces=tuple(_dropped(each.name) for each in left),
            transaction=Transaction(f"clear up {called}", ()),
            is_done=NOT_YET,
        )
    elsewhere = leaf.indexes_elsewhere(target)
    online = [each for each in elsewhere if not each.is_exclusion]
    if online:
        yield SpreadStep(
            name=f"move indexes of {called}",
            pieces=tuple(_moved(each, target) for each in online),
            transaction=Transaction(f"move indexes of {called}", ()),
            is_done=NOT_YET,
        )
    moves = [Statement(f"ALTER TABLE {quoting.table(leaf.name)} SET TABLESPACE {identifier(target)}")]
    moves = moves if leaf.place != target else []
    # The index of an exclusion constraint cannot be built beside writers.
    held: list[Part] = [
        Statement(f"ALTER INDEX {quoting.table(each.name)} SET TABLESPACE {identifier(target)}")
        for each in elsewhere
        if each.is_exclusion
    ]
    if moves or held:
        yield Step(
            name=f"move rows of {called}",
            transaction=Transaction(
                f"move the rows of {leaf.name}", (*moves, *held), strong=lock_alone((leaf.name,), ALL_OUT)
            ),
            is_done=_lies(leaf.name, target),
        )


def _moved(index: IndexPlace, target: str) -> Piece:
    """A concurrent build waits for old transactions, and nobody waits for it."""
    sql = f"REINDEX (TABLESPACE {identifier(target)}) INDEX CONCURRENTLY {quoting.table(index.name)}"
    transaction = Transaction(f"move {index.name}", (Statement(sql),), is_atomic=False, is_patient=True)
    return Piece(transaction, _lies(index.name, target))


def _dropped(index: Name) -> Piece:
    sql = f"DROP INDEX CONCURRENTLY IF EXISTS {quoting.table(index)}"
    gone = f"SELECT to_regclass({literal(str(index))}) IS NULL"
    return Piece(Transaction(f"drop {index}", (Statement(sql),), is_atomic=False, is_patient=True), gone)


def _lies(name: Name, target: str) -> str:
    """Whether it lies there, or is gone."""
    return (
        "SELECT NOT EXISTS (SELECT FROM pg_catalog.pg_class c JOIN pg_catalog.pg_database d "
        "ON d.datname = current_database() "
        f"WHERE c.oid = to_regclass({literal(str(name))}) AND coalesce(nullif(c.reltablespace, 0), d.dattablespace) <> "
        f"(SELECT oid FROM pg_catalog.pg_tablespace WHERE spcname = {literal(target)}))"
    )
