"""What a constant expression is worth, and when the server knows it: while planning, as execution starts, or later.

Follows the volatility of PostgreSQL's own functions (pg_proc.provolatile): what is immutable is folded while planning,
what is stable (the clock, the session's time zone) is known once execution starts, what is volatile never prunes.
An expression that is not understood here is `None`: its condition then keeps every leaf.
"""

import re
import struct
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal, InvalidOperation
from functools import wraps
from typing import Any, ParamSpec, TypeVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from slabrow.core.sql.answers import Answer, Answers
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Far, Kind, Opaque, Value, kind_of, parse_value
from slabrow.core.values.periods import beginning, is_unit

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
    """SQL's NULL, of whatever type."""


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
    """What expressions are evaluated in.

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
                self._parsed[text] = sqlglot.parse_one(text, read="postgres")
            except SqlglotError:
                self._parsed[text] = None
        parsed = self._parsed[text]
        return None if parsed is None or any(parsed.find_all(exp.Parameter, exp.Placeholder)) else parsed


def parameter_number(node: exp.Expression) -> int | None:
    inner = node.this
    text = str(inner.name if isinstance(inner, exp.Expression) else inner)
    return int(text) if text.isdecimal() and len(text) < 6 else None


Given = ParamSpec("Given")
Found = TypeVar("Found")


class NotKnown(Exception):
    """Nothing can be said about the value. is_volatile: it may differ from row to row."""

    def __init__(self, is_volatile: bool = False) -> None:
        super().__init__()
        self.is_volatile = is_volatile


def _as_python_counts(work: Callable[Given, Found]) -> Callable[Given, Found]:
    """What Python's calendar or its numbers cannot hold is not known here; the server may know it."""

    @wraps(work)
    def guarded(*args: Given.args, **named: Given.kwargs) -> Found:
        try:
            return work(*args, **named)
        except (OverflowError, ArithmeticError):
            raise NotKnown from None

    return guarded


@_as_python_counts
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
    found = read(constant, kind, around) if isinstance(constant.value, Unread) else _converted(constant, kind, around)
    # A length, a precision or a scale rounds in the server's own way: but whole seconds stay as they are.
    if to.expressions and (not isinstance(found.value, datetime) or found.value.microsecond):
        raise NotKnown
    return found


def read(constant: Constant, kind: Kind, around: Surroundings) -> Constant:
    """A literal in quotes, read as a type. Raises NotKnown for what the server reads in its own way."""
    text = constant.value.text
    word = text.strip().lower()
    if kind.is_time and word in ("now", "today", "tomorrow", "yesterday", "epoch"):
        return _special(word, kind, constant.when, around)
    if kind.is_time:
        text = _rounded(text)
    try:
        value = parse_value(text, kind, around.zone)
        if kind is Kind.TIMESTAMPTZ and isinstance(value, datetime):
            wall = datetime.fromisoformat(text.strip())
            value = value if wall.tzinfo else _instant(wall, around.zone)
    except (UsageError, ValueError):
        raise NotKnown from None
    if isinstance(value, Opaque):
        raise NotKnown
    return Constant(value, constant.when, kind is not Kind.NUMERIC)


_LONG_FRACTION = re.compile(r"^(.*:\d\d)\.(\d{7,})(.*)$")


def _rounded(text: str) -> str:
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
        return _converted(Constant(datetime(1970, 1, 1, tzinfo=UTC), when), kind, around)
    if around.now is None:
        raise NotKnown
    local = around.now.astimezone(around.zone)
    if word == "now":
        value: Any = around.now
    else:
        day = local.date() + timedelta(days={"yesterday": -1, "today": 0, "tomorrow": 1}[word])
        value = _instant(datetime.combine(day, time()), around.zone)
    return replace(_converted(Constant(value), kind, around), when=when)


def comes_twice(wall: datetime, zone: ZoneInfo) -> bool:
    """Whether the clocks there show a moment twice, because they are set back over it."""
    first, second = (wall.replace(tzinfo=zone, fold=fold).utcoffset() or timedelta() for fold in (0, 1))
    return first > second


def _is_fold(wall: datetime, zone: ZoneInfo) -> bool:
    return len({wall.replace(tzinfo=zone, fold=fold).utcoffset() for fold in (0, 1)}) > 1


def _instant(wall: datetime, zone: ZoneInfo) -> datetime:
    """An hour that never was is read as if the clock had not gone forward, one that came twice as its second coming
    (DetermineTimeZoneOffset, datetime.c): the smaller offset in both cases."""
    both = [wall.replace(tzinfo=zone, fold=fold) for fold in (0, 1)]
    return min(both, key=lambda each: each.utcoffset() or timedelta()).astimezone(UTC)


