"""What is asked of a conversion of a table in use, and where it stands."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import KeyChange
from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.steps import LongWork, Phase, StepReport, StepState
from slabrow.core.values.names import Name
from slabrow.work.convert import ComparedPartition
from slabrow.work.layout_preview import LayoutPreview
from slabrow.work.pace import SPEEDS, Speed

if TYPE_CHECKING:  # it loads the parser, which only a preview needs
    from slabrow.core.upkeep.breaks import Break


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveOptions:
    """wait_for_snapshots_s   how long old transactions are waited for before the swap; 0: not at all
    pause_before_swap   end before the swap; changes go on being recorded
    way     `live`, or `as-is`
    to      where the first partition of a table taken in as it is ends; None: computed
    workload, statistics   what is looked through for statements that would break
    """

    speed: Speed = SPEEDS["normal"]
    wait_for_snapshots_s: float = 600.0
    pause_before_swap: bool = False
    old_name: str | None = None
    way: str = "live"
    to: str | None = None
    workload: tuple[Path, ...] = ()
    statistics: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveResult:
    """Where a conversion stands, or what it would do.

    doing   `convert`, `undo`, `give up`, `drop`
    seconds_left   of the copy; None where it cannot be told
    seen    what the layout gives, for one that has not begun
    lines   what the layout file has to say afterwards
    breaks  what it would break, for one that has not begun
    has_script  whether it could be written as a script
    """

    table: Name
    layout: Layout
    doing: str
    phase: Phase
    work: LongWork
    steps: tuple[StepReport, ...]
    old_name: Name
    is_done: bool
    key_changes: tuple[KeyChange, ...] = ()
    seen: LayoutPreview | None = None
    notes: tuple[str, ...] = ()
    rows_copied: int = 0
    rows_total: int = 0
    changes_waiting: int = 0
    longest_lock_ms: float = 0.0
    compared: tuple[ComparedPartition, ...] = ()
    seconds_left: float | None = None
    is_paused: bool = False
    way: str = "live"
    lines: tuple[str, ...] = ()
    breaks: tuple[Break, ...] = ()
    has_script: bool = True


def phase_of(record: Reshaping | None, done: int, pieces: int) -> Phase:
    if record is None:
        return Phase.PROPOSED
    by_state = {
        ReshapingState.SWAPPED: Phase.SWAPPED,
        ReshapingState.DONE: Phase.DONE,
        ReshapingState.UNDONE: Phase.UNDONE,
        ReshapingState.GIVEN_UP: Phase.GIVEN_UP,
    }
    if record.state in by_state:
        return by_state[record.state]
    is_copied = "watched" in record.marks and pieces > 0 and done == pieces
    return Phase.FOLLOWING if is_copied or "complete" in record.marks else Phase.COPYING


_STEP_OF_MARK = {"made": "make the new table", "partitions": "make its partitions", "watched": "record changes",
                 "complete": "build keys and indexes", "analysed": "analyse", "way back": "prepare the way back",
                 "swapped": "swap names", "undone": "swap back"}  # fmt: skip


def steps_done(record: Reshaping | None, step_of_mark: Mapping[str, str] = _STEP_OF_MARK) -> tuple[StepReport, ...]:
    marks = sorted(record.marks.items(), key=lambda each: each[1]) if record is not None else []
    return tuple(
        StepReport(name=step_of_mark[what], state=StepState.ALREADY) for what, _ in marks if what in step_of_mark
    )
