"""The value of a constant expression, and when the server knows it: while planning, as execution starts, or later.

Follows the volatility of PostgreSQL's own functions (pg_proc.provolatile): what is immutable is folded while planning,
what is stable (the clock, the session's time zone) is known once execution starts, what is volatile never prunes.
An expression that is not understood here is `None`: its condition then keeps every leaf.
"""

# A constant has a value, and a moment at which the server knows it. The moment is that of the latest part:
# `'2026-01-01':: date + 1` is known while planning, `current_date + 1` as execution starts, `random()` never. The
# moment decides whether partitions disappear from the plan, are removed as execution starts, or stay.
#
# Every rule here must give what the server gives, in every time zone; a test asks the server for each. A value of which
# that is not certain (a local time that comes twice, a text in an unknown format) is NotKnown, and keeps every leaf.

import re
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal, InvalidOperation
from functools import wraps
from typing import Any, ParamSpec, TypeVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from sqlglot import exp

from slabrow.core.sql.constant_values import MARK, Constant, Interval, NotKnown, Null, Surroundings, Unread
from slabrow.core.sql.when import When
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Kind, Opaque, midnight, parse_value
from slabrow.core.values.periods import beginning, is_unit

Given = ParamSpec("Given")
Found = TypeVar("Found")


def as_python_counts(work: Callable[Given, Found]) -> Callable[Given, Found]:
    """A value that Python's calendar or numbers cannot hold is unknown here; the server may know it."""

    @wraps(work)
    def guarded(*args: Given.args, **named: Given.kwargs) -> Found:
        try:
            return work(*args, **named)
        except (OverflowError, ArithmeticError):
            raise NotKnown from None

    return guarded


@as_python_counts
def evaluate(node: Any, around: Surroundings) -> Constant:
    """The value of an expression without columns. Raises NotKnown where nothing certain can be said."""
    while isinstance(node, exp.Paren):
        node = node.this
    match node:
        case exp.Null():
            return Constant(Null())
        case exp.Boolean():
            return Constant(bool(node.this))
        case exp.Literal() if node.is_string:
            return Constant(Unread(around.literal(node)))
        case exp.Literal():
            return _number(around.literal(node))
        case exp.Neg():
            return _negative(evaluate(node.this, around))
        case exp.Parameter() | exp.Placeholder():
            return _parameter(node, around)
        case exp.Interval():
            return Constant(_interval_of(node, around))
        case exp.Cast():
            return cast(evaluate(node.this, around), node.to, around)
        case exp.CurrentTimestamp() | exp.CurrentDate() | exp.Localtimestamp():
            return _clock(node, around)
        case exp.Add() | exp.Sub():
            sign = 1 if isinstance(node, exp.Add) else -1
            return _sum(evaluate(node.left, around), evaluate(node.right, around), sign, around)
        case exp.Mul():
            return _product(evaluate(node.left, around), evaluate(node.right, around))
        case exp.AtTimeZone():
            return _at_zone(evaluate(node.this, around), evaluate(node.args["zone"], around))
        case exp.TimestampTrunc() | exp.DateTrunc():
            return _truncated(node, around)
        case exp.Lower() | exp.Upper():
            return _cased(node, around)
        case exp.DPipe():
            return _joined((node.left, node.right), When.PLAN, around)
        case exp.Concat():
            return _joined(node.expressions, When.START, around)
        case exp.Abs():
            return _absolute(evaluate(node.this, around))
        case exp.UnixToTime() if len(list(node.iter_expressions())) == 1:
            return _from_epoch(evaluate(node.this, around))
        case exp.Anonymous() | exp.Func():
            return _function(node, around)
        case _:
            raise NotKnown


def _number(text: str) -> Constant:
    try:
        return Constant(int(text)) if text.isdecimal() and len(text) < 200 else Constant(Decimal(text), is_whole=False)
    except InvalidOperation:
        raise NotKnown from None


def _negative(constant: Constant) -> Constant:
    if isinstance(constant.value, Null):
        return constant
    if isinstance(constant.value, int | Decimal | Interval) and not isinstance(constant.value, bool):
        return replace(constant, value=-constant.value)
    raise NotKnown


