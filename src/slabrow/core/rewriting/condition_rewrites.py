"""One condition on a key in other words, which name the bare key: for the same rows, whatever the key's value is.

Each rule stands on what the server's manual says of the function (9.8 Formatting, 9.9 Date/Time, 9.18 Conditional
Expressions). What holds in one time zone alone names it; what is not equal is refused with the reason (`Refused`).
"""

# What makes a rewrite allowed. The new condition must be true for exactly the rows for which the old one is true: for
# every value of the key, NULL included, and in every session unless the note says which one. So each rule below names
# the fact of the server's manual on which it stands, and a rule that would need an exception is not offered.
#
# Most rules have one form: a function f of the key that never falls as the key rises. `f(k) = x` then holds on one
# interval of k, and the rule computes its ends. `date_trunc('month', k) = '2026-02-01'` holds from the first of
# February to before the first of March. Where f can fall (local time when the clocks are set back), the rule refuses.

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, NoReturn
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

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
    moves_by_hours,
    never_comes,
    period_ends,
    range_text,
    with_columns_first,
)
from slabrow.core.sql.clauses import folded
from slabrow.core.sql.constant_values import Constant, Interval, NotKnown, Surroundings, Unread
from slabrow.core.sql.constants import comes_twice, evaluate, parse_interval, read
from slabrow.core.sql.dialect import spoken
from slabrow.core.sql.key_constants import as_key
from slabrow.core.sql.operators import ORDERING, TURNED, holds
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, is_of, midnight, order, spell
from slabrow.core.values.periods import beginning, is_unit


class _NoRule(Exception):
    """No rule fits this condition."""


@dataclass(frozen=True, slots=True)
class _Inner:
    """The expression inside a function call. zone: the SQL of AT TIME ZONE, None for the key itself."""

    column: exp.Column
    own: KeyColumn
    zone: str | None = None

    @property
    def name(self) -> str:
        return self.column.sql(spoken())


