"""Values of a partition key: how the server's text becomes a comparable value, and a value becomes text again."""

import math
import re
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from decimal import Decimal, InvalidOperation
from enum import Enum, StrEnum
from typing import Any, assert_never
from uuid import UUID
from zoneinfo import ZoneInfo

from slabrow.core.values.errors import UsageError


class Kind(StrEnum):
    """The kinds of key columns: types that compare and print alike are one kind."""

    INTEGER = "integer"
    NUMERIC = "numeric"
    DATE = "date"
    TIMESTAMP = "timestamp"
    TIMESTAMPTZ = "timestamptz"
    TEXT = "text"
    UUID = "uuid"
    BOOL = "bool"
    OTHER = "other"

    @property
    def is_time(self) -> bool:
        """Whether its values lie on a calendar."""
        return self in (Kind.DATE, Kind.TIMESTAMP, Kind.TIMESTAMPTZ)


_KINDS = {
    "smallint": Kind.INTEGER,
    "integer": Kind.INTEGER,
    "bigint": Kind.INTEGER,
    "numeric": Kind.NUMERIC,
    "real": Kind.NUMERIC,
    "double precision": Kind.NUMERIC,
    "date": Kind.DATE,
    "timestamp without time zone": Kind.TIMESTAMP,
    "timestamp with time zone": Kind.TIMESTAMPTZ,
    "text": Kind.TEXT,
    "character varying": Kind.TEXT,
    "character": Kind.TEXT,
    "uuid": Kind.UUID,
    "boolean": Kind.BOOL,
}


def kind_of(type_name: str) -> Kind:
    """The kind of a type as `format_type` spells it: `numeric(10,2)`, `timestamp(3) with time zone`."""
    bare = type_name
    if "(" in type_name:
        bare = type_name[: type_name.index("(")] + type_name[type_name.index(")") + 1 :]
    return _KINDS.get(bare, Kind.OTHER)


class Edge(Enum):
    """Values beyond every ordinary one. MINVALUE and MAXVALUE stand in bounds only; the infinities can be stored."""

    MINVALUE = -2
    MINUS_INFINITY = -1
    INFINITY = 1
    MAXVALUE = 2


@dataclass(frozen=True, slots=True)
class Opaque:
    """A value whose text Slabrow keeps and does not understand: it equals itself and has no place in an order."""

    text: str


@dataclass(frozen=True, slots=True)
class OpaqueKey(Opaque):
    """A value of several columns, of a list: it stands where one value does."""

    parts: tuple["Value | None", ...] = ()


@dataclass(frozen=True, slots=True)
class Far:
    """A day or a moment before the year 1 or after 9999, which Python's calendar cannot hold and the server's can.

    days, microseconds   since 2000-01-01, as the server counts; an instant in UTC. microseconds: within the day
    text                 as it is printed
    """

    days: int
    microseconds: int = 0
    text: str = field(default="", compare=False)


Value = int | Decimal | date | datetime | str | UUID | bool | Edge | Opaque | Far
Key = tuple[Value, ...]  # one value for each key column


def order(key: Key) -> tuple[tuple[float, Any], ...]:
    """Sorts keys as the server does. Raises TypeError when a value is opaque.

    Text sorts by code point: the server's own order only under a collation such as "C".
    """
    ranked: list[tuple[float, Any]] = []
    for value in key:
        if isinstance(value, Opaque):
            raise TypeError(f"{value.text} has no known order")
        if isinstance(value, Far):  # beyond every value of Python's calendar, and within the infinities
            ranked.append((0.5 if value.days > 0 else -0.5, (value.days, value.microseconds)))
            continue
        if not isinstance(value, Edge):
            ranked.append((0, value))
            continue
        ranked.append((value.value, 0))
        if value in (Edge.MINVALUE, Edge.MAXVALUE):
            break  # what follows MINVALUE or MAXVALUE in a bound is not looked at (CREATE TABLE, "FROM … TO")
    return tuple(ranked)


_INFINITIES = {"infinity": Edge.INFINITY, "-infinity": Edge.MINUS_INFINITY}


