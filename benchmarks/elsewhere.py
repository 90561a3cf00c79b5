"""Partitions in other places: what a move costs, kills in both directions, and a hash over four servers.

python -m benchmarks.elsewhere copying [ROWS]   default 1,000,000: the rows there and home : a bare binary COPY of them
python -m benchmarks.elsewhere kills [KILLS]    default 60: SIGKILL there and home, beside 500 writes a second
python -m benchmarks.elsewhere tablespaces [KILLS]   default 60: the same to a tablespace and back
python -m benchmarks.elsewhere spread [ROWS]    default 400,000: grouped queries over four servers : the same parts here
Each takes --local N and --remote N, the major versions of the two servers (default: the newest).
"""

import argparse
import os
import random
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import psycopg
from psycopg.conninfo import conninfo_to_dict

from benchmarks.running import LockWatch, finish, stolen_s
from slabrow.servers.postgresql.private.server import PrivatePostgres, find_binaries, start
from tests.busy import COLUMNS, DIFFERENCES, SCHEMA, writers

PROGRAM = Path(sys.executable).with_name("slabrow")
NOW = ("--now", "2026-03-01", "--pretend", "--go")
MARCH = "apiary.reading_2025_03"
OUT, HOME = ("--elsewhere", "attic", "--give-up-key", "--still-written"), ("--to-tablespace", "pg_default")
_ALONE_S = 20  # how long the writers are watched alone, before and after


