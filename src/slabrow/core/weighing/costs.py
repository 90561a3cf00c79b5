"""The cost of a query on a table with a number of leaves: blocks, and milliseconds of planning and running.

The model is written down in docs/costs.md, with where each constant comes from. It follows the shape of the server's
own cost model (PostgreSQL manual, 20.7.2; Mackert and Lohman for repeated blocks), in time instead of page units.
"""

# The idea of the model. A query on a partitioned table pays three times: for planning (once for each leaf that is
# left), for finding its rows (a descent into an index of each leaf that is touched), and for reading blocks. Partitions
# make the third part smaller and the first two larger. The model adds all three in milliseconds, so that a day of
# queries can be summed, and a layout be compared with the table as it is.
#
# Two cost models meet here, and must not be mixed up:
# - The *planner's* units decide which way the server would take (sequential, index, bitmap; with workers or without).
#   They follow costsize.c with the server's own settings, for the choice is the server's.
# - The *milliseconds* say what that way takes. Their constants are measured (`weigh --calibrate`), since a page unit is
#   no unit of time.
#
# Blocks of repeated look-ups follow Mackert and Lohman ("Index Scans Using a Finite LRU Buffer", ACM TODS 14(3), 1989),
# as in the server. Between rows that lie in the order of the index and rows that lie at random, the cost is
# interpolated by the square of the correlation (cost_index, costsize.c).
#
# An example with the default constants. A look-up by the primary key on one table: planning 0.07 ms, one descent. On
# 100 monthly partitions, when the key is not in the condition: planning 0.07 + 100 × 0.048 = 4.9 ms, and 100 descents.
# The same look-up with the month in the condition: 0.07 + 0.048 ms, and one descent.

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from math import ceil, log, sqrt

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.relation import IndexShape
from slabrow.core.weighing.selectivity import Shares


@dataclass(frozen=True, slots=True)
class Costs:
    """The constants, in milliseconds. Defaults are medians measured on PostgreSQL 18 with two cores; see docs/costs.md.

    planning          of any statement on an ordinary table
    planning_leaf     for each leaf that is left in the plan
    planning_start    for each leaf that is planned and then left out as execution starts
    planning_rest     for each leaf that planning leaves out
    running_leaf      for each leaf that is opened when the statement runs
    block             a block that is found in memory
    read              a block that has to be read
    row               a row that is looked at in a sequential scan
    emit              a row that satisfies the conditions, and is sorted, grouped or sent
    append            a row that is handed on from one of several leaves
    parallel_setup    starting the workers of a parallel scan
    parallel_gain     how much faster the first worker makes it; each further one adds a third of that
    fetch             a row that is fetched by an index
    descent           finding the first entry in an index
    insert            a row that is inserted, for each index and for the table
    route             a row that is routed to its partition
    delete            a row that is deleted and cleaned up later, for each index and for the table
    """

    planning: float = 0.07
    planning_leaf: float = 0.048
    planning_start: float = 0.052
    planning_rest: float = 0.0001
    running_leaf: float = 0.021
    block: float = 0.0007
    read: float = 0.08
    row: float = 0.000083
    emit: float = 0.0001
    append: float = 0.000044
    parallel_setup: float = 3.0
    parallel_gain: float = 0.6
    fetch: float = 0.000083
    descent: float = 0.0012
    insert: float = 0.0009
    route: float = 0.0006
    delete: float = 0.00032


@dataclass(frozen=True, slots=True)
class Leaves:
    """The leaves that a query meets.

    total     of the table
    planned   in the plan
    touched   read
    share     of all rows in the touched ones, 0 to 1
    """

    total: int
    planned: int
    touched: int
    share: float


