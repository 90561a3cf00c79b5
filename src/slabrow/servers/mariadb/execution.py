"""Sends statements that change something to MariaDB. When to try again is not decided here: `work/runner.py` does.

What defines a table commits by itself and is done wholly or not at all, also when the server is killed (measured on
10.11). A lost connection may mean either: whoever repeats it reads the table first.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from pymysql import err

from slabrow.core.upkeep.statements import Load, Pipe, Remote, Transaction, sql_of
from slabrow.core.values.errors import Doubled, LockNotGot, ServerError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import READ_WAIT_S, Connection
from slabrow.servers.mariadb.errors import LOCK_ERRORS, explained, number_of, translated, words_of
from slabrow.servers.mariadb.live.exchange import Exchange
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.read.catalogue import full_name
from slabrow.servers.mariadb.unbuilt import nothing_elsewhere
from slabrow.servers.mariadb.write.upkeep import WAIT

_DUPLICATE = 1062
_SETTLED_S = 1  # a transaction that has been open for longer would keep a lock waiting, and writers behind it


@dataclass(frozen=True, slots=True)
class MariaExecution:
    """`protocols.Execution` on one connection."""

    connection: Connection

    @contextmanager
    def errors(self, transaction: Transaction) -> Iterator[None]:
        """Turns the driver's errors into Slabrow's."""
        try:
            yield
        except err.MySQLError as error:
            if number_of(error) in LOCK_ERRORS:
                raise LockNotGot(f"could not {transaction.purpose}", found=words_of(error)) from error
            if number_of(error) == _DUPLICATE:
                fix = "two rows have the same key: change one of them, then run the same command again"
                raise Doubled(f"could not {transaction.purpose}", found=words_of(error), fix=fix) from error
            raise translated(error, transaction.purpose) from error

    def at_once(self, transaction: Transaction, lock_waits: int) -> None:
        """Statements on rows, in one transaction."""
        with self.block():
            for part in transaction.statements:
                self.connection.run(sql_of(part))

    def send_cleaning_away(self, transaction: Transaction) -> None:
        """As `Execution.send_cleaning_away`: nothing cleans with a lock."""

    def under_lock(self, transaction: Transaction, lock_wait_ms: int, lock_waits: int) -> float:
        """As `Execution.under_lock`. A statement waits for its lock at most a second, and not at all while another
        transaction is open that would keep it waiting: whoever comes meanwhile waits behind it.

        The server says for how long it worked under the lock only with the waiting: so this is an upper bound.
        """
        strong = transaction.strong
        if strong is not None and strong.strong is not None:
            return Exchange(self.connection, transaction).run()
        began = time.monotonic()
        seconds = max(1, round(lock_wait_ms / 1_000 / 2))  # WAIT n may cost twice as long
        for part in transaction.statements:
            is_held_up = self._is_held_up()
            waiting = "NOWAIT " if is_held_up else f"WAIT {seconds} "
            self.connection.run("SET SESSION lock_wait_timeout = %s", (0 if is_held_up else seconds,))
            try:
                self.connection.rows(sql_of(part).replace(WAIT, waiting))
            finally:
                if not self.connection.closed:
                    self.connection.run("SET SESSION lock_wait_timeout = %s", (READ_WAIT_S,))
        return (time.monotonic() - began) * 1_000

    def _is_held_up(self) -> bool:
        """Whether a transaction has been open for a while, so that a lock would be waited for."""
        try:
            row = self.connection.row(
                "SELECT 1 FROM information_schema.innodb_trx WHERE trx_mysql_thread_id <> connection_id() "
                "AND trx_started < now() - INTERVAL %s SECOND LIMIT 1",
                (_SETTLED_S,),
            )
        except err.MySQLError:  # without PROCESS: then the limit of a second has to do
            return False
        return row is not None

    @contextmanager
    def block(self) -> Iterator[Any]:
        """A transaction; within one, a savepoint."""
        if self.connection.driver.server_status & 1:
            name = f"slabrow_{time.monotonic_ns()}"
            self.connection.run(f"SAVEPOINT {name}")
            try:
                yield
            except BaseException:
                if not self.connection.closed:
                    self.connection.run(f"ROLLBACK TO SAVEPOINT {name}")
                raise
            return
        self.connection.run("START TRANSACTION")
        try:
            yield
        except BaseException:
            if not self.connection.closed:
                self.connection.run("ROLLBACK")
            raise
        self.connection.run("COMMIT")

    def run(self, sql: str) -> None:
        """One statement, whose result is not wanted."""
        self.connection.rows(sql.replace(WAIT, ""))

    def rows(self, sql: str) -> list[tuple[Any, ...]]:
        """All rows of a query."""
        return self.connection.rows(sql)

    def run_with(self, sql: str, values: Sequence[str]) -> None:
        """A statement with the values of its parameters as text, which stand in it as %s."""
        self.connection.run(sql, tuple(values))

    def drop_schema(self, schema: str) -> None:
        """With all that is in it."""
        with explained(f"drop the database {schema}"):
            self.connection.run(f"DROP DATABASE IF EXISTS {identifier(schema)}")

    def load(self, load: Load) -> None:
        """Rows of an archive, as many at a time as come together: each chunk is the values of one INSERT."""
        for chunk in load.rows():
            self.connection.run(load.sql + " " + chunk.decode())

    def run_there(self, part: Remote) -> None:
        """As `Execution.run_there`: partitions do not go to other servers."""
        raise nothing_elsewhere()

    def pipe(self, part: Pipe) -> None:
        """As `run_there`."""
        raise nothing_elsewhere()

    def set_lock_wait(self, milliseconds: int) -> None:
        """In whole seconds, as the server has it; 0 is no limit."""
        seconds = max(1, round(milliseconds / 1_000)) if milliseconds else 86_400
        self.connection.run("SET SESSION lock_wait_timeout = %s, innodb_lock_wait_timeout = %s", (seconds, seconds))

    def note_lock_waits(self, waits: int) -> None:
        """The ledger's entries are written by themselves here."""

    def moved_rows(self) -> int | None:
        """The server does not say how many rows REORGANIZE has moved."""
        return None

    def lock_room(self) -> int:
        """There is no table of locks that could fill up."""
        return 1 << 40

    def oldest_transaction(self) -> str | None:
        """The session with the oldest open transaction, in words; None when no other has one, or none may be seen."""
        try:
            row = self.connection.row(
                "SELECT t.trx_mysql_thread_id, p.user, p.command, timestampdiff(SECOND, t.trx_started, now()) "
                "FROM information_schema.innodb_trx t JOIN information_schema.processlist p "
                "ON p.id = t.trx_mysql_thread_id WHERE t.trx_mysql_thread_id <> connection_id() "
                "ORDER BY t.trx_started LIMIT 1"
            )
        except err.MySQLError:
            return None
        return None if row is None else f"connection {row[0]} ({row[1]}, {row[2]}) since {row[3]} s"

    def prepare_maintenance(self) -> None:
        """Connections are pinned when they are opened: they have no time limits. Rows are read without locking them, as
        others have committed them (READ COMMITTED): a copy must not keep writers waiting.
        """
        with explained("set this session up"):
            self.connection.run("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")

    def join_work(self, table: Name) -> None:
        """Its sessions end with the program: what a killed one was doing is rolled back by the server."""

    def end_orphans(self, table: Name) -> None:
        """A connection whose client was killed ends by itself, and what it defines is done wholly or not at all."""

    def claim_key(self, table: Name) -> int:
        """One number for a table, however its name is written."""
        name = str(full_name(self.connection, table))
        return int.from_bytes(hashlib.sha256(name.encode()).digest()[:7], "big")

    def try_claim(self, key: int) -> bool:
        """A lock by name, which ends with the connection; False when another run has it."""
        with explained("claim the table"):
            row = self.connection.row("SELECT GET_LOCK(%s, 0)", (_lock_name(key),))
        if row is None or row[0] is None:
            raise ServerError("could not claim the table", found="GET_LOCK gave no answer")
        return bool(row[0])

    def release(self, keys: Sequence[int]) -> None:
        """Gives claims back."""
        if not self.connection.closed:
            for key in keys:
                self.connection.rows("SELECT RELEASE_LOCK(%s)", (_lock_name(key),))


def _lock_name(key: int) -> str:
    return f"slabrow at work {key}"
