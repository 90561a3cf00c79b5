"""Layout against tree: the actions that make the tree what the layout says, and the drift that no action mends."""

# Three sets of partitions are compared: those that the layout asks for now, those that the table has, and those that
# are past `keep`. A partition that the layout asks for and the table lacks is created, cut into pieces around
# partitions that are in the way. A partition that is past `keep` and lies on the layout's grid is retired. All others
# are left alone and named: a partition that somebody made by hand may hold anything.

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import assert_never

from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range, spell_bounds, uncovered_slots
from slabrow.core.table.layout import Layout, PastKeep
from slabrow.core.table.spans import Grid
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.actions import Action, Archive, Create, Detach, Drop, Merge
from slabrow.core.upkeep.coarsening import due_merges
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.placing import due_moves
from slabrow.core.upkeep.planned_partitions import (
    Namer,
    Planned,
    as_key,
    cutoff,
    divided,
    is_past,
    last_slot,
    list_bounds,
    on_grid,
    slots,
)
from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Kind, Value, spell_local
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT


@dataclass(frozen=True, slots=True)
class Reconciliation:
    """actions    in the order in which they are safe
    leftovers  drift that no action mends, and partitions that are left alone
    """

    actions: tuple[Action, ...]
    leftovers: tuple[Finding, ...]


def reconcile(
    layout: Layout,
    tree: Tree,
    now: datetime | int,
    *,
    taken: frozenset[str] = frozenset(),
    values: tuple[Value, ...] = (),
    ahead_words: str = "",
    limit: int = NAME_LIMIT,
) -> Reconciliation:
    """The actions that make `tree` as `layout` says at `now`; none when it is so already.

    now     the clock, or for a key of whole numbers its greatest value
    taken   names in the schema that no new partition may get
    ahead_words  what `ahead` is, where that is not as the layout spells it
    values  for a list with a partition for each value: those that rows in the catch-all have
    Raises LayoutError when the two do not describe the same kind of table: that takes a conversion.
    """
    check_same_key(layout, tree)
    names = taken | {partition.name.table for partition in tree.partitions}
    namer = Namer(layout, tree.kinds[0], limit, names)
    match layout.by:
        case By.RANGE:
            creations, leftovers = _missing_ranges(layout, tree, now, namer, ahead_words or str(layout.ahead))
            past = tuple(_past(layout, tree, now))
        case By.HASH:
            creations, leftovers = _missing_parts(layout, tree, namer)
            past = ()
        case By.LIST:
            creations, leftovers = _missing_groups(layout, tree, namer, values)
            past = ()
        case _:
            assert_never(layout.by)
    creations = _divided(layout, tree, (*creations, *_missing_catch_all(layout, tree, namer)), limit)
    leftovers += tuple(_undivided(layout, tree))
    merges: tuple[Action, ...] = ()
    if layout.coarsen is not None:
        merges = tuple(due_merges(layout, tree, now, {action.partition for action in past}, limit))
    merged = {name for each in merges if isinstance(each, Merge) for name in each.sources}
    moves, waiting = due_moves(layout, tree, now, merged | {each.partition for each in past})
    leftovers += waiting
    # New before old: if the run stops between the two, arriving rows still have a partition of their own.
    return Reconciliation((*creations, *past, *merges, *moves), leftovers)


def _divided(layout: Layout, tree: Tree, creations: tuple[Create, ...], limit: int) -> tuple[Create, ...]:
    """The creations with their inner partitions, divided by the same key as the table's other partitions."""
    within = layout.within
    if within is None or not creations:
        return creations
    known = next((partition.division.key for partition in tree.children if partition.division is not None), None)
    kinds = tuple(column.kind for column in known) if known is not None else (Kind.OTHER,) * len(within.key)
    planned = [Planned(creation.partition.table, creation.bounds) for creation in creations]
    made = divided(planned, layout, kinds, limit)
    return tuple(replace(creation, inner=each.inner) for creation, each in zip(creations, made, strict=True))


def _undivided(layout: Layout, tree: Tree) -> Iterator[Finding]:
    """Partitions that are divided in another way than `within` says."""
    for child in tree.children:
        wanted = layout.within
        if layout.divides_catch_all_only and not isinstance(child.bounds, CatchAll):
            wanted = None
        held = child.division
        if wanted is None and held is None:
            continue
        if wanted is not None and held is not None:
            key = tuple(column.name or column.text for column in held.key)
            if (held.by, key) == (wanted.by, wanted.key):
                continue
        has = "is not divided" if held is None else f"is divided by {held.by} ({', '.join(c.text for c in held.key)})"
        says = "not to be" if wanted is None else f"by {wanted}"
        yield Finding("drift", f"{child.spelling} {has}, and the layout says {says}: convert it", child.spelling)


def check_same_key(layout: Layout, tree: Tree) -> None:
    """Raises LayoutError when the tree is divided in another way, or by other columns, than the layout says."""
    held = tuple(column.name or column.text for column in tree.key)
    if (tree.by, held) != (layout.by, layout.key):
        raise LayoutError(
            f"{tree.spelling} is not divided as its layout says",
            found=f"the layout says {layout.by} ({', '.join(layout.key)}), the server {tree.by} ({', '.join(held)})",
            fix="correct the layout, or change the table with `slabrow convert`",
        )


