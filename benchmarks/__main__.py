"""`python -m benchmarks [NAME …]`: measures Slabrow and a bare reference in turn, A B A B, and prints their ratio."""

import csv
import json
import os
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import psycopg

from slabrow.core.hashing.hashing import PARTITION_SEED, HashColumn, LongWords, remainders
from slabrow.core.sql.statement_shapes import filled
from slabrow.demo.data import Demo, Table
from slabrow.demo.load import copy_in, load
from slabrow.demo.schema import LAYOUTS, TABLES
from slabrow.files.server_log import read_log
from slabrow.servers.postgresql.private.server import PrivatePostgres, start
from slabrow.servers.postgresql.session import PostgresSession
from slabrow.servers.postgresql.write.binary_copy import HEADER, TRAILER, Field, encode

PROGRAM = Path(sys.executable).with_name("slabrow")
READINGS = int(os.environ.get("SLABROW_BENCH_ROWS", "2000000"))
COLUMNS = "reading_id, hive_id, taken_at, weight_kg, brood_c, humidity_pct, sound_db"
QUIET = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}


@dataclass(frozen=True)
class Pair:
    """Seconds of Slabrow and of the reference, measured one after the other."""

    ours: float
    reference: float

    @property
    def ratio(self) -> float:
        return self.ours / self.reference


