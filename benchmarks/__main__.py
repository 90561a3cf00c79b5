"""`python -m benchmarks [NAME …]`: measures Slabrow and a bare reference in turn, A B A B, and prints their ratio."""

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import psycopg

from slabrow.core.hashing import PARTITION_SEED, HashColumn, LongWords, remainders
from slabrow.demo.binary_copy import HEADER, TRAILER, Field, encode
from slabrow.demo.data import Demo, Table
from slabrow.demo.load import copy_in, load
from slabrow.demo.schema import LAYOUTS, TABLES
from slabrow.servers.postgresql.private import PrivateServer, start

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
def private_server() -> Iterator[PrivateServer]:
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
            copy_in(connection, Table("apiary.reading", COLUMNS, Demo(READINGS).readings_in_chunks()), lambda _: None)

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
        load(connection, Demo(READINGS), lambda _: None)
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
    for name in ("reading_pkey", "reading_taken_at_idx", "reading_hive_id_taken_at_idx"):
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


BENCHMARKS = {
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
            f"{name}: {measure.__doc__}\n"
            f"  ours {statistics.median(pair.ours for pair in pairs):.3f} s, "
            f"reference {statistics.median(pair.reference for pair in pairs):.3f} s, ratio min {min(ratios):.2f} "
            f"median {statistics.median(ratios):.2f} max {max(ratios):.2f} ({len(pairs)} pairs; wanted: <= {target})"
        )
    return 0


if __name__ == "__main__":
    sys.exit(main())