@dataclass(frozen=True, slots=True)
class Mender:
    """Mends conditions on the key of one table. alias: the table's name or alias at that place."""

    key: Mapping[str, KeyColumn]
    around: Surroundings
    alias: str

    def mended(self, condition: exp.Expression) -> Mended | None:
        """None where no rule fits. Raises Refused where one nearly does."""
        try:
            return self._mended(condition)
        except (_NoRule, NotKnown, ValueError, OverflowError, KeyError, TypeError, ZoneInfoNotFoundError):
            return None

    def _mended(self, condition: exp.Expression) -> Mended:
        match condition:
            case exp.Between() if not condition.args.get("symmetric"):
                low = self._compared(condition.this, ">=", condition.args["low"])
                high = self._compared(condition.this, "<=", condition.args["high"])
                return Mended(f"{low.text} AND {high.text}", low.note or high.note)
            case exp.In() if condition.expressions and not condition.args.get("negate"):
                each = [self._compared(condition.this, "=", value) for value in condition.expressions]
                return Mended(" OR ".join(f"({one.text})" for one in each), each[0].note)
            case exp.Like() if not condition.args.get("negate"):
                return self._like(condition)
            case _ if type(condition) in ORDERING:
                return self._compared(*with_columns_first(condition))
            case _:
                raise _NoRule

    def _compared(self, left: Any, sign: str, right: Any) -> Mended:
        left = bare(left)
        if isinstance(left, exp.Column) or right.find(exp.Column, exp.Select) is not None:
            raise _NoRule
        match left:
            case exp.TimestampTrunc() | exp.DateTrunc():
                return self._truncated(left, sign, right)
            case exp.Cast() if left.to.this == exp.DataType.Type.DATE:
                return self._day(self._inner(_without_clock(left.this)), sign, right)
            case exp.Date() | exp.TsOrDsToDate() if not left.expressions:
                return self._day(self._inner(left.this), sign, right)
            case exp.Extract():
                return self._extracted(left, sign, right)
            case exp.TimeToStr() if isinstance(left.args.get("format"), exp.Literal) and sign == "=":
                return self._written(self._inner(left.this), str(left.args["format"].this), right)
            case exp.Add() | exp.Sub():
                return self._calculated(left, sign, right)
            case exp.Coalesce() if len(left.expressions) == 1:
                return self._coalesced(left, sign, right)
            case _:
                raise _NoRule

    # What stands around the key

    def _inner(self, node: Any) -> _Inner:
        node = bare(node)
        if isinstance(node, exp.AtTimeZone):
            inner, zone = self._inner(node.this), node.args["zone"]
            if inner.zone is None and inner.own.kind is Kind.TIMESTAMPTZ and not columns_in(zone):
                return _Inner(inner.column, inner.own, zone.sql(spoken()))
            raise _NoRule
        if not isinstance(node, exp.Column) or not isinstance(node.this, exp.Identifier):
            raise _NoRule
        own, qualifier = self.key.get(folded(node.this)), node.args.get("table")
        if own is None or (qualifier is not None and folded(qualifier) != self.alias):
            raise _NoRule
        return _Inner(node, own)

    def _time(self, inner: _Inner) -> _Inner:
        if not inner.own.kind.is_time:
            raise _NoRule
        return inner

    # Functions that cut a moment down to a period

    def _truncated(self, left: Any, sign: str, right: Any) -> Mended:
        inner = self._time(self._inner(left.this))
        unit = str(left.args["unit"].this if isinstance(left.args["unit"], exp.Literal) else left.args["unit"].name)
        unit = unit.lower()
        if not is_unit(unit):
            raise _NoRule
        if (zone := left.args.get("zone")) is not None:
            if inner.zone is not None or inner.own.kind is not Kind.TIMESTAMPTZ or not isinstance(zone, exp.Literal):
                raise _NoRule
            inner = _Inner(inner.column, inner.own, zone.sql(spoken()))
            if self._is_later(right):
                raise _NoRule
            moment, _ = as_key(evaluate(right, self.around), Kind.TIMESTAMPTZ, "timestamptz", self.around)
            wall = moment.astimezone(ZoneInfo(str(zone.this))).replace(tzinfo=None)  # type: ignore[union-attr]
            return self._period(inner, unit, sign, wall)
        if self._is_later(right):
            return self._truncated_later(inner, unit, sign, right)
        return self._period(inner, unit, sign, self._wall(inner, evaluate(right, self.around)))

    def _truncated_later(self, inner: _Inner, unit: str, sign: str, right: Any) -> Mended:
        """With a value that changes from run to run: only where it is a beginning itself."""
        same = isinstance(right, exp.TimestampTrunc | exp.DateTrunc) and right.args["unit"].name.lower() == unit
        if not same or inner.zone is not None or inner.own.kind is Kind.DATE or right.args.get("zone") is not None:
            raise _NoRule
        self._check_midnights(inner)
        start, name = right.sql(spoken()), inner.name
        end = (
            f"{start} + CAST('1 {unit}' AS INTERVAL)"
            if unit != "quarter"
            else f"{start} + CAST('3 months' AS INTERVAL)"
        )
        return Mended(later_range_text(name, sign, start, end))

    def _day(self, inner: _Inner, sign: str, right: Any) -> Mended:
        self._time(inner)
        if not self._is_later(right):
            value = evaluate(right, self.around)
            if isinstance(value.value, Unread):
                value = read(value, Kind.DATE, self.around)
            if type(value.value) is not date:
                raise _NoRule
            return self._period(inner, "day", sign, midnight(value.value))
        if not isinstance(bare(right), exp.Parameter | exp.Placeholder):
            found = evaluate(right, self.around).value
            if found is not None and type(found) is not date:
                raise _NoRule  # a date beside an instant is compared as an instant
        day = right.sql(spoken())
        day = f"({day})" if isinstance(right, exp.Binary) else day
        is_date = isinstance(right, exp.CurrentDate) or (isinstance(right, exp.Cast) and _is_date(right.to))
        day = day if is_date else f"CAST({day} AS DATE)"
        self._check_midnights(inner)
        if inner.zone is not None:
            edges = [f"CAST({each} AS TIMESTAMP) AT TIME ZONE {inner.zone}" for each in (day, f"{day} + 1")]
        else:
            edges = [day, f"{day} + 1"]
        return Mended(later_range_text(inner.name, sign, edges[0], edges[1]))

    def _extracted(self, left: Any, sign: str, right: Any) -> Mended:
        inner, field = self._time(self._inner(left.expression)), str(left.this.name).lower()
        if self._is_later(right):
            raise _NoRule
        value = evaluate(right, self.around).value
        if not isinstance(value, int) or isinstance(value, bool):
            raise _NoRule
        if field == "year":
            return self._period(inner, "year", sign, datetime(value, 1, 1))
        if field == "epoch" and inner.zone is None and inner.own.kind is not Kind.DATE:
            moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=value)
            text = spell(moment if inner.own.kind is Kind.TIMESTAMPTZ else moment.replace(tzinfo=None))
            return Mended(f"{inner.name} {sign} '{text}'")
        raise _NoRule

    def month_of_year(self, year: exp.Expression, month: exp.Expression) -> Mended | None:
        """`extract(year …) = Y AND extract(month …) = M` together; None where they are something else."""
        try:
            sides = []
            for node, field in ((year, "year"), (month, "month")):
                if not isinstance(node, exp.EQ) or not isinstance(node.this, exp.Extract):
                    return None
                if str(node.this.this.name).lower() != field or self._is_later(node.expression):
                    return None
                value = evaluate(node.expression, self.around).value
                sides.append((self._time(self._inner(node.this.expression)), int(value)))
            if sides[0][0].zone != sides[1][0].zone or sides[0][0].own != sides[1][0].own:
                return None
            return self._period(sides[0][0], "month", "=", datetime(sides[0][1], sides[1][1], 1))
        except (_NoRule, NotKnown, ValueError, TypeError, KeyError, ZoneInfoNotFoundError):
            return None

    def _written(self, inner: _Inner, pattern: str, right: Any) -> Mended:
        """to_char with a pattern of year, month and day; the parser spells them as strftime does."""
        form, unit = _PATTERNS[pattern]
        if not isinstance(right, exp.Literal):
            raise _NoRule
        text = self.around.literal(right)
        if re.fullmatch(form, text) is None:
            raise _NoRule
        return self._period(self._time(inner), unit, "=", _wall_of(text))

    def _like(self, condition: exp.Like) -> Mended:
        """A moment cast to text, against the beginning of a date (DateStyle ISO)."""
        left, right = bare(condition.this), condition.expression
        if not isinstance(left, exp.Cast) or not isinstance(right, exp.Literal):
            raise _NoRule
        if left.to.this not in (exp.DataType.Type.TEXT, exp.DataType.Type.VARCHAR) or left.to.expressions:
            raise _NoRule
        inner, text = self._time(self._inner(left.this)), self.around.literal(right)
        match = re.fullmatch(r"(\d{4}(?:-\d\d(?:-\d\d)?)?)([- ]?)%", text)
        if match is None:
            raise _NoRule
        stem, after = match.groups()
        units = {4: ("year", "-"), 7: ("month", "-"), 10: ("day", " ")}
        unit, separator = units[len(stem)]
        if after not in ("", separator) or (after == " " and inner.own.kind is Kind.DATE):  # a date has no clock
            raise _NoRule
        found = self._period(inner, unit, "=", _wall_of(stem))
        return Mended(found.text, "; ".join(part for part in (found.note, "with DateStyle ISO") if part))

    def _period(self, inner: _Inner, unit: str, sign: str, wall: datetime) -> Mended:
        """`f(key) sign wall`, where f cuts down to the unit: never late, so a bound of the bare key says the same."""
        if (zone := self._zone(inner)) is not None:
            if comes_twice(wall, zone):
                self._refuse(TWICE)  # the local time does not tell which of two instants was meant
            if unit == "hour" and not moves_by_hours(zone):
                raise _NoRule  # where clocks are set back by half an hour, an hour begins twice
            if never_comes(beginning(wall, unit), zone):
                raise _NoRule  # the clocks skip the first moment of this period
        if (ends := period_ends(wall, unit, sign)) is None:
            raise _NoRule  # the original is always false: nothing to offer
        low, high = (self._edge(inner, end) for end in ends)
        text = range_text(inner.name, sign, low, high)
        is_local = inner.own.kind is Kind.TIMESTAMPTZ and inner.zone is None
        return Mended(text, f"in the session's time zone, {self.around.zone}" if is_local else "")

    def _zone(self, inner: _Inner) -> ZoneInfo | None:
        """In which the key's moments have a wall clock; None for keys without a zone."""
        if inner.zone is not None:
            return ZoneInfo(inner.zone.strip("'"))
        return self.around.zone if inner.own.kind is Kind.TIMESTAMPTZ else None

    def _edge(self, inner: _Inner, wall: datetime) -> str:
        if inner.zone is not None:
            if not inner.zone.startswith("'") or comes_twice(wall, ZoneInfo(inner.zone.strip("'"))):
                self._refuse(TWICE)
            return f"CAST('{spell(wall)}' AS TIMESTAMP) AT TIME ZONE {inner.zone}"
        match inner.own.kind:
            case Kind.TIMESTAMPTZ:
                if comes_twice(wall, self.around.zone):
                    self._refuse(TWICE)
                return f"'{spell(wall.replace(tzinfo=self.around.zone))}'"
            case Kind.DATE:
                first = wall if wall.time() == time() else wall + timedelta(days=1)
                return f"'{spell(first.date())}'"
            case _:
                return f"'{spell(wall)}'"

    def _check_midnights(self, inner: _Inner) -> None:
        """With days that are not known yet: no midnight may come twice in the zone."""
        if inner.own.kind is not Kind.TIMESTAMPTZ:
            return
        zone = ZoneInfo(inner.zone.strip("'")) if inner.zone is not None else self.around.zone
        if has_midnight_twice(zone):
            self._refuse(TWICE)

    # Calculations and replaced NULLs

    def _calculated(self, left: Any, sign: str, right: Any) -> Mended:
        """The calculation on the other side, where that is the same for every key."""
        if isinstance(left, exp.Sub) and not columns_in(left.this):
            return self._age(left, sign, right)
        inner = self._inner(left.this)
        if inner.zone is not None or _parameters(left) or columns_in(left.expression):
            raise _NoRule
        step = evaluate(left.expression, self.around).value
        if isinstance(left.expression, exp.Literal) and isinstance(step, Unread) and inner.own.kind.is_time:
            step = parse_interval(step.text)
        if isinstance(step, Interval):
            return self._moved(inner, left, step, sign, right)
        if not isinstance(step, int) or isinstance(step, bool) or self._is_later(right):
            raise _NoRule
        if inner.own.kind not in (Kind.INTEGER, Kind.DATE):
            raise _NoRule
        bound, _ = as_key(evaluate(right, self.around), inner.own.kind, inner.own.type_name, self.around)
        back = -1 if isinstance(left, exp.Add) else 1
        if isinstance(bound, int) and not isinstance(bound, bool):
            return Mended(f"{inner.name} {sign} {bound + back * step}")
        if type(bound) is date:
            return Mended(f"{inner.name} {sign} '{bound + timedelta(days=back * step)}'")
        raise _NoRule

    def _moved(self, inner: _Inner, left: Any, step: Interval, sign: str, right: Any) -> Mended:
        if not inner.own.kind.is_time or inner.own.kind is Kind.DATE:
            raise _NoRule
        note = ""
        if step.months:
            self._refuse(MONTHS)
        if step.days and inner.own.kind is Kind.TIMESTAMPTZ:
            if not is_fixed(self.around.zone):
                self._refuse(DAYS)
            note = f"in the session's time zone, {self.around.zone}, whose clocks never change"
        if _parameters(right):
            raise _NoRule
        found = evaluate(right, self.around).value
        if not isinstance(found, Unread) and found is not None and not is_of(found, inner.own.kind):
            raise _NoRule
        type_ = "TIMESTAMPTZ" if inner.own.kind is Kind.TIMESTAMPTZ else "TIMESTAMP"
        text = right.sql(spoken())
        text = f"CAST({text} AS {type_})" if isinstance(found, Unread) else text
        back = "-" if isinstance(left, exp.Add) else "+"
        return Mended(f"{inner.name} {sign} {text} {back} {left.expression.sql(spoken())}", note)

    def _age(self, left: Any, sign: str, right: Any) -> Mended:
        """`now() - key < interval '7 days'`: the difference is in hours, so a day of the interval has 24 of them."""
        inner = self._inner(left.expression)
        if inner.zone is not None or _parameters(left) or _parameters(right):
            raise _NoRule
        moment, span = evaluate(left.this, self.around).value, evaluate(right, self.around).value
        if isinstance(span, Unread):
            span = parse_interval(span.text)
        if not isinstance(span, Interval) or not is_of(moment, inner.own.kind) or inner.own.kind is Kind.DATE:
            raise _NoRule
        if span.months:
            self._refuse(MONTHS)
        hours, rest = divmod(span.days * 86_400_000_000 + span.microseconds, 3_600_000_000)
        if rest:
            raise _NoRule
        return Mended(f"{inner.name} {TURNED[sign]} {left.this.sql(spoken())} - CAST('{hours} hours' AS INTERVAL)")

    def _coalesced(self, left: Any, sign: str, right: Any) -> Mended:
        """The key itself, and a NULL key where what replaces it satisfies the condition."""
        inner, instead = self._inner(left.this), left.expressions[0]
        if inner.zone is not None or columns_in(instead) or _parameters(left) or self._is_later(right):
            raise _NoRule
        text = f"{inner.name} {sign} {right.sql(spoken())}"
        values = []
        for node in (instead, right):
            constant = evaluate(node, self.around)
            if not isinstance(constant.value, Unread) and not is_of(constant.value, inner.own.kind):
                raise _NoRule  # another type: the key would be cast to it
            value, when = as_key(constant, inner.own.kind, inner.own.type_name, self.around)
            if when is not When.PLAN or value is None or (isinstance(value, str) and sign != "="):
                raise _NoRule
            values.append(order((value,)))  # type: ignore[arg-type]
        if inner.own.not_null or not _holds(values[0], sign, values[1]):
            return Mended(text)
        return Mended(f"{text} OR {inner.name} IS NULL")

    # Values

    def _is_later(self, node: Any) -> bool:
        """Whether a value may be another one in the next run: a parameter, or the clock."""
        return _parameters(node) or (evaluate(node, self.around).when is not When.PLAN and self._follows_clock(node))

    @staticmethod
    def _follows_clock(node: Any) -> bool:
        # A literal read in the session's zone is also known only at start, and is the same in every run.
        clocks = (exp.CurrentTimestamp, exp.CurrentDate, exp.Localtimestamp, exp.Anonymous)
        return node.find(*clocks) is not None

    def _wall(self, inner: _Inner, value: Constant) -> datetime:
        """A constant on the wall clock of the expression that it is compared with."""
        kind = Kind.TIMESTAMP if inner.zone is not None or inner.own.kind is Kind.DATE else inner.own.kind
        is_instant = isinstance(value.value, datetime) and value.value.tzinfo is not None
        if kind is Kind.TIMESTAMP and is_instant and not is_fixed(self.around.zone):
            raise _NoRule  # the server compares instants, and moves local times that the clocks skip or repeat
        moment, _ = as_key(value, kind, str(kind), self.around)
        if type(moment) is date:
            return midnight(moment)
        if not isinstance(moment, datetime):
            raise _NoRule
        return moment.astimezone(self.around.zone).replace(tzinfo=None) if moment.tzinfo else moment

    @staticmethod
    def _refuse(why: str) -> NoReturn:
        raise Refused(why)


