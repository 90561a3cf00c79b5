"""Writes the statement that makes room for a partition which comes in: it is cut out of the one that holds its keys."""

from __future__ import annotations

from slabrow.core.table.bounds import Bounds
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.membership import room_for
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.values.errors import Refusal
from slabrow.core.values.method import By
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.write.definitions import function_end
from slabrow.servers.mariadb.write.upkeep import NOBODY, WAIT, in_order


def making_room(tree: Tree, bounds: Bounds, name: str) -> Transaction | None:
    """The empty partition, with those rows that lie there already; None where an earlier run has made it.

    Raises Refusal where there is no room for it.
    """
    room = room_for(bounds, tree, name)
    if room.fault is not None:
        raise Refusal(f"{name} cannot become a partition of {tree.table}", found=room.fault, fix="give other bounds")
    if room.is_made:
        return None
    made = definition(tree, bounds, name)
    if room.host is None:
        change = f"ADD PARTITION ({made})"
    else:
        change = (
            f"REORGANIZE PARTITION {identifier(room.host.name.table)} INTO ({_divided(tree, room.host, bounds, made)})"
        )
    sql = f"ALTER TABLE {quoting.table(tree.table)} {WAIT}{change}"
    return Transaction(f"make room for {name} in {tree.table}", (Statement(sql),), is_atomic=False, strong=NOBODY)


def _divided(tree: Tree, host: Partition, bounds: Bounds, made: str) -> str:
    kept = definition(tree, host.bounds, host.name.table)
    return in_order([(bounds, made), (host.bounds, kept)], is_list=tree.by is By.LIST)


def definition(tree: Tree, bounds: Bounds, name: str) -> str:
    """A partition with its bounds, in the form of those that are there."""
    return f"PARTITION {identifier(name)} {function_end(tree, bounds, len(tree.key))}"
