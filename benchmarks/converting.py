"""What a live conversion costs: time against the bare copy, the longest time that a write takes, and kills without end.

python -m benchmarks.converting speed [ROWS]      default 2,000,000: conversion with a writer : bare INSERT … SELECT
python -m benchmarks.converting waits [ROWS]      default 500,000: there, back, there again, let go, beside a long reader
python -m benchmarks.converting kills [KILLS]     default 300: SIGKILL of the program and of the server, in every phase
"""

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from contextlib import suppress
from itertools import pairwise
from pathlib import Path
from threading import Event, Thread

import psycopg

from benchmarks.running import LockWatch, finish, stolen_s
from slabrow.servers.postgresql.private.server import PrivatePostgres, find_binaries, start
from tests.busy import COLUMNS, DIFFERENCES, SCHEMA, TABLE, longest_wait, rows_kept, writers

PROGRAM = Path(sys.executable).with_name("slabrow")
NOW = ("--now", "2026-03-01", "--pretend", "--go")
LAYOUT = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
from = 2025-01-01
catch_all = true
"""
WRITES_A_SECOND = 600


class Bench:
    """A private server with the two tables, and the program on it."""

    def __init__(self, server: PrivatePostgres, folder: Path) -> None:
        self.dsn, self.folder = server.dsn, folder
        (folder / "slabrow.toml").write_text(LAYOUT)
        self.environment = {**os.environ, "SLABROW_DSN": server.dsn}

    def sql(self, text: str) -> list[tuple]:
        with psycopg.connect(self.dsn, autocommit=True) as connection:
            cursor = connection.execute(text)
            return cursor.fetchall() if cursor.description else []

    def fill(self, rows: int) -> None:
        self.sql("DROP SCHEMA IF EXISTS apiary, slabrow, bare CASCADE")
        self.sql(SCHEMA.format(rows=rows))
        for table in ("reading", "twin"):  # or the server would clean them in the middle of what is measured
            self.sql(f"VACUUM ANALYZE apiary.{table}")
        self.sql("CHECKPOINT")

    def begin(self, *options: str) -> subprocess.Popen:
        return self.run("convert", TABLE, *options)

    def run(self, *arguments: str) -> subprocess.Popen:
        """The program at work, whatever the command."""
        return subprocess.Popen(
            [PROGRAM, *arguments, "--quiet"],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )

    def convert(self, *options: str) -> float:
        began = time.perf_counter()
        took, self.memory_mb = finish(self.begin(*options), f"convert {options}", began)
        return took

    def bare(self) -> float:
        """Seconds of INSERT … SELECT into the same table with its key and indexes, in one session without a writer."""
        self.sql("DROP SCHEMA IF EXISTS bare CASCADE; CREATE SCHEMA bare")
        self.sql("VACUUM")  # what was written before is cleaned before
        self.sql(
            f"CREATE TABLE bare.reading (LIKE {TABLE} INCLUDING GENERATED) PARTITION BY RANGE (taken_at);"
            + "".join(
                f"CREATE TABLE bare.m{n} PARTITION OF bare.reading FOR VALUES FROM ('2025-{n:02d}-01') TO "
                f"('{2025 + n // 12}-{n % 12 + 1:02d}-01');"
                for n in range(1, 13)
            )
            + "CREATE TABLE bare.rest PARTITION OF bare.reading DEFAULT;"
            "ALTER TABLE bare.reading ADD PRIMARY KEY (reading_id, taken_at);"
            "CREATE INDEX ON bare.reading (hive_id, taken_at); CREATE INDEX ON bare.reading (taken_at)"
        )
        self.sql("CHECKPOINT")
        began = time.perf_counter()
        self.sql(f"INSERT INTO bare.reading ({COLUMNS}) SELECT {COLUMNS} FROM {TABLE}")
        took = time.perf_counter() - began
        self.sql("DROP SCHEMA bare CASCADE")
        return took


def speed(bench: Bench, rows: int) -> None:
    bench.fill(rows)
    # The bare copy checks no foreign key: so neither does the conversion.
    bench.sql(f"ALTER TABLE {TABLE} DROP CONSTRAINT reading_hive_id_fkey")
    stolen = [stolen_s()]
    before = bench.bare()
    stolen.append(stolen_s())
    with writers(bench.dsn, rows, a_second=WRITES_A_SECOND, twinned=False) as made, LockWatch(bench.dsn) as watch:
        time.sleep(2)
        alone, written = longest_wait(made), sum(each.made for each in made)
        began = time.monotonic()
        took = bench.convert(*NOW)
        written = sum(each.made for each in made) - written
    stolen.append(stolen_s())
    after = bench.bare()
    stolen.append(stolen_s())
    peak = bench.sql("SELECT max(longest_lock_ms) FROM slabrow.reshaping")[0][0]
    print(
        f"{rows:,} rows: bare {before:.1f} s and {after:.1f} s, live {took:.1f} s with {written / took:.0f} writes a second"
    )
    away = ", ".join(f"{end - begin:.1f}" for begin, end in pairwise(stolen))
    print(f"other machines of the host had our processors for {away} s: the copy, the conversion, the copy again")
    print(f"ratio {2 * took / (before + after):.2f} of the mean, {took / before:.2f} of the first")
    [there] = bench.sql(f"SELECT count(*), sum(reading_id)::bigint FROM {TABLE}")
    at = max((wait, at) for each in made for wait, at in each.waits)[1] - began
    print(f"longest write {longest_wait(made):.0f} ms at {at:.1f} s (alone {alone:.0f} ms), longest lock {peak:.0f} ms, "
          f"longest wait for a lock {watch.longest_ms:.0f} ms, rows and sum of numbers as written: {there == rows_kept(made, rows)}, "
          f"errors {[str(error) for each in made for error in each.errors][:3]}")  # fmt: skip
    print(f"memory of the program at most {bench.memory_mb:.0f} MB")
    for step, took_ms in bench.sql(
        "SELECT details->>'step', round(duration_ms) FROM slabrow.ledger WHERE duration_ms > 50 ORDER BY entry"
    ):
        print(f"  {step:<26} {took_ms:>6} ms")


def waits(bench: Bench, rows: int) -> None:
    """The longest write in each part, beside a reader that stays in a transaction for a minute again and again."""
    bench.fill(rows)
    ended = Event()

    def read() -> None:
        while not ended.is_set():
            with psycopg.connect(bench.dsn) as reader:
                reader.execute(f"SELECT count(*) FROM {TABLE} WHERE reading_id = 1")
                ended.wait(60)
            ended.wait(2)

    with writers(bench.dsn, rows, a_second=WRITES_A_SECOND) as made:
        time.sleep(10)
        print(f"alone: longest write {longest_wait(made):.0f} ms")
        Thread(target=read, daemon=True).start()
        for options in (NOW, ("--undo", "--go"), NOW, ("--drop-old", "--go")):
            for each in made:
                each.waits.clear()
            began, stolen = time.monotonic(), stolen_s()
            with LockWatch(bench.dsn) as locks:
                took = bench.convert(*options)
                time.sleep(1)
            stolen = stolen_s() - stolen
            worst = sorted(((wait, at - began) for each in made for wait, at in each.waits), reverse=True)[:3]
            said = ", ".join(f"{wait:.0f} ms at {at:.1f} s" for wait, at in worst)
            print(f"convert {' '.join(options)}: {took:.1f} s, longest writes {said}, longest wait for a lock "
                  f"{locks.longest_ms:.0f} ms{locks.behind}, other machines of the host had our processors for {stolen:.1f} s", flush=True)  # fmt: skip
        ended.set()
    print(f"errors {sum(len(each.errors) for each in made)}, differences {bench.sql(DIFFERENCES)[0][0]}")


def kills(bench: Bench, wanted: int) -> None:
    """Each conversion goes there, back, there again, and is let go; what it is doing is killed at random moments."""
    chance = random.Random(wanted)
    seen: Counter[str] = Counter()
    rows, rounds = 200_000, 0
    while sum(seen.values()) < wanted:
        rounds += 1
        bench.fill(rows)
        with writers(bench.dsn, rows, a_second=300) as made:
            for options in (NOW, ("--undo", "--go"), NOW, ("--drop-old", "--go")):
                _until_done(bench, options, chance, seen)
        differences = bench.sql(DIFFERENCES)[0][0]
        errors = [str(error) for each in made for error in each.errors]
        print(f"{rounds}: {sum(seen.values())} kills, {differences} differences, errors {errors[:2]}", flush=True)
        if differences or errors:
            raise SystemExit(1)
    for state, number in sorted(seen.items()):
        print(f"  {state:<36} {number}")


# What is killed in each part: half of the kills wait until the work is at one of these.
_AIMS = {
    "--undo": ("6 swapped", "8 undone"),
    "--drop-old": ("6 swapped", "7 letting go"),
    "": ("1 making", "2 copying", "3 building keys", "4 following or comparing", "5 compared", "6 swapped"),
}


def _until_done(bench: Bench, options: tuple[str, ...], chance: random.Random, seen: Counter) -> None:
    aims = _AIMS.get(options[0], _AIMS[""])
    while True:
        process = bench.begin(*options)
        aim, until = chance.choice((None, *aims)), time.monotonic() + 20
        while process.poll() is None and time.monotonic() < until and not _is_at(bench, aim):
            time.sleep(0.01)
        try:
            said = process.communicate(timeout=chance.uniform(0.0, 1.5 if aim is None else 0.15))
            if process.returncode == 0:
                return
            if process.returncode != 5 and "server" not in said[1] and "connection" not in said[1]:
                raise SystemExit(f"slabrow convert {options} ended with {process.returncode}: {said}")
        except subprocess.TimeoutExpired:
            state = _state(bench)
            if chance.random() < 0.15:
                _crash(bench)
                seen[f"server, {state}"] += 1
                process.communicate()
            else:
                process.send_signal(signal.SIGKILL)
                process.communicate()
                seen[f"program, {state}"] += 1
        _until_up(bench)


def _is_at(bench: Bench, aim: str | None) -> bool:
    """Whether the program is at work, and where it was waited for."""
    with suppress(psycopg.Error):
        at_work = bench.sql("SELECT count(*) FROM pg_stat_activity WHERE application_name ~ '^slabrow'")[0][0]
        return bool(at_work) and (aim is None or _state(bench) == aim)
    return False


def _state(bench: Bench) -> str:
    try:
        [(state, is_listed, compared, left, marks)] = bench.sql(
            """SELECT state, is_listed, compared IS NOT NULL,
                      (SELECT count(*) FROM slabrow.reshaping_piece p WHERE p.job = r.job AND NOT is_done),
                      ARRAY(SELECT what FROM slabrow.reshaping_mark m WHERE m.job = r.job)
               FROM slabrow.reshaping r ORDER BY job DESC LIMIT 1"""
        )
    except (psycopg.Error, ValueError):
        return "0 not begun"
    if state == "swapped":
        return "7 letting go" if "silenced" in marks else "6 swapped"
    if state != "begun":
        return f"8 {state}"
    if compared:
        return "5 compared"
    if "complete" in marks:
        return "4 following or comparing"
    return "1 making" if not is_listed else "2 copying" if left else "3 building keys"


def _crash(bench: Bench) -> None:
    """As an immediate shutdown: one of the server's processes dies, and it starts again from its log."""
    with suppress(psycopg.Error, ProcessLookupError):  # the session may have ended by itself
        pid = bench.sql("SELECT pid FROM pg_stat_activity WHERE backend_type = 'client backend' LIMIT 1")[0][0]
        os.kill(pid, signal.SIGKILL)


def _until_up(bench: Bench) -> None:
    for _ in range(600):
        with suppress(psycopg.Error):
            bench.sql("SELECT 1")
            return
        time.sleep(0.1)


def main() -> None:
    what = sys.argv[1] if len(sys.argv) > 1 else "speed"
    number = sys.argv[2] if len(sys.argv) > 2 else ""
    usual = {"speed": (speed, 2_000_000), "waits": (waits, 500_000), "kills": (kills, 300)}
    doing, most = usual[what]
    server = start(find_binaries()[0])
    try:
        with tempfile.TemporaryDirectory() as folder:
            doing(Bench(server, Path(folder)), int(number or most))
    finally:
        server.stop()


if __name__ == "__main__":
    main()
