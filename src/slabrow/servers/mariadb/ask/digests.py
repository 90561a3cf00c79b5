"""The server's statistics of statements as a workload: `performance_schema`, where it is switched on."""

from __future__ import annotations

from slabrow.core.values.errors import ServerError
from slabrow.core.weighing.workload import Workload
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained


def read_statistics(connection: Connection) -> Workload:
    """Raises ServerError: what the server keeps has lost the values of its statements, and is off by default."""
    with explained("read the statement statistics"):
        row = connection.row("SELECT @@performance_schema")
    if row is None or not row[0]:
        raise ServerError(
            "there are no statement statistics",
            found="performance_schema is off, and only a restart of the server switches it on",
            fix="give a slow log or a general log as --workload",
        )
    raise ServerError(
        "statement statistics are not read from MariaDB yet",
        found="the server keeps the shape of a statement, and none of its values",
        fix="give a slow log or a general log as --workload",
    )
