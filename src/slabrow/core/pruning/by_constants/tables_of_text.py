"""Tables from DDL text alone: as SHOW CREATE TABLE and dumps print it, or as people write it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from zoneinfo import ZoneInfo

from slabrow.core.hashing.stored_bytes import USUAL_COLLATION
from slabrow.core.pruning.by_constants.rules import RULES
from slabrow.core.pruning.offline_tables import OfflineTables
from slabrow.core.sql.backquoted import lexemes, text_value
from slabrow.core.sql.backquoted_definition import read_definition
from slabrow.core.sql.lexing import statements_in
from slabrow.core.sql.partition_clause import partition_clause
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.tree_of_clause import tree_of_clause
from slabrow.core.table.shape import Column, Shape
from slabrow.core.table.tree import KeyColumn, Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name
from slabrow.core.values.zones import parse_zone

_NO_DATABASE = "the file"  # of names before a USE
_COLLATION = re.compile(r"\bCOLLATE\s*=?\s*(\w+)", re.IGNORECASE)
_CHARACTER_SET = re.compile(r"\b(?:CHARACTER SET|CHARSET)\s*=?\s*(\w+)", re.IGNORECASE)
_DIVIDER = re.compile(r"^\s*DELIMITER\s+\S.*$", re.MULTILINE | re.IGNORECASE)


def read_tables(text: str, source: str) -> OfflineTables:
    """Every table and view that the text creates; `SET time_zone` counts for what follows it, UTC before.

    Statements that create neither are passed over. Raises UsageError where the text is not SQL, creates no table, or
    has a PARTITION BY that is not understood.
    """
    database, zone = _NO_DATABASE, ZoneInfo("UTC")
    columns: dict[Name, dict[str, KeyColumn]] = {}
    views: dict[Name, str] = {}
    trees: list[Tree] = []
    for statement in statements_in(_DIVIDER.sub("", text), source):
        pieces = [each for each in lexemes(statement) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
        words = [each.value for each in pieces if each.piece is Piece.WORD][:16]
        if words[:1] == ["use"] and len(pieces) > 1:
            database = _spelled(pieces[1])
        elif words[:1] == ["set"]:
            zone = _zone(pieces) or zone
        elif words[:1] == ["create"] and "view" in words:
            name, at = _named(pieces, "view", database)
            query = next((each.start for each in pieces[at:] if each.value == "select"), None)
            if query is not None:
                views[name] = statement[query:]
        elif words[:1] == ["create"] and "table" in words[:4] and "temporary" not in words[:4]:
            name, _ = _named(pieces, "table", database)
            found = read_definition(statement, name, "")
            columns[name] = _key_columns(found)
            clause = partition_clause(statement)
            if clause is not None:
                spelling = name.table if name.schema == _NO_DATABASE else str(name)
                trees.append(tree_of_clause(name, spelling, clause, columns[name], _usual_key(found)))
    if not columns:
        raise UsageError(f"{source} creates no table", fix="give a file with CREATE TABLE statements")
    schema = Schema(columns, tuple(dict.fromkeys(name.schema or "" for name in columns)), views)
    return OfflineTables((*columns, *views), tuple(trees), schema, zone, RULES)


def _spelled(piece: Lexeme) -> str:
    return piece.text if piece.piece is Piece.WORD else piece.value


def _named(pieces: Sequence[Lexeme], word: str, database: str) -> tuple[Name, int]:
    """The name behind CREATE TABLE or CREATE VIEW, and where what follows it begins."""
    at = next(place for place, each in enumerate(pieces) if each.value == word) + 1
    if [each.value for each in pieces[at : at + 3]] == ["if", "not", "exists"]:
        at += 3
    if at >= len(pieces):
        raise UsageError(f"a CREATE {word.upper()} ends without a name")
    if at + 2 < len(pieces) and pieces[at + 1].text == ".":
        return Name(_spelled(pieces[at]), _spelled(pieces[at + 2])), at + 3
    return Name(database, _spelled(pieces[at])), at + 1


def _zone(pieces: Sequence[Lexeme]) -> ZoneInfo | None:
    """The zone that SET time_zone names; None for other settings."""
    for place, each in enumerate(pieces[:-1]):
        if each.value.lstrip("@").removeprefix("session.") == "time_zone":
            value = next((other for other in pieces[place + 1 :] if other.piece is Piece.TEXT), None)
            text = None if value is None else text_value(value.text)
            return parse_zone("UTC" if text in ("+00:00", "SYSTEM") else text) if isinstance(text, str) else None
    return None


def _key_columns(found: Shape) -> dict[str, KeyColumn]:
    options = " ".join(found.options)
    usual = _collation_of(options) or USUAL_COLLATION
    primary = next((each.columns for each in found.constraints if each.kind == "p"), ())
    return {each.name: _key_column(each, usual, is_key=each.name in primary) for each in found.columns}


def _key_column(column: Column, usual: str, *, is_key: bool) -> KeyColumn:
    kind = column.kind or Kind.OTHER
    collation = (_collation_of(column.definition) or usual) if kind is Kind.TEXT else None
    return KeyColumn(
        column.name,
        column.name,
        kind,
        column.type_name,
        column.not_null or is_key,
        in_byte_order=bool(collation) and str(collation).endswith("_bin"),
        collation=collation,
    )


def _collation_of(text: str) -> str | None:
    """The collation that a definition names, or the usual one of its character set."""
    stated, of_set = _COLLATION.search(text), _CHARACTER_SET.search(text)
    if stated is not None:
        return stated.group(1).lower()
    if of_set is None:
        return None
    name = of_set.group(1).lower()
    return "latin1_swedish_ci" if name == "latin1" else "binary" if name == "binary" else f"{name}_general_ci"


def _usual_key(found: Shape) -> tuple[str, ...]:
    """The columns of the primary key, else of the first unique key that cannot be NULL: what KEY () is by."""
    not_null = {column.name for column in found.columns if column.not_null}
    for key in found.constraints:
        if key.kind == "p":
            return key.columns
    return next((each.columns for each in found.indexes if each.is_unique and set(each.columns) <= not_null), ())
