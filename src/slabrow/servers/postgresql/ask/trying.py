"""Tries statements on an empty table of the new layout, planned and never run, in a transaction that is rolled back."""

from collections.abc import Sequence

import psycopg

from slabrow.core.sql.mentions import retargeted
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Shape
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.write import ddl

_TRIED = "slabrow_tried"
_TIMEOUT_MS = 2_000


def tried(connection: Connection, shape: Shape, layout: Layout, statements: Sequence[str]) -> list[str | None]:
    """The server's words for each statement that it refuses; empty for one that it accepts; None where it cannot be
    tried.

    The table is a temporary one, so nobody else sees it and none of the others is locked for more than reading.
    """
    name = Name("pg_temp", _TRIED)
    with explained("try the statements"):
        connection.execute(
            f"BEGIN; SET LOCAL statement_timeout = {_TIMEOUT_MS}; SET LOCAL lock_timeout = '1s'".encode()
        )
        try:
            try:
                _make(connection, shape, layout, name)
            except psycopg.Error:  # no right to make temporary tables, or a type that has no order
                return [None] * len(statements)
            return [_try(connection, shape, statement) for statement in statements]
        finally:
            connection.execute("ROLLBACK")


def _make(connection: Connection, shape: Shape, layout: Layout, name: Name) -> None:
    columns = ", ".join(f"{identifier(column.name)} {column.type_name}" for column in shape.columns)
    table = f"pg_temp.{_TRIED}"
    connection.execute(f"CREATE TEMP TABLE {_TRIED} ({columns}) {ddl.partition_by(layout)} ON COMMIT DROP".encode())
    held = "FOR VALUES WITH (MODULUS 1, REMAINDER 0)" if layout.by is By.HASH else "DEFAULT"
    connection.execute(f"CREATE TEMP TABLE {_TRIED}_all PARTITION OF {table} {held} ON COMMIT DROP".encode())
    mended = ddl.NewKeys(shape, layout).mended
    for constraint in mended.constraints:
        if constraint.is_key:
            connection.execute(f"ALTER TABLE {table} ADD {constraint.definition}".encode())
    for index in mended.indexes:
        if index.is_unique:
            connection.execute(f"CREATE UNIQUE INDEX ON {table} {index.definition}".encode())


def _try(connection: Connection, shape: Shape, statement: str) -> str | None:
    sql = retargeted(statement, shape.name, f"pg_temp.{_TRIED}")
    if sql is None or not sql.lstrip("( \n\t").upper().startswith(
        ("SELECT", "INSERT", "UPDATE", "DELETE", "WITH", "MERGE")
    ):
        return None
    connection.execute("SAVEPOINT tried")
    try:
        # By the extended protocol: it takes one statement, whatever the text says.
        result = connection.pgconn.exec_params(f"PREPARE {_TRIED} AS {sql}".encode(), None)
        if result.status != psycopg.pq.ExecStatus.COMMAND_OK:
            return result.error_field(psycopg.pq.DiagnosticField.MESSAGE_PRIMARY).decode()  # type: ignore[union-attr]
        types = connection.execute(
            "SELECT cardinality(parameter_types) FROM pg_prepared_statements WHERE name = %s", [_TRIED]
        ).fetchone()
        nothing = ", ".join(["NULL"] * (types[0] if types else 0))
        call = f"({nothing})" if nothing else ""
        result = connection.pgconn.exec_params(f"EXPLAIN EXECUTE {_TRIED}{call}".encode(), None)
        if result.status != psycopg.pq.ExecStatus.TUPLES_OK:
            return result.error_field(psycopg.pq.DiagnosticField.MESSAGE_PRIMARY).decode()  # type: ignore[union-attr]
        return ""
    finally:
        connection.execute("ROLLBACK TO SAVEPOINT tried")
        connection.execute("DEALLOCATE ALL")