def parse_value(text: str, kind: Kind, zone: ZoneInfo | None = None) -> Value:
    """The value that `text` spells for a column of this kind.

    zone   where a timestamptz without an offset is read; UTC when None
    Raises UsageError when the text is no value of the kind. What Python's calendar cannot hold (BC, years past
    9999) comes back as `Far`, and kinds that Slabrow does not order come back opaque.
    """
    cleaned = text.strip()
    if (kind.is_time or kind is Kind.NUMERIC) and cleaned.lower() in _INFINITIES:
        return _INFINITIES[cleaned.lower()]
    try:
        match kind:
            case Kind.INTEGER if len(cleaned) <= _LONGEST_NUMBER:
                return int(cleaned)
            case Kind.NUMERIC if len(cleaned) <= _LONGEST_NUMBER:
                number = Decimal(cleaned)
                return Opaque(cleaned) if math.isnan(number) else number
            case Kind.DATE:
                return date.fromisoformat(cleaned)
            case Kind.TIMESTAMP:
                return datetime.fromisoformat(cleaned).replace(tzinfo=None)
            case Kind.TIMESTAMPTZ:
                instant = datetime.fromisoformat(cleaned)
                return (instant if instant.tzinfo else instant.replace(tzinfo=zone or UTC)).astimezone(UTC)
            case Kind.TEXT:
                return text
            case Kind.UUID:
                return UUID(cleaned)
            case Kind.BOOL:
                return _parse_bool(cleaned)
            case Kind.OTHER:
                return Opaque(text)
            case Kind.INTEGER | Kind.NUMERIC:
                raise ValueError(text)
            case _:
                assert_never(kind)
    except (ValueError, InvalidOperation, OverflowError):
        far = _parse_far(cleaned, kind, zone) if kind.is_time else None
        if far is not None:
            return far
        raise UsageError(f"{text[:80]!r} is not a value of type {kind}", fix=_EXAMPLES[kind]) from None


_LONGEST_NUMBER = 2_000  # digits: what Python reads in no time
_FAR = re.compile(
    r"([0-9]{1,7})-([0-9]{2})-([0-9]{2})(?:[ T]([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:\.([0-9]{1,6}))?)?)?"
    r"\s*(Z|[+-][0-9]{2}(?::?[0-9]{2}(?::?[0-9]{2})?)?)?(\s+BC)?"
)
_DAY_US = 86_400_000_000
# Julian days (PostgreSQL source, datetime.h): of 2000-01-01, and of the ends of the server's calendars (manual, 8.5).
_EPOCH_JULIAN = 2_451_545
_FIRST_JULIAN, _LAST_DATE, _LAST_TIMESTAMP = 0, 2_147_483_493, 109_203_528


def _parse_far(text: str, kind: Kind, zone: ZoneInfo | None) -> Far | None:
    """A day or a moment that Python's calendar cannot hold, as the server prints it. None for a text that is not a
    value.
    """
    match = _FAR.fullmatch(text)
    if match is None:
        return None
    year, month, day, hour, minute, second = (int(part or 0) for part in match.groups()[:6])
    fraction, offset, is_bc = match.group(7), match.group(8), match.group(9) is not None
    if year == 0:
        return None  # there is none: 1 BC is followed by the year 1
    year = 1 - year if is_bc else year
    if not 1 <= month <= 12 or not 1 <= day <= _days_of(year, month):
        return None
    if hour > 24 or minute > 59 or second > 60:
        return None
    julian = _julian_day(year, month, day)
    if not _FIRST_JULIAN <= julian <= (_LAST_DATE if kind is Kind.DATE else _LAST_TIMESTAMP):
        return None
    moment = ((hour * 60 + minute) * 60 + second) * 1_000_000 + int((fraction or "").ljust(6, "0"))
    if kind is Kind.DATE:
        return _beyond_calendar(Far(julian - _EPOCH_JULIAN, 0, text))
    if kind is Kind.TIMESTAMPTZ:
        moment -= _offset_us(offset) if offset else _zone_offset_us(zone, year, month, day, moment)
    days, within = divmod((julian - _EPOCH_JULIAN) * _DAY_US + moment, _DAY_US)
    return _beyond_calendar(Far(days, within, text))


def _beyond_calendar(found: Far) -> Far | None:
    """None for what Python's calendar holds: then the text has a form that is not read here."""
    first, last = (day.toordinal() - date(2000, 1, 1).toordinal() for day in (date.min, date.max))
    return None if first <= found.days <= last else found


def _julian_day(year: int, month: int, day: int) -> int:
    """date2j (PostgreSQL source, datetime.c). year: astronomical, 0 is 1 BC."""
    if month > 2:
        month, year = month + 1, year + 4800
    else:
        month, year = month + 13, year + 4799
    century = year // 100
    return year * 365 - 32167 + year // 4 - century + century // 4 + 7834 * month // 256 + day


def _days_of(year: int, month: int) -> int:
    if month == 2:
        return 29 if year % 4 == 0 and (year % 100 != 0 or year % 400 == 0) else 28
    return 30 if month in (4, 6, 9, 11) else 31


