"""The steps of long work on tables in use, as a server family writes them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from slabrow.core.upkeep.statements import Transaction
    from slabrow.core.upkeep.steps import Step


class LiveSteps(Protocol):
    """The steps of a conversion, a split or a merge while the table is in use."""

    def forward(self) -> tuple[Step, ...]:
        """Up to the moment before the swap."""

    def swap(self) -> tuple[Step, ...]:
        """The swap of names, and what is checked after it."""

    def after_swap(self) -> tuple[Step, ...]:
        """What is checked after the swap."""

    def in_step(self) -> tuple[Step, ...]:
        """The old table gets what was written since the swap."""

    def undo(self) -> tuple[Step, ...]:
        """Back to the old table, with everything that was written since."""

    def after_undo(self) -> tuple[Step, ...]:
        """What is left to do when the old table is back."""

    def let_go(self) -> tuple[Step, ...]:
        """The old table is dropped."""

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the swap."""

    def floor(self, *, back: bool) -> Transaction:
        """Run now and then while changes are brought over. back: of the way back."""


class AsIsSteps(Protocol):
    """The steps by which a table becomes the first partition of the new one, without a copy."""

    def forward(self) -> tuple[Step, ...]:
        """Up to the moment before the lock."""

    def swap(self) -> tuple[Step, ...]:
        """The table is taken in, and what is checked after it."""

    def after_swap(self) -> tuple[Step, ...]:
        """What is left to do after that."""

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the lock."""
