"""The exchange of names: what is left to do is done behind LOCK TABLES, while another connection's RENAME waits for it.

LOCK TABLES refuses RENAME in its own session, and two ALTER … RENAME would let others see that the table is not there.
So a second connection asks for the RENAME while the locks are held: it is the first in the queue, and when the locks go
it is done before every reader and writer that queued meanwhile (measured on 10.11). By then all changes are brought
over and committed: if this program is killed at that moment, the exchange happens or does not, and both are right.

BEGIN would release LOCK TABLES without a word: so autocommit is switched off instead.
"""

from __future__ import annotations

import time
from contextlib import suppress
from dataclasses import dataclass
from threading import Thread

from slabrow.core.upkeep.statements import Check, Transaction, sql_of
from slabrow.core.values.errors import Outdated, Refusal, ServerError
from slabrow.servers.mariadb.connection import Connection, again

_WAIT_S = 1  # for the locks
_RENAME_S = 20  # it only waits for the locks that are held here
_SEEN_S = 5.0


@dataclass(frozen=True, slots=True)
class Exchange:
    """A transaction whose strong lock is LOCK TABLES, and whose `gentle` statement is the RENAME, if there is one."""

    connection: Connection
    transaction: Transaction

    def run(self) -> float:
        """Returns for how many milliseconds the locks were held. Raises the driver's error for a lock that was not got,
        Refusal for a check that finds a difference; then nothing has been exchanged.
        """
        strong = self.transaction.strong
        assert strong is not None and strong.strong is not None
        connection = self.connection
        other = None if strong.gentle is None else again(self.connection)
        try:
            if other is not None:
                other.run("SET SESSION lock_wait_timeout = %s", (_RENAME_S,))
            # Without the RENAME what follows defines tables, and would wait for the engine's own locks on them, which
            # LOCK TABLES takes as well when autocommit is off.
            commits = int(other is None)
            connection.run("SET SESSION lock_wait_timeout = %s, autocommit = %s", (_WAIT_S, commits))
            connection.run(strong.strong)
            began = time.monotonic()
            for part in self.transaction.statements:
                rows = connection.rows(sql_of(part))
                if isinstance(part, Check):
                    _refuse(part, rows)
            connection.run("COMMIT")
            if other is not None and strong.gentle is not None:
                self._rename(other, strong.gentle)
            return (time.monotonic() - began) * 1_000
        finally:
            with suppress(Exception):
                if other is not None:
                    other.driver.close()
            if not connection.closed:
                connection.run("ROLLBACK")
                connection.run("UNLOCK TABLES")
                connection.run("SET SESSION autocommit = 1, lock_wait_timeout = 30")

    def _rename(self, other: Connection, sql: str) -> None:
        failed: list[BaseException] = []

        def ask() -> None:
            try:
                other.run(sql)
            except BaseException as error:  # whatever it is: it is raised below
                failed.append(error)

        thread = Thread(target=ask, name="slabrow rename", daemon=True)
        thread.start()
        until = time.monotonic() + _SEEN_S
        while thread.is_alive() and time.monotonic() < until:
            row = self.connection.row("SELECT state FROM information_schema.processlist WHERE id = %s", (other.number,))
            if row is not None and "metadata lock" in str(row[0] or ""):
                break
            time.sleep(0.002)
        self.connection.run("UNLOCK TABLES")
        thread.join(_RENAME_S + 5)
        if failed:
            raise failed[0]
        if thread.is_alive():
            raise ServerError("the names were not exchanged in time", fix="run the same command again")


def _refuse(check: Check, rows: list[tuple[object, ...]]) -> None:
    differing = [row for row in rows if row[-1]]
    if differing:
        what, before, after, *_ = differing[0]
        kind = Outdated if check.renews else Refusal
        raise kind(check.text, found=f"{what}: {before} before, {after} now", fix=f"nothing was changed; {check.fix}")