def _parameter(node: exp.Expression, around: Surroundings) -> Constant:
    if around.params is None:
        return Constant(None, When.START)  # a generic plan: known as execution starts, but not here
    given = around.parameter(node)
    if given is None:
        raise NotKnown
    found = evaluate(given, around)
    return replace(found, when=max(found.when, When.START)) if around.is_generic else found


_UNITS = {
    "year": (12, 0, 0), "month": (1, 0, 0), "mon": (1, 0, 0), "quarter": (3, 0, 0), "decade": (120, 0, 0),
    "century": (1200, 0, 0), "week": (0, 7, 0), "day": (0, 1, 0), "d": (0, 1, 0), "hour": (0, 0, 3_600_000_000),
    "h": (0, 0, 3_600_000_000), "minute": (0, 0, 60_000_000), "min": (0, 0, 60_000_000), "second": (0, 0, 1_000_000),
    "sec": (0, 0, 1_000_000), "s": (0, 0, 1_000_000), "millisecond": (0, 0, 1_000), "microsecond": (0, 0, 1),
}  # fmt: skip
_PART = re.compile(r"\s*([+-]?\d+)\s*([a-z]+)", re.IGNORECASE)
_CLOCK_PART = re.compile(r"\s*([+-]?)(\d+):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?\s*$")


def parse_interval(text: str) -> Interval:
    """`1 day`, `2 months 3 days`, `-01:30`. Raises NotKnown for the forms that are not read here."""
    months = days = microseconds = 0
    place = 0
    while match := _PART.match(text, place):
        count, word = int(match.group(1)), match.group(2).lower()
        unit = _UNITS.get(word) or _UNITS.get(word.removesuffix("s"))
        if unit is None:
            raise NotKnown
        months, days, microseconds = (
            total + count * one for total, one in zip((months, days, microseconds), unit, strict=True)
        )
        place = match.end()
    if place < len(text.rstrip()):
        match = _CLOCK_PART.match(text, place)
        if match is None:
            raise NotKnown
        sign, hours, minutes, seconds, fraction = match.groups()
        clock = (int(hours) * 3600 + int(minutes) * 60 + int(seconds or 0)) * 1_000_000
        clock += int((fraction or "").ljust(6, "0"))
        microseconds += -clock if sign == "-" else clock
    elif place == 0:
        raise NotKnown
    return Interval(months, days, microseconds)


def _interval_of(node: exp.Interval, around: Surroundings) -> Interval:
    inner, unit = node.this, node.args.get("unit")
    if not isinstance(inner, exp.Literal):
        raise NotKnown
    text = around.literal(inner)
    return parse_interval(f"{text} {unit.name}" if unit is not None else text)


_TYPES: dict[Any, Kind] = {
    exp.DataType.Type.TIMESTAMPTZ: Kind.TIMESTAMPTZ,
    exp.DataType.Type.TIMESTAMP: Kind.TIMESTAMP,
    exp.DataType.Type.DATE: Kind.DATE,
    exp.DataType.Type.INT: Kind.INTEGER,
    exp.DataType.Type.BIGINT: Kind.INTEGER,
    exp.DataType.Type.SMALLINT: Kind.INTEGER,
    exp.DataType.Type.DECIMAL: Kind.NUMERIC,
    exp.DataType.Type.TEXT: Kind.TEXT,
    exp.DataType.Type.VARCHAR: Kind.TEXT,
    exp.DataType.Type.UUID: Kind.UUID,
    exp.DataType.Type.BOOLEAN: Kind.BOOL,
}


def cast(constant: Constant, to: exp.DataType, around: Surroundings) -> Constant:
    """`CAST (constant AS to)`. Raises NotKnown for types that are not followed here."""
    if isinstance(constant.value, Null) or constant.value is None:
        return constant
    if to.this == exp.DataType.Type.INTERVAL and not to.expressions:
        if isinstance(constant.value, Unread):
            return replace(constant, value=parse_interval(constant.value.text))
        if isinstance(constant.value, Interval):
            return constant
        raise NotKnown
    kind = _TYPES.get(to.this)
    if kind is None:
        raise NotKnown
    found = read(constant, kind, around) if isinstance(constant.value, Unread) else convert(constant, kind, around)
    # A length, a precision or a scale rounds in the server's own way: but whole seconds stay as they are.
    if to.expressions and (not isinstance(found.value, datetime) or found.value.microsecond):
        raise NotKnown
    return found


