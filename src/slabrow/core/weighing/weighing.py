"""Weighs layouts against a workload: what each would cost a day, what it gives and what it takes (N04–N09).

Every run of every shape is put to every candidate: the leaves that it touches come from `keysets`, the same reasoning
with which `prove` predicts; what that costs comes from `costs`. "Leave it as it is" is weighed in the same way.
"""

# How layouts are ranked. Every run of every shape of statement meets the leaves of a candidate: the pruner says which.
# The cost model says what that takes. Summed over a day, with the price of inserting and of retiring rows, this is the
# candidate's cost in milliseconds; the table as it is gets its cost in the same way.
#
# Three rules keep the ranking honest. A gain below LEAST_GAIN or LEAST_GAIN_MS does not count: the model is not exact
# enough, and a conversion is work. Among candidates within two percent the one with fewer partitions wins. And what a
# layout takes (uniqueness, slower queries) is said beside the reasons, but never turned into milliseconds.

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from math import inf

from slabrow.core.pruning.family_rules import USUAL_RULES, Prunes, PruningRules
from slabrow.core.sql.when import When
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.sizes import leaf_shares
from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Unit, shifted
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.planned_partitions import Namer, Planned, as_key, divided, due_partitions, last_slot
from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Value
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT
from slabrow.core.values.wording import count, milliseconds, share, size
from slabrow.core.weighing.coarser import Coarser, coarser
from slabrow.core.weighing.costs import NOTHING_PAID, CostModel, Costs, Leaves, Paid
from slabrow.core.weighing.obstacles import obstacles
from slabrow.core.weighing.supposed_tree import tree_of
from slabrow.core.weighing.windows import WindowRule, window_rule
from slabrow.core.weighing.workload_reading import AskedConditions, ReadShape, TableWorkload, windows

# A gain below this share is within the error of the model, and not worth a conversion.
LEAST_GAIN = 0.10
LEAST_GAIN_MS = 100.0  # a day: too little to be noticed
LOPSIDED = 0.8  # of the table in one leaf: queries read it as they read the table

SMALL = 1 << 30  # bytes; below, memory and indexes serve most of what partitions would


@dataclass(frozen=True, slots=True)
class ShapeCost:
    """The cost of one shape on one layout. touched: leaves of a run, on average; paid: by one run."""

    read: ReadShape
    touched: float
    paid: Paid


@dataclass(frozen=True, slots=True, kw_only=True)
class Weighed:
    """A candidate with its figures. layout is None for the table as it is.

    partitions        leaves with the rows that there are
    partitions_kept   once `keep` is reached, with what lies ahead
    smallest, median, largest   bytes of leaves that hold rows
    skew              the largest leaf against the mean
    touched_mean, touched_p95   leaves that a run touches
    read_share        blocks read a day against the table as it is
    planning_ms       of a run, on average
    workload_ms       of a day's reads and changes: planning and running
    retire_ms         of a day's retiring, where rows are kept for a time only
    insert_ms         of a day's new rows
    """

    layout: Layout | None
    partitions: int
    partitions_kept: int
    smallest: int
    median: int
    largest: int
    skew: float
    touched_mean: float
    touched_p95: float
    read_share: float
    blocks: float
    planning_ms: float
    workload_ms: float
    retire_ms: float
    insert_ms: float
    obstacles: tuple[str, ...]
    shapes: tuple[ShapeCost, ...]

    @property
    def ms(self) -> float:
        """A day's cost: what candidates are ranked by."""
        return self.workload_ms + self.retire_ms + self.insert_ms


