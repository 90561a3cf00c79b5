"""Upkeep killed again and again under a writer: nothing lost, nothing doubled, every archive readable and equal.

    python -m benchmarks.kills [KILLS]
    python -m benchmarks.kills --together SECONDS

A table by day with a catch-all is tended while its days go by: partitions are made, swept and archived. Each run is killed
(SIGKILL) at a random moment while a writer adds rows, early and late ones too. After the last run every row that was ever
written has to stand in the table or in one archive, and in one of them only. With --together nothing is killed: two runs
begin at the same moment, again and again.
"""

import argparse
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pyarrow.parquet

from slabrow.files.archive_file import check_archive, read_manifest
from slabrow.servers.postgresql.private.server import find_binaries, start
from slabrow.servers.postgresql.write.sweeping import COPIED_ABOVE

PROGRAM = Path(sys.executable).with_name("slabrow")
LAYOUT = """
[[layout]]
table = "public.log"
by = "range"
key = ["at"]
span = "1 day"
ahead = "4 days"
keep = "10 days"
past_keep = "archive"
archive_to = "old"
at_most_retired = 99
at_most_share = 1.0
catch_all = true
"""
MANY = COPIED_ABOVE + 5_000
BEGIN = datetime(2026, 3, 1, tzinfo=UTC)


class Writer(threading.Thread):
    """Adds rows near a day that others move on; counts those that the server has taken."""

    def __init__(self, dsn: str) -> None:
        super().__init__(daemon=True)
        self.dsn, self.day, self.written, self.refused, self.ended = dsn, BEGIN, 0, 0, False
        self.adds_many = False  # once: more rows without a partition than a sweep moves under its lock

    def run(self) -> None:
        with psycopg.connect(self.dsn, autocommit=True) as connection:
            while not self.ended:
                try:
                    if self.adds_many:
                        self.adds_many = False
                        connection.execute(
                            "INSERT INTO log (at, n) SELECT %s::timestamptz + interval '5 days', n FROM generate_series(%s::int, %s::int) n",
                            [self.day, self.written, self.written + MANY - 1],
                        )
                        self.written += MANY
                    # From twelve days back to six days ahead: some have no partition any more, some none yet.
                    connection.execute(
                        "INSERT INTO log (at, n) SELECT %s::timestamptz + (random() * 18 - 12) * interval '1 day', n "
                        "FROM generate_series(%s::int, %s::int) n",
                        [self.day, self.written, self.written + 19],
                    )
                    self.written += 20
                except psycopg.Error:
                    self.refused += 1
                time.sleep(0.01)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])  # type: ignore[union-attr]
    parser.add_argument("kills", nargs="?", type=int, default=200)
    parser.add_argument("--together", type=int, metavar="SECONDS")
    options = parser.parse_args()
    chance = random.Random(7)
    server = start(find_binaries()[0], {})
    try:
        with tempfile.TemporaryDirectory() as name, psycopg.connect(server.dsn, autocommit=True) as connection:
            folder = Path(name)
            (folder / "slabrow.toml").write_text(LAYOUT)
            connection.execute("CREATE TABLE log (at timestamptz NOT NULL, n int) PARTITION BY RANGE (at)")
            environment = {**os.environ, "SLABROW_DSN": server.dsn}
            command = [PROGRAM, "tend", "--go", "--quiet", "--lock-wait", "5s", "--now"]
            day = BEGIN
            subprocess.run(
                [*command, day.isoformat()], cwd=folder, env=environment, check=True, stdout=subprocess.DEVNULL
            )
            writer = Writer(server.dsn)
            writer.start()
            began, killed = time.monotonic(), 0
            codes: Counter[int] = Counter()
            while killed < options.kills if options.together is None else time.monotonic() - began < options.together:
                day += timedelta(hours=chance.choice((0, 6, 12, 30)))
                writer.day, writer.adds_many = day, chance.random() < 0.25
                processes = [
                    subprocess.Popen(
                        [*command, day.isoformat()],
                        cwd=folder, env=environment, stdout=subprocess.DEVNULL,
                        stderr=None if options.together is None else subprocess.DEVNULL,
                    )
                    for _ in range(1 if options.together is None else 2)
                ]  # fmt: skip
                if options.together is not None:
                    codes.update(process.wait() for process in processes)
                    continue
                process = processes[0]
                time.sleep(0.3 + chance.random() * 1.5)
                if process.poll() is None:
                    process.send_signal(signal.SIGKILL)
                    killed += 1
                process.wait()
            took = time.monotonic() - began
            writer.ended = True
            writer.join()
            for _ in range(2):
                done = subprocess.run(
                    [*command, day.isoformat()], cwd=folder, env=environment, stdout=subprocess.DEVNULL, check=False
                )
            if options.together is not None:
                twice = connection.execute(
                    "SELECT kind, partition_name FROM slabrow.ledger WHERE state = 'done' AND kind <> 'create' "
                    "GROUP BY 1, 2 HAVING count(*) > 1"
                ).fetchall()
                print(
                    f"{sum(codes.values())} runs, two at a time; by exit code {dict(codes)}; done twice: {twice or 'nothing'}"
                )
            return judge(connection, folder, writer, killed, took, day, done.returncode)
    finally:
        server.stop()


def judge(
    connection: psycopg.Connection, folder: Path, writer: Writer, killed: int, took: float, day: datetime, code: int
) -> int:
    """Compares what was written with what stands where, and says so."""
    counts: dict[int, int] = {}
    for (n,) in connection.execute("SELECT n FROM log").fetchall():
        counts[n] = counts.get(n, 0) + 1
    in_table = len(counts)
    manifests = sorted((folder / "old").glob("*.json"))
    for path in manifests:
        manifest = read_manifest(path)
        check_archive(manifest, folder / "old" / manifest.file)
        values = pyarrow.parquet.read_table(folder / "old" / manifest.file).column("n").to_pylist()
        assert len(values) == manifest.rows, path
        for n in values:
            counts[n] = counts.get(n, 0) + 1
    lost = writer.written - len([n for n in counts if n < writer.written])
    doubled = sum(count > 1 for count in counts.values())
    partial = len(list((folder / "old").glob("*.partial")))
    orphans = connection.execute(
        "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind = 'r' AND NOT relispartition"
    ).fetchone()
    swept = connection.execute(
        "SELECT count(*), count(*) FILTER (WHERE row_count > %s) FROM slabrow.ledger WHERE kind = 'sweep' AND state = 'done'",
        [COPIED_ABOVE],
    ).fetchone()
    assert swept is not None
    print(f"{swept[0]} sweeps, {swept[1]} of them copied before the lock")
    print(
        f"{killed} kills in {took:.0f} s, {(day - BEGIN).days} days gone by; {writer.written:,} rows written "
        f"({writer.written / took:,.0f} a second), {writer.refused} inserts refused\n"
        f"in the table {in_table:,}, in {len(manifests)} archives the others; lost {lost}, doubled {doubled}, "
        f"partial files {partial}, tables outside {orphans[0] if orphans else '?'}; the last run ended with {code}"
    )
    print(json.dumps({"kills": killed, "lost": lost, "doubled": doubled, "partial": partial}))
    return 1 if lost or doubled or partial else 0


if __name__ == "__main__":
    sys.exit(main())
