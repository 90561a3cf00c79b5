"""The records of long work on tables: where they lie, and how they are read. The work itself writes them with its SQL.

They lie beside the ledger, in the same database as the tables: what a step does and the mark that it is done are one
transaction, so a kill at any moment leaves either both or none.
"""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.live.names import incoming_name
from slabrow.servers.postgresql.quoting import identifier, literal


@dataclass(frozen=True, slots=True)
class Reshapings:
    """`protocols.ReshapingStore` in one schema."""

    connection: Connection
    schema: str

    @property
    def _table(self) -> str:
        return f"{identifier(self.schema)}.reshaping"

    @property
    def has_scripts(self) -> bool:
        """As `ReshapingStore.has_scripts`."""
        return True

    def beginning(
        self, job: int, *, kind: str, way: str, table: Name, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> tuple[Step, ...]:
        """As `ReshapingStore.beginning`."""
        from slabrow.servers.postgresql.ledger import Ledger

        words = (kind, way, str(table), str(old_name), layout, json.dumps(details, ensure_ascii=False))
        record = (
            f"INSERT INTO {self._table} (job, kind, way, table_name, old_name, layout, details) OVERRIDING SYSTEM "
            f"VALUE VALUES ({job:d}, {', '.join(map(literal, words))})",
            f"SELECT setval(pg_get_serial_sequence({literal(self._table)}, 'job'), max(job)) FROM {self._table}",
        )
        tables = Ledger(self.connection, self.schema).preparing()
        return (
            Step(
                name="make the records",
                transaction=Transaction("make the records", tuple(map(Statement, tables))),
                is_done=f"SELECT to_regclass({literal(self._table)}) IS NOT NULL",
            ),
            Step(
                name="make the record",
                transaction=Transaction("make the record", tuple(map(Statement, record))),
                is_done=f"SELECT EXISTS (SELECT FROM {self._table} WHERE job = {job:d})",
            ),
        )

    def over(self, job: int, *, once_swapped: bool) -> str:
        """As `ReshapingStore.over`."""
        condition = f"state <> {literal(ReshapingState.BEGUN)}" if once_swapped else "ended IS NOT NULL"
        return f"SELECT EXISTS (SELECT FROM {self._table} WHERE job = {job:d} AND {condition})"

    def find(self, table: Name, *, ended: bool = False) -> Reshaping | None:
        """The record of a table's work that has not ended; with `ended` the latest that has."""
        with explained("read the records of long work"):
            if self.connection.execute("SELECT to_regclass(%s)", [self._table]).fetchall()[0][0] is None:
                return None
            which = "IS NOT NULL" if ended else "IS NULL"
            row = self.connection.execute(
                f"""SELECT job, kind, table_name, way, state, layout, old_name, began, compared, longest_lock_ms,
                           details,
                           (SELECT jsonb_object_agg(what, extract(epoch FROM at))
                            FROM {self._table}_mark m WHERE m.job = r.job)
                    FROM {self._table} r WHERE table_name = %s AND ended {which}
                    ORDER BY job DESC LIMIT 1""".encode(),
                [str(table)],
            ).fetchone()
        return None if row is None else _record(row)

    def open_jobs(self) -> tuple[Reshaping, ...]:
        """All records of work that has not ended."""
        with explained("read the records of long work"):
            if self.connection.execute("SELECT to_regclass(%s)", [self._table]).fetchall()[0][0] is None:
                return ()
            rows = self.connection.execute(
                f"""SELECT job, kind, table_name, way, state, layout, old_name, began, compared, longest_lock_ms,
                           details,
                           NULL
                    FROM {self._table} WHERE ended IS NULL ORDER BY job""".encode()
            ).fetchall()
        return tuple(map(_record, rows))

    def of_partition(self, name: Name) -> Reshaping | None:
        """The record of open work that divides this partition anew, or has done so."""
        spelled = [name.schema, name.table]
        for record in reversed(self.open_jobs()):
            if any(each["name"] == spelled for each in record.details.get("sources", ())):
                return self.find(record.table)
        return None

    def begin(
        self, table: Name, *, kind: str, way: str, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> int:
        """Makes the record. Returns its number. Raises Refusal when another session has made one at the same time."""
        with explained("write down what is begun"):
            row = self.connection.execute(
                f"""INSERT INTO {self._table} (kind, way, table_name, layout, old_name, details)
                    VALUES (%s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING RETURNING job""".encode(),
                [kind, way, str(table), layout, str(old_name), json.dumps(details)],
            ).fetchone()
        if row is None:
            raise Refusal(f"another run has just begun to change {table}", fix="look at it with --status")
        return int(row[0])

    def set_details(self, job: int, details: Mapping[str, Any]) -> None:
        """Writes down a plan that was made anew."""
        with explained("write down what is begun"):
            self.connection.execute(
                f"UPDATE {self._table} SET details = %s WHERE job = %s".encode(), [json.dumps(details), job]
            )

    def close(self, job: int, state: str) -> None:
        """Says how work has ended of which nothing is left."""
        with explained("write down how it ended"):
            self.connection.execute(
                f"UPDATE {self._table} SET state = %s, ended = clock_timestamp() WHERE job = %s".encode(), [state, job]
            )

    def next_number(self) -> int:
        """The number that a record would get: what a preview shows."""
        with explained("read the records of long work"):
            if self.connection.execute("SELECT to_regclass(%s)", [self._table]).fetchall()[0][0] is None:
                return 1
            return int(
                self.connection.execute(f"SELECT coalesce(max(job), 0) + 1 FROM {self._table}".encode()).fetchall()[0][
                    0
                ]
            )

    def note_lock(self, job: int, held_ms: float) -> None:
        """Keeps the longest time for which a strong lock was held."""
        with explained("write down how long the lock was held"):
            self.connection.execute(
                f"UPDATE {self._table} SET longest_lock_ms = greatest(longest_lock_ms, %s) WHERE job = %s".encode(),
                [held_ms, job],
            )

    def progress(self, job: int) -> tuple[int, int, int]:
        """(pieces done, pieces, rows copied)."""
        with explained("read how far the copy is"):
            row = self.connection.execute(
                f"""SELECT count(*) FILTER (WHERE is_done), count(*), coalesce(sum(row_count), 0)::bigint
                    FROM {self._table}_piece WHERE job = %s""".encode(),
                [job],
            ).fetchone()
        assert row is not None
        return row[0], row[1], row[2]

    def rows_total(self, tables: Sequence[Name]) -> int:
        """The planner's estimate of the rows in these tables; of those never analysed by their bytes and the widths of
        their columns, as the planner has it (get_rel_data_width, plancat.c; 32 bytes for those of any length).
        """
        with explained("read how many rows there are"):
            row = self.connection.execute(
                "SELECT coalesce(sum(CASE WHEN reltuples >= 0 THEN reltuples ELSE pg_relation_size(oid) / "
                "(28 + coalesce((SELECT sum(CASE WHEN attlen > 0 THEN attlen ELSE 32 END) FROM pg_attribute "
                "WHERE attrelid = pg_class.oid AND attnum > 0 AND NOT attisdropped), 0)) END), 0)::bigint "
                "FROM pg_class "
                "WHERE oid = ANY (SELECT to_regclass(name) FROM unnest(%s::text[]) name)",
                [[str(table) for table in tables]],
            ).fetchone()
        assert row is not None
        return int(row[0])

    def changes_waiting(self, job: int, log: str) -> int:
        """How many changes a log holds; none where it is gone. log: `log` or `back`."""
        name = f"{identifier(self.schema)}.{log}_{job}"
        with explained("count the changes that wait"):
            if self.connection.execute("SELECT to_regclass(%s)", [name]).fetchall()[0][0] is None:
                return 0
            return int(
                self.connection.execute(
                    f"SELECT count(*) FROM {name} "
                    f"WHERE seq > (SELECT floor FROM {self._table} WHERE job = %s)".encode(),
                    [job],
                ).fetchall()[0][0]
            )

    def pressure(self) -> tuple[int, int]:
        """(bytes that the slowest replica is behind, bytes of WAL that a replication slot keeps); 0 where not known."""
        with explained("see how the replicas follow"):
            row = self.connection.execute(
                """SELECT coalesce((SELECT max(pg_wal_lsn_diff(pg_current_wal_lsn(), replay_lsn))
                                    FROM pg_stat_replication), 0)::bigint,
                          coalesce((SELECT max(pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn))
                                    FROM pg_replication_slots), 0)::bigint"""
            ).fetchone()
        assert row is not None
        return int(row[0]), int(row[1])

    def total_of(self, job: int) -> int:
        """The planner's estimate of the rows when the copy began; 0 where not known."""
        with explained("read how many rows there are"):
            row = self.connection.execute(
                f"SELECT coalesce(rows_total, 0) FROM {self._table} WHERE job = %s".encode(), [job]
            ).fetchone()
        return int(row[0]) if row else 0

    def begin_again(self, record: Reshaping) -> None:
        """Removes what a run has made that was killed before anything followed the table."""
        incoming = incoming_name(record.table)
        with explained("remove what a killed run has left"):
            # The new table is Slabrow's own only where the record says that it was made.
            made = self.connection.execute(
                f"SELECT EXISTS (SELECT FROM {self._table}_mark WHERE job = %s AND what = 'made')".encode(),
                [record.job],
            ).fetchall()[0][0]
            if not made:
                return
            leaves = self.connection.execute(
                """SELECT format('%%I.%%I', n.nspname, c.relname) FROM pg_partition_tree(to_regclass(%s)) t
                   JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace
                   ORDER BY t.level DESC""",
                [str(incoming)],
            ).fetchall()
            for (leaf,) in leaves:
                self.connection.execute(f"DROP TABLE IF EXISTS {leaf}".encode())
            schema = identifier(self.schema)
            self.connection.execute(
                f"BEGIN; DROP FUNCTION IF EXISTS {schema}.log_{record.job}(); "
                f"DROP TABLE IF EXISTS {schema}.log_{record.job}; "
                f"DELETE FROM {self._table}_mark WHERE job = {record.job:d}; COMMIT".encode()
            )

    def rights_missing(self, table: Name, others: Sequence[Name], owned: Sequence[Name]) -> tuple[str, ...]:
        """As `ReshapingStore.rights_missing`."""
        with explained("read the rights of this role"):
            rows = self.connection.execute(
                """SELECT CASE WHEN NOT pg_has_role(c.relowner, 'USAGE')
                               THEN format('to be the owner of %%s, or: GRANT %%I TO %%I', c.oid::regclass,
                                           pg_get_userbyid(c.relowner), current_user) END,
                          CASE WHEN NOT has_schema_privilege(c.relnamespace, 'CREATE')
                               THEN format('GRANT CREATE ON SCHEMA %%I TO %%I', n.nspname, current_user) END,
                          CASE WHEN to_regnamespace(%(schema)s) IS NULL
                                    AND NOT has_database_privilege(current_database(), 'CREATE')
                               THEN format('GRANT CREATE ON DATABASE %%I TO %%I', current_database(), current_user)
                               WHEN to_regnamespace(%(schema)s) IS NOT NULL
                                    AND NOT has_schema_privilege(to_regnamespace(%(schema)s), 'CREATE, USAGE')
                               THEN format('GRANT USAGE, CREATE ON SCHEMA %%s TO %%I', %(schema)s, current_user) END
                   FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = to_regclass(%(table)s)
                   UNION ALL
                   SELECT CASE WHEN NOT has_table_privilege(o.oid, 'REFERENCES')
                               THEN format('GRANT REFERENCES ON %%s TO %%I', o.oid::regclass, current_user) END, NULL,
                               NULL
                   FROM pg_class o WHERE o.oid = ANY (SELECT to_regclass(name) FROM unnest(%(others)s::text[]) name)
                   UNION ALL
                   SELECT CASE WHEN NOT pg_has_role(o.relowner, 'USAGE')
                               THEN format('to be the owner of %%s too, or: GRANT %%I TO %%I', o.oid::regclass,
                                           pg_get_userbyid(o.relowner), current_user) END, NULL, NULL
                   FROM pg_class o WHERE o.oid = ANY (SELECT to_regclass(name) FROM unnest(%(owned)s::text[]) name)""",
                {
                    "schema": identifier(self.schema),
                    "table": str(table),
                    "others": [str(other) for other in others],
                    "owned": [str(each) for each in owned],
                },
            ).fetchall()
        return tuple(dict.fromkeys(right for row in rows for right in row if right is not None))


def _record(row: tuple[Any, ...]) -> Reshaping:
    job, kind, table, way, state, layout, old_name, began, compared, longest, details, marks = row
    from datetime import UTC, datetime

    return Reshaping(
        job=job,
        kind=kind,
        table=parse_name(table),
        way=way,
        state=state,
        layout=layout,
        old_name=parse_name(old_name),
        began=began,
        marks={what: datetime.fromtimestamp(float(at), UTC) for what, at in (marks or {}).items()},
        compared=tuple((str(leaf), int(old), int(new)) for leaf, old, new, *_ in compared or ()),
        longest_lock_ms=longest,
        details=details,
    )


def marked(schema: str, job: int, what: str) -> str:
    """The statement that says that something is done."""
    marks = f"{identifier(schema)}.reshaping_mark"
    return f"INSERT INTO {marks} (job, what) VALUES ({job:d}, {literal(what)}) ON CONFLICT DO NOTHING"


def is_marked(schema: str, job: int, what: str) -> str:
    """The query for that."""
    marks = f"{identifier(schema)}.reshaping_mark"
    return f"SELECT EXISTS (SELECT FROM {marks} WHERE job = {job:d} AND what = {literal(what)})"
