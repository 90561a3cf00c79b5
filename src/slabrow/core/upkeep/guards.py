"""Limits of upkeep, whatever layout and clock say: each guard raises Refusal before anything is done."""

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime, timedelta

from slabrow.core.table.bounds import Hashed
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.actions import Action, Archive, Detach, Drop
from slabrow.core.upkeep.planned_partitions import on_grid
from slabrow.core.values.errors import Refusal
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.values.wording import share

MOST_APART = timedelta(minutes=1)


def retiring(actions: Sequence[Action]) -> tuple[Action, ...]:
    """The actions that take rows away from the table."""
    return tuple(action for action in actions if isinstance(action, Detach | Drop | Archive))


def guard_clock(machine: datetime, server: datetime, last: datetime | None) -> None:
    """The clock of this machine, against the server's and against the latest that the ledger holds."""
    if abs(machine - server) > MOST_APART:
        raise Refusal(
            "the clocks of this machine and of the server differ",
            found=f"{machine:%Y-%m-%d %H:%M:%S%z} here, {server:%Y-%m-%d %H:%M:%S%z} there",
            fix="set the clock that is wrong, or say which time it is with --now",
        )
    if last is not None and machine < last - MOST_APART:
        raise Refusal(
            "the clock went backwards",
            found=f"it is {machine:%Y-%m-%d %H:%M:%S%z}, and the ledger holds {last:%Y-%m-%d %H:%M:%S%z}",
            fix="set the clock, or say which time it is with --now",
        )


def has_estimates(tree: Tree) -> bool:
    """Whether the rows of all leaves are estimated: those that were never analysed must not pass for empty ones."""
    return all(leaf.rows is not None or leaf.is_empty for leaf in tree.leaves)


def guard_retiring(
    layout: Layout,
    tree: Tree,
    actions: Sequence[Action],
    allowed: int | None,
    counted: Mapping[str, int] | None = None,
) -> None:
    """How much may leave in one run.

    allowed   the number that somebody named, which has to be the very one
    counted   the rows of each leaf by its spelling, where they were counted
    """
    leaving = retiring(actions)
    if not leaving:
        return
    hashed = [action.partition for action in leaving if isinstance(action.bounds, Hashed)]
    if hashed:
        raise Refusal(
            f"a hash partition is never retired: {hashed[0]} holds a part of all keys", fix="please report this"
        )
    if allowed is not None:
        if allowed != len(leaving):
            raise Refusal(
                f"{len(leaving)} partitions of {layout.table} would leave, and --retiring says {allowed}",
                fix=f"look at what is proposed; if that is meant, say --retiring {len(leaving)}",
            )
        return
    override = f"look at what is proposed; if all of it is meant, say --retiring {len(leaving)}"
    if len(leaving) > layout.at_most_retired:
        raise Refusal(
            f"{len(leaving)} partitions of {layout.table} would leave in one run",
            found=f"`at_most_retired` is {layout.at_most_retired}",
            fix=override,
        )
    gone = {action.partition for action in leaving}
    by_rows = has_estimates(tree)

    def weight(leaves: Sequence[Partition]) -> int:
        if counted is not None:
            return sum(counted.get(leaf.spelling, 0) for leaf in leaves)
        return sum((leaf.rows or 0) if by_rows else 0 if leaf.is_empty else leaf.bytes for leaf in leaves)

    known = (
        ""
        if counted is not None
        else ", by the planner's estimates"
        if by_rows
        else ", by bytes, as some were never analysed"
    )
    whole, lost = weight(tree.leaves), weight(_leaves_of(tree, gone))
    if whole and lost / whole > layout.at_most_share:
        raise Refusal(
            f"{share(lost / whole)} of the rows of {layout.table} would leave in one run",
            found=f"`at_most_share` is {layout.at_most_share:g}{known}",
            fix=override,
        )


def _leaves_of(tree: Tree, names: Collection[Name]) -> list[Partition]:
    """The leaves that go with these partitions: a divided one goes with its own."""
    spelled = {partition.spelling for partition in tree.partitions if partition.name in names}
    return [leaf for leaf in tree.leaves if leaf.name in names or leaf.parent in spelled]


def guard_grid(layout: Layout, tree: Tree) -> None:
    """A span or a zone that was changed: most partitions would be strangers, and new ones would lie across them."""
    if layout.by is not By.RANGE:
        return
    grid = layout.grid(tree.kinds[0])
    ranges = tree.ranges
    strangers = [partition for partition, bounds in ranges if not on_grid(bounds, grid)]
    if len(strangers) > len(ranges) / 2:
        raise Refusal(
            f"the span or the zone of {layout.table} no longer fits its partitions",
            found=f"{len(strangers)} of {len(ranges)} do not lie on its grid, {strangers[0].spelling} among them",
            fix="correct span, zone and `from` in the layout, or convert the table",
        )
