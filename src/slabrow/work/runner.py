"""The one way in which statements reach a server: with short waits for locks, and tried again."""

import re
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass, field
from typing import Any

import psycopg
from psycopg import errors as sqlstate

from slabrow.core.upkeep.statements import Check, Statement, Transaction
from slabrow.core.values.errors import Outdated, Refusal, ServerError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, explained, translated, whole_and_unhurried
from slabrow.work.context import Progress, unsaid, unseen

TRIES = 6
FIRST_PAUSE_S = 0.25  # doubled after each try; the table is free for others in between
LONGEST_PAUSE_S = 8.0
_LOCK_ERRORS = (sqlstate.LockNotAvailable, sqlstate.DeadlockDetected)


def unwaited() -> None:
    """Waits for locks that nobody counts."""


Rows = list[tuple[Any, ...]]


def run(
    connection: Connection,
    transactions: Iterable[Transaction],
    lock_wait_ms: int,
    progress: Progress = unseen,
    say: Callable[[str], None] = unsaid,
    *,
    deadline_ms: int | None = None,
    waited: Callable[[], None] = unwaited,
) -> list[Rows]:
    """Runs transactions in order. Returns the rows of every Check, in order.

    deadline_ms  how long a lock is tried for; None: six times
    waited       hears of each try that got no lock

    Raises Refusal when a check finds a difference or the server's lock table is too small, ServerError when the server
    refuses. What earlier transactions did stays done; the failed one has left nothing.
    """
    checked: list[Rows] = []
    done = 0.0
    for transaction in transactions:
        _guard_locks(connection, transaction)
        patience = _Patience(deadline_ms, waited)
        while True:
            try:
                if _goes_at_once(transaction) and say is unsaid:
                    progress(done, transaction.purpose)
                    _at_once(connection, transaction, patience.tries)
                else:
                    checked += _once(connection, transaction, patience, lock_wait_ms, done, progress, say)
                break
            except _LOCK_ERRORS as error:
                if not patience.lasts():
                    raise _gave_up(connection, error, transaction, patience.tries) from error
            except psycopg.Error as error:
                raise translated(error, transaction.purpose, _refused_among(transaction, error)) from error
        done += sum(statement.share for statement in transaction.statements)
    return checked


def _refused_among(transaction: Transaction, error: psycopg.Error) -> str:
    """The statements of a transaction that name the relation which the server refuses: they tell which right lacks."""
    named = re.search(r"permission denied for \w+ (.+)", error.diag.message_primary or "")
    if named is None:
        return ""
    texts = [_sql(each).decode() for each in transaction.statements]
    return " ".join(text for text in texts if named.group(1).strip('"') in text)


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


def _goes_at_once(transaction: Transaction) -> bool:
    """Whether nothing between its statements has to be looked at, or tried again by itself."""
    return transaction.is_atomic and all(
        isinstance(each, Statement) and not each.is_lock for each in transaction.statements
    )


def _at_once(connection: Connection, transaction: Transaction, lock_waits: int) -> None:
    """A transaction in one message: of a thousand partitions to create, half the time is the ways to the server."""
    counted = f"SET LOCAL slabrow.lock_waits = {lock_waits:d}".encode()
    statements = (b"BEGIN ISOLATION LEVEL READ COMMITTED", counted, *map(_sql, transaction.statements), b"COMMIT")
    try:
        connection.execute(b";\n".join(statements))
    except BaseException:
        if not connection.closed:
            connection.execute("ROLLBACK")
        raise


def _once(
    connection: Connection,
    transaction: Transaction,
    patience: _Patience,
    lock_wait_ms: int,
    done: float,
    progress: Progress,
    say: Callable[[str], None],
) -> list[Rows]:
    checked: list[Rows] = []
    _say_waits(connection, patience.tries)
    if not transaction.is_atomic:
        connection.execute("SELECT set_config('lock_timeout', %s, false)", [str(lock_wait_ms)])
    with connection.transaction() if transaction.is_atomic else nullcontext():
        for statement in transaction.statements:
            progress(done, statement.doing or transaction.purpose)
            began = time.monotonic()
            if isinstance(statement, Check):
                rows = connection.execute(_sql(statement)).fetchall()
                _refuse_difference(statement, rows)
                checked.append(rows)
            elif statement.is_lock:
                _lock(connection, statement, transaction, patience)
            else:
                connection.execute(_sql(statement))
            say(f"{time.monotonic() - began:8.3f} s  {_sql(statement).decode()}")
            done += statement.share
    progress(done, transaction.purpose)
    return checked


def _sql(statement: Statement | Check) -> bytes:
    # As bytes, the driver sends it as it is: a percent sign in a name is no placeholder.
    return (statement.sql if isinstance(statement, Statement) else statement.query).encode()


