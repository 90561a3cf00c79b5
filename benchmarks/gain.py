"""What partitions bring, in small: what practitioners report for this work, each with its figure.

python -m benchmarks.gain [months years tenants load]

The server reads past the operating system's cache and has 16 MB of buffers, as in benchmarks.large_tables. Blocks are
the server's own counts; times are medians of runs in turn.
"""

import math
import random
import statistics
import sys
import time
from collections.abc import Callable
from itertools import pairwise

import psycopg

from benchmarks.large_tables import SETTINGS
from slabrow.servers.postgresql.private.server import start

ROWS = 600_000


class Gain:
    """One server, and questions about it."""

    def __init__(self, dsn: str):
        self.dsn = dsn
        self.connection = psycopg.connect(dsn, autocommit=True)

    def sql(self, text: str) -> list[tuple]:
        cursor = self.connection.execute(text.encode())
        return cursor.fetchall() if cursor.description else []

    def blocks(self, query: str) -> tuple[int, int]:
        """Visited and read from disk by one run."""
        plan = self.sql(f"EXPLAIN (ANALYZE, BUFFERS, TIMING OFF, FORMAT JSON) {query}")[0][0][0]["Plan"]
        return plan["Shared Hit Blocks"] + plan["Shared Read Blocks"], plan["Shared Read Blocks"]

    def partitioned(self, name: str, like: str, by: str, parts: list[tuple[str, str]]) -> None:
        """A copy of a table with these partitions: the ending of a name, and FOR VALUES …"""
        self.sql(f"CREATE TABLE {name} (LIKE {like} INCLUDING DEFAULTS) PARTITION BY {by}")
        for ending, bound in parts:
            self.sql(f"CREATE TABLE {name}_{ending} PARTITION OF {name} {bound}")
        self.sql(f"INSERT INTO {name} SELECT * FROM {like}")
        self.sql(f"VACUUM ANALYZE {name}")


def months(gain: Gain) -> bool:
    """A report over two of twelve months without an index reads a sixth of the blocks."""
    gain.sql(
        "CREATE TABLE reading AS SELECT n AS reading_id, n % 500 AS hive_id, timestamptz '2025-01-01 00:00+00' + "
        f"n * interval '365 days' / {ROWS} AS taken_at, repeat('x', 70) AS note FROM generate_series(0, {ROWS - 1}) n"
    )
    gain.sql("VACUUM ANALYZE reading")
    edges = [f"2025-{month:02d}-01" for month in range(1, 13)] + ["2026-01-01"]
    parts = [
        (f"m{place}", f"FOR VALUES FROM ('{low} 00:00+00') TO ('{high} 00:00+00')")
        for place, (low, high) in enumerate(pairwise(edges))
    ]
    gain.partitioned("reading_by_month", "reading", "RANGE (taken_at)", parts)
    query = "SELECT hive_id, count(*) FROM {} WHERE taken_at >= '2025-05-01 00:00+00' AND taken_at < '2025-07-01 00:00+00' GROUP BY 1"
    whole, some = (gain.blocks(query.format(name))[0] for name in ("reading", "reading_by_month"))
    print(
        f"months: {whole:,} blocks of the whole table, {some:,} of two months: 1/{whole / some:.2f} (wanted about 1/6)"
    )
    return 0.9 / 6 < some / whole < 1.1 / 6


def years(gain: Gain) -> bool:
    """A query of one year among sixteen, asked again and again, reads at least 50 times less from the disk."""
    gain.sql(
        "CREATE TABLE harvest AS SELECT n AS harvest_id, n % 500 AS hive_id, date '2010-01-01' + "
        f"(n::bigint * 5843 / {ROWS})::int AS taken_on, repeat('x', 70) AS note FROM generate_series(0, {ROWS - 1}) n"
    )
    gain.sql("VACUUM ANALYZE harvest")
    parts = [(f"y{year}", f"FOR VALUES FROM ('{year}-01-01') TO ('{year + 1}-01-01')") for year in range(2010, 2026)]
    gain.partitioned("harvest_by_year", "harvest", "RANGE (taken_on)", parts)
    read = {}
    for name in ("harvest", "harvest_by_year"):
        query = f"SELECT hive_id, count(*) FROM {name} WHERE taken_on >= '2019-01-01' AND taken_on < '2020-01-01' GROUP BY 1"
        read[name] = sum(gain.blocks(query)[1] for _ in range(40))
    ratio = read["harvest"] / max(1, read["harvest_by_year"])
    print(f"years: {read['harvest']:,} blocks read by 40 runs on the whole table, {read['harvest_by_year']:,} on one year of "
          f"sixteen: {ratio:.0f} times less (wanted >= 50)")  # fmt: skip
    return ratio >= 50


