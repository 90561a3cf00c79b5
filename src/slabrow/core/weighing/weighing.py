"""Weighs layouts against a workload: what each would cost a day, what it gives and what it takes (N04–N09).

Every run of every shape is put to every candidate: the leaves that it touches come from `keysets`, the same reasoning
with which `prove` predicts; the way that the server would take to their rows comes from `ways`. All runs of a day
together tell which blocks stay in memory (`block_touches`), and with that what each run costs. "Leave it as it is" is
weighed in the same way.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from zoneinfo import ZoneInfo

import numpy as np

from slabrow.core.pruning.family_rules import USUAL_RULES, Prunes, PruningRules
from slabrow.core.sql.when import When
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.sizes import leaf_shares
from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Unit, shifted
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.coarsening import coarsened
from slabrow.core.upkeep.planned_partitions import Namer, Planned, as_key, divided, due_partitions, last_slot
from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Value
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT
from slabrow.core.weighing.arrival import Arrival, Stretch, Strips, arrival, strips
from slabrow.core.weighing.block_touches import INSERT_MISS, BlockTouches, Touched
from slabrow.core.weighing.cache import Floats, Memory
from slabrow.core.weighing.changes import NO_RETIRING, Retiring, deleted, dropped
from slabrow.core.weighing.costs import NOTHING_PAID, Costs, Leaves, Paid
from slabrow.core.weighing.leaf_groups import LeafGroups, leaf_groups, one_leaf
from slabrow.core.weighing.leaf_places import LeafPlaces
from slabrow.core.weighing.obstacles import obstacles
from slabrow.core.weighing.piece_upkeep import piece_upkeep
from slabrow.core.weighing.supposed_tree import tree_of
from slabrow.core.weighing.ways import Choice, Way
from slabrow.core.weighing.weighed import ShapeCost, Weighed
from slabrow.core.weighing.wider_keys import with_wider_keys
from slabrow.core.weighing.workload_reading import AskedConditions, TableWorkload


@dataclass(frozen=True, slots=True)
class ExpectedGrowth:
    """rows_a_day: new ones; inserted a day by the workload counts when it is more."""

    rows_a_day: float = 0.0


@dataclass(frozen=True, slots=True)
class Weigher:
    """Weighs candidates of one table.

    now         the clock
    ceiling     the most partitions
    current     the tree, when the table is partitioned already
    ageing      the column along which rows are retired, None when none is known
    rules       of the server's family
    placed      the layout of the table that says by age where partitions lie; None for none
    """

    facts: TableFacts
    workload: TableWorkload
    costs: Costs
    now: datetime
    growth: ExpectedGrowth
    ageing: str | None
    keeps: bool
    ceiling: int = 1_000
    current: Tree | None = None
    rules: PruningRules = USUAL_RULES
    placed: Layout | None = None
    _order: Arrival = field(init=False, repr=False)
    _strips: Strips = field(init=False, repr=False)
    _stretches: dict[int, Stretch] = field(init=False, repr=False, default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_order", arrival(self.facts))
        object.__setattr__(self, "_strips", strips(self.workload, self._order))

    @property
    def rows_a_day(self) -> float:
        """New rows."""
        inserted = sum(read.shape.weight for read in self.workload.shapes if read.inserts)
        return max(self.growth.rows_a_day, inserted)

    def as_it_is(self) -> Weighed:
        """The table as it is: without partitions, or with those that it has."""
        if self.current is not None:
            return self._with_current(self.current)
        shapes, inserts = self._shapes(None, (), False, one_leaf(self._strips), {})
        retiring = self._retired_row_by_row(1) if self.keeps else NO_RETIRING
        return self._summed(None, 1, 1, [1.0], shapes, inserts, retiring, ())

    def _with_current(self, tree: Tree) -> Weighed:
        sizes = np.array([float(leaf.rows or 0) for leaf in tree.leaves])
        shares = sizes / (sizes.sum() or 1.0)
        key = tuple(column.name or "" for column in tree.key)
        follows = (
            tree.by is By.RANGE and tree.catch_all is None and all(leaf.parent == tree.spelling for leaf in tree.leaves)
        )
        groups = leaf_groups(tree, shares, self._order, self._strips)
        counter = _counter(self.rules.pruner(tree), tree, shares, self.facts.statistics)
        places = LeafPlaces.as_it_is(tree, shares)
        shapes, inserts = self._shapes(counter, key, follows, groups, _divisions(tree), places)
        retiring = NO_RETIRING
        if self.keeps:
            drops = tree.by is By.RANGE and (self.ageing is None or key[0] == self.ageing)
            retiring = (
                self._retired_row_by_row(len(shares)) if not drops else dropped(self._dropped_a_day(groups), self.costs)
            )
        weights = [float(leaf.bytes) for leaf in tree.leaves]
        total = sum(weights) or 1.0
        each = [weight / total for weight in weights]
        sent_ms = places.insert_ms(groups.newest(), self.costs)
        return self._summed(None, len(each), len(each), each, shapes, inserts, retiring, (), sent_ms)

    def _shapes(
        self,
        count: "_Counter | None",
        key: tuple[str, ...],
        follows: bool,
        groups: LeafGroups,
        divisions: Mapping[str, float],
        places: LeafPlaces | None = None,
        facts: TableFacts | None = None,
    ) -> tuple[tuple[ShapeCost, ...], float]:
        """The cost of every shape, on average over its runs, and the blocks read for a new row.

        In two rounds: what all runs touch decides what stays in memory, and that what each of them costs.

        facts   with the indexes as they would be; None: as they are
        """
        memory = Memory(self.facts.buffers_bytes, self.facts.cache_bytes)
        slow = None if places is None else places.slowness(self.costs)
        day = BlockTouches(facts or self.facts, self.costs, memory, groups, self._order, divisions, slow)
        met: list[list[tuple[Leaves, Choice, Touched, Paid]]] = []
        planned = weight = 0.0
        for read in self.workload.shapes:
            runs: list[tuple[Leaves, Choice, Touched, Paid]] = []
            times = read.shape.weight / max(1, len(read.runs))
            for asked in (asked for run in read.runs for asked in run):
                leaves = _of_one(asked) if count is None else count.met(asked)
                choice = day.ways.choice(asked.access, leaves, key, follows)
                touched = Touched()
                if choice.way is not None:
                    touched = day.touched(choice.way, leaves, self._read_stretch(asked, choice.way))
                day.add(touched, times)
                planned, weight = planned + leaves.planned * times, weight + times
                sent = NOTHING_PAID if places is None else places.sending(leaves, asked, self.facts.rows, self.costs)
                runs.append((leaves, choice, touched, sent))
            met.append(runs)
        day.add_inserts(self.rows_a_day)
        day.settle(planned / weight if weight else 1.0)
        shapes = []
        for read, runs in zip(self.workload.shapes, met, strict=True):
            paid, touched_leaves = NOTHING_PAID, 0
            for leaves, choice, touched, sent in runs:
                touched_leaves += leaves.touched
                paid += self._paid(day, leaves, choice, touched) + sent
            each = 1 / len(read.runs) if read.runs else 0.0
            shapes.append(ShapeCost(read, touched_leaves * each, paid.times(each)))
        return tuple(shapes), day.insert_reads()

    def _supposed_places(self, tree: Tree, shares: Floats, layout: Layout) -> LeafPlaces | None:
        """Of a tree that is only supposed: on the servers that the layout names, or where the table's own layout puts
        rows of their age.
        """
        if layout.servers:
            return LeafPlaces.on_servers(tree, shares, layout)
        kind, placed = self.facts.columns[layout.key[0]].kind, self.placed
        if placed is None or layout.by is not By.RANGE or layout.key[0] != placed.key[0] or not kind.is_time:
            return None
        return LeafPlaces.by_age(tree, shares, placed, as_key(self.now, kind, ZoneInfo(placed.zone)))

    def _paid(self, day: BlockTouches, leaves: Leaves, choice: Choice, touched: Touched) -> Paid:
        if choice.way is None:
            return Paid(0.0, choice.planning_ms, 0.0)
        way = choice.way
        reads, waiting = day.reads(touched)
        # What a descent costs is measured with its blocks in memory.
        found = way.heap + max(0.0, way.index_blocks - way.descents)
        running = day.ways.running_ms(choice, waiting + found * self.costs.block, leaves.touched)
        return Paid(choice.blocks, choice.planning_ms, running, reads, min(waiting, running))

    def _read_stretch(self, asked: AskedConditions, way: Way) -> Stretch:
        """Where the rows lie that a run reads. The first rows of an order are taken to be the newest."""
        stretch = self._stretches.get(id(asked))
        if stretch is None:
            stretch = self._stretches[id(asked)] = self._order.stretch(asked.condition)
        access = asked.access
        first = access.ordered[0] if access.ordered else None
        if access.limit is None or first not in self._order.columns or way.place is None or stretch[1] < 1.0:
            return stretch
        matching = max(1.0, self.facts.rows * access.shares.total)
        return (max(stretch[0], 1 - (1 - stretch[0]) * min(1.0, access.limit / matching)), 1.0)

    def weigh(self, layout: Layout) -> Weighed | None:
        """None when the layout gives no partitions, or too many."""
        try:
            planned = self.planned(layout)
        except LayoutError:
            return None
        if sum(len(each.leaves) for each in planned) > self.ceiling:
            return None
        shares = leaf_shares(planned, layout, self.facts.columns, self.facts.statistics)
        tree = tree_of(self.facts, layout, planned)
        key = (*layout.key, *(layout.within.key if layout.within else ()))
        follows = layout.by is By.RANGE and layout.within is None and not layout.catch_all
        groups = leaf_groups(tree, np.array(shares), self._order, self._strips)
        counter = _counter(self.rules.pruner(tree), tree, shares, self.facts.statistics)
        places = self._supposed_places(tree, np.array(shares), layout)
        facts = with_wider_keys(self.facts, layout.full_key)
        shapes, inserts = self._shapes(counter, key, follows, groups, _divisions(tree), places, facts)
        kept = self._kept(layout, planned)
        retiring = NO_RETIRING
        if self.keeps:
            drops = self.drops_old(layout)
            a_day = self._dropped_a_day(groups)
            retiring = dropped(a_day, self.costs) if drops else self._retired_row_by_row(len(shares))
        found = self.obstacles(layout, shares)
        sent_ms = 0.0 if places is None else places.insert_ms(groups.newest(), self.costs)
        return self._summed(layout, len(shares), kept, shares, shapes, inserts, retiring, found, sent_ms)

    def _retired_row_by_row(self, leaves: int) -> Retiring:
        return deleted(self.facts, self.costs, self.ageing, self.rows_a_day, leaves)

    def _dropped_a_day(self, groups: LeafGroups) -> float:
        """Partitions that leave a day, once as many rows leave as come."""
        filled = float((groups.shares > 0).sum())
        return filled * self.rows_a_day / max(1, self.facts.rows)

    def planned(self, layout: Layout) -> tuple[Planned, ...]:
        """The partitions that the layout would have today. Raises LayoutError when it does not fit the table."""
        kinds = tuple(self.facts.columns[name].kind for name in layout.key)
        seen = self.facts.statistics.get(layout.key[0])
        low, high = (seen.low, seen.high) if seen else (None, None)
        clock: datetime | int = self.now
        if layout.by is By.RANGE and not kinds[0].is_time:
            clock = high if isinstance(high, int) else 0
        namer = Namer(layout, kinds[0], NAME_LIMIT)
        top = due_partitions(layout, kinds, namer, now=clock, low=low, high=high)
        top = coarsened(layout, top, kinds, clock)
        if layout.within is None:
            return top
        inner = tuple(self.facts.columns[name].kind for name in layout.within.key)
        return divided(top, layout, inner, NAME_LIMIT)

    def _kept(self, layout: Layout, planned: Sequence[Planned]) -> int:
        """Leaves once rows are retired as fast as they come."""
        if layout.keep is None or layout.span is None or layout.coarsen is not None:
            return sum(len(each.leaves) for each in planned)
        grid = layout.grid(self.facts.columns[layout.key[0]].kind)
        seen = self.facts.statistics.get(layout.key[0])
        here = seen.high if layout.span.unit is Unit.NUMBER and seen else _as_value(self.now, layout, self.facts)
        if here is None or layout.ahead is None:
            return sum(len(each.leaves) for each in planned)
        first = grid.index(shifted(here, layout.keep, -1, grid.zone))
        last = last_slot(layout, grid, here)
        inner = max(len(each.leaves) for each in planned)
        return (last - first + 1) * inner

    def _summed(
        self,
        layout: Layout | None,
        partitions: int,
        kept: int,
        shares: Sequence[float],
        shapes: tuple[ShapeCost, ...],
        insert_reads: float,
        retiring: Retiring,
        obstacles: tuple[str, ...],
        sent_ms: float = 0.0,
    ) -> Weighed:
        """sent_ms: of a new row, on its way to another server."""
        facts, costs = self.facts, self.costs
        reading = [cost for cost in shapes if cost.read.runs]
        weight = sum(cost.read.shape.weight for cost in reading) or 1.0
        indexes = 1 + len(facts.indexes)
        filled = sorted(share * facts.bytes for share in shares if share * facts.bytes >= 1) or [0.0]
        largest = filled[-1] / max(1, facts.bytes)
        an_insert = costs.insert * indexes + (costs.route if partitions > 1 else 0.0)
        an_insert += insert_reads * costs.read * INSERT_MISS + sent_ms
        return Weighed(
            layout=layout,
            partitions=partitions,
            partitions_kept=kept,
            smallest=round(filled[0]),
            median=round(filled[len(filled) // 2]),
            largest=round(filled[-1]),
            skew=filled[-1] / (sum(filled) / len(filled)) if sum(filled) else 1.0,
            touched_mean=sum(cost.touched * cost.read.shape.weight for cost in reading) / weight,
            touched_p95=_percentile([(cost.touched, cost.read.shape.weight) for cost in reading], 0.95),
            read_share=0.0,
            blocks=sum(cost.paid.blocks * cost.read.shape.weight for cost in reading),
            reads=sum(cost.paid.reads * cost.read.shape.weight for cost in reading),
            sent=sum(cost.paid.sent * cost.read.shape.weight for cost in reading),
            planning_ms=sum(cost.paid.planning_ms * cost.read.shape.weight for cost in reading) / weight,
            first_ms=costs.planning + partitions * (costs.planning_leaf + costs.first_leaf),
            workload_ms=sum(cost.paid.ms * cost.read.shape.weight for cost in reading),
            insert_ms=self.rows_a_day * an_insert,
            insert_reads=self.rows_a_day * insert_reads,
            waiting_ms=sum(cost.paid.waiting_ms * cost.read.shape.weight for cost in reading)
            + self.rows_a_day * insert_reads * costs.read * INSERT_MISS,
            retiring=retiring,
            obstacles=obstacles,
            shapes=shapes,
            upkeep=piece_upkeep(
                facts.heap_bytes * largest,
                facts.index_bytes * largest,
                facts.rows * largest,
                len(facts.indexes),
                costs,
            ),
        )

    def drops_old(self, layout: Layout | None) -> bool:
        """Whether old rows fill partitions of their own: a range along what `keep` is counted in."""
        if layout is None or layout.keep is None:
            return False
        aged = self.facts.columns.get(self.ageing or "")
        # Where rows are stored in the order of a number, any time column may decide how long they are kept.
        return aged is None or not aged.kind.is_time or layout.key[0] == self.ageing

    def obstacles(self, layout: Layout, shares: Sequence[float]) -> tuple[str, ...]:
        """The properties that the layout gives up or makes worse."""
        return tuple(obstacles(self.facts, self.workload, layout, shares))


def _divisions(tree: Tree) -> dict[str, float]:
    """In how many pieces a tree divides the values of a column. A key of several columns divides none of them alone."""
    outer, leaves = max(1, len(tree.children)), max(1, len(tree.leaves))
    found = {tree.key[0].name or "": float(outer)} if len(tree.key) == 1 else {}
    inner = next((child.division for child in tree.children if child.division is not None), None)
    if inner is not None and len(inner.key) == 1:
        name = inner.key[0].name or ""
        # The same column twice: big values alone, and the others hashed.
        found[name] = float(leaves) if name in found else leaves / outer
    return found


def _of_one(asked: AskedConditions) -> Leaves:
    """A table without partitions."""
    return Leaves(1, 0, 0, 1.0) if asked.is_empty else Leaves(1, 1, 1, 1.0)


def _percentile(weighted: Sequence[tuple[float, float]], share: float) -> float:
    total = sum(weight for _, weight in weighted)
    passed = 0.0
    for value, weight in sorted(weighted):
        passed += weight
        if passed >= share * total:
            return value
    return 0.0


def _as_value(now: datetime, layout: Layout, facts: TableFacts) -> Value:
    kind = facts.columns[layout.key[0]].kind
    return as_key(now, kind, layout.grid(kind).zone)


@dataclass(slots=True)
class _Counter:
    """Counts the leaves that a run meets, and the share of the rows in them.

    place_of   by the leaf's name
    hashed     a column whose values are hashed one by one, with how many parts and how many values there are
    """

    pruner: Prunes
    shares: Floats
    place_of: Mapping[str, int]
    hashed: tuple[str, float, float] | None

    def met(self, asked: AskedConditions) -> Leaves:
        total = len(self.shares)
        if asked.is_empty:
            return Leaves(total, 0, 0, 0.0)
        planned = self.pruner.survivors(asked.condition, When.PLAN)
        touched = planned
        if len(planned) > 1 and self.pruner.waits(asked.condition):
            touched = self.pruner.survivors(asked.condition, When.START)
        if len(touched) == total:
            return Leaves(total, total, total, 1.0)
        places = np.array([self.place_of[leaf.spelling] for leaf in touched], dtype=np.intp)
        share = min(1.0, float(self.shares[places].sum()) * self._more_than_the_mean(asked))
        return Leaves(total, len(planned), len(touched), max(share, 1e-9) if len(touched) else 0.0, places)

    def _more_than_the_mean(self, asked: AskedConditions) -> float:
        """How much larger the part of a value that is asked for is than the mean part: it holds that value for certain,
        and of the others its share. A value that is common is known with its part.
        """
        if self.hashed is None:
            return 1.0
        column, parts, values = self.hashed
        shares = asked.access.shares
        if column not in shares.equal or shares.by_column[column] > 1.5 * shares.equal[column] / values:
            return 1.0
        return 1 + (parts - 1) / values


def _counter(
    pruner: Prunes, tree: Tree, shares: Sequence[float] | Floats, statistics: Mapping[str, ColumnStatistics]
) -> _Counter:
    places = {leaf.spelling: place for place, leaf in enumerate(tree.leaves)}
    return _Counter(pruner, np.asarray(shares), places, _hashed(tree, statistics))


def _hashed(tree: Tree, statistics: Mapping[str, ColumnStatistics]) -> tuple[str, float, float] | None:
    inner = next((child.division for child in tree.children if child.division is not None), None)
    division = (tree.by, tree.key) if inner is None else (inner.by, inner.key)
    by, key = division
    seen = statistics.get(key[0].name or "")
    if by is not By.HASH or len(key) > 1 or seen is None or not seen.distinct:
        return None
    divided = sum(child.division is not None for child in tree.children) or 1
    parts = len(tree.leaves) if inner is None else len(tree.partitions) - len(tree.children)
    return key[0].name or "", parts / divided, max(1.0, seen.distinct)
