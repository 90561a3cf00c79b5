"""Cuts SQL into lexemes where names stand in backquotes and texts in either kind of quotes, as MariaDB's lexer does.

Source: sql/sql_lex.cc. `--` begins a comment only before a blank; comments do not nest; the inside of `/*! … */` and
`/*M! … */` is code. A backslash escapes in texts, and two quotes are one. Every lexeme keeps its place.
"""

import re
from collections.abc import Iterator

from slabrow.core.sql.pieces import Lexeme, Piece

_LEXEME = re.compile(
    r"""(?P<blank>\s++)
      | (?P<comment>\#[^\n]*+|--(?=[\s\x00-\x1f]|\Z)[^\n]*+)
      | (?P<code>/\*M?![0-9]{5,6}|/\*M?!|\*/)
      | (?P<block>/\*(?s:.*?)(?:\*/|(?P<open_block>\Z)))
      | (?P<text>(?:_[a-z0-9]+\s*)?(?:[xXbBnN](?='))?(?:'(?:[^'\\]|\\.|'')*+(?:'|(?P<open_single>\Z))
               | "(?:[^"\\]|\\.|"")*+(?:"|(?P<open_double>\Z))))
      | (?P<name>`(?:[^`]|``)*+(?:`|(?P<open_name>\Z)))
      | (?P<number>0x[0-9a-fA-F]++|0b[01]++|(?:[0-9]++(?:\.[0-9]*+)?|\.[0-9]++)(?:[eE][+-]?[0-9]++)?(?![\w$]))
      | (?P<variable>@@?(?:[\w$.]++|`[^`]*`|'[^']*'|"[^"]*"))
      | (?P<word>[\w$\u0080-\U0010ffff]++)
      | (?P<parameter>\?)
      | (?P<other>.)""",
    re.VERBOSE | re.DOTALL,
)
_OPEN = ("open_block", "open_single", "open_double", "open_name")
_PIECES = {
    "blank": Piece.BLANK, "comment": Piece.COMMENT, "block": Piece.COMMENT, "code": Piece.COMMENT, "text": Piece.TEXT,
    "name": Piece.NAME, "number": Piece.NUMBER, "variable": Piece.WORD, "word": Piece.WORD,
    "parameter": Piece.PARAMETER, "other": Piece.OTHER,
}  # fmt: skip


def lexemes(sql: str) -> Iterator[Lexeme]:
    """The pieces of a text in their order; put together again they are the text."""
    at = 0
    while match := _LEXEME.match(sql, at):
        kind = next(name for name in _PIECES if match.group(name) is not None)
        piece, text = _PIECES[kind], match.group()
        value = text
        if piece is Piece.NAME:
            value = text[1:].removesuffix("`").replace("``", "`")
        elif piece is Piece.WORD:
            value = text.lower()
        yield Lexeme(piece, text, value, at, all(match.group(name) is None for name in _OPEN))
        at = match.end()


_ESCAPES = {"0": "\0", "b": "\b", "n": "\n", "r": "\r", "t": "\t", "Z": "\x1a"}
_ESCAPE = re.compile(r"\\(.)|''|\"\"", re.DOTALL)
_INTRODUCED = re.compile(r"(?:_(?P<set>[a-z0-9]+)\s*)?(?P<kind>[xXbBnN])?(?P<rest>['\"].*)", re.DOTALL)
_CHARACTER_SETS = {"utf8mb4": "utf-8", "utf8mb3": "utf-8", "utf8": "utf-8", "latin1": "cp1252", "ascii": "ascii"}


def text_value(text: str) -> str | bytes:
    """The value of a literal in quotes, or of a number in hexadecimal digits behind a character set.

    Raises ValueError for one that is not read here.
    """
    match = _INTRODUCED.fullmatch(text)
    if match is None:
        raise ValueError(text)
    quote, body = match["rest"][0], match["rest"][1:-1]
    if match["kind"] in ("x", "X"):
        return decoded(bytes.fromhex(body), match["set"])
    if match["kind"] in ("b", "B"):
        raise ValueError(text)

    def value(found: re.Match[str]) -> str:
        if found.group(1) is None:
            return found.group()[0] if found.group()[0] == quote else found.group()
        return _ESCAPES.get(found.group(1), found.group(1))

    return _ESCAPE.sub(value, body)


def decoded(data: bytes, character_set: str | None) -> str | bytes:
    """Bytes as the text that they are in a character set; as they are for `binary`, or without one."""
    if character_set in (None, "binary"):
        return data
    if character_set not in _CHARACTER_SETS:
        raise ValueError(character_set)
    return data.decode(_CHARACTER_SETS[character_set])


def ends_of_statements(sql: str) -> Iterator[int]:
    """Where the semicolons stand that end statements."""
    yield from (each.start for each in lexemes(sql) if each.text == ";")
