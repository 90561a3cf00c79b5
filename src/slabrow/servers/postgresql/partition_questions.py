"""`partition_protocols.PartitionQuestions`, answered by PostgreSQL."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from slabrow.servers.postgresql.connection import Connection, explained

if TYPE_CHECKING:
    from slabrow.core.table.partition_facts import PartitionFacts
    from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class PostgresPartitions:
    """On one connection."""

    connection: Connection

    def root_of(self, name: Name) -> tuple[Name, Name] | None:
        """As `PartitionQuestions.root_of`."""
        from slabrow.servers.postgresql.read import partitions

        with explained("read what the partition belongs to"):
            return partitions.root_of(self.connection, name)

    def facts(self, root: Name, parent: Name, names: Sequence[Name]) -> PartitionFacts:
        """As `PartitionQuestions.facts`."""
        from slabrow.servers.postgresql.read import partitions

        with explained("read the partitions"):
            return partitions.facts(self.connection, root, parent, names)