_PATTERNS = {
    "%Y": (r"\d{4}", "year"),
    "%Y-%m": (r"\d{4}-\d\d", "month"),
    "%Y-%m-%d": (r"\d{4}-\d\d-\d\d", "day"),
    "%Y%m": (r"\d{6}", "month"),
    "%Y%m%d": (r"\d{8}", "day"),
}


def _wall_of(text: str) -> datetime:
    """The beginning of a year, a month or a day, written with or without hyphens."""
    digits = text.replace("-", "")
    parts = [int(part) for part in (digits[:4], digits[4:6], digits[6:8]) if part]
    return datetime(*[*parts, 1, 1][:3])  # type: ignore[arg-type]


def _holds(one: Any, sign: str, other: Any) -> bool:
    return holds(one, sign, other)


def _parameters(node: exp.Expression) -> bool:
    return node.find(exp.Parameter, exp.Placeholder) is not None


def _is_date(to: exp.DataType) -> bool:
    return bool(to.this == exp.DataType.Type.DATE)


def _without_clock(node: Any) -> Any:
    """`at::timestamp::date` is `at::date`: both cut it down in the session's time zone."""
    node = bare(node)
    if isinstance(node, exp.Cast) and node.to.this == exp.DataType.Type.TIMESTAMP and not node.to.expressions:
        return node.this
    return node
