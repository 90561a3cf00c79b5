"""Runs the steps of long work, and records each of them in the ledger.

A step that is done already is left alone. The record of a step is begun before it, and ended within the step's own
transaction: the ledger says `done` exactly when the step is done, wherever a kill falls.
"""

import time
import uuid
from contextlib import suppress
from dataclasses import dataclass, field, replace

from slabrow.core.upkeep.ledger_entries import LedgerEntry
from slabrow.core.upkeep.statements import Statement, Transaction, sql_of
from slabrow.core.upkeep.steps import LongWork, Step, StepReport, StepState
from slabrow.core.values.errors import SlabrowError
from slabrow.servers.protocols import LedgerStore, Session
from slabrow.work import runner
from slabrow.work.context import Context


@dataclass(slots=True)
class StepRunner:
    """ledger: None where there is none, and none can be made; the steps run all the same.

    run   the number of this run of the program, the same for all its entries
    """

    context: Context
    session: Session
    ledger: LedgerStore | None
    run: str = field(default_factory=lambda: str(uuid.uuid4()))
    _lock_waits: int = 0

    def do(self, work: LongWork) -> tuple[StepReport, ...]:
        """Does every step that is not done yet, in order.

        Raises what the runner raises; the steps before the failing one stay done, and the same call goes on there.
        """
        return tuple(self._step(work, step) for step in work.steps)

    def undo(self, work: LongWork) -> tuple[StepReport, ...]:
        """Takes back, the last first, every step that is done and can be taken back."""
        reports = []
        for step in reversed(work.steps):
            if step.undo is not None and self._is_done(step):
                reports.append(self._recorded(work, step.name, step.undo, StepState.UNDONE))
        return tuple(reports)

    def _step(self, work: LongWork, step: Step) -> StepReport:
        if self._is_done(step):
            return StepReport(name=step.name, state=StepState.ALREADY)
        return self._recorded(work, step.name, step.transaction, StepState.DONE)

    def _is_done(self, step: Step) -> bool:
        with self.session.explained(f"see how far {step.name} is"):
            return bool(self.session.execution.rows(step.is_done)[0][0])

    def _recorded(self, work: LongWork, name: str, transaction: Transaction, state: StepState) -> StepReport:
        began, self._lock_waits = time.monotonic(), 0
        number = None
        if self.ledger is not None:
            number = self.ledger.begin(self._entry(work, name, transaction, state))
            if transaction.is_atomic:
                ending = Statement(self.ledger.ending(number))
                transaction = replace(transaction, statements=(*transaction.statements, ending))
        context = self.context
        try:
            checked = runner.run(
                self.session,
                [transaction],
                context.lock_wait_ms,
                context.progress,
                context.say,
                deadline_ms=context.lock_deadline_ms,
                waited=self._wait,
            )
        except SlabrowError as error:
            if self.ledger is not None and number is not None and not self.session.closed:
                with suppress(SlabrowError):  # the error itself says more than that it could not be written down
                    self.ledger.end(number, "failed", _since(began), self._lock_waits, error.found or error.problem)
            raise
        if self.ledger is not None and number is not None and not transaction.is_atomic:
            self.ledger.end(number, "done", _since(began), self._lock_waits, None)
        rows = tuple(tuple(map(tuple, each)) for each in checked)
        return StepReport(
            name=name, state=state, duration_ms=round(_since(began), 3), lock_waits=self._lock_waits, checked=rows
        )

    def _entry(self, work: LongWork, name: str, transaction: Transaction, state: StepState) -> LedgerEntry:
        details = {"step": name} | ({"undoes": True} if state is StepState.UNDONE else {})
        return LedgerEntry(
            kind=work.kind,
            table=str(work.table),
            partition="",
            state="begun",
            clock=self.context.now,
            is_machine_clock=self.context.is_machine_clock,
            run=self.run,
            statements=tuple(map(sql_of, transaction.statements)),
            details=details,
        )

    def _wait(self) -> None:
        self._lock_waits += 1


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
