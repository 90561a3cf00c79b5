"""Sends statements that change something: transactions, savepoints, locks, loading. When to try again is not decided
here: `work/runner.py` does.
"""

import re
import time
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from dataclasses import dataclass, field
from typing import Any

import psycopg
from psycopg import errors as sqlstate

from slabrow.core.upkeep.statements import Check, Load, Pipe, Remote, Transaction, sql_of
from slabrow.core.values.errors import Doubled, LockNotGot, Outdated, Refusal, ServerError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, explained, translated
from slabrow.servers.postgresql.far import FarServers
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.write.script import BEGIN_ANEW, DIFFERS, checked
from slabrow.servers.postgresql.write.sweeping import ROWS_SETTING

_LOCK_ERRORS = (sqlstate.LockNotAvailable, sqlstate.DeadlockDetected, sqlstate.SerializationFailure)
_GENTLE_WAIT = "5s"  # for a lock that blocks nobody: the server's own cleaning gives way after a second
_ORPHANS_S = 20.0
_MOST_WITHIN_MS = 100  # for what is locked within a strong lock

_LOCKED_NOW = "SELECT set_config('slabrow.locked', extract(epoch FROM clock_timestamp())::text, true)"
_LOCKED_FOR = (
    "SELECT (extract(epoch FROM clock_timestamp()) - current_setting('slabrow.locked')::numeric) * 1000 AS held_ms"
)
_CHECKS: dict[str | None, type[Refusal]] = {BEGIN_ANEW: Outdated, DIFFERS: Refusal}


