"""A SQL text cut into what the server's lexer sees: words, quoted names, literals, comments, the rest.

Follows PostgreSQL's scan.l (manual, 4.1 Lexical Structure): nested comments, E'…' with backslashes, U&"…" with its
escapes, dollar quotes with tags. Every character belongs to exactly one piece, and the time is linear in the text.
A quote or comment that is never closed reaches to the end of the text.
"""

import re
from collections.abc import Iterator

from slabrow.core.sql import backquoted
from slabrow.core.sql.dialect import BACKQUOTED, spoken
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.values.errors import UsageError

# Possessive repetition keeps every pattern linear. E'', U&'' and U&"" come before the words that they begin like.
_LEXEME = re.compile(
    r"""(?P<blank>\s++)
      | (?P<comment>--[^\n\r]*+)
      | (?P<block>/\*)
      | (?P<text>[eE]'(?:[^'\\]|\\.|'')*+(?:'|(?P<open_escape>\Z))
               | (?:[bBxXnN]|[uU]&)?'(?:[^']|'')*+(?:'|(?P<open_text>\Z)))
      | (?P<unicode>[uU]&"(?:[^"]|"")*+(?:"|(?P<open_unicode>\Z)))
      | (?P<name>"(?:[^"]|"")*+(?:"|(?P<open_name>\Z)))
      | (?P<dollar>\$(?P<tag>(?:[A-Za-z_\u0080-\U0010ffff][\w\u0080-\U0010ffff]*+)?)\$)
      | (?P<parameter>\$[0-9]++)
      | (?P<word>[A-Za-z_\u0080-\U0010ffff][\w$\u0080-\U0010ffff]*+)
      | (?P<number>(?:[0-9][0-9_]*+(?:\.[0-9_]*+)?|\.[0-9]++)(?:[eE][+-]?[0-9]++)?)
      | (?P<other>.)""",
    re.VERBOSE | re.DOTALL,
)
_OPEN = ("open_escape", "open_text", "open_unicode", "open_name")
_COMMENT_END = re.compile(r"/\*|\*/")
_PLAIN = {
    "blank": Piece.BLANK, "comment": Piece.COMMENT, "text": Piece.TEXT, "parameter": Piece.PARAMETER,
    "number": Piece.NUMBER, "other": Piece.OTHER,
}  # fmt: skip


def lexemes(sql: str) -> Iterator[Lexeme]:
    """The pieces of a text in their order, in the dialect that is spoken; put together again they are the text."""
    return backquoted.lexemes(sql) if spoken() == BACKQUOTED else _lexemes(sql)


def _lexemes(sql: str) -> Iterator[Lexeme]:
    at = 0
    is_closed = True
    while match := _LEXEME.match(sql, at):
        kind, end = match.lastgroup or "other", match.end()
        if kind == "tag":
            kind = "dollar"
        if kind == "block":
            end, is_closed = _end_of_comment(sql, end)
            kind = "comment"
        elif kind == "dollar":
            closing = sql.find(match.group(), end)
            is_closed = closing >= 0
            end, kind = (closing + len(match.group()) if is_closed else len(sql)), "text"
        elif end == len(sql):  # only the last one can be open
            is_closed = all(match[group] is None for group in _OPEN)
        text = sql[at:end]
        if kind in _PLAIN:
            yield Lexeme(_PLAIN[kind], text, text, at, is_closed)
        elif kind == "word":
            yield Lexeme(Piece.WORD, text, text.lower(), at)
        else:
            quoted = text[2:] if kind == "unicode" else text
            value = quoted[1:].removesuffix('"').replace('""', '"')
            yield Lexeme(Piece.NAME, text, _unescaped(value) if kind == "unicode" else value, at, is_closed)
        at = end


def _end_of_comment(sql: str, at: int) -> tuple[int, bool]:
    """Where a comment ends that has begun before `at`, and whether it is closed there."""
    depth = 1
    while depth:
        match = _COMMENT_END.search(sql, at)
        if match is None:
            return len(sql), False
        depth += 1 if match.group() == "/*" else -1
        at = match.end()
    return at, True


