"""What an index on a thousand partitions costs: `index --create` against a plain loop of CREATE INDEX CONCURRENTLY.

python -m benchmarks.indexing [LEAVES]   default 1,000: paired runs in turn, and how long a look takes
"""

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg

from slabrow.servers.postgresql.private.server import find_binaries, start

PROGRAM = Path(sys.executable).with_name("slabrow")
ROWS = 5_000_000
TIMES = 3


def fill(dsn: str, leaves: int) -> None:
    with psycopg.connect(dsn, autocommit=True) as connection:
        connection.execute("CREATE SCHEMA apiary")
        connection.execute(
            "CREATE TABLE apiary.reading (reading_id bigint, hive_id int, weight numeric, "
            "PRIMARY KEY (reading_id)) PARTITION BY RANGE (reading_id)"
        )
        each = ROWS // leaves
        for leaf in range(leaves):
            connection.execute(
                f"CREATE TABLE apiary.reading_{leaf} PARTITION OF apiary.reading "
                f"FOR VALUES FROM ({leaf * each}) TO ({(leaf + 1) * each})"
            )
        connection.execute(
            f"INSERT INTO apiary.reading SELECT n, n % 100, n % 50 FROM generate_series(0, {each * leaves - 1}) n"
        )
        connection.execute("VACUUM ANALYZE apiary.reading")


def drop(dsn: str) -> None:
    with psycopg.connect(dsn, autocommit=True) as connection:
        connection.execute("DROP INDEX IF EXISTS apiary.by_hive")
        rows = connection.execute(
            "SELECT relname FROM pg_class WHERE relname ~ '^by_hive_' AND relkind = 'i'"
        ).fetchall()
        for (name,) in rows:
            connection.execute(f"DROP INDEX apiary.{name}")
        connection.execute("CHECKPOINT")


def timed(command: list[object], environment: dict[str, str]) -> float:
    began = time.monotonic()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, env=environment)
    return time.monotonic() - began


def main(leaves: int) -> None:
    binaries = find_binaries()[0]
    with tempfile.TemporaryDirectory() as folder:
        server = start(binaries, {"max_locks_per_transaction": "512"})
        try:
            fill(server.dsn, leaves)
            script = Path(folder) / "loop.sql"
            script.write_text(
                "".join(
                    f"CREATE INDEX CONCURRENTLY by_hive_{leaf} ON apiary.reading_{leaf} (hive_id, weight);\n"
                    for leaf in range(leaves)
                )
            )
            psql = binaries.folder / "psql"
            program = psql if psql.exists() else shutil.which("psql")
            environment = {**os.environ, "SLABROW_DSN": server.dsn}
            loop = [program, "-X", "-q", "-f", script, server.dsn]
            create = [PROGRAM, "index", "apiary.reading", "--create",
                      "CREATE INDEX by_hive ON apiary.reading (hive_id, weight)", "--go", "--quiet"]  # fmt: skip
            ratios = []
            for turn in range(TIMES):
                took = {}
                for name, command in (("psql", loop), ("slabrow", create))[:: 1 if turn % 2 == 0 else -1]:
                    drop(server.dsn)
                    took[name] = timed(command, environment)
                ratios.append(took["slabrow"] / took["psql"])
                print(f"psql {took['psql']:.1f} s, slabrow {took['slabrow']:.1f} s: {ratios[-1]:.2f}", flush=True)
            print(f"ratio {statistics.median(ratios):.2f} for {leaves:,} leaves")
            print(f"a look: {timed([PROGRAM, 'index', 'apiary.reading'], environment):.2f} s")
        finally:
            server.stop()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_000)
