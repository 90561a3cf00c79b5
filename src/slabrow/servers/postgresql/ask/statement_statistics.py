"""Reads the server's statement statistics: normalised statements with their calls, times and blocks.

Source: PostgreSQL manual, F.32 pg_stat_statements. Constants are gone from them; their place holders are $1, $2, …
"""

from datetime import datetime

from slabrow.core.values.errors import ServerError
from slabrow.core.weighing.workload import Collector, Workload
from slabrow.servers.postgresql.connection import Connection

_HIDDEN = "<insufficient privilege>"


def read_statistics(connection: Connection) -> Workload:
    """The workload of this database since the statistics were last reset.

    Raises ServerError when the extension is not there, or its view may not be read.
    """
    row = connection.execute(
        """SELECT n.nspname FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace
           WHERE e.extname = 'pg_stat_statements'"""
    ).fetchone()
    if row is None:
        raise ServerError(
            "this database has no statement statistics",
            found="the extension pg_stat_statements is not in it",
            fix="add it to shared_preload_libraries, restart, and CREATE EXTENSION pg_stat_statements; "
            "or give a log with --workload FILE",
        )
    schema = '"' + str(row[0]).replace('"', '""') + '"'
    since, now = _covered(connection, schema)
    rows = connection.execute(
        f"""SELECT query, sum(calls)::bigint, sum(total_exec_time)::float8,
                   sum(shared_blks_hit + shared_blks_read)::float8
            FROM {schema}.pg_stat_statements
            WHERE dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND calls > 0
            GROUP BY query""".encode()
    ).fetchall()
    days = max((now - since).total_seconds() / 86_400, 1 / 24)
    collector = Collector()
    hidden = 0
    for query, calls, total_ms, blocks in rows:
        if query == _HIDDEN:
            hidden += calls
        elif query.lstrip("( \n\t").split(None, 1)[:1] and query.lstrip("( \n\t").split(None, 1)[0].upper() in _WORDS:
            collector.add_normalised(query.rstrip("; \n"), calls, calls / days, total_ms, blocks / calls)
    if not collector.statements:
        raise ServerError(
            "the statement statistics hold nothing that can be weighed",
            found=f"{hidden:,} calls of other roles are hidden" if hidden else "no SELECT, INSERT, UPDATE or DELETE",
            fix="GRANT pg_read_all_stats TO the role" if hidden else "let the server work for a day",
        )
    collector.left_out += hidden
    return collector.workload("statement statistics", begins=since, ends=now)


_WORDS = ("SELECT", "WITH", "INSERT", "UPDATE", "DELETE", "MERGE", "VALUES", "TABLE")


def _covered(connection: Connection, schema: str) -> tuple[datetime, datetime]:
    row = connection.execute(
        f"SELECT coalesce(stats_reset, now()), now() FROM {schema}.pg_stat_statements_info".encode()
    ).fetchone()
    assert row is not None
    return row[0], row[1]
