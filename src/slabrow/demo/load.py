"""Puts the demo's tables into a database, runs its workload there, and takes them away again."""

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from slabrow.core.values.errors import Refusal
from slabrow.demo.binary_copy import HEADER, TRAILER
from slabrow.demo.data import CHUNK, Demo, Table
from slabrow.demo.schema import KEYS, SCHEMA, TABLES
from slabrow.files.query_file import FileQuery
from slabrow.servers.postgresql.connection import Connection, explained

Tell = Callable[[str], None]
# One logged run stands for this many a day, so that the log is made in seconds.
_DAY_IN = 400


def refuse_existing(connection: Connection) -> None:
    """Raises Refusal when the demo's schema is there already: whose ever it is, it is not touched."""
    row = connection.execute("SELECT to_regnamespace(%s) IS NOT NULL", [SCHEMA]).fetchone()
    if row and row[0]:
        raise Refusal(
            f"schema {SCHEMA} exists in database {connection.info.dbname}",
            found="the demo touches only a schema that it made itself",
            fix="give another database, or drop that schema if it is of an earlier demo",
        )


def load(connection: Connection, demo: Demo, tell: Tell) -> None:
    """Makes the schema and loads it with binary COPY; tell hears what is being done."""
    with explained("load the demo data"):
        connection.execute(TABLES.encode())
        for table in demo.tables():
            copy_in(connection, table, tell)
        tell("building keys and indexes")
        for statement in KEYS.strip().split(";\n"):
            connection.execute(statement.encode())
        tell("analysing")
        for name in ("coop", "hive", "reading", "coop_event", "inspection"):
            connection.execute(f"VACUUM (ANALYZE) {SCHEMA}.{name}".encode())


def copy_in(connection: Connection, table: Table, tell: Tell) -> None:
    """Loads one table with binary COPY; tell hears how far it is."""
    rows = 0
    command = f"COPY {table.name} ({table.columns}) FROM STDIN (FORMAT BINARY)".encode()
    with connection.cursor() as cursor, cursor.copy(command) as copy:
        copy.write(HEADER)
        for chunk in _one_ahead(table.chunks):
            copy.write(chunk)
            rows += CHUNK
            tell(f"loading {table.name}: {rows:,} rows")
        copy.write(TRAILER)


def _one_ahead(chunks: Iterator[bytes]) -> Iterator[bytes]:
    """The same chunks, the next one made while this one is on its way: NumPy and the socket both let go of the GIL."""
    with ThreadPoolExecutor(1) as maker:
        coming = maker.submit(next, chunks, b"")
        while chunk := coming.result():
            coming = maker.submit(next, chunks, b"")
            yield chunk


def run_workload(connection: Connection, queries: tuple[FileQuery, ...], log: Path, copy: Path) -> int:
    """Runs the workload on a private server with its statements logged, and copies the log. Returns the runs.

    A query runs once for each few hundred times that it runs a day; those with parameters are sent with parameters.
    """
    connection.execute("SET log_min_duration_statement = 0")
    runs = 0
    with explained("run the demo workload"):
        for query in queries:
            for _ in range(max(1, round(query.weight / _DAY_IN))):
                values = [param.strip("'").encode() for param in query.params]
                connection.pgconn.exec_params(query.sql.encode(), values or None)
                runs += 1
    connection.execute("RESET log_min_duration_statement")
    copy.write_bytes(log.read_bytes())
    return runs


def unload(connection: Connection) -> None:
    """Drops what the demo made, one table a transaction, so that no lock table is exhausted however many there are."""
    with explained("drop the demo's schema"):
        names = connection.execute(
            """SELECT c.oid::regclass::text FROM pg_class c WHERE c.relnamespace = to_regnamespace(%s)
               AND c.relkind IN ('r', 'p') ORDER BY c.relispartition DESC""",
            [SCHEMA],
        ).fetchall()
        for (name,) in names:
            connection.execute(f"DROP TABLE IF EXISTS {name} CASCADE".encode())
        connection.execute(f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE".encode())
