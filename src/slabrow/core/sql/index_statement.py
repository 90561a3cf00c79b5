"""Reads CREATE INDEX as a person writes it, cut into the parts that are put together again for each partition."""

import re
from dataclasses import dataclass

from slabrow.core.sql.lexing import lexemes
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.values.errors import UsageError

_HELP = "write it as CREATE [UNIQUE] INDEX [name] ON table (column, …), or as PRIMARY KEY (…) or UNIQUE (…)"


@dataclass(frozen=True, slots=True)
class IndexAsked:
    """name: None where the server would choose one; rest: all after the table's name; constraint: p, u, or empty.

    columns   of the key; an expression stands as ""
    """

    name: str | None
    is_unique: bool
    rest: str
    constraint: str = ""
    columns: tuple[str, ...] = ()


def parse_index(sql: str) -> IndexAsked:
    """The index that a statement asks for. The table that it names is not looked at: the caller knows it.

    Raises UsageError for another statement, and for more than one.
    """
    found = [each for each in lexemes(sql.strip().rstrip(";")) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
    if not found or not all(each.is_closed for each in found) or any(each.text == ";" for each in found):
        raise UsageError("this is not one statement", found=sql[:80], fix=_HELP)
    text = sql.strip().rstrip(";")
    words = [each.value if each.piece is Piece.WORD else "" for each in found]
    if words[:2] == ["primary", "key"] or words[0] == "unique":
        at = 2 if words[0] == "primary" else 1
        return IndexAsked(None, True, text[found[at].start :] if len(found) > at else "",
                          "p" if words[0] == "primary" else "u", _columns(found[at:], sql))  # fmt: skip
    if words[0] != "create":
        raise UsageError("this is no index", found=sql[:80], fix=_HELP)
    at, is_unique = 1, words[1:2] == ["unique"]
    at += is_unique
    if words[at : at + 1] != ["index"]:
        raise UsageError("this is no index", found=sql[:80], fix=_HELP)
    at += 1
    at += words[at : at + 1] == ["concurrently"]
    at += 3 if words[at : at + 3] == ["if", "not", "exists"] else 0
    name = None
    if words[at : at + 1] != ["on"] and at < len(found):
        name, at = found[at].value, at + 1
    if words[at : at + 1] != ["on"]:
        raise UsageError("this is no index", found=sql[:80], fix=_HELP)
    at += 1
    at += words[at : at + 1] == ["only"]
    at += 1  # the table, and its schema
    while at + 1 < len(found) and found[at].text == ".":
        at += 2
    if at >= len(found) or (found[at].text != "(" and words[at] != "using"):
        raise UsageError("this index has no columns", found=sql[:80], fix=_HELP)
    return IndexAsked(name, is_unique, text[found[at].start :], columns=_indexed(found[at:]))


def _indexed(found: list[Lexeme]) -> tuple[str, ...]:
    """The columns between the first brackets, by which an index is named."""
    depth, names, begins = 0, [], False
    for at, each in enumerate(found):
        if begins and depth == 1:
            is_name = each.piece in (Piece.WORD, Piece.NAME) and not (at + 1 < len(found) and found[at + 1].text == "(")
            names.append(each.value if is_name else "")
        begins = False
        depth += {"(": 1, ")": -1}.get(each.text, 0)
        if depth == 0 and each.text == ")":
            break
        begins = depth == 1 and each.text in ("(", ",")
    return tuple(names)


def _columns(found: list[Lexeme], sql: str) -> tuple[str, ...]:
    inside = [each for each in found if each.text not in ("(", ")", ",")]
    names = tuple(each.value for each in inside)
    shape = "".join("x" if each in inside else each.text for each in found)
    if not re.fullmatch(r"\(x(,x)*\)", shape):
        raise UsageError("this key has no columns", found=sql[:80], fix=_HELP)
    return names
