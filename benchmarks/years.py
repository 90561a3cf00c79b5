"""Five years of upkeep, day by day, on a real server: the layouts of the demo, and one by week and one by number.

    python -m benchmarks.years [DAYS] [--program]

Every day upkeep runs with that day as its clock, within this process or with --program as the program that people run;
then rows come for that day and for the days around it. Every day the
partitions that `ahead` asks for have to be there, nothing younger than `keep` may be gone, no row may be lost that is
younger, and the number of partitions has to stay bounded.
"""

import argparse
import json
import subprocess
import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

from slabrow.demo.schema import LAYOUTS, TABLES
from slabrow.files.layout_file import read_layouts
from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.private.server import find_binaries, start
from slabrow.work.context import Context
from slabrow.work.tending.tend import TendOptions, tend

PROGRAM = Path(sys.executable).with_name("slabrow")
FIRST = datetime(2025, 1, 13, 3, tzinfo=UTC)
MORE = """
[[layout]]
table     = "apiary.weekly"
by        = "range"
key       = ["day"]
span      = "1 week"
from      = 2025-01-06
ahead     = "2 weeks"
keep      = "26 weeks"
past_keep = "drop"

[[layout]]
table     = "apiary.scan"
by        = "range"
key       = ["scan_id"]
span      = 10000
from      = 0
ahead     = "10 days"
keep      = 200000
past_keep = "drop"
"""
MOST = {"apiary.reading": 20, "apiary.weekly": 31, "apiary.scan": 26, "apiary.coop_event": 16, "apiary.inspection": 3}


def _built(connection: Connection) -> None:
    connection.execute(TABLES.encode())
    for table, by in (
        ("reading", "RANGE (taken_at)"), ("coop_event", "HASH (coop_id)"), ("inspection", "LIST (zone_code)"),
    ):  # fmt: skip
        connection.execute(f"ALTER TABLE apiary.{table} RENAME TO plain".encode())
        connection.execute(f"CREATE TABLE apiary.{table} (LIKE apiary.plain) PARTITION BY {by}".encode())
        connection.execute("DROP TABLE apiary.plain")
    connection.execute("CREATE TABLE apiary.weekly (day date NOT NULL) PARTITION BY RANGE (day)")
    connection.execute("CREATE TABLE apiary.scan (scan_id bigint NOT NULL) PARTITION BY RANGE (scan_id)")


def _rows(connection: Connection, now: datetime, number: int) -> None:
    """A day's rows: of today, late ones of up to ten days ago, and early ones of up to two months ahead."""
    connection.execute(
        "INSERT INTO apiary.reading (reading_id, hive_id, taken_at, weight_kg, humidity_pct, sound_db) SELECT %s * 100 + n, n, "
        "%s::timestamptz + (n - 10) * interval '1 day', 1, 1, 1 FROM generate_series(0, 70, 5) n",
        [number, now],
    )
    connection.execute("INSERT INTO apiary.weekly SELECT %s::date + n FROM generate_series(-4, 10) n", [now])
    connection.execute(
        "INSERT INTO apiary.scan SELECT n FROM generate_series(%s::bigint, %s::bigint) n",
        [number * 1_500, number * 1_500 + 1_499],
    )


def _faults(connection: Connection, now: datetime) -> list[str]:
    """What is not as it has to be on this day."""
    faults = []
    for table, most in MOST.items():
        row = connection.execute("SELECT count(*) FROM pg_inherits WHERE inhparent = %s::regclass", [table]).fetchone()
        if row is None or row[0] > most:
            faults.append(f"{table} has {row} partitions")
    ahead = "SELECT count(*) FROM apiary.reading_rest"
    row = connection.execute(ahead).fetchone()
    if row is None or row[0]:
        faults.append(f"{row} rows lie in the catch-all of apiary.reading")
    for table, column, kept in (("reading", "taken_at", "13 months"), ("weekly", "day", "26 weeks")):
        # Each day had as many rows as every other: a day that lacks some has lost them.
        row = connection.execute(
            f"SELECT count(DISTINCT {column}::date) FROM apiary.{table} WHERE {column} >= greatest(%s::timestamptz - "
            f"interval '{kept}' + interval '1 day', %s) AND {column} < %s".encode(),
            [now, FIRST, now],
        ).fetchone()
        wanted = connection.execute(
            f"SELECT %s::date - greatest(%s::timestamptz - interval '{kept}' + interval '1 day', %s)::date".encode(),
            [now, now, FIRST],
        ).fetchone()
        if row is None or wanted is None or row[0] < wanted[0]:
            faults.append(f"apiary.{table} has rows of {row} days within {kept}, wanted {wanted}")
    return faults


def _tended(dsn: str, file: Path, now: datetime, *, program: bool) -> tuple[list[str], str | None]:
    """What was done, and the error that ended it."""
    if program:
        command = [
            PROGRAM,
            "tend",
            "--go",
            "--dsn",
            dsn,
            "--layout",
            file,
            "--now",
            now.isoformat(),
            "--format",
            "json",
        ]
        run = subprocess.run(command, capture_output=True, text=True)
        if run.returncode not in (0, 1):
            return [], run.stderr or run.stdout
        return [f"{each['kind']} {each['partition']}" for each in json.loads(run.stdout)["actions"]], None
    context = Context(dsn, file, None, now, is_machine_clock=False)
    result = tend(context, read_layouts(file), TendOptions(True, None, "apiary"))
    error = None if result.error is None else str(result.error)
    return [f"{each.action.kind} {each.action.partition}" for each in result.actions], error


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("days", nargs="?", type=int, default=5 * 365 + 1)
    parser.add_argument("--program", action="store_true")
    options = parser.parse_args()
    days = options.days
    server = start(find_binaries()[0], {})
    faults = 0
    try:
        with tempfile.TemporaryDirectory() as name, connect(server.dsn) as connection:
            _built(connection)
            file = Path(name) / "slabrow.toml"
            file.write_text(LAYOUTS + MORE)
            tables = len(read_layouts(file))
            for number in range(days):
                now = FIRST + timedelta(days=number)
                for _ in range(2):  # before the rows of the day, and once more: then there is nothing to do
                    actions, error = _tended(server.dsn, file, now, program=options.program)
                found = [f"{action} a second time" for action in actions] + ([error] if error else [])
                _rows(connection, now, number)
                for fault in (*found, *_faults(connection, now)):
                    print(f"{now:%Y-%m-%d}: {fault}")
                    faults += 1
            row = connection.execute("SELECT kind, count(*) FROM apiary.ledger GROUP BY 1 ORDER BY 1").fetchall()
            done = ", ".join(f"{kind} {count}" for kind, count in row)
            print(f"{days} days of upkeep on {tables} tables: {done}; faults {faults}")
    finally:
        server.stop()
    return 0 if faults == 0 else 1


if __name__ == "__main__":
    sys.exit(main())
