"""The findings and actions of upkeep: plain data, made by the run and shown elsewhere."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Range
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action, Create, Sweep
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.planned_partitions import as_key, is_past
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.errors import SlabrowError
from slabrow.core.values.key_values import Value
from slabrow.core.values.method import By


class State(StrEnum):
    """The state of an action."""

    PROPOSED = "proposed"
    DONE = "done"
    FAILED = "failed"
    SKIPPED = "skipped"


@dataclass(frozen=True, slots=True)
class Tended:
    """An action with its statements and what became of it. text says why when it failed or was skipped.

    there  done on other servers, once the partition has left here
    rows   rows that were swept or archived, None where none were counted
    duration_ms  None for what was not tried
    lock_waits   how many tries got no lock
    """

    action: Action
    transaction: Transaction | None
    state: State
    text: str | None = None
    rows: int | None = None
    duration_ms: float | None = None
    lock_waits: int = 0
    there: tuple[Transaction, ...] = ()

    @property
    def transactions(self) -> tuple[Transaction, ...]:
        """All that is done, in order."""
        return (*(() if self.transaction is None else (self.transaction,)), *self.there)


@dataclass(frozen=True, slots=True, kw_only=True)
class TableReport:
    """The findings and actions for one layout. error: the error that ended the work on it.

    ahead_missing   partitions that should lie ahead and were not there when this began
    tree            as it was found; None when it could not be read
    here            what time it was for the table: the clock, or the greatest key of whole numbers
    catch_all_rows  rows that lay in the catch-all and belong elsewhere, or nowhere, when this began
    server          what --on calls it; None for the one server of the options
    """

    layout: Layout
    tended: tuple[Tended, ...] = ()
    leftovers: tuple[Finding, ...] = ()
    error: SlabrowError | None = None
    tree: Tree | None = None
    here: datetime | int | None = None
    catch_all_rows: int = 0
    server: str | None = None
    is_analysed: bool = False

    @property
    def says_nothing(self) -> bool:
        """Whether nothing was done about the table, and nothing is to be said of it."""
        return not self.tended and not self.leftovers and self.error is None and not self.is_analysed

    @property
    def catch_all_rows_left(self) -> int:
        """The rows that are still in the catch-all."""
        moved = sum(
            each.rows or 0 for each in self.tended if isinstance(each.action, Sweep) and each.state is State.DONE
        )
        return max(0, self.catch_all_rows - moved)

    @property
    def ahead_missing(self) -> int:
        """Partitions that `ahead` asks for and that were not there. What lies in the past is never ahead."""
        return len(self._missing) - self.past_missing

    @property
    def past_missing(self) -> int:
        """Partitions of times that are past, or of keys that were given, which were not there."""
        return sum(isinstance(each.bounds, Range) and is_past(each.bounds, self._here) for each in self._missing)

    @property
    def _missing(self) -> list[Create | Sweep]:
        return [each.action for each in self.tended if isinstance(each.action, Create | Sweep)]

    @property
    def _here(self) -> Value | None:
        """The clock as a value of the key; None for a key that does not move with it."""
        if self.here is None or self.tree is None or self.layout.by is not By.RANGE:
            return None
        return as_key(self.here, self.tree.kinds[0], ZoneInfo(self.layout.zone))

    @property
    def thin(self) -> tuple[str, ...]:
        """The warnings of --check: none when all is well."""
        missing, past, rows = self.ahead_missing, self.past_missing, self.catch_all_rows
        lacked = f"lacks {past} partition{'s' if past != 1 else ''} of times that are past"
        lacks = f"lacks {missing} partition{'s' if missing != 1 else ''} that `ahead` asks for"
        has = f"has {rows:,} row{'s' if rows != 1 else ''} in its catch-all"
        found = [each.text for each in self.leftovers if each.code == "index_missing"]
        bare = ["has partitions without an index of the table"] if found else []
        broken = ["no longer holds what is wanted of it"] if self.unmet else []
        return (*([lacks] if missing else ()), *([lacked] if past else ()), *([has] if rows else ()), *bare, *broken)

    @property
    def unmet(self) -> tuple[Finding, ...]:
        """The wishes that do not hold now."""
        return tuple(each for each in self.leftovers if each.code in ("too_large", "too_many", "not_pruning"))


@dataclass(frozen=True, slots=True)
class TendResult:
    """note   what a person should know of the run as a whole, such as a ledger that cannot be written"""

    now: datetime
    reports: tuple[TableReport, ...]
    note: str | None = None

    @property
    def actions(self) -> tuple[Tended, ...]:
        """The actions of all tables."""
        return tuple(tended for report in self.reports for tended in report.tended)

    @property
    def error(self) -> SlabrowError | None:
        """The error that decides the exit code: the gravest one."""
        errors = [report.error for report in self.reports if report.error is not None]
        return max(errors, key=lambda error: error.exit_code, default=None)

    @property
    def has_failed(self) -> bool:
        """Whether the server refused an action."""
        return any(tended.state is State.FAILED for tended in self.actions)

    @property
    def has_open(self) -> bool:
        """Whether something is left to do: proposed, failed, skipped, or drift that no action mends."""
        return any(tended.state is not State.DONE for tended in self.actions) or any(
            finding.code == "drift" for report in self.reports for finding in report.leftovers
        )

    @property
    def is_thin(self) -> bool:
        """Whether --check warns: too little lies ahead, a catch-all holds rows, an index is missing, or a wish does not
        hold.
        """
        return any(report.thin for report in self.reports)
