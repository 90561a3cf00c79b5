"""Works out a partitioning expression for values of its columns: whole numbers, as HASH and RANGE of MariaDB take them.

Functions are those that MariaDB accepts there (manual, Partitioning Types); others are not worked out.
"""

import re
from collections.abc import Mapping
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import Any

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

_YEAR_ZERO = 365  # TO_DAYS('0001-01-01') is 366, where Python's first ordinal is 1


_TO_DAYS = re.compile(r"\bto_days\s*\(", re.IGNORECASE)


class NotWorkedOut(Exception):
    """The expression has a part that is not worked out here."""


@lru_cache(maxsize=256)
def parsed_expression(text: str) -> exp.Expression | None:
    """None when the parser does not understand it."""
    try:
        # The parser turns TO_DAYS into a difference of days; under another name it stays a call.
        found = sqlglot.parse_one(_TO_DAYS.sub("slabrow_to_days(", text), read="mysql")
        return found if isinstance(found, exp.Expression) else None
    except (SqlglotError, RecursionError):
        return None


def worked_out(text: str, values: Mapping[str, Any]) -> int | None:
    """The number, or None for NULL. values: of each column in lower case, None for NULL. Raises NotWorkedOut."""
    node = parsed_expression(text)
    if node is None:
        raise NotWorkedOut
    found = _value(node, values)
    if found is None or isinstance(found, int):
        return found
    raise NotWorkedOut


def function_of(name: str, value: date | datetime) -> int:
    """`to_days`, `to_seconds`, `year`, `unix_timestamp`, …, of a moment. Raises NotWorkedOut for another name."""
    is_time = isinstance(value, datetime)
    match name:
        case "to_days":
            return value.toordinal() + _YEAR_ZERO
        case "to_seconds":
            seconds = value.hour * 3600 + value.minute * 60 + value.second if isinstance(value, datetime) else 0
            return (value.toordinal() + _YEAR_ZERO) * 86_400 + seconds
        case "year":
            return value.year
        case "month":
            return value.month
        case "day" | "dayofmonth":
            return value.day
        case "quarter":
            return (value.month + 2) // 3
        case "dayofweek":
            return value.isoweekday() % 7 + 1
        case "weekday":
            return value.weekday()
        case "dayofyear":
            return value.timetuple().tm_yday
        case "hour" if is_time:
            return value.hour  # type: ignore[union-attr]
        case "minute" if is_time:
            return value.minute  # type: ignore[union-attr]
        case "second" if is_time:
            return value.second  # type: ignore[union-attr]
        case "microsecond" if is_time:
            return value.microsecond  # type: ignore[union-attr]
        case "hour" | "minute" | "second" | "microsecond":
            return 0
        case "unix_timestamp" if isinstance(value, datetime) and value.tzinfo is not None:
            return int((value - datetime(1970, 1, 1, tzinfo=UTC)).total_seconds() // 1)
        case "year_month":
            return value.year * 100 + value.month
    raise NotWorkedOut


# The parser's classes, and how the functions are called here.
_CALLS: dict[type[exp.Expression], str] = {
    exp.Year: "year", exp.Month: "month", exp.Day: "day", exp.DayOfMonth: "day", exp.Quarter: "quarter",
    exp.DayOfWeek: "dayofweek", exp.DayOfYear: "dayofyear", exp.Hour: "hour", exp.Minute: "minute",
    exp.Second: "second",
}  # fmt: skip


def _value(node: exp.Expression, values: Mapping[str, Any]) -> Any:
    match node:
        case exp.Paren():
            return _value(node.this, values)
        case exp.Column():
            return values[node.name.lower()]
        case exp.Literal() if not node.is_string and str(node.this).isdecimal():
            return int(str(node.this))
        case exp.Neg():
            value = _value(node.this, values)
            return None if value is None else -value
        case exp.Add() | exp.Sub() | exp.Mul() | exp.IntDiv() | exp.Mod():
            return _computed(node, values)
        case exp.Abs():
            value = _value(node.this, values)
            return None if value is None else abs(value)
        case exp.Extract():
            return _called(str(node.this.name).lower(), _value(node.expression, values))
        case exp.Anonymous() if str(node.this).lower() == "yearweek" and len(node.expressions) == 2:
            moment, mode = (_value(each, values) for each in node.expressions)
            return _week_of_year(moment, mode)
        case exp.Anonymous() if len(node.expressions) == 1:
            return _called(str(node.this).lower().removeprefix("slabrow_"), _value(node.expressions[0], values))
        case exp.TsOrDsToDate() | exp.Floor() | exp.Ceil():
            return _value(node.this, values)
    if type(node) in _CALLS:
        return _called(_CALLS[type(node)], _value(node.this, values))
    if isinstance(node, exp.Func) and isinstance(node.this, exp.Expression):
        return _called(node.sql_name().lower(), _value(node.this, values))
    raise NotWorkedOut


def _week_of_year(value: Any, mode: int) -> int | None:
    """A year and its week, as 202653. In odd modes weeks begin on Monday; in modes 1, 3, 4 and 6 a week belongs to the
    year that has most of it, in the others to that of its first day (manual, WEEK).
    """
    if value is None:
        return None
    if not isinstance(value, date) or not 0 <= mode <= 7:
        raise NotWorkedOut
    begin = value - timedelta(days=value.weekday() if mode % 2 else value.isoweekday() % 7)
    counted = begin + timedelta(days=3) if mode in (1, 3, 4, 6) else begin
    return counted.year * 100 + (counted.timetuple().tm_yday - 1) // 7 + 1


def _called(name: str, value: Any) -> int | None:
    if value is None:
        return None
    if not isinstance(value, date):
        raise NotWorkedOut
    return function_of(name, value)


def _computed(node: exp.Expression, values: Mapping[str, Any]) -> int | None:
    one, other = _value(node.this, values), _value(node.expression, values)
    if one is None or other is None:
        return None
    if not isinstance(one, int) or not isinstance(other, int):
        raise NotWorkedOut
    match node:
        case exp.Add():
            return one + other
        case exp.Sub():
            return one - other
        case exp.Mul():
            return one * other
    if other == 0:
        return None
    quotient = abs(one) // abs(other) * (1 if (one < 0) == (other < 0) else -1)
    return quotient if isinstance(node, exp.IntDiv) else one - quotient * other
