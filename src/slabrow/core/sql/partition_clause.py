"""Reads a PARTITION BY clause as MariaDB's SHOW CREATE TABLE prints it, and as people write it. Pure.

Source: MariaDB's grammar (sql/sql_yacc.yy, part_definition), read against what 10.11 prints. Bounds stay plain: whole
numbers, texts, MAXVALUE and NULL; an expression among them stays as its text.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

from slabrow.core.sql.backquoted import decoded, lexemes, text_value
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.values.errors import UsageError


@dataclass(frozen=True, slots=True)
class Written:
    """A bound that is an expression, or a literal of another form, as it is written."""

    text: str


class Maximum:
    """MAXVALUE."""

    def __repr__(self) -> str:
        return "MAXVALUE"


MAXVALUE = Maximum()
Bound = int | str | bytes | Written | Maximum | None  # None: NULL


@dataclass(frozen=True, slots=True)
class HowDivided:
    """One level of partitioning.

    method      `range`, `list`, `hash`, `key`; is_columns: RANGE COLUMNS and LIST COLUMNS
    expression  as written, of RANGE, LIST and HASH of an expression
    columns     of the others; of KEY () none
    """

    method: str
    is_columns: bool = False
    is_linear: bool = False
    algorithm: int = 2
    expression: str = ""
    columns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class WrittenPartition:
    """A partition. less_than: one bound for each column; values: of a list, each a tuple of as many; None: not given"""

    name: str
    less_than: tuple[Bound, ...] | None = None
    values: tuple[tuple[Bound, ...], ...] | None = None
    is_default: bool = False
    subs: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class PartitionClause:
    """parts, subs: how many, where only the number is given; 0 where it is not."""

    how: HowDivided
    parts: int = 0
    within: HowDivided | None = None
    subs: int = 0
    partitions: tuple[WrittenPartition, ...] = field(default=())

    def named(self) -> tuple[WrittenPartition, ...]:
        """All partitions, with the names that the server gives to those which have none: p0, p1, and p0sp0 below."""
        partitions = self.partitions or tuple(WrittenPartition(f"p{place}") for place in range(self.parts or 1))
        if self.within is None:
            return partitions
        below = self.subs or 1
        return tuple(
            each
            if each.subs
            else WrittenPartition(
                each.name,
                each.less_than,
                each.values,
                each.is_default,
                tuple(f"{each.name}sp{place}" for place in range(below)),
            )
            for each in partitions
        )


def partition_clause(sql: str) -> PartitionClause | None:
    """The clause of a CREATE TABLE; None without one. Raises UsageError for one that is not understood."""
    pieces = [each for each in lexemes(sql) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
    depth = 0
    for place, each in enumerate(pieces):
        depth += (each.text == "(") - (each.text == ")")
        after = pieces[place + 1].value if place + 1 < len(pieces) else ""
        if depth == 0 and each.piece is Piece.WORD and (each.value, after) == ("partition", "by"):
            return _Reader(sql, pieces, place + 2).clause()
    return None


def start_of_clause(sql: str) -> int | None:
    """Where the PARTITION BY clause of a CREATE TABLE begins; None without one."""
    depth, before = 0, None
    for each in lexemes(sql):
        if each.piece is Piece.BLANK:
            continue
        if each.piece is Piece.COMMENT and before is None:
            continue
        depth += (each.text == "(") - (each.text == ")")
        if depth == 0 and each.piece is Piece.WORD and each.value == "by" and before is not None:
            return before
        if each.piece is not Piece.COMMENT:
            before = each.start if depth == 0 and each.value == "partition" else None
    return None


@dataclass(slots=True)
class _Reader:
    sql: str
    pieces: Sequence[Lexeme]
    at: int

    def clause(self) -> PartitionClause:
        how = self._how()
        parts = self._number_after("partitions")
        within, subs = None, 0
        if self._take("subpartition"):
            self._need("by")
            within = self._how()
            subs = self._number_after("subpartitions")
        partitions: list[WrittenPartition] = []
        if self._take("("):
            partitions.append(self._partition())
            while self._take(","):
                partitions.append(self._partition())
            self._need(")")
        return PartitionClause(how, parts, within, subs, tuple(partitions))

    def _how(self) -> HowDivided:
        is_linear = self._take("linear")
        method = self._word()
        if method not in ("range", "list", "hash", "key"):
            raise self._wrong(f"a method {method}")
        if method in ("range", "list") and self._take("columns"):
            return HowDivided(method, True, columns=self._columns())
        if method != "key":
            return HowDivided(method, False, is_linear, expression=self._in_parentheses())
        algorithm = 2
        if self._take("algorithm"):
            self._need("=")
            algorithm = int(self._word())
        return HowDivided("key", False, is_linear, algorithm, columns=self._columns())

    def _partition(self) -> WrittenPartition:
        self._need("partition")
        name = self._name()
        less_than: tuple[Bound, ...] | None = None
        values: tuple[tuple[Bound, ...], ...] | None = None
        is_default = self._take("default")
        if self._take("values"):
            if self._take("less"):
                self._need("than")
                less_than = (MAXVALUE,) if self._take("maxvalue") else self._bounds()
            else:
                self._need("in")
                values = self._values()
        elif not is_default and self._take("in"):
            values = self._values()
        subs: list[str] = []
        while self.at < len(self.pieces) and self.pieces[self.at].text not in (",", ")"):
            if self._take("("):
                while True:
                    self._need("subpartition")
                    subs.append(self._name())
                    while self.pieces[self.at].text not in (",", ")"):  # its options
                        self.at += 1
                    if not self._take(","):
                        break
                self._need(")")
            else:
                self.at += 1  # ENGINE, COMMENT and the like
        return WrittenPartition(name, less_than, values, is_default, tuple(subs))

    def _values(self) -> tuple[tuple[Bound, ...], ...]:
        self._need("(")
        if self._take("default"):
            self._need(")")
            return ()
        found = []
        while True:
            if self.pieces[self.at].text == "(":
                found.append(self._bounds())
            else:
                found.append((self._bound(),))
            if not self._take(","):
                break
        self._need(")")
        return tuple(found)

    def _bounds(self) -> tuple[Bound, ...]:
        self._need("(")
        found = [self._bound()]
        while self._take(","):
            found.append(self._bound())
        self._need(")")
        return tuple(found)

    def _bound(self) -> Bound:
        """Up to the next comma or the closing parenthesis."""
        first, depth = self.at, 0
        while self.at < len(self.pieces):
            text = self.pieces[self.at].text
            if depth == 0 and text in (",", ")"):
                break
            depth += (text == "(") - (text == ")")
            self.at += 1
        pieces = self.pieces[first : self.at]
        if not pieces:
            raise self._wrong("a missing bound")
        written = self.sql[pieces[0].start : pieces[-1].start + len(pieces[-1].text)]
        try:
            return _value(pieces, written)
        except ValueError:
            return Written(written)

    def _columns(self) -> tuple[str, ...]:
        self._need("(")
        if self._take(")"):
            return ()
        found = [self._name()]
        while self._take(","):
            found.append(self._name())
        self._need(")")
        return tuple(found)

    def _in_parentheses(self) -> str:
        self._need("(")
        first, depth = self.pieces[self.at].start, 1
        while self.at < len(self.pieces):
            text = self.pieces[self.at].text
            depth += (text == "(") - (text == ")")
            self.at += 1
            if depth == 0:
                return self.sql[first : self.pieces[self.at - 1].start].strip()
        raise self._wrong("a parenthesis that is not closed")

    def _number_after(self, word: str) -> int:
        return int(self._word()) if self._take(word) else 0

    def _take(self, word: str) -> bool:
        here = self.pieces[self.at] if self.at < len(self.pieces) else None
        if here is None or here.piece in (Piece.NAME, Piece.TEXT) or here.value.lower() != word:
            return False
        self.at += 1
        return True

    def _need(self, word: str) -> None:
        if not self._take(word):
            raise self._wrong(f"no {word.upper()} where one belongs")

    def _word(self) -> str:
        if self.at >= len(self.pieces):
            raise self._wrong("an end too early")
        self.at += 1
        return self.pieces[self.at - 1].value.lower()

    def _name(self) -> str:
        if self.at >= len(self.pieces):
            raise self._wrong("an end too early")
        here = self.pieces[self.at]
        self.at += 1
        return here.text if here.piece is Piece.WORD else here.value

    def _wrong(self, found: str) -> UsageError:
        place = self.pieces[min(self.at, len(self.pieces) - 1)].start
        return UsageError("a PARTITION BY clause is not understood", found=f"{found}: {self.sql[place : place + 60]!r}")


def _value(pieces: Sequence[Lexeme], written: str) -> Bound:
    """Raises ValueError for what is no plain value."""
    sign = 1
    if len(pieces) == 2 and pieces[0].text in "-+":
        sign, pieces = (-1 if pieces[0].text == "-" else 1), pieces[1:]
    if len(pieces) == 2 and pieces[0].piece is Piece.WORD and pieces[0].text.startswith("_"):
        return decoded(bytes.fromhex(pieces[1].text.removeprefix("0x")), pieces[0].value[1:])
    if len(pieces) == 2 and pieces[0].value in ("date", "timestamp", "time") and pieces[1].piece is Piece.TEXT:
        return text_value(pieces[1].text)
    if len(pieces) != 1:
        raise ValueError(written)
    only = pieces[0]
    if only.piece is Piece.TEXT:
        return text_value(only.text)
    if only.piece is Piece.NUMBER:
        return bytes.fromhex(only.text[2:]) if only.text[:2] == "0x" else sign * int(only.text)
    if only.value == "maxvalue":
        return MAXVALUE
    if only.value == "null":
        return None
    raise ValueError(written)
