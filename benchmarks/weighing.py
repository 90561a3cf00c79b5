"""`python -m benchmarks.weighing [TABLE …]`: the model against the truth.

Weighs each demo table, builds the first candidates, some of the others and "leave it as it is" for real, runs the
demo's workload on each, and reports measured blocks and milliseconds of a day beside the predicted ones.
"""

import json
import os
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from slabrow.core.sql.mentions import tables_in
from slabrow.core.values.names import parse_name
from slabrow.core.weighing.ranking import LEAST_GAIN
from slabrow.demo.data import Demo
from slabrow.demo.load import load
from slabrow.demo.workload import WORKLOAD
from slabrow.files.query_file import FileQuery, parse_queries
from slabrow.servers.postgresql.ask.queries import Query, run
from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.private.server import start
from slabrow.servers.postgresql.session import PostgresSession

PROGRAM = Path(sys.executable).with_name("slabrow")
READINGS = int(os.environ.get("SLABROW_BENCH_ROWS", "2000000"))
TABLES = ("apiary.reading", "apiary.coop_event", "apiary.inspection")
FIRST, OTHERS = 2, 7  # candidates built: the first ranks, which are often alike, and some spread over the others
TURNS = 9


@dataclass(frozen=True)
class Measured:
    """A candidate built for real. ms and blocks of a day's queries, predicted and measured."""

    name: str
    predicted_ms: float
    ms: float
    predicted_blocks: float
    blocks: float
    largest: tuple[str, ...] = ()


def main(tables: tuple[str, ...]) -> bool:
    server = start()
    with TemporaryDirectory() as folder:
        try:
            connection = connect(server.dsn)
            load(PostgresSession(connection), Demo(READINGS), lambda _: None)
            (Path(folder) / "workload.sql").write_text(WORKLOAD)
            fine = [_table(connection, server.dsn, table, Path(folder)) for table in tables]
            return all(fine)
        finally:
            server.stop()


def _table(connection: Connection, dsn: str, table: str, folder: Path) -> bool:
    queries = [query for query in parse_queries(WORKLOAD, "demo") if _reads(query, table)]
    asked = ("weigh", table, "--workload", "../workload.sql", "--now", "2026-03-01", "--costs", "costs.toml")
    folder = folder / table
    folder.mkdir()
    found = json.loads(_slabrow(dsn, folder, *asked, "--calibrate", "--format", "json"))
    ranked = found["candidates"]
    # A conversion is one transaction, and locks every partition with its indexes.
    rest = [each for each in ranked[FIRST:] if each["by"] != "none" and each["partitions"] <= 400]
    chosen = [*ranked[:FIRST], *(rest[place] for place in np.linspace(0, len(rest) - 1, OTHERS).astype(int))]
    chosen += [each for each in ranked if each["by"] == "none" and each not in chosen]
    runs = {query.name: query.weight for query in queries}
    chosen.sort(key=lambda each: each["rank"])
    for candidate in chosen:
        if candidate["by"] != "none":
            rank = str(candidate["rank"])
            _slabrow(dsn, folder, *asked, "--write", f"{rank}.toml", "--choose", rank)
    results = []
    for candidate in chosen:
        if candidate["by"] != "none":
            _slabrow(dsn, folder, "convert", "--layout", f"{candidate['rank']}.toml", "--now", "2026-03-01", "--pretend", "--way", "locked", "--go")  # fmt: skip
        connection.execute(f"VACUUM ANALYZE {table}".encode())
        ms, blocks = _measured(connection, queries)
        predicted = {each["name"]: each for each in candidate["queries"]}
        results.append(
            Measured(
                _describe(candidate),
                sum(runs[name] * (predicted[name]["planning_ms"] + predicted[name]["running_ms"]) for name in runs),
                sum(runs[name] * ms[name] for name in runs),
                sum(runs[name] * predicted[name]["blocks"] for name in runs),
                sum(runs[name] * blocks[name] for name in runs),
                _differences(runs, predicted, ms, blocks),
            )
        )
        if candidate["by"] != "none":
            connection.execute(f"DROP TABLE {table}".encode())
            connection.execute(f"ALTER TABLE {table}_before RENAME TO {parse_name(table).table}".encode())
    return _report(table, results)


def _reads(query: FileQuery, table: str) -> bool:
    names = tables_in(query.sql) or frozenset()
    return query.sql.lstrip().upper().startswith(("SELECT", "WITH")) and parse_name(table) in names