class Bench:
    """Two private servers, or more, and the program."""

    def __init__(self, here: PrivatePostgres, there: list[PrivatePostgres], folder: Path) -> None:
        self.here, self.there, self.folder = here, there, folder
        self.environment = {**os.environ, "SLABROW_DSN": here.dsn}

    def sql(self, text: str, dsn: str = "") -> list[tuple]:
        with psycopg.connect(dsn or self.here.dsn, autocommit=True) as connection:
            cursor = connection.execute(text.encode())
            return cursor.fetchall() if cursor.description else []

    def know(self, names: tuple[str, ...], layout: str) -> None:
        """Makes the foreign servers, and names them in the layout file."""
        self.sql("CREATE EXTENSION IF NOT EXISTS postgres_fdw")
        for name, server in zip(names, self.there, strict=True):
            known = conninfo_to_dict(server.dsn)
            self.sql(f"CREATE SERVER {name} FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '{known['host']}', "
                     "dbname 'postgres', fetch_size '10000', batch_size '500', connect_timeout '3')")  # fmt: skip
            self.sql(
                f"CREATE USER MAPPING FOR PUBLIC SERVER {name} OPTIONS (user 'postgres', password_required 'false')"
            )
            layout += f'[[elsewhere]]\nname = "{name}"\ndsn = "{server.dsn}"\n'
        (self.folder / "slabrow.toml").write_text(layout)

    def months(self, rows: int) -> None:
        """The table of the writers and its twin, by months."""
        self.sql(SCHEMA.format(rows=rows))
        self.sql("ALTER TABLE apiary.reading RENAME TO plain")
        self.sql("CREATE TABLE apiary.reading (LIKE apiary.plain INCLUDING GENERATED INCLUDING IDENTITY, "
                 "PRIMARY KEY (reading_id, taken_at)) PARTITION BY RANGE (taken_at)")  # fmt: skip
        self.sql("CREATE INDEX ON apiary.reading (hive_id, taken_at)")
        for n in range(1, 13):
            self.sql(f"CREATE TABLE apiary.reading_2025_{n:02d} PARTITION OF apiary.reading FOR VALUES FROM "
                     f"('2025-{n:02d}-01') TO ('{2025 + n // 12}-{n % 12 + 1:02d}-01')")  # fmt: skip
        self.sql("CREATE TABLE apiary.reading_rest PARTITION OF apiary.reading DEFAULT")
        self.sql(f"INSERT INTO apiary.reading ({COLUMNS}) SELECT {COLUMNS} FROM apiary.plain; DROP TABLE apiary.plain")
        self.sql("VACUUM ANALYZE")

    def begin(self, *arguments: str) -> subprocess.Popen:
        return subprocess.Popen(
            [PROGRAM, *arguments, "--quiet", *NOW], cwd=self.folder, env=self.environment,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip

    def done(self, *arguments: str) -> float:
        began = time.perf_counter()
        return finish(self.begin(*arguments), str(arguments), began)[0]

    def step_ms(self, step: str) -> float:
        return float(self.sql("SELECT duration_ms FROM slabrow.ledger WHERE details->>'step' = "
                              f"'{step}' AND state = 'done' ORDER BY entry DESC LIMIT 1")[0][0])  # fmt: skip


LAYOUT = '[[layout]]\ntable = "apiary.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\ncatch_all = true\n'


def bare_copy(source: str, target: str, table: str, into: str, columns: str) -> float:
    """Seconds of a binary COPY from connection to connection."""
    with psycopg.connect(source) as one, psycopg.connect(target) as other:
        began = time.perf_counter()
        with (
            one.cursor().copy(f"COPY (SELECT {columns} FROM {table}) TO STDOUT (FORMAT binary)") as given,
            other.cursor().copy(f"COPY {into} ({columns}) FROM STDIN (FORMAT binary)") as taken,
        ):
            for some in given:
                taken.write(some)
        other.commit()
        return time.perf_counter() - began


def copying(bench: Bench, rows: int) -> None:
    bench.months(rows // 12)
    bench.sql(f"INSERT INTO apiary.reading ({COLUMNS}) SELECT 90000000 + n, n % 100, '2025-03-01'::timestamptz + "
              f"n::float8 / {rows} * interval '30 days', n % 50, repeat('x', n % 20) FROM generate_series(1, {rows}) n")  # fmt: skip
    bench.sql("VACUUM ANALYZE")
    bench.sql("CHECKPOINT")
    bench.know(("attic",), LAYOUT)
    far = bench.there[0].dsn
    bench.sql("CREATE SCHEMA bare; CREATE TABLE bare.reading (reading_id bigint NOT NULL, hive_id int NOT NULL, "
              "taken_at timestamptz NOT NULL, weight numeric, note text, doubled int GENERATED ALWAYS AS "
              "(hive_id * 2) STORED)", far)  # fmt: skip
    bench.sql("CREATE SCHEMA bare; CREATE TABLE bare.reading (LIKE apiary.reading INCLUDING GENERATED)")
    ratios: dict[str, list[float]] = {"there": [], "home": []}
    for number in range(1, 6):
        for direction, source, target, table, options in (
            ("there", bench.here.dsn, far, MARCH, OUT), ("home", far, bench.here.dsn, MARCH, HOME)
        ):  # fmt: skip
            stolen = stolen_s()
            bare = [bare_copy(source, target, table, "bare.reading", COLUMNS)]
            whole = bench.done("relocate", MARCH, *options)
            took = bench.step_ms("copy rows") / 1e3
            bench.sql("TRUNCATE bare.reading", target)
            kept = table.replace("_03", "_03_before") if direction == "there" else table
            bare.append(bare_copy(source, target, kept, "bare.reading", COLUMNS))
            bench.sql("TRUNCATE bare.reading", target)
            bench.done("relocate", MARCH, "--drop-old")
            ratios[direction].append(2 * took / sum(bare))
            print(
                f"{number}: {direction}, copy {took:.2f} s : bare {bare[0]:.2f} and {bare[1]:.2f} s = "
                f"{ratios[direction][-1]:.2f}; the whole move {whole:.1f} s, other machines of the host had our "
                f"processors for {stolen_s() - stolen:.1f} s",
                flush=True,
            )
    for direction, every in ratios.items():
        print(f"{direction}: ratio {statistics.median(every):.2f} (median of {len(every)})")


def kills(bench: Bench, wanted: int) -> None:
    """To another server and home: half of the wanted kills in each direction, or more."""
    bench.months(120_000)
    bench.know(("attic",), LAYOUT)
    _killed(bench, wanted, OUT, HOME)


def tablespaces(bench: Bench, wanted: int) -> None:
    """As `kills`, to a tablespace and back while the partition is used."""
    bench.months(120_000)
    (bench.folder / "slabrow.toml").write_text(LAYOUT)
    bench.sql("ALTER SYSTEM SET allow_in_place_tablespaces = on")
    bench.sql("SELECT pg_reload_conf(), pg_sleep(0.5)")
    bench.sql("CREATE TABLESPACE cold LOCATION ''")
    live = ("--way", "live")
    _killed(bench, wanted, ("--to-tablespace", "cold", *live), (*HOME, *live))


def _killed(bench: Bench, wanted: int, out: tuple[str, ...], home: tuple[str, ...]) -> None:
    chance, seen, cycles = random.Random(wanted), Counter[str](), 0
    bench.done("relocate", MARCH, *out)
    bench.done("relocate", MARCH, "--undo")

    def until_done(direction: str, *arguments: str) -> None:
        for _ in range(60):
            process = bench.begin("relocate", MARCH, *arguments)
            if chance.random() < 0.75:
                time.sleep(chance.uniform(0.2, 1.6))
                if process.poll() is None:
                    process.send_signal(signal.SIGKILL)
                    seen[direction] += 1
            said = process.communicate()
            if process.returncode == 0:
                return
            if process.returncode > 0:
                print(f"  {arguments}: {process.returncode}: {said[1].strip()[-300:]}")
        raise SystemExit(f"{arguments} does not come to its end")

    with writers(bench.here.dsn, 120_000, a_second=500, stays=True) as made, LockWatch(bench.here.dsn) as watch:
        time.sleep(_ALONE_S)
        began, before, stolen = time.monotonic(), sum(each.made for each in made), stolen_s()
        while min(seen["there"], seen["home"]) < wanted // 2:
            cycles += 1
            until_done("there", *out)
            if chance.random() < 0.25:
                until_done("home", "--undo")
                continue
            until_done("there", "--drop-old")
            until_done("home", *home)
            if chance.random() < 0.25:
                until_done("there", "--undo")
                until_done("home", *home)
            until_done("home", "--drop-old")
        ended, stolen = time.monotonic(), stolen_s() - stolen
        rate = (sum(each.made for each in made) - before) / (ended - began)
        time.sleep(_ALONE_S)
    waits = [(wait, began <= at <= ended) for each in made for wait, at in each.waits]
    longest, alone = (max(wait for wait, is_beside in waits if is_beside == beside) for beside in (True, False))
    errors = [str(error) for each in made for error in each.errors]
    print(
        f"{sum(seen.values())} kills ({dict(seen)}) in {cycles} cycles, {rate:.0f} writes a second, errors {errors[:2]}"
    )
    print(f"longest write {longest:.0f} ms (alone, before and after, {alone:.0f} ms), "
          f"longest wait for a lock {watch.longest_ms:.0f} ms, other machines of the host had our "
          f"processors for {stolen:.0f} of {os.cpu_count() * (ended - began):.0f} s, differences {bench.sql(DIFFERENCES)[0][0]}")  # fmt: skip


SPREAD = """[[layout]]
table = "apiary.spread"
by = "hash"
key = ["hive_id"]
parts = 8
servers = ["here", "attic", "cellar", "shed"]
"""


def spread(bench: Bench, rows: int) -> None:
    bench.know(("attic", "cellar", "shed"), SPREAD)
    (bench.folder / "t.sql").write_text("CREATE TABLE apiary.spread (reading_id bigint NOT NULL, hive_id int NOT NULL, "
                                        "taken_at timestamptz NOT NULL, weight float8, PRIMARY KEY (reading_id, hive_id))")  # fmt: skip
    bench.sql("CREATE SCHEMA apiary")
    bench.done("build", "--table", "apiary.spread", "--schema", "t.sql")
    bench.sql("CREATE TABLE apiary.here (LIKE apiary.spread) PARTITION BY HASH (hive_id)")
    for part in range(8):
        bench.sql(
            f"CREATE TABLE apiary.here_{part} PARTITION OF apiary.here FOR VALUES WITH (MODULUS 8, REMAINDER {part})"
        )
    for table in ("here", "spread"):
        bench.sql(f"INSERT INTO apiary.{table} SELECT n, n % 4000, '2025-01-01'::timestamptz + n * interval '1 s', n % 50 "
                  f"FROM generate_series(1, {rows}) n")  # fmt: skip
        bench.sql(f"ANALYZE apiary.{table}")
    bench.sql("VACUUM ANALYZE apiary.here")
    queries = {
        "grouped by the key": "SELECT hive_id, count(*), sum(weight) FROM {} GROUP BY hive_id",
        "one hive": "SELECT count(*), sum(weight) FROM {} WHERE hive_id = 77",
        "counted whole": "SELECT count(*) FROM {}",
    }
    for server in ("attic", "cellar", "shed"):
        bench.sql(f"ALTER SERVER {server} OPTIONS (ADD async_capable 'true')")
    with psycopg.connect(bench.here.dsn, autocommit=True) as connection:
        connection.execute("SET enable_partitionwise_aggregate = on")
        for name, query in queries.items():
            took: dict[str, list[float]] = {"here": [], "spread": []}
            for number in range(9):
                for table in took if number % 2 else reversed(took):
                    began = time.perf_counter()
                    connection.execute(query.format(f"apiary.{table}")).fetchall()
                    if number:
                        took[table].append(time.perf_counter() - began)
            one, other = (statistics.median(took[table]) * 1e3 for table in ("spread", "here"))
            print(f"{name}: four servers {one:.1f} ms, here {other:.1f} ms, ratio {one / other:.2f}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    usual = {
        "copying": (copying, 1_000_000),
        "kills": (kills, 60),
        "tablespaces": (tablespaces, 60),
        "spread": (spread, 400_000),
    }
    parser.add_argument("what", choices=usual)
    parser.add_argument("number", nargs="?", type=int)
    parser.add_argument("--local", type=int)
    parser.add_argument("--remote", type=int)
    options = parser.parse_args()
    doing, most = usual[options.what]

    def one(version: int | None) -> PrivatePostgres:
        return start(next(each for each in find_binaries() if version in (None, each.version)))

    here, there = one(options.local), [one(options.remote) for _ in range(3 if options.what == "spread" else 1)]
    try:
        with tempfile.TemporaryDirectory() as folder:
            print(f"PostgreSQL {here.version} here, {there[0].version} there")
            doing(Bench(here, there, Path(folder)), options.number or most)
    finally:
        for server in (here, *there):
            server.stop()


if __name__ == "__main__":
    main()
