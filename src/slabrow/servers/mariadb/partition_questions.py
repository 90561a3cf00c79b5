"""`partition_protocols.PartitionQuestions`, answered by MariaDB."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from slabrow.core.values.errors import Refusal, UsageError
from slabrow.core.values.method import By
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.unbuilt import nothing_elsewhere

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


@dataclass(frozen=True, slots=True)
class MariaPartitions:
    """On one connection."""

    connection: Connection

    def root_of(self, name: Name) -> tuple[Name, Name] | None:
        """As `PartitionQuestions.root_of`."""
        from slabrow.servers.mariadb.read import found_rows

        with explained("read what the partition belongs to"):
            found = found_rows.leaf_named(self.connection, name)
        return None if found is None else (found[0], found[0])

    def plan_name(self, tree: Tree, leaf: Partition) -> str:
        """As `PartitionQuestions.plan_name`."""
        from slabrow.servers.mariadb.read import catalogue

        return catalogue.plan_name(tree.table, leaf.spelling)

    def facts(self, root: Name, parent: Name, names: Sequence[Name]) -> PartitionFacts:
        """As `PartitionQuestions.facts`."""
        from slabrow.core.table.partition_facts import PartitionFacts
        from slabrow.servers.mariadb.read import catalogue

        tree = catalogue.tree(self.connection, parent)
        if tree.by is By.HASH:
            raise Refusal(
                f"parts of a hash are not divided or merged one by one: {parent} is divided by {tree.spelling}",
                found="the server changes their number for the whole table, and copies every row for it",
                fix="convert the table into a new one with another number of parts",
            )
        none = tuple(() for _ in names)
        return PartitionFacts(
            divided_by=tree.spelling,
            parent_condition="",
            conditions=tuple("" for _ in names),
            own_indexes=none,
            obstacles=(),
            digest="",
            joins_next=True,
            at_once=True,
        )

    def full_name(self, name: Name) -> Name:
        """As `PartitionQuestions.full_name`."""
        from slabrow.servers.mariadb.read import catalogue

        return catalogue.full_name(self.connection, name)

    def key_extent(self, tree: Tree, partition: Partition, column: str) -> Extent:
        """As `PartitionQuestions.key_extent`."""
        from slabrow.servers.mariadb.read import catalogue, row_counts

        found = catalogue.relation(self.connection, tree.table)
        fact = next((each for each in catalogue.columns(self.connection, found) if each.name == column), None)
        if fact is None:
            raise UsageError("an expression is no column that rows could be asked for", fix="name values: --at")
        return row_counts.extent(self.connection, tree.table, fact, part=partition.name.table)

    def places(self, names: Sequence[Name], target: str) -> PlaceFacts:
        """As `PartitionQuestions.places`: a TABLESPACE that is written in a definition is forgotten by this server."""
        raise Refusal(
            "this server has no tablespaces that partitions could be moved between",
            found="it takes DATA DIRECTORY when a partition is made, and nothing moves it later",
            fix="put the server's data folder on the disk that is wanted",
        )

    def far_facts(self, root: Name, server: str) -> FarFacts:
        """As `PartitionQuestions.far_facts`: this server keeps all partitions of a table itself."""
        raise nothing_elsewhere()

    def missing_for(self, server: str) -> tuple[str, ...]:
        """As `PartitionQuestions.missing_for`. Raises Refusal: nothing helps."""
        raise nothing_elsewhere()

    def far_tables(self, name: Name) -> dict[Name, FarTable]:
        """As `PartitionQuestions.far_tables`: none lies elsewhere."""
        return {}

    def look_there(self, names: Sequence[Name]) -> dict[Name, FarLook]:
        """As `PartitionQuestions.look_there`."""
        return {}

    def indexes_there(self, table: FarTable) -> tuple[Index, ...]:
        """As `PartitionQuestions.indexes_there`."""
        return ()

    def exists_there(self, server: str, name: Name) -> bool:
        """As `PartitionQuestions.exists_there`."""
        return False

    def staged(self, parent: Name, name: Name, bounds: Bounds, key: tuple[str, ...], catch_all: Name | None) -> Staged:
        """As `PartitionQuestions.staged`."""
        from slabrow.servers.mariadb.read import staged

        return staged.staged(self.connection, parent, name, bounds, key)

    def extent(self, name: Name, column: str) -> tuple[str | None, str | None]:
        """As `PartitionQuestions.extent`."""
        from slabrow.servers.mariadb.read import staged

        return staged.extent(self.connection, name, column)

    def index_matrix(self, table: Name) -> IndexMatrix:
        """As `PartitionQuestions.index_matrix`."""
        from slabrow.servers.mariadb.read import index_matrix

        with explained("read the indexes"):
            return index_matrix.index_matrix(self.connection, table)

    def index_faults(self, table: Name) -> dict[str, int]:
        """As `PartitionQuestions.index_faults`: every index is on every partition, or there is none."""
        return {}

    def parent_statistics(self, tree: Tree) -> ParentStatistics:
        """As `PartitionQuestions.parent_statistics`: the server adds up those of the leaves, and keeps no others."""
        from slabrow.core.statistics.parent_statistics import ParentStatistics

        rows = sum(leaf.rows or 0 for leaf in tree.leaves)
        return ParentStatistics(rows=rows, leaf_rows=rows, analysed=None, leaves_analysed=None)

    def query_where(self, tree: Tree, condition: str) -> str:
        """As `PartitionQuestions.query_where`."""
        from slabrow.servers.mariadb.read import found_rows

        return found_rows.query_of(tree, condition)

    def rows_where(self, query: str, doing: str) -> dict[str, FoundRows]:
        """As `PartitionQuestions.rows_where`."""
        from slabrow.servers.mariadb.read import found_rows

        return found_rows.rows_where(self.connection, query, doing)

    def first_rows(self, name: Name, most: int) -> tuple[tuple[str, ...], list[list[Any]]]:
        """As `PartitionQuestions.first_rows`."""
        from slabrow.servers.mariadb.read import found_rows

        return found_rows.first_rows(self.connection, name, most)