def _offset_us(text: str) -> int:
    if text == "Z":
        return 0
    digits = text[1:].replace(":", "").ljust(6, "0")
    seconds = int(digits[:2]) * 3600 + int(digits[2:4]) * 60 + int(digits[4:6])
    return (-seconds if text[0] == "-" else seconds) * 1_000_000


def _zone_offset_us(zone: ZoneInfo | None, year: int, month: int, day: int, moment: int) -> int:
    """Of a zone then. Its rules repeat every 400 years; before the year 1 it has its first offset."""
    if zone is None:
        return 0
    like = year if year < 1 else 2000 + year % 400
    wall = datetime(1, 1, 2) if like < 1 else datetime(like, month, day) + timedelta(microseconds=moment)
    return int((wall.replace(tzinfo=zone).utcoffset() or timedelta()).total_seconds() * 1_000_000)


def is_of(value: object, kind: Kind) -> bool:
    """Whether a value has exactly the type of a key. A comparable type is not enough."""
    if isinstance(value, Far):
        return kind.is_time
    match kind:
        case Kind.TIMESTAMPTZ:
            return isinstance(value, datetime) and value.tzinfo is not None
        case Kind.TIMESTAMP:
            return isinstance(value, datetime) and value.tzinfo is None
        case Kind.DATE:
            return isinstance(value, date) and not isinstance(value, datetime)
        case Kind.BOOL:
            return isinstance(value, bool)
        case Kind.INTEGER:
            return isinstance(value, int) and not isinstance(value, bool)
        case _:
            return not isinstance(value, date | datetime)


def midnight(day: date) -> datetime:
    """The moment at which a day begins, on a wall clock without a zone."""
    return datetime.combine(day, time())


def midnight_of(value: Value) -> Value:
    """A day as its midnight, so that it compares with an hour; other values as they are."""
    return midnight(value) if type(value) is date else value


def as_moment(value: object, zone: tzinfo = UTC) -> datetime | None:
    """The instant that a value of a time column means; None for other values. zone: of values without a zone."""
    match value:
        case datetime():
            return value if value.tzinfo else value.replace(tzinfo=zone)
        case date():
            return datetime(value.year, value.month, value.day, tzinfo=zone)
        case _:
            return None


_EXAMPLES = {
    Kind.INTEGER: "write a whole number, such as 17",
    Kind.NUMERIC: "write a number, such as 17.5",
    Kind.DATE: "write a date, such as 2026-03-01",
    Kind.TIMESTAMP: "write a date and time, such as '2026-03-01 00:00'",
    Kind.TIMESTAMPTZ: "write a date and time with its offset, such as '2026-03-01 00:00+00:00'",
    Kind.UUID: "write a UUID, such as 5f0c1a52-1d6e-4a53-9d2c-0c8f2b1f7a10",
    Kind.BOOL: "write true or false",
    Kind.TEXT: "write a text",
    Kind.OTHER: "write it as the server prints it",
}


def _parse_bool(text: str) -> bool:
    match text.lower():
        case "t" | "true" | "yes" | "on" | "1":
            return True
        case "f" | "false" | "no" | "off" | "0":
            return False
        case _:
            raise ValueError(text)


def spell(value: Value | None) -> str:
    """A value as ISO text that the server reads back to the same value; instants carry their offset.

    >>> spell(date(2026, 3, 1)), spell(Edge.INFINITY), spell(None)
    ('2026-03-01', 'infinity', 'NULL')
    """
    match value:
        case None:
            return "NULL"
        case Edge.INFINITY | Edge.MINUS_INFINITY:
            return "infinity" if value is Edge.INFINITY else "-infinity"
        case Edge():
            return value.name
        case Opaque() | Far():
            return value.text
        case bool():
            return "true" if value else "false"
        case datetime():
            return value.isoformat(sep=" ")
        case date():
            return value.isoformat()
        case Decimal():
            return format(value, "f")
        case int() | str() | UUID():
            return str(value)
        case _:
            assert_never(value)


def spell_local(value: Value | None, zone: ZoneInfo | None) -> str:
    """As `spell`, for people: an instant in the layout's zone, midnight as the bare date with its offset."""
    if isinstance(value, datetime) and value.tzinfo is not None:
        local = value.astimezone(zone or UTC)
        text = local.isoformat(sep=" ", timespec="auto" if local.microsecond or local.second else "minutes")
        return text.replace("+00:00", "+00")
    return spell(value)