def _lock(connection: Connection, statement: Statement, transaction: Transaction, patience: _Patience) -> None:
    """Takes a lock within a savepoint, so that a try that waited too long costs only itself.

    Raises ServerError after the last try: the transaction is then given up, and its long work is not begun again.
    """
    own = _Patience(patience.deadline_ms, patience.waited)  # from here on: the work before it may have taken long
    while True:
        try:
            with connection.transaction():
                connection.execute(_sql(statement))
            break
        except _LOCK_ERRORS as error:
            if not own.lasts():
                raise _gave_up(connection, error, transaction, own.tries) from error
    if own.tries:
        _say_waits(connection, patience.tries + own.tries)


def _say_waits(connection: Connection, waits: int) -> None:
    """Where the ledger's entry, which stands in the same transaction, finds it."""
    connection.execute("SELECT set_config('slabrow.lock_waits', %s, false)", [str(waits)])


def _refuse_difference(check: Check, rows: Rows) -> None:
    if differing := [row for row in rows if row[-1]]:
        leaf, old, new, *_ = differing[0]
        kind = Outdated if check.renews else Refusal
        raise kind(
            check.text,
            found=f"{len(differing)} differ, first {leaf}: {old:,} before, {new:,} after",
            fix=f"nothing has been changed; {check.fix}",
        )


def _gave_up(connection: Connection, error: psycopg.Error, transaction: Transaction, tries: int) -> ServerError:
    held = connection.execute(
        """SELECT pid, usename, coalesce(nullif(application_name, ''), 'unnamed'), state,
                  extract(epoch FROM now() - xact_start)::int
           FROM pg_stat_activity WHERE xact_start IS NOT NULL AND pid <> pg_backend_pid()
             AND datname = current_database() ORDER BY xact_start LIMIT 1"""
    ).fetchone()
    longest = (
        f"; the oldest open transaction is of pid {held[0]} ({held[1]}, {held[2]}, {held[3]}) since {held[4]} s"
        if held
        else ""
    )
    return ServerError(
        f"could not {transaction.purpose}",
        found=f"no lock after {tries} {'try' if tries == 1 else 'tries'}: {error.diag.message_primary}{longest}",
        fix="nothing has been changed by this step: run it again later, or give a longer --lock-wait",
    )


def _guard_locks(connection: Connection, transaction: Transaction) -> None:
    """Refuses a transaction that would fail after long work because the server's lock table is full.

    Its room is max_locks_per_transaction × (max_connections + max_prepared_transactions) (PostgreSQL manual, 19.12).
    """
    if not transaction.locks:
        return
    row = connection.execute(
        """SELECT current_setting('max_locks_per_transaction')::int
                  * (current_setting('max_connections')::int + current_setting('max_prepared_transactions')::int)
        """
    ).fetchone()
    room = int(row[0]) if row else 0
    if transaction.locks > room * 0.8:
        raise Refusal(
            f"could not {transaction.purpose}: it needs too many locks at once",
            found=f"about {transaction.locks:,} locks in one transaction, room on the server for {room:,}",
            fix="take a wider span or fewer parts, or raise max_locks_per_transaction and restart the server",
        )


@contextmanager
def sole(connection: Connection, tables: Sequence[Name], wait_ms: int) -> Iterator[None]:
    """Keeps other runs of Slabrow off these tables meanwhile: a session-level advisory lock for each.

    Within, the session is set up for changes: see `whole_and_unhurried`.

    Raises Refusal, having changed nothing, when another run holds one for longer than the wait.
    """
    whole_and_unhurried(connection)
    held: list[int] = []
    for table in sorted(tables):
        key = _advisory_key(connection, table)
        deadline = time.monotonic() + wait_ms / 1000
        while not connection.execute("SELECT pg_try_advisory_lock(%s)", [key]).fetchall()[0][0]:
            if time.monotonic() > deadline:
                raise Refusal(
                    f"another slabrow is working on {table}",
                    found=f"waited {wait_ms / 1000:g} s for it",
                    fix="let it finish, then run this again",
                )
            time.sleep(0.05)
        held.append(key)
    try:
        yield
    finally:
        if not connection.closed:
            for key in held:
                connection.execute("SELECT pg_advisory_unlock(%s)", [key])


def _advisory_key(connection: Connection, table: Name) -> int:
    """One number for a table, however its name is written; for one that is not there yet, from the name."""
    with explained("read the catalogue"):
        row = connection.execute(
            "SELECT hashtextextended('slabrow ' || coalesce(to_regclass(%(name)s)::oid::text, %(name)s), 0)",
            {"name": str(table)},
        ).fetchone()
    return int(row[0]) if row else 0