@dataclass(frozen=True, slots=True)
class Ranking:
    """The ranking, with its explanation.

    ranked      the best first; the table as it is among them
    reasons     why the first wins
    price       what it takes
    runner_up   when the second would win, in words; None when there is no second
    coarser     what `coarsen` would bring to the first; None where it brings nothing
    """

    ranked: tuple[Weighed, ...]
    reasons: tuple[str, ...]
    price: tuple[str, ...]
    runner_up: str | None
    windows: WindowRule | None
    coarser: Coarser | None = None

    @property
    def winner(self) -> Weighed:
        """The candidate that comes first."""
        return self.ranked[0]


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

    def as_it_is(self) -> Weighed:
        """The table as it is: without partitions, or with those that it has."""
        if self.current is not None:
            return self._with_current(self.current)
        model = CostModel(self.facts, self.costs)
        shapes = []
        for read in self.workload.shapes:
            paid = NOTHING_PAID
            for run in read.runs:
                for asked in run:
                    none = asked.is_empty
                    paid += model.paid(asked.access, Leaves(1, 0 if none else 1, 0 if none else 1, 1.0), (), False)
            shapes.append(ShapeCost(read, 1.0, paid.times(1 / len(read.runs)) if read.runs else NOTHING_PAID))
        size = self.facts.bytes
        return self._summed(None, 1, 1, [size], tuple(shapes), ())

    def _with_current(self, tree: Tree) -> Weighed:
        rows = {leaf.name.table: leaf.rows or 0 for leaf in tree.leaves}
        total = sum(rows.values()) or 1
        shares = {name: count / total for name, count in rows.items()}
        key = tuple(column.name or "" for column in tree.key)
        follows = (
            tree.by is By.RANGE and tree.catch_all is None and all(leaf.parent == tree.spelling for leaf in tree.leaves)
        )
        shapes = self._shapes(_Counter(self.rules.pruner(tree), shares), key, follows)
        sizes = [leaf.bytes for leaf in tree.leaves]
        return self._summed(None, len(rows), len(rows), sizes, shapes, ())

    def _shapes(self, count: "_Counter", key: tuple[str, ...], follows: bool) -> tuple[ShapeCost, ...]:
        """The cost of every shape, on average over its runs."""
        model = CostModel(self.facts, self.costs)
        shapes = []
        for read in self.workload.shapes:
            paid, touched = NOTHING_PAID, 0
            for run in read.runs:
                for asked in run:
                    met = count.met(asked)
                    touched += met.touched
                    paid += model.paid(asked.access, met, key, follows)
            runs = len(read.runs)
            shapes.append(
                ShapeCost(read, touched / runs if runs else 0.0, paid.times(1 / runs) if runs else NOTHING_PAID)
            )
        return tuple(shapes)

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
        leaves = [leaf.name for each in planned for leaf in each.leaves]
        share_of = dict(zip(leaves, shares, strict=True))
        key = (*layout.key, *(layout.within.key if layout.within else ()))
        follows = layout.by is By.RANGE and layout.within is None and not layout.catch_all
        shapes = self._shapes(_Counter(self.rules.pruner(tree), share_of), key, follows)
        sizes = [share * self.facts.bytes for share in shares]
        return self._summed(
            layout, len(leaves), self._kept(layout, planned), sizes, shapes, self.obstacles(layout, shares)
        )

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
        if layout.within is None:
            return top
        inner = tuple(self.facts.columns[name].kind for name in layout.within.key)
        return divided(top, layout, inner, NAME_LIMIT)

    def _kept(self, layout: Layout, planned: Sequence[Planned]) -> int:
        """Leaves once rows are retired as fast as they come."""
        if layout.keep is None or layout.span is None:
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
        sizes: Sequence[float],
        shapes: tuple[ShapeCost, ...],
        obstacles: tuple[str, ...],
    ) -> Weighed:
        reading = [cost for cost in shapes if cost.read.runs]
        weight = sum(cost.read.shape.weight for cost in reading) or 1.0
        inserted = sum(cost.read.shape.weight for cost in shapes if cost.read.inserts)
        rows_a_day = max(self.growth.rows_a_day, inserted)
        indexes = 1 + len(self.facts.indexes)
        filled = sorted(size for size in sizes if size >= 1) or [0.0]
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
            planning_ms=sum(cost.paid.planning_ms * cost.read.shape.weight for cost in reading) / weight,
            workload_ms=sum(cost.paid.ms * cost.read.shape.weight for cost in reading),
            retire_ms=self._retire_ms(layout, rows_a_day, indexes),
            insert_ms=rows_a_day * (self.costs.insert * indexes + (self.costs.route if layout is not None else 0.0)),
            obstacles=obstacles,
            shapes=shapes,
        )

    def _retire_ms(self, layout: Layout | None, rows_a_day: float, indexes: int) -> float:
        """The cost of deleting rows past `keep` one by one; nothing where whole partitions can be dropped."""
        if not self.keeps or self.drops_old(layout):
            return 0.0
        return rows_a_day * self.costs.delete * indexes

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

    def verdict(
        self, layouts: Sequence[Layout], target_bytes: int | None, progress: Callable[[float], None]
    ) -> Ranking:
        """All candidates and the table as it is, ranked."""
        now = self.as_it_is()
        found = [now]
        for place, layout in enumerate(layouts):
            progress(place / max(1, len(layouts)))
            weighed = self.weigh(layout)
            if weighed is not None:
                found.append(weighed)
        found = [replace(each, read_share=each.blocks / (now.blocks or 1.0)) for each in found]
        ranked = self._ranked(found, target_bytes, self.facts.bytes)
        winner = ranked[0]
        rule = None
        if winner.layout is not None and winner.layout.by is By.RANGE:
            rule = self.window_rule(winner.layout)
        second = ranked[1] if len(ranked) > 1 else None
        return Ranking(
            tuple(ranked),
            tuple(self._reasons(winner, now, ranked)),
            tuple(self._price(winner, now)),
            _when_second_wins(winner, second) if second is not None else None,
            rule,
            coarser(winner.layout, winner.partitions_kept, rule),
        )

    @staticmethod
    def _ranked(found: Sequence[Weighed], target_bytes: int | None, table_bytes: int) -> list[Weighed]:
        """By cost; too large ones after those that fit, and the table as it is first unless the gain is worth it.

        A layout of which one leaf holds nearly everything divides nothing: it comes after all that do.
        """

        def misses(each: Weighed) -> bool:
            is_too_large = target_bytes is not None and each.largest > target_bytes
            return is_too_large or (each.layout is not None and each.largest > LOPSIDED * table_bytes)

        # Within one in fifty the model cannot tell: fewer partitions win then.
        ordered = sorted(found, key=lambda each: (misses(each), each.ms))
        best = ordered[0]
        alike = [each for each in ordered if misses(each) == misses(best) and each.ms <= best.ms * 1.02]
        best = min(alike, key=lambda each: (each.partitions, each.ms))
        now = next(each for each in found if each.layout is None)
        gained = now.ms - best.ms
        if misses(now) == misses(best) and (gained < now.ms * LEAST_GAIN or gained < LEAST_GAIN_MS):
            best = now
        return [best, *(each for each in ordered if each is not best)]

    def window_rule(self, layout: Layout) -> WindowRule | None:
        """The windows that the workload asks of a range layout's key, against its span."""
        column = layout.key[0]
        asked = windows(self.workload, column)
        span = _span_steps(layout)
        return window_rule(asked, span, self.workload.weight) if span else None

    def _reasons(self, winner: Weighed, now: Weighed, ranked: Sequence[Weighed]) -> Iterator[str]:
        if winner.layout is None:
            yield from self._reasons_to_stay(now, ranked)
            return
        took, takes = milliseconds(now.ms), milliseconds(winner.ms)
        yield f"a day's work takes {takes} instead of {took}, {share(winner.ms / now.ms)} of it"
        yield f"it reads {share(winner.read_share)} of the blocks that the table as it is reads"
        one = sum(cost.read.shape.weight for cost in winner.shapes if cost.read.runs and cost.touched <= 1.0)
        weight = sum(cost.read.shape.weight for cost in winner.shapes if cost.read.runs) or 1.0
        yield (
            f"{share(one / weight)} of the queries touch one partition of {winner.partitions}, "
            f"95 % at most {winner.touched_p95:g}"
        )
        seen = self.facts.statistics.get(winner.layout.key[0])
        is_hashed = By.HASH in (winner.layout.by, winner.layout.within and winner.layout.within.by)
        if is_hashed and len(winner.layout.key) == 1 and seen is not None and (seen.distinct or 0) > 50:
            values = f"{seen.distinct:,.0f} values"
            yield f"a partition for each of its {values} would be too many; hashed, they share a few"
        if self.keeps and self.drops_old(winner.layout):
            yield "old rows leave by dropping partitions instead of deleting row by row"
        gains = sorted(_gains(winner, now), key=lambda pair: -pair[1])[:2]
        for cost, gain in gains:
            if gain > 0.02 * now.ms:
                yield f"the most is gained by {cost.read.shape.name}: {milliseconds(gain)} a day"

    def _reasons_to_stay(self, now: Weighed, ranked: Sequence[Weighed]) -> Iterator[str]:
        best = next((each for each in ranked if each.layout is not None), None)
        if self.facts.bytes < SMALL:
            yield (f"the table is small: {size(self.facts.bytes)} are found in memory and through its indexes")
        if best is None:
            yield "no column that the workload asks for can be a partition key"
            return
        change = best.ms / now.ms - 1 if now.ms else 0.0
        how = f"{share(-change)} less" if change < 0 else f"{share(change)} more"
        yield f"the best layout, {best.layout}, would take {how} time for a day's work: no reason to convert"
        missed = _missing(best)
        weight = sum(cost.read.shape.weight for cost in best.shapes if cost.read.runs) or 1.0
        if missed:
            all_leaves = sum(cost.read.shape.weight for cost in missed) / weight
            yield f"{share(all_leaves)} of the queries would have to look into every partition of it"

    def _price(self, winner: Weighed, now: Weighed) -> Iterator[str]:
        if winner.layout is None:
            return
        if self.facts.bytes < SMALL:
            gained = milliseconds(now.ms - winner.ms)
            yield (
                f"the table is small, {size(self.facts.bytes)}: all this gains {gained} a day, "
                "and may not be worth a conversion"
            )
        if self.keeps and not self.drops_old(winner.layout):
            yield (
                f"old rows cannot leave as a whole under {winner.layout.by}: they lie in every partition, and have to "
                "be deleted row by row"
            )
        yield from winner.obstacles
        before = {cost.read.shape.name: cost for cost in now.shapes}
        losses = sorted(_gains(winner, now), key=lambda pair: pair[1])[:3]
        for cost, gain in losses:
            old = before[cost.read.shape.name].paid.ms
            if gain < 0 and cost.paid.ms > 1.05 * old and cost.read.runs:
                why = f"it touches {cost.touched:g} partitions" if cost.touched > 1 else "planning takes longer"
                yield (
                    f"{cost.read.shape.name} gets slower, {old:.2f} ms to {cost.paid.ms:.2f} ms, "
                    f"{cost.read.shape.weight:,.0f} times a day: {why}"
                )
        missed = _missing(winner)
        if missed:
            names = ", ".join(cost.read.shape.name for cost in missed[:4])
            names += " and others" if len(missed) > 4 else ""
            weight = sum(cost.read.shape.weight for cost in missed)
            shapes = "1 shape does" if len(missed) == 1 else f"{len(missed)} shapes do"
            reads = "reads" if len(missed) == 1 else "read"
            yield f"{shapes} not use the key and {reads} every partition, {weight:,.0f} times a day: {names}"


