"""Asks the server about queries: plans, and measured runs that can change nothing.

EXPLAIN evaluates cheap sub-queries while it plans (MariaDB's expensive_subquery_limit), so every statement that others
wrote is asked about under a time limit, in a transaction that is rolled back.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from contextlib import contextmanager
from hashlib import blake2b

from pymysql import err

from slabrow.core.pruning.plan_reading import NotRun, PlanReading, Query, UnvaluedPlan
from slabrow.core.sql.dialect import BACKQUOTED, speaking
from slabrow.core.sql.parameters import with_parameters
from slabrow.core.values.errors import ServerError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.ask.plans import Tables, read_plan, tables_of
from slabrow.servers.mariadb.connection import Connection, as_users
from slabrow.servers.mariadb.errors import TIME_LIMIT, explained, number_of

_EXPLAINABLE = ("SELECT", "WITH", "VALUES", "INSERT", "REPLACE", "UPDATE", "DELETE", "(")
_READS_ONLY = 1792  # "Cannot execute statement in a READ ONLY transaction"


def is_explainable(sql: str) -> bool:
    """Whether a statement begins with a keyword that EXPLAIN accepts."""
    return sql.lstrip("( \n\t").upper().startswith(_EXPLAINABLE)


def valued(query: Query) -> str:
    """The statement with its parameters' literals in place: so the server decides about it at every execution."""
    if not query.params:
        return query.sql
    with speaking(BACKQUOTED):
        return with_parameters(
            query.sql, lambda number: query.params[number - 1] if number <= len(query.params) else "?"
        )


def explain(connection: Connection, query: Query, timeout_ms: int) -> str:
    """The plan in the server's JSON, with what its aliases stand for. Raises ServerError for a wrong statement."""
    sql = valued(query)
    # Of a change only EXPLAIN is asked, and a read-only transaction would refuse even that.
    with _fenced(connection, timeout_ms, reads=_only_reads(sql)):
        plan = _one_text(connection, f"EXPLAIN FORMAT=JSON {sql}")
        tables = _tables(connection, sql)
        leaves = _leaves(connection, tables)
    return _known(plan, tables, leaves)


def _only_reads(sql: str) -> bool:
    return sql.lstrip("( \n\t").upper().startswith(("SELECT", "VALUES"))


def _known(plan: str, tables: Tables, leaves: dict[Name, frozenset[str]], rows: int | None = None) -> str:
    """All that reading a plan needs, so that no server has to be asked then."""
    names = {alias: [[each.schema, each.table] for each in named] for alias, named in tables.items()}
    held = [[name.schema, name.table, sorted(each)] for name, each in leaves.items()]
    return json.dumps({"plan": json.loads(plan), "tables": names, "leaves": held, "rows": rows})


def _one_text(connection: Connection, sql: str) -> str:
    row = connection.row(sql)
    if row is None:
        raise ServerError("could not plan the query", found="the server gave no plan")
    return str(row[0])


def _tables(connection: Connection, sql: str) -> Tables:
    """What aliases stand for, views within included."""
    connection.rows(f"EXPLAIN EXTENDED {sql}")
    notes = [str(text) for _, number, text in connection.rows("SHOW WARNINGS") if number == 1003]
    found = tables_of(notes[-1]) if notes else {}
    for name in [each for named in list(found.values()) for each in named]:
        for alias, named in _of_view(connection, name, 0).items():
            found.setdefault(alias, []).extend(each for each in named if each not in found[alias])
    return found


def _of_view(connection: Connection, name: Name, depth: int) -> Tables:
    row = connection.row(
        "SELECT view_definition FROM information_schema.views WHERE table_schema = %s AND table_name = %s",
        (name.schema, name.table),
    )
    if row is None or depth > 10:
        return {}
    found = tables_of(str(row[0]))
    for inner in [each for named in list(found.values()) for each in named]:
        for alias, named in _of_view(connection, inner, depth + 1).items():
            found.setdefault(alias, []).extend(each for each in named if each not in found[alias])
    return found


