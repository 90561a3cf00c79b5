"""Runs the steps of long work on a table in use, and shows how far they are."""

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from slabrow.core.upkeep.live_plan import Reshaping
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.steps import LongWork, Step, StepReport, StepState
from slabrow.core.values.names import Name
from slabrow.core.values.wording import count
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.work import runner
from slabrow.work.context import Context, ignore_progress
from slabrow.work.pace import Pace, Speed
from slabrow.work.step_runner import StepRunner, ledger_or_none

FLOOR_EVERY_S = 2.0
COPY = "copy rows"
_SHOW_EVERY_S = 0.5
_COPY_SHARE = 0.3


@dataclass(slots=True)
class LongRun:
    """begins_at   how far each step is on the bar, 0 to 1
    wait_s      how long a step waits for others
    floor       a transaction that is run now and then; None where there is none
    reports     what has been said of each step, by its name
    """

    context: Context
    session: Session
    store: ReshapingStore
    schema: str
    speed: Speed
    wait_s: float
    begins_at: Mapping[str, float]
    floor: Callable[[], Transaction | None] = lambda: None
    reports: dict[str, StepReport] = field(default_factory=dict)
    _record: Reshaping | None = None
    _floor_at: float = 0.0
    _shown_at: float = 0.0
    _began: tuple[float, int] | None = None
    _step: str = ""
    _pace: Pace | None = None
    _total: int = 0

    def propose(self, steps: Sequence[Step]) -> None:
        """Says of the steps that they would be done."""
        self.reports = {step.name: StepReport(name=step.name, state=StepState.PROPOSED) for step in steps}

    def do(self, kind: str, record: Reshaping, holding: Sequence[Name], steps: tuple[Step, ...]) -> None:
        """Does the steps that are not done yet. holding: the tables that hold the rows."""
        self._record, self._total = record, self.store.rows_total(holding)
        self._pace = pace = Pace(self.speed, self.store.pressure, self.context.warn)
        steps_runner = StepRunner(
            replace(self.context, progress=ignore_progress),
            self.session,
            ledger_or_none(self.context, self.session, self.schema),
            jobs=self.speed.jobs,
            pace=pace,
            between=self._raise_floor,
            held=lambda milliseconds: self.store.note_lock(record.job, milliseconds),
            wait_s=self.wait_s,
            watch=self._show,
            begins=self._begins,
        )
        reports = steps_runner.do(LongWork(kind=kind, table=record.table, steps=steps))
        self.reports = {report.name: report for report in reports}

    def _begins(self, step: str) -> None:
        self._step, self._shown_at = step, 0.0
        if self.speed.rows_a_second is not None and self._record is not None:
            self._measure(*self.store.progress(self._record.job))  # before the first piece: a fast copy is soon over
        self.context.progress(self.begins_at.get(step, 0.0), step)

    def _raise_floor(self) -> None:
        """Now and then."""
        if time.monotonic() - self._floor_at > FLOOR_EVERY_S and (transaction := self.floor()) is not None:
            runner.run(self.session, [transaction], self.context.lock_wait_ms)
            self._floor_at = time.monotonic()

    def _show(self) -> None:
        if time.monotonic() - self._shown_at < _SHOW_EVERY_S or self._record is None:
            return
        self._shown_at = time.monotonic()
        done, pieces, rows = self.store.progress(self._record.job)
        self._measure(done, pieces, rows)
        waiting = self.store.changes_waiting(self._record.job, "log")
        left = self._seconds_left(done, pieces)
        share, text = self.begins_at.get(self._step, 0.0), self._step
        if self._step == COPY and pieces:
            share += _COPY_SHARE * done / pieces
            text += f": {count(rows)} rows" + (f", copied in {left:.0f} s" if left else "")
        self.context.progress(share, f"{text}; {count(waiting)} changes wait")

    def _measure(self, done: int, pieces: int, rows: int) -> None:
        """Tells the pace how many rows a piece has: by those that are copied, else by the tables' estimates."""
        if self._pace is not None and pieces:
            self._pace.rows_a_piece = rows / done if done else self._total / pieces

    def _seconds_left(self, done: int, pieces: int) -> float | None:
        if self._began is None:
            self._began = (time.monotonic(), done)
            return None
        took, made = time.monotonic() - self._began[0], done - self._began[1]
        return None if made <= 0 or done >= pieces else (pieces - done) * took / made

    def said(self, rows: int) -> tuple[StepReport, ...]:
        """The reports, with the rows that were copied where that was done."""
        copied = {COPY: rows}
        return tuple(
            replace(report, rows=copied.get(report.name)) if report.state is StepState.DONE else report
            for report in self.reports.values()
        )


def seconds_left(record: Reshaping | None, done: int, pieces: int) -> float | None:
    """Of the copy, told from its beginning by another session; None where that cannot be told."""
    if record is None or not 0 < done < pieces or "watched" not in record.marks:
        return None
    took = time.time() - record.marks["watched"].timestamp()
    return round(took * (pieces - done) / done, 1)
