"""Which groups of blocks the queries and inserts of a day touch, and what is read of them from the disk.

For each group of leaves: the rows' blocks, and the last one of each leaf, where new rows go; of each index the roots,
the inner blocks, the hot and the cold leaf blocks, and the edges. Hot are the leaf blocks that hold the newest entry of
a value of the leading column: new rows go there, and so do queries for what is recent. An edge is where a value leads
that lies outside of what the leaf holds.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from math import sqrt

import numpy as np
from numpy.typing import NDArray

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.relation import IndexShape
from slabrow.core.weighing.arrival import WHOLE, Arrival, Stretch
from slabrow.core.weighing.cache import Floats, Memory, hit_ratios
from slabrow.core.weighing.costs import Costs, Leaves
from slabrow.core.weighing.leaf_groups import LeafGroups, Places
from slabrow.core.weighing.ways import Way, Ways

_HEAP, _SCANNED, _TAIL = range(3)
_OF_ROWS = 3
_ROOT, _INNER, _HOT, _COLD, _EDGE = range(5)  # of each index, in this order after the rows' blocks
_KINDS = 5
_FANOUT = 285  # entries of an inner block, seen for eight-byte keys
# A missing leaf block is read, and a dirty one has to be written out for it: 1.5 to 1.9 random reads, measured.
INSERT_MISS = 1.7


@dataclass(frozen=True, slots=True)
class Touched:
    """The blocks that one run touches.

    parts     the kind of block, how the touches spread over the groups, how many there are, and how each is read:
              0 alone, up to 1 one after the other
    """

    parts: tuple[tuple[int, Floats, float, float], ...] = ()

    @property
    def amount(self) -> float:
        """Those that come in whatever else is there: not what a ring lets go again."""
        return sum(amount for kind, _, amount, _ in self.parts if kind != _SCANNED)


@dataclass(slots=True)
class BlockTouches:
    """Takes the touches of a whole day, and then tells how many of them find their block.

    divisions   as of `Ways`
    slow        of each leaf, how many times as long a block takes that is read where it lies; None: all alike
    """

    facts: TableFacts
    costs: Costs
    memory: Memory
    groups: LeafGroups
    order: Arrival
    divisions: Mapping[str, float]
    slow: Floats | None = None
    ways: Ways = field(init=False)
    sizes: Floats = field(init=False)
    _day: Floats = field(init=False)
    _heats: list[Floats] = field(init=False)
    _large: NDArray[np.bool_] = field(init=False)
    _ring: Floats = field(init=False)
    _hits: Floats | None = field(init=False, default=None)
    _cache: float = field(init=False, default=0.0)
    _slow: Floats | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        self.ways = Ways(self.facts, self.costs, self.divisions)
        kinds = _OF_ROWS + _KINDS * len(self.facts.indexes)
        self.sizes = np.zeros((kinds, self.groups.count))
        self._day = np.zeros_like(self.sizes)
        self.sizes[_HEAP] = self.facts.blocks * self.groups.of_rows()
        leaf_blocks = self.facts.blocks * self.groups.shares
        self._large = leaf_blocks > self.memory.ring_blocks(self.facts.block_bytes)
        large = np.where(self._large, self.groups.shares, 0.0)
        self.sizes[_SCANNED] = self.facts.blocks * self.groups.of(large)
        of_large = self.groups.of(self._large.astype(np.float64))
        newest = np.zeros(len(self.groups.shares))
        newest[self.groups.newest()] = 1.0
        self.sizes[_TAIL] = self.groups.of(newest)
        self._ring = np.zeros_like(self.sizes)
        self._ring[_SCANNED] = np.where(of_large > 0, self.sizes[_SCANNED] / np.where(of_large > 0, of_large, 1.0), 0.0)
        if self.slow is not None:
            rows = self.groups.of_rows()
            slowed = self.groups.of(self.groups.shares * self.slow)
            self._slow = np.where(rows > 0, slowed / np.where(rows > 0, rows, 1.0), 1.0)
        self._heats = []
        leaves = self.groups.of_leaves()
        for place, index in enumerate(self.facts.indexes):
            blocks = self.ways.index_blocks(index) * self.groups.shares
            heat = self._heat(index, blocks)
            self._heats.append(heat)
            first = _OF_ROWS + _KINDS * place
            self.sizes[first + _ROOT] = leaves
            self.sizes[first + _INNER] = self.groups.of(np.where(blocks > _FANOUT, blocks / _FANOUT, 0.0))
            self.sizes[first + _HOT] = self.groups.of(blocks * heat)
            self.sizes[first + _COLD] = self.groups.of(blocks * (1 - heat))
            self.sizes[first + _EDGE] = 2 * leaves

    def _heat(self, index: IndexShape, blocks: Floats) -> Floats:
        """The share of an index's leaf blocks that are hot, in each leaf; none where it follows the order itself."""
        leading = index.columns[0]
        if leading in self.order.columns:
            return np.zeros_like(blocks)
        seen = self.facts.statistics.get(leading)
        distinct = (seen.distinct if seen is not None else None) or float(self.facts.rows)
        held = distinct / self.divisions.get(leading, 1.0)
        values = np.minimum(held, self.facts.rows * self.groups.shares)
        return np.minimum(1.0, np.maximum(1.0, values) / np.maximum(1.0, blocks))

    def touched(self, way: Way, leaves: Leaves, stretch: Stretch) -> Touched:
        """The blocks of one run that reads some leaves; its rows lie within the stretch."""
        places = leaves.places
        if way.place is None:
            return self._scanned(way, places)
        index = self.facts.indexes[way.place]
        first = _OF_ROWS + _KINDS * way.place
        inside = self.groups.within(places, stretch)
        met = len(inside) if len(inside) else leaves.touched
        parts: list[tuple[int, Floats, float, float]] = []
        opened = min(way.opened, leaves.touched)
        of_leaves = self.groups.spread(places, WHOLE, "leaves")
        parts.append((first + _ROOT, of_leaves, opened, 0.0))
        if (inner := float(self.sizes[first + _INNER].sum())) > 0:
            met_inner = min(way.descents, max(opened, inner * opened / leaves.total))
            parts.append((first + _INNER, of_leaves, met_inner, 0.0))
        on_leaves = way.index_blocks
        if index.columns[0] in self.order.columns:
            # A value leads to its place in one leaf only, a range in those that hold something of it; in the others
            # the descent ends at an edge.
            out = 0.0
            if self.groups.follows:
                out = opened * (1 - met / max(1, leaves.touched))
                out = max(0.0, way.descents - way.values) if way.values else out
            if out > 0:
                parts.append((first + _EDGE, of_leaves, out, 0.0))
            on_leaves = max(1.0, on_leaves - out)
            chosen = inside if self.groups.follows and len(inside) else places
            parts.append((first + _COLD, self.groups.spread(chosen, stretch, "leaves"), on_leaves, 0.0))
        else:
            hot = self._hot_share(way.place, inside if len(inside) else places, stretch, index)
            spread = self.groups.spread(places, WHOLE, "leaves")
            parts.append((first + _HOT, spread, on_leaves * hot, 0.0))
            parts.append((first + _COLD, spread, on_leaves * (1 - hot), 0.0))
        if way.heap > 0:
            parts.append((_HEAP, self.groups.spread(places, stretch, "rows"), way.heap, way.density))
        return Touched(tuple(part for part in parts if part[2] > 0))

    def _scanned(self, way: Way, places: Places | None) -> Touched:
        """A sequential scan: of large leaves through a ring, of small ones as anything else."""
        every = np.arange(len(self.groups.shares)) if places is None else places
        blocks, large = self.groups.shares[every] * self.facts.blocks, self._large[every]
        part = way.heap / (blocks.sum() or 1.0)
        parts: list[tuple[int, Floats, float, float]] = []
        for kind, some in ((_SCANNED, large), (_HEAP, ~large)):
            if some.any():
                amount = float(blocks[some].sum()) * part
                parts.append((kind, self.groups.spread(every[some], WHOLE, "rows"), amount, 1.0))
        return Touched(tuple(part for part in parts if part[2] > 0))

    def _hot_share(self, place: int, leaves: Places | None, stretch: Stretch, index: IndexShape) -> float:
        """The share of a run's touches of index leaf blocks that fall on hot ones."""
        heat = self._heats[place] if leaves is None else self._heats[place][leaves]
        if heat.size == 0 or heat.min() >= 1.0:
            return 1.0
        if stretch == WHOLE or not _is_in_order(index, self.order):
            return float(heat.mean())
        begins = self.groups.begins if leaves is None else self.groups.begins[leaves]
        ends = self.groups.ends if leaves is None else self.groups.ends[leaves]
        width = np.maximum(ends - begins, 1e-12)
        low = np.clip((stretch[0] - begins) / width, 0.0, 1.0)
        high = np.clip((stretch[1] - begins) / width, 0.0, 1.0)
        asked = np.maximum(high - low, 1e-9)
        return float(np.clip((high - np.maximum(low, 1 - heat) + 1e-9) / asked, 0.0, 1.0).mean())

    def add(self, touched: Touched, times: float) -> None:
        """So many runs a day."""
        for kind, spread, amount, _ in touched.parts:
            self._day[kind] += spread * (amount * times)

    def add_inserts(self, rows: float) -> None:
        """New rows of a day: the last block of the leaf, and a hot leaf block or the edge of each index."""
        if rows > 0:
            for kind, spread in self._insert_touches():
                self._day[kind] += spread * rows

    def _insert_touches(self) -> list[tuple[int, Floats]]:
        spread = self.groups.spread(self.groups.newest(), WHOLE, "rows")
        ordered = [index.columns[0] in self.order.columns for index in self.facts.indexes]
        return [
            (_TAIL, spread),
            *((_OF_ROWS + _KINDS * place + (_EDGE if each else _HOT), spread) for place, each in enumerate(ordered)),
        ]

    def settle(self, planned: float) -> None:
        """Works out the hit ratios of the day. planned: leaves in the plan of a statement, on average."""
        self._cache = self.memory.blocks(self.facts.block_bytes, planned)
        self._hits = hit_ratios(self.sizes, self._day, self._cache, self._ring)
        # What scans have brought in is found by others too.
        scanned = (self.sizes[_SCANNED] > 0) & (self._day[_SCANNED] > 0)
        self._hits[_HEAP] = np.where(scanned, np.maximum(self._hits[_HEAP], self._hits[_SCANNED]), self._hits[_HEAP])

    def reads(self, touched: Touched) -> tuple[float, float]:
        """Blocks read from the disk by one run, and the milliseconds that they take. After `settle`."""
        assert self._hits is not None
        costs, slow = self.costs, self._slow
        reads = ms = 0.0
        # A run that walks through more than the cache holds finds none of what it left behind the last time.
        walks = touched.amount > self._cache
        for kind, spread, amount, order in touched.parts:
            missed = spread if walks and kind != _SCANNED else spread * (1 - self._hits[kind])
            reads += amount * float(missed.sum())
            each = costs.read - (costs.read - costs.read_in_order) * sqrt(order)
            ms += amount * each * float(missed.sum() if slow is None else missed @ slow)
        return reads, ms

    def insert_reads(self) -> float:
        """Blocks read for each new row, of its table and all indexes. After `settle`."""
        assert self._hits is not None
        hits = self._hits
        return sum(float(spread @ (1 - hits[kind])) for kind, spread in self._insert_touches())


def _is_in_order(index: IndexShape, order: Arrival) -> bool:
    """Whether the entries of one leading value lie in the order of arrival: by the next column, or by their place."""
    return len(index.columns) == 1 or index.columns[1] in order.columns