def _missing(weighed: Weighed) -> list[ShapeCost]:
    """The shapes that touch every leaf, the weightiest first."""
    found = [cost for cost in weighed.shapes if cost.read.runs and cost.touched >= weighed.partitions > 1]
    return sorted(found, key=lambda cost: -cost.read.shape.weight)


def _gains(weighed: Weighed, now: Weighed) -> Iterator[tuple[ShapeCost, float]]:
    """Each shape with the milliseconds a day that it gains; below zero where it loses."""
    for cost, before in zip(weighed.shapes, now.shapes, strict=True):
        yield cost, (before.paid.ms - cost.paid.ms) * cost.read.shape.weight


def _when_second_wins(winner: Weighed, second: Weighed) -> str:
    """The one change in the workload that would turn the ranking, in words."""
    name = str(second.layout) if second.layout is not None else "leaving the table as it is"
    lead = second.ms - winner.ms
    best: tuple[float, str, float] = (inf, "", 0.0)
    for cost, other in zip(winner.shapes, second.shapes, strict=True):
        gain = (cost.paid.ms - other.paid.ms) * cost.read.shape.weight
        if gain > 0 and lead > 0:
            factor = 1 + lead / gain
            best = min(best, (factor, cost.read.shape.name, cost.read.shape.weight))
    if lead <= 0:
        return f"{name} takes {share(-lead / winner.ms)} less in the model: too little for what a change costs"
    if best[0] == inf:
        return f"no change of the workload makes {name} win"
    times = f"{best[0]:.1f}" if best[0] < 10 else count(best[0])
    return f"{name} would win if {best[1]} ran {times} times more often than its {count(best[2])} runs a day"


