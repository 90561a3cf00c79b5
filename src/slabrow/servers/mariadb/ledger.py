"""The ledger on MariaDB: a table that holds what was done, when, by whom, with which SQL and outcome (N45).

What defines a table commits by itself, so an entry is begun before, and ended after it: a kill leaves one that was only
begun, and the next run finds in the table itself what became of it.
"""

from __future__ import annotations

import json
import socket
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from slabrow import __version__
from slabrow.core.upkeep.ledger_entries import LedgerEntry, WrittenEntry
from slabrow.core.upkeep.number_growth import Seen
from slabrow.core.values.errors import ServerError
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.live.records import TABLES as RESHAPING_TABLES
from slabrow.servers.mariadb.quoting import identifier, literal

_VERSION = 1
_MARK = "slabrow ledger, version "
_NO_LEDGER = 'ask for: GRANT ALL ON {schema}.* TO the user, or set schema = "" under [ledger] in the layout file'
_TABLES = (
    """CREATE TABLE IF NOT EXISTS {growth} (
        table_name varchar(400) NOT NULL,
        at datetime(6) NOT NULL,
        high bigint NOT NULL,
        PRIMARY KEY (table_name, at)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE IF NOT EXISTS {table} (
        entry bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
        at datetime(6) NOT NULL DEFAULT utc_timestamp(6),
        clock datetime(6) NOT NULL,
        is_machine_clock boolean NOT NULL,
        run char(36) NOT NULL,
        role varchar(200) NOT NULL,
        host varchar(300) NOT NULL,
        version varchar(40) NOT NULL,
        kind varchar(40) NOT NULL,
        table_name varchar(400) NOT NULL,
        partition_name varchar(200) NOT NULL,
        state varchar(20) NOT NULL,
        statements longtext NOT NULL,
        duration_ms double,
        row_count bigint,
        lock_waits int NOT NULL,
        note longtext,
        details longtext NOT NULL,
        KEY by_table (table_name, partition_name),
        KEY by_time (at),
        KEY by_clock (is_machine_clock, clock)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin
        COMMENT={mark}""",
)
_COLUMNS = (
    "clock, is_machine_clock, run, role, host, version, kind, table_name, partition_name, state, statements, "
    "duration_ms, row_count, lock_waits, note, details"
)