def _converted(constant: Constant, kind: Kind, around: Surroundings) -> Constant:
    value, when = constant.value, constant.when
    if isinstance(value, Edge):
        return constant
    match value, kind:
        case datetime(), Kind.TIMESTAMPTZ:
            return constant if value.tzinfo else Constant(_instant(value, around.zone), max(when, When.START))
        case datetime(), Kind.TIMESTAMP | Kind.DATE:
            if value.tzinfo:
                value, when = value.astimezone(around.zone).replace(tzinfo=None), max(when, When.START)
            return Constant(value.date() if kind is Kind.DATE else value, when)
        case date(), Kind.DATE:
            return constant
        case date(), Kind.TIMESTAMP:
            return Constant(datetime.combine(value, time()), when)
        case date(), Kind.TIMESTAMPTZ:
            return Constant(_instant(datetime.combine(value, time()), around.zone), max(when, When.START))
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
    return replace(_converted(Constant(around.now), kind, around), when=When.START)


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
            wall = datetime.combine(start, time())
        if by.months:
            year, month = divmod(wall.year * 12 + wall.month - 1 + by.months, 12)
            last = (date(year + (month == 11), (month + 1) % 12 + 1, 1) - timedelta(days=1)).day
            wall = wall.replace(year=year, month=month + 1, day=min(wall.day, last))
        wall += timedelta(days=by.days)
        if not is_instant:
            return Constant(wall + timedelta(microseconds=by.microseconds), when)
        moved = start if not by.months and not by.days else _instant(wall, around.zone)
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
    return Constant(_instant(moment.value, there), when)


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
        value, when = _converted(moment, Kind.TIMESTAMPTZ, around).value, When.START
    if not isinstance(value, datetime):
        raise NotKnown
    is_instant = value.tzinfo is not None
    wall = value.astimezone(around.zone).replace(tzinfo=None) if is_instant else value
    if not is_unit(unit.lower()):
        raise NotKnown
    wall = beginning(wall, unit.lower())
    return Constant(_instant(wall, around.zone), max(when, When.START)) if is_instant else Constant(wall, when)


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


@_as_python_counts
def as_key(constant: Constant, kind: Kind, type_name: str, around: Surroundings) -> tuple[Value | Null | None, When]:
    """A constant as a value that compares with a key column, and when the server makes the comparison.

    None: known at that time, but not here. Raises NotKnown when the server does not compare the two with its bounds.
    """
    value = constant.value
    if isinstance(value, Null) or value is None:
        return value, constant.when
    if isinstance(value, Unread):
        value, constant = _read_key(constant, kind, type_name, around)
        return value, constant.when
    if isinstance(value, Edge) and kind.is_time:
        return value, constant.when
    if isinstance(value, Far):
        raise NotKnown  # of another type than the key, perhaps
    match value, kind:
        case bool(), Kind.BOOL:
            return value, constant.when
        case bool(), _:
            raise NotKnown
        case int(), Kind.INTEGER if -(1 << 63) <= value < 1 << 63:
            return value, constant.when
        case int() | Decimal(), Kind.NUMERIC if type_name.startswith("numeric"):
            return Decimal(value), constant.when
        case int() | Decimal(), Kind.NUMERIC:
            return _as_floating(Decimal(value), type_name), constant.when
        case str(), Kind.TEXT if type_name == "text" or type_name.startswith("character varying"):
            return value, constant.when
        case datetime(), Kind.TIMESTAMPTZ | Kind.TIMESTAMP | Kind.DATE:
            return _moment_as_key(value, kind, constant.when, around)
        case date(), Kind.DATE:
            return value, constant.when
        case date(), Kind.TIMESTAMP | Kind.TIMESTAMPTZ:
            converted = _converted(constant, kind, around)
            return converted.value, converted.when
    if type(value).__name__ == "UUID" and kind is Kind.UUID:
        return value, constant.when
    raise NotKnown


def _as_floating(value: Decimal, type_name: str) -> Decimal:
    """A number as the server has it beside a floating-point key. Raises NotKnown where it would be rounded.

    The bounds of a `real` are read here as they are printed, which is not quite what they are: only values that both
    types hold exactly have a certain place among them.
    """
    try:
        as_double = Decimal(repr(float(value)))
        if type_name == "double precision":
            return as_double
        if struct.unpack("f", struct.pack("f", float(value)))[0] == float(value) and as_double == value:
            return as_double
    except (OverflowError, struct.error, InvalidOperation):
        pass
    raise NotKnown


def key_value(node: Any, column: KeyColumn, around: Surroundings) -> tuple[Value | Null | None, When]:
    """What an expression without columns is worth beside a key column, and when the server compares the two.

    By the rules here, else by what the server says. None: known at that time, but not here.
    Raises NotKnown when the server does not compare it with its bounds, or nothing is known.
    """
    node = _without_collation(node, column)
    moment: When | None = None
    try:
        value, moment = as_key(evaluate(node, around), column.kind, column.type_name, around)
        if value is not None or around.answers is None:
            return value, moment
    except NotKnown as error:
        if error.is_volatile or around.answers is None:
            raise
    sql = asked_sql(node, column.bare_type, around)
    answer = None if sql is None else around.answers.constant(sql)
    if answer is not None:
        return answered_key(answer, column, around)
    if moment is None:
        raise NotKnown
    return None, moment


def answered_key(answer: Answer, column: KeyColumn, around: Surroundings) -> tuple[Value | Null, When]:
    """A server's answer beside a key column. Raises NotKnown where the two are not compared in the key's order."""
    if answer.collation not in (None, '"default"', column.collation):
        raise NotKnown
    return _answered(answer.text, answer.type_name, answer.when, column, around)


