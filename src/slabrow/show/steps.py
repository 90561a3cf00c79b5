"""How the steps of long work look."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.steps import SpreadStep, Step, StepReport
from slabrow.core.values.wording import milliseconds
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
