"""Partitions that lie elsewhere than their age says, and where planned ones will lie (N14). Pure."""

from collections.abc import Collection, Iterator
from datetime import datetime
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Bounds, Range
from slabrow.core.table.layout import Layout, PlaceRule
from slabrow.core.table.spans import shifted
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.actions import Action, Place
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.planned_partitions import as_key
from slabrow.core.values.key_values import Value, order
from slabrow.core.values.names import Name
from slabrow.core.values.wording import size


def place_of(layout: Layout, held: Bounds, here: Value) -> PlaceRule | None:
    """The rule that says where a partition lies at a moment; None while it is too young for any.

    Old enough it is when all of it is: its upper bound counts.
    """
    if not isinstance(held, Range) or held.to is None or held.is_opaque:
        return None
    zone, found = ZoneInfo(layout.zone), None
    for rule in layout.place:  # the youngest first
        if order(held.to[:1]) <= order((shifted(here, rule.after, -1, zone),)):
            found = rule
    return found


def due_moves(
    layout: Layout, tree: Tree, now: datetime | int, busy: Collection[Name]
) -> tuple[tuple[Action, ...], tuple[Finding, ...]]:
    """The moves of this run, the oldest partition first, and what waits. busy: partitions that leave or are merged."""
    if layout.place and tree.leaves and all(leaf.place is None and leaf.server is None for leaf in tree.leaves):
        return (), (Finding("place_waits", "this server tells of no tablespaces, so `place` moves nothing here"),)
    due = list(_due(layout, tree, now, busy)) if layout.place else []
    if not due:
        return (), ()
    total = sum(each.bytes for each in due)
    what = f"{len(due)} partition{'s' if len(due) > 1 else ''} ({size(total)})"
    if layout.place_hours is not None and isinstance(now, datetime):
        begin, end = layout.place_hours
        clock = now.astimezone(ZoneInfo(layout.zone)).time()
        inside = begin <= clock < end if begin < end else clock >= begin or clock < end
        if not inside:
            return (), (Finding("place_waits", f"{what} wait for `place_hours`, from {begin:%H:%M} to {end:%H:%M}"),)
    chosen: list[Action] = []
    taken = 0
    for each in due:
        if layout.at_most_moved is not None and chosen and taken + each.bytes > layout.at_most_moved:
            break
        taken += each.bytes
        chosen.append(each)
    rest = due[len(chosen) :]
    if not rest:
        return tuple(chosen), ()
    text = (
        f"{len(rest)} more partition{'s' if len(rest) > 1 else ''} ({size(sum(each.bytes for each in rest))}) wait for "
        f"the next runs: `at_most_moved` is {size(layout.at_most_moved or 0)}"
    )
    return tuple(chosen), (Finding("place_waits", text),)


def misplaced(layout: Layout, tree: Tree, now: datetime | int) -> Iterator[Finding]:
    """Partitions that lie elsewhere than the layout says."""
    for each in _due(layout, tree, now, ()):
        leaves = [leaf for leaf in tree.leaves if leaf.name in each.leaves]
        lies = ", ".join(dict.fromkeys(leaf.server or leaf.place or "" for leaf in leaves))
        yield Finding(
            "misplaced",
            f"{each.partition} lies in {lies}, and its age says {each.target}: `slabrow tend --go` moves it",
            str(each.partition),
        )


def _due(layout: Layout, tree: Tree, now: datetime | int, busy: Collection[Name]) -> Iterator[Place]:
    here = as_key(now, tree.kinds[0], ZoneInfo(layout.zone))
    for partition, bounds in tree.ranges:
        rule = place_of(layout, bounds, here)
        if rule is None or partition.name in busy:
            continue
        if leaves := _elsewhere(tree, partition.name, rule):
            yield Place(
                tree.table,
                partition.name,
                bounds,
                f"it is older than {rule.after}, and belongs in {rule.target}",
                rule.target,
                tuple(leaf.name for leaf in leaves),
                sum(leaf.bytes for leaf in leaves),
                is_server=bool(rule.elsewhere),
            )


def _elsewhere(tree: Tree, name: Name, rule: PlaceRule) -> list[Partition]:
    """The leaves that are to be moved. Nothing comes home from another server by its age."""
    partition = next(child for child in tree.children if child.name == name)
    leaves = tree.leaves_of(partition)
    if rule.elsewhere:
        return [leaf for leaf in leaves if leaf.server is None]
    return [leaf for leaf in leaves if leaf.server is None and leaf.place not in (None, rule.tablespace)]