def key_array(node: Any, column: KeyColumn, around: Surroundings) -> tuple[Value | Null, ...]:
    """The elements of an array constant, as the server gives them. Raises NotKnown where it does not.

    Only of an array that is known while planning: others are not looked into (match_clause_to_partition_key,
    partprune.c).
    """
    sql = None if around.answers is None else asked_sql(node, f"{column.bare_type}[]", around)
    answer = None if sql is None or around.answers is None else around.answers.array(sql)
    if answer is None or answer.elements is None or answer.when is not When.PLAN:
        raise NotKnown
    found = [_answered(each, answer.type_name, answer.when, column, around) for each in answer.elements]
    if any(when is not When.PLAN for _, when in found):
        raise NotKnown
    return tuple(value for value, _ in found)


def _without_collation(node: Any, column: KeyColumn) -> Any:
    """Without COLLATE where it names the key's own. Raises NotKnown for another: then the two are not compared."""
    while isinstance(node, exp.Paren):
        node = node.this
    if isinstance(node, exp.Expression) and node.find(exp.Collate) is not None:
        if not isinstance(node, exp.Collate) or not is_collation_of(node, column):
            raise NotKnown
        return _without_collation(node.this, column)
    return node


def is_collation_of(node: exp.Collate, column: KeyColumn) -> bool:
    """Whether COLLATE names the collation that the column has already."""
    named = node.expression.sql("postgres").replace('"', "").removeprefix("pg_catalog.")
    return column.collation is not None and named == column.collation.replace('"', "").removeprefix("pg_catalog.")


def asked_sql(node: Any, literal_type: str, around: Surroundings) -> str | None:
    """An expression as a server is asked for it; a literal in quotes is read as the type that it is compared with.

    None for what is no constant, or names parameters: their types belong to the whole statement.
    """
    if not isinstance(node, exp.Expression) or any(
        True for _ in node.find_all(exp.Column, exp.Query, exp.AggFunc, exp.Window, exp.Parameter, exp.Placeholder)
    ):
        return None

    def filled(each: exp.Expression) -> exp.Expression:
        if isinstance(each, exp.Literal) and around.literals:
            return exp.Literal(this=around.literal(each), is_string=each.is_string)
        return each

    text: str = node.copy().transform(filled).sql("postgres", comments=False)
    is_unread = isinstance(node, exp.UnicodeString | exp.ByteString | exp.National | exp.RawString)
    is_unread = is_unread or (isinstance(node, exp.Literal) and bool(node.is_string))
    return f"CAST({text} AS {literal_type})" if is_unread else text


def _answered(
    text: str | None, type_name: str, when: When, column: KeyColumn, around: Surroundings
) -> tuple[Value | Null, When]:
    """A value that a server gave, as a value of the key. Raises NotKnown where the two types have no common order."""
    if text is None:
        return Null(), when
    key, given = _bare(column.type_name), _bare(type_name)
    if column.kind is Kind.OTHER or key == "character":
        if given == key or (key == "name" and given in ("text", "character varying")):
            return Opaque(text), when
        raise NotKnown
    kind = kind_of(type_name)
    if kind is Kind.OTHER:
        raise NotKnown
    if kind is Kind.TEXT and given == "character":
        if key != "text":
            raise NotKnown
        text = text.rstrip(" ")
    if kind is Kind.NUMERIC and given != "numeric" and key not in ("real", "double precision"):
        raise NotKnown
    try:
        value = parse_value(text, kind)
    except UsageError:
        raise NotKnown from None
    if isinstance(value, Far) and given == key:
        return value, when
    if isinstance(value, Opaque):
        raise NotKnown
    found, moment = as_key(Constant(value, when, kind is Kind.INTEGER), column.kind, column.type_name, around)
    if found is None:
        raise NotKnown
    return found, moment


def _bare(type_name: str) -> str:
    if "(" not in type_name:
        return type_name
    return type_name[: type_name.index("(")] + type_name[type_name.index(")") + 1 :]


def _moment_as_key(value: datetime, kind: Kind, when: When, around: Surroundings) -> tuple[Value, When]:
    if (value.tzinfo is not None) == (kind is Kind.TIMESTAMPTZ):
        return value, when
    # An instant against a wall clock: the session's time zone decides, so the server waits for the start.
    if value.tzinfo is None:
        return _instant(value, around.zone), max(when, When.START)
    wall = value.astimezone(around.zone).replace(tzinfo=None)
    if _is_fold(wall, around.zone):
        raise NotKnown
    return wall, max(when, When.START)


def _read_key(constant: Constant, kind: Kind, type_name: str, around: Surroundings) -> tuple[Value, Constant]:
    if kind is Kind.OTHER or (kind is Kind.NUMERIC and not type_name.startswith("numeric")):
        raise NotKnown
    if kind is Kind.TEXT and type_name != "text" and not type_name.startswith("character varying"):
        raise NotKnown
    found = read(constant, kind, around)
    value: Value = found.value
    return value, found
