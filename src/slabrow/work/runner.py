"""The one way in which statements reach a server: with short waits for locks, and tried again."""

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass, field
from typing import Any

from slabrow.core.upkeep.statements import Check, Load, Pipe, Remote, Statement, Transaction, sql_of
from slabrow.core.values.errors import LockNotGot, Outdated, Refusal, ServerError, Stopped
from slabrow.core.values.names import Name
from slabrow.servers.protocols import Execution, Session
from slabrow.work.context import Progress, ignore_message, ignore_progress

TRIES = 6
FIRST_PAUSE_S = 0.25  # doubled after each try; the table is free for others in between
LONGEST_PAUSE_S = 8.0
LOCK_TABLE_SHARE = 0.8  # of the server's lock table, which other sessions need too


# Behind a lock on a table in use nobody may wait for long: it is asked for often, and each time for a short while.
STRONG_DEADLINE_MS = 600_000
STRONG_FIRST_PAUSE_S, STRONG_LONGEST_PAUSE_S = 0.05, 3.0
_SLICE_S = 0.25


def ignore_wait() -> None:
    """Waits for locks are not counted."""


def ignore_held(_: float) -> None:
    """How long a lock was held is not wanted."""


Rows = list[tuple[Any, ...]]


def run(
    session: Session,
    transactions: Iterable[Transaction],
    lock_wait_ms: int,
    progress: Progress = ignore_progress,
    say: Callable[[str], None] = ignore_message,
    *,
    deadline_ms: int | None = None,
    waited: Callable[[], None] = ignore_wait,
    held: Callable[[float], None] = ignore_held,
    meanwhile: Callable[[], None] = ignore_wait,
) -> list[Rows]:
    """Runs transactions in order. Returns the rows of every Check, in order.

    deadline_ms  how long a lock is tried for; None: six times
    waited       hears of each try that got no lock
    held         hears for how many milliseconds a strong lock was held
    meanwhile    called now and then while a strong lock is waited for

    Raises Refusal when a check finds a difference or the server's lock table is too small, ServerError when the server
    refuses. What earlier transactions did stays done; the failed one has left nothing.
    """
    checked: list[Rows] = []
    done = 0.0
    for transaction in transactions:
        guard_locks(session.execution, transaction)
        if transaction.strong is not None:
            progress(done, transaction.purpose)
            strong = _Strong(session.execution, transaction, lock_wait_ms, deadline_ms or STRONG_DEADLINE_MS)
            held(strong.run(waited, meanwhile, say))
            done += sum(statement.share for statement in transaction.statements)
            continue
        course = _Course(session.execution, transaction, _Patience(deadline_ms, waited), progress, say, done)
        while True:
            try:
                with session.execution.errors(transaction):
                    if _goes_at_once(transaction) and say is ignore_message:
                        progress(done, transaction.purpose)
                        session.execution.at_once(transaction, course.patience.tries)
                    else:
                        checked += course.run_once(lock_wait_ms)
                break
            except LockNotGot as error:
                if isinstance(error, _LastTry) or not course.patience.lasts():
                    raise _gave_up(session.execution, error, transaction, course.patience.tries) from error
        done += sum(statement.share for statement in transaction.statements)
    return checked


class _LastTry(LockNotGot):
    """A lock within a transaction was not got after the last try: the transaction is not begun again."""


@dataclass(slots=True)
class _Patience:
    """How long locks are tried for: with pauses that grow, in which the table is free for others.

    deadline_ms  from now on; None: six tries
    waited       hears of each try that got no lock
    """

    deadline_ms: int | None
    waited: Callable[[], None]
    tries: int = 0
    began: float = field(default_factory=time.monotonic)

    def lasts(self) -> bool:
        """Called after a try that got no lock: pauses and returns True, or returns False when it was the last."""
        self.waited()
        self.tries += 1
        pause_s = min(LONGEST_PAUSE_S, FIRST_PAUSE_S * 2 ** (self.tries - 1))
        if self.deadline_ms is None:
            ends = self.tries >= TRIES
        else:
            ends = self.deadline_ms / 1_000 - (time.monotonic() - self.began) <= pause_s
        if not ends:
            time.sleep(pause_s)
        return not ends


@dataclass(frozen=True, slots=True)
class _Strong:
    """A transaction behind a lock on a table in use."""

    execution: Execution
    transaction: Transaction
    lock_wait_ms: int
    deadline_ms: int

    def run(self, waited: Callable[[], None], meanwhile: Callable[[], None], say: Callable[[str], None]) -> float:
        """Returns for how many milliseconds the lock was held. Raises ServerError when it was not got in time."""
        tries, until = 0, time.monotonic() + self.deadline_ms / 1_000
        while True:
            self._look(until, meanwhile)
            if tries:
                began = time.monotonic()
                self.execution.send_cleaning_away(self.transaction)
                if time.monotonic() - began > _SLICE_S:
                    meanwhile()
            try:
                with self.execution.errors(self.transaction):
                    held_ms = self.execution.under_lock(self.transaction, self.lock_wait_ms, tries)
                for statement in self.transaction.statements:
                    say(sql_of(statement))
                say(f"the lock was held for {held_ms:.1f} ms")
                return held_ms
            except LockNotGot as error:
                waited()
                tries += 1
                if time.monotonic() > until:
                    raise _gave_up(self.execution, error, self.transaction, tries) from error
                self._pause(min(STRONG_LONGEST_PAUSE_S, STRONG_FIRST_PAUSE_S * 1.6**tries), meanwhile)

    @staticmethod
    def _pause(seconds: float, meanwhile: Callable[[], None]) -> None:
        """New changes are brought over every quarter of a second: too many would not fit behind the lock."""
        until = time.monotonic() + seconds
        meanwhile()
        while (left := until - time.monotonic()) > 0:
            time.sleep(min(left, _SLICE_S))
            meanwhile()

    def _look(self, until: float, meanwhile: Callable[[], None]) -> None:
        """Until nobody is in the way."""
        assert self.transaction.strong is not None
        while True:
            with self.execution.errors(self.transaction):
                in_the_way = self.execution.rows(self.transaction.strong.look)
            if not in_the_way:
                return
            if time.monotonic() > until:
                raise Stopped(
                    f"could not {self.transaction.purpose}",
                    found="a transaction holds the table all the time: " + ", ".join(str(who) for (who,) in in_the_way),
                    fix="nothing is lost and nobody waits: run the same command again when that transaction has ended",
                )
            meanwhile()
            time.sleep(STRONG_FIRST_PAUSE_S)


