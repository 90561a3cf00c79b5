"""The values of constants, as plain data, and the surroundings that they depend on."""

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from slabrow.core.sql.answers import Answers
from slabrow.core.sql.dialect import spoken
from slabrow.core.sql.when import When

MARK = "\x02"  # begins a string that stands for a literal of a shape; its number follows


MARKED_NUMBER = 907_199_254_000  # and numbers from here up stand for numbers: see core/sql/statement_shapes.py


@dataclass(frozen=True, slots=True)
class Interval:
    """As the server keeps it: months, days and microseconds apart."""

    months: int
    days: int
    microseconds: int

    def __neg__(self) -> "Interval":
        return Interval(-self.months, -self.days, -self.microseconds)


@dataclass(frozen=True, slots=True)
class Null:
    """SQL's NULL, of any type."""


@dataclass(frozen=True, slots=True)
class Unread:
    """A literal in quotes whose type the other side of the comparison decides."""

    text: str


@dataclass(frozen=True, slots=True)
class Constant:
    """value: int, Decimal, bool, str (of type text), date, datetime (naive or an instant), Interval, UUID."""

    value: Any
    when: When = When.PLAN
    is_whole: bool = True  # a number written without a point: an integer to the server


@dataclass(frozen=True, slots=True)
class Surroundings:
    """The session in which expressions are evaluated: its zone, its clock, its parameters.

    zone       the session's time zone
    now        the moment that now() gives
    params     the constants for $1, $2, …, as SQL; None: prepared without them
    literals   what stands for the marked literals of a shape
    is_generic whether one plan serves every value of the parameters: they are known as execution starts
    answers    what a server says of expressions that have no rule here; None without a server
    """

    zone: ZoneInfo
    now: datetime | None = None
    params: tuple[str, ...] | None = ()
    literals: tuple[str, ...] = ()
    is_generic: bool = False
    answers: Answers | None = None
    _parsed: dict[str, Any] = field(default_factory=dict, compare=False)

    def literal(self, node: exp.Literal) -> str:
        """The value of a marked literal in this run."""
        text = str(node.this)
        if self.literals:
            if text.startswith(MARK):
                return self.literals[int(text[1:])]
            if (
                not node.is_string
                and text.isdecimal()
                and len(text) < 20
                and 0 <= int(text) - MARKED_NUMBER < len(self.literals)
            ):
                return self.literals[int(text) - MARKED_NUMBER]
        return text

    def parameter(self, node: exp.Expression) -> exp.Expression | None:
        """The expression given for $n; None when there is none."""
        number = parameter_number(node)
        if number is None or self.params is None or not 1 <= number <= len(self.params):
            return None
        text = self.params[number - 1]
        if text not in self._parsed:
            try:
                self._parsed[text] = sqlglot.parse_one(text, read=spoken())
            except SqlglotError:
                self._parsed[text] = None
        parsed = self._parsed[text]
        return None if parsed is None or any(parsed.find_all(exp.Parameter, exp.Placeholder)) else parsed


def parameter_number(node: exp.Expression) -> int | None:
    """The number of a parameter such as $2; None for anything else."""
    inner = node.this
    text = str(inner.name if isinstance(inner, exp.Expression) else inner)
    return int(text) if text.isdecimal() and len(text) < 6 else None


class NotKnown(Exception):
    """The value cannot be known. is_volatile: it may differ from row to row."""

    def __init__(self, is_volatile: bool = False) -> None:
        super().__init__()
        self.is_volatile = is_volatile
