"""The ledger: a table in the database that holds what was done, when, by whom, with which SQL and outcome (N45)."""

import json
import socket
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from slabrow import __version__
from slabrow.core.upkeep.ledger_entries import LedgerEntry, WrittenEntry
from slabrow.core.upkeep.number_growth import Seen
from slabrow.core.values.errors import ServerError
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.reshaping_tables import TABLES as RESHAPING_TABLES
from slabrow.servers.postgresql.write.sweeping import ROWS_SETTING

_VERSION = 4  # of the table; `prepare` brings an older one up to it
_WITH_GROWTH = 2  # the version that brought the growth of keys
_MARK = "slabrow ledger, version "
_OLD_KINDS = {"hold_ended": "unhold"}  # as older entries have it
_NO_LEDGER = 'ask for: GRANT CREATE ON DATABASE … TO the role, or set schema = "" under [ledger] in the layout file'

# One step for each version, from the one before.
_UPGRADES: dict[int, tuple[str, ...]] = {
    1: (
        """CREATE TABLE {table} (
            entry bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
            at timestamptz NOT NULL DEFAULT clock_timestamp(),
            clock timestamptz NOT NULL,
            is_machine_clock boolean NOT NULL,
            run uuid NOT NULL,
            role name NOT NULL DEFAULT session_user,
            host text NOT NULL,
            version text NOT NULL,
            kind text NOT NULL,
            table_name text NOT NULL,
            partition_name text NOT NULL,
            state text NOT NULL,
            statements text[] NOT NULL,
            duration_ms double precision,
            row_count bigint,
            lock_waits integer NOT NULL,
            note text,
            details jsonb NOT NULL)""",
        "CREATE INDEX ON {table} (table_name, partition_name)",
        "CREATE INDEX ON {table} (at)",
    ),
    2: (
        """CREATE TABLE {growth} (
            table_name text NOT NULL,
            at timestamptz NOT NULL,
            high bigint NOT NULL,
            PRIMARY KEY (table_name, at))""",
    ),
    # Every run asks for these first, and must find them as fast after years.
    3: ("CREATE INDEX ON {table} (clock) WHERE is_machine_clock",),
    4: RESHAPING_TABLES,
}


