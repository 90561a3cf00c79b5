"""Puts the demo's tables into a database, runs its workload there, and takes them away again."""

import time
from collections.abc import Iterator
from pathlib import Path

from slabrow.core.upkeep.statements import Load
from slabrow.core.values.errors import Refusal
from slabrow.demo.data import CHUNK, Demo, Table
from slabrow.demo.schema import KEYS, SCHEMA, TABLES
from slabrow.demo.telling import Tell
from slabrow.files.query_file import FileQuery
from slabrow.servers.postgresql.write.binary_copy import HEADER, TRAILER, one_ahead
from slabrow.servers.protocols import Session

# One logged run stands for this many a day, so that the log is made in seconds.
_DAY_IN = 400


def refuse_existing(session: Session) -> None:
    """Raises Refusal when the demo's schema is there already: whose ever it is, it is not touched."""
    if session.catalogue.has_schema(SCHEMA):
        raise Refusal(
            f"schema {SCHEMA} exists in database {session.database}",
            found="the demo touches only a schema that it made itself",
            fix="give another database, or drop that schema if it is of an earlier demo",
        )


def load(session: Session, demo: Demo, tell: Tell) -> None:
    """Makes the schema and loads it with binary COPY; tell hears what is being done."""
    with session.explained("load the demo data"):
        session.execution.run(TABLES)
        for table in demo.tables():
            copy_in(session, table, tell)
        tell("building keys and indexes")
        for statement in KEYS.strip().split(";\n"):
            session.execution.run(statement)
        tell("analysing")
        for name in ("coop", "hive", "reading", "coop_event", "inspection"):
            session.execution.run(f"VACUUM (ANALYZE) {SCHEMA}.{name}")


def copy_in(session: Session, table: Table, tell: Tell) -> None:
    """Loads one table with binary COPY; tell hears how far it is."""

    def counted() -> Iterator[bytes]:
        rows, began = 0, time.monotonic()
        yield HEADER
        for chunk in one_ahead(table.chunks):
            yield chunk
            rows += CHUNK
            tell(f"loading {table.name}: {rows:,} rows{_left(began, rows, table.rows)}")
        yield TRAILER

    session.execution.load(Load(f"COPY {table.name} ({table.columns}) FROM STDIN (FORMAT BINARY)", counted))


def _left(began: float, rows: int, whole: int) -> str:
    """What is still to come, in words; nothing for the little that is loaded in a moment."""
    passed = time.monotonic() - began
    seconds = passed * max(0, whole - rows) / max(1, rows)
    return f" of {whole:,}, about {seconds:.0f} s left" if passed + seconds > 2 and whole > rows else ""


def run_workload(session: Session, queries: tuple[FileQuery, ...], log: Path, copy: Path) -> int:
    """Runs the workload on a private server with its statements logged, and copies the log. Returns the runs.

    A query runs once for each few hundred times that it runs a day; those with parameters are sent with parameters.
    """
    session.execution.run("SET log_min_duration_statement = 0")
    runs = 0
    with session.explained("run the demo workload"):
        for query in queries:
            for _ in range(max(1, round(query.weight / _DAY_IN))):
                session.execution.run_with(query.sql, [param.strip("'") for param in query.params])
                runs += 1
    session.execution.run("RESET log_min_duration_statement")
    copy.write_bytes(log.read_bytes())
    return runs


def unload(session: Session) -> None:
    """Drops what the demo made."""
    session.execution.drop_schema(SCHEMA)