def _describe(candidate: dict) -> str:
    def one(part: dict) -> str:
        size = part["span"] or part["parts"] or (f"{len(part['groups'])} groups" if part["groups"] else "")
        return f"{part['by']} {','.join(part['key'])} {size}".strip()

    return one(candidate) + (f" / {one(candidate['within'])}" if candidate["within"] else "")


def _slabrow(dsn: str, folder: Path, *arguments: str) -> str:
    done = subprocess.run(
        [PROGRAM, *arguments], cwd=folder, env={**os.environ, "SLABROW_DSN": dsn}, capture_output=True, text=True
    )
    if done.returncode:
        raise RuntimeError(done.stderr)
    return done.stdout


def _measured(connection: Connection, queries: list[FileQuery]) -> tuple[dict[str, float], dict[str, float]]:
    """Milliseconds and blocks of one run of each query: medians of some turns, after one that warms up."""
    ms: dict[str, float] = {}
    blocks: dict[str, float] = {}
    for query in queries:
        statement, params = query.sql, list(query.params)
        for number in range(len(params), 0, -1):
            statement = statement.replace(f"${number}", params[number - 1])
        blocks[query.name] = run(connection, Query(query.sql, query.params), 120_000).blocks or 0
        # The least of several turns: what disturbs a run only ever adds to it.
        times = [_wall_ms(connection, statement) for _ in range(TURNS)]
        # Quick ones are asked more often, over half a second: that is how long a disturbance lasts.
        while sum(times) < 500 and len(times) < 200:
            times.append(_wall_ms(connection, statement))
        ms[query.name] = min(times)
    return ms, blocks


def _wall_ms(connection: Connection, statement: str) -> float:
    """From sending to the last row: planning, running and all, as the program that asks sees it."""
    began = time.perf_counter()
    connection.execute(statement.encode()).fetchall()
    return (time.perf_counter() - began) * 1e3


def _differences(runs, predicted, ms, blocks) -> tuple[str, ...]:
    """The queries whose cost a day is furthest from the predicted."""
    off = []
    for name, weight in runs.items():
        guess = predicted[name]["planning_ms"] + predicted[name]["running_ms"]
        off.append((abs(guess - ms[name]) * weight, f"{name}: {guess:.2f} for {ms[name]:.2f} ms, "
                    f"{predicted[name]['blocks']:.0f} for {blocks[name]:.0f} blocks, {weight:.0f} a day"))  # fmt: skip
    return tuple(text for _, text in sorted(off, reverse=True)[:6])


def _report(table: str, results: list[Measured]) -> bool:
    print(f"\n{table}: {len(results)} layouts built")
    print(f"{'':58}{'predicted':>12}{'measured':>12}{'blocks':>14}{'measured':>14}")
    for each in results:
        print(f"{each.name:58}{each.predicted_ms / 1e3:>10.1f} s{each.ms / 1e3:>10.1f} s"
              f"{each.predicted_blocks:>14,.0f}{each.blocks:>14,.0f}")  # fmt: skip
        if "--verbose" in sys.argv:
            print("\n".join(f"      {text}" for text in each.largest))
    now = next(each for each in results if each.name.startswith("none"))
    best = min(results, key=lambda each: each.ms)
    best = best if best.ms <= now.ms * (1 - LEAST_GAIN) else now
    correlation = _spearman([each.predicted_ms for each in results], [each.ms for each in results])
    of_blocks = _spearman([each.predicted_blocks for each in results], [each.blocks for each in results])
    print(f"predicted winner {results[0].name}, measured winner {best.name}")
    print(f"rank correlation of time {correlation:.2f} (wanted >= 0.8), of blocks {of_blocks:.2f}")
    # Candidates that differ by less than the clock can tell are one place.
    fine = results[0].ms <= best.ms * 1.05
    print(f"the predicted winner takes {results[0].ms / best.ms:.2f} of the measured winner's time (wanted <= 1.05)")
    return fine and correlation >= 0.8


def _spearman(one: list[float], other: list[float]) -> float:
    ranks = [np.argsort(np.argsort(each)) for each in (one, other)]
    return float(np.corrcoef(ranks[0], ranks[1])[0, 1])


if __name__ == "__main__":
    named = tuple(argument for argument in sys.argv[1:] if not argument.startswith("-"))
    sys.exit(0 if main(named or TABLES) else 1)