@dataclass(slots=True)
class Ledger:
    """The ledger in one schema. Reading a missing ledger finds no entries; writing creates it."""

    connection: Connection
    schema: str
    _found: int | None = None  # the version, once it has been looked for

    @property
    def table(self) -> str:
        """The ledger's table as SQL."""
        return f"{identifier(self.schema)}.ledger"

    @property
    def growth(self) -> str:
        """The table of the greatest keys that were seen, for keys of whole numbers."""
        return f"{identifier(self.schema)}.growth"

    def version(self) -> int:
        """Of the table in the database; 0 when there is none. Raises ServerError when it is not ours, or newer."""
        if self._found is None:
            self._found = self._look()
        return self._found

    def _look(self) -> int:
        with explained("look for the ledger"):
            row = self.connection.execute(
                "SELECT obj_description(c.oid, 'pg_class') FROM pg_class c JOIN pg_namespace n "
                "ON n.oid = c.relnamespace WHERE n.nspname = %s AND c.relname = 'ledger'",
                [self.schema],
            ).fetchone()
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
        """Makes the ledger, or brings an older one up to date. Raises ServerError with what to do without the right."""
        held = self.version()
        if held == _VERSION:
            return
        try:
            with explained("make the ledger"), self.connection.transaction():
                # Two that begin at the same moment: the second one finds it made.
                self.connection.execute("SELECT pg_advisory_xact_lock(hashtextextended('slabrow ledger', 0))")
                held = self._look()
                if (
                    self.connection.execute("SELECT to_regnamespace(%s)", [identifier(self.schema)]).fetchall()[0][0]
                    is None
                ):
                    self.connection.execute(f"CREATE SCHEMA {identifier(self.schema)}".encode())
                for sql in self._upgrading(held):
                    self.connection.execute(sql.encode())
            self._found = _VERSION
        except ServerError as error:
            if held:
                problem = f"the ledger of version {held} cannot be brought up to version {_VERSION}"
                raise ServerError(
                    problem, found=error.found, fix=f"run it once as the owner of {self.table}"
                ) from error
            raise ServerError("there is no ledger, and none can be made", found=error.found, fix=_NO_LEDGER) from error

    def _upgrading(self, held: int) -> Iterator[str]:
        names = {"table": self.table, "growth": self.growth, "schema": identifier(self.schema)}
        for version in range(held + 1, _VERSION + 1):
            yield from (sql.format(**names) for sql in _UPGRADES[version])
            yield f"COMMENT ON TABLE {self.table} IS {literal(f'{_MARK}{version}')}"

    def preparing(self) -> tuple[str, ...]:
        """The statements of `prepare`, for a script; none where the ledger is up to date."""
        held = self.version()
        made = (f"CREATE SCHEMA IF NOT EXISTS {identifier(self.schema)}",) if held == 0 else ()
        return (*made, *self._upgrading(held))

    def insertion(self, entry: LedgerEntry, *, counts_moved: bool = False, before_ms: float = 0.0) -> str:
        """The INSERT for an entry. Without a duration, the time since its transaction began counts, and `before_ms`.

        counts_moved  its rows are those that the sweep of the same transaction moved
        """
        counted = f"current_setting({literal(ROWS_SETTING)})::bigint" if counts_moved else None
        took = f"{before_ms:.3f} + extract(epoch FROM clock_timestamp() - transaction_timestamp()) * 1000"
        values = (
            f"{literal(entry.clock.isoformat())}, {entry.is_machine_clock}, {literal(entry.run)}, "
            f"{literal(socket.gethostname())}, {literal(__version__)}, {literal(entry.kind)}, {literal(entry.table)}, "
            f"{literal(entry.partition)}, {literal(entry.state)}, "
            f"ARRAY[{', '.join(map(literal, entry.statements))}]::text[], "
            f"{took if entry.duration_ms is None else round(entry.duration_ms, 3)}, "
            f"{counted or ('NULL' if entry.rows is None else entry.rows)}, "
            f"greatest({entry.lock_waits}, "
            "coalesce(nullif(current_setting('slabrow.lock_waits', true), ''), '0')::int), "
            f"{'NULL' if entry.note is None else literal(entry.note)}, "
            f"{literal(json.dumps(entry.details or {}, ensure_ascii=False))}"
        )
        return (
            f"INSERT INTO {self.table} (clock, is_machine_clock, run, host, version, kind, table_name, partition_name, "
            f"state, statements, duration_ms, row_count, lock_waits, note, details) VALUES ({values})"
        )

    def begin(self, entry: LedgerEntry) -> int:
        """Writes an entry of what is about to begin. Returns its number, for `end`."""
        with explained("write to the ledger"):
            row = self.connection.execute((self.insertion(entry) + " RETURNING entry").encode()).fetchone()
        assert row is not None
        return int(row[0])

    def ending(self, number: int, *, rows: int | None = None) -> str:
        """The UPDATE that says `done` of an entry that was begun, in the transaction that does it."""
        return (
            f"UPDATE {self.table} SET state = 'done', row_count = {'NULL' if rows is None else rows}, "
            "duration_ms = extract(epoch FROM clock_timestamp() - at) * 1000, "
            "lock_waits = coalesce(nullif(current_setting('slabrow.lock_waits', true), ''), '0')::int "
            f"WHERE entry = {number:d}"
        )

    def end(self, number: int, state: str, duration_ms: float, lock_waits: int, note: str | None) -> None:
        """Says how that ended."""
        with explained("write to the ledger"):
            self.connection.execute(
                f"UPDATE {self.table} SET state = %s, duration_ms = %s, lock_waits = %s, note = %s "
                "WHERE entry = %s".encode(),
                [state, duration_ms, lock_waits, note, number],
            )

    def write(self, entry: LedgerEntry) -> None:
        """Writes one entry by itself."""
        with explained("write to the ledger"):
            self.connection.execute(self.insertion(entry).encode())

    def read(
        self,
        *,
        table: str | None = None,
        kinds: Sequence[str] = (),
        since: datetime | None = None,
        most: int | None = None,
        state: str | None = None,
    ) -> tuple[WrittenEntry, ...]:
        """Entries, the newest first; nothing when there is no ledger."""
        if self.version() == 0:
            return ()
        older = [_OLD_KINDS[kind] for kind in kinds if kind in _OLD_KINDS]
        with explained("read the ledger"):
            rows = self.connection.execute(
                f"""SELECT entry, at, role::text, host, version, kind, table_name, partition_name, state, clock,
                           is_machine_clock, run::text, statements, duration_ms, row_count, lock_waits, note, details
                    FROM {self.table}
                    WHERE (%(table)s::text IS NULL OR table_name = %(table)s)
                      AND (%(kinds)s::text[] = '{{}}' OR kind = ANY (%(kinds)s))
                      AND (%(since)s::timestamptz IS NULL OR at >= %(since)s)
                      AND (%(state)s::text IS NULL OR state = %(state)s)
                    ORDER BY entry DESC LIMIT %(most)s""".encode(),
                {
                    "table": table,
                    "kinds": [*kinds, *older],
                    "since": since,
                    "most": most,
                    "state": state,
                },
            ).fetchall()
        return tuple(_written(row) for row in rows)

    def holds(self, table: str, moment: datetime) -> dict[str, WrittenEntry]:
        """The partitions of a table that are under hold at a moment: the latest word on each counts."""
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
        """The greatest keys of a table that were seen since then and the last one before, the oldest first."""
        if self.version() < _WITH_GROWTH:
            return ()
        with explained("read the ledger"):
            rows = self.connection.execute(
                f"SELECT at, high FROM {self.growth} WHERE table_name = %s AND at >= {self._first()} "
                "ORDER BY at".encode(),
                [table, table, since],
            ).fetchall()
        return tuple(Seen(*row) for row in rows)

    def see(self, table: str, seen: Seen, since: datetime) -> None:
        """Keeps the greatest key of a table as it is now, and forgets those from before `since`."""
        with explained("write to the ledger"), self.connection.transaction():
            self.connection.execute(
                f"INSERT INTO {self.growth} VALUES (%s, %s, %s) ON CONFLICT DO NOTHING".encode(),
                [table, seen.at, seen.high],
            )
            self.connection.execute(
                f"DELETE FROM {self.growth} WHERE table_name = %s AND at < {self._first()}".encode(),
                [table, table, since],
            )

    def _first(self) -> str:
        """The last moment of a table before a moment: from there on growth is known."""
        return f"coalesce((SELECT max(at) FROM {self.growth} WHERE table_name = %s AND at < %s), '-infinity')"

    def last_clock(self) -> datetime | None:
        """The latest time that a machine's clock showed in any entry."""
        if self.version() == 0:
            return None
        with explained("read the ledger"):
            row = self.connection.execute(
                f"SELECT max(clock) FROM {self.table} WHERE is_machine_clock".encode()
            ).fetchone()
        return row[0] if row else None


def _written(row: tuple[Any, ...]) -> WrittenEntry:
    number, at, role, host, version, kind, table, partition, state, clock, is_machine_clock, run, *rest = row
    statements, duration_ms, rows, lock_waits, note, details = rest
    entry = LedgerEntry(
        kind=next((new for new, old in _OLD_KINDS.items() if old == kind), kind),
        table=table,
        partition=partition,
        state=state,
        clock=clock,
        is_machine_clock=is_machine_clock,
        run=run,
        statements=tuple(statements),
        duration_ms=duration_ms,
        rows=rows,
        lock_waits=lock_waits,
        note=note,
        details=details,
    )
    return WrittenEntry(number=number, at=at, role=role, host=host, version=version, entry=entry)
