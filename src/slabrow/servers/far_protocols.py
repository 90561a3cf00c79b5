"""How a family writes what puts partitions on other servers (N50)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.shape import Index, Shape
    from slabrow.core.upkeep.elsewhere import Elsewhere, FarFacts, FarLook, FarTable
    from slabrow.core.upkeep.planned_partitions import Planned
    from slabrow.core.upkeep.statements import Remote, Transaction
    from slabrow.core.upkeep.steps import Step
    from slabrow.core.values.names import Name


class FarWriting(Protocol):
    """A part of `Writer`."""

    def giving_up_keys(self, root: Name, facts: FarFacts) -> tuple[Step, ...]:
        """Builds a unique index on each leaf, then drops the keys of the table. Empty when there is no key."""

    def parts_on_servers(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], entries: dict[str, Elsewhere],
        keys: tuple[Index, ...], role: str, lock_wait_ms: int,
    ) -> list[Transaction]:  # fmt: skip
        """Makes the parts of a hash, each on the server that the layout says. keys: the unique indexes of each part."""

    def mending_there(
        self, shape: Shape, look: FarLook, planned: Planned, key: tuple[str, ...], divided_by: str, condition: str
    ) -> Step:
        """Brings the table there in line with its partition here.

        shape       of the partitioned table
        divided_by  how that table is, as SQL; condition: what the server demands of the partition's rows
        """

    def dropping_there(self, far: FarTable) -> Remote:
        """Drops the table of a partition on another server, and the helper tables beside that table."""
