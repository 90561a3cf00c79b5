"""What the server counts of reads and writes, when it is told to (`userstat`, off unless switched on)."""

from __future__ import annotations

from dataclasses import dataclass

from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection

OFF = "This server does not count reads and writes; `SET GLOBAL userstat = 1` switches the counters on."


@dataclass(frozen=True, slots=True)
class Counters:
    """Rows since the counters began: read past all indexes, read by one (also when all of it was read), written."""

    scanned: int = 0
    fetched: int = 0
    written: int = 0


def counters(connection: Connection) -> dict[Name, Counters] | None:
    """Of every table that was touched and that this user may see; None when the server does not count.

    Source: TABLE_STATISTICS counts every row read, INDEX_STATISTICS those among them that an index gave.
    """
    row = connection.row("SELECT @@userstat")
    if not row or not int(row[0]):
        return None
    rows = connection.rows(
        "SELECT t.table_schema, t.table_name, t.rows_read, t.rows_changed, coalesce(sum(i.rows_read), 0) "
        "FROM information_schema.table_statistics t LEFT JOIN information_schema.index_statistics i "
        "ON i.table_schema = t.table_schema AND i.table_name = t.table_name GROUP BY 1, 2, 3, 4"
    )
    return {
        Name(schema, table): Counters(max(0, int(read) - int(by_index)), int(by_index), int(written))
        for schema, table, read, written, by_index in rows
    }
