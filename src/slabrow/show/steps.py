"""How the steps of long work look."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Protocol

from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.steps import SpreadStep, Step, StepReport
from slabrow.core.values.wording import count, milliseconds
from slabrow.show.output import Json, plain, table

if TYPE_CHECKING:
    from rich.console import Console


def step_transactions(steps: Sequence[Step]) -> Iterator[Transaction]:
    """All that the steps would send, in order."""
    for step in steps:
        if isinstance(step, SpreadStep):
            yield from (piece.transaction for piece in step.pieces)
        yield step.transaction


def step_data(step: StepReport) -> Json:
    """The end of a step for JSON."""
    return {
        "name": step.name,
        "state": str(step.state),
        "rows": step.rows,
        "duration_ms": step.duration_ms,
        "lock_waits": step.lock_waits,
        "longest_lock_ms": step.longest_lock_ms,
    }


def text_steps_done(steps: Sequence[StepReport], longest_lock_ms: float, out: Console) -> None:
    """What each step took."""
    lines = table("step", "took", "lock waits", "longest lock", right=("took", "lock waits", "longest lock"))
    for step in steps:
        done = milliseconds(step.duration_ms) if step.duration_ms is not None else "done already"
        waits = str(step.lock_waits) if step.lock_waits else ""
        lock = milliseconds(step.longest_lock_ms) if step.longest_lock_ms is not None else ""
        lines.add_row(plain(step.name), done, waits, lock)
    out.print(lines)
    if longest_lock_ms:
        out.print(plain(f"The longest lock that kept writers out was held for {longest_lock_ms:.0f} ms."))


class Standing(Protocol):
    """Where long work stands, whatever its kind."""

    @property
    def rows_copied(self) -> int:
        """So far."""

    @property
    def rows_total(self) -> int:
        """The planner's estimate."""

    @property
    def changes_waiting(self) -> int:
        """Recorded, and not brought over yet."""

    @property
    def seconds_left(self) -> float | None:
        """Of the copy; None where it cannot be told."""

    @property
    def longest_lock_ms(self) -> float:
        """For which a lock that keeps writers out was held at most."""

    @property
    def steps(self) -> tuple[StepReport, ...]:
        """Those that are done."""


def text_standing(result: Standing, out: Console) -> None:
    """As `--status` shows it."""
    lines = table("", "now", right=("now",))
    share = f" ({result.rows_copied / result.rows_total:.0%})" if result.rows_total else ""
    lines.add_row(plain("rows copied"), f"{count(result.rows_copied)} of about {count(result.rows_total)}{share}")
    lines.add_row(plain("changes waiting"), count(result.changes_waiting))
    if result.seconds_left is not None:
        lines.add_row(plain("time left for the copy"), f"{result.seconds_left:,.0f} s")
    if result.longest_lock_ms:
        lines.add_row(plain("longest lock that kept writers out"), milliseconds(result.longest_lock_ms))
    out.print(lines)
    if result.steps:
        out.print(plain("Done so far: " + ", ".join(step.name for step in result.steps) + "."))
