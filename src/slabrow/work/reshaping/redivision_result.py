"""What is asked of a split or a merge, and where it stands."""

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from slabrow.core.table.bounds import Bounds
from slabrow.core.table.spans import Span
from slabrow.core.upkeep.steps import LongWork, Phase, StepReport
from slabrow.core.values.names import Name
from slabrow.work.convert import ComparedPartition
from slabrow.work.pace import SPEEDS, Speed
from slabrow.work.reshaping.redivision_plan import SplitOptions


@dataclass(frozen=True, slots=True, kw_only=True)
class RedivisionOptions:
    """split      how to divide; None for a merge
    span         by which a merged partition is named; None: by the layout's
    wait_for_snapshots_s   how long old transactions are waited for before the swap; 0: not at all
    pause_before_swap   end before the swap; changes go on being recorded
    coarsens     whether upkeep does it, and lets go of the old partitions by itself
    relocates    whether a partition is moved; tablespace, elsewhere: where to, where that is said
    gives_up_key       whether the table may lose its keys, which it must before its first partition elsewhere
    workload           query files and server logs that are looked through for what a partition elsewhere breaks
    is_still_written   whether the partition may be one that rows are still written to
    """

    split: SplitOptions | None = None
    span: Span | None = None
    speed: Speed = SPEEDS["normal"]
    wait_for_snapshots_s: float = 600.0
    pause_before_swap: bool = False
    coarsens: bool = False
    relocates: bool = False
    tablespace: str | None = None
    elsewhere: str | None = None
    gives_up_key: bool = False
    is_still_written: bool = False
    workload: tuple[Path, ...] = ()

    @property
    def kind(self) -> str:
        """As the ledger has it."""
        if self.relocates:
            return "relocate"
        return "merge" if self.split is None else "split"


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """A partition before, or after. rows: counted where they were compared, else the planner's estimate, or None.

    places   the tablespaces that its rows and indexes lie in; empty where that is not told
    """

    name: Name
    bounds: Bounds
    rows: int | None
    places: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class RedivisionResult:
    """Where a split or a merge stands, or what it would do.

    doing   `split`, `merge`, `relocate`, `mend`, `undo`, `give up`, `drop`
    kept_as under which names the old partitions stay; None where they do not
    """

    kind: str
    root: Name
    doing: str
    phase: Phase
    before: tuple[Piece, ...]
    after: tuple[Piece, ...]
    kept_as: tuple[Name | None, ...]
    work: LongWork
    steps: tuple[StepReport, ...]
    is_done: bool
    rows_copied: int
    rows_total: int
    changes_waiting: int
    longest_lock_ms: float
    compared: tuple[ComparedPartition, ...]
    seconds_left: float | None
    notes: tuple[str, ...] = ()
    is_paused: bool = False


def uncopied(
    root: Name,
    doing: str,
    work: LongWork,
    steps: tuple[StepReport, ...],
    before: tuple[Piece, ...],
    after: tuple[Piece, ...],
    notes: Iterable[str],
    *,
    is_done: bool,
) -> RedivisionResult:
    """The result of a move for which Slabrow copies no rows: so no changes wait, and no old partition is kept."""
    return RedivisionResult(
        kind="relocate",
        root=root,
        doing=doing,
        phase=Phase.DONE if is_done else Phase.PROPOSED,
        before=before,
        after=after,
        kept_as=tuple(None for _ in before),
        work=work,
        steps=steps,
        is_done=is_done,
        rows_copied=0,
        rows_total=sum(each.rows or 0 for each in before),
        changes_waiting=0,
        longest_lock_ms=max((each.longest_lock_ms or 0.0 for each in steps), default=0.0),
        compared=(),
        seconds_left=None,
        notes=tuple(notes),
    )
