"""`python -m benchmarks.rehearsing [ROWS] [SECONDS]`: what a rehearsal costs, and how like the real tables its own are.

Prints how long two layouts and the table as it is take in all, what the load itself took of a processor, and the rank
correlation of the measured with the weighed order; then, for each table of the demo, whether `weigh` has the same first
place on the made-up table as on the real one, and how many queries `prove` lays into the same leaves.
"""

import json
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

from slabrow.demo.data import Demo
from slabrow.demo.load import load
from slabrow.demo.schema import LAYOUTS
from slabrow.demo.workload import WORKLOAD
from slabrow.servers.families import open_session
from slabrow.servers.postgresql.private.server import with_memory

PROGRAM = Path(sys.executable).with_name("slabrow")
HASH = '[[layout]]\ntable = "apiary.reading"\nby = "hash"\nkey = ["hive_id"]\nparts = 8\n'
TABLES = {"apiary.reading": ("--keep", "13 months"), "apiary.coop_event": (), "apiary.inspection": ()}


def main() -> int:
    rows, seconds = (
        int(sys.argv[place]) if len(sys.argv) > place else usual for place, usual in ((1, 1_000_000), (2, 60))
    )
    server = with_memory(max(32 << 20, rows * 34))
    try:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for file, text in (("slabrow.toml", LAYOUTS), ("workload.sql", WORKLOAD), ("hash.toml", HASH)):
                (folder / file).write_text(text)
            with closing(open_session(server.dsn)) as session:
                load(session, Demo(rows), lambda _: None)
                session.execution.run("CREATE DATABASE scratch")
            _cost(folder, server.dsn, rows, seconds)
            _likeness(folder, server.dsn)
    finally:
        server.stop()
    return 0


def _cost(folder: Path, dsn: str, rows: int, seconds: int) -> None:
    began = time.monotonic()
    found = _json(folder, dsn, "rehearse", "apiary.reading", "--layout", "slabrow.toml", "--layout", "hash.toml",
                  "--workload", "workload.sql", "--rows", rows, "--for", f"{seconds}s")  # fmt: skip
    took = time.monotonic() - began
    client = max(each["client_cpu"] for each in found["layouts"])
    order = ", ".join(f"{each['name']} ({each['predicted_rank']})" for each in found["layouts"])
    print(
        f"rehearsal of {rows:,} rows, {seconds} s each: {took:.0f} s in all; the load took {client:.1%} of a processor"
    )
    print(f"measured order (weighed rank): {order}; rank correlation {found['rank_correlation']}")


def _likeness(folder: Path, dsn: str) -> None:
    scratch = dsn.replace("/postgres?", "/scratch?")
    for table, kept in TABLES.items():
        _json(folder, dsn, "rehearse", table, "--workload", "workload.sql", "--tables-only", "--scratch", scratch)
        first, leaves = [], []
        for place in (dsn, scratch):
            weighed = _json(folder, place, "weigh", table, "--workload", "workload.sql", "--now", "2026-03-01", *kept)
            candidate = weighed["candidates"][0]
            first.append({key: candidate[key] for key in ("by", "key", "span", "parts")})
            proved = _json(folder, place, "prove", "--queries", "workload.sql", "--table", table, "--laid-out")
            leaves.append([query["predicted"] for query in proved["queries"]])
        same = sum(one == other for one, other in zip(*leaves, strict=True))
        print(
            f"{table}: first place {'the same' if first[0] == first[1] else first}, {same} of {len(leaves[0])} queries alike"
        )


def _json(folder: Path, dsn: str, *arguments: object) -> dict:
    done = subprocess.run(
        [PROGRAM, *map(str, arguments), "--dsn", dsn, "--format", "json"], cwd=folder, capture_output=True, text=True
    )
    if done.returncode not in (0, 1):
        raise SystemExit(done.stderr)
    return json.loads(done.stdout)


if __name__ == "__main__":
    sys.exit(main())
