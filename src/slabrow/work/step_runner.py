"""Runs the steps of long work, and records each of them in the ledger.

A step that is done already is left alone. The record of a step is begun before it, and ended within the step's own
transaction where it has one: the ledger says `done` exactly when the step is done, wherever a kill falls.
"""

import json
import queue
import time
import uuid
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from threading import Event

from slabrow.core.upkeep.ledger_entries import LedgerEntry
from slabrow.core.upkeep.statements import Statement, Transaction, sql_of
from slabrow.core.upkeep.steps import NOT_YET, LongWork, Piece, RepeatedStep, SpreadStep, Step, StepReport, StepState
from slabrow.core.values.errors import Doubled, Outdated, SlabrowError, Stopped
from slabrow.servers.protocols import LedgerStore, Session
from slabrow.work import runner
from slabrow.work.context import Context, ignore_message
from slabrow.work.crew import Crew
from slabrow.work.pace import Pace

MOST_BEGINNINGS = 50  # how often steps are gone through anew because the table changed under them
_BACKLOG_EVERY_S = 5.0
_NOT_FALLING = 6  # measurements in a row of a backlog that does not fall
_MOST_RECORDED = 20  # statements of a step of many pieces that the ledger keeps


@dataclass(slots=True)
class StepRunner:
    """ledger: None where there is none, and none can be made; the steps run all the same.

    run        the number of this run of the program, the same for all its entries
    jobs       how many sessions work side by side on a step that allows it
    pace       of steps that give way to the server's other work
    between    called between two batches of changes: now and then there is something to do
    held       hears for how long a strong lock was held
    wait_s     how long a step waits for others, at most; 0: not at all
    watch      called now and then, to show how far the work is
    begins     hears the name of each step that begins
    """

    context: Context
    session: Session
    ledger: LedgerStore | None
    run: str = field(default_factory=lambda: str(uuid.uuid4()))
    jobs: int = 1
    pace: Pace | None = None
    between: Callable[[], None] = runner.ignore_wait
    held: Callable[[float], None] = runner.ignore_held
    wait_s: float = 600.0
    watch: Callable[[], None] = runner.ignore_wait
    begins: Callable[[str], None] = ignore_message
    _lock_waits: int = 0
    _longest_ms: float | None = None
    _meanwhile: Transaction | None = None

    def do(self, work: LongWork) -> tuple[StepReport, ...]:
        """Does every step that is not done yet, in order.

        When the table has changed under a step, the steps are gone through anew, and those begin again that must.
        Raises what the runner raises; the steps before the failing one stay done, and the same call goes on there.
        """
        reports: dict[str, StepReport] = {}
        for beginning in range(MOST_BEGINNINGS):
            try:
                for step in work.steps:
                    report = self._step(work, step)
                    if report.state is not StepState.ALREADY or step.name not in reports:
                        reports[step.name] = report
                return tuple(reports[step.name] for step in work.steps)
            except Outdated as error:
                if beginning + 1 == MOST_BEGINNINGS:
                    raise Stopped(
                        f"{error.problem} again and again", fix="nothing is lost: run it again when that has ended"
                    ) from error
                self.context.say(f"{error.problem}: some steps begin again")
        raise AssertionError("unreachable")

    def undo(self, work: LongWork) -> tuple[StepReport, ...]:
        """Takes back, the last first, every step that is done and can be taken back."""
        reports = []
        for step in reversed(work.steps):
            if step.undo is not None and self._is_done(step):
                undoing = Step(name=step.name, transaction=step.undo, is_done=step.is_done)
                reports.append(self._recorded(work, undoing, StepState.UNDONE))
        return tuple(reports)

    def _step(self, work: LongWork, step: Step) -> StepReport:
        if self._is_done(step):
            return StepReport(name=step.name, state=StepState.ALREADY)
        if isinstance(step, RepeatedStep) and not step.is_wide:
            self._meanwhile = step.transaction
        report = self._recorded(work, step, StepState.DONE)
        if step.transaction.strong is not None:
            self._meanwhile = None  # behind it the tables are other ones
        return report

    def _is_done(self, step: Step | Piece) -> bool:
        if step.is_done == NOT_YET:
            return False
        name = step.name if isinstance(step, Step) else step.transaction.purpose
        with self.session.explained(f"see how far {name} is"):
            return bool(self.session.execution.rows(step.is_done)[0][0])

    def _recorded(self, work: LongWork, step: Step, state: StepState) -> StepReport:
        began, self._lock_waits, self._longest_ms = time.monotonic(), 0, None
        self.begins(step.name)
        number = None
        if self.ledger is not None:
            number = self.ledger.begin(self._entry(work, step, state))
        try:
            checked, is_ended = self._run(work, step, number)
        except BaseException as error:
            if self.ledger is not None and number is not None and not self.session.closed:
                note = (error.found or error.problem) if isinstance(error, SlabrowError) else "stopped"
                with suppress(Exception):  # the error itself says more than that it could not be written down
                    self.ledger.end(number, "failed", _since(began), self._lock_waits, note)
            raise
        if self.ledger is not None and number is not None and not is_ended:
            self.ledger.end(number, "done", _since(began), self._lock_waits, None)
        rows = tuple(tuple(map(tuple, each)) for each in checked)
        if step.keeps is not None and rows:
            self.session.execution.run_with(step.keeps, [json.dumps(rows[-1], default=str)])
        return StepReport(
            name=step.name,
            state=state,
            duration_ms=round(_since(began), 3),
            lock_waits=self._lock_waits,
            longest_lock_ms=None if self._longest_ms is None else round(self._longest_ms, 3),
            checked=rows,
        )

    def _run(self, work: LongWork, step: Step, number: int | None) -> tuple[list[runner.Rows], bool]:
        """Returns the rows of the checks, and whether the step's entry was ended within its own transaction."""
        match step:
            case RepeatedStep(is_wide=True) if self.jobs > 0:
                self._repeat_wide(work, step)
                return [], False
            case RepeatedStep():
                self._repeat(step)
                return [], False
            case SpreadStep():
                self._spread(work, step)
        transaction = step.transaction
        is_ended = self.ledger is not None and number is not None and transaction.is_atomic
        if is_ended and self.ledger is not None and number is not None:
            ending = Statement(self.ledger.ending(number))
            transaction = replace(transaction, statements=(*transaction.statements, ending))
        return self._transact(self.session, transaction, self.context.progress), is_ended

    def _transact(
        self, session: Session, transaction: Transaction, progress: Callable[[float, str], None] | None = None
    ) -> list[runner.Rows]:
        context = self.context
        with session.explained(transaction.purpose):
            return runner.run(
                session,
                [transaction],
                context.lock_wait_ms,
                progress or (lambda _, __: None),
                context.say,
                deadline_ms=context.lock_deadline_ms,
                waited=self._wait,
                held=self._held,
                meanwhile=self._keep_in_step,
            )

    def _keep_in_step(self) -> None:
        """While a lock is waited for, changes are brought over all the same: so that few are left for the lock."""
        self.watch()
        if self._meanwhile is not None:
            with suppress(Doubled):
                runner.run(self.session, [self._meanwhile], self.context.lock_wait_ms)
            self.between()

    def _repeat(self, step: RepeatedStep) -> None:
        """On the session of this run, until it is done; ends with a word when that never comes nearer."""
        until, looked, last, rising = time.monotonic() + self.wait_s, time.monotonic(), None, 0
        while True:
            try:
                self._transact(self.session, step.transaction)
            except Doubled:
                if step.whole is None:
                    raise
                self._transact(self.session, step.whole)
            self.between()
            self.watch()
            if self._is_done(step):
                return
            if step.waits_for is not None and self.session.execution.rows(step.waits_for):
                if self.wait_s == 0:
                    return
                self._wait_for_others(step, until)
            elif step.backlog is not None and time.monotonic() - looked > _BACKLOG_EVERY_S:
                left = int(self.session.execution.rows(step.backlog)[0][0])
                rising = rising + 1 if last is not None and left >= last else 0
                if last is not None and rising >= _NOT_FALLING:
                    rate = (left - last) / (time.monotonic() - looked)
                    raise Stopped(
                        "changes come faster than they can be brought over",
                        found=f"{left:,} wait, {rate:,.0f} more each second",
                        fix="nothing is lost, changes go on being recorded: run it again when fewer come",
                    )
                last, looked = left, time.monotonic()

    def _wait_for_others(self, step: RepeatedStep, until: float) -> None:
        assert step.waits_for is not None
        if time.monotonic() > until:
            who = ", ".join(str(row[0]) for row in self.session.execution.rows(step.waits_for))
            if who:
                raise Stopped(
                    f"could not {step.name}: it lasts longer than {self.wait_s:g} s",
                    found=f"{who}: with REPEATABLE READ they would find the new table empty",
                    fix="end them and run it again; or go on all the same with --wait-for-snapshots 0",
                )
        time.sleep(0.1)

    def _repeat_wide(self, work: LongWork, step: RepeatedStep) -> None:
        pace = self.pace if step.is_paced else None

        def one(session: Session, stopping: Event) -> None:
            while not stopping.is_set():
                began = time.monotonic()
                self._transact(session, step.transaction)
                took = time.monotonic() - began
                if session.execution.rows(step.is_done)[0][0]:
                    return
                if took < 0.003:  # the last pieces are being done by others
                    stopping.wait(0.02)
                if pace is not None:
                    pace.rest(took, stopping)

        Crew(self.context, work.table, self.jobs, self._watching(pace)).run(one)

    def _spread(self, work: LongWork, step: SpreadStep) -> None:
        """The pieces that are not done, by as many sessions as there are; few small ones need no second session."""
        left: queue.SimpleQueue[Piece] = queue.SimpleQueue()
        for piece in step.pieces:
            if not self._is_done(piece):
                left.put(piece)

        total, began, watch = left.qsize(), time.monotonic(), self._watching(self.pace)

        def show() -> None:
            watch()
            done = total - left.qsize()
            if done and total > 1:
                rest = (time.monotonic() - began) * (total - done) / done
                self.context.progress(done / total, f"{step.name}: {done} of {total}, {rest:.0f} s left")

        def one(session: Session, stopping: Event) -> None:
            while not stopping.is_set():
                try:
                    piece = left.get_nowait()
                except queue.Empty:
                    return
                self._transact(session, piece.transaction)
                if session is self.session:
                    show()

        if (
            self.jobs < 2
            or left.qsize() < 2
            or step.is_serial
            or any(piece.transaction.strong for piece in step.pieces)
        ):
            one(self.session, Event())
        else:
            size = min(self.jobs, left.qsize())
            Crew(self.context, work.table, size, show).run(one)

    def _watching(self, pace: Pace | None) -> Callable[[], None]:
        def watch() -> None:
            if pace is not None:
                pace.watch()
            self.watch()

        return watch

    def _entry(self, work: LongWork, step: Step, state: StepState) -> LedgerEntry:
        details = {"step": step.name} | ({"undoes": True} if state is StepState.UNDONE else {})
        pieces: Iterable[Piece] = step.pieces if isinstance(step, SpreadStep) else ()
        statements = [sql_of(part) for piece in pieces for part in piece.transaction.statements]
        if len(statements) > _MOST_RECORDED:
            statements = [*statements[:_MOST_RECORDED], f"-- and {len(statements) - _MOST_RECORDED} more like these"]
        return LedgerEntry(
            kind=work.kind,
            table=str(work.table),
            partition="",
            state="begun",
            clock=self.context.now,
            is_machine_clock=self.context.is_machine_clock,
            run=self.run,
            statements=(*statements, *map(sql_of, step.transaction.statements)),
            details=details,
        )

    def _wait(self) -> None:
        self._lock_waits += 1

    def _held(self, milliseconds: float) -> None:
        self._longest_ms = max(self._longest_ms or 0.0, milliseconds)
        self.held(milliseconds)


def _since(began: float) -> float:
    """Milliseconds. began: of the monotonic clock."""
    return (time.monotonic() - began) * 1_000


def ledger_or_none(context: Context, session: Session, schema: str | None) -> LedgerStore | None:
    """The ledger, made where it is missing. None where there is to be none, or where the role may not make one: then
    the context's `warn` hears it. Raises ServerError for a ledger that is there and cannot be used.
    """
    if schema is None:
        return None
    ledger = session.ledger(schema)
    is_there = ledger.version() > 0
    try:
        ledger.prepare()
    except SlabrowError as error:
        if is_there:
            raise
        context.warn(f"{error.problem}: {error.found}; {error.fix}")
        return None
    return ledger
