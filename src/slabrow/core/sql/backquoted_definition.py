"""Reads CREATE TABLE: its lines are kept as they are, so that nothing of a table is lost. Pure."""

from __future__ import annotations

import re
from collections.abc import Iterator

from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.backquoted_types import kind_of_type, stored_type
from slabrow.core.sql.partition_clause import start_of_clause
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.table.shape import Column, Constraint, Index, Shape
from slabrow.core.values.names import Name

_KEY = re.compile(r"(PRIMARY |UNIQUE |FULLTEXT |SPATIAL )?KEY\b", re.IGNORECASE)
_NO_COLUMN = ("constraint", "primary", "unique", "key", "index", "fulltext", "spatial", "check", "foreign", "period")
_USUAL_TYPES = {"integer": "int", "bool": "tinyint", "boolean": "tinyint", "numeric": "decimal", "dec": "decimal",
                "fixed": "decimal", "real": "double", "int8": "bigint", "int4": "int", "int2": "smallint"}  # fmt: skip


def read_definition(text: str, name: Name, owner: str, obstacles: tuple[str, ...] = ()) -> Shape:
    """The shape that CREATE TABLE describes, as the server prints it or as people write it."""
    body, options = _parts(text)
    columns: list[Column] = []
    constraints: list[Constraint] = []
    indexes: list[Index] = []
    for line in body:
        if _is_column(line):
            columns.append(_column(line))
            constraints += _key_within(columns[-1])
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
    first = next(each for each in lexemes(line) if each.piece in (Piece.NAME, Piece.WORD))
    name = first.value if first.piece is Piece.NAME else first.text
    rest = line[first.start + len(first.text) :].strip()
    type_name = stored_type(_usual(_type_of(rest)))
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


def _is_column(line: str) -> bool:
    first = next((each for each in lexemes(line) if each.piece not in (Piece.BLANK, Piece.COMMENT)), None)
    return first is not None and (
        first.piece is Piece.NAME or (first.piece is Piece.WORD and first.value not in _NO_COLUMN)
    )


def _key_within(column: Column) -> list[Constraint]:
    """The primary key that a column's own definition makes it."""
    said = " ".join(each.value for each in outer_words(column.definition))
    return (
        [Constraint("PRIMARY", "p", f"PRIMARY KEY (`{column.name}`)", (column.name,))] if "primary key" in said else []
    )


def _usual(type_name: str) -> str:
    """A type by the name that the server prints."""
    bare = re.match(r"\w+", type_name)
    usual = _USUAL_TYPES.get(bare.group()) if bare is not None else None
    return type_name if bare is None or usual is None else usual + type_name[bare.end() :]


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
        if depth == 1 and each.piece in (Piece.NAME, Piece.WORD) and each.value not in ("asc", "desc"):
            after = pieces[place + 1].text if place + 1 < len(pieces) else ""
            yield "" if after == "(" else each.value if each.piece is Piece.NAME else each.text
        if depth == 0 and each.text == ")":
            return