def _percentile(weighted: Sequence[tuple[float, float]], share: float) -> float:
    total = sum(weight for _, weight in weighted)
    passed = 0.0
    for value, weight in sorted(weighted):
        passed += weight
        if passed >= share * total:
            return value
    return 0.0


def _span_steps(layout: Layout) -> int | None:
    span = layout.span
    if span is None:
        return None
    if span.unit is Unit.NUMBER:
        return span.count
    days = {Unit.HOUR: 1 / 24, Unit.DAY: 1, Unit.WEEK: 7, Unit.MONTH: 28, Unit.QUARTER: 90, Unit.YEAR: 365}
    return round(days[span.unit] * span.count * 86_400_000_000)  # the shortest month: never too few partitions


def _as_value(now: datetime, layout: Layout, facts: TableFacts) -> Value:
    kind = facts.columns[layout.key[0]].kind
    return as_key(now, kind, layout.grid(kind).zone)


@dataclass(slots=True)
class _Counter:
    """Counts the leaves that a run meets, and the share of the rows in them."""

    pruner: Prunes
    share_of: Mapping[str, float]

    def met(self, asked: AskedConditions) -> Leaves:
        total = len(self.share_of)
        if asked.is_empty:
            return Leaves(total, 0, 0, 0.0)
        planned = self.pruner.survivors(asked.condition, When.PLAN)
        touched = planned
        if len(planned) > 1 and self.pruner.waits(asked.condition):
            touched = self.pruner.survivors(asked.condition, When.START)
        share = 1.0 if len(touched) == total else sum(self.share_of[leaf.name.table] for leaf in touched)
        return Leaves(total, len(planned), len(touched), max(share, 1e-9) if touched else 0.0)
