"""Old partitions that become wider ones: days become months after a while (N55). Pure.

A wide span takes the narrow partitions that begin within it. Where the narrow boundaries are boundaries of the wide one
too (days, months), that is the wide span itself; weeks that become quarters keep their own ends.
"""

from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace
from datetime import datetime
from itertools import pairwise

from slabrow.core.table.bounds import Range
from slabrow.core.table.layout import Coarsen, Layout
from slabrow.core.table.spans import Grid, shifted
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.actions import Merge
from slabrow.core.upkeep.planned_partitions import Namer, Planned, as_key, on_grid
from slabrow.core.values.key_values import Kind, Value, order
from slabrow.core.values.names import NAME_LIMIT, Name


def due_merges(
    layout: Layout, tree: Tree, now: datetime | int, leaving: Collection[Name], limit: int = NAME_LIMIT
) -> Iterator[Merge]:
    """The merges that are due. leaving: partitions that are retired in the same run.

    A wide span is due when all of it is older than `after`, and it has two or more partitions without a gap.
    """
    if layout.coarsen is None:
        return
    grid, wide = layout.grid(tree.kinds[0]), _wide(layout.coarsen, layout.grid(tree.kinds[0]))
    here = as_key(now, tree.kinds[0], grid.zone)
    oldest = shifted(here, layout.coarsen.after, -1, grid.zone)
    groups: dict[int, list[tuple[Partition, Range]]] = {}
    for partition, bounds in tree.ranges:
        if bounds.from_ is not None and bounds.to is not None and on_grid(bounds, grid) and partition.is_leaf:
            groups.setdefault(wide.index(bounds.from_[0]), []).append((partition, bounds))
    taken = {partition.name.table for partition in tree.partitions}
    for slot, members in sorted(groups.items()):
        names = tuple(partition.name for partition, _ in members)
        together = _together([bounds for _, bounds in members])
        if together is None or not _is_old(wide, slot, together, oldest) or set(names) & set(leaving):
            continue
        namer = Namer(replace(layout, span=layout.coarsen.span), tree.kinds[0], limit, taken - {n.table for n in names})
        reason = f"all of it is older than {layout.coarsen.after}: {len(names)} partitions become one"
        yield Merge(tree.table, tree.table.sibling(namer.name(together)), together, reason, names)


def coarsened(
    layout: Layout, planned: Sequence[Planned], kinds: tuple[Kind, ...], now: datetime | int
) -> tuple[Planned, ...]:
    """Planned partitions as they stand once all that is old enough has been merged. Other bounds than ranges stay."""
    if layout.coarsen is None:
        return tuple(planned)
    kind = kinds[0]
    grid = layout.grid(kind)
    wide = _wide(layout.coarsen, grid)
    here = as_key(now, kind, grid.zone)
    oldest = shifted(here, layout.coarsen.after, -1, grid.zone)
    namer = Namer(replace(layout, span=layout.coarsen.span), kind, NAME_LIMIT)
    groups: dict[int, list[Planned]] = {}
    for each in planned:
        if isinstance(each.bounds, Range) and each.bounds.from_ is not None and each.bounds.to is not None:
            groups.setdefault(wide.index(each.bounds.from_[0]), []).append(each)
    merged: dict[str, Planned | None] = {}
    for slot, members in groups.items():
        together = _together([each.bounds for each in members if isinstance(each.bounds, Range)])
        if together is not None and _is_old(wide, slot, together, oldest):
            merged |= {each.name: None for each in members[1:]}
            merged[members[0].name] = Planned(namer.name(together), together, members[0].inner)
    return tuple(new for each in planned if (new := merged.get(each.name, each)) is not None)


def _wide(coarsen: Coarsen, narrow: Grid) -> Grid:
    return replace(narrow, span=coarsen.span)


def _together(ranges: Sequence[Range]) -> Range | None:
    """The range of several without a gap between them; None for one alone, or with a gap."""
    if len(ranges) < 2 or any(one.to != other.from_ for one, other in pairwise(ranges)):
        return None
    return Range(ranges[0].from_, ranges[-1].to)


def _is_old(wide: Grid, slot: int, together: Range, oldest: Value) -> bool:
    ends = (wide.start(slot + 1),)
    last = together.to[:1] if together.to is not None else ends
    return order(ends) <= order((oldest,)) and order(last) <= order((oldest,))
