"""The records of long work on tables, in the ledger's database. The steps of the work write most of them.

Whether names have been exchanged is read from the tables themselves: a kill may come between the exchange and the
record of it.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from pymysql import err

from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.live.work import incoming_name
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.quoting import table as quoted
from slabrow.servers.mariadb.read import catalogue

_DUPLICATE = 1062
_COLUMNS = "job, kind, table_name, way, state, layout, old_name, began, compared, longest_lock_ms, details"


@dataclass(frozen=True, slots=True)
class MariaReshapings:
    """`protocols.ReshapingStore`."""

    connection: Connection
    schema: str

    @property
    def _table(self) -> str:
        return f"{identifier(self.schema)}.reshaping"

    def _is_there(self) -> bool:
        return catalogue.exists(self.connection, Name(self.schema, "reshaping"))

    @property
    def has_scripts(self) -> bool:
        """As `ReshapingStore.has_scripts`."""
        return False

    def beginning(
        self, job: int, *, kind: str, way: str, table: Name, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> tuple[Step, ...]:
        """As `ReshapingStore.beginning`."""
        from slabrow.servers.mariadb.write.writer import NO_SCRIPT

        raise Refusal("long work on this server is not written as a script", fix=NO_SCRIPT)

    def over(self, job: int, *, once_swapped: bool) -> str:
        """As `ReshapingStore.over`."""
        condition = f"state <> '{ReshapingState.BEGUN}'" if once_swapped else "ended IS NOT NULL"
        return f"SELECT EXISTS (SELECT 1 FROM {self._table} WHERE job = {job:d} AND {condition})"

    def find(self, table: Name, *, ended: bool = False) -> Reshaping | None:
        """As `ReshapingStore.find`."""
        full = catalogue.full_name(self.connection, table)
        with explained("read the records of long work"):
            if not self._is_there():
                return None
            which = "IS NOT NULL" if ended else "IS NULL"
            row = self.connection.row(
                f"SELECT {_COLUMNS} FROM {self._table} WHERE table_name = %s AND ended {which} "
                "ORDER BY job DESC LIMIT 1",
                (str(full),),
            )
            if row is None:
                return None
            marks = self.connection.rows(f"SELECT what, at FROM {self._table}_mark WHERE job = %s", (row[0],))
            found = _record(row, {str(what): at.replace(tzinfo=UTC) for what, at in marks})
            return found if ended else self._as_it_is(found)

    def _as_it_is(self, record: Reshaping) -> Reshaping:
        """The state by the tables, where a kill came before the record of it."""
        is_old = catalogue.exists(self.connection, record.old_name)
        is_incoming = catalogue.exists(self.connection, incoming_name(record.table))
        state = record.state
        if state == ReshapingState.BEGUN and is_old and not is_incoming and "watched" in record.marks:
            state = ReshapingState.SWAPPED
        elif state == ReshapingState.SWAPPED and not is_old and is_incoming:
            state = ReshapingState.UNDONE
        if state == record.state:
            return record
        self.connection.run(f"UPDATE {self._table} SET state = %s WHERE job = %s", (state, record.job))
        mark = "swapped" if state == ReshapingState.SWAPPED else "undone"
        self.connection.run(f"INSERT IGNORE INTO {self._table}_mark (job, what) VALUES (%s, %s)", (record.job, mark))
        found = self.find(record.table)
        assert found is not None
        return found

    def open_jobs(self) -> tuple[Reshaping, ...]:
        """As `ReshapingStore.open_jobs`."""
        with explained("read the records of long work"):
            if not self._is_there():
                return ()
            rows = self.connection.rows(f"SELECT {_COLUMNS} FROM {self._table} WHERE ended IS NULL ORDER BY job")
        return tuple(_record(row, {}) for row in rows)

    def of_partition(self, name: Name) -> Reshaping | None:
        """As `ReshapingStore.of_partition`."""
        for record in self.open_jobs():
            details = record.details
            named = [each["name"] for each in details.get("sources", ())]
            named += [[name.schema, each["name"]] for each in details.get("planned", ())] if named else []
            if [name.schema, name.table] in named and details["parent"][0] == name.schema:
                return record
        return None

    def begin(
        self, table: Name, *, kind: str, way: str, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> int:
        """As `ReshapingStore.begin`."""
        try:
            self.connection.run(
                f"INSERT INTO {self._table} (kind, way, table_name, layout, old_name, details) "
                "VALUES (%s, %s, %s, %s, %s, %s)",
                (kind, way, str(table), layout, str(old_name), json.dumps(details)),
            )
        except err.IntegrityError as error:
            raise Refusal(f"another run has just begun to change {table}", fix="look at it with --status") from error
        row = self.connection.row("SELECT LAST_INSERT_ID()")
        return int(row[0]) if row else 0

    def set_details(self, job: int, details: Mapping[str, Any]) -> None:
        """As `ReshapingStore.set_details`."""
        with explained("write down what is begun"):
            self.connection.run(f"UPDATE {self._table} SET details = %s WHERE job = %s", (json.dumps(details), job))

    def close(self, job: int, state: str) -> None:
        """As `ReshapingStore.close`."""
        with explained("write down what has ended"):
            self.connection.run(
                f"UPDATE {self._table} SET state = %s, ended = utc_timestamp(6) WHERE job = %s", (state, job)
            )

    def next_number(self) -> int:
        """As `ReshapingStore.next_number`."""
        if not self._is_there():
            return 1
        row = self.connection.row(f"SELECT coalesce(max(job), 0) + 1 FROM {self._table}")
        return int(row[0]) if row else 1

    def note_lock(self, job: int, held_ms: float) -> None:
        """As `ReshapingStore.note_lock`."""
        self.connection.run(
            f"UPDATE {self._table} SET longest_lock_ms = greatest(longest_lock_ms, %s) WHERE job = %s", (held_ms, job)
        )

    def progress(self, job: int) -> tuple[int, int, int]:
        """As `ReshapingStore.progress`. The pieces are those that the rows done so far would make of all rows."""
        if not catalogue.exists(self.connection, Name(self.schema, f"at_{job}")):
            return 0, 0, 0
        row = self.connection.row(f"SELECT row_count, is_done FROM {identifier(self.schema)}.{identifier(f'at_{job}')}")
        rows, is_done = (int(row[0]), bool(row[1])) if row else (0, False)
        total = max(self.total_of(job), rows, 1)
        pieces = max(1, total // 10_000)
        return (pieces if is_done else min(pieces - 1, rows // 10_000)), pieces, rows

    def rows_total(self, tables: Sequence[Name]) -> int:
        """As `ReshapingStore.rows_total`."""
        if not tables:
            return 0
        row = self.connection.row(
            "SELECT coalesce(sum(table_rows), 0) FROM information_schema.tables WHERE (table_schema, table_name) IN %s",
            (tuple((each.schema or self.connection.database, each.table) for each in tables),),
        )
        return int(row[0]) if row else 0

    def changes_waiting(self, job: int, log: str) -> int:
        """As `ReshapingStore.changes_waiting`."""
        name = Name(self.schema, f"{log}_{job}")
        if not catalogue.exists(self.connection, name):
            return 0
        row = self.connection.row(f"SELECT count(*) FROM {quoted(name)}")
        return int(row[0]) if row else 0

    def pressure(self) -> tuple[int, int]:
        """As `ReshapingStore.pressure`: how far replicas are behind is not known on their source."""
        return 0, 0

    def rights_missing(self, table: Name, others: Sequence[Name], owned: Sequence[Name]) -> tuple[str, ...]:
        """As `ReshapingStore.rights_missing`: the rights that this user's own grants do not show."""
        wanted = ("SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX", "TRIGGER", "LOCK TABLES")
        with explained("read the rights"):
            grants = [str(row[0]) for row in self.connection.rows("SHOW GRANTS")]
        database = table.schema or self.connection.database
        fitting = [
            each.upper()
            for each in grants
            if " ON *.* " in each or f" ON `{database}`.* " in each or f" ON `{database}`.`{table.table}` " in each
        ]
        if any("ALL PRIVILEGES" in each for each in fitting):
            return ()
        held = " ".join(fitting)
        missing = [each for each in wanted if each not in held]
        return (f"GRANT {', '.join(missing)} ON {identifier(database)}.* TO {self.role}",) if missing else ()

    @property
    def role(self) -> str:
        """The account that acts."""
        return catalogue.current_role(self.connection)

    def total_of(self, job: int) -> int:
        """As `ReshapingStore.total_of`."""
        row = self.connection.row(f"SELECT coalesce(rows_total, 0) FROM {self._table} WHERE job = %s", (job,))
        return int(row[0]) if row else 0

    def begin_again(self, record: Reshaping) -> None:
        """As `ReshapingStore.begin_again`."""
        with explained("begin again"):
            self.connection.run(f"DELETE FROM {self._table}_mark WHERE job = %s", (record.job,))
            self.connection.run(f"DROP TABLE IF EXISTS {quoted(incoming_name(record.table))}")
            for name in (f"log_{record.job}", f"back_{record.job}", f"at_{record.job}"):
                self.connection.run(f"DROP TABLE IF EXISTS {quoted(Name(self.schema, name))}")


def _record(row: tuple[Any, ...], marks: Mapping[str, datetime]) -> Reshaping:
    job, kind, table, way, state, layout, old_name, began, compared, longest, details = row
    rows = json.loads(compared) if compared else []
    return Reshaping(
        job=int(job),
        kind=kind,
        table=parse_name(table),
        way=way,
        state=state,
        layout=layout,
        old_name=parse_name(old_name),
        began=began.replace(tzinfo=UTC),
        marks=marks,
        compared=tuple((str(each[0]), int(each[1]), int(each[2])) for each in rows),
        longest_lock_ms=float(longest),
        details=json.loads(details),
    )
