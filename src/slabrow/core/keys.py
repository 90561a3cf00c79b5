"""Values of a partition key: how the server's text becomes a comparable value, and a value becomes text again."""

import math
from dataclasses import dataclass
from datetime import UTC, date, datetime, tzinfo
from decimal import Decimal, InvalidOperation
from enum import Enum, StrEnum
from typing import Any, assert_never
from uuid import UUID
from zoneinfo import ZoneInfo

from slabrow.core.errors import UsageError


class Kind(StrEnum):
    """What a key column is to Slabrow: types that compare and print alike are one kind."""

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


Value = int | Decimal | date | datetime | str | UUID | bool | Edge | Opaque
Key = tuple[Value, ...]  # one value for each key column


def order(key: Key) -> tuple[tuple[int, Any], ...]:
    """Sorts keys as the server does. Raises TypeError when a value is opaque.

    Text sorts by code point: the server's own order only under a collation such as "C".
    """
    ranked: list[tuple[int, Any]] = []
    for value in key:
        if isinstance(value, Opaque):
            raise TypeError(f"{value.text} has no known order")
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
    9999) and kinds that Slabrow does not order come back opaque.
    """
    cleaned = text.strip()
    if (kind.is_time or kind is Kind.NUMERIC) and cleaned.lower() in _INFINITIES:
        return _INFINITIES[cleaned.lower()]
    try:
        match kind:
            case Kind.INTEGER:
                return int(cleaned)
            case Kind.NUMERIC:
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
            case _:
                assert_never(kind)
    except (ValueError, InvalidOperation, OverflowError):
        if kind.is_time and (
            cleaned.endswith(" BC")
            or (cleaned.split("-")[0].isdigit() and len(cleaned) > 10 and len(cleaned.split("-")[0]) > 4)
        ):
            return Opaque(cleaned)
        raise UsageError(f"{text!r} is not a value of type {kind}", fix=_EXAMPLES[kind]) from None


def is_of(value: object, kind: Kind) -> bool:
    """Whether a value is of the type of a key, and not only of one that it could be compared with."""
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


def as_moment(value: object, zone: tzinfo = UTC) -> datetime | None:
    """The instant that a value of a time column stands for; None for other values. zone: of what has none itself."""
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
        case Opaque():
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
