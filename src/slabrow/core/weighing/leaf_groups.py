"""The leaves of a layout in groups that a workload treats alike: by the value that they list, and by their age.

A range along the order of arrival gives every leaf a stretch of its own; in a hash part, or a table without partitions,
rows of all ages lie one after the other. Either way the rows of a leaf spread over the strips of the order, and what is
in one strip is one group. Values of a list are asked for unevenly, so that each makes groups of its own.
"""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from slabrow.core.table.bounds import Bounds, Range
from slabrow.core.table.tree import Tree
from slabrow.core.values.method import By
from slabrow.core.weighing.arrival import WHOLE, Arrival, Stretch, Strips
from slabrow.core.weighing.cache import Floats

Places = NDArray[np.intp]

_OWN_STRIPS = 4  # of the newest leaves


@dataclass(frozen=True, slots=True)
class LeafGroups:
    """Leaves with their groups. A group is numbered by its list value and strip: value × strips + strip.

    shares    of all rows, by leaf
    begins, ends   the stretch of arrival that each leaf holds
    values    the number of the listed value that each leaf belongs to
    """

    strips: Strips
    shares: Floats
    begins: Floats
    ends: Floats
    values: Places
    count: int = field(init=False)
    _spread: Floats = field(init=False, repr=False)
    _all: dict[str, Floats] = field(init=False, repr=False)

    def __post_init__(self) -> None:
        edges = self.strips.ends
        inner = np.minimum(edges[1:], self.ends[:, None]) - np.maximum(edges[:-1], self.begins[:, None])
        inner = np.clip(inner, 0.0, None)
        total = inner.sum(axis=1, keepdims=True)
        # A leaf without rows, such as one that lies ahead, is as young as can be.
        newest = np.zeros_like(inner)
        newest[:, -1] = 1.0
        spread = np.where(total > 0, inner / np.where(total > 0, total, 1.0), newest)
        object.__setattr__(self, "_spread", spread)
        object.__setattr__(self, "count", (int(self.values.max()) + 1) * len(self.strips))
        every = np.arange(len(self.shares))
        object.__setattr__(
            self, "_all", {"rows": self._summed(every, self.shares), "leaves": self._summed(every, None)}
        )

    @property
    def follows(self) -> bool:
        """Whether leaves are stretches of the order of arrival."""
        return bool(((self.ends - self.begins) < 0.999).any())

    def of_rows(self) -> Floats:
        """The share of all rows in each group."""
        return self._all["rows"]

    def of_leaves(self) -> Floats:
        """The leaves in each group; one over several strips counts in parts."""
        return self._all["leaves"]

    def of(self, amounts: Floats) -> Floats:
        """Amounts of each leaf, by group."""
        return self._summed(np.arange(len(self.shares)), amounts)

    def spread(self, places: Places | None, stretch: Stretch, by: str) -> Floats:
        """How something spreads over the groups of some leaves within a stretch: shares that add up to 1.

        by   `rows`: in proportion to them; `leaves`: to each leaf the same
        """
        found = self._all[by] if places is None else self._summed(places, self.shares[places] if by == "rows" else None)
        if stretch != WHOLE:
            covered = found * np.tile(self.strips.covered(stretch), self.count // len(self.strips))
            found = covered if covered.sum() > 0 else found
        total = found.sum()
        return found / total if total > 0 else np.full(self.count, 1 / self.count)

    def within(self, places: Places | None, stretch: Stretch) -> Places:
        """Those leaves that hold something of a stretch."""
        every = np.arange(len(self.shares)) if places is None else places
        low, high = stretch
        met = (self.begins[every] <= high) & (self.ends[every] > low - 1e-12)
        return every[met]

    def newest(self) -> Places:
        """The leaves that new rows go to."""
        filled = self.shares > 0
        last = self.ends[filled].max() if filled.any() else 1.0
        return np.nonzero((self.ends >= last - 1e-9) & filled)[0]

    def _summed(self, places: Places, amounts: Floats | None) -> Floats:
        rows = self._spread[places]
        if amounts is not None:
            rows = rows * amounts[:, None]
        if self.count == len(self.strips):
            return np.asarray(rows.sum(axis=0))
        found = np.zeros((self.count // len(self.strips), len(self.strips)))
        np.add.at(found, self.values[places], rows)
        return found.ravel()


def one_leaf(strips: Strips) -> LeafGroups:
    """Of a table without partitions."""
    return LeafGroups(strips, np.ones(1), np.zeros(1), np.ones(1), np.zeros(1, dtype=np.intp))


def leaf_groups(tree: Tree, shares: Floats, order: Arrival, strips: Strips) -> LeafGroups:
    """Of a tree. shares: of the rows in each of its leaves, in their order."""
    families = {tree.spelling: (tree.by, tree.key[0].name or "")}
    by_spelling = {each.spelling: each for each in tree.partitions}
    for each in tree.partitions:
        if each.division is not None:
            families[each.spelling] = (each.division.by, each.division.key[0].name or "")
    stretches: list[Stretch] = []
    listed: dict[tuple[str, ...], int] = {}
    values: list[int] = []
    for leaf in tree.leaves:
        stretch, names = WHOLE, list[str]()
        step = leaf
        while True:
            by, column = families[step.parent]
            if by is By.RANGE and column in order.columns:
                stretch = _narrower(stretch, step.bounds, column, order)
            elif by is By.LIST:
                names.append(str(step.bounds))
            if step.parent not in by_spelling:
                break
            step = by_spelling[step.parent]
        stretches.append(stretch)
        values.append(listed.setdefault(tuple(names), len(listed)))
    both = np.array(stretches) if stretches else np.zeros((0, 2))
    filled = both[shares > 0]
    if len(filled):
        # The leaf that takes the new rows is hotter than its elder, and scans of recent rows read the newest leaves
        # whole: so each of these leaves gets a strip of its own.
        for begin in np.unique(filled[:, 0])[-_OWN_STRIPS:]:
            strips = strips.with_end(float(begin))
    return LeafGroups(strips, shares, both[:, 0], both[:, 1], np.array(values, dtype=np.intp))


def _narrower(stretch: Stretch, bounds: Bounds, column: str, order: Arrival) -> Stretch:
    if not isinstance(bounds, Range):
        return stretch
    low = order.place(column, bounds.from_[0]) if bounds.from_ else 0.0
    high = order.place(column, bounds.to[0]) if bounds.to else 1.0
    return (max(stretch[0], low), min(stretch[1], high))
