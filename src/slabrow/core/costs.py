"""What a query costs on a table of so many leaves: blocks, and milliseconds of planning and running.

The model is written down in docs/costs.md, with where each constant comes from. It follows the shape of the server's
own cost model (PostgreSQL manual, 20.7.2; Mackert and Lohman for repeated blocks), in time instead of page units.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import ceil, log

from slabrow.core.facts import IndexFacts, TableFacts
from slabrow.core.selectivity import Shares


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
    fetch             a row that is fetched by an index
    descent           finding the first entry in an index
    insert            a row that is inserted, for each index and for the table
    route             a row that is routed to its partition
    delete            a row that is deleted and cleaned up later, for each index and for the table
    """

    planning: float = 0.06
    planning_leaf: float = 0.022
    planning_start: float = 0.018
    planning_rest: float = 0.0004
    running_leaf: float = 0.006
    block: float = 0.0008
    read: float = 0.08
    row: float = 0.00006
    fetch: float = 0.00035
    descent: float = 0.004
    insert: float = 0.0015
    route: float = 0.0006
    delete: float = 0.002


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
        return self.planning_ms + self.running_ms

    def __add__(self, other: "Paid") -> "Paid":
        return Paid(
            self.blocks + other.blocks, self.planning_ms + other.planning_ms, self.running_ms + other.running_ms
        )

    def times(self, factor: float) -> "Paid":
        return Paid(self.blocks * factor, self.planning_ms * factor, self.running_ms * factor)


NOTHING_PAID = Paid(0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Access:
    """How one place of a query reads the table.

    shares    what its conditions leave
    ordered   the columns of its ORDER BY
    limit     rows that LIMIT asks for, None without
    """

    shares: Shares
    ordered: tuple[str, ...] = ()
    limit: float | None = None


@dataclass(frozen=True, slots=True)
class CostModel:
    """Costs on one table."""

    facts: TableFacts
    costs: Costs

    def paid(self, access: Access, leaves: Leaves, key: Sequence[str], is_range_by_first: bool) -> Paid:
        """What a query pays on a layout with this key.

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
                way = self._by_index(index, access, leaves, key, is_range_by_first)
                if way is not None:
                    ways.append(way)
        blocks, running = min(ways, key=lambda way: way[1])
        return Paid(blocks, planning, running + constants.running_leaf * leaves.touched)

    def _block_ms(self) -> float:
        """A block's time, with the share of blocks that the cache cannot hold."""
        missing = max(0.0, 1 - self.facts.cache_bytes / max(1, self.facts.bytes))
        return self.costs.block + missing * self.costs.read

    def _sequential(self, access: Access, leaves: Leaves) -> tuple[float, float]:
        blocks = max(float(leaves.touched), self.facts.blocks * leaves.share)
        rows = self.facts.rows * leaves.share
        if access.limit is not None and not access.ordered:
            matching = max(1.0, self.facts.rows * access.shares.total)
            part = min(1.0, access.limit / matching)
            blocks, rows = blocks * part, rows * part
        return blocks, blocks * self._block_ms() + rows * self.costs.row

    def _by_index(
        self, index: IndexFacts, access: Access, leaves: Leaves, key: Sequence[str], is_range_by_first: bool
    ) -> tuple[float, float] | None:
        """Blocks and time of reading by an index, in every touched leaf; None when it is of no use."""
        shares = access.shares
        matched: list[str] = []
        gives_order = False
        probes = 1
        for column in index.columns:
            if column in shares.equal:
                matched.append(column)
                probes *= shares.equal[column]
                continue
            if column in shares.ranged:
                matched.append(column)
            gives_order = bool(access.ordered) and column == access.ordered[0] and probes == 1
            break
        stops_early = access.limit is not None and gives_order and len(access.ordered) <= 2
        if not matched and not stops_early:
            return None
        share = self._within_leaves(matched, shares, leaves, key)
        rows_in_leaf = self.facts.rows * leaves.share / leaves.touched
        rows = rows_in_leaf * share * leaves.touched
        opened = float(leaves.touched)
        if stops_early and access.limit is not None:
            # Rows of the index that do not satisfy the other conditions are passed over on the way.
            passing = max(1e-9, self._passing(matched, shares))
            if is_range_by_first and key and key[0] == access.ordered[0]:
                needed = min(rows, access.limit / passing)
                opened = min(opened, max(1.0, needed / max(1.0, rows / leaves.touched)))
                rows = needed
            else:
                rows = min(rows, access.limit / passing + leaves.touched - 1)
        return self._index_blocks(index, rows, opened, probes, leaves)

    def _within_leaves(self, matched: Sequence[str], shares: Shares, leaves: Leaves, key: Sequence[str]) -> float:
        """The share of the touched leaves' rows that an index leads to: what the key already did is not done twice."""
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

    def _index_blocks(
        self, index: IndexFacts, rows: float, opened: float, probes: int, leaves: Leaves
    ) -> tuple[float, float]:
        facts, constants = self.facts, self.costs
        index_blocks = max(1.0, (index.bytes or facts.rows * 24) / facts.block_bytes)
        entries_a_block = max(1.0, facts.rows / index_blocks)
        leaf_index_blocks = max(1.0, index_blocks * leaves.share / leaves.touched)
        height = 1 + ceil(log(leaf_index_blocks, 300)) if leaf_index_blocks > 1 else 1
        in_index = opened * probes * height + rows / entries_a_block
        in_heap = self._heap_blocks(index, rows, opened, leaves)
        blocks = in_index + in_heap
        time = (
            opened * probes * constants.descent
            + rows * constants.fetch
            + (rows / entries_a_block + in_heap) * self._block_ms()
        )
        return blocks, time

    def _heap_blocks(self, index: IndexFacts, rows: float, opened: float, leaves: Leaves) -> float:
        """Between the rows' blocks if they lie in the index's order, and if they lie at random (cost_index)."""
        facts = self.facts
        blocks = max(1.0, facts.blocks * leaves.share * opened / leaves.touched)
        rows_a_block = max(1.0, facts.rows / facts.blocks)
        in_order = min(blocks, max(min(rows, opened), rows / rows_a_block))
        at_random = min(rows, blocks * (1 - (1 - 1 / blocks) ** rows)) if blocks > 1 else min(rows, 1.0)
        seen = facts.statistics.get(index.columns[0])
        correlation = (seen.correlation or 0.0) if seen is not None else 0.0
        if len(index.columns) > 1:
            correlation *= 0.75
        return in_order + (1 - correlation * correlation) * max(0.0, at_random - in_order)


def from_mapping(given: Mapping[str, float]) -> Costs:
    """Constants by name. Raises KeyError for one that is not known."""
    known = Costs.__dataclass_fields__
    for name in given:
        if name not in known:
            raise KeyError(name)
    return Costs(**{name: float(value) for name, value in given.items()})