def tenants(gain: Gain) -> bool:
    """Thousands of list partitions, one for each tenant, against 32 hash parts: simple queries."""
    count = 2_000
    gain.sql(
        f"CREATE TABLE entry AS SELECT n AS entry_id, n % {count} AS coop_id, n % 90 AS weight FROM generate_series(1, 200000) n"
    )
    gain.partitioned(
        "entry_listed", "entry", "LIST (coop_id)", [(f"c{n}", f"FOR VALUES IN ({n})") for n in range(count)]
    )
    gain.partitioned("entry_hashed", "entry", "HASH (coop_id)",
                     [(f"p{n}", f"FOR VALUES WITH (MODULUS 32, REMAINDER {n})") for n in range(32)])  # fmt: skip
    for name in ("entry_listed", "entry_hashed"):
        gain.sql(f"CREATE INDEX ON {name} (entry_id)")
    draw = random.Random(5)
    ratios = {}
    cases: dict[str, Callable[[str], float]] = {
        "a look-up without the tenant": lambda name: _ms(
            gain.connection, f"SELECT * FROM {name} WHERE entry_id = {draw.randint(1, 200000)}"
        ),
        "a new connection's first look-up of a tenant": lambda name: _first_ms(
            gain.dsn, f"SELECT sum(weight) FROM {name} WHERE coop_id = {draw.randrange(count)}"
        ),
    }
    for what, run in cases.items():
        taken: dict[str, list[float]] = {"entry_listed": [], "entry_hashed": []}
        for _ in range(7):
            for name in taken:
                taken[name].append(run(name))
        listed, hashed = (statistics.median(taken[name]) for name in taken)
        ratios[what] = listed / hashed
        print(f"tenants: {what}: {listed:.1f} ms on {count:,} list partitions, {hashed:.1f} ms on 32 hash parts: "
              f"{listed / hashed:.1f} times faster (wanted >= 3)")  # fmt: skip
    return min(ratios.values()) >= 3


def _ms(connection: psycopg.Connection, query: str) -> float:
    began = time.perf_counter()
    connection.execute(query.encode()).fetchall()
    return (time.perf_counter() - began) * 1e3


def _first_ms(dsn: str, query: str) -> float:
    with psycopg.connect(dsn, autocommit=True) as connection:
        connection.execute("SELECT 1").fetchall()
        return _ms(connection, query)


def load(gain: Gain) -> bool:
    """A day and a night of reads and writes: what is paid for blocks read falls by two thirds."""
    gain.sql(
        "CREATE TABLE event AS SELECT n AS event_id, n::bigint * 7919 % 2000 AS hive_id, timestamptz '2026-03-01 00:00+00' - "
        f"interval '360 days' * (1 - n / {ROWS}::float8) AS taken_at, n % 90 AS weight, repeat('x', 70) AS note "
        f"FROM generate_series(1, {ROWS}) n"
    )
    edges = [f"2025-{month:02d}-01" for month in range(3, 13)] + [f"2026-{month:02d}-01" for month in range(1, 5)]
    parts = [
        (f"m{place}", f"FOR VALUES FROM ('{low} 00:00+00') TO ('{high} 00:00+00')")
        for place, (low, high) in enumerate(pairwise(edges))
    ]
    gain.partitioned("event_by_month", "event", "RANGE (taken_at)", parts)
    for name in ("event", "event_by_month"):
        gain.sql(f"CREATE INDEX ON {name} (hive_id)")
        gain.sql(f"VACUUM ANALYZE {name}")
    paid = {}
    for name in ("event", "event_by_month"):
        draw, number = random.Random(9), ROWS
        _flushed(gain)
        before = _read(gain)
        for hour in range(24):
            busy = 1 + math.sin((hour - 6) / 24 * 2 * math.pi)  # quiet at night, busy by day
            for _ in range(round(10 * busy)):
                gain.sql(
                    f"SELECT avg(weight) FROM {name} WHERE hive_id = {draw.randrange(2000)} AND taken_at >= '2026-02-20 00:00+00'"
                )
            for _ in range(round(busy)):
                gain.sql(f"SELECT count(*) FROM {name} WHERE taken_at >= '2026-02-22 00:00+00' AND weight > 85")
            for _ in range(5):
                rows = ", ".join(f"({number + row}, {(number + row) * 7919 % 2000}, timestamptz '2026-03-01 00:00+00' + "
                                 f"interval '{hour} hours', 5, repeat('x', 70))" for row in range(40))  # fmt: skip
                gain.sql(f"INSERT INTO {name} VALUES {rows}")
                number += 40
        _flushed(gain)
        paid[name] = _read(gain) - before
    fell = 1 - paid["event_by_month"] / paid["event"]
    print(f"load: {paid['event']:,} blocks read in a day and a night on one table, {paid['event_by_month']:,} on months: "
          f"{fell:.0%} less to pay (wanted >= 67 %)")  # fmt: skip
    return fell >= 2 / 3


def _flushed(gain: Gain) -> None:
    gain.sql("SELECT pg_stat_force_next_flush()")


def _read(gain: Gain) -> int:
    return gain.sql("SELECT blks_read FROM pg_stat_database WHERE datname = current_database()")[0][0]


CASES = {"months": months, "years": years, "tenants": tenants, "load": load}


def main(names: list[str]) -> int:
    server = start(settings=SETTINGS)
    try:
        gain = Gain(server.dsn)
        return 0 if all(CASES[name](gain) for name in names or CASES) else 1
    finally:
        server.stop()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
