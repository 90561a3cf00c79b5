"""Questions about single partitions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from slabrow.core.statistics.parent_statistics import ParentStatistics
    from slabrow.core.table.bounds import Bounds
    from slabrow.core.table.counted import Extent, FoundRows
    from slabrow.core.table.index_matrix import IndexMatrix
    from slabrow.core.table.partition_facts import PartitionFacts
    from slabrow.core.table.shape import Index
    from slabrow.core.table.tree import Partition, Tree
    from slabrow.core.upkeep.elsewhere import FarFacts, FarLook, FarTable
    from slabrow.core.upkeep.membership import Staged
    from slabrow.core.upkeep.relocation import PlaceFacts
    from slabrow.core.values.names import Name


class PartitionQuestions(Protocol):
    """What is special about single partitions."""

    def root_of(self, name: Name) -> tuple[Name, Name] | None:
        """The partitioned table that a partition belongs to in the end, and its parent; None for what is none."""

    def full_name(self, name: Name) -> Name:
        """A partition's name with its schema, also when it is no longer there."""

    def plan_name(self, tree: Tree, leaf: Partition) -> str:
        """A leaf as `Scan.relation` names it."""

    def facts(self, root: Name, parent: Name, names: Sequence[Name]) -> PartitionFacts:
        """Of partitions of one parent."""

    def places(self, names: Sequence[Name], target: str) -> PlaceFacts:
        """Where these leaves lie, and what is known of a tablespace. Raises Refusal where the server has no such."""

    def far_facts(self, root: Name, server: str) -> FarFacts:
        """What has to be known before a partition of a table goes to another server. Raises Refusal where the family
        has no such partitions, UsageError for a server that the session cannot reach.
        """

    def missing_for(self, server: str) -> tuple[str, ...]:
        """What the database and this role need before tables can lie on another server, each with its statement."""

    def far_tables(self, name: Name) -> dict[Name, FarTable]:
        """By leaf, where the rows of a partition, or of those below it, lie on other servers."""

    def look_there(self, names: Sequence[Name]) -> dict[Name, FarLook]:
        """Leaves whose rows lie elsewhere, as the other servers have them. A server that is down fails no other."""

    def indexes_there(self, table: FarTable) -> tuple[Index, ...]:
        """Of the table on the other server. Raises UsageError and ServerError."""

    def exists_there(self, server: str, name: Name) -> bool:
        """Whether a server that the session reaches has a table. Raises UsageError and ServerError."""

    def staged(self, parent: Name, name: Name, bounds: Bounds, key: tuple[str, ...], catch_all: Name | None) -> Staged:
        """A table that is to become a partition with these bounds, and what keeps it from that: one scan of it."""

    def key_extent(self, tree: Tree, partition: Partition, column: str) -> Extent:
        """The least and the greatest value of a column among the rows of a partition: exact. Raises UsageError for what
        is no column.
        """

    def extent(self, name: Name, column: str) -> tuple[str | None, str | None]:
        """The least and the greatest value of a column, as the server spells them."""

    def index_matrix(self, table: Name) -> IndexMatrix:
        """All indexes of a partitioned table and of its partitions, in two queries. Raises UsageError for another."""

    def index_faults(self, table: Name) -> dict[str, int]:
        """Of each index that is not valid on every leaf: its name, and on how many leaves it is not. One query."""

    def parent_statistics(self, tree: Tree) -> ParentStatistics:
        """What the planner knows of a partitioned table as a whole, against its leaves: one query."""

    def query_where(self, tree: Tree, condition: str) -> str:
        """The query of `rows_where`. condition: as after WHERE, checked to be one."""

    def rows_where(self, query: str, doing: str) -> dict[str, FoundRows]:
        """How many rows each partition holds that satisfy it, with the least and the greatest key, by its spelling."""

    def first_rows(self, name: Name, most: int) -> tuple[tuple[str, ...], list[list[Any]]]:
        """The columns and some rows of a table, as JSON has the values."""