def timed(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


@contextmanager
def private_server() -> Iterator[PrivatePostgres]:
    server = start()
    try:
        yield server
    finally:
        server.stop()


def help_page() -> Iterator[Pair]:
    """`slabrow --help` against `python -c "import argparse"`."""
    for _ in range(11):
        yield Pair(
            timed(lambda: subprocess.run([PROGRAM, "--help"], check=True, **QUIET)),
            timed(lambda: subprocess.run([sys.executable, "-c", "import argparse"], check=True, **QUIET)),
        )


def loading() -> Iterator[Pair]:
    """Generating and loading the readings against COPY of the same rows from a ready binary file."""
    with private_server() as server, psycopg.connect(server.dsn, autocommit=True) as connection:
        connection.execute(TABLES.encode())
        ready = server.folder / "readings.copy"
        with ready.open("wb") as file:
            file.writelines([HEADER, *Demo(READINGS).readings_in_chunks(), TRAILER])

        def ours() -> None:
            copy_in(
                PostgresSession(connection),
                Table("apiary.reading", COLUMNS, Demo(READINGS).readings_in_chunks()),
                lambda _: None,
            )

        def reference() -> None:
            connection.execute(f"COPY apiary.reading ({COLUMNS}) FROM '{ready}' (FORMAT BINARY)".encode())

        for _ in range(3):
            seconds = []
            for work in (ours, reference):
                connection.execute("TRUNCATE apiary.reading")
                connection.execute("CHECKPOINT")
                seconds.append(timed(work))
            yield Pair(*seconds)


def conversion() -> Iterator[Pair]:
    """`slabrow convert --go` against a bare INSERT … SELECT into the same partitioned table, with the same indexes."""
    with private_server() as server, psycopg.connect(server.dsn, autocommit=True) as connection:
        load(PostgresSession(connection), Demo(READINGS), lambda _: None)
        folder = server.folder / "bench"
        folder.mkdir()
        (folder / "slabrow.toml").write_text(LAYOUTS)
        command = [PROGRAM, "convert", "--table", "apiary.reading", "--now", "2026-03-01", "--go"]
        environment = {**os.environ, "SLABROW_DSN": server.dsn}
        for _ in range(3):
            connection.execute("CHECKPOINT")
            ours = timed(lambda: subprocess.run(command, check=True, cwd=folder, env=environment, **QUIET))
            connection.execute("TRUNCATE apiary.reading")
            connection.execute("CHECKPOINT")
            insert = f"INSERT INTO apiary.reading ({COLUMNS}) SELECT {COLUMNS} FROM apiary.reading_before"
            yield Pair(ours, timed(lambda insert=insert: connection.execute(insert.encode())))
            _take_back(connection)


def _take_back(connection: psycopg.Connection) -> None:
    """The plain table under its old name, with its indexes' old names, for the next round."""
    connection.execute("DROP TABLE apiary.reading CASCADE")
    connection.execute("ALTER TABLE apiary.reading_before RENAME TO reading")
    for name in ("reading_pkey", "reading_hive_id_taken_at_idx"):
        connection.execute(f"ALTER INDEX apiary.{name}_before RENAME TO {name}".encode())


def hashing() -> Iterator[Pair]:
    """Hashing and grouping 10 million bigints here, against the server's own hashint8extended() and GROUP BY."""
    values = np.random.default_rng(1).integers(-(2**62), 2**62, 10_000_000)
    with private_server() as server, psycopg.connect(server.dsn, autocommit=True) as connection:
        connection.execute("CREATE TABLE v (v bigint)")
        with connection.cursor() as cursor, cursor.copy("COPY v FROM STDIN (FORMAT BINARY)") as copy:
            copy.write(HEADER)
            for first in range(0, len(values), 500_000):
                copy.write(encode([Field(values[first : first + 500_000])]))
            copy.write(TRAILER)
        connection.execute("VACUUM (ANALYZE) v")
        query = f"SELECT hashint8extended(v, {PARTITION_SEED}) & 15, count(*) FROM v GROUP BY 1"
        for _ in range(5):
            yield Pair(
                timed(lambda: np.bincount(remainders([HashColumn(LongWords(values))], 16), minlength=16)),
                timed(lambda: connection.execute(query.encode()).fetchall()),
            )


def _log(path: Path, statements: int, form: str) -> None:
    """A server log of 300 shapes of statement on apiary.reading."""
    chance = random.Random(1)
    with path.open("w") as file:
        writer = csv.writer(file)
        for number in range(statements):
            day = f"2025-{chance.randint(1, 12):02d}-{chance.randint(1, 28):02d} 00:00+00"
            sql = (
                f"SELECT taken_at, weight_kg, {number % 300} AS panel_{number % 300} FROM apiary.reading WHERE hive_id = "
                f"{chance.randrange(2_000)} AND taken_at >= '{day}' AND taken_at < '2026-02-28 00:00+00' ORDER BY taken_at"
            )
            stamp = f"2026-02-28 10:{number // 60_000 % 60:02d}:{number // 1_000 % 60:02d}.{number % 1_000:03d} UTC"
            message = f"duration: {chance.random():.3f} ms  statement: {sql}"
            if form == "json":
                entry = {"timestamp": stamp, "user": "app", "dbname": "postgres", "pid": 7, "session_id": "65.4", "line_num": 1,
                         "ps": "SELECT", "error_severity": "LOG", "message": message, "backend_type": "client backend"}  # fmt: skip
                file.write(json.dumps(entry) + "\n")
            else:
                writer.writerow([stamp, "app", "postgres", "7", "[local]", "65.4", number, "SELECT", stamp, "3/1", "0", "LOG", "00000",
                                 message, *[""] * 8, "app", "client backend", "", "0"])  # fmt: skip


def log_reading(form: str) -> Iterator[Pair]:
    """The workload out of a log of a million statements, against Python's own reader going through the same file."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"server.{form}"
        _log(path, 1_000_000, form)

        def reference() -> None:
            with path.open() as file:
                for _ in csv.reader(file) if form == "csv" else map(json.loads, file):
                    pass

        for _ in range(3):
            yield Pair(timed(lambda: read_log(path)), timed(reference))
        here, each = (
            resource.getrusage(who).ru_maxrss / 1024 for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)
        )
        print(f"  {path.stat().st_size / 1e6:.0f} MB; memory at most {here:.0f} MB here, {each:.0f} MB in each process")


def weighing() -> Iterator[Pair]:
    """`slabrow weigh` of 100,000 logged statements of 300 shapes, against EXPLAIN of each on one table of 1,000 partitions."""
    asked, explained = 100_000, 200
    with private_server() as server, psycopg.connect(server.dsn, autocommit=True) as connection:
        load(PostgresSession(connection), Demo(READINGS), lambda _: None)
        folder = server.folder / "bench"
        folder.mkdir()
        _log(folder / "server.csv", asked, "csv")
        layout = (
            LAYOUTS.split("[[layout]]")[1].replace('"1 month"', '"10 hours"').replace("apiary.reading", "apiary.many")
        )
        (folder / "many.toml").write_text(
            "[[layout]]" + layout.replace('"3 months"', '"1 day"').replace("keep", "#keep").replace("past_", "#")
        )
        environment = {**os.environ, "SLABROW_DSN": server.dsn}
        build = ["build", "--layout", "many.toml", "--like", "apiary.reading", "--now", "2026-03-01", "--go"]
        subprocess.run([PROGRAM, *build], check=True, cwd=folder, env=environment, **QUIET)
        leaves = connection.execute(
            "SELECT count(*) FROM pg_inherits WHERE inhparent = 'apiary.many'::regclass"
        ).fetchone()[0]
        statements = [
            shape_filled.replace("apiary.reading", "apiary.many")
            for shape in read_log(folder / "server.csv").shapes[:explained]
            for shape_filled in [filled(shape.marked, shape.runs[0].literals)]
        ]
        weigh = [PROGRAM, "weigh", "apiary.reading", "--workload", "server.csv", "--now", "2026-03-01"]
        weigh += ["--ceiling", "1100", "--format", "csv"]
        for _ in range(3):
            ours = timed(lambda: subprocess.run(weigh, check=True, cwd=folder, env=environment, **QUIET))

            def reference() -> None:
                for statement in statements:
                    connection.execute(f"EXPLAIN {statement}".encode()).fetchall()

            yield Pair(ours, timed(reference) * asked / explained)
        memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(
            f"  {leaves} partitions in the reference; {memory:.0f} MB of memory at most; {explained} EXPLAINs were timed"
        )


BENCHMARKS = {
    "csv-log": (lambda: log_reading("csv"), 1.6),
    "json-log": (lambda: log_reading("json"), 1.6),
    "weighing": (weighing, 0.05),
    "help": (help_page, 3.0),
    "loading": (loading, 2.0),
    "conversion": (conversion, 1.5),
    "hashing": (hashing, 0.2),
}


def main() -> int:
    for name in sys.argv[1:] or BENCHMARKS:
        measure, target = BENCHMARKS[name]
        pairs = list(measure())
        ratios = [pair.ratio for pair in pairs]
        print(
            f"{name}: {measure.__doc__ or log_reading.__doc__}\n"
            f"  ours {statistics.median(pair.ours for pair in pairs):.3f} s, "
            f"reference {statistics.median(pair.reference for pair in pairs):.3f} s, ratio min {min(ratios):.2f} "
            f"median {statistics.median(ratios):.2f} max {max(ratios):.2f} ({len(pairs)} pairs; wanted: <= {target})"
        )
    return 0


if __name__ == "__main__":
    sys.exit(main())
