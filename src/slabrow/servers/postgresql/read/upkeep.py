"""Reads what upkeep needs to know of a table, in as few queries as there are."""

from collections.abc import Callable, Iterator, Sequence
from functools import partial

from slabrow.core.table.bounds import CatchAll
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.read import catalogue, row_counts
from slabrow.servers.postgresql.read.tree_rows import rows_in_parts


def trees_in_parts(
    connection: Connection, names: Sequence[Name], *, with_sizes: bool = True
) -> Iterator[Callable[[], dict[Name, Tree]]]:
    """Many partitioned tables with all their partitions, by the names that were asked for, in one part or two.

    A part is a function: called, it makes the trees of what the server has answered. So the first part can be looked
    at while the server reads the second one. The connection is free when the last part has come.
    Names that are not there, are not partitioned, or lie in a schema that may not be used, are left out; so is a
    table whose bounds cannot be read.
    with_sizes   False: the bytes of partitions are not wanted, and the server need not look at their files
    """
    for rows in rows_in_parts(connection, names, with_sizes=with_sizes):
        yield partial(catalogue.trees, rows)


def upkeep_facts(connection: Connection, tree: Tree, like: Name | None = None) -> UpkeepFacts:
    """The facts about a table that its upkeep is decided and written from.

    like   the partition whose own properties new ones get; None: the newest one
    """
    from slabrow.servers.postgresql.read.siblings import traits

    with reading(connection):
        found = catalogue.relation(connection, tree.table)
        siblings = [leaf for leaf in tree.leaves if not isinstance(leaf.bounds, CatchAll) and leaf.server is None]
        return UpkeepFacts(
            owner=catalogue.owner(connection, found),
            role=catalogue.current_role(connection),
            taken=catalogue.names_in_schema(connection, tree.table.schema),
            columns=catalogue.movable_columns(connection, found),
            traits=traits(connection, tree.table, like or (siblings[-1].name if siblings else None)),
        )


def copying(connection: Connection, tree: Tree) -> Copying | None:
    """The facts for a sweep that copies rows before it locks; None without a catch-all, or where it is no heap."""
    from slabrow.servers.postgresql.read.shape import constraints, indexes

    if tree.catch_all is None:
        return None
    leaves = row_counts.heap_blocks(connection, [leaf.name for leaf in tree.leaves_of(tree.catch_all)])
    if leaves is None:
        return None
    with reading(connection):
        parent = catalogue.relation(connection, tree.table)
        return Copying(leaves, constraints(connection, parent), indexes(connection, parent))
