"""How a family writes what puts partitions on other servers (N50)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.shape import Index, Shape
    from slabrow.core.upkeep.elsewhere import Elsewhere, FarFacts, FarTable
    from slabrow.core.upkeep.planned_partitions import Planned
    from slabrow.core.upkeep.statements import Remote, Transaction
    from slabrow.core.upkeep.steps import Step
    from slabrow.core.values.names import Name


class FarWriting(Protocol):
    """A part of `Writer`."""

    def giving_up_keys(self, root: Name, facts: FarFacts) -> tuple[Step, ...]:
        """The table's keys go, and each of its leaves gets one of its own before."""

    def parts_on_servers(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], entries: dict[str, Elsewhere],
        keys: tuple[Index, ...], role: str, lock_wait_ms: int,
    ) -> list[Transaction]:  # fmt: skip
        """Parts of a hash, each on the server that the layout says. keys: what each part has of its own."""

    def dropping_there(self, far: FarTable) -> Remote:
        """The table of a partition on another server goes, with what stands beside it."""
