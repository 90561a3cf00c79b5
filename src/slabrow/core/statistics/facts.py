"""The facts about a table before it is partitioned: from the catalogue and its statistics, or from sampled rows."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.table.relation import IndexShape
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True, kw_only=True)
class TableFacts:
    """A table and what its rows are like.

    rows            None is never stored: a table of unknown size cannot be weighed
    heap_bytes      without indexes and TOAST
    referenced_by   tables whose foreign keys lead here, with the columns they refer to
    visible_share   of the blocks that VACUUM has marked as visible to all, 0 to 1
    can_skip        whether the server's indexes can skip a leading column that is not asked for (PostgreSQL 18)
    random_page_cost, sequential_page_cost   the server's settings, by which its planner chooses
    parallel_workers  max_parallel_workers_per_gather
    cache_bytes     what is found without a disk: the server's cache and the system's (effective_cache_size)
    buffers_bytes   the server's own cache (shared_buffers)
    """

    name: Name
    spelling: str
    rows: int
    heap_bytes: int
    index_bytes: int
    columns: Mapping[str, KeyColumn]
    statistics: Mapping[str, ColumnStatistics]
    indexes: tuple[IndexShape, ...] = ()
    referenced_by: tuple[tuple[str, tuple[str, ...]], ...] = ()
    cache_bytes: int = 16 << 30
    buffers_bytes: int = 4 << 30
    block_bytes: int = 8192
    visible_share: float = 1.0
    can_skip: bool = True
    random_page_cost: float = 4.0
    sequential_page_cost: float = 1.0
    parallel_workers: int = 2
    is_partitioned: bool = False
    not_null: frozenset[str] = field(default=frozenset())

    @property
    def blocks(self) -> int:
        """The blocks of the rows, without indexes."""
        return max(1, self.heap_bytes // self.block_bytes)

    @property
    def bytes(self) -> int:
        """Rows and indexes together."""
        return self.heap_bytes + self.index_bytes
