"""Whether `weigh` chooses well for tables ten times larger than memory: its first layouts built and run against others.

python -m benchmarks.large_tables [SCENARIO …] [--rows N] [--rounds N] [--verbose]

The server reads past the operating system's cache (PostgreSQL 18, debug_io_direct) and has 16 MB of buffers. Each
scenario's day in small (reads, inserts, retiring of a day) runs on the first three layouts, on the one that a
practitioner would name, and on the table as it is, round after round in turn. Blocks read are the server's own counts.
Time that other machines of the same host took is left out. Where days of the first layout or of the fastest one differ
by more than a quarter all the same, the machine is too uneven for times: the blocks read in a day decide.
"""

import argparse
import hashlib
import json
import os
import random
import re
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from uuid import UUID

import numpy as np
import psycopg

from benchmarks.running import stolen_s
from slabrow.servers.postgresql.private.server import start

PROGRAM = Path(sys.executable).with_name("slabrow")
NOW = datetime(2026, 3, 1, tzinfo=UTC)
DAYS = 360
VARIANTS = (
    96  # values that the workload file shows of each kind: with fewer, chance decides how many leaves a window meets
)
SETTINGS = {
    "debug_io_direct": "data", "io_method": "sync", "shared_buffers": "16MB", "autovacuum": "off",
    "synchronous_commit": "off", "max_parallel_workers_per_gather": "0", "jit": "off", "max_wal_size": "4GB",
    "max_locks_per_transaction": "1000", "maintenance_work_mem": "256MB", "effective_cache_size": "16MB",
}  # fmt: skip


@dataclass
class Kind:
    """A kind of statement: runs in a day, and its SQL with fresh values."""

    name: str
    times: int
    sql: Callable[[random.Random], str]


@dataclass
class Scenario:
    """A table, a day, and the options that say what a practitioner would build.

    columns    SQL of the columns after `n`, its number from 1 up, and `{rows}`
    """

    name: str
    create: str
    fill: str
    indexes: tuple[str, ...]
    kinds: tuple[Kind, ...]
    usual: tuple[str, ...]
    insert: str
    keep: str | None = "12 months"


class Clock:
    """The day that is played: windows and new rows move on with it, or the newest window would fill up."""

    now = NOW


def moment(days_ago: float) -> str:
    return (Clock.now - timedelta(days=days_ago)).strftime("'%Y-%m-%d %H:%M:%S+00'")


def uuid_of(number: int) -> UUID:
    return UUID(hashlib.md5(str(number).encode()).hexdigest())


def window(r: random.Random, days: float) -> str:
    begin = r.uniform(days + 1, DAYS - 1)
    return f"taken_at >= {moment(begin)} AND taken_at < {moment(begin - days)}"


AT = f"timestamptz '2026-03-01' - interval '{DAYS} days' * (1 - n / {{rows}}::float8)"
NOTE = "repeat('x', 70)"