def read(constant: Constant, kind: Kind, around: Surroundings) -> Constant:
    """A literal in quotes, read as a type. Raises NotKnown for a text that only the server can read."""
    text = constant.value.text
    word = text.strip().lower()
    if kind.is_time and word in ("now", "today", "tomorrow", "yesterday", "epoch"):
        return _special(word, kind, constant.when, around)
    if kind.is_time:
        text = rounded(text)
    try:
        value = parse_value(text, kind, around.zone)
        if kind is Kind.TIMESTAMPTZ and isinstance(value, datetime):
            wall = datetime.fromisoformat(text.strip())
            value = value if wall.tzinfo else instant(wall, around.zone)
    except (UsageError, ValueError):
        raise NotKnown from None
    if isinstance(value, Opaque):
        raise NotKnown
    return Constant(value, constant.when, kind is not Kind.NUMERIC)


_LONG_FRACTION = re.compile(r"^(.*:\d\d)\.(\d{7,})(.*)$")


def rounded(text: str) -> str:
    """A time of day with more than six digits behind the point, rounded as the server does."""
    match = _LONG_FRACTION.match(text)
    if match is None:
        return text
    before, digits, after = match.groups()
    if digits[6:].rstrip("0") == "5":
        raise NotKnown  # half way: the server's floating point decides
    try:
        up = datetime.fromisoformat(f"{before.strip()}.{digits[:6]}") + timedelta(microseconds=int(digits[6] >= "5"))
    except ValueError:
        raise NotKnown from None
    return f"{up.isoformat(sep=' ')}{after}"


def _special(word: str, kind: Kind, when: When, around: Surroundings) -> Constant:
    if word == "epoch":
        return convert(Constant(datetime(1970, 1, 1, tzinfo=UTC), when), kind, around)
    if around.now is None:
        raise NotKnown
    local = around.now.astimezone(around.zone)
    if word == "now":
        value: Any = around.now
    else:
        day = local.date() + timedelta(days={"yesterday": -1, "today": 0, "tomorrow": 1}[word])
        value = instant(midnight(day), around.zone)
    return replace(convert(Constant(value), kind, around), when=when)


def comes_twice(wall: datetime, zone: ZoneInfo) -> bool:
    """Whether the clocks there show a moment twice, because they are set back over it."""
    first, second = (wall.replace(tzinfo=zone, fold=fold).utcoffset() or timedelta() for fold in (0, 1))
    return first > second


def is_fold(wall: datetime, zone: ZoneInfo) -> bool:
    """Whether a wall-clock moment is skipped when the clocks go forward."""
    return len({wall.replace(tzinfo=zone, fold=fold).utcoffset() for fold in (0, 1)}) > 1


def instant(wall: datetime, zone: ZoneInfo) -> datetime:
    """A local time that was skipped is read as if the clock had not gone forward; of an ambiguous local time the later
    instant is taken (DetermineTimeZoneOffset, datetime.c): the smaller offset in both cases."""
    both = [wall.replace(tzinfo=zone, fold=fold) for fold in (0, 1)]
    return min(both, key=lambda each: each.utcoffset() or timedelta()).astimezone(UTC)


def convert(constant: Constant, kind: Kind, around: Surroundings) -> Constant:
    """A constant as a value of another kind. Raises NotKnown where the server's conversion is not known here."""
    value, when = constant.value, constant.when
    if isinstance(value, Edge):
        return constant
    match value, kind:
        case datetime(), Kind.TIMESTAMPTZ:
            return constant if value.tzinfo else Constant(instant(value, around.zone), max(when, When.START))
        case datetime(), Kind.TIMESTAMP | Kind.DATE:
            if value.tzinfo:
                value, when = value.astimezone(around.zone).replace(tzinfo=None), max(when, When.START)
            return Constant(value.date() if kind is Kind.DATE else value, when)
        case date(), Kind.DATE:
            return constant
        case date(), Kind.TIMESTAMP:
            return Constant(midnight(value), when)
        case date(), Kind.TIMESTAMPTZ:
            return Constant(instant(midnight(value), around.zone), max(when, When.START))
        case bool(), Kind.BOOL:
            return constant
        case int(), Kind.INTEGER if not isinstance(value, bool):
            return constant
        case int() | Decimal(), Kind.NUMERIC if not isinstance(value, bool):
            return Constant(Decimal(value), when, False)
        case str(), Kind.TEXT:
            return constant
        case str(), Kind.DATE | Kind.TIMESTAMP | Kind.TIMESTAMPTZ:
            # Reading a text depends on DateStyle, so it is done as execution starts; a literal is read while parsing.
            return replace(read(Constant(Unread(value)), kind, around), when=max(when, When.START))
        case str(), Kind.INTEGER:
            return read(Constant(Unread(value), when), kind, around)
        case _:
            raise NotKnown


