"""The rows of a partition as a stream, and their fingerprint: what an archive holds, and how it is compared."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from contextlib import contextmanager

from slabrow.core.sql.backquoted_types import bare_type, stored_type
from slabrow.core.table.export_column import ExportColumn, RowSource
from slabrow.core.values.errors import ServerError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.write.archiving import fingerprint_sql, leaving_name, quoted_field

_ROWS_A_FETCH = 5_000
_FORMS = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint", "year", "bit"), "integer"),
    "float": "real",
    "double": "real",
    "date": "date",
    "datetime": "timestamp",
    "timestamp": "timestamptz",
}
_WIDE = ("bigint unsigned", "bit(64)")  # whole numbers that 63 bits cannot hold


def stored_columns(connection: Connection, table: Name) -> list[ExportColumn]:
    """The stored columns of a table, generated ones left out, each with the form that its type has at best."""
    with explained("read the columns"):
        rows = connection.rows(
            "SELECT column_name, column_type FROM information_schema.columns WHERE table_schema = %s "
            "AND table_name = %s AND is_generated = 'NEVER' ORDER BY ordinal_position",
            (table.schema or connection.database, table.table),
        )
    return [ExportColumn(name, stored_type(type_name), _form(stored_type(type_name))) for name, type_name in rows]


def _form(type_name: str) -> str:
    is_wide = type_name.startswith(_WIDE)
    return "text" if is_wide else _FORMS.get(bare_type(type_name), "text")


def export_columns(connection: Connection, source: RowSource) -> tuple[ExportColumn, ...]:
    """The stored columns, each with the form that holds all of its values: days that no calendar has stay as text."""
    found = stored_columns(connection, source.apart or source.parent)
    doubtful = [column for column in found if column.form in ("timestamp", "timestamptz", "date")]
    if not doubtful:
        return tuple(found)
    tests = ", ".join(f"ifnull(max({_beyond(column.name)}), 0)" for column in doubtful)
    with explained("look for days that no calendar has"):
        row = connection.row(f"SELECT {tests} FROM {_from(source)}")
    as_text = {column.name for column, is_beyond in zip(doubtful, row or (), strict=True) if is_beyond}
    return tuple(ExportColumn(each.name, each.type_name, "text") if each.name in as_text else each for each in found)


def _beyond(name: str) -> str:
    column = identifier(name)
    return f"({column} < '0001-01-01' OR month({column}) = 0 OR dayofmonth({column}) = 0)"


def _from(source: RowSource) -> str:
    if source.apart is not None:
        return quoting.table(source.apart)
    return f"{quoting.table(source.parent)} PARTITION ({identifier(source.partition.table)})"


@contextmanager
def snapshot(connection: Connection) -> Iterator[None]:
    """One view of the rows for everything that is read within; nothing is changed. Our sessions are in UTC."""
    with explained("read the rows"):
        connection.run("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        connection.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        try:
            yield
        finally:
            if not connection.closed:
                connection.run("ROLLBACK")


def relation_of(connection: Connection, source: RowSource) -> str:
    """The server's identity and the engine's number of what holds the rows, which a partition keeps when it becomes a
    table (seen on 10.11). Raises ServerError without the right PROCESS, by which alone that number can be read.
    """
    held = source.apart or source.parent
    with explained("tell the partition from others of its name"):
        row = connection.row(
            "SELECT concat(@@server_uid, '/', table_id) FROM information_schema.innodb_sys_tables "
            "WHERE CAST(name AS BINARY) = concat(CAST(convert(%s USING filename) AS BINARY), '/', "
            "CAST(convert(%s USING filename) AS BINARY), CAST(%s AS BINARY), "
            "CAST(convert(%s USING filename) AS BINARY))",
            (
                held.schema or connection.database,
                held.table,
                "" if source.apart is not None else "#P#",
                "" if source.apart is not None else source.partition.table,
            ),
        )
    if row is None:
        raise ServerError(
            f"could not tell {source.partition} from other partitions of its name",
            found="the storage engine knows no table of its own for it",
            fix="archive partitions that are not divided themselves, of tables whose engine is InnoDB",
        )
    return str(row[0])


def fingerprint(connection: Connection, source: RowSource, columns: Sequence[str]) -> tuple[int, str]:
    """How many rows there are, and their fingerprint."""
    types = {each.name: each.type_name for each in stored_columns(connection, source.apart or source.parent)}
    row = connection.row(fingerprint_sql(_from(source), [(name, types[name]) for name in columns]))
    assert row is not None
    return int(row[0]), str(row[1])


def stream(connection: Connection, source: RowSource, columns: Sequence[ExportColumn]) -> Generator[bytes, None, None]:
    """The rows as CSV. The server puts each row together: the driver is slow with many values."""
    fields = ", ".join(_field(column) for column in columns)
    for rows in connection.streamed(f"SELECT concat_ws(',', {fields}) FROM {_from(source)}", _ROWS_A_FETCH):
        yield ("\n".join(row for (row,) in rows) + "\n").encode()


def _field(column: ExportColumn) -> str:
    """A column as a field of CSV: instants as microseconds since 1970, days as days, bytes in hexadecimal."""
    name = identifier(column.name)
    match column.form:
        case "timestamp" | "timestamptz":
            value = f"timestampdiff(MICROSECOND, '1970-01-01', {name})"
        case "date":
            value = f"datediff({name}, '1970-01-01')"
        case "integer":
            value = f"CAST({name} AS SIGNED)"
        case "real":
            value = f"CAST({name} AS DOUBLE)"
        case _:
            return quoted_field(column.name, column.type_name)
    return f"ifnull(convert({value} USING utf8mb4), '')"


def left_behind(connection: Connection, table: Name) -> tuple[RowSource, ...]:
    """Tables that are called as partitions of this one are when they have left and are not dropped yet."""
    schema = table.schema or connection.database
    full = Name(schema, table.table)
    rows = connection.rows(
        "SELECT table_name FROM information_schema.tables WHERE table_schema = %s AND table_name LIKE %s",
        (schema, "slabrow\\_leaving\\_%"),
    )
    found = []
    for (name,) in rows:
        partition = Name(schema, str(name).split("_", 3)[-1])
        if leaving_name(full, partition.table).table.lower() == str(name).lower():
            found.append(RowSource(full, partition, Name(schema, str(name))))
    return tuple(found)
