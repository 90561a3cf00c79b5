"""Measures the constants of the cost model on the server in use: on temporary tables, in a transaction rolled back."""

import json
import statistics
from collections.abc import Callable
from typing import Any

import psycopg

from slabrow.core.values.errors import ServerError
from slabrow.core.weighing.costs import Costs
from slabrow.servers.postgresql.connection import Connection, explained

_LEAVES = 128
_ROWS = 200_000
_TURNS = 7


def calibrated(connection: Connection, progress: Callable[[float, str], None]) -> Costs:
    """Takes some seconds. Its tables are visible to this session alone, and are removed.

    Raises ServerError when the role may not make temporary tables, or the server only reads.
    """
    try:
        with explained("calibrate"), connection.transaction(force_rollback=True):
            # The tables have to fit, or their blocks are read anew each time; this is for the session's first of them.
            for setting in (
                "temp_buffers = '256MB'",
                "jit = off",
                "max_parallel_workers_per_gather = 0",
                "enable_bitmapscan = off",
            ):
                connection.execute(f"SET LOCAL {setting}".encode())
            progress(0.05, "making tables to measure on")
            _tables(connection)
            progress(0.4, "measuring")
            return _measured(connection)
    except ServerError as error:
        if isinstance(error.__cause__, psycopg.errors.InsufficientPrivilege | psycopg.errors.ReadOnlySqlTransaction):
            raise ServerError(
                "the server cannot be measured",
                found=error.found,
                fix="GRANT TEMPORARY ON DATABASE to the role, or weigh without --calibrate: the defaults serve",
            ) from error
        raise


