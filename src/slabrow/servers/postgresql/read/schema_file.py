"""The shape that definitions in a file give: the server reads them, and everything is rolled back."""

from collections.abc import Sequence

from slabrow.core.table.shape import Shape
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.read.catalogue import exists
from slabrow.servers.postgresql.read.shape import shape

_LOCK_WAIT = "2s"


def shape_from_sql(connection: Connection, definitions: Sequence[str], table: Name, doing: str) -> Shape | None:
    """The shape of the table that the definitions make; None when they make no such table. The table does not stay.

    definitions   CREATE TABLE and the like, checked by the caller: they are run
    Raises ServerError with the server's words when a definition is wrong.
    """
    with explained(doing), connection.transaction(force_rollback=True):
        connection.execute(f"SET LOCAL lock_timeout = '{_LOCK_WAIT}'".encode())
        for definition in definitions:
            connection.execute(definition.encode(), prepare=False)
        return shape(connection, table) if exists(connection, table) else None
