"""The records of long work on tables. There is none here yet: reading finds nothing, and nothing can begin."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.unbuilt import unbuilt

if TYPE_CHECKING:
    from slabrow.core.upkeep.live_plan import Reshaping
    from slabrow.core.upkeep.steps import Step
    from slabrow.core.values.names import Name

_WORK = "change a table while it is in use"


@dataclass(frozen=True, slots=True)
class MariaReshapings:
    """`protocols.ReshapingStore`."""

    connection: Connection
    schema: str

    def beginning(
        self, job: int, *, kind: str, way: str, table: Name, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> tuple[Step, ...]:
        """As `ReshapingStore.beginning`."""
        unbuilt(_WORK)

    def over(self, job: int, *, once_swapped: bool) -> str:
        """As `ReshapingStore.over`."""
        unbuilt(_WORK)

    def find(self, table: Name, *, ended: bool = False) -> Reshaping | None:
        """As `ReshapingStore.find`."""
        return None

    def open_jobs(self) -> tuple[Reshaping, ...]:
        """As `ReshapingStore.open_jobs`."""
        return ()

    def of_partition(self, name: Name) -> Reshaping | None:
        """As `ReshapingStore.of_partition`."""
        return None

    def begin(
        self, table: Name, *, kind: str, way: str, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> int:
        """As `ReshapingStore.begin`."""
        unbuilt(_WORK)

    def set_details(self, job: int, details: Mapping[str, Any]) -> None:
        """As `ReshapingStore.set_details`."""
        unbuilt(_WORK)

    def close(self, job: int, state: str) -> None:
        """As `ReshapingStore.close`."""
        unbuilt(_WORK)

    def next_number(self) -> int:
        """As `ReshapingStore.next_number`."""
        return 1

    def note_lock(self, job: int, held_ms: float) -> None:
        """As `ReshapingStore.note_lock`."""
        unbuilt(_WORK)

    def progress(self, job: int) -> tuple[int, int, int]:
        """As `ReshapingStore.progress`."""
        return 0, 0, 0

    def rows_total(self, tables: Sequence[Name]) -> int:
        """As `ReshapingStore.rows_total`."""
        return 0

    def changes_waiting(self, job: int, log: str) -> int:
        """As `ReshapingStore.changes_waiting`."""
        return 0

    def pressure(self) -> tuple[int, int]:
        """As `ReshapingStore.pressure`."""
        return 0, 0

    def rights_missing(self, table: Name, others: Sequence[Name], owned: Sequence[Name]) -> tuple[str, ...]:
        """As `ReshapingStore.rights_missing`."""
        return ()

    def total_of(self, job: int) -> int:
        """As `ReshapingStore.total_of`."""
        return 0

    def begin_again(self, record: Reshaping) -> None:
        """As `ReshapingStore.begin_again`."""
        unbuilt(_WORK)