def _clock(node: Any, around: Surroundings) -> Constant:
    if around.now is None or node.args.get("this") is not None:
        return Constant(None, When.START)
    kind = {exp.CurrentDate: Kind.DATE, exp.Localtimestamp: Kind.TIMESTAMP}.get(type(node), Kind.TIMESTAMPTZ)
    return replace(convert(Constant(around.now), kind, around), when=When.START)


def _sum(left: Constant, right: Constant, sign: int, around: Surroundings) -> Constant:
    when = max(left.when, right.when)
    one, other = left.value, right.value
    if isinstance(one, Null) or isinstance(other, Null):
        return Constant(Null(), when)
    if one is None or other is None:
        return Constant(None, max(when, When.START))
    if isinstance(one, Interval) and isinstance(other, datetime | date) and sign == 1:
        one, other = other, one
    if isinstance(one, datetime | date) and isinstance(other, Unread):
        if not (isinstance(one, datetime) and sign == 1):
            raise NotKnown  # date - 'x' and timestamp - 'x' take the literal for another date
        other = parse_interval(other.text)
    if isinstance(one, Unread) or isinstance(other, Unread) or isinstance(one, bool) or isinstance(other, bool):
        raise NotKnown
    if isinstance(one, int | Decimal) and isinstance(other, int | Decimal):
        return Constant(one + sign * other, when, left.is_whole and right.is_whole)
    if isinstance(one, Edge):
        raise NotKnown
    if isinstance(one, date) and not isinstance(one, datetime) and isinstance(other, int):
        return Constant(one + timedelta(days=sign * other), when)
    if isinstance(one, datetime | date) and isinstance(other, Interval):
        return _moved(one, other if sign == 1 else -other, when, around)
    if isinstance(one, Interval) and isinstance(other, Interval):
        other = other if sign == 1 else -other
        added = Interval(one.months + other.months, one.days + other.days, one.microseconds + other.microseconds)
        return Constant(added, when)
    raise NotKnown


def _moved(start: date, by: Interval, when: When, around: Surroundings) -> Constant:
    """timestamp_pl_interval, timestamptz_pl_interval: months first (cut to the month's end), then days, then time."""
    is_instant = isinstance(start, datetime) and start.tzinfo is not None
    try:
        if isinstance(start, datetime):
            wall = start.astimezone(around.zone).replace(tzinfo=None) if is_instant else start
        else:
            wall = midnight(start)
        if by.months:
            year, month = divmod(wall.year * 12 + wall.month - 1 + by.months, 12)
            last = (date(year + (month == 11), (month + 1) % 12 + 1, 1) - timedelta(days=1)).day
            wall = wall.replace(year=year, month=month + 1, day=min(wall.day, last))
        wall += timedelta(days=by.days)
        if not is_instant:
            return Constant(wall + timedelta(microseconds=by.microseconds), when)
        moved = start if not by.months and not by.days else instant(wall, around.zone)
        assert isinstance(moved, datetime)
        return Constant(moved + timedelta(microseconds=by.microseconds), max(when, When.START))
    except (ValueError, OverflowError):
        raise NotKnown from None


def _product(left: Constant, right: Constant) -> Constant:
    if isinstance(left.value, Interval):
        left, right = right, left
    times, what = left.value, right.value
    if isinstance(times, bool) or not isinstance(times, int):
        raise NotKnown
    when = max(left.when, right.when)
    if isinstance(what, Interval):
        return Constant(Interval(times * what.months, times * what.days, times * what.microseconds), when)
    if isinstance(what, int) and not isinstance(what, bool):
        return Constant(times * what, when)
    raise NotKnown


