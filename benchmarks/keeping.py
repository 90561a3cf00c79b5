"""What upkeep costs: 200 layouts of 50 partitions with nothing to do, and 1,000 partitions to create.

python -m benchmarks.keeping
"""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.private.server import find_binaries, start
from slabrow.servers.postgresql.read.tree_rows import BY_OID

TABLES, PARTITIONS, RUNS = 200, 50, 5
NOW = "2026-06-15"
PROGRAM = Path(sys.executable).with_name("slabrow")


def _seconds(*command: object) -> float:
    began = time.perf_counter()
    subprocess.run([str(each) for each in command], check=True, capture_output=True)
    return time.perf_counter() - began


def _layouts(folder: Path, tables: int, ahead: str, span: str = "1 month", first: str = "2022-06-01") -> None:
    entries = (
        f'[[layout]]\ntable = "public.reading_{number}"\nby = "range"\nkey = ["taken_at"]\nspan = "{span}"\n'
        f'from = {first}\nahead = "{ahead}"\n'
        for number in range(tables)
    )
    (folder / "slabrow.toml").write_text("\n".join(entries))


def _built(connection: Connection, tables: int) -> None:
    for number in range(tables):
        connection.execute(
            f"CREATE TABLE reading_{number} (hive int, taken_at timestamptz NOT NULL, weight int) PARTITION BY RANGE (taken_at)".encode()
        )


def idle(connection: Connection, dsn: str, folder: Path) -> tuple[float, float]:
    """Seconds: `slabrow tend` with nothing to do, and psql with one query for the same partitions."""
    _built(connection, TABLES)
    _layouts(folder, TABLES, "1 month")
    options = ["--layout", folder / "slabrow.toml", "--dsn", dsn, "--now", NOW, "--quiet"]
    _seconds(PROGRAM, "tend", *options, "--go", "--pretend")
    query = BY_OID.replace(
        "%s::oid[]", "(SELECT array_agg(oid) FROM pg_class WHERE relkind = 'p' AND relname ~ '^reading_')"
    )
    (folder / "query.sql").write_text(query.replace("%s", "false"))
    ours, theirs = [], []
    for _ in range(RUNS):
        ours.append(_seconds(PROGRAM, "tend", *options))
        theirs.append(_seconds("psql", "-X", "-q", "-d", dsn, "-f", folder / "query.sql"))
    return statistics.median(ours), statistics.median(theirs)


def creating(connection: Connection, dsn: str, folder: Path) -> tuple[float, float]:
    """Seconds: `slabrow tend --go` that creates 1,000 partitions of a table with two indexes, and psql with the same statements."""
    ours, theirs = [], []
    for _ in range(RUNS):
        took = []
        for way in ("script", "go"):
            for (name,) in connection.execute("SELECT relname FROM pg_class WHERE relkind = 'p'").fetchall():
                connection.execute(f"DROP TABLE {name}".encode())  # one by one: each takes locks
            connection.execute("DROP SCHEMA IF EXISTS slabrow CASCADE")
            _built(connection, 1)
            connection.execute(
                "ALTER TABLE reading_0 ADD PRIMARY KEY (hive, taken_at); CREATE INDEX ON reading_0 (taken_at)"
            )
            connection.execute("VACUUM")
            _layouts(folder, 1, "999 days", "1 day", NOW)
            options = ["--layout", folder / "slabrow.toml", "--dsn", dsn, "--now", NOW, "--quiet"]
            _seconds(PROGRAM, "tend", *options, "--script", folder / "script.sql")  # both meet the same warm catalogue
            if way == "go":
                took.append(_seconds(PROGRAM, "tend", *options, "--go", "--pretend"))
                continue
            took.append(_seconds("psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", "-d", dsn, "-f", folder / "script.sql"))
        theirs.append(took[0])
        ours.append(took[1])
    row = connection.execute("SELECT count(*) FROM pg_class WHERE relispartition AND relkind = 'r'").fetchone()
    assert row is not None
    print(f"  ({row[0]} partitions)")
    return statistics.median(ours), statistics.median(theirs)


def main() -> None:
    server = start(find_binaries()[0], {})
    try:
        with tempfile.TemporaryDirectory() as name, connect(server.dsn) as connection:
            ours, theirs = idle(connection, server.dsn, Path(name))
            print(f"nothing to do on {TABLES} tables of {PARTITIONS} partitions: {ours:.2f} s, psql with one query {theirs:.2f} s: "
                  f"ratio {ours / theirs:.2f} (wanted: 1.5)")  # fmt: skip
            ours, theirs = creating(connection, server.dsn, Path(name))
            print(
                f"creating 1,000 partitions: {ours:.2f} s, psql -f {theirs:.2f} s: ratio {ours / theirs:.2f} (wanted: 1.1)"
            )
    finally:
        server.stop()


if __name__ == "__main__":
    main()
