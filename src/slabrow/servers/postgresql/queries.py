"""Asks the server about queries: plans, and measured runs that can change nothing."""

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import psycopg

from slabrow.core.errors import ServerError
from slabrow.servers.postgresql.connection import Connection, explained, translated
from slabrow.servers.postgresql.plans import PlanReading, read_plan


@dataclass(frozen=True, slots=True)
class Query:
    """A statement, with the SQL constants for its $1, $2, … where it has some."""

    sql: str
    params: tuple[str, ...] = ()


# What EXPLAIN takes and can be planned without being a definition of something.
EXPLAINABLE = ("SELECT", "WITH", "VALUES", "TABLE", "INSERT", "UPDATE", "DELETE", "MERGE", "(")
_PREPARED = "slabrow_query"


def plan(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """The plan, not executed. A prepared statement is planned for its parameters (a custom plan).

    Raises ServerError with the server's words when the statement is wrong.
    """
    with _fenced(connection, timeout_ms, "plan the query"):
        return read_plan(_explain(connection, query, "VERBOSE, FORMAT JSON, SUMMARY"))


def run(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """The plan with what really happened: executed in a read-only transaction that is rolled back."""
    with _fenced(connection, timeout_ms, "run the query"):
        return read_plan(_explain(connection, query, "ANALYZE, VERBOSE, BUFFERS, FORMAT JSON"))


def result_print(connection: Connection, query: Query, timeout_ms: int) -> tuple[int, str]:
    """How many rows a query returns, and a fingerprint of them that does not depend on their order."""
    wrapped = Query(
        f"SELECT count(*), coalesce(sum(hashtextextended(q::text, 0)::numeric), 0)::text FROM (\n{query.sql}\n) q",
        query.params,
    )
    with _fenced(connection, timeout_ms, "run the query"):
        row = _answered(connection, wrapped, "")
        return int(row[0]), str(row[1])


@contextmanager
def _fenced(connection: Connection, timeout_ms: int, doing: str) -> Iterator[None]:
    """Read-only, rolled back, and never longer than the timeout; the session's own time zone stays as it is."""
    with explained(doing), connection.transaction(force_rollback=True):
        connection.execute("SET TRANSACTION READ ONLY")
        connection.execute("SELECT set_config('statement_timeout', %s, true)", [str(timeout_ms)])
        yield


def _explain(connection: Connection, query: Query, options: str) -> Mapping[str, Any]:
    return _one_plan(_answered(connection, query, f"EXPLAIN ({options}) "))


def _answered(connection: Connection, query: Query, before: str) -> tuple[Any, ...]:
    """The first row of a statement, prepared first when it has parameters, so that their types are the server's."""
    if not query.params:
        return _extended(connection, before + query.sql)
    connection.execute("SET LOCAL plan_cache_mode = force_custom_plan")
    _extended(connection, f"PREPARE {_PREPARED} AS {query.sql}")
    try:
        return _extended(connection, f"{before}EXECUTE {_PREPARED}({', '.join(query.params)})")
    finally:
        # A prepared statement outlives its transaction; in a failed one nothing more can be said: see `forget`.
        if connection.info.transaction_status == psycopg.pq.TransactionStatus.INTRANS:
            connection.execute(f"DEALLOCATE {_PREPARED}")


def forget(connection: Connection) -> None:
    """Removes what a failed query may have left prepared."""
    connection.execute("DEALLOCATE ALL")


def _one_plan(row: tuple[Any, ...]) -> Mapping[str, Any]:
    found = row[0]
    try:
        plans = json.loads(found) if isinstance(found, str | bytes) else found
    except ValueError:
        # Known of MERGE into a partitioned table under ANALYZE (PostgreSQL 15 to 18).
        raise ServerError("the server's plan is not valid JSON", fix="run this query without --run") from None
    first: Mapping[str, Any] = plans[0]
    return first


def _extended(connection: Connection, sql: str) -> tuple[Any, ...]:
    """One statement by the extended protocol, which refuses a text that holds several of them."""
    result = connection.pgconn.exec_params(sql.encode(), None)
    if result.status not in (psycopg.pq.ExecStatus.TUPLES_OK, psycopg.pq.ExecStatus.COMMAND_OK):
        error = psycopg.errors.error_from_result(result, connection.info.encoding)
        raise translated(error, "plan the query") from error
    if result.ntuples == 0:
        return ()
    return tuple((result.get_value(0, column) or b"").decode() for column in range(result.nfields))
