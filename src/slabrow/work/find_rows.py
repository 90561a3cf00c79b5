"""Finds rows: which partition holds those that satisfy a condition, and the first rows of one (N56, N28)."""

from dataclasses import dataclass
from typing import Any

from slabrow.core.pruning.plan_reading import Query
from slabrow.core.sql.condition_text import checked_condition
from slabrow.core.table.bounds import Bounds
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name
from slabrow.work.context import Context

_PLANNED_MS = 30_000


@dataclass(frozen=True, slots=True)
class FoundIn:
    """Rows in one partition. low, high: the least and the greatest key among them, as text; None where there is none"""

    partition: str
    rows: int
    low: str | None
    high: str | None


@dataclass(frozen=True, slots=True)
class RowsFound:
    """read: how many partitions the server had to look at, of all leaves"""

    tree: Tree
    condition: str
    found: tuple[FoundIn, ...]
    read: int

    @property
    def rows(self) -> int:
        """In all partitions together."""
        return sum(each.rows for each in self.found)


@dataclass(frozen=True, slots=True)
class FirstRows:
    """bounds: None for a table that is no partition"""

    name: Name
    bounds: Bounds | None
    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]


def find_rows(context: Context, table: Name, condition: str) -> RowsFound:
    """In a read-only transaction; partitions that cannot hold such rows are pruned.

    Raises UsageError for what is not one condition, Refusal for one that could do more than read.
    """
    checked = checked_condition(condition)
    with context.connected() as session:
        tree = session.catalogue.tree(table)
        query = session.partitions.query_where(tree, checked)
        with session.explained("plan the condition"):
            plan = session.planner.explain(Query(query), _PLANNED_MS)
        if (why := session.fence().why_not(query, plan, changes=False)) is not None:
            raise Refusal("the condition is not asked", found=why, fix="use operators and functions that only read")
        scans = session.planner.read_explained(plan).scans
        leaves = {session.partitions.plan_name(tree, leaf) for leaf in tree.leaves}
        read = len({scan.relation for scan in scans} & leaves)
        rows = session.partitions.rows_where(query, f"look for rows of {tree.spelling}")
    order = {leaf.spelling: place for place, leaf in enumerate(tree.leaves)}
    found = sorted(rows.items(), key=lambda each: order.get(each[0], len(order)))
    return RowsFound(tree, checked, tuple(FoundIn(name, each.rows, each.low, each.high) for name, each in found), read)


def first_rows(context: Context, name: Name, most: int) -> FirstRows:
    """Some rows of a partition, as if it were a table."""
    with context.connected() as session:
        columns, rows = session.partitions.first_rows(name, most)
        place = session.partitions.root_of(name)
        with session.reading():
            full = session.catalogue.relation(name).name
        bounds = None
        if place is not None:
            tree = session.catalogue.tree(place[1])
            bounds = next((child.bounds for child in tree.children if child.name == full), None)
    return FirstRows(full, bounds, columns, tuple(map(tuple, rows)))
