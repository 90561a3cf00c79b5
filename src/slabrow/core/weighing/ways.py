"""The ways in which a server can read the leaves that a query meets, and the one that its planner takes.

The planner's units decide which way is taken, with the server's own settings (costsize.c); they are no time. What the
way takes is told in blocks and in milliseconds of work; whether its blocks are found in memory is told elsewhere.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from math import ceil, expm1, log, log1p, sqrt

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.relation import IndexShape
from slabrow.core.weighing.costs import Access, Costs, Leaves
from slabrow.core.weighing.selectivity import Shares


@dataclass(frozen=True, slots=True)
class Way:
    """One way to read the touched leaves.

    blocks         visits
    work_ms        of the processor, without what blocks cost
    planner_cost   what the server thinks of it, in its own units; paged: the part of it that workers do not share
    scanned        heap blocks that workers could share; 0 where they cannot
    heap           heap blocks: one after the other where there is no index
    density        of the heap blocks within the stretch that holds them, where they are read in the heap's order
    place          of the index among the table's; None for a sequential scan
    opened         leaves that are read
    descents       into the index, in all leaves together
    values         of the leading column that are looked up; 0 where it is asked for by a range
    index_blocks   leaf blocks of the index
    workers        how many help
    """

    blocks: float
    work_ms: float
    planner_cost: float
    paged: float = 0.0
    scanned: float = 0.0
    heap: float = 0.0
    density: float = 0.0
    place: int | None = None
    opened: float = 0.0
    descents: float = 0.0
    values: float = 0.0
    index_blocks: float = 0.0
    workers: int = 0


@dataclass(frozen=True, slots=True)
class Choice:
    """The way that the planner takes, with the rest of what the query takes. way: None where nothing is read."""

    way: Way | None
    planning_ms: float
    work_ms: float = 0.0

    @property
    def blocks(self) -> float:
        """Visits."""
        return self.way.blocks if self.way is not None else 0.0


# The planner's units for a row and an index entry looked at, and for an operator (PostgreSQL manual, 20.7.2).
_ROW_COST, _ENTRY_COST, _OPERATOR_COST = 0.01, 0.005, 0.0025
_PARALLEL_SETUP_COST, _PARALLEL_ROW_COST = 1_000.0, 0.1
_PARALLEL_BLOCKS = 1_024  # min_parallel_table_scan_size, 8 MB


@dataclass(frozen=True, slots=True)
class Ways:
    """The ways on one table.

    divisions   in how many pieces a layout divides the values of a column; columns that it does not divide are left out
    """

    facts: TableFacts
    costs: Costs
    divisions: Mapping[str, float] = field(default_factory=dict)

    def choice(self, access: Access, leaves: Leaves, key: Sequence[str], is_range_by_first: bool) -> Choice:
        """What a query takes on a layout with this key.

        is_range_by_first   whether leaves follow each other in the order of the first key column, so that an ordered
                            query can stop at the first leaf that has its rows
        """
        constants = self.costs
        planning = (
            constants.planning
            + constants.planning_leaf * leaves.touched
            + constants.planning_start * (leaves.planned - leaves.touched)
            + constants.planning_rest * (leaves.total - leaves.planned)
        )
        if leaves.touched == 0:
            return Choice(None, planning)
        ways = [self._sequential(access, leaves)]
        for place, index in enumerate(self.facts.indexes):
            if not index.is_partial:
                ways += [
                    replace(way, place=place, values=float(access.shares.equal.get(index.columns[0], 0)))
                    for way in self._by_index(index, access, leaves, key, is_range_by_first)
                ]
        emitted = self.facts.rows * access.shares.total
        if access.limit is not None:
            emitted = min(emitted, access.limit)
        ways += [shared for way in ways if (shared := self._shared(way, access, emitted, leaves)) is not None]
        # The server takes the way that its own cost model thinks cheapest, which is not always the fastest.
        way = min(ways, key=lambda way: way.planner_cost)
        handed_on = emitted * (constants.emit + (constants.append if leaves.touched > 1 else 0.0))
        return Choice(way, planning, way.work_ms + handed_on)

    def running_ms(self, choice: Choice, waiting_ms: float, touched: int) -> float:
        """The time of running: work and blocks, shared by workers. waiting_ms: of all blocks."""
        way = choice.way
        if way is None:
            return 0.0
        running = choice.work_ms + waiting_ms
        if way.workers:
            running = running / _speed(self.costs.parallel_gain, way.workers) + self.costs.parallel_setup
        return running + self.costs.running_leaf * touched

    def _shared(self, way: Way, access: Access, emitted: float, leaves: Leaves) -> Way | None:
        """The same way with parallel workers; None where the server would not start any.

        By the size of the largest scan (compute_parallel_worker, allpaths.c), which need not be large in a partition;
        over several leaves by their number too (add_paths_to_append_rel).
        """
        facts = self.facts
        if not way.scanned or facts.parallel_workers < 1 or access.limit is not None:
            return None
        each = way.scanned / leaves.touched
        if leaves.total == 1 and each < _PARALLEL_BLOCKS:
            return None
        workers = 1 + int(log(each / _PARALLEL_BLOCKS, 3)) if each >= _PARALLEL_BLOCKS else 1
        if leaves.touched > 1:
            workers = max(workers, int(log(leaves.touched, 2)) + 1)
        workers = min(facts.parallel_workers, workers)
        divisor = workers + max(0.0, 1 - 0.3 * workers)
        handed_on = 0.0 if access.is_counted else emitted * _PARALLEL_ROW_COST
        cost = way.paged + (way.planner_cost - way.paged) / divisor + _PARALLEL_SETUP_COST + handed_on
        return replace(way, planner_cost=cost, workers=workers)

    def _sequential(self, access: Access, leaves: Leaves) -> Way:
        blocks = max(float(leaves.touched), self.facts.blocks * leaves.share)
        rows = self.facts.rows * leaves.share
        if access.limit is not None and not access.ordered:
            matching = max(1.0, self.facts.rows * access.shares.total)
            part = min(1.0, access.limit / matching)
            blocks, rows = blocks * part, rows * part
        tests = max(1, len(access.shares.by_column))
        paged = blocks * self.facts.sequential_page_cost
        planner = paged + rows * (_ROW_COST + tests * _OPERATOR_COST)
        if access.limit is not None and access.ordered:
            planner += self.facts.rows * access.shares.total * 2 * _OPERATOR_COST * 10  # the sort
        return Way(blocks, rows * self.costs.row, planner, paged, blocks, heap=blocks, opened=leaves.touched)

    def _by_index(
        self, index: IndexShape, access: Access, leaves: Leaves, key: Sequence[str], is_range_by_first: bool
    ) -> list[Way]:
        """Reading by an index in every touched leaf, row by row and block by block; nothing when it is of no use."""
        shares = access.shares
        matched: list[str] = []
        gives_order = False
        probes = looked_at = 1.0
        walks = False
        for place, column in enumerate(index.columns):
            if column in shares.equal:
                matched.append(column)
                probes *= shares.equal[column]
                continue
            if place == 0 and len(index.columns) > 1 and column not in shares.ranged:
                # A skip scan: each value of the leading column is looked at in turn (PostgreSQL 18).
                skipped = self.values_in_leaf(column, leaves)
                if self.facts.can_skip and skipped is not None:
                    pages = max(1.0, self.index_blocks(index) * leaves.share / leaves.touched)
                    # Where there are more values than blocks, nothing can be skipped: all of it is gone through. Else
                    # the planner counts a third of the blocks at most (btcostestimate, selfuncs.c).
                    walks = skipped >= pages
                    probes *= 1.0 if walks else min(skipped, max(1.0, pages / 3))
                    looked_at = pages if walks else skipped
                    continue
            if column in shares.ranged:
                matched.append(column)
            gives_order = bool(access.ordered) and column == access.ordered[0] and probes == 1
            break
        stops_early = access.limit is not None and gives_order and len(access.ordered) <= 2
        if not matched and not stops_early:
            return []
        share = self._within_leaves(matched, shares, leaves, key)
        # The share of rows that satisfy the key's conditions, within the leaves that are read.
        left = {
            name: min(1.0, shares.by_column[name] / leaves.share) if name in key else shares.by_column[name]
            for name in matched
        }
        rows = self.facts.rows * leaves.share * share
        opened = float(leaves.touched)
        index_only = access.wanted is not None and access.wanted <= set(index.columns)
        if stops_early and access.limit is not None:
            # Rows of the index that do not satisfy the other conditions are passed over on the way.
            passing = max(1e-9, self._passing(matched, shares))
            if is_range_by_first and key and key[0] == access.ordered[0]:
                needed = min(rows, access.limit / passing)
                opened = min(opened, max(1.0, needed / max(1.0, rows / leaves.touched)))
                rows = needed
            else:
                rows = min(rows, access.limit / passing + leaves.touched - 1)
        sorts = not stops_early and bool(access.ordered) and access.limit is not None
        return self._index_ways(
            index, left, rows, opened, probes, leaves, index_only, sorts=sorts, looked_at=looked_at, walks=walks
        )

    def values_in_leaf(self, column: str, leaves: Leaves) -> float | None:
        """How many values of a column a leaf holds; None when it is unknown."""
        seen = self.facts.statistics.get(column)
        if seen is None or not seen.distinct:
            return None
        distinct = seen.distinct / self.divisions.get(column, 1.0)
        return max(1.0, min(distinct, self.facts.rows * leaves.share / leaves.touched))

    def index_blocks(self, index: IndexShape) -> float:
        """The blocks of an index, over all leaves."""
        return max(1.0, (index.bytes or self.facts.rows * 24) / self.facts.block_bytes)

    def _within_leaves(self, matched: Sequence[str], shares: Shares, leaves: Leaves, key: Sequence[str]) -> float:
        """The share of the touched leaves' rows that an index leads to: the key's selectivity is not counted a second
        time.
        """
        share = 1.0
        of_key = 1.0
        for column in matched:
            if column in key:
                of_key *= shares.by_column[column]
            else:
                share *= shares.by_column[column]
        if of_key < 1.0:
            share *= min(1.0, of_key / max(leaves.share, 1e-12))
        return share

    @staticmethod
    def _passing(matched: Sequence[str], shares: Shares) -> float:
        passing = shares.other
        for column, share in shares.by_column.items():
            if column not in matched:
                passing *= share
        return passing

    def _index_ways(
        self,
        index: IndexShape,
        matched: Mapping[str, float],
        rows: float,
        opened: float,
        probes: float,
        leaves: Leaves,
        index_only: bool,
        *,
        sorts: bool,
        looked_at: float,
        walks: bool,
    ) -> list[Way]:
        """An index scan, which visits the rows in the index's order, and a bitmap scan, which visits blocks once.

        looked_at   values of a leading column that are skipped over in a leaf: each leads to a block of its own
        walks       whether all entries are looked at instead
        """
        facts, constants = self.facts, self.costs
        index_blocks = self.index_blocks(index)
        entries_a_block = max(1.0, facts.rows / index_blocks)
        leaf_index_blocks = max(1.0, index_blocks * leaves.share / leaves.touched)
        height = 1 + ceil(log(leaf_index_blocks, 300)) if leaf_index_blocks > 1 else 1
        descents = opened * probes
        in_index = descents * height + rows / entries_a_block
        descending = descents * constants.descent
        descent_cost = descents * (height + 1) * 50 * _OPERATOR_COST
        entries = rows
        if walks:
            entries = max(rows, facts.rows * leaves.share * opened / leaves.touched)
            in_index, descending = entries / entries_a_block, descending + entries * constants.row
        entries_cost = (descents + entries / entries_a_block) * facts.random_page_cost + entries * _ENTRY_COST
        sort_cost = rows * 20 * _OPERATOR_COST if sorts else 0.0
        fixed = descent_cost + entries_cost + sort_cost + rows * (_ROW_COST + _OPERATOR_COST)

        blocks = max(1.0, facts.blocks * leaves.share * opened / leaves.touched)
        region = max(1.0, blocks * self._region(matched))
        in_order = min(blocks, max(min(rows, max(opened, descents)), rows * facts.blocks / max(1, facts.rows)))
        at_random = _met(region, rows)
        correlation = self._correlation(index)
        squared = correlation * correlation
        visited = in_order + (1 - squared) * max(0.0, at_random - in_order)
        unseen = 1 - facts.visible_share if index_only else 1.0
        random, sequential = facts.random_page_cost, facts.sequential_page_cost
        most = _fetched(blocks, rows) * random
        least = random + max(0.0, in_order - 1) * sequential
        read = min(leaf_index_blocks * opened, max(descents, opened * looked_at) + entries / entries_a_block)
        plain = Way(
            in_index + visited * unseen,
            descending + rows * constants.fetch,
            fixed + (most + squared * (least - most)) * unseen,
            heap=visited * unseen,
            opened=opened,
            descents=descents,
            index_blocks=read,
        )
        if sorts is False and opened < leaves.touched:
            return [plain]
        pages = _fetched(blocks, rows)
        a_page = random - (random - sequential) * sqrt(min(1.0, pages / blocks))
        bitmap = Way(
            in_index + at_random,
            descending + rows * (constants.fetch + constants.row),
            fixed + pages * a_page + rows * _OPERATOR_COST,
            entries_cost + pages * a_page,
            at_random,
            heap=at_random,
            density=min(1.0, at_random / region),
            opened=opened,
            descents=descents,
            index_blocks=read,
        )
        return [plain, bitmap]

    def _correlation(self, index: IndexShape) -> float:
        """The correlation of the index's order with the table's order; of several columns the first counts for three
        quarters.
        """
        seen = self.facts.statistics.get(index.columns[0])
        correlation = (seen.correlation or 0.0) if seen is not None else 0.0
        return correlation * (0.75 if len(index.columns) > 1 else 1.0)

    def _region(self, matched: Mapping[str, float]) -> float:
        """The share of the table's blocks in which rows can lie that satisfy conditions on columns in its order."""
        region = 1.0
        for column, share in matched.items():
            seen = self.facts.statistics.get(column)
            squared = (seen.correlation or 0.0) ** 2 if seen is not None else 0.0
            region = min(region, 1 - squared * (1 - share))
        return region


def _speed(gain: float, workers: int) -> float:
    return 1 + gain * (1 + (workers - 1) / 3)


def _met(blocks: float, rows: float) -> float:
    """Different blocks that so many rows lie in, at random: Cardenas, CACM 18(5), 1975."""
    if blocks <= 1:
        return min(1.0, rows)
    return -blocks * expm1(rows * log1p(-1 / blocks))


def _fetched(blocks: float, rows: float) -> float:
    """What the planner takes for that (Mackert and Lohman, with everything cached)."""
    return min(blocks, 2 * blocks * rows / (2 * blocks + rows)) if rows > 0 else 0.0
