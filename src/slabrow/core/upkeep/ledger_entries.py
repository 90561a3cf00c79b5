"""Entries of the ledger as plain data. Where they are kept belongs to the server family."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any


@dataclass(frozen=True, slots=True, kw_only=True)
class LedgerEntry:
    """One thing that was done, tried or decided.

    clock      what time it was taken to be; is_machine_clock: whether that was the machine's time, not one given
               with --now
    kind       `create`, `detach`, `drop`, `archive`, `adopt`, `sweep`, `convert`, `hold`, `hold_ended`
    state      `done` or `failed`; `begun` for work that is under way, or was when it was killed
    run        the run of the program, the same for all its entries
    rows       rows moved, archived or dropped, None where nobody counted
    details    what else belongs to its kind: `until` of a hold, the manifest of an archive, the step of long work
    """

    kind: str
    table: str
    partition: str
    state: str
    clock: datetime
    is_machine_clock: bool
    run: str
    statements: tuple[str, ...] = ()
    duration_ms: float | None = None
    rows: int | None = None
    lock_waits: int = 0
    note: str | None = None
    details: dict[str, Any] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class WrittenEntry:
    """An entry as the ledger holds it."""

    number: int
    at: datetime
    role: str
    host: str
    version: str
    entry: LedgerEntry
