"""Asks the server about queries: plans, and measured runs that can change nothing."""

import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

import psycopg
from psycopg import generators

from slabrow.core.pruning.plan_reading import NotRun, PlanReading, Query, UnvaluedPlan
from slabrow.core.sql.parameters import with_parameters
from slabrow.core.values.errors import ServerError
from slabrow.servers.postgresql.ask.plans import read_plan
from slabrow.servers.postgresql.connection import Connection, explained, translated

# The first words of statements that EXPLAIN accepts and that define nothing.
_EXPLAINABLE = ("SELECT", "WITH", "VALUES", "TABLE", "INSERT", "UPDATE", "DELETE", "MERGE", "(")
_PREPARED = "slabrow_query"
_NAMES_PLANS = 160_000  # from here on EXPLAIN (GENERIC_PLAN) shows what no values have pruned yet
_LOCK_TIMEOUT_MS = 2_000


def is_explainable(sql: str) -> bool:
    """Whether a statement begins with a keyword that EXPLAIN accepts."""
    return sql.lstrip("( \n\t").upper().startswith(_EXPLAINABLE)


def plan(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """The plan, not executed. A prepared statement is planned for its parameters (a custom plan).

    Raises ServerError with the server's words when the statement is wrong.
    """
    return read_explained(explain(connection, query, timeout_ms))


def explain(connection: Connection, query: Query, timeout_ms: int) -> str:
    """The plan as `plan` reads it, in the server's JSON. Raises as `plan` does."""
    with _fenced(connection, timeout_ms, "plan the query"):
        text: str = _answered(connection, query, f"EXPLAIN ({_PLAN}) ")[0]
        return text


def read_explained(text: str) -> PlanReading:
    """Reads a text that `explain` has returned."""
    return read_plan(_one_plan((text,)))


def plan_generic(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """The plan that serves every value of the parameters, as it is once it starts with those of `query`.

    The server changes to this plan after five executions, if it does not look more expensive (PostgreSQL manual,
    PREPARE, Notes). Raises ServerError with the server's words when the statement is wrong.
    """
    with _fenced(connection, timeout_ms, "plan the query"):
        return read_plan(_explain(connection, query, _PLAN, "force_generic_plan"))


def plan_unvalued(connection: Connection, sql: str, timeout_ms: int) -> UnvaluedPlan:
    """The plan of a statement with $1, $2, … that has no values. Raises ServerError when the statement is wrong."""
    with _fenced(connection, timeout_ms, "plan the query"):
        with _prepared(connection, sql):
            row = connection.execute(
                "SELECT parameter_types::text[] FROM pg_prepared_statements WHERE name = %s", [_PREPARED]
            ).fetchone()
            types = tuple(row[0]) if row is not None else ()
            connection.execute("SET LOCAL plan_cache_mode = force_generic_plan")
            # NULL satisfies no comparison: what can be pruned as execution starts is gone with it.
            nothing = ", ".join(["NULL"] * len(types))
            call = f"({nothing})" if types else ""
            found = read_plan(_one_plan(_extended(connection, f"EXPLAIN ({_PLAN}) EXECUTE {_PREPARED}{call}")))
        removes = bool(found.removed) or found.removed_unnamed > 0
        if removes:
            found = read_plan(_one_plan(_without_values(connection, sql, types)))
    return UnvaluedPlan(types, found, removes)


def _without_values(connection: Connection, sql: str, types: tuple[str, ...]) -> tuple[Any, ...]:
    """The generic plan before any value is known. The statement was prepared before: it is one, and it is right."""
    if connection.info.server_version >= _NAMES_PLANS:
        text = f"EXPLAIN ({_PLAN}, GENERIC_PLAN) {sql}".encode()
        return _first_row(connection, _answer(connection, lambda: connection.pgconn.send_query(text)))
    # A sub-query in its place is known no earlier than a value while planning, and later than the start.
    unknown = with_parameters(sql, lambda number: f"(SELECT NULL::{types[number - 1]})")
    return _extended(connection, f"EXPLAIN ({_PLAN}) {unknown}")


def run(connection: Connection, query: Query, timeout_ms: int, *, prunes: bool = True) -> PlanReading:
    """The plan with what really happened: executed in a read-only transaction that is rolled back.

    prunes   False: with pruning switched off, while planning and while running
    Raises NotRun when the statement would change or lock rows, or takes longer than the timeout.
    """
    with _fenced(connection, timeout_ms, "run the query"), _running(timeout_ms):
        if not prunes:
            connection.execute("SET LOCAL enable_partition_pruning = off")
        return read_plan(_explain(connection, query, _RUN))


def run_change(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """As `run`, for an UPDATE or a DELETE: the rows are changed, and the transaction is rolled back."""
    with _fenced(connection, timeout_ms, "run the query", reads=False), _running(timeout_ms):
        return read_plan(_explain(connection, query, _RUN))


def result_print(connection: Connection, query: Query, timeout_ms: int) -> tuple[int, str]:
    """How many rows a query returns, and a fingerprint of them that does not depend on their order."""
    wrapped = Query(
        f"SELECT count(*), coalesce(sum(hashtextextended(q::text, 0)::numeric), 0)::text FROM (\n{query.sql}\n) q",
        query.params,
    )
    with _fenced(connection, timeout_ms, "run the query"):
        row = _answered(connection, wrapped, "")
        return int(row[0]), str(row[1])


def count(connection: Connection, sql: str, timeout_ms: int) -> int:
    """The number that a query without parameters returns."""
    with _fenced(connection, timeout_ms, "count rows"):
        return int(_extended(connection, sql)[0])


_PLAN = "VERBOSE, FORMAT JSON, SUMMARY"
_RUN = "ANALYZE, VERBOSE, BUFFERS, FORMAT JSON"


@contextmanager
def _fenced(connection: Connection, timeout_ms: int, doing: str, *, reads: bool = True) -> Iterator[None]:
    """Rolled back, and never longer than the timeout; the session's own time zone stays as it is."""
    with explained(doing):
        lock_ms = min(timeout_ms, _LOCK_TIMEOUT_MS)
        # One message and not four: many plans take less time than a way to the server and back.
        _at_once(
            connection,
            f"BEGIN {'READ ONLY' if reads else ''}; SET LOCAL statement_timeout = {timeout_ms:d}; "
            # In which literals are cut as core/sql/lexing cuts them: a backslash ends none.
            f"SET LOCAL lock_timeout = {lock_ms:d}; SET LOCAL standard_conforming_strings = on",
        )
        try:
            yield
        finally:
            if connection.pgconn.status == psycopg.pq.ConnStatus.OK:
                _answer(connection, lambda: connection.pgconn.send_query(b"ROLLBACK"))


def _at_once(connection: Connection, sql: str) -> None:
    """Statements of our own in one message."""
    result = _answer(connection, lambda: connection.pgconn.send_query(sql.encode()))
    if result.status not in (psycopg.pq.ExecStatus.TUPLES_OK, psycopg.pq.ExecStatus.COMMAND_OK):
        raise psycopg.errors.error_from_result(result, connection.info.encoding)


@contextmanager
def _running(timeout_ms: int) -> Iterator[None]:
    """Distinguishes a wrong statement from a right statement that may not be run."""
    try:
        yield
    except ServerError as error:
        match error.__cause__:
            case psycopg.errors.ReadOnlySqlTransaction():
                raise NotRun("it was not run", found="it changes or locks rows") from error
            case psycopg.errors.LockNotAvailable():
                raise NotRun("it was not run", found="another session holds a lock that it needs") from error
            case psycopg.errors.QueryCanceled() if "statement timeout" in str(error):
                raise NotRun("it was not run", found=f"it does not end within {timeout_ms / 1_000:g} s") from error
        raise


def _explain(connection: Connection, query: Query, options: str, mode: str = "force_custom_plan") -> Mapping[str, Any]:
    return _one_plan(_answered(connection, query, f"EXPLAIN ({options}) ", mode))


def _answered(connection: Connection, query: Query, before: str, mode: str = "force_custom_plan") -> tuple[Any, ...]:
    """The first row of a statement, prepared first when it has parameters, so that their types are the server's."""
    if not query.params:
        return _extended(connection, before + query.sql)
    connection.execute(f"SET LOCAL plan_cache_mode = {mode}".encode())
    with _prepared(connection, query.sql):
        return _extended(connection, f"{before}EXECUTE {_PREPARED}({', '.join(query.params)})")


@contextmanager
def _prepared(connection: Connection, sql: str) -> Iterator[None]:
    _extended(connection, f"PREPARE {_PREPARED} AS {sql}")
    try:
        yield
    finally:
        # A prepared statement outlives its transaction; in a failed one nothing more can be said: see `forget`.
        if connection.info.transaction_status == psycopg.pq.TransactionStatus.INTRANS:
            connection.execute(f"DEALLOCATE {_PREPARED}")


def forget(connection: Connection) -> None:
    """Removes prepared statements that a failed query may have left."""
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
    return _first_row(connection, _answer(connection, lambda: connection.pgconn.send_query_params(sql.encode(), None)))


def _answer(connection: Connection, send: Callable[[], None]) -> psycopg.pq.abc.PGresult:
    """The last result of the message that `send` sends. The driver waits for it, and not the client library: so Ctrl-C
    ends it.
    """
    send()
    results: list[psycopg.pq.abc.PGresult] = connection.wait(generators.execute(connection.pgconn))
    return results[-1]


def _first_row(connection: Connection, result: psycopg.pq.abc.PGresult) -> tuple[Any, ...]:
    if result.status not in (psycopg.pq.ExecStatus.TUPLES_OK, psycopg.pq.ExecStatus.COMMAND_OK):
        error = psycopg.errors.error_from_result(result, connection.info.encoding)
        raise translated(error, "plan the query") from error
    if result.ntuples == 0:
        return ()
    return tuple((result.get_value(0, column) or b"").decode() for column in range(result.nfields))