def _goes_at_once(transaction: Transaction) -> bool:
    """Whether nothing between its statements has to be looked at, or tried again by itself."""
    return transaction.is_atomic and all(
        isinstance(each, Statement) and not each.is_lock for each in transaction.statements
    )


@dataclass(frozen=True, slots=True)
class _Course:
    """One transaction on its way. done: the share of the whole work that was done before it."""

    execution: Execution
    transaction: Transaction
    patience: _Patience
    progress: Progress
    say: Callable[[str], None]
    done: float

    def run_once(self, lock_wait_ms: int) -> list[Rows]:
        checked: list[Rows] = []
        execution, transaction, done = self.execution, self.transaction, self.done
        if transaction.is_atomic or self.patience.tries:
            execution.note_lock_waits(self.patience.tries)
        if not transaction.is_atomic:
            execution.set_lock_wait(0 if transaction.is_patient else lock_wait_ms)
        with execution.block() if transaction.is_atomic else nullcontext():
            for statement in transaction.statements:
                self.progress(done, statement.doing or transaction.purpose)
                began = time.monotonic()
                match statement:
                    case Check():
                        rows = execution.rows(statement.query)
                        _refuse_difference(statement, rows)
                        checked.append(rows)
                    case Load():
                        execution.load(statement)
                    case Remote():
                        execution.run_there(statement)
                    case Pipe():
                        execution.pipe(statement)
                    case Statement(is_lock=True):
                        self._lock(statement)
                    case Statement():
                        execution.run(statement.sql)
                self.say(f"{time.monotonic() - began:8.3f} s  {sql_of(statement)}")
                done += statement.share
        self.progress(done, transaction.purpose)
        return checked

    def _lock(self, statement: Statement) -> None:
        """Takes a lock within a savepoint, so that a try that waited too long costs only itself.

        Raises _LastTry after the last try: the transaction is then given up, and its long work is not begun again.
        """
        # Its patience begins here: the work before it may have taken long.
        own = _Patience(self.patience.deadline_ms, self.patience.waited)
        while True:
            try:
                with self.execution.errors(self.transaction), self.execution.block():
                    self.execution.run(statement.sql)
                break
            except LockNotGot as error:
                if not own.lasts():
                    self.patience.tries = own.tries
                    raise _LastTry(error.problem, found=error.found) from error
        if own.tries:
            self.execution.note_lock_waits(self.patience.tries + own.tries)


def _refuse_difference(check: Check, rows: Rows) -> None:
    if differing := [row for row in rows if row[-1]]:
        leaf, old, new, *_ = differing[0]
        kind = Outdated if check.renews else Refusal
        raise kind(
            check.text,
            found=f"{len(differing)} differ, first {leaf}: {old:,} before, {new:,} after",
            fix=f"nothing has been changed; {check.fix}",
        )


def _gave_up(execution: Execution, error: LockNotGot, transaction: Transaction, tries: int) -> ServerError:
    oldest = execution.oldest_transaction()
    longest = f"; the oldest open transaction is of {oldest}" if oldest else ""
    return ServerError(
        f"could not {transaction.purpose}",
        found=f"no lock after {tries} {'try' if tries == 1 else 'tries'}: {error.found}{longest}",
        fix="nothing has been changed by this step: run it again later, or give a longer --lock-wait",
    )


def guard_locks(execution: Execution, transaction: Transaction) -> None:
    """Refuses a transaction that would fail after long work because the server's lock table is full."""
    if not transaction.locks:
        return
    room = execution.lock_room()
    if transaction.locks > room * LOCK_TABLE_SHARE:
        raise Refusal(
            f"could not {transaction.purpose}: it needs too many locks at once",
            found=f"about {transaction.locks:,} locks in one transaction, room on the server for {room:,}",
            fix="take a wider span or fewer parts, or raise max_locks_per_transaction and restart the server",
        )


@contextmanager
def sole(session: Session, tables: Sequence[Name], wait_ms: int) -> Iterator[None]:
    """Keeps other runs of Slabrow off these tables meanwhile: a claim on each, which ends with the session.

    Within, the session is prepared for changes: it sees all rows and has no timeouts.
    Raises Refusal, having changed nothing, when another run holds a table for longer than the wait.
    """
    execution = session.execution
    execution.prepare_maintenance()
    held: list[int] = []
    try:
        for table in sorted(tables):
            key = execution.claim_key(table)
            deadline = time.monotonic() + wait_ms / 1000
            while not execution.try_claim(key):
                if time.monotonic() > deadline:
                    raise Refusal(
                        f"another slabrow is working on {table}",
                        found=f"waited {wait_ms / 1000:g} s for it",
                        fix="let it finish, then run this again",
                    )
                time.sleep(0.05)
            held.append(key)
        yield
    finally:
        execution.release(held)
