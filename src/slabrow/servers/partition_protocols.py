"""Questions about single partitions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from slabrow.core.table.partition_facts import PartitionFacts
    from slabrow.core.values.names import Name


class PartitionQuestions(Protocol):
    """What is special about single partitions."""

    def root_of(self, name: Name) -> tuple[Name, Name] | None:
        """The partitioned table that a partition belongs to in the end, and its parent; None for what is none."""

    def facts(self, root: Name, parent: Name, names: Sequence[Name]) -> PartitionFacts:
        """Of partitions of one parent."""
