"""A table's rows as a stream, and their fingerprint: what an archive holds, and how it is compared with the table."""

from collections.abc import Generator, Iterator, Sequence
from contextlib import contextmanager

from slabrow.core.table.export_column import ExportColumn
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.quoting import identifier

# Settings on which the text of a value depends (PostgreSQL manual, 20.11.2): the same ones write and compare.
STEADY = {
    "TimeZone": "UTC",
    "DateStyle": "ISO, YMD",
    "IntervalStyle": "iso_8601",
    "extra_float_digits": "1",
    "bytea_output": "hex",
    "lc_monetary": "C",
    "statement_timeout": "0",
    "row_security": "off",
}


def _expression(column: ExportColumn) -> str:
    """The SQL that the stream takes a column from: instants as microseconds since 1970, days as days."""
    name = identifier(column.name)
    match column.form:
        case "timestamp" | "timestamptz":
            return f"(extract(epoch FROM {name}) * 1000000)::bigint"
        case "date":
            return f"({name} - date '1970-01-01')"
        case "integer" | "real" | "boolean":
            return name
        case _:
            return f"{name}::text"


_FORMS = {
    "smallint": "integer",
    "integer": "integer",
    "bigint": "integer",
    "real": "real",
    "double precision": "real",
    "boolean": "boolean",
    "date": "date",
}
# Values that the types of other programs cannot hold: then the column is kept as text.
_LAST_DAY = "date '9999-12-31'"


def stored_columns(connection: Connection, table: Name) -> list[ExportColumn]:
    """The stored columns of a table, generated ones left out, each with the form that its type has at best."""
    with explained("read the columns"):
        rows = connection.execute(
            """SELECT attname::text, format_type(atttypid, atttypmod) FROM pg_attribute
               WHERE attrelid = %s::regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = ''
               ORDER BY attnum""",
            [str(table)],
        ).fetchall()
    return [ExportColumn(name, type_name, _form(type_name)) for name, type_name in rows]


def export_columns(connection: Connection, table: Name) -> tuple[ExportColumn, ...]:
    """The stored columns of a table, generated ones left out, each with the form that holds all of its values."""
    found = stored_columns(connection, table)
    doubtful = [column for column in found if column.form in ("timestamp", "timestamptz", "date", "real")]
    if not doubtful:
        return tuple(found)
    tests = ", ".join(f"coalesce(bool_or({_beyond(column)}), false)" for column in doubtful)
    with explained("look for values beyond the calendar"):
        row = connection.execute(f"SELECT {tests} FROM {quoting.table(table)}".encode()).fetchone()
    assert row is not None
    as_text = {column.name for column, is_beyond in zip(doubtful, row, strict=True) if is_beyond}
    return tuple(ExportColumn(each.name, each.type_name, "text") if each.name in as_text else each for each in found)


def _form(type_name: str) -> str:
    if type_name.startswith("timestamp"):
        return "timestamptz" if "with time zone" in type_name else "timestamp"
    return _FORMS.get(type_name, "text")


def _beyond(column: ExportColumn) -> str:
    name = identifier(column.name)
    if column.form == "real":
        return f"{name} IN ('NaN', 'Infinity', '-Infinity')"
    return f"NOT isfinite({name}) OR {name} > {_LAST_DAY} OR {name} < date '0001-01-01'"


def steady(connection: Connection) -> None:
    """Sets what the text of values depends on, until the transaction ends."""
    for name, value in STEADY.items():
        connection.execute("SELECT set_config(%s, %s, true)", [name, value])


@contextmanager
def snapshot(connection: Connection) -> Iterator[None]:
    """One view of the data for everything that is read within, under the steady settings; nothing is changed."""
    with explained("read the rows"), connection.transaction(force_rollback=True):
        connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
        steady(connection)
        yield


def relation_of(connection: Connection, table: Name) -> str:
    """The identity of a table: its cluster, database and number, so that another table of the same name differs."""
    with explained("tell the table from others"):
        row = connection.execute(
            "SELECT concat_ws('/', (SELECT system_identifier FROM pg_control_system()), d.oid, %s::regclass::oid) "
            "FROM pg_database d WHERE d.datname = current_database()",
            [str(table)],
        ).fetchone()
    assert row is not None
    return str(row[0])


def fingerprint_sql(table: Name, columns: Sequence[str]) -> str:
    """A query for (rows, fingerprint): the sum of the hashes of all rows, whatever their order."""
    row = f"ROW({', '.join(map(identifier, columns))})::text"
    return f"SELECT count(*), coalesce(sum(hashtextextended({row}, 0)::numeric), 0)::text FROM {quoting.table(table)}"


def fingerprint(connection: Connection, table: Name, columns: Sequence[str]) -> tuple[int, str]:
    """The rows of a table and their fingerprint, under the settings of the moment: see `steady`."""
    row = connection.execute(fingerprint_sql(table, columns).encode()).fetchone()
    assert row is not None
    return int(row[0]), str(row[1])


def stream(connection: Connection, table: Name, columns: Sequence[ExportColumn]) -> Generator[bytes, None, None]:
    """The rows as CSV without a header, as COPY writes it: NULL is an empty field without quotes."""
    texts = ", ".join(identifier(f"c{place}") for place, column in enumerate(columns) if column.form == "text")
    quoted = f", FORCE_QUOTE ({texts})" if texts else ""
    named = ", ".join(f"{_expression(column)} AS {identifier(f'c{place}')}" for place, column in enumerate(columns))
    sql = f"COPY (SELECT {named} FROM {quoting.table(table)}) TO STDOUT (FORMAT CSV{quoted})"
    with connection.cursor().copy(sql.encode()) as copy:
        for chunk in copy:
            yield bytes(chunk)
