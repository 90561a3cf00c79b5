"""The shape of a table, read from SHOW CREATE TABLE: its lines are kept as they are, so that nothing is lost."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import uuid4

from pymysql import err

from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.backquoted_definition import read_definition
from slabrow.core.sql.partition_clause import start_of_clause
from slabrow.core.sql.pieces import Piece
from slabrow.core.table.relation import Relation
from slabrow.core.table.shape import Shape
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained, words_of
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.read import catalogue
from slabrow.servers.mariadb.read.row_counts import SPATIAL


def shape(connection: Connection, name: Name) -> Shape:
    """Raises ServerError when it is a view, or anything else that holds no rows of its own."""
    found = catalogue.relation(connection, name)
    if not found.kind.holds_rows:
        raise ServerError(f"{found.spelling} holds no rows of its own", found=f"it is a {found.kind}")
    text = catalogue.creation(connection, found.name)
    return read_definition(text, found.name, catalogue.current_role(connection), obstacles_of(connection, found))


def obstacles_of(connection: Connection, found: Relation) -> tuple[str, ...]:
    """What cannot go with the table, each with the remedy. Slabrow's own triggers are no obstacle."""
    row = connection.row(
        "SELECT engine, table_type FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
        (found.name.schema, found.name.table),
    )
    engine, kind = row or (None, "")
    of_table = [
        f"the column {column.name} is of type {column.type_name}, which no partitioned table of this server holds: "
        "move it to a table of its own first"
        for column in catalogue.columns(connection, found)
        if column.type_name.lower() in SPATIAL
    ]
    if "VERSIONED" in str(kind).upper():
        of_table.append(
            "the table keeps its history (WITH SYSTEM VERSIONING), and only the rows of now would be copied: divide it "
            "with the server's own PARTITION BY"
        )
    if engine is not None and str(engine).lower() != "innodb":
        of_table.append(
            f"its engine is {engine}, which has neither transactions nor snapshots, so that nothing could be compared: "
            "ALTER TABLE … ENGINE=InnoDB first"
        )
    return (*of_table, *_attached(connection, found))


def _attached(connection: Connection, found: Relation) -> tuple[str, ...]:
    triggers = connection.rows(
        "SELECT trigger_name FROM information_schema.triggers WHERE event_object_schema = %s "
        "AND event_object_table = %s AND trigger_name NOT RLIKE '^(log|back)_[0-9]+_[iud]$'",
        (found.name.schema, found.name.table),
    )
    obstacles = [f"the trigger {trigger} stays behind: drop it, and make it anew afterwards" for (trigger,) in triggers]
    obstacles += [
        f"the foreign key {key.name} ({'to' if key.direction == 'out' else 'from'} {key.other}) cannot stay: "
        "no partitioned table of this server has foreign keys; drop it first"
        for key in catalogue.foreign_keys(connection, found)
    ]
    return tuple(obstacles)


def shape_from_sql(connection: Connection, definitions: Sequence[str], table: Name, doing: str) -> Shape | None:
    """The shape of the table that the definitions make, by a temporary table that only this session sees.

    Raises ServerError with the server's words when a definition is wrong, UsageError for what cannot be tried so.
    """
    found: Shape | None = None
    for text in definitions:
        pieces = [each for each in lexemes(text) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
        words = [each.value.lower() for each in pieces[:6]]
        if words[:2] != ["create", "table"]:
            if words[:1] == ["set"]:
                continue
            raise UsageError(
                f"could not {doing}",
                found=f"a statement begins with {' '.join(words[:2]).upper()}",
                fix="keep one CREATE TABLE for each table in it, with its keys and indexes inside",
            )
        at = 5 if words[2:5] == ["if", "not", "exists"] else 2
        named = [pieces[at]]
        if at + 2 < len(pieces) and pieces[at + 1].text == ".":
            named.append(pieces[at + 2])
        names = [each.text if each.piece is Piece.WORD else each.value for each in named]
        if names[-1] != table.table or (len(names) == 2 and table.schema not in (None, names[0])):
            continue
        behind = named[-1].start + len(named[-1].text)
        clause = start_of_clause(text)
        found = _tried(connection, text[behind : clause or len(text)], table, doing)
    return found


def _tried(connection: Connection, rest: str, table: Name, doing: str) -> Shape:
    trial = identifier(f"slabrow_{uuid4().hex[:16]}")
    database = table.schema or connection.database
    with explained(doing):
        if database:
            trial = f"{identifier(database)}.{trial}"
        try:
            connection.run(f"CREATE TEMPORARY TABLE {trial} {rest}")
        except err.MySQLError as error:
            raise ServerError(
                f"could not {doing}", found=words_of(error), fix="correct the file; foreign keys cannot stand in it"
            ) from error
        try:
            row = connection.row(f"SHOW CREATE TABLE {trial}")
            assert row is not None
            return read_definition(str(row[1]), table, catalogue.current_role(connection))
        finally:
            connection.run(f"DROP TEMPORARY TABLE {trial}")
