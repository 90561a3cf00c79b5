"""Makes a table of made-up rows: binary COPY in chunks of constant size, then keys and indexes, then its statistics."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress

import psycopg

from slabrow.core.rehearsal.made_up_table import CHUNK, EnumerationFacts, MadeUpTable, MadeValues
from slabrow.core.upkeep.statements import Load
from slabrow.core.values.errors import Refusal, ServerError
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.execution import PostgresExecution
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.rehearsing.binary_forms import field
from slabrow.servers.postgresql.rehearsing.mark import MARK
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.binary_copy import HEADER, TRAILER, encode, one_ahead

_LOADED = 0.6  # of the work; the rest is keys and statistics


def make(
    connection: Connection, table: MadeUpTable, places: Mapping[Name, Name], tell: Callable[[float], None]
) -> tuple[str, ...]:
    """As `Rehearsing.make`. places: where each table of the source goes."""
    name, source = places[table.source.name], table.source
    notes: list[str] = []
    with explained(f"make the rows of {name}"):
        for each in source.types:
            make_type(connection, each)
        columns = ",\n    ".join(map(ddl.column_definition, source.shape.columns))
        connection.execute(f"CREATE TABLE {quoting.table(name)} (\n    {columns}\n)".encode())
        named = quoting.columns(tuple(each.facts.name for each in table.columns))
        if table.columns:
            sql = f"COPY {quoting.table(name)} ({named}) FROM STDIN (FORMAT BINARY)"
            PostgresExecution(connection).load(Load(sql, lambda: _rows(table, tell)))
    _remove_doubles(connection, table, name)
    statements = list(_keys(table, places))
    for place, (what, sql) in enumerate(statements):
        tell(_LOADED + (1 - _LOADED) * place / (len(statements) + 1))
        try:
            connection.execute(sql.encode())
        except psycopg.Error as error:
            notes.append(f"{what} could not be made: {error.diag.message_primary or error}")
    with explained(f"analyse {name}"):
        connection.execute(f"VACUUM (ANALYZE) {quoting.table(name)}".encode())
    tell(1.0)
    return tuple(notes)


def claim_schema(connection: Connection, name: str) -> None:
    """As `Rehearsing.claim_schema`."""
    try:
        connection.execute(f"CREATE SCHEMA {identifier(name)}".encode())
        connection.execute(f"COMMENT ON SCHEMA {identifier(name)} IS {quoting.literal(MARK)}".encode())
    except psycopg.errors.DuplicateSchema:
        raise Refusal(
            f"schema {name} is there already, and no rehearsal has made it",
            fix="rename it, or name another database with --scratch",
        ) from None
    except psycopg.errors.InsufficientPrivilege as error:
        raise ServerError(
            f"the role may not make a schema in database {connection.info.dbname}",
            found=error.diag.message_primary,
            fix="GRANT CREATE ON DATABASE … TO the role, or leave --scratch out for a private server",
        ) from None


def make_type(connection: Connection, made: EnumerationFacts) -> None:
    """An enumeration, unless it is there."""
    schema = made.name.schema or "public"
    if connection.execute("SELECT to_regnamespace(quote_ident(%s))", [schema]).fetchone() == (None,):
        claim_schema(connection, schema)
    labels = ", ".join(map(quoting.literal, made.labels))
    with suppress(psycopg.errors.DuplicateObject):  # another of the tables has made it
        connection.execute(f"CREATE TYPE {quoting.table(made.name)} AS ENUM ({labels})".encode())


def _rows(table: MadeUpTable, tell: Callable[[float], None]) -> Iterator[bytes]:
    encoded = (encode([field(made) for made in chunk]) for chunk in table.chunks())
    yield HEADER
    for number, chunk in enumerate(one_ahead(encoded), 1):
        yield chunk
        tell(_LOADED * min(1.0, number * CHUNK / max(1, table.rows)))
    yield TRAILER


def _remove_doubles(connection: Connection, table: MadeUpTable, name: Name) -> None:
    """Rows that would break a unique key of several columns, of which none is unique by itself."""
    single = {each.facts.name for each in table.columns if each.never_repeats}
    shape = table.source.shape
    keys = [each.columns for each in shape.constraints if each.is_key]
    keys += [each.columns for each in shape.indexes if each.is_unique and " WHERE " not in each.definition]
    for key in keys:
        if len(key) < 2 or "" in key or single & set(key):
            continue
        with explained(f"make the rows of {name} unique"):
            listed = quoting.columns(key)
            connection.execute(
                f"DELETE FROM {quoting.table(name)} WHERE ctid IN (SELECT ctid FROM (SELECT ctid, row_number() OVER "
                f"(PARTITION BY {listed}) AS place FROM {quoting.table(name)}) doubled WHERE place > 1)".encode()
            )


def _keys(table: MadeUpTable, places: Mapping[Name, Name]) -> Iterator[tuple[str, str]]:
    name, shape = places[table.source.name], table.source.shape
    for constraint in shape.constraints:
        spelled = identifier(constraint.name)
        yield (
            f"the key {constraint.name}",
            f"ALTER TABLE {quoting.table(name)} ADD CONSTRAINT {spelled} {constraint.definition}",
        )
    for index in shape.indexes:
        unique = "UNIQUE " if index.is_unique else ""
        yield (
            f"the index {index.name}",
            f"CREATE {unique}INDEX {identifier(index.name)} ON {quoting.table(name)} {index.definition}",
        )
    for key in table.source.foreign_keys:
        if key.table in places:
            yield (
                f"the foreign key {key.name}",
                f"ALTER TABLE {quoting.table(name)} ADD CONSTRAINT {identifier(key.name)} FOREIGN KEY "
                f"({identifier(key.column)}) REFERENCES {quoting.table(places[key.table])} "
                f"({identifier(key.referenced)})",
            )


def rewind(connection: Connection, table: Name, old: Name) -> None:
    """As `Rehearsing.rewind`."""
    with explained(f"take {table} back"):
        for sql in (
            f"DROP TABLE {quoting.table(table)} CASCADE",
            f"ALTER TABLE {quoting.table(old)} RENAME TO {identifier(table.table)}",
            f"COMMENT ON TABLE {quoting.table(table)} IS NULL",
        ):
            connection.execute(sql.encode())


def value_texts(made: Sequence[MadeValues]) -> list[list[str]]:
    """For each row its values as SQL constants."""
    columns = []
    for each in made:
        texts = each.column.texts(each.values)
        columns.append(
            [
                "NULL" if each.nulls is not None and each.nulls[place] else _constant(each, text)
                for place, text in enumerate(texts)
            ]
        )
    return [list(row) for row in zip(*columns, strict=True)]


_OPAQUE = {"json": "{}", "jsonb": "{}", "interval": "1 hour", "time without time zone": "12:00", "inet": "10.0.0.1",
           "money": "1", "bytea": ""}  # fmt: skip


def _constant(made: MadeValues, text: str) -> str:
    type_name = made.column.facts.type_name
    if "#" in type_name:
        return "'{}'"
    return quoting.literal(_OPAQUE.get(type_name, text))
