"""One condition on a key in other words, in the dialect with backquotes: for the same rows, whatever the key is.

As core/rewriting/condition_rewrites.py, which says what makes a rewrite allowed. Each rule stands on what MariaDB's
manual says of the function (Date and Time Functions; Date and Time Literals). Only values whose type is certain are
taken: the server compares a day with a text that has a clock as moments, and `CURRENT_DATE + 1` is a number there.
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any, NoReturn

from sqlglot import exp

from slabrow.core.pruning.conditions import bare, columns_in
from slabrow.core.rewriting.mended import (
    DAYS,
    MONTHS,
    TWICE,
    Mended,
    Refused,
    has_midnight_twice,
    is_fixed,
    later_range_text,
    period_ends,
    range_text,
    with_columns_first,
)
from slabrow.core.sql.clauses import day_number_of, folded
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.constants import comes_twice
from slabrow.core.sql.dialect import spoken
from slabrow.core.sql.operators import ORDERING, TURNED, holds
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind

_HALF_DATES = "except for dates with a month or a day of zero"
_DAY_LETTERS = len("2026-03-01")
_FIRST_YEAR = 1000  # of the documented range
_DAY = r"(\d{4})-(\d\d)-(\d\d)"
_MOMENT = re.compile(_DAY + r"(?: (\d\d):(\d\d):(\d\d))?")
_FORMS = {
    "%Y": (r"(\d{4})", "year"),
    "%Y-%m": (r"(\d{4})-(\d\d)", "month"),
    "%Y%m": (r"(\d{4})(\d\d)", "month"),
    "%Y-%m-%d": (_DAY, "day"),
    "%Y%m%d": (r"(\d{4})(\d\d)(\d\d)", "day"),
}
_SHORT_FORMS = {4: "%Y", 7: "%Y-%m", 10: "%Y-%m-%d"}  # by the letters that LEFT() takes
_STEPS = {
    "second": timedelta(seconds=1),
    "minute": timedelta(minutes=1),
    "hour": timedelta(hours=1),
    "day": timedelta(days=1),
    "week": timedelta(weeks=1),
}
_CALENDAR_STEPS = ("month", "quarter", "year")


class _NoRule(Exception):
    """No rule fits this condition."""


@dataclass(frozen=True, slots=True)
class BackquotedMender:
    """Mends conditions on the columns of one table's key.

    key     by their names in lower case: in this dialect the case of a column's name says nothing
    alias   the table's name or alias at that place
    """

    key: Mapping[str, KeyColumn]
    around: Surroundings
    alias: str

    def mended(self, condition: exp.Expression) -> Mended | None:
        """None where no rule fits. Raises Refused where one nearly does."""
        try:
            return self._mended(condition)
        except (_NoRule, ValueError, OverflowError, KeyError, TypeError):
            return None

    def month_of_year(self, year: exp.Expression, month: exp.Expression) -> Mended | None:
        """`YEAR(k) = Y AND MONTH(k) = M` together; None where they are something else."""
        try:
            if not isinstance(year, exp.EQ) or not isinstance(month, exp.EQ):
                return None
            of_year, of_month = (_field(each.this, name) for each, name in ((year, "year"), (month, "month")))
            column, other = self._key(of_year), self._key(of_month)
            if column.name != other.name:
                return None
            first = datetime(_whole(year.expression), _whole(month.expression), 1)
            return self._period(column, "month", "=", first, _HALF_DATES)
        except (_NoRule, ValueError, KeyError, TypeError):
            return None

    def _mended(self, condition: exp.Expression) -> Mended:
        if condition.args.get("negate"):
            raise _NoRule
        match condition:
            case exp.Between():
                low = self._compared(condition.this, ">=", condition.args["low"])
                high = self._compared(condition.this, "<=", condition.args["high"])
                return Mended(f"{low.text} AND {high.text}", _joined(low.note, high.note))
            case exp.In() if condition.expressions:
                each = [self._compared(condition.this, "=", value) for value in condition.expressions]
                return Mended(" OR ".join(f"({one.text})" for one in each), each[0].note)
            case exp.Like() if isinstance(condition.this, exp.Column):
                return self._like(condition)
            case _ if type(condition) in ORDERING:
                return self._compared(*with_columns_first(condition))
            case _:
                raise _NoRule

    def _compared(self, left: Any, sign: str, right: Any) -> Mended:
        left, right = bare(left), bare(right)
        if isinstance(left, exp.Column) or columns_in(right) or right.find(exp.Select) is not None:
            raise _NoRule
        match left:
            case exp.TsOrDsToDate() | exp.Date() if not left.expressions:
                return self._days(self._time(left.this), sign, right)
            case exp.Cast() if left.to.this == exp.DataType.Type.DATE:
                return self._days(self._time(left.this), sign, right)
            case exp.Year():
                return self._period(
                    self._time(_field(left, "year")), "year", sign, datetime(_whole(right), 1, 1), _HALF_DATES
                )
            case exp.Extract():
                return self._extracted(left, sign, right)
            case exp.TimeToStr() if isinstance(left.args.get("format"), exp.Literal):
                return self._written(left.this, str(left.args["format"].this), sign, right)
            case exp.Left() if isinstance(left.expression, exp.Literal):
                return self._written(left.this, _SHORT_FORMS[_whole(left.expression)], sign, right)
            case exp.Add() | exp.Sub() if isinstance(left.expression, exp.Interval):
                return self._moved(left.this, isinstance(left, exp.Add), left.expression, sign, right)
            case exp.DateAdd() | exp.DateSub():
                step = exp.Interval(this=left.expression, unit=left.args.get("unit"))
                return self._moved(left.this, isinstance(left, exp.DateAdd), step, sign, right)
            case exp.DateDiff() if left.args.get("date_part_boundary"):
                return self._apart(left, sign, right)
            case exp.Add() if (days := day_number_of(left)) is not None and (other := day_number_of(right)) is not None:
                return self._days(self._time(days), sign, other)
            case exp.Coalesce() if len(left.expressions) == 1:
                return self._coalesced(left, sign, right)
            case _:
                raise _NoRule

    # What stands around the key

    def _key(self, node: Any) -> exp.Column:
        node = bare(node)
        if isinstance(node, exp.TsOrDsToDate | exp.TsOrDsToTimestamp):  # the parser adds them within some functions
            node = bare(node.this)
        if not isinstance(node, exp.Column) or not isinstance(node.this, exp.Identifier):
            raise _NoRule
        qualifier = node.args.get("table")
        if node.name.lower() not in self.key or (qualifier is not None and folded(qualifier) != self.alias):
            raise _NoRule
        return node

    def _own(self, column: exp.Column) -> KeyColumn:
        return self.key[column.name.lower()]

    def _time(self, node: Any) -> exp.Column:
        column = self._key(node)
        if not self._own(column).kind.is_time:
            raise _NoRule
        return column

    # Functions that cut a moment down to a period

    def _days(self, column: exp.Column, sign: str, right: Any) -> Mended:
        """`DATE(k) sign day`."""
        if (day := _literal_day(right)) is not None:
            return self._period(column, "day", sign, datetime.combine(day, time()))
        return self._later_days(column, sign, _typed_day(right), 0)

    def _later_days(self, column: exp.Column, sign: str, day: str, shift: int) -> Mended:
        """The same for a day that is known as SQL alone, and so many days after it."""
        self._check_midnights(column)

        def edge(days: int) -> str:
            if days == 0:
                return day
            return f"{day} {'+' if days > 0 else '-'} INTERVAL {abs(days)} DAY"

        text = later_range_text(column.sql(spoken()), sign, edge(shift), edge(shift + 1))
        return Mended(text, self._note(column))

    def _extracted(self, left: Any, sign: str, right: Any) -> Mended:
        column, number = self._time(left.expression), _whole(right)
        match str(left.this.name).lower():
            case "year":
                return self._period(column, "year", sign, datetime(number, 1, 1), _HALF_DATES)
            case "year_month":
                return self._period(column, "month", sign, datetime(number // 100, number % 100, 1), _HALF_DATES)
            case _:
                raise _NoRule

    def _written(self, inner: Any, pattern: str, sign: str, right: Any) -> Mended:
        """A text that rises with the key: years have four digits."""
        form, unit = _FORMS[pattern]
        match = re.fullmatch(form, right.this) if isinstance(right, exp.Literal) and right.is_string else None
        if match is None:
            raise _NoRule
        note = "" if unit == "day" else _HALF_DATES
        return self._period(self._time(inner), unit, sign, _first_of(match.groups()), note)

    def _like(self, condition: exp.Like) -> Mended:
        """The key as a text, against the beginning of a date."""
        pattern = condition.expression
        if not isinstance(pattern, exp.Literal) or not pattern.is_string:
            raise _NoRule
        match = re.fullmatch(r"(\d{4})(?:-(\d\d)(?:-(\d\d))?)?([- ]?)%", pattern.this)
        if match is None:
            raise _NoRule
        *parts, after = match.groups()
        unit, separator = (("year", "-"), ("month", "-"), ("day", " "))[sum(part is not None for part in parts) - 1]
        column = self._time(condition.this)
        if after not in ("", separator) or (after == " " and self._own(column).kind is Kind.DATE):
            raise _NoRule
        return self._period(column, unit, "=", _first_of(parts), "" if unit == "day" else _HALF_DATES)

    def _period(self, column: exp.Column, unit: str, sign: str, wall: datetime, note: str = "") -> Mended:
        """`f(key) sign wall`, where f cuts down to the unit."""
        if (ends := period_ends(wall, unit, sign)) is None:
            raise _NoRule
        low, high = (self._edge(column, end) for end in ends)
        return Mended(range_text(column.sql(spoken()), sign, low, high), _joined(self._note(column), note))

    def _edge(self, column: exp.Column, wall: datetime) -> str:
        kind = self._own(column).kind
        if wall.year < _FIRST_YEAR:
            raise _NoRule
        if kind is Kind.TIMESTAMPTZ and comes_twice(wall, self.around.zone):
            self._refuse(TWICE)
        return f"'{wall:%Y-%m-%d}'" if kind is Kind.DATE else f"'{wall:%Y-%m-%d %H:%M:%S}'"

    def _note(self, column: exp.Column) -> str:
        is_local = self._own(column).kind is Kind.TIMESTAMPTZ
        return f"in the session's time zone, {self.around.zone}" if is_local else ""

    def _check_midnights(self, column: exp.Column) -> None:
        if self._own(column).kind is Kind.TIMESTAMPTZ and has_midnight_twice(self.around.zone):
            self._refuse(TWICE)

    # Calculations and replaced NULLs

    def _moved(self, inner: Any, is_added: bool, step: exp.Interval, sign: str, right: Any) -> Mended:
        """`k + INTERVAL n unit sign moment`: the interval on the other side."""
        column, unit = self._time(inner), str(step.args["unit"].name).lower()
        own = self._own(column)
        if unit in _CALENDAR_STEPS:
            self._refuse(MONTHS)
        amount = _STEPS[unit] * int(str(step.this.this))
        if own.kind is Kind.TIMESTAMPTZ and not is_fixed(self.around.zone):
            self._refuse(DAYS)
        if own.kind is Kind.DATE and amount % timedelta(days=1):
            raise _NoRule  # the sum has a clock
        back = -amount if is_added else amount
        name = column.sql(spoken())
        # The sum of a zero date is NULL, and the zero date itself lies below everything.
        note = _joined(self._note(column), _HALF_DATES if sign.startswith("<") else "")
        if (moment := _literal_moment(right)) is not None:
            moved = moment + back
            if own.kind is Kind.DATE and moved.time() != time():
                raise _NoRule
            return Mended(f"{name} {sign} {self._edge(column, moved)}", note)
        base = _typed_day(right) if own.kind is Kind.DATE else _clock(right) or _typed_day(right)
        turned = "-" if is_added else "+"
        return Mended(f"{name} {sign} {base} {turned} {step.sql(spoken())}", note)

    def _apart(self, left: exp.DateDiff, sign: str, right: Any) -> Mended:
        """`DATEDIFF(day, k) = n`: `DATE(k)` lies n days before; of `DATEDIFF(k, day)` n days after."""
        number = _whole(right)
        is_behind = bool(columns_in(left.expression))
        column = self._time(left.expression if is_behind else left.this)
        other = bare(left.this if is_behind else left.expression)
        if columns_in(other):
            raise _NoRule
        turned, shift = (TURNED[sign], -number) if is_behind else (sign, number)
        if (moment := _literal_moment(other)) is not None:
            day = datetime.combine(moment.date(), time()) + timedelta(days=shift)
            found = self._period(column, "day", turned, day)
        else:
            clock = _clock(other)
            found = self._later_days(column, turned, f"DATE({clock})" if clock else _typed_day(other), shift)
        note = _HALF_DATES if turned.startswith("<") else ""
        return Mended(found.text, _joined(found.note, note))

    def _coalesced(self, left: Any, sign: str, right: Any) -> Mended:
        """The key itself, and a NULL key where what replaces it satisfies the condition."""
        column, instead = self._key(left.this), bare(left.expressions[0])
        read: Callable[[Any], Any] = _literal_moment if self._own(column).kind.is_time else _whole
        values = [read(each) for each in (instead, right)]
        if None in values or self._own(column).kind not in (Kind.INTEGER, Kind.DATE, Kind.TIMESTAMP):
            raise _NoRule
        # With a text instead of NULL the whole is a text, and compared letter by letter with another one.
        as_text = isinstance(instead, exp.Literal) and instead.is_string
        if as_text and (self._own(column).kind is not Kind.DATE or len(right.name) > _DAY_LETTERS):
            raise _NoRule
        text = f"{column.sql(spoken())} {sign} {right.sql(spoken())}"
        if self._own(column).not_null or not holds(values[0], sign, values[1]):
            return Mended(text)
        return Mended(f"{text} OR {column.sql(spoken())} IS NULL")

    @staticmethod
    def _refuse(why: str) -> NoReturn:
        raise Refused(why)


def _joined(*notes: str) -> str:
    """Several notes as one, each once."""
    parts = (part for note in notes for part in note.split("; ") if part)
    return "; ".join(dict.fromkeys(parts))


def _field(node: Any, name: str) -> Any:
    """The argument of YEAR() or MONTH(), or of EXTRACT(YEAR …) or EXTRACT(MONTH …)."""
    node = bare(node)
    if isinstance(node, exp.Extract) and str(node.this.name).lower() == name:
        return node.expression
    if isinstance(node, exp.Year if name == "year" else exp.Month):
        return node.this
    raise _NoRule


def _whole(node: Any) -> int:
    node = bare(node)
    if not isinstance(node, exp.Literal) or node.is_string:
        raise _NoRule
    return int(str(node.this))


def _literal_moment(node: Any) -> datetime | None:
    """A day or a moment that is written out as the manual has it; None for everything else."""
    node = bare(node)
    if isinstance(node, exp.Cast) and node.to.this in (
        exp.DataType.Type.DATE,
        exp.DataType.Type.DATETIME,
        exp.DataType.Type.TIMESTAMPTZ,
    ):
        is_day, node = node.to.this == exp.DataType.Type.DATE, node.this
    elif isinstance(node, exp.TsOrDsToDate):
        is_day, node = True, node.this
    else:
        is_day = False
    if not isinstance(node, exp.Literal) or not node.is_string:
        return None
    match = _MOMENT.fullmatch(node.this)
    if match is None:
        return None
    found = datetime(*[int(part) for part in match.groups() if part is not None])  # type: ignore[arg-type]
    return datetime.combine(found.date(), time()) if is_day else found


def _literal_day(node: Any) -> date | None:
    """As `_literal_moment`, at midnight: DATE(k) is compared with another one as moments."""
    found = _literal_moment(node)
    if found is not None and found.time() != time():
        raise _NoRule
    return None if found is None else found.date()


def _clock(node: Any) -> str | None:
    """The moment now; None for everything else."""
    is_now = isinstance(node, exp.Anonymous) and node.name.lower() == "now" and not node.expressions
    return "NOW()" if is_now or (isinstance(node, exp.CurrentTimestamp) and not node.this) else None


def _typed_day(node: Any) -> str:
    """SQL that is a day for certain: today, a moment cut down to its day, or such a day moved by days or months."""
    node = bare(node)
    match node:
        case exp.CurrentDate() if not node.this:
            return "CURRENT_DATE"
        case exp.TsOrDsToDate():
            clock = _clock(bare(node.this))
            return f"DATE({clock})" if clock is not None else _typed_day(node.this)
        case exp.Add() | exp.Sub() if isinstance(node.expression, exp.Interval):
            step, sign = node.expression, "+" if isinstance(node, exp.Add) else "-"
        case exp.DateAdd() | exp.DateSub():
            step = exp.Interval(this=node.expression, unit=node.args.get("unit"))
            sign = "+" if isinstance(node, exp.DateAdd) else "-"
        case _:
            raise _NoRule
    unit = str(step.args["unit"].name).lower()
    if unit not in ("day", "week", *_CALENDAR_STEPS):
        raise _NoRule
    return f"{_typed_day(node.this)} {sign} INTERVAL {int(str(step.this.this))} {unit.upper()}"


def _first_of(parts: Any) -> datetime:
    """The beginning of a year, of its month, or of a day of it."""
    numbers = [int(part) for part in parts if part is not None]
    return datetime(*[*numbers, 1, 1][:3])  # type: ignore[arg-type]