@dataclass(frozen=True, slots=True)
class PostgresExecution:
    """`protocols.Execution` on one connection. far: the other servers that it may reach."""

    connection: Connection
    far: FarServers = field(default_factory=FarServers)

    @contextmanager
    def errors(self, transaction: Transaction) -> Iterator[None]:
        """Turns the driver's errors into Slabrow's: LockNotGot for a lock, else what `translated` says."""
        try:
            yield
        except _LOCK_ERRORS as error:
            raise LockNotGot(f"could not {transaction.purpose}", found=error.diag.message_primary) from error
        except sqlstate.UniqueViolation as error:
            words = f"{error.diag.message_primary} ({error.diag.message_detail})"
            raise Doubled(f"could not {transaction.purpose}", found=words) from error
        except psycopg.Error as error:
            if error.sqlstate in _CHECKS:
                raise _CHECKS[error.sqlstate](
                    error.diag.message_primary or "", found=error.diag.message_detail, fix=error.diag.message_hint
                ) from error
            raise translated(error, transaction.purpose, _refused_among(transaction, error)) from error

    def at_once(self, transaction: Transaction, lock_waits: int) -> None:
        """In one message: of a thousand partitions to create, network round trips take half of the time."""
        counted = f"SET LOCAL slabrow.lock_waits = {lock_waits:d}"
        sql = ("BEGIN ISOLATION LEVEL READ COMMITTED", counted, *map(sql_of, transaction.statements), "COMMIT")
        try:
            self.connection.execute(";\n".join(sql).encode())
        except BaseException:
            if not self.connection.closed:
                self.connection.execute("ROLLBACK")
            raise

    def send_cleaning_away(self, transaction: Transaction) -> None:
        """As `Execution.send_cleaning_away`: by a gentle lock, for a moment; where this role may not, it is left."""
        cleaned = transaction.strong.cleaned if transaction.strong is not None else None
        if cleaned is not None:
            with suppress(psycopg.Error), self.connection.transaction():
                self.connection.execute(f"SET LOCAL lock_timeout = '{_GENTLE_WAIT}'")
                self.connection.execute(cleaned.encode())

    def under_lock(self, transaction: Transaction, lock_wait_ms: int, lock_waits: int) -> float:
        """As `Execution.under_lock`: the lock, all statements and the commit go to the server in one message.

        So nothing that happens to this program or to the network makes the lock last longer. The server measures.
        """
        strong = transaction.strong
        assert strong is not None
        first = ["BEGIN ISOLATION LEVEL READ COMMITTED", f"SET LOCAL slabrow.lock_waits = {lock_waits:d}"]
        first += [f"SET LOCAL lock_timeout = '{_GENTLE_WAIT}'", strong.gentle] if strong.gentle else []
        # The lock of a partitioned table is one for each leaf: together they may not take longer than one.
        statements = [f"SET LOCAL {name} = {lock_wait_ms:d}" for name in ("lock_timeout", "statement_timeout")]
        statements += [strong.strong] if strong.strong else []
        statements += [
            _LOCKED_NOW,
            "SET LOCAL statement_timeout = 0",
            f"SET LOCAL lock_timeout = {min(lock_wait_ms, _MOST_WITHIN_MS):d}",
            *(checked(part) if isinstance(part, Check) else sql_of(part) for part in transaction.statements),
            _LOCKED_FOR,
            "COMMIT",
        ]
        try:
            self.connection.execute(";\n".join(first).encode())
            cursor = self.connection.execute(";\n".join(statements).encode())
        except BaseException as error:
            if not self.connection.closed:
                self.connection.execute("ROLLBACK")
            if isinstance(error, sqlstate.QueryCanceled):
                raise LockNotGot(f"could not {transaction.purpose}", found=error.diag.message_primary) from error
            raise
        held_ms = 0.0
        while True:
            if cursor.description and cursor.description[0].name == "held_ms":
                held_ms = float(cursor.fetchall()[0][0])
            if not cursor.nextset():
                return held_ms

    def block(self) -> AbstractContextManager[Any]:
        """A transaction; within one, a savepoint."""
        return self.connection.transaction()

    # As bytes, the driver sends a statement as it is: a percent sign in a name is no placeholder.

    def run(self, sql: str) -> None:
        """One statement, whose result is not wanted."""
        self.connection.execute(sql.encode())

    def rows(self, sql: str) -> list[tuple[Any, ...]]:
        """All rows of a query."""
        return self.connection.execute(sql.encode()).fetchall()

    def run_with(self, sql: str, values: Sequence[str]) -> None:
        """A statement with the values of its parameters as text, of which the server finds the types."""
        self.connection.pgconn.exec_params(sql.encode(), [value.encode() for value in values] or None)

    def drop_schema(self, schema: str) -> None:
        """With all that is in it, one table a transaction, so that no lock table is exhausted."""
        with explained(f"drop the schema {schema}"):
            names = self.connection.execute(
                """SELECT c.oid::regclass::text FROM pg_class c WHERE c.relnamespace = to_regnamespace(%s)
                   AND c.relkind IN ('r', 'p') ORDER BY c.relispartition DESC""",
                [identifier(schema)],
            ).fetchall()
            for (name,) in names:
                self.connection.execute(f"DROP TABLE IF EXISTS {name} CASCADE".encode())
            self.connection.execute(f"DROP SCHEMA IF EXISTS {identifier(schema)} CASCADE".encode())

    def load(self, load: Load) -> None:
        """COPY … FROM STDIN with the rows of a Load."""
        with self.connection.cursor().copy(load.sql.encode()) as copy:
            for chunk in load.rows():
                copy.write(chunk)

    def run_there(self, part: Remote) -> None:
        """As `Execution.run_there`."""
        self.far.run(part)

    def pipe(self, part: Pipe) -> None:
        """As `Execution.pipe`."""
        self.far.pipe(part, self.connection)

    def set_lock_wait(self, milliseconds: int) -> None:
        """For statements outside a transaction block."""
        self.connection.execute("SELECT set_config('lock_timeout', %s, false)", [str(milliseconds)])

    def note_lock_waits(self, waits: int) -> None:
        """Where the ledger's entry, which stands in the same transaction, finds it."""
        self.connection.execute("SELECT set_config('slabrow.lock_waits', %s, false)", [str(waits)])

    def moved_rows(self) -> int | None:
        """How many rows the last sweep has moved."""
        row = self.connection.execute(f"SELECT current_setting('{ROWS_SETTING}')::bigint".encode()).fetchone()
        return row[0] if row else None

    def lock_room(self) -> int:
        """How many locks the server's lock table holds: max_locks_per_transaction × (max_connections +
        max_prepared_transactions) (PostgreSQL manual, 19.12).
        """
        row = self.connection.execute(
            """SELECT current_setting('max_locks_per_transaction')::int
                      * (current_setting('max_connections')::int + current_setting('max_prepared_transactions')::int)
            """
        ).fetchone()
        return int(row[0]) if row else 0

    def oldest_transaction(self) -> str | None:
        """The session with the oldest open transaction, in words; None when no other session has one."""
        held = self.connection.execute(
            """SELECT pid, usename, coalesce(nullif(application_name, ''), 'unnamed'), state,
                      extract(epoch FROM now() - xact_start)::int
               FROM pg_stat_activity WHERE xact_start IS NOT NULL AND pid <> pg_backend_pid()
                 AND datname = current_database() ORDER BY xact_start LIMIT 1"""
        ).fetchone()
        return f"pid {held[0]} ({held[1]}, {held[2]}, {held[3]}) since {held[4]} s" if held else None

    def prepare_maintenance(self) -> None:
        """Sets the session up for moving, archiving and removing rows: it sees all rows and has no timeouts.

        All rows: where a row-level policy would hide some, the server refuses the statement (PostgreSQL manual, 5.9).
        Rows that nobody saw would be missing from an archive, and be lost with the partition.
        No timeouts: work that a limit of the role or the database cuts off would begin anew each time. How long the
        session may wait for a lock, and so keep others waiting, has a limit of its own.
        """
        with explained("set this session up"):
            self.connection.execute(
                """SELECT set_config(name, CASE WHEN name = 'row_security' THEN 'off' ELSE '0' END, false)
                   FROM pg_settings
                   WHERE name IN ('row_security', 'statement_timeout', 'idle_in_transaction_session_timeout',
                                  'idle_session_timeout', 'transaction_timeout')"""
            )
        # The server soon notices when this program is killed, and ends what it was doing for it. Not every system can.
        with suppress(psycopg.Error):
            self.connection.execute("SET client_connection_check_interval = '500ms'")

    def join_work(self, table: Name) -> None:
        """As `Execution.join_work`."""
        self.connection.execute("SELECT set_config('application_name', %s, false)", [self._at_work(table)])

    def _at_work(self, table: Name) -> str:
        return f"slabrow at work {self.claim_key(table)}"

    def end_orphans(self, table: Name) -> None:
        """As `Execution.end_orphans`. A session of the same role may end others of it (PostgreSQL manual, 9.28.2)."""
        who = "application_name = %s AND datname = current_database() AND pid <> pg_backend_pid()"
        name = self._at_work(table)
        with explained("end what is left of a killed run"):
            until = time.monotonic() + _ORPHANS_S
            while self.connection.execute(f"SELECT pid FROM pg_stat_activity WHERE {who}".encode(), [name]).fetchall():
                self.connection.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                    f"WHERE {who} AND usename = current_user".encode(),
                    [name],
                )
                if time.monotonic() > until:
                    raise ServerError(
                        f"sessions of a killed run on {table} do not end",
                        found=f"their application_name is {name!r}",
                        fix="end them with pg_terminate_backend, and run it again",
                    )
                time.sleep(0.05)

    def claim_key(self, table: Name) -> int:
        """One number for a table, however its name is written; for one that is not there yet, from the name."""
        with explained("read the catalogue"):
            row = self.connection.execute(
                "SELECT hashtextextended('slabrow ' || coalesce(to_regclass(%(name)s)::oid::text, %(name)s), 0)",
                {"name": str(table)},
            ).fetchone()
        return int(row[0]) if row else 0

    def try_claim(self, key: int) -> bool:
        """A session-level advisory lock, which keeps other runs of Slabrow away; False when another run has it."""
        with explained("claim the table"):
            found: bool = self.connection.execute("SELECT pg_try_advisory_lock(%s)", [key]).fetchall()[0][0]
            return found

    def release(self, keys: Sequence[int]) -> None:
        """Gives claims back; a session that is gone holds none any more."""
        if not self.connection.closed:
            for key in keys:
                self.connection.execute("SELECT pg_advisory_unlock(%s)", [key])


def _refused_among(transaction: Transaction, error: psycopg.Error) -> str:
    """The statements of a transaction that name the relation which the server refuses: they tell which right lacks."""
    named = re.search(r"permission denied for \w+ (.+)", error.diag.message_primary or "")
    if named is None:
        return ""
    texts = map(sql_of, transaction.statements)
    return " ".join(text for text in texts if named.group(1).strip('"') in text)