def _leaves(connection: Connection, tables: Tables) -> dict[Name, frozenset[str]]:
    """The leaves of the tables in a plan, as plans spell them."""
    names = tuple({(each.schema, each.table) for named in tables.values() for each in named})
    if not names:
        return {}
    rows = connection.rows(
        "SELECT table_schema, table_name, partition_name, subpartition_name FROM information_schema.partitions "
        "WHERE (table_schema, table_name) IN %s AND partition_name IS NOT NULL",
        (names,),
    )
    found: dict[Name, set[str]] = {}
    for schema, table, partition, sub in rows:
        found.setdefault(Name(schema, table), set()).add(partition if sub is None else f"{partition}_{sub}")
    return {name: frozenset(leaves) for name, leaves in found.items()}


def plan(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """The plan, not executed."""
    return read_plan(explain(connection, query, timeout_ms))


def plan_unvalued(sql: str) -> UnvaluedPlan:
    """There is none: the server plans a prepared statement when it is executed, with its values."""
    raise ServerError(
        "a statement with ? cannot be planned without values",
        found="the server plans it anew at each execution, with the values of that execution",
        fix="give values above it: -- params: 17, '2026-03-01'",
    )


def run(connection: Connection, query: Query, timeout_ms: int, *, prunes: bool = True) -> PlanReading:
    """ANALYZE FORMAT=JSON, which executes the statement, in a read-only transaction.

    prunes   False is not possible: the server has no switch for it
    Raises NotRun when the statement would change or lock rows, or takes longer than the timeout.
    """
    if not prunes:
        raise NotRun("it was not run", found="this server cannot be kept from pruning")
    sql = valued(query)
    with _running(timeout_ms), _fenced(connection, timeout_ms):
        text = _one_text(connection, f"ANALYZE FORMAT=JSON {sql}")
        tables = _tables(connection, sql)
        leaves = _leaves(connection, tables)
    return read_plan(_known(text, tables, leaves, _rows_out(json.loads(text))))


def run_change(connection: Connection, query: Query, timeout_ms: int) -> PlanReading:
    """As `run`, for an UPDATE or a DELETE: the rows are changed, and the transaction is rolled back."""
    sql = valued(query)
    with _running(timeout_ms), _fenced(connection, timeout_ms, reads=False):
        text = _one_text(connection, f"ANALYZE FORMAT=JSON {sql}")
        tables = _tables(connection, sql)
        leaves = _leaves(connection, tables)
    return read_plan(_known(text, tables, leaves, _rows_out(json.loads(text))))


def _rows_out(plan: object) -> int:
    """The rows that the last table of the outermost block gave: what comes out, before LIMIT."""
    found = re.findall(r'"r_rows": ([0-9.]+)', json.dumps(plan))
    return round(float(found[-1])) if found else 0


def result_print(connection: Connection, query: Query, timeout_ms: int) -> tuple[int, str]:
    """How many rows a query returns, and a fingerprint of them that does not depend on their order."""
    total, count = 0, 0
    with _fenced(connection, timeout_ms):
        for rows in connection.streamed(valued(query), 5_000):
            count += len(rows)
            total += sum(map(_row_print, rows))
    return count, str(total)


def _row_print(row: tuple[object, ...]) -> int:
    """The same in every process: results are kept, and compared by later runs."""
    return int.from_bytes(blake2b(repr(row).encode(), digest_size=8).digest())


def count(connection: Connection, sql: str, timeout_ms: int) -> int:
    """The number that a query without parameters returns."""
    with _fenced(connection, timeout_ms):
        row = connection.row(sql)
        return int(row[0]) if row else 0


@contextmanager
def _fenced(connection: Connection, timeout_ms: int, *, reads: bool = True) -> Iterator[None]:
    """Rolled back, never longer than the timeout, and in the time zone and mode of users' sessions."""
    with explained("plan the query"), as_users(connection, timeout_ms):
        connection.run("START TRANSACTION READ ONLY" if reads else "START TRANSACTION")
        try:
            yield
        finally:
            if not connection.closed:
                connection.run("ROLLBACK")


@contextmanager
def _running(timeout_ms: int) -> Iterator[None]:
    """Distinguishes a wrong statement from a right statement that may not be run."""
    try:
        yield
    except ServerError as error:
        cause = error.__cause__
        number = number_of(cause) if isinstance(cause, err.MySQLError) else 0
        if number == TIME_LIMIT:
            raise NotRun("it was not run", found=f"it does not end within {timeout_ms / 1_000:g} s") from error
        if number == _READS_ONLY:
            raise NotRun("it was not run", found="it changes or locks rows") from error
        raise