@dataclass(slots=True)
class MariaLedger:
    """`protocols.LedgerStore`, in one database. Reading a missing ledger finds no entries; writing creates it."""

    connection: Connection
    schema: str
    _found: int | None = None

    @property
    def table(self) -> str:
        """The ledger's table as SQL."""
        return f"{identifier(self.schema)}.`ledger`"

    @property
    def growth(self) -> str:
        """The table of the greatest keys that were seen."""
        return f"{identifier(self.schema)}.`growth`"

    def version(self) -> int:
        """As `LedgerStore.version`."""
        if self._found is None:
            self._found = self._look()
        return self._found

    def _look(self) -> int:
        with explained("look for the ledger"):
            row = self.connection.row(
                "SELECT table_comment FROM information_schema.tables WHERE table_schema = %s AND table_name = 'ledger'",
                (self.schema,),
            )
        if row is None:
            return 0
        text = str(row[0] or "")
        number = text.removeprefix(_MARK)
        if not text.startswith(_MARK) or not number.isdigit():
            raise ServerError(
                f"{self.table} is not a ledger of Slabrow",
                fix="name another schema under [ledger] in the layout file",
            )
        if int(number) > _VERSION:
            raise ServerError(
                f"{self.table} was written by a newer Slabrow",
                found=f"version {number}, and this one knows {_VERSION}",
                fix="upgrade this one",
            )
        return int(number)

    def prepare(self) -> None:
        """As `LedgerStore.prepare`."""
        if self.version() == _VERSION:
            return
        try:
            with explained("make the ledger"):
                self.connection.run(f"CREATE DATABASE IF NOT EXISTS {identifier(self.schema)}")
                names = {"table": self.table, "growth": self.growth, "schema": identifier(self.schema)}
                # The ledger itself comes last: where it is, all of them are.
                for sql in (*RESHAPING_TABLES, *_TABLES):
                    self.connection.run(sql.format(**names, mark=literal(f"{_MARK}{_VERSION}")))
            self._found = _VERSION
        except ServerError as error:
            raise ServerError(
                "there is no ledger, and none can be made",
                found=error.found,
                fix=_NO_LEDGER.format(schema=identifier(self.schema)),
            ) from error

    def insertion(self, entry: LedgerEntry, *, counts_moved: bool = False, before_ms: float = 0.0) -> str:
        """As `LedgerStore.insertion`."""
        statements = json.dumps(list(entry.statements), ensure_ascii=False)
        details = json.dumps(entry.details or {}, ensure_ascii=False)
        took = entry.duration_ms if entry.duration_ms is not None else before_ms or None  # None: not known
        values = ", ".join(
            (
                literal(_naive(entry.clock)), "1" if entry.is_machine_clock else "0", literal(entry.run),
                "current_user()", literal(socket.gethostname()), literal(__version__), literal(entry.kind),
                literal(entry.table), literal(entry.partition), literal(entry.state), literal(statements),
                "NULL" if took is None else str(round(took, 3)),
                "NULL" if entry.rows is None else str(entry.rows), str(entry.lock_waits),
                "NULL" if entry.note is None else literal(entry.note), literal(details),
            )
        )  # fmt: skip
        return f"INSERT INTO {self.table} ({_COLUMNS}) VALUES ({values})"

    def ending(self, number: int, *, rows: int | None = None) -> str:
        """As `LedgerStore.ending`."""
        counted = "" if rows is None else f", row_count = {rows:d}"
        return (
            f"UPDATE {self.table} SET state = 'done', duration_ms = timestampdiff(MICROSECOND, at, utc_timestamp(6)) "
            f"/ 1000{counted} WHERE entry = {number:d}"
        )

    def begin(self, entry: LedgerEntry) -> int:
        """As `LedgerStore.begin`."""
        with explained("write to the ledger"):
            self.connection.run(self.insertion(entry))
            row = self.connection.row("SELECT LAST_INSERT_ID()")
        return int(row[0]) if row else 0

    def end(self, number: int, state: str, duration_ms: float, lock_waits: int, note: str | None) -> None:
        """As `LedgerStore.end`."""
        with explained("write to the ledger"):
            self.connection.run(
                f"UPDATE {self.table} SET state = %s, duration_ms = %s, lock_waits = %s, note = %s WHERE entry = %s",
                (state, round(duration_ms, 3), lock_waits, note, number),
            )

    def write(self, entry: LedgerEntry) -> None:
        """As `LedgerStore.write`."""
        with explained("write to the ledger"):
            self.connection.run(self.insertion(entry))

    def read(
        self,
        *,
        table: str | None = None,
        kinds: Sequence[str] = (),
        since: datetime | None = None,
        most: int | None = None,
        state: str | None = None,
    ) -> tuple[WrittenEntry, ...]:
        """As `LedgerStore.read`."""
        if self.version() == 0:
            return ()
        tests, values = ["TRUE"], []
        for test, value in (
            ("table_name = %s", table),
            ("kind IN %s", tuple(kinds) or None),
            ("at >= %s", None if since is None else _naive(since)),
            ("state = %s", state),
        ):
            if value is not None:
                tests.append(test)
                values.append(value)
        limit = "" if most is None else f" LIMIT {most:d}"
        with explained("read the ledger"):
            rows = self.connection.rows(
                f"SELECT entry, at, {_COLUMNS} FROM {self.table} WHERE {' AND '.join(tests)} "
                f"ORDER BY entry DESC{limit}",
                tuple(values) or None,
            )
        return tuple(_written(row) for row in rows)

    def holds(self, table: str, moment: datetime) -> dict[str, WrittenEntry]:
        """As `LedgerStore.holds`."""
        latest: dict[str, WrittenEntry] = {}
        for written in self.read(table=table, kinds=("hold", "hold_ended")):
            latest.setdefault(written.entry.partition, written)
        held = {}
        for partition, written in latest.items():
            until = (written.entry.details or {}).get("until")
            if written.entry.kind == "hold" and (until is None or datetime.fromisoformat(until) > moment):
                held[partition] = written
        return held

    def seen(self, table: str, since: datetime) -> tuple[Seen, ...]:
        """As `LedgerStore.seen`."""
        if self.version() == 0:
            return ()
        with explained("read the ledger"):
            rows = self.connection.rows(
                f"SELECT at, high FROM {self.growth} WHERE table_name = %s AND at >= coalesce((SELECT max(at) "
                f"FROM {self.growth} WHERE table_name = %s AND at < %s), '0001-01-01') ORDER BY at",
                (table, table, _naive(since)),
            )
        return tuple(Seen(at.replace(tzinfo=UTC), high) for at, high in rows)

    def see(self, table: str, seen: Seen, since: datetime) -> None:
        """As `LedgerStore.see`."""
        with explained("write to the ledger"):
            self.connection.run(
                f"INSERT IGNORE INTO {self.growth} VALUES (%s, %s, %s)", (table, _naive(seen.at), seen.high)
            )
            row = self.connection.row(
                f"SELECT max(at) FROM {self.growth} WHERE table_name = %s AND at < %s", (table, _naive(since))
            )
            if row and row[0] is not None:
                self.connection.run(f"DELETE FROM {self.growth} WHERE table_name = %s AND at < %s", (table, row[0]))

    def last_clock(self) -> datetime | None:
        """As `LedgerStore.last_clock`."""
        if self.version() == 0:
            return None
        with explained("read the ledger"):
            row = self.connection.row(f"SELECT max(clock) FROM {self.table} WHERE is_machine_clock")
        return row[0].replace(tzinfo=UTC) if row and row[0] is not None else None


def _naive(moment: datetime) -> str:
    return moment.astimezone(UTC).replace(tzinfo=None).isoformat(sep=" ", timespec="microseconds")


def _written(row: tuple[Any, ...]) -> WrittenEntry:
    number, at, clock, is_machine, run, role, host, version, kind, table, partition, state, *rest = row
    statements, duration_ms, rows, lock_waits, note, details = rest
    entry = LedgerEntry(
        kind=kind,
        table=table,
        partition=partition,
        state=state,
        clock=clock.replace(tzinfo=UTC),
        is_machine_clock=bool(is_machine),
        run=run,
        statements=tuple(json.loads(statements)),
        duration_ms=duration_ms,
        rows=rows,
        lock_waits=lock_waits,
        note=note,
        details=json.loads(details) or None,
    )
    return WrittenEntry(number=number, at=at.replace(tzinfo=UTC), role=role, host=host, version=version, entry=entry)
