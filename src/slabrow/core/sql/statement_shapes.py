"""Statements without their literals: a shape is what remains, and is parsed once however often it runs.

A shape is written with `?` for a number and `'?'` for a text. For the parser it is written again with a mark in each
place (core/sql/constants.py knows the marks), so that the values of any run of it can be put in without parsing.
"""

import re
from collections.abc import Callable, Iterator, Sequence

from slabrow.core.sql.constant_values import MARK, MARKED_NUMBER

_TEXT = re.compile(r"'[^']*(?:''[^']*)*'")
# The digit comes first, so that the search can jump from digit to digit; then what stands before it is looked at.
_NUMBER = re.compile(r"[0-9](?<![\w$.][0-9])(?:[0-9.]*(?:[eE][+-]?[0-9]+)?)")
# The places in which a quote or a digit is not a literal, and the rarer spellings of literals. A quote without an end
# reaches to the end of the text. No repetition gives back characters (`*+`), so the time is linear in the length.
_ANY = re.compile(
    r"""(?P<comment>--[^\n]*+|/\*(?:.*?\*/|.*+))
      | (?P<name>"(?:[^"]|"")*+"?|\$[0-9]++|(?![eE]')[A-Za-z_\u0080-\uffff][\w$]*+)
      | (?P<escaped>[eE]'(?:[^'\\]|\\.|'')*+'?)
      | (?P<dollar>\$(?P<tag>[A-Za-z_]\w*+|)\$(?:.*?\$(?P=tag)\$|.*+))
      | (?P<text>'(?:[^']|'')*+'?)
      | (?P<number>[0-9][0-9.]*+(?:[eE][+-]?[0-9]++)?|\.[0-9]++)""",
    re.VERBOSE | re.DOTALL,
)


# Literals that the parser itself reads: a subscript (it counts from 0), the path of a JSON operator, U&'…'.
_READ_BY_PARSER = re.compile(r"(?<!array)\[|->|#>|\bu&'", re.IGNORECASE)
_LIST = re.compile(r"\(\s*(?:'\?'|-?\?)(?:\s*,\s*(?:'\?'|-?\?))+\s*\)")
_ROWS = re.compile(r"^\s*INSERT\s.*?\bVALUES\b", re.IGNORECASE | re.DOTALL)


def shape_of(sql: str) -> str:
    """The statement with `?` in place of its literals, without comments and surplus white space.

    Lists of literals count as one whatever their length, and so do the rows of an INSERT.

    >>> shape_of("SELECT 1 FROM t WHERE k = 'a''b'  AND n1 IN (1, 2.5)")
    "SELECT ? FROM t WHERE k = '?' AND n1 IN (?…)"
    """
    shape = exact_shape_of(sql)
    return _LIST.sub("(?…)", shape) if "?," in shape or "'?'," in shape or "? ," in shape else shape


def rough_shape_of(sql: str) -> str:
    """Literals as `?` in the fastest way there is: equal texts have one shape, but one shape may have several texts."""
    parts = sql.split("'")
    # Every second part lies within quotes; where their number is odd, a text has no end.
    return _NUMBER.sub("?", "'?'".join(parts[::2]) if len(parts) & 1 else _TEXT.sub("'?'", sql))


def exact_shape_of(sql: str) -> str:
    """As `shape_of`, with every literal of a list in its place: two texts of one exact shape have equally many."""
    if sql[:1] in "Ii" and (match := _ROWS.match(sql)) is not None:
        return " ".join(match.group(0).split()) + " (…)"
    if _is_plain(sql):
        return " ".join(_NUMBER.sub("?", _TEXT.sub("'?'", sql)).split())
    return " ".join(_replaced(sql, lambda _, kind: "?" if kind == "number" else "'?'").split())


def literals_of(sql: str) -> tuple[str, ...]:
    """The literals in the order in which they stand, without their quotes."""
    return tuple(text for text, _ in _literals(sql))


def literals_and_repeats(sql: str) -> tuple[tuple[str, ...], tuple[int, ...]]:
    """The literals as `literals_of` has them, and for each of them the place of the first that is equal to it.

    >>> literals_and_repeats("(k = 1 AND n = 'x') OR (k = 1 AND n = '1')")
    (('1', 'x', '1', '1'), (0, 1, 0, 3))
    """
    literals = tuple(_literals(sql))
    first: dict[tuple[str, bool], int] = {}
    repeats = tuple(first.setdefault(literal, place) for place, literal in enumerate(literals))
    return tuple(text for text, _ in literals), repeats


def can_be_marked(sql: str) -> bool:
    """Whether marks may stand for all its literals: the parser must not look at what stands there."""
    return _READ_BY_PARSER.search(sql) is None


def marked(sql: str, repeats: Sequence[int] | None = None) -> str:
    """The statement with a numbered mark in place of each literal: what the parser is given.

    repeats   the mark of each literal, so that equal literals have equal marks; without it each has its own
    """
    count = iter(range(1 << 30) if repeats is None else repeats)
    return _replaced(
        sql, lambda _, kind: str(MARKED_NUMBER + next(count)) if kind == "number" else f"'{MARK}{next(count)}'"
    )


def filled(sql: str, literals: tuple[str, ...]) -> str:
    """A marked statement with these literals put in: what ran."""

    def text_of(match: re.Match[str]) -> str:
        if match.group(1) is not None:
            return "'" + literals[int(match.group(1))].replace("'", "''") + "'"
        return literals[int(match.group(0)) - MARKED_NUMBER]

    return re.sub(rf"'{MARK}([0-9]+)'|{str(MARKED_NUMBER)[:8]}[0-9]{{4}}(?![0-9])", text_of, sql)


def _is_plain(sql: str) -> bool:
    return not ("$" in sql or '"' in sql or "--" in sql or "/*" in sql or "E'" in sql or "e'" in sql)


def _replaced(sql: str, literal: Callable[[str, str], str]) -> str:
    def replacement(match: re.Match[str]) -> str:
        kind = match.lastgroup or ""
        if kind == "comment":
            return " "
        if match.group("name") is not None:
            return match.group(0)
        return literal(match.group(0), "number" if match.group("number") is not None else "text")

    return _ANY.sub(replacement, sql)


def _literals(sql: str) -> Iterator[tuple[str, bool]]:
    for match in _ANY.finditer(sql):
        if (text := match.group("text")) is not None:
            yield text[1:-1].replace("''", "'"), True
        elif (number := match.group("number")) is not None:
            yield number, False
        elif (escaped := match.group("escaped")) is not None:
            yield _unescaped(escaped[2:-1]), True
        elif (dollar := match.group("dollar")) is not None:
            width = len(match.group("tag")) + 2
            yield dollar[width:-width], True


_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f"}


def _unescaped(text: str) -> str:
    return re.sub(r"\\(.)|''", lambda match: _ESCAPES.get(match[1], match[1]) if match[1] else "'", text)
