"""The rows in a catch-all: those that move into new partitions, and those that stay there, with the reason."""

from collections.abc import Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import Bounds, CatchAll, beyond_all
from slabrow.core.table.counted import CatchAllCount
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action, Create, Sweep
from slabrow.core.upkeep.findings import Finding
from slabrow.core.values.method import By

MOST_NEW_VALUES = 50  # of a list, in one run: a column with more new values is not a list


@dataclass(frozen=True, slots=True)
class CatchAllRows:
    """actions  creations whose rows lie in the catch-all have become sweeps
    findings  what will stay there, and why
    rows      how many lie there that belong elsewhere, or nowhere
    """

    actions: tuple[Action, ...]
    findings: tuple[Finding, ...] = ()
    rows: int = 0


def too_many_values(tree: Tree) -> Finding:
    """The finding for a list that has more new values than it gets partitions for."""
    assert tree.catch_all is not None
    text = (
        f"{tree.catch_all.spelling} holds more than {MOST_NEW_VALUES} values without a partition: write `groups` for "
        "those that need one, or divide the table by hash"
    )
    return Finding("drift", text, tree.catch_all.spelling)


def wanted_counts(layout: Layout, tree: Tree, actions: Sequence[Action]) -> tuple[Bounds | None, ...] | None:
    """The bounds whose rows in the catch-all have to be counted: of each creation, then what lies before all
    partitions, then what lies beyond them. None when nothing has to be counted.

    Raises ValueError for bounds that have no order.
    """
    creations = _creations(actions)
    if layout.by is By.LIST and not creations:
        return None  # values that no list names belong into the catch-all of a list
    outside = beyond_all([bounds for _, bounds in tree.ranges], [each.bounds for each in creations])
    return (*(each.bounds for each in creations), *outside)


def with_sweeps(layout: Layout, tree: Tree, actions: Sequence[Action], count: CatchAllCount) -> CatchAllRows:
    """count: for the bounds that `wanted_counts` names."""
    assert tree.catch_all is not None
    catch_all = tree.catch_all
    *found, early, late = count.held
    lying = dict(zip(_creations(actions), found, strict=True))
    replaced: list[Action] = []
    for action in actions:
        rows = lying.get(action) if isinstance(action, Create) else None
        if rows is None or not rows.rows or not isinstance(action, Create):
            replaced.append(action)
            continue
        reason = f"it was missing: {rows.rows:,} rows with keys from {rows.low} to {rows.high} fell into the catch-all"
        replaced.append(
            Sweep(
                table=action.table,
                partition=action.partition,
                bounds=action.bounds,
                reason=reason,
                catch_all=catch_all.name,
                rows=rows.rows,
                low=rows.low or "",
                high=rows.high or "",
                inner=action.inner,
            )
        )
    moving = sum(each.rows for each in found)
    staying = count.every.rows - moving
    if not staying or layout.by is By.LIST:
        return CatchAllRows(tuple(replaced), rows=moving)
    nulls = count.nulls
    words = [f"{nulls.rows:,} without a key"] if nulls.rows else []
    words += [f"{early.rows:,} from before the first partition (late: {early.low} to {early.high})"] * bool(early.rows)
    words += [f"{late.rows:,} beyond the last (a clock ahead: {late.low} to {late.high})"] * bool(late.rows)
    between = staying - nulls.rows - early.rows - late.rows
    words += [f"{between:,} where a partition is missing that the layout does not make"] * (between > 0)
    text = f"{catch_all.spelling} keeps {staying:,} rows that no partition of this layout takes: {', '.join(words)}"
    finding = Finding("catch_all_rows", text, catch_all.spelling)
    return CatchAllRows(tuple(replaced), (finding,), count.every.rows)


def _creations(actions: Sequence[Action]) -> list[Create]:
    return [action for action in actions if isinstance(action, Create) and not isinstance(action.bounds, CatchAll)]