def scenarios(rows: int) -> list[Scenario]:
    return [
        Scenario(
            "recent",
            "reading_id uuid NOT NULL, hive_id int NOT NULL, taken_at timestamptz NOT NULL, weight int, note text",
            f"md5(n::text)::uuid, (n * 7919::bigint) % 4000, {AT}, n % 90, {NOTE}",
            ("PRIMARY KEY (reading_id)", "INDEX (hive_id, taken_at)"),
            (
                Kind("recent", 1200, lambda r: f"SELECT avg(weight) FROM t WHERE hive_id = {r.randrange(4000)} "
                     f"AND taken_at >= {moment(1)}"),
                Kind("by-id", 200, lambda r: f"SELECT * FROM t WHERE reading_id = '{uuid_of(r.randint(1, rows))}'"),
                Kind("alarms", 30, lambda r: "SELECT count(*) FROM t WHERE weight > 80 AND "
                     f"taken_at >= {moment(7)}"),
            ),
            ("--key", "taken_at", "--by", "range", "--span", "1 month"),
            "md5((%s)::text)::uuid, %s % 4000, timestamptz %d + %s * interval '30 s', 5, repeat('x', 70)",
        ),
        Scenario(
            "tenants",
            "entry_id bigint NOT NULL, cooperative_id int NOT NULL, taken_at timestamptz NOT NULL, weight int, note text",
            f"n, abs(hashint4(n) % 300), {AT}, n % 90, {NOTE}",
            ("PRIMARY KEY (entry_id)", "INDEX (cooperative_id)"),
            (
                Kind("balance", 150, lambda r: f"SELECT sum(weight) FROM t WHERE cooperative_id = {r.randrange(300)}"),
                Kind("by-id", 300, lambda r: f"SELECT * FROM t WHERE entry_id = {r.randint(1, rows)}"),
            ),
            ("--key", "cooperative_id", "--by", "hash", "--parts", "64"),
            "%s, %s % 300, timestamptz %d + %s * interval '30 s', 5, repeat('x', 70)",
            None,
        ),
        Scenario(
            "history",
            "reading_id bigint NOT NULL, hive_id int NOT NULL, taken_at timestamptz NOT NULL, weight int, note text",
            f"n, (n * 7919::bigint) % 4000, {AT}, n % 90, {NOTE}",
            ("PRIMARY KEY (reading_id)", "INDEX (hive_id)"),
            (
                Kind("by-id", 2500, lambda r: f"SELECT * FROM t WHERE reading_id = {r.randint(1, rows)}"),
                Kind("five", 200, lambda r: "SELECT weight FROM t WHERE reading_id IN "
                     f"({', '.join(str(r.randint(1, rows)) for _ in range(5))})"),
            ),
            ("--key", "reading_id", "--by", "range", "--span", str(rows // 16)),
            "%s, %s % 4000, timestamptz %d + %s * interval '30 s', 5, repeat('x', 70)",
            None,
        ),
        Scenario(
            "cold",
            "reading_id bigint NOT NULL, hive_id int NOT NULL, taken_at timestamptz NOT NULL, weight int, note text",
            f"n, (n * 7919::bigint) % 4000, {AT}, n % 90, {NOTE}",
            ("PRIMARY KEY (reading_id)",),
            (
                Kind("days", 60, lambda r: f"SELECT avg(weight) FROM t WHERE {window(r, 3)}"),
                Kind("month", 12, lambda r: f"SELECT hive_id, avg(weight) FROM t WHERE {window(r, 30)} GROUP BY 1"),
            ),
            ("--key", "taken_at", "--by", "range", "--span", "1 month"),
            "%s, %s % 4000, timestamptz %d + %s * interval '30 s', 5, repeat('x', 70)",
        ),
        Scenario(
            "giants",
            "entry_id bigint NOT NULL, cooperative_id int NOT NULL, taken_at timestamptz NOT NULL, weight int, note text",
            f"n, CASE WHEN n % 10 < 3 THEN 1 WHEN n % 10 < 5 THEN 2 ELSE 3 + (n * 7919::bigint) % 503 END, {AT}, n % 90, "
            f"{NOTE}",
            ("PRIMARY KEY (entry_id)", "INDEX (cooperative_id, taken_at)"),
            (
                Kind("small", 150, lambda r: f"SELECT sum(weight) FROM t WHERE cooperative_id = {r.randint(3, 505)}"),
                Kind("recent", 500, lambda r: f"SELECT sum(weight) FROM t WHERE cooperative_id = {r.randint(3, 505)} "
                     f"AND taken_at >= {moment(7)}"),
                Kind("giant-week", 12, lambda r: f"SELECT sum(weight) FROM t WHERE cooperative_id = {r.randint(1, 2)} "
                     f"AND taken_at >= {moment(7)}"),
                Kind("giant-month", 6, lambda r: f"SELECT sum(weight) FROM t WHERE cooperative_id = {r.randint(1, 2)} "
                     f"AND {window(r, 30)}"),
            ),
            ("--key", "taken_at", "--by", "range", "--span", "1 month"),
            "%s, CASE WHEN %s % 10 < 3 THEN 1 WHEN %s % 10 < 5 THEN 2 ELSE 3 + %s % 503 END, timestamptz %d + %s * interval '30 s', 5, repeat('x', 70)",
        ),
    ]  # fmt: skip


@dataclass
class Built:
    """A layout on the server. reads and ms of each kind, one entry for each round: medians are reported."""

    name: str
    table: str
    candidate: dict
    ms: dict[str, list[float]] = field(default_factory=dict)
    reads: dict[str, list[float]] = field(default_factory=dict)

    def day_ms(self, rounds: int) -> list[float]:
        return [sum(each[number] for each in self.ms.values() if len(each) > number) for number in range(rounds)]

    def day_blocks(self) -> float:
        """Blocks read in a day, of tables and indexes."""
        return sum(statistics.mean(each) for each in self.reads.values())


class Bench:
    def __init__(self, dsn: str, folder: Path, scenario: Scenario, rows: int):
        self.dsn, self.folder, self.scenario, self.rows = dsn, folder, scenario, rows
        self.connection = psycopg.connect(dsn, autocommit=True)
        self.random = random.Random(7)

    def sql(self, text: str) -> list[tuple]:
        cursor = self.connection.execute(text.encode())
        return cursor.fetchall() if cursor.description else []

    def slabrow(self, *arguments: str) -> str:
        done = subprocess.run(
            [PROGRAM, *arguments, "--quiet"], cwd=self.folder, env={**os.environ, "SLABROW_DSN": self.dsn},
            capture_output=True, text=True,
        )  # fmt: skip
        if done.returncode:
            raise SystemExit(f"slabrow {' '.join(arguments)}: {done.stderr}")
        return done.stdout

    def make(self) -> None:
        s = self.scenario
        self.sql("DROP SCHEMA IF EXISTS slabrow CASCADE; DROP SCHEMA public CASCADE; CREATE SCHEMA public")
        self.sql(f"CREATE TABLE t ({s.create})")
        self.sql(f"INSERT INTO t SELECT {s.fill.format(rows=self.rows)} FROM generate_series(1, {self.rows}) n")
        self.index("t")
        self.sql("VACUUM ANALYZE t")
        lines = []
        sampler = random.Random(11)
        Clock.now = NOW
        for kind in s.kinds:
            for number in range(VARIANTS):
                lines.append(
                    f"-- name: {kind.name}/{number}\n-- weight: {kind.times / VARIANTS:.4f}\n{kind.sql(sampler)};"
                )
        (self.folder / "workload.sql").write_text("\n".join(lines))

    def index(self, table: str) -> None:
        for each in self.scenario.indexes:
            kind, columns = each.split(" (", 1)
            self.sql(f"CREATE INDEX ON {table} ({columns}" if kind == "INDEX" else f"ALTER TABLE {table} ADD {each}")

    def weigh(self, *arguments: str) -> dict:
        keep = ("--keep", self.scenario.keep) if self.scenario.keep else ()
        asked = ("weigh", "public.t", "--workload", "workload.sql", "--now", NOW.isoformat(), *keep)
        return json.loads(self.slabrow(*asked, *arguments, "--format", "json"))

    def build(self, first: int) -> list[Built]:
        """The first layouts, the table as it is, and the practitioner's."""
        found = self.weigh()
        ranked = found["candidates"]
        chosen = [(each, ()) for each in ranked[:first]]
        chosen += [(each, ()) for each in ranked if each["by"] == "none" and each["rank"] > first]
        usual = next(each for each in self.weigh(*self.scenario.usual)["candidates"] if each["by"] != "none")
        if describe(usual) not in [describe(each) for each, _ in chosen]:
            chosen.append((usual, self.scenario.usual))
        return [self.copy(number, candidate, options) for number, (candidate, options) in enumerate(chosen)]

    def copy(self, number: int, candidate: dict, options: tuple[str, ...]) -> Built:
        name = describe(candidate)
        if candidate["by"] == "none":
            return Built(name, "t", candidate)
        file, table = self.folder / f"{number}.toml", f"t{number}"
        file.unlink(missing_ok=True)
        self.weigh(*options, "--write", file.name, "--choose", str(candidate["rank"]))
        text = file.read_text().replace('"public.t"', f'"public.{table}"')
        # The days that are played have to lie ahead.
        file.write_text(re.sub(r'(ahead +)= "[23] days"', r'\1= "20 days"', text))
        self.sql(f"CREATE TABLE {table} (LIKE t)")
        self.sql(f"INSERT INTO {table} SELECT * FROM t")
        self.index(table)
        self.sql(f"ANALYZE {table}")
        self.slabrow("convert", "--table", f"public.{table}", "--layout", file.name, "--way", "locked", "--go",
                     "--now", NOW.isoformat(), "--pretend")  # fmt: skip
        self.sql(f"DROP TABLE {table}_before")
        self.sql(f"VACUUM ANALYZE {table}")
        return Built(name, table, candidate)

    def deck(self, seed: int) -> list[tuple[str, str]]:
        """A day's statements, shuffled alike for every layout."""
        shuffler = random.Random(seed)
        Clock.now = NOW + timedelta(days=seed)
        deck = [(kind.name, kind.sql(shuffler)) for kind in self.scenario.kinds for _ in range(kind.times)]
        a_day = self.rows // DAYS
        batch = max(1, a_day // 40)
        for number in range(40):
            values = []
            for row in range(batch):
                key = self.rows + 1 + seed * a_day + number * batch + row
                template = self.scenario.insert.replace("%d", moment(0))
                text = template.replace("%s", str(key), template.count("%s") - 1)
                values.append(text.replace("%s", str(number * batch + row)))
            deck.append(("insert", "INSERT INTO t VALUES " + ", ".join(f"({each})" for each in values)))
        shuffler.shuffle(deck)
        return deck

    def play(self, built: Built, deck: list[tuple[str, str]], *, counts: bool) -> None:
        ms: dict[str, float] = {}
        reads: dict[str, int] = {}
        began_deck, stolen = time.perf_counter(), stolen_s()
        for name, sql in deck:
            text = re.sub(r"(FROM|INTO) t\b", rf"\1 {built.table}", sql)
            began = time.perf_counter()
            row = self.connection.execute(
                f"EXPLAIN (ANALYZE, BUFFERS, TIMING OFF, FORMAT JSON) {text}".encode()
            ).fetchone()
            took = (time.perf_counter() - began) * 1e3
            plan = row[0][0]["Plan"]
            ms[name] = ms.get(name, 0.0) + took
            reads[name] = reads.get(name, 0) + plan.get("Shared Read Blocks", 0)
        if counts:
            took_deck = time.perf_counter() - began_deck
            ours = max(0.1, 1 - (stolen_s() - stolen) / took_deck)
            for name in ms:
                built.ms.setdefault(name, []).append(ms[name] * ours)
                built.reads.setdefault(name, []).append(reads[name])

    def retire(self, built: Built) -> None:
        """The oldest day: by DELETE and VACUUM, or its share of the oldest partition."""
        if self.scenario.keep is None:
            return
        oldest = f"timestamptz '2026-03-01' - interval '{DAYS} days'"
        began, blocks = time.perf_counter(), self.blocks_read()
        share = 1.0
        candidate = built.candidate
        if candidate["by"] == "range" and candidate["key"] == ["taken_at"]:
            parents = self.sql(f"SELECT inhrelid::regclass FROM pg_inherits WHERE inhparent = '{built.table}'::regclass "
                               "AND pg_get_expr((SELECT relpartbound FROM pg_class WHERE oid = inhrelid), inhrelid) <> "
                               "'DEFAULT' ORDER BY pg_get_expr((SELECT relpartbound FROM pg_class WHERE oid = inhrelid), "
                               "inhrelid) LIMIT 1")  # fmt: skip
            began = time.perf_counter()
            self.sql(f"ALTER TABLE {built.table} DETACH PARTITION {parents[0][0]}")
            self.sql(f"DROP TABLE {parents[0][0]}")
            share = candidate["partitions"] / DAYS / max(1, len(candidate["groups"] or []) or 1)
        else:
            self.sql(f"DELETE FROM {built.table} WHERE taken_at < {oldest} + interval '1 day'")
            self.sql(f"VACUUM {built.table}")
        took = (time.perf_counter() - began) * 1e3 * min(1.0, share)
        built.ms["retire"] = [took] * len(next(iter(built.ms.values())))
        built.reads["retire"] = [(self.blocks_read() - blocks) * min(1.0, share)]

    def blocks_read(self) -> int:
        self.sql("SELECT pg_stat_force_next_flush()")
        return self.sql("SELECT blks_read FROM pg_stat_database WHERE datname = current_database()")[0][0]


def describe(candidate: dict) -> str:
    def one(part: dict) -> str:
        size = part["span"] or part["parts"] or (f"{len(part['groups'])} groups" if part["groups"] else "")
        return f"{part['by']} {','.join(part['key'])} {size}".strip()

    return one(candidate) + (f" / {one(candidate['within'])}" if candidate["within"] else "")


def predicted(built: Built, kinds: tuple[Kind, ...]) -> dict[str, float]:
    """Blocks read by one run of each kind."""
    found: dict[str, list[float]] = {kind.name: [] for kind in kinds}
    for query in built.candidate["queries"]:
        found[query["name"].split("/")[0]].append(query["reads"])
    return {name: statistics.mean(each) for name, each in found.items()}


def report(scenario: Scenario, built: list[Built], rounds: int, verbose: bool) -> tuple[bool, int, int, list]:
    print(f"\n{scenario.name}: {len(built)} layouts, seconds of a day")
    day = {each.table: statistics.median(each.day_ms(rounds)) for each in built}
    fine = total = 0
    for each in built:
        c = each.candidate
        guess = c["workload_ms_a_day"] + c["insert_ms_a_day"] + c["retire_ms_a_day"]
        of_kinds = predicted(each, scenario.kinds)
        seen = {k.name: statistics.mean(each.reads[k.name]) / k.times for k in scenario.kinds}
        print(f"  {each.name:55} predicted {guess / 1e3:8.2f} measured {day[each.table] / 1e3:8.2f}, "
              f"blocks read {each.day_blocks():9.0f}")  # fmt: skip
        words = []
        for name, expected in of_kinds.items():
            ok = abs(expected - seen[name]) <= max(0.15 * seen[name], 0.25)
            fine, total = fine + ok, total + 1
            words.append(f"{name} {expected:.2f}/{seen[name]:.2f}{'' if ok else ' !'}")
        inserts = c["insert_reads_a_day"], statistics.mean(each.reads["insert"])
        print(f"      blocks read, predicted/measured: {', '.join(words)}; inserts {inserts[0]:.0f}/{inserts[1]:.0f}")
        if verbose:
            print("      ms " + ", ".join(f"{name} {statistics.median(ms):.0f}" for name, ms in each.ms.items())
                  + f" (predicted workload {c['workload_ms_a_day']:.0f} insert {c['insert_ms_a_day']:.0f} "
                  f"retire {c['retire_ms_a_day']:.1f})")  # fmt: skip
    first = built[0]
    days = {each.table: each.day_ms(rounds) for each in built}
    fastest = min(built, key=lambda each: day[each.table])
    uneven = max(max(days[each.table]) / min(days[each.table]) for each in (first, fastest))
    by_time = {each.table: day[each.table] for each in built}
    by_blocks = {each.table: each.day_blocks() for each in built}
    decides = by_blocks if uneven > 1.25 else by_time
    order = [each.candidate["workload_ms_a_day"] + each.candidate["insert_ms_a_day"] + each.candidate["retire_ms_a_day"]
             for each in built]  # fmt: skip
    correlation = spearman(order, [day[each.table] for each in built])
    for what, of in (("time", by_time), ("blocks read", by_blocks)):
        best = min(built, key=lambda each: of[each.table])
        print(f"  first {first.name}: {of[first.table] / of[best.table]:.2f} of the best by {what}, {best.name}")
    ratio = decides[first.table] / min(decides.values())
    print(
        f"  days of one layout differ by up to {uneven:.2f}: {'blocks read' if uneven > 1.25 else 'time'} decide"
        f"{'' if uneven > 1.25 else 's'}, {ratio:.2f} (wanted <= 1.25); rank correlation {correlation:.2f}"
    )
    now = next(place for place, each in enumerate(built) if each.candidate["by"] == "none")
    base = day[built[now].table]
    pairs = [(guess / order[now], day[each.table] / base) for guess, each in zip(order, built, strict=True)]
    return ratio <= 1.25, fine, total, pairs


def spearman(one: list[float], other: list[float]) -> float:
    ranks = [np.argsort(np.argsort(each)) for each in (one, other)]
    return float(np.corrcoef(ranks[0], ranks[1])[0, 1]) if len(one) > 1 else 1.0


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("scenario", nargs="*")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--first", type=int, default=3)
    parser.add_argument("--verbose", action="store_true")
    options = parser.parse_args()
    server = start(settings=SETTINGS)
    good, fine, total = True, 0, 0
    pairs: list[tuple[float, float]] = []
    try:
        for scenario in scenarios(options.rows):
            if options.scenario and scenario.name not in options.scenario:
                continue
            with TemporaryDirectory() as folder:
                bench = Bench(server.dsn, Path(folder), scenario, options.rows)
                bench.make()
                built = bench.build(options.first)
                for number in range(options.rounds + 1):
                    for each in built if number % 2 else reversed(built):
                        # A day that is not counted fills the cache with what this layout keeps in it.
                        bench.play(each, bench.deck(2 * number), counts=False)
                        bench.play(each, bench.deck(2 * number + 1), counts=number > 0)
                for each in built:
                    bench.retire(each)
                ok, some, all_, some_pairs = report(scenario, built, options.rounds, options.verbose)
                pairs += some_pairs
                good, fine, total = good and ok, fine + some, total + all_
    finally:
        server.stop()
    print(f"\nreads within 15 % (or a quarter of a block): {fine} of {total}")
    correlation = spearman([guess for guess, _ in pairs], [seen for _, seen in pairs])
    print(f"rank correlation of all layouts, each against its table as it is: {correlation:.2f} (wanted >= 0.8)")
    return 0 if good and correlation >= 0.8 and fine >= 0.9 * total else 1


if __name__ == "__main__":
    sys.exit(main())