def _missing_ranges(
    layout: Layout, tree: Tree, now: datetime | int, namer: Namer, ahead_words: str
) -> tuple[tuple[Create, ...], tuple[Finding, ...]]:
    grid = layout.grid(tree.kinds[0])
    held = tuple(bounds for _, bounds in tree.ranges)
    wanted = slots(
        grid,
        _first_slot(layout, tree, grid, now, held),
        last_slot(layout, grid, as_key(now, tree.kinds[0], grid.zone)),
        len(tree.key),
    )
    reason = f"`ahead` is {ahead_words}" if layout.ahead else "the layout begins before it"
    oldest = cutoff(layout, as_key(now, tree.kinds[0], grid.zone))
    # A piece that would be past `keep` at once is not worth making.
    pieces = [piece for piece in uncovered_slots(wanted, held) if not is_past(piece, oldest)]
    here = as_key(now, tree.kinds[0], grid.zone)
    return tuple(_creations(tree, namer, pieces, reason, here)), tuple(_foreign(tree, grid, wanted))


def _first_slot(layout: Layout, tree: Tree, grid: Grid, now: datetime | int, held: Sequence[Range]) -> int:
    """Where the layout begins: `from`, else the tree's own beginning, but never what would be past at once."""
    here = as_key(now, tree.kinds[0], grid.zone)
    start = layout.start(tree.kinds[0])
    lowest = next((bounds.from_[0] for bounds in held if bounds.from_), None)
    if start is not None:
        first = grid.index(start)
    elif lowest is not None and on_grid(Range((lowest,), None), grid):
        first = grid.index(lowest)
    else:
        first = grid.index(here)
    oldest = cutoff(layout, here)
    return first if oldest is None else max(first, grid.index(oldest))


def _creations(tree: Tree, namer: Namer, pieces: list[Range], reason: str, here: Value) -> Iterator[Create]:
    given: set[str] = set()
    for piece in pieces:
        why = "it lies in the past" if is_past(piece, here) else reason
        name = namer.name(piece, also_taken=given)
        given.add(name)
        yield Create(tree.table, tree.table.sibling(name), piece, f"{why} and no partition holds {spell_bounds(piece)}")


def _foreign(tree: Tree, grid: Grid, wanted: tuple[Range, ...]) -> Iterator[Finding]:
    made = frozenset(wanted)  # nearly all, and much cheaper to tell
    for partition, bounds in tree.ranges:
        if bounds not in made and not on_grid(bounds, grid):
            yield Finding(
                "undeclared_partition",
                f"{partition.spelling} ({spell_bounds(bounds)}) is not declared by this layout: it is left alone",
                partition.spelling,
            )


def _past(layout: Layout, tree: Tree, now: datetime | int) -> Iterator[Action]:
    grid = layout.grid(tree.kinds[0])
    limit = cutoff(layout, as_key(now, tree.kinds[0], grid.zone))
    if limit is None:
        return
    for partition, bounds in tree.ranges:
        if is_past(bounds, limit) and on_grid(bounds, grid):
            reason = f"`keep` is {layout.keep}, which reaches back to {spell_local(limit, grid.zone)}"
            yield _retirement(layout, tree, partition, reason)


def _retirement(layout: Layout, tree: Tree, partition: Partition, reason: str) -> Action:
    match layout.past_keep:
        case PastKeep.DETACH:
            return Detach(tree.table, partition.name, partition.bounds, reason)
        case PastKeep.DROP:
            return Drop(tree.table, partition.name, partition.bounds, reason)
        case PastKeep.ARCHIVE:
            return Archive(tree.table, partition.name, partition.bounds, reason)
        case _:
            assert_never(layout.past_keep)


def _missing_parts(layout: Layout, tree: Tree, namer: Namer) -> tuple[tuple[Create, ...], tuple[Finding, ...]]:
    parts = layout.parts or 0
    held = {child.bounds for child in tree.children}
    moduli = {bounds.modulus for bounds in held if isinstance(bounds, Hashed)}
    if moduli and moduli != {parts}:
        found = "/".join(map(str, sorted(moduli)))
        text = f"{tree.spelling} has {found} parts where the layout has {parts}: convert it"
        return (), (Finding("drift", text),)
    missing = [Hashed(parts, remainder) for remainder in range(parts) if Hashed(parts, remainder) not in held]
    return tuple(
        Create(
            tree.table,
            tree.table.sibling(namer.name(bounds)),
            bounds,
            f"the layout has {parts} parts and no partition holds {spell_bounds(bounds)}",
        )
        for bounds in missing
    ), ()


def _missing_groups(
    layout: Layout, tree: Tree, namer: Namer, values: tuple[Value, ...]
) -> tuple[tuple[Create, ...], tuple[Finding, ...]]:
    held = {
        value: child for child in tree.children if isinstance(child.bounds, Listed) for value in child.bounds.values
    }
    creations: list[Create] = []
    leftovers: list[Finding] = []
    for bounds, label in list_bounds(layout, tree.kinds[0], values):
        homes = {held[value].spelling for value in bounds.values if value in held}
        missing = [value for value in bounds.values if value not in held]
        if not homes:
            name = namer.name(bounds, label, also_taken={creation.partition.table for creation in creations})
            creations.append(
                Create(tree.table, tree.table.sibling(name), bounds, f"no partition holds {spell_bounds(bounds)}")
            )
        elif missing or len(homes) > 1:
            where = ", ".join(sorted(homes)) + (" or nowhere" if missing else "")
            leftovers.append(
                Finding(
                    "drift",
                    f"group {label} is {spell_bounds(bounds)}; on the server these stand in {where}: convert it",
                )
            )
    return tuple(creations), tuple(leftovers)


def _missing_catch_all(layout: Layout, tree: Tree, namer: Namer) -> Iterator[Create]:
    if layout.catch_all and tree.catch_all is None:
        yield Create(
            tree.table,
            tree.table.sibling(namer.name(CatchAll())),
            CatchAll(),
            "the layout has a catch-all and the table has none",
        )
