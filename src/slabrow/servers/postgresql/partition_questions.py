"""`partition_protocols.PartitionQuestions`, answered by PostgreSQL."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.far import FarServers

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


@dataclass(frozen=True, slots=True)
class PostgresPartitions:
    """On one connection. far: the other servers that it may reach."""

    connection: Connection
    far: FarServers = field(default_factory=FarServers)

    def root_of(self, name: Name) -> tuple[Name, Name] | None:
        """As `PartitionQuestions.root_of`."""
        from slabrow.servers.postgresql.read import partitions

        with explained("read what the partition belongs to"):
            return partitions.root_of(self.connection, name)

    def full_name(self, name: Name) -> Name:
        """As `PartitionQuestions.full_name`: one that is gone gets the schema that names usually mean."""
        from slabrow.servers.postgresql.read import catalogue

        if catalogue.exists(self.connection, name):
            return catalogue.relation(self.connection, name).name
        return name if name.schema is not None else Name("public", name.table)

    def plan_name(self, tree: Tree, leaf: Partition) -> str:
        """As `PartitionQuestions.plan_name`."""
        return f"{leaf.name.schema}.{leaf.name.table}"

    def facts(self, root: Name, parent: Name, names: Sequence[Name]) -> PartitionFacts:
        """As `PartitionQuestions.facts`."""
        from slabrow.servers.postgresql.read import partitions

        with explained("read the partitions"):
            return partitions.facts(self.connection, root, parent, names)

    def key_extent(self, tree: Tree, partition: Partition, column: str) -> Extent:
        """As `PartitionQuestions.key_extent`."""
        from slabrow.servers.postgresql.read import catalogue, row_counts

        found = catalogue.relation(self.connection, partition.name)
        fact = next((each for each in catalogue.columns(self.connection, found) if each.name == column), None)
        if fact is None:
            raise UsageError("an expression is no column that rows could be asked for", fix="name values: --at")
        return row_counts.extent(self.connection, partition.name, fact)

    def places(self, names: Sequence[Name], target: str) -> PlaceFacts:
        """As `PartitionQuestions.places`."""
        from slabrow.servers.postgresql.read import places

        with explained("read where the partitions lie"):
            return places.places(self.connection, names, target)

    def staged(self, parent: Name, name: Name, bounds: Bounds, key: tuple[str, ...], catch_all: Name | None) -> Staged:
        """As `PartitionQuestions.staged`."""
        from slabrow.servers.postgresql.read import partitions

        with explained(f"look at {name}"):
            return partitions.staged(self.connection, parent, name, bounds, key, catch_all)

    def extent(self, name: Name, column: str) -> tuple[str | None, str | None]:
        """As `PartitionQuestions.extent`."""
        from slabrow.servers.postgresql.read import partitions

        with explained(f"read the keys of {name}"):
            return partitions.extent(self.connection, name, column)

    def index_matrix(self, table: Name) -> IndexMatrix:
        """As `PartitionQuestions.index_matrix`."""
        from slabrow.servers.postgresql.read import index_matrix

        with explained("read the indexes"):
            return index_matrix.index_matrix(self.connection, table)

    def index_faults(self, table: Name) -> dict[str, int]:
        """As `PartitionQuestions.index_faults`."""
        from slabrow.servers.postgresql.read import index_matrix

        with explained("read the indexes"):
            return index_matrix.index_faults(self.connection, table)

    def parent_statistics(self, tree: Tree) -> ParentStatistics:
        """As `PartitionQuestions.parent_statistics`."""
        from slabrow.servers.postgresql.read import parent_statistics

        with explained("read the statistics"):
            return parent_statistics.parent_statistics(self.connection, tree)

    def query_where(self, tree: Tree, condition: str) -> str:
        """As `PartitionQuestions.query_where`."""
        from slabrow.servers.postgresql.read import found_rows

        return found_rows.query_of(tree, condition)

    def rows_where(self, query: str, doing: str) -> dict[str, FoundRows]:
        """As `PartitionQuestions.rows_where`."""
        from slabrow.servers.postgresql.read import found_rows

        return found_rows.rows_where(self.connection, query, doing)

    def first_rows(self, name: Name, most: int) -> tuple[tuple[str, ...], list[list[Any]]]:
        """As `PartitionQuestions.first_rows`."""
        from slabrow.servers.postgresql.read import found_rows

        return found_rows.first_rows(self.connection, name, most)

    def far_facts(self, root: Name, server: str) -> FarFacts:
        """As `PartitionQuestions.far_facts`."""
        from slabrow.servers.postgresql.read import far_tables

        with explained("read what a partition elsewhere needs"):
            return far_tables.far_facts(self.connection, root, server, self.far)

    def missing_for(self, server: str) -> tuple[str, ...]:
        """As `PartitionQuestions.missing_for`."""
        from slabrow.servers.postgresql.read import far_tables

        with explained("read what a partition elsewhere needs"):
            return far_tables.missing(self.connection, server, self.far)

    def far_tables(self, name: Name) -> dict[Name, FarTable]:
        """As `PartitionQuestions.far_tables`."""
        from slabrow.servers.postgresql.read import far_tables

        with explained("read where the partition lies"):
            return far_tables.far_tables(self.connection, name)

    def look_there(self, names: Sequence[Name]) -> dict[Name, FarLook]:
        """As `PartitionQuestions.look_there`."""
        from slabrow.servers.postgresql.read import far_tables

        with explained("read where partitions lie"):
            return far_tables.look_there(self.connection, names, self.far)

    def indexes_there(self, table: FarTable) -> tuple[Index, ...]:
        """As `PartitionQuestions.indexes_there`."""
        from slabrow.servers.postgresql.read import far_tables

        return far_tables.indexes_there(self.far, table)

    def exists_there(self, server: str, name: Name) -> bool:
        """As `PartitionQuestions.exists_there`."""
        from slabrow.servers.postgresql.read import far_tables

        return far_tables.exists_there(self.far, server, name)