@dataclass(frozen=True, slots=True)
class Paid:
    """blocks are visits, of the heap and of indexes; milliseconds."""

    blocks: float
    planning_ms: float
    running_ms: float

    @property
    def ms(self) -> float:
        """Planning and running together."""
        return self.planning_ms + self.running_ms

    def __add__(self, other: "Paid") -> "Paid":
        return Paid(
            self.blocks + other.blocks, self.planning_ms + other.planning_ms, self.running_ms + other.running_ms
        )

    def times(self, factor: float) -> "Paid":
        """The same, so many times."""
        return Paid(self.blocks * factor, self.planning_ms * factor, self.running_ms * factor)


NOTHING_PAID = Paid(0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Access:
    """How one place of a query reads the table.

    shares    what its conditions leave
    ordered   the columns of its ORDER BY
    limit     rows that LIMIT asks for, None without
    wanted    the columns that are read, None for all
    is_counted  whether its rows are aggregated, so that few are handed on
    """

    shares: Shares
    ordered: tuple[str, ...] = ()
    limit: float | None = None
    wanted: frozenset[str] | None = None
    is_counted: bool = False


@dataclass(frozen=True, slots=True)
class _Way:
    """One way to read the touched leaves.

    planner_cost   what the server thinks of it, in its own units; paged: the part of it that workers do not share
    scanned        heap blocks that workers could share; 0 where they cannot
    workers        how many help
    """

    blocks: float
    running_ms: float
    planner_cost: float
    paged: float = 0.0
    scanned: float = 0.0
    workers: int = 0


# The planner's units for a row and an index entry looked at, and for an operator (PostgreSQL manual, 20.7.2).
_ROW_COST, _ENTRY_COST, _OPERATOR_COST = 0.01, 0.005, 0.0025
_PARALLEL_SETUP_COST, _PARALLEL_ROW_COST = 1_000.0, 0.1
_PARALLEL_BLOCKS = 1_024  # min_parallel_table_scan_size, 8 MB


@dataclass(frozen=True, slots=True)
class CostModel:
    """Costs on one table."""

    facts: TableFacts
    costs: Costs

    def paid(self, access: Access, leaves: Leaves, key: Sequence[str], is_range_by_first: bool) -> Paid:
        """The cost of a query on a layout with this key.

        is_range_by_first   whether leaves follow each other in the order of the first key column, so that an ordered
                            query can stop at the first leaf that has its rows
        """
        constants = self.costs
        planned_away = leaves.planned - leaves.touched
        planning = (
            constants.planning
            + constants.planning_leaf * leaves.touched
            + constants.planning_start * planned_away
            + constants.planning_rest * (leaves.total - leaves.planned)
        )
        if leaves.touched == 0:
            return Paid(0.0, planning, 0.0)
        ways = [self._sequential(access, leaves)]
        for index in self.facts.indexes:
            if not index.is_partial:
                ways += self._by_index(index, access, leaves, key, is_range_by_first)
        emitted = self.facts.rows * access.shares.total
        if access.limit is not None:
            emitted = min(emitted, access.limit)
        ways += [shared for way in ways if (shared := self._shared(way, access, emitted, leaves)) is not None]
        # The server takes the way that its own cost model thinks cheapest, which is not always the fastest.
        way = min(ways, key=lambda way: way.planner_cost)
        running = way.running_ms + emitted * (constants.emit + (constants.append if leaves.touched > 1 else 0.0))
        if way.workers:
            running = running / _speed(constants.parallel_gain, way.workers) + constants.parallel_setup
        return Paid(way.blocks, planning, running + constants.running_leaf * leaves.touched)

    def _shared(self, way: _Way, access: Access, emitted: float, leaves: Leaves) -> _Way | None:
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

    def _block_ms(self) -> float:
        """A block's time, with the share of blocks that the cache cannot hold."""
        missing = max(0.0, 1 - self.facts.cache_bytes / max(1, self.facts.bytes))
        return self.costs.block + missing * self.costs.read

    def _sequential(self, access: Access, leaves: Leaves) -> _Way:
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
        return _Way(blocks, blocks * self._block_ms() + rows * self.costs.row, planner, paged, blocks)

    def _by_index(
        self, index: IndexShape, access: Access, leaves: Leaves, key: Sequence[str], is_range_by_first: bool
    ) -> list[_Way]:
        """Reading by an index in every touched leaf, row by row and block by block; nothing when it is of no use."""
        shares = access.shares
        matched: list[str] = []
        gives_order = False
        probes = 1.0
        for place, column in enumerate(index.columns):
            if column in shares.equal:
                matched.append(column)
                probes *= shares.equal[column]
                continue
            if place == 0 and len(index.columns) > 1 and column not in shares.ranged:
                # A skip scan: each value of the leading column is looked at in turn (PostgreSQL 18).
                skipped = self._values_in_leaf(column, leaves, key)
                if self.facts.can_skip and skipped is not None:
                    probes *= skipped
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
        return self._index_ways(index, left, rows, opened, probes, leaves, index_only, sorts=sorts)

    def _values_in_leaf(self, column: str, leaves: Leaves, key: Sequence[str]) -> float | None:
        """How many values of a column a leaf holds; None when it is unknown."""
        seen = self.facts.statistics.get(column)
        if seen is None or not seen.distinct:
            return None
        distinct = seen.distinct / leaves.total if column in key else seen.distinct
        return max(1.0, min(distinct, self.facts.rows * leaves.share / leaves.touched))

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
    ) -> list[_Way]:
        """An index scan, which visits the rows in the index's order, and a bitmap scan, which visits blocks once."""
        facts, constants = self.facts, self.costs
        index_blocks = max(1.0, (index.bytes or facts.rows * 24) / facts.block_bytes)
        entries_a_block = max(1.0, facts.rows / index_blocks)
        leaf_index_blocks = max(1.0, index_blocks * leaves.share / leaves.touched)
        height = 1 + ceil(log(leaf_index_blocks, 300)) if leaf_index_blocks > 1 else 1
        descents = opened * probes
        in_index = descents * height + rows / entries_a_block
        descending = descents * constants.descent + rows / entries_a_block * self._block_ms()
        descent_cost = descents * (height + 1) * 50 * _OPERATOR_COST
        entries_cost = (descents + rows / entries_a_block) * facts.random_page_cost + rows * _ENTRY_COST
        sort_cost = rows * 20 * _OPERATOR_COST if sorts else 0.0
        fixed = descent_cost + entries_cost + sort_cost + rows * (_ROW_COST + _OPERATOR_COST)

        blocks = max(1.0, facts.blocks * leaves.share * opened / leaves.touched)
        region = max(1.0, blocks * self._region(matched))
        in_order = min(blocks, max(min(rows, opened), rows * facts.blocks / max(1, facts.rows)))
        at_random = _fetched(region, rows)
        correlation = self._correlation(index)
        squared = correlation * correlation
        visited = in_order + (1 - squared) * max(0.0, at_random - in_order)
        unseen = 1 - facts.visible_share if index_only else 1.0
        random, sequential = facts.random_page_cost, facts.sequential_page_cost
        most = _fetched(blocks, rows) * random
        least = random + max(0.0, in_order - 1) * sequential
        plain = _Way(
            in_index + visited * unseen,
            descending + rows * constants.fetch + visited * unseen * self._block_ms(),
            fixed + (most + squared * (least - most)) * unseen,
        )
        if sorts is False and opened < leaves.touched:
            return [plain]
        a_page = random - (random - sequential) * sqrt(min(1.0, at_random / blocks))
        bitmap = _Way(
            in_index + at_random,
            descending + rows * (constants.fetch + constants.row) + at_random * self._block_ms(),
            fixed + _fetched(blocks, rows) * a_page + rows * _OPERATOR_COST,
            entries_cost + _fetched(blocks, rows) * a_page,
            at_random,
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


def _fetched(blocks: float, rows: float) -> float:
    """Different blocks that so many rows lie in, at random (Mackert and Lohman, with everything cached)."""
    return min(blocks, 2 * blocks * rows / (2 * blocks + rows)) if rows > 0 else 0.0
