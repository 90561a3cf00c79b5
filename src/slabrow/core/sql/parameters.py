"""The parameters $1, $2, … of a statement, found without parsing it, and the literals that are given for them."""

import re
from collections.abc import Callable

from slabrow.core.sql.lexing import lexemes
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.values.errors import UsageError


def parameters_in(sql: str) -> frozenset[int]:
    """The numbers of the parameters $1, $2, … that a statement has."""
    if "$" not in sql and "?" not in sql:
        return frozenset()
    return frozenset(_numbered(sql).values())


def _numbered(sql: str) -> dict[int, int]:
    """The number of the parameter that begins at a place. Question marks are counted."""
    found = [each for each in lexemes(sql) if each.piece is Piece.PARAMETER]
    return {each.start: place if each.text == "?" else int(each.text[1:6]) for place, each in enumerate(found, start=1)}


def with_parameters(sql: str, instead: Callable[[int], str]) -> str:
    """The statement with other words in the place of each parameter."""
    numbers = _numbered(sql)
    return "".join(instead(numbers[each.start]) if each.start in numbers else each.text for each in lexemes(sql))


_CONSTANT = re.compile(r"true|false|null", re.IGNORECASE)
# Types whose values the server reads with nothing but its own functions. A literal of another type (an enum, a domain,
# whose check may call anything) is given without it: the statement itself says which type its parameter has.
_OWN_TYPES = frozenset(
    [
        "int",
        "int2",
        "int4",
        "int8",
        "integer",
        "smallint",
        "bigint",
        "numeric",
        "decimal",
        "real",
        "float",
        "float4",
        "float8",
        "double",
        "text",
        "varchar",
        "char",
        "character",
        "bpchar",
        "name",
        "date",
        "time",
        "timetz",
        "timestamp",
        "timestamptz",
        "interval",
        "uuid",
        "bool",
        "boolean",
        "bytea",
        "json",
        "jsonb",
        "inet",
        "cidr",
        "macaddr",
        "oid",
        "money",
        "bit",
        "varbit",
        "int4range",
        "int8range",
        "numrange",
        "daterange",
        "tsrange",
        "tstzrange",
    ]
)
_TYPE_WORDS = {"with", "without", "time", "zone", "precision", "varying"}
_FIX = "write literals, separated by commas: 17, '2026-03-01', NULL, '{1,2}'::int[]"


def read_literals(text: str) -> tuple[str, ...]:
    """`17, '2026-03-01', '{1,2}'::int[]` as its constants, each spelled so that it can only be a constant.

    A literal is a number, a text in quotes, true, false or NULL, with a type before it (`date '2026-03-01'`) or behind
    it (`'2026-03-01'::date`, `CAST('2026-03-01' AS date)`), or ARRAY[…] of literals. Nothing is computed: whoever
    wrote the file would choose what the server runs. Raises UsageError for everything else.
    """
    waiting = [each for each in lexemes(text) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
    if not waiting:
        return ()
    reader = _Reader(waiting)
    try:
        found = [reader.literal()]
        while reader.takes(","):
            found.append(reader.literal())
    except RecursionError:
        raise UsageError("a parameter is not a literal", found="brackets are nested too deeply", fix=_FIX) from None
    if reader.is_at_end():
        return tuple(found)
    raise reader.wrong()


class _Reader:
    """Reads literals from lexemes, one after the other."""

    def __init__(self, waiting: list[Lexeme]) -> None:
        self._waiting = waiting
        self._at = 0

    def is_at_end(self) -> bool:
        return self._at >= len(self._waiting)

    def wrong(self) -> UsageError:
        here = "the end" if self.is_at_end() else repr(self._waiting[self._at].text[:40])
        return UsageError("a parameter is not a literal", found=f"at {here}", fix=_FIX)

    def takes(self, text: str) -> bool:
        if not self.is_at_end() and self._waiting[self._at].text.lower() == text:
            self._at += 1
            return True
        return False

    def _next(self) -> Lexeme:
        if self.is_at_end():
            raise self.wrong()
        return self._waiting[self._at]

    def literal(self) -> str:
        found = self._bare()
        while self.takes(":"):
            if not self.takes(":"):
                raise self.wrong()
            found = self._typed(found, self._type(), f"{found}::\0")
        return found

    @staticmethod
    def _typed(bare: str, type_name: str, form: str) -> str:
        """The literal with its type where that is the server's own, else without it."""
        first = type_name.removeprefix("pg_catalog.").split("(")[0].split("[")[0].split(" ")[0]
        return form.replace("\0", type_name.removeprefix("pg_catalog.")) if first.lower() in _OWN_TYPES else bare

    def _bare(self) -> str:
        each = self._next()
        if self.takes("("):
            inner = self.literal()
            return f"({inner})" if self.takes(")") else self._fail()
        if each.text in "+-":
            self._at += 1
            sign, number = each.text, self._next()
            if number.piece is not Piece.NUMBER:
                raise self.wrong()
            self._at += 1
            return sign.replace("+", "") + number.text
        if each.piece is Piece.NUMBER or (each.piece is Piece.TEXT and _is_closed(each.text)):
            self._at += 1
            return each.text
        if each.piece is not Piece.WORD:
            raise self.wrong()
        if _CONSTANT.fullmatch(each.text):
            self._at += 1
            return each.text
        if self.takes("array"):
            return self._array()
        if self.takes("cast"):
            return self._cast()
        type_name = self._type()
        text = self._next()
        if text.piece is not Piece.TEXT or not _is_closed(text.text):
            raise self.wrong()
        self._at += 1
        return self._typed(text.text, type_name, f"\0 {text.text}")

    def _fail(self) -> str:
        raise self.wrong()

    def _array(self) -> str:
        if not self.takes("["):
            raise self.wrong()
        if self.takes("]"):
            return "ARRAY[]"
        found = [self.literal()]
        while self.takes(","):
            found.append(self.literal())
        return f"ARRAY[{', '.join(found)}]" if self.takes("]") else self._fail()

    def _cast(self) -> str:
        if not self.takes("("):
            raise self.wrong()
        inner = self.literal()
        if not self.takes("as"):
            raise self.wrong()
        found = self._typed(inner, self._type(), f"CAST({inner} AS \0)")
        return found if self.takes(")") else self._fail()

    def _type(self) -> str:
        """A type: `date`, `app.mood`, `numeric(10,2)`, `timestamp with time zone`, `int[]`."""
        parts = [self._word()]
        while self.takes("."):
            parts.append("." + self._word())
        while not self.is_at_end() and self._next().value in _TYPE_WORDS:
            parts.append(" " + self._word())
        if self.takes("("):
            sizes = [self._size()]
            while self.takes(","):
                sizes.append(self._size())
            parts.append(f"({','.join(sizes)})" if self.takes(")") else self._fail())
            while not self.is_at_end() and self._next().value in _TYPE_WORDS:
                parts.append(" " + self._word())
        while self.takes("["):
            parts.append("[]" if self.takes("]") else self._fail())
        return "".join(parts)

    def _word(self) -> str:
        each = self._next()
        if each.piece not in (Piece.WORD, Piece.NAME) or (each.piece is Piece.NAME and not each.text.endswith('"')):
            raise self.wrong()
        self._at += 1
        return each.text

    def _size(self) -> str:
        each = self._next()
        if each.piece is not Piece.NUMBER:
            raise self.wrong()
        self._at += 1
        return each.text


def _is_closed(text: str) -> bool:
    return len(text) > 1 and text.endswith(("'", "$"))
