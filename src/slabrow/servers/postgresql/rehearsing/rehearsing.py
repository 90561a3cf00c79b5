"""`servers/rehearsal_protocols.py` on one connection."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from psycopg import pq

from slabrow.core.rehearsal.fresh_values import PlayedRun
from slabrow.core.rehearsal.made_up_table import EnumerationFacts, MadeUpTable, MadeValues, SourceTable
from slabrow.core.rehearsal.outcome import ServerCounters
from slabrow.core.upkeep.elsewhere import Elsewhere
from slabrow.core.values.errors import ServerError
from slabrow.core.values.key_values import Value
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.rehearsing.mark import MARK

_DONE = (pq.ExecStatus.TUPLES_OK, pq.ExecStatus.COMMAND_OK)
_MOST_NAMED = 5


@dataclass(frozen=True, slots=True)
class PostgresRehearsing:
    """`Rehearsing`. prepared: the statements of this session, with their names."""

    connection: Connection
    prepared: dict[str, str] = field(default_factory=dict)

    def source(self, table: Name) -> SourceTable:
        """As `Rehearsing.source`."""
        from slabrow.servers.postgresql.rehearsing.source import source

        return source(self.connection, table)

    def used_by_others(self) -> tuple[str, ...]:
        """As `Rehearsing.used_by_others`."""
        with explained("look at the database of the rehearsal"):
            rows = self.connection.execute(
                """SELECT c.oid::regclass::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
                   WHERE c.relkind IN ('r', 'p', 'f', 'm') AND NOT c.relispartition
                     AND coalesce(obj_description(n.oid, 'pg_namespace'), '') <> %s
                     AND n.nspname NOT LIKE 'pg\\_%%' AND n.nspname <> 'information_schema' ORDER BY 1 LIMIT %s""",
                [MARK, _MOST_NAMED],
            ).fetchall()
        return tuple(name for (name,) in rows)

    def usual_schemas(self) -> tuple[str, ...]:
        """As `Rehearsing.usual_schemas`."""
        return ("public",)

    def remove_remains(self) -> None:
        """As `Rehearsing.remove_remains`."""
        from slabrow.servers.postgresql.execution import PostgresExecution

        with explained("look for an earlier rehearsal"):
            rows = self.connection.execute(
                """SELECT nspname FROM pg_namespace WHERE obj_description(oid, 'pg_namespace') = %s
                   AND pg_has_role(nspowner, 'USAGE')""",
                [MARK],
            ).fetchall()
        for (schema,) in rows:
            PostgresExecution(self.connection).drop_schema(schema)

    def claim_schema(self, name: str) -> None:
        """As `Rehearsing.claim_schema`."""
        from slabrow.servers.postgresql.rehearsing.making import claim_schema

        claim_schema(self.connection, name)

    def make(self, table: MadeUpTable, places: Mapping[Name, Name], tell: Callable[[float], None]) -> tuple[str, ...]:
        """As `Rehearsing.make`."""
        from slabrow.servers.postgresql.rehearsing.making import make

        return make(self.connection, table, places, tell)

    def counters(self) -> ServerCounters:
        """As `Rehearsing.counters`."""
        with explained("read the server's counters"):
            row = self.connection.execute(
                """SELECT blks_hit, blks_read, pg_wal_lsn_diff(pg_current_wal_insert_lsn(), '0/0')::bigint, temp_files,
                          temp_bytes
                   FROM pg_stat_database WHERE datname = current_database()"""
            ).fetchone()
        assert row is not None
        return ServerCounters(*map(int, row))

    def settle(self, table: Name) -> None:
        """As `Rehearsing.settle`."""
        with explained(f"vacuum {table}"):
            self.connection.execute(f"VACUUM {quoting.table(table)}".encode())

    def settle_all(self) -> None:
        """As `Rehearsing.settle_all`."""
        with explained("vacuum the tables"):
            self.connection.execute("VACUUM (ANALYZE)")

    def know_servers(self, others: Sequence[Elsewhere]) -> None:
        """As `Rehearsing.know_servers`."""
        from slabrow.servers.postgresql.rehearsing.spreading import know_servers

        know_servers(self.connection, others)

    def make_types(self, types: Iterable[EnumerationFacts]) -> None:
        """As `Rehearsing.make_types`."""
        from slabrow.servers.postgresql.rehearsing.making import make_type

        with explained("make types"):
            for each in types:
                make_type(self.connection, each)

    def set_aside(self, table: Name, old: Name) -> None:
        """As `Rehearsing.set_aside`."""
        with explained(f"rename {table}"):
            self.connection.execute(f"ALTER TABLE {quoting.table(table)} RENAME TO {identifier(old.table)}".encode())

    def fill(self, table: Name, old: Name) -> None:
        """As `Rehearsing.fill`."""
        from slabrow.servers.postgresql.rehearsing.spreading import fill

        fill(self.connection, table, old)

    def rewind(self, table: Name, old: Name) -> None:
        """As `Rehearsing.rewind`."""
        from slabrow.servers.postgresql.rehearsing.making import rewind

        rewind(self.connection, table, old)

    def insertion(self, name: Name, made: Sequence[MadeValues]) -> tuple[PlayedRun, ...]:
        """As `Rehearsing.insertion`."""
        from slabrow.servers.postgresql.rehearsing.making import value_texts

        columns = quoting.columns(tuple(each.column.facts.name for each in made))
        marks = ", ".join(f"${place}" for place in range(1, len(made) + 1))
        sql = f"INSERT INTO {quoting.table(name)} ({columns}) VALUES ({marks})"
        return tuple(PlayedRun(sql, tuple(values)) for values in value_texts(made))

    def removal(self, name: Name, column: str, before: Value) -> tuple[str, ...]:
        """As `Rehearsing.removal`."""
        table = quoting.table(name)
        return f"DELETE FROM {table} WHERE {identifier(column)} < {quoting.value(before)}", f"VACUUM {table}"

    def play(self, run: PlayedRun) -> None:
        """As `Rehearsing.play`."""
        if not run.params:
            self._send(run.sql)
            return
        name = self.prepared.get(run.sql)
        if name is None:
            name = f"slabrow_played_{len(self.prepared)}"
            self._send(f"PREPARE {name} AS {run.sql}")
            self.prepared[run.sql] = name
        self._send(f"EXECUTE {name}({', '.join(run.params)})")

    def _send(self, sql: str) -> None:
        """The rows come in and are let go of as they are: to read them would be work of the client's own."""
        result = self.connection.pgconn.exec_(sql.encode())
        if result.status not in _DONE:
            raise ServerError("a statement failed", found=result.error_message.decode(errors="replace").strip())

    def set_zone(self, zone: str) -> None:
        """As `Rehearsing.set_zone`."""
        with explained("set the time zone"):
            self.connection.execute("SELECT set_config('TimeZone', %s, false)", [zone])

    def total_bytes(self, tables: Iterable[Name]) -> int:
        """As `Rehearsing.total_bytes`."""
        with explained("measure tables"):
            row = self.connection.execute(
                """WITH RECURSIVE part AS (
                       SELECT to_regclass(name)::oid AS id FROM unnest(%s::text[]) t (name)
                       UNION SELECT i.inhrelid FROM part JOIN pg_inherits i ON i.inhparent = part.id)
                   SELECT coalesce(sum(pg_total_relation_size(id)), 0)::bigint FROM part""",
                [[quoting.table(name) for name in tables]],
            ).fetchone()
        return int(row[0]) if row else 0