def _unescaped(name: str) -> str:
    """U&"…" with the usual escape character. (UESCAPE with another one is refused by `called`.)"""

    def letter(found: re.Match[str]) -> str:
        if found.group() == "\\\\":
            return "\\"
        try:
            return chr(int(found.group(1) or found.group(2), 16))
        except (ValueError, OverflowError):
            return found.group()

    return re.sub(r"\\\\|\\([0-9A-Fa-f]{4})|\\\+([0-9A-Fa-f]{6})", letter, name)


def names_in(sql: str) -> frozenset[str]:
    """Every word and quoted name of a text, the words in lower case: key words, tables, columns, functions, types."""
    return frozenset(each.value for each in lexemes(sql) if each.piece in (Piece.WORD, Piece.NAME))


def called_in(sql: str) -> frozenset[str]:
    """Every name that stands before an opening parenthesis: all functions are among them, whatever hides them.

    Raises ValueError for UESCAPE, which changes how names are read.
    """
    called: set[str] = set()
    before: Lexeme | None = None
    for each in lexemes(sql):
        if each.piece in (Piece.BLANK, Piece.COMMENT):
            continue
        if each.piece is Piece.WORD and each.value == "uescape":
            raise ValueError("UESCAPE")
        if each.text == "(" and before is not None and before.piece in (Piece.WORD, Piece.NAME):
            called.add(before.value)
        before = each
    return frozenset(called)


def operators_in(sql: str) -> frozenset[str]:
    """Every run of operator characters (manual, 4.1.3), and each of its parts: `@-` may be `@` and `-`."""
    found: set[str] = set()
    run = ""
    for each in lexemes(sql):
        if each.piece is Piece.OTHER and each.text in "+-*/<>=~!@#%^&|`?":
            run += each.text
            continue
        found.update(run[first:last] for first in range(len(run)) for last in range(first + 1, len(run) + 1))
        run = ""
    return frozenset(found)


def is_type(text: str) -> bool:
    """Whether a text can be nothing but a type: words and names, numbers or texts in brackets behind them.

    >>> is_type("numeric(10,2)[]"), is_type("int); DROP TABLE t; --")
    (True, False)
    """
    depth = 0
    pieces = [each for each in lexemes(text) if each.piece is not Piece.BLANK]
    for each in pieces:
        depth += (each.text in ("(", "[")) - (each.text in (")", "]"))
        is_inside = each.piece in (Piece.NUMBER, Piece.TEXT) or (each.text == "," and depth == 1)
        is_outside = each.piece in (Piece.WORD, Piece.NAME) or each.text in (".", ")", "]", "(", "[")
        if depth not in (0, 1) or not (is_inside if depth and each.text not in ("(", "[") else is_outside):
            return False
    return depth == 0 and bool(pieces) and pieces[0].piece in (Piece.WORD, Piece.NAME)


def statement_places(sql: str, name: str) -> Iterator[tuple[int, int]]:
    """Where each statement begins and ends, cut at the semicolons that the server would cut the text at.

    A statement ends before its semicolon; the last one may have none. Comments before a statement do not belong to it,
    and empty statements are left out.
    Raises UsageError with the line where a quote or a comment has no end. name: of the text, for the message.
    """
    start: int | None = None
    end = 0
    for each in lexemes(sql):
        if not each.is_closed:
            opened = "comment" if each.piece is Piece.COMMENT else "quote"
            line = sql.count("\n", 0, each.start) + 1
            raise UsageError(
                f"{name}, line {line}: the {opened} that begins here is never closed",
                fix=f"look for where this {opened} should end",
            )
        if each.piece in (Piece.BLANK, Piece.COMMENT):
            continue
        if each.text != ";":
            start = each.start if start is None else start
            end = each.start + len(each.text)
        elif start is not None:
            yield start, each.start
            start = None
    if start is not None:
        yield start, end


def statements_in(sql: str, name: str) -> list[str]:
    """The statements of a text, cut as by `statement_places`. Raises UsageError as that does."""
    return [sql[start:end] for start, end in statement_places(sql, name)]