def _tables(connection: Connection) -> None:
    run = connection.execute
    columns = "(k int NOT NULL, v int, w int, x timestamptz, y real, z text)"
    run(f"CREATE TEMP TABLE slabrow_parts {columns} PARTITION BY RANGE (k)".encode())
    for leaf in range(_LEAVES):
        run(
            f"CREATE TEMP TABLE slabrow_part_{leaf} PARTITION OF slabrow_parts "
            f"FOR VALUES FROM ({leaf * 10}) TO ({leaf * 10 + 10})".encode()
        )
    run(f"CREATE TEMP TABLE slabrow_one {columns}".encode())
    # Planning looks at every index of every leaf, and at its statistics: three indexes and some rows are usual.
    for table in ("slabrow_parts", "slabrow_one"):
        run(f"CREATE INDEX ON {table} (v)".encode())
        run(f"CREATE INDEX ON {table} (x)".encode())
        run(f"CREATE INDEX ON {table} (v, x)".encode())
        rows = (
            f"SELECT n % {_LEAVES * 10}, n % 977, n, timestamptz '2026-01-01' + n * interval '1 minute', n, 'z' "
            f"FROM generate_series(1, {_LEAVES * 200}) n"
        )
        run(f"INSERT INTO {table} {rows}".encode())
    run(f"CREATE TEMP TABLE slabrow_narrow AS SELECT n, n AS k FROM generate_series(1, {_ROWS}) n".encode())
    run(
        f"""CREATE TEMP TABLE slabrow_wide AS
            SELECT n, (n::bigint * 7919 % {_ROWS})::int AS scattered, repeat('x', 900) AS filler
            FROM generate_series(1, {_ROWS // 8}) n""".encode()
    )
    run("CREATE TEMP TABLE slabrow_two (n int NOT NULL, k int) PARTITION BY RANGE (n)")
    for low, high in (("MINVALUE", _ROWS // 2), (_ROWS // 2, "MAXVALUE")):
        bounds = f"FROM ({low}) TO ({high})"
        run(f"CREATE TEMP TABLE slabrow_two_{low} PARTITION OF slabrow_two FOR VALUES {bounds}".encode())
    run("INSERT INTO slabrow_two SELECT * FROM slabrow_narrow")
    run("CREATE INDEX ON slabrow_narrow (k)")
    run("CREATE INDEX ON slabrow_wide (scattered)")
    run("ANALYZE slabrow_parts, slabrow_one, slabrow_narrow, slabrow_wide, slabrow_two")


def _measured(connection: Connection) -> Costs:
    def plan(sql: str) -> float:
        return _median(connection, sql, "SUMMARY", "Planning Time")

    def ran(sql: str) -> float:
        return _median(connection, sql, "ANALYZE, TIMING OFF", "Execution Time")

    default = Costs()
    # A query as people write it: a look-up, a window and an order.
    asked = "v = 5 AND x >= '2026-01-01' AND x < '2026-02-01'"
    one = plan(f"SELECT w, y FROM slabrow_one WHERE {asked} ORDER BY x")
    every = plan(f"SELECT w, y FROM slabrow_parts WHERE {asked} ORDER BY x")
    pruned = plan(f"SELECT w, y FROM slabrow_parts WHERE k = 5 AND {asked} ORDER BY x")
    started = plan(f"SELECT w, y FROM slabrow_parts WHERE k = (now()::date - current_date) AND {asked} ORDER BY x")
    opened = ran(f"SELECT w, y FROM slabrow_parts WHERE {asked}") - ran(f"SELECT w, y FROM slabrow_one WHERE {asked}")
    narrow_blocks, wide_blocks = (_blocks(connection, name) for name in ("slabrow_narrow", "slabrow_wide"))
    narrow_rows, wide_rows = _ROWS, _ROWS // 8
    narrow = ran("SELECT count(*) FROM slabrow_narrow WHERE n > 0")
    wide = ran("SELECT count(*) FROM slabrow_wide WHERE n > 0")
    # Two scans, two unknowns: rows × row + blocks × block.
    determinant = narrow_rows * wide_blocks - wide_rows * narrow_blocks
    row = (narrow * wide_blocks - wide * narrow_blocks) / determinant if determinant else default.row
    row = row if row > 0 else default.row
    block = max((wide - wide_rows * row) / max(1, wide_blocks), default.block / 10)
    appended = ran("SELECT count(*) FROM slabrow_two WHERE n > 0") - narrow
    connection.execute("SET LOCAL enable_seqscan = off")
    fetched = ran(f"SELECT count(filler) FROM slabrow_wide WHERE scattered < {_ROWS}") / wide_rows
    descended = ran(
        "SELECT count(w.n) FROM generate_series(1, 5000) g, "
        "LATERAL (SELECT n FROM slabrow_narrow WHERE k = g * 30 OFFSET 0) w"
    )
    connection.execute("SET LOCAL enable_seqscan = on")
    added = _ROWS // 4
    values = f"SELECT n % {_LEAVES * 10}, n, n, timestamptz '2026-01-01' + n * interval '1 s', n, 'z' "
    values += f"FROM generate_series(1, {added}) n"
    inserted = ran(f"INSERT INTO slabrow_one {values}") / added
    routed = ran(f"INSERT INTO slabrow_parts {values}") / added
    deleted = ran(f"DELETE FROM slabrow_narrow WHERE k <= {_ROWS // 20}") / (_ROWS // 20)
    return Costs(
        planning=_rounded(one),
        planning_leaf=_rounded(max((every - one) / _LEAVES, default.planning_leaf / 20)),
        planning_start=_rounded(max((started - one) / _LEAVES, default.planning_start / 20)),
        planning_rest=_rounded(max((pruned - one) / _LEAVES, 0.0)),
        running_leaf=_rounded(max(opened / _LEAVES, default.running_leaf / 20)),
        block=_rounded(block),
        read=default.read,
        row=_rounded(row),
        append=_rounded(max(appended / narrow_rows, default.append / 20)),
        fetch=_rounded(max(fetched - block, row)),
        descent=_rounded(max(descended / 5000 - fetched, default.descent / 20)),
        insert=_rounded(inserted / 4),
        route=_rounded(max(routed - inserted, default.route / 20)),
        # The later work of VACUUM costs about as much as the DELETE itself.
        delete=_rounded(deleted),
    )


def _median(connection: Connection, sql: str, options: str, figure: str) -> float:
    """The median of some runs, in milliseconds, after a first run that is not counted."""
    turns = 3 if sql.startswith(("INSERT", "DELETE")) else _TURNS
    found = []
    for turn in range(turns + 1):
        with connection.transaction(force_rollback=True):
            row = connection.execute(f"EXPLAIN ({options}, FORMAT JSON) {sql}".encode()).fetchone()
        if turn and row is not None:
            plans: Any = json.loads(row[0]) if isinstance(row[0], str) else row[0]
            found.append(float(plans[0][figure]))
    return statistics.median(found)


def _blocks(connection: Connection, name: str) -> int:
    row = connection.execute("SELECT pg_relation_size(%s::regclass) / 8192", [name]).fetchone()
    return int(row[0]) if row else 1


def _rounded(milliseconds: float) -> float:
    return float(f"{milliseconds:.3g}")
