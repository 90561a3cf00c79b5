"""Measures the constants of the cost model on the server in use: on tables in a database of their own.

The server has no partitioned temporary tables, so these are ordinary ones, in a database that is dropped at the end, or
by the next calibration. Figures are times as this program sees them, less the time of a statement that does nothing.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace

from pymysql import err

from slabrow.core.values.errors import ServerError
from slabrow.core.weighing.costs import Costs
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.quoting import identifier

_LEAVES = 128
_ROWS = 200_000
_TURNS = 7
_DATABASE = "slabrow_calibrating"


def usual_costs() -> Costs:
    """Medians of `calibrated` on MariaDB 10.11 with two cores, tables in memory. Partitions are opened once for all
    connections, so a connection's first statement pays nothing besides.
    """
    return Costs(
        planning=0.41,
        planning_leaf=0.016,
        planning_start=0.001,
        planning_rest=0.001,
        running_leaf=0.0051,
        first_leaf=0.0,
        block=0.0026,
        row=0.00047,
        append=0.00013,
        fetch=0.0017,
        descent=0.0016,
        insert=0.0041,
        route=0.00003,
        delete=0.01,
        drop=20.0,
    )


def calibrated(connection: Connection, progress: Callable[[float, str], None]) -> Costs:
    """Takes some seconds. Raises ServerError when the user may not make a database."""
    database = f"{_DATABASE}_{connection.number:d}"
    try:
        with explained("measure the server's costs"):
            _sweep(connection)
            connection.run(f"CREATE DATABASE {database}")
            progress(0.05, "making tables to measure on")
            _tables(connection, database)
            progress(0.4, "measuring")
            return _measured(connection, database)
    except ServerError as error:
        if isinstance(error.__cause__, err.OperationalError) and "denied" in str(error.found):
            raise ServerError(
                "the server cannot be measured",
                found=error.found,
                fix=f"GRANT ALL ON `{_DATABASE}\\_%`.* to the user, or weigh without --calibrate: the defaults serve",
            ) from error
        raise
    finally:
        if not connection.closed:
            with suppress(err.MySQLError):
                connection.run(f"DROP DATABASE IF EXISTS {database}")


def _sweep(connection: Connection) -> None:
    """Databases of calibrations that were killed: of connections that are no more."""
    rows = connection.rows(
        "SELECT schema_name FROM information_schema.schemata WHERE schema_name RLIKE %s AND NOT EXISTS (SELECT 1 FROM "
        "information_schema.processlist WHERE schema_name = concat(%s, '_', id))",
        (f"^{_DATABASE}_[0-9]+$", _DATABASE),
    )
    for (name,) in rows:
        connection.run(f"DROP DATABASE IF EXISTS {identifier(str(name))}")


def _tables(connection: Connection, database: str) -> None:
    def run(sql: str) -> None:
        connection.run(sql.replace("@", f"{database}."))

    # Planning looks at the indexes and statistics of the leaves that are left: three indexes and some rows are usual.
    columns = "(k int NOT NULL, v int, w int, x datetime, y float, z varchar(10), KEY (v), KEY (x), KEY (v, x))"
    parts = ", ".join(f"PARTITION p{leaf} VALUES LESS THAN ({leaf * 10 + 10})" for leaf in range(_LEAVES))
    run(f"CREATE TABLE @parts {columns} ENGINE=InnoDB PARTITION BY RANGE (k) ({parts})")
    run(f"CREATE TABLE @one {columns} ENGINE=InnoDB")
    for table in ("parts", "one"):
        run(f"INSERT INTO @{table} {_rows(_LEAVES * 200)}")
    narrow = "(n int NOT NULL, k int NOT NULL, KEY (k))"
    run(f"CREATE TABLE @narrow {narrow} ENGINE=InnoDB")
    run(f"INSERT INTO @narrow SELECT seq, seq FROM seq_1_to_{_ROWS}")
    halves = f"PARTITION a VALUES LESS THAN ({_ROWS // 2}), PARTITION b VALUES LESS THAN MAXVALUE"
    run(f"CREATE TABLE @two {narrow} ENGINE=InnoDB PARTITION BY RANGE (n) ({halves})")
    run("INSERT INTO @two SELECT * FROM @narrow")
    run("CREATE TABLE @wide (n int NOT NULL, scattered int NOT NULL, filler varchar(1000), KEY (scattered))")
    run(f"INSERT INTO @wide SELECT seq, seq * 7919 % {_ROWS}, repeat('x', 900) FROM seq_1_to_{_ROWS // 8}")
    for table in ("parts", "one", "narrow", "wide", "two"):
        connection.rows(f"ANALYZE TABLE {database}.{table}")


def _rows(many: int) -> str:
    return (
        f"SELECT seq % {_LEAVES * 10}, seq % 977, seq, '2026-01-01' + INTERVAL seq MINUTE, seq, 'z' "
        f"FROM seq_1_to_{many}"
    )


def _measured(connection: Connection, database: str) -> Costs:
    nothing = _median(connection, "DO 0")

    def took(sql: str) -> float:
        return _median(connection, sql.replace("@", f"{database}.")) - nothing

    default = Costs()
    asked = "v = 5 AND x >= '2026-01-01' AND x < '2026-02-01'"
    one = took(f"EXPLAIN SELECT w, y FROM @one WHERE {asked} ORDER BY x")
    every = took(f"EXPLAIN SELECT w, y FROM @parts WHERE {asked} ORDER BY x")
    pruned = took(f"EXPLAIN SELECT w, y FROM @parts WHERE k = 5 AND {asked} ORDER BY x")
    opened = took(f"SELECT w, y FROM @parts WHERE {asked}") - took(f"SELECT w, y FROM @one WHERE {asked}")
    opened -= every - one
    narrow = took("SELECT count(*) FROM @narrow IGNORE INDEX (k) WHERE n > 0")
    wide = took("SELECT count(*) FROM @wide IGNORE INDEX (scattered) WHERE n > 0")
    appended = took("SELECT count(*) FROM @two IGNORE INDEX (k) WHERE n > 0") - narrow
    narrow_blocks, wide_blocks = (_blocks(connection, database, name) for name in ("narrow", "wide"))
    narrow_rows, wide_rows = _ROWS, _ROWS // 8
    # Two scans, two unknowns: rows × row + blocks × block.
    determinant = narrow_rows * wide_blocks - wide_rows * narrow_blocks
    row = (narrow * wide_blocks - wide * narrow_blocks) / determinant if determinant else default.row
    row = row if row > 0 else default.row
    block = max((wide - wide_rows * row) / max(1, wide_blocks), default.block / 10)
    fetched = took(f"SELECT count(filler) FROM @wide FORCE INDEX (scattered) WHERE scattered < {_ROWS}") / wide_rows
    descended = took(
        "SELECT count(w.n) FROM seq_1_to_5000 g STRAIGHT_JOIN @narrow w FORCE INDEX (k) ON w.k = g.seq * 30"
    )
    added = _ROWS // 8
    inserted = took(f"INSERT INTO @one {_rows(added)}") / added
    routed = took(f"INSERT INTO @parts {_rows(added)}") / added
    deleted = took(f"DELETE FROM @narrow WHERE k <= {_ROWS // 20}") / (_ROWS // 20)
    drops = []
    for leaf in range(3):
        began = time.monotonic()
        connection.run(f"ALTER TABLE {database}.parts DROP PARTITION p{leaf}")
        drops.append((time.monotonic() - began) * 1_000)
    rest = max((pruned - one) / _LEAVES, 0.0)
    return replace(
        usual_costs(),
        planning=_rounded(max(one, default.planning / 10)),
        planning_leaf=_rounded(max((every - one) / _LEAVES, default.planning_leaf / 100)),
        planning_start=_rounded(rest),  # nothing is left out as execution starts
        planning_rest=_rounded(rest),
        running_leaf=_rounded(max(opened / _LEAVES, default.running_leaf / 20)),
        first_leaf=0.0,
        block=_rounded(block),
        row=_rounded(row),
        append=_rounded(max(appended / narrow_rows, default.append / 20)),
        fetch=_rounded(max(fetched - block, row)),
        descent=_rounded(max(descended / 5000 - fetched, default.descent / 20)),
        insert=_rounded(inserted / 4),
        route=_rounded(max(routed - inserted, default.route / 20)),
        delete=_rounded(deleted),
        drop=_rounded(statistics.median(drops)),
    )


def _median(connection: Connection, sql: str) -> float:
    """The median of some runs, in milliseconds, after a first run that is not counted. Changes are rolled back."""
    is_change = sql.startswith(("INSERT", "DELETE"))
    found = []
    for turn in range((3 if is_change else _TURNS) + 1):
        if is_change:
            connection.run("START TRANSACTION")
        began = time.monotonic()
        connection.rows(sql)
        if turn:
            found.append((time.monotonic() - began) * 1_000)
        if is_change:
            connection.run("ROLLBACK")
    return statistics.median(found)


def _blocks(connection: Connection, database: str, name: str) -> int:
    row = connection.row(
        "SELECT data_length / @@innodb_page_size FROM information_schema.tables WHERE table_schema = %s "
        "AND table_name = %s",
        (database, name),
    )
    return max(1, int(row[0] or 1)) if row else 1


def _rounded(milliseconds: float) -> float:
    return float(f"{milliseconds:.3g}")
