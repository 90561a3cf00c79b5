"""What is known of partitions that are to be divided anew, beside what the tree tells."""

from dataclasses import dataclass

from slabrow.core.table.shape import Index


@dataclass(frozen=True, slots=True, kw_only=True)
class PartitionFacts:
    """Of some partitions of one parent.

    divided_by         how the parent is divided, as SQL: `RANGE (taken_at)`
    parent_condition   what the server demands of the rows of the parent, as SQL; empty when it is no partition itself
    conditions         of each partition, in their order: what the server demands of its rows
    own_indexes        of each partition: its indexes that do not belong to one of the parent
    obstacles          what would be lost, or would be in the way, each with the remedy
    digest             of everything about the parent: another one means that it was altered
    joins_next         whether the keys of a range that leaves belong to the next one from then on
    at_once            whether the server divides them by one statement, done wholly or not at all; nothing old is kept
    """

    divided_by: str
    parent_condition: str
    conditions: tuple[str, ...]
    own_indexes: tuple[tuple[Index, ...], ...]
    obstacles: tuple[str, ...]
    digest: str
    joins_next: bool = False
    at_once: bool = False
