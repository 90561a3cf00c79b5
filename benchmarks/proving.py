"""How fast partitions are told: predicting against asking the server, on a table of 1,000 partitions.

python -m benchmarks.proving
"""

import gc
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import date, timedelta
from pathlib import Path

from slabrow.core.pruning.predict import Predictor
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.values.names import Name
from slabrow.core.weighing.workload import Collector
from slabrow.servers.postgresql.ask import predicting
from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.private.server import find_binaries, start
from slabrow.servers.postgresql.read import catalogue
from slabrow.work.weighing.workloads import as_queries

PARTITIONS, RUNS = 1_000, 5
FIRST = date(2024, 1, 1)


def _built(connection: Connection) -> None:
    connection.execute("CREATE TABLE reading (hive int, day date, weight int) PARTITION BY RANGE (day)")
    for number in range(PARTITIONS):
        low, high = FIRST + timedelta(number), FIRST + timedelta(number + 1)
        connection.execute(
            f"CREATE TABLE reading_{number} PARTITION OF reading FOR VALUES FROM ('{low}') TO ('{high}')".encode()
        )
    connection.execute(
        "INSERT INTO reading SELECT n % 50, date '2024-01-01' + n % 1000, n FROM generate_series(1, 20000) n"
    )
    connection.execute("ANALYZE reading")


def _queries(many: int) -> list[str]:
    """Every third reads all partitions, every third a month, every third one day."""
    found = []
    for number in range(many):
        day = FIRST + timedelta(number * 31 % 900)
        where = [
            f"hive = {number % 50}",
            f"day >= '{day}' AND day < '{day + timedelta(30)}'",
            f"day = '{day}' AND hive = {number % 50}",
        ]
        found.append(f"SELECT count(*) FROM reading WHERE {where[number % 3]}")
    return found


def compared(connection: Connection) -> tuple[float, float, float]:
    """Seconds for 30 statements: predicted for the first time, predicted again with other values, planned by the server."""
    predictor, around = _predictor(connection)
    queries = _queries(30)
    first, asked = [], []
    for _ in range(RUNS):
        predictor = Predictor(predictor.tree, predictor.schema)
        began = time.perf_counter()
        for sql in queries:
            predictor.touched(sql, around)
        first.append(time.perf_counter() - began)
        began = time.perf_counter()
        for sql in queries:
            connection.execute(f"EXPLAIN (FORMAT JSON) {sql}".encode()).fetchall()
        asked.append(time.perf_counter() - began)
    began = time.perf_counter()
    for sql in queries:
        predictor.touched(sql, around)
    return statistics.median(first), time.perf_counter() - began, statistics.median(asked)


def _predictor(connection: Connection) -> tuple[Predictor, Surroundings]:
    tree = catalogue.tree(connection, Name("public", "reading"))
    predictor = Predictor(tree, predicting.schema(connection, [Name(None, "reading")]))
    zone = catalogue.time_zone(connection)
    assert zone is not None
    return predictor, Surroundings(zone, catalogue.moment(connection))


def shapes(connection: Connection) -> float:
    """Seconds for 10,000 statements of 300 shapes, as a log gives them, on the same table."""
    predictor, around = _predictor(connection)
    statements = [
        f"SELECT {'hive, ' * (number % 5)}weight FROM reading r{number // 5 % 60} WHERE day >= '{FIRST + timedelta(number % 900)}' "
        f"AND day < '{FIRST + timedelta(number % 900 + 7)}' AND hive = {number}"
        for number in range(10_000)
    ]
    began = time.perf_counter()
    collector = Collector()
    for sql in statements:
        collector.add(sql)
    found = collector.workload("log")
    for query in as_queries(found):
        predictor.touched(query.sql, around)
    for sql in statements:
        predictor.touched(sql, around)
    took = time.perf_counter() - began
    print(f"  ({len(found.shapes)} shapes)")
    return took


def proving(connection: Connection, dsn: str) -> tuple[float, float]:
    """Seconds: `slabrow prove` as a whole process, and the server's own EXPLAIN of the same 30 queries in a new session."""
    program = Path(sys.executable).with_name("slabrow")
    ours, theirs = [], []
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "queries.sql"
        file.write_text(";\n".join(_queries(30)) + ";\n")
        explains = Path(folder) / "explains.sql"
        explains.write_text("".join(f"EXPLAIN (VERBOSE, FORMAT JSON, SUMMARY) {sql};\n" for sql in _queries(30)))
        for _ in range(RUNS):
            began = time.perf_counter()
            subprocess.run(
                [program, "prove", "--queries", file, "--dsn", dsn, "--quiet"], check=True, capture_output=True
            )
            ours.append(time.perf_counter() - began)
            began = time.perf_counter()
            subprocess.run(["psql", "-X", "-q", "-d", dsn, "-f", explains], check=True, capture_output=True)
            theirs.append(time.perf_counter() - began)
    return statistics.median(ours), statistics.median(theirs)


def main() -> None:
    gc.set_threshold(200_000)  # as the program sets it
    server = start(find_binaries()[0], {})
    try:
        connection = connect(server.dsn)
        _built(connection)
        first, again, asked = compared(connection)
        print(f"30 statements on {PARTITIONS} partitions: predicted in {first * 1e3:.1f} ms, again in {again * 1e3:.1f} ms; "
              f"the server's EXPLAIN {asked * 1e3:.0f} ms: {asked / first:.0f} times as long (wanted: 50)")  # fmt: skip
        took = shapes(connection)
        print(f"10,000 statements of 300 shapes: {took:.1f} s (wanted: below 10)")
        ours, theirs = proving(connection, server.dsn)
        print(
            f"prove of 30 queries as a process {ours:.2f} s, psql with the EXPLAINs {theirs:.2f} s: ratio {ours / theirs:.2f} (wanted: 1.2)"
        )
        connection.close()
    finally:
        server.stop()


if __name__ == "__main__":
    main()
