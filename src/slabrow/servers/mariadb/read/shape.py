"""The shape of a table, read from SHOW CREATE TABLE: its lines are kept as they are, so that nothing is lost."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from uuid import uuid4

from pymysql import err

from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.partition_clause import start_of_clause
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.table.relation import Relation
from slabrow.core.table.shape import Column, Constraint, Index, Shape
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained, words_of
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.read import catalogue
from slabrow.servers.mariadb.read.types import kind_of_type, stored_type

_KEY = re.compile(r"(PRIMARY |UNIQUE |FULLTEXT |SPATIAL )?KEY\b", re.IGNORECASE)


def shape(connection: Connection, name: Name) -> Shape:
    """Raises ServerError when it is a view, or anything else that holds no rows of its own."""
    found = catalogue.relation(connection, name)
    if not found.kind.holds_rows:
        raise ServerError(f"{found.spelling} holds no rows of its own", found=f"it is a {found.kind}")
    text = catalogue.creation(connection, found.name)
    return _read(text, found.name, catalogue.current_role(connection), obstacles_of(connection, found))


def obstacles_of(connection: Connection, found: Relation) -> tuple[str, ...]:
    """What cannot go with the table, each with the remedy. Slabrow's own triggers are no obstacle."""
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


def _read(text: str, name: Name, owner: str, obstacles: tuple[str, ...] = ()) -> Shape:
    body, options = _parts(text)
    columns: list[Column] = []
    constraints: list[Constraint] = []
    indexes: list[Index] = []
    for line in body:
        if line.startswith("`"):
            columns.append(_column(line))
        elif line.upper().startswith("CONSTRAINT") and " CHECK " in line.upper():
            constraints.append(Constraint(_first_name(line), "c", line))
        elif line.upper().startswith("CONSTRAINT"):
            constraints.append(Constraint(_first_name(line), "f", line))
        elif _KEY.match(line):
            kind = line.split(" ", 1)[0].upper()
            named = tuple(_columns_of(line))
            if kind == "PRIMARY":
                constraints.append(Constraint("PRIMARY", "p", line, named))
            else:
                indexes.append(Index(_first_name(line), line, kind == "UNIQUE", named))
        else:
            constraints.append(Constraint(_first_name(line), "c", line))
    return Shape(
        name=name,
        owner=owner,
        columns=tuple(columns),
        constraints=tuple(constraints),
        indexes=tuple(indexes),
        options=(options,) if options else (),
        obstacles=obstacles,
    )


def _parts(text: str) -> tuple[list[str], str]:
    """The definitions within the brackets of CREATE TABLE, and the options behind them without the partitions."""
    at = start_of_clause(text)
    text = text if at is None else text[:at]
    lines: list[str] = []
    depth = start = 0
    end = len(text)
    for each in lexemes(text):
        if each.piece is Piece.COMMENT:
            continue
        if each.text == "(":
            depth += 1
            start = each.start + 1 if depth == 1 else start
        elif each.text == ")":
            depth -= 1
            if depth == 0:
                lines.append(text[start : each.start].strip())
                end = each.start + 1
                break
        elif each.text == "," and depth == 1:
            lines.append(text[start : each.start].strip())
            start = each.start + 1
    options = re.sub(r"/\*M?!\d*\s*$", "", text[end:].strip()).strip()
    return lines, re.sub(r"\s*AUTO_INCREMENT=\d+", "", options)


def outer_words(definition: str) -> Iterator[Lexeme]:
    """The words of a definition outside of quotes, comments and brackets: none of them is a text that people wrote."""
    depth = 0
    for each in lexemes(definition):
        depth += {"(": 1, ")": -1}.get(each.text, 0)
        if depth == 0 and each.piece is Piece.WORD:
            yield each


def _column(line: str) -> Column:
    name = _first_name(line)
    rest = line[line.index("`", line.index("`") + 1) + 1 :].strip() if "``" not in line else _behind_name(line)
    type_name = stored_type(_type_of(rest))
    said = f" {' '.join(each.value for each in outer_words(rest))} "
    return Column(
        name,
        type_name,
        not_null=" not null " in said,
        generated="generated" if " generated always as " in said else None,
        identity="d" if " auto_increment " in said else "",
        kind=kind_of_type(type_name),
        definition=rest,
    )


def _behind_name(line: str) -> str:
    first = next(each for each in lexemes(line) if each.piece is Piece.NAME)
    return line[first.start + len(first.text) :].strip()


def _type_of(rest: str) -> str:
    """The type at the beginning of a column's definition: `decimal(10,2) unsigned`."""
    match = re.match(r"[a-zA-Z0-9_]+(?:\((?:[^()']|'(?:[^'\\]|\\.|'')*')*\))?(?: unsigned)?(?: zerofill)?", rest)
    return match.group().lower() if match else rest.split(" ", 1)[0]


def _first_name(line: str) -> str:
    return next((each.value for each in lexemes(line) if each.piece is Piece.NAME), "")


def _columns_of(line: str) -> Iterator[str]:
    """The columns of a key; one of which a part is indexed stands as the empty text."""
    pieces = [each for each in lexemes(line) if each.piece is not Piece.BLANK]
    depth = 0
    for place, each in enumerate(pieces):
        depth += (each.text == "(") - (each.text == ")")
        if depth == 1 and each.piece is Piece.NAME:
            after = pieces[place + 1].text if place + 1 < len(pieces) else ""
            yield "" if after == "(" else each.value
        if depth == 0 and each.text == ")":
            return


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
            return _read(str(row[1]), table, catalogue.current_role(connection))
        finally:
            connection.run(f"DROP TEMPORARY TABLE {trial}")