def _at_zone(moment: Constant, zone: Constant) -> Constant:
    if moment.value is None:
        return moment
    if not isinstance(moment.value, datetime) or not isinstance(zone.value, Unread):
        raise NotKnown
    try:
        there = ZoneInfo(zone.value.text)
    except (ZoneInfoNotFoundError, ValueError):
        raise NotKnown from None
    when = max(moment.when, zone.when)
    if moment.value.tzinfo:
        return Constant(moment.value.astimezone(there).replace(tzinfo=None), when)
    return Constant(instant(moment.value, there), when)


def _cased(node: exp.Expression, around: Surroundings) -> Constant:
    """lower() and upper() of plain letters: the collation decides about all others."""
    inner = evaluate(node.this, around)
    text = inner.value.text if isinstance(inner.value, Unread) else inner.value
    if not isinstance(text, str) or not text.isascii():
        raise NotKnown
    return Constant(text.lower() if isinstance(node, exp.Lower) else text.upper(), inner.when)


def _joined(parts: Iterable[Any], when: When, around: Surroundings) -> Constant:
    """Texts put together: `||`, which is immutable for texts, and concat(), which is stable."""
    found = [evaluate(part, around) for part in parts]
    texts = [each.value.text if isinstance(each.value, Unread) else each.value for each in found]
    if not all(isinstance(text, str) for text in texts):
        raise NotKnown
    return Constant("".join(texts), max(when, *(each.when for each in found)))


def _absolute(constant: Constant) -> Constant:
    if isinstance(constant.value, bool) or not isinstance(constant.value, int | Decimal):
        raise NotKnown
    return replace(constant, value=abs(constant.value))


def _from_epoch(seconds: Constant) -> Constant:
    if isinstance(seconds.value, bool) or not isinstance(seconds.value, int):
        raise NotKnown
    try:
        return Constant(datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=seconds.value), seconds.when)
    except OverflowError:
        raise NotKnown from None


def _truncated(node: exp.Expression, around: Surroundings) -> Constant:
    if node.args.get("zone") is not None:
        raise NotKnown  # of another zone than the session's: the server tells it
    unit_node = node.args.get("unit")
    unit = around.literal(unit_node) if isinstance(unit_node, exp.Literal) else str(getattr(unit_node, "name", ""))
    if unit.startswith(MARK):
        unit = around.literals[int(unit[1:])]
    moment = evaluate(node.this, around)
    if moment.value is None:
        return moment
    value, when = moment.value, moment.when
    if isinstance(value, date) and not isinstance(value, datetime):
        value, when = convert(moment, Kind.TIMESTAMPTZ, around).value, When.START
    if not isinstance(value, datetime):
        raise NotKnown
    is_instant = value.tzinfo is not None
    wall = value.astimezone(around.zone).replace(tzinfo=None) if is_instant else value
    if not is_unit(unit.lower()):
        raise NotKnown
    wall = beginning(wall, unit.lower())
    return Constant(instant(wall, around.zone), max(when, When.START)) if is_instant else Constant(wall, when)


_VOLATILE = {
    "random",
    "clock_timestamp",
    "timeofday",
    "nextval",
    "gen_random_uuid",
    "uuidv7",
    "uuid_generate_v4",
    "setval",
}
_CLOCKS = {"now": Kind.TIMESTAMPTZ, "transaction_timestamp": Kind.TIMESTAMPTZ, "statement_timestamp": Kind.TIMESTAMPTZ}
_STABLE = {"to_date", "to_timestamp", "to_char", "concat", "concat_ws", "make_timestamptz", "current_setting", "age"}


def _function(node: Any, around: Surroundings) -> Constant:
    name = (node.name if isinstance(node, exp.Anonymous) else node.sql_name()).lower()
    if name in _VOLATILE or isinstance(node, exp.Rand):
        raise NotKnown(is_volatile=True)
    if name in _CLOCKS and not node.expressions:
        return _clock(exp.CurrentTimestamp(), around)
    try:
        numbers = [evaluate(each, around).value for each in node.expressions]
    except NotKnown as error:
        raise NotKnown(error.is_volatile) from None
    whole = [each for each in numbers if isinstance(each, int) and not isinstance(each, bool)]
    try:
        if name in ("make_date", "date_from_parts") and len(whole) == 3:
            return Constant(date(*whole))
        if name == "make_timestamp" and len(whole) == 6:
            return Constant(datetime(*whole))  # type: ignore[arg-type]
    except ValueError:
        raise NotKnown from None
    if name in _STABLE:
        return Constant(None, When.START)
    raise NotKnown
