"""Spans, the widths of range partitions, and the grid of boundaries that a span draws over the key.

A calendar span follows the calendar of the layout's zone: a day there may have 23 or 25 hours, a month 28 to 31 days.
Spans of hours have a fixed length and are counted in UTC. The choice is argued in docs/decisions/0002-calendar.md.
"""

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from enum import StrEnum
from typing import assert_never
from zoneinfo import ZoneInfo

from slabrow.core.values.errors import LayoutError, nearest
from slabrow.core.values.key_values import Edge, Kind, Value, midnight


class Unit(StrEnum):
    """The unit of a span: a number, or a length of calendar time."""

    NUMBER = "number"
    HOUR = "hour"
    DAY = "day"
    WEEK = "week"
    MONTH = "month"
    QUARTER = "quarter"
    YEAR = "year"


_MONTHS = {Unit.MONTH: 1, Unit.QUARTER: 3, Unit.YEAR: 12}
_DAYS = {Unit.DAY: 1, Unit.WEEK: 7}
_ISO = {"Y": Unit.YEAR, "M": Unit.MONTH, "W": Unit.WEEK, "D": Unit.DAY}
_WHOLE = re.compile(r"[0-9]{1,18}")  # as a key of whole numbers can hold it
_WORDS = re.compile(r"([0-9]{1,9})\s*([a-z]+)", re.IGNORECASE)
_ISO_SPAN = re.compile(r"P(?:([0-9]{1,9})([YMWD])|T([0-9]{1,9})H)")


@dataclass(frozen=True, slots=True)
class Span:
    """A width: `count` units. Unit.NUMBER counts steps of a whole-number key."""

    count: int
    unit: Unit

    def __str__(self) -> str:
        if self.unit is Unit.NUMBER:
            return str(self.count)
        return f"{self.count} {self.unit}" + ("s" if self.count != 1 else "")

    @property
    def months(self) -> int:
        """Its length in months; 0 when it is not counted in months."""
        return self.count * _MONTHS.get(self.unit, 0)

    @property
    def days(self) -> int:
        """Its length in days; 0 when it is not counted in days."""
        return self.count * _DAYS.get(self.unit, 0)


def parse_span(text: str | int) -> Span:
    """`1 month`, `7 days`, `P1M`, `PT6H`, or a whole number for a key of whole numbers.

    Raises LayoutError when it is none of them, is zero, or mixes units.
    """
    if isinstance(text, int):
        return _counted(text, Unit.NUMBER, text)
    cleaned = text.strip()
    if _WHOLE.fullmatch(cleaned):
        return _counted(int(cleaned), Unit.NUMBER, text)
    if iso := _ISO_SPAN.fullmatch(cleaned):
        count, letter, hours = iso.groups()
        return _counted(int(hours), Unit.HOUR, text) if hours else _counted(int(count), _ISO[letter], text)
    if (words := _WORDS.fullmatch(cleaned)) is None:
        raise LayoutError(f"{text[:40]!r} is not a span", fix=_SPAN_HELP)
    word = words.group(2).lower()
    for unit in Unit:
        if unit is not Unit.NUMBER and word in (unit, f"{unit}s"):
            return _counted(int(words.group(1)), unit, text)
    near = nearest(word, [f"{unit}s" for unit in Unit if unit is not Unit.NUMBER])
    raise LayoutError(
        f"{text!r} is not a span: {word!r} is not a unit",
        fix=f"did you mean {words.group(1)} {near}?" if near else _SPAN_HELP,
    )


_SPAN_HELP = "write a count and one unit (hours, days, weeks, months, quarters, years), `P1M`, or a whole number"


def _counted(count: int, unit: Unit, text: str | int) -> Span:
    if count < 1:
        raise LayoutError(f"a span of {text} is empty", fix="a span is at least 1")
    if count >= 1 << 63:
        raise LayoutError("a span is wider than any key", fix=_SPAN_HELP)
    return Span(count, unit)


def fits(span: Span, kind: Kind) -> bool:
    """Whether partitions of this width can be cut from a key of this kind."""
    if kind is Kind.INTEGER:
        return span.unit is Unit.NUMBER
    if kind is Kind.DATE:
        return span.unit not in (Unit.NUMBER, Unit.HOUR)
    return kind.is_time and span.unit is not Unit.NUMBER


@dataclass(frozen=True, slots=True)
class Grid:
    """The boundaries that a span draws over a key: slot `i` is from `start(i)` (in) to `start(i + 1)` (out).

    kind     the key's; it decides what a boundary is: an int, a date, a naive datetime or an instant in UTC
    zone     where days and months begin, for instants
    anchor   a boundary that spans of several days or hours are counted from; months, quarters and years are
             counted from January of the year 0, weeks from a Monday
    """

    span: Span
    kind: Kind
    zone: ZoneInfo
    anchor: Value | None = None

    def __post_init__(self) -> None:
        if not fits(self.span, self.kind):
            raise LayoutError(f"a span of {self.span} does not fit a key of type {self.kind}", fix=_FITTING[self.kind])

    def index(self, value: Value) -> int:
        """The slot that holds `value`."""
        if isinstance(value, int) and not isinstance(value, bool):
            return (value - self._anchor_number()) // self.span.count
        wall = self._wall(value)
        if self.span.months:
            return (wall.year * 12 + wall.month - 1) // self.span.months
        if self.span.days:
            return (wall.date().toordinal() - self._anchor_day()) // self.span.days
        return (self._absolute(value) - self._anchor_hour()) // timedelta(hours=self.span.count)

    def start(self, index: int) -> Value:
        """The boundary with which slot `index` begins. Raises LayoutError beyond the years 1 to 9999."""
        if self.span.unit is Unit.NUMBER:
            return self._anchor_number() + index * self.span.count
        try:
            if self.span.months:
                year, month = divmod(index * self.span.months, 12)
                return self._at_midnight(date(year, month + 1, 1))
            if self.span.days:
                return self._at_midnight(date.fromordinal(self._anchor_day() + index * self.span.days))
            instant = self._anchor_hour() + index * timedelta(hours=self.span.count)
            return instant.replace(tzinfo=UTC) if self.kind is Kind.TIMESTAMPTZ else instant
        except (ValueError, OverflowError):
            raise LayoutError(
                f"spans of {self.span} reach beyond the years 1 to 9999",
                fix="shorten `ahead`, or set `from` to a later day",
            ) from None

    def holds(self, value: Value) -> bool:
        """True when `value` is itself a boundary."""
        return self.start(self.index(value)) == value

    def _wall(self, value: Value) -> datetime:
        """The calendar's reading of a value in the zone."""
        match value:
            case datetime():
                return value.astimezone(self.zone) if value.tzinfo else value
            case date():
                return midnight(value)
            case _:
                raise TypeError(f"{value!r} has no place in a calendar")

    def _absolute(self, value: Value) -> datetime:
        """The value on a clock that never changes: UTC for instants."""
        wall = self._wall(value)
        return wall.astimezone(UTC).replace(tzinfo=None) if wall.tzinfo else wall

    def _at_midnight(self, day: date) -> Value:
        if self.kind is Kind.DATE:
            return day
        begins = midnight(day)
        # Where the clocks go forward at midnight, fold=0 gives the instant of the change itself: the day's first.
        return begins.replace(tzinfo=self.zone).astimezone(UTC) if self.kind is Kind.TIMESTAMPTZ else begins

    def _anchor_number(self) -> int:
        return self.anchor if isinstance(self.anchor, int) else 0

    def _anchor_day(self) -> int:
        if self.span.unit is Unit.WEEK or self.anchor is None or self.span.count == 1:
            return _A_MONDAY if self.span.unit is Unit.WEEK else 1
        return self._wall(self.anchor).date().toordinal()

    def _anchor_hour(self) -> datetime:
        return datetime(1970, 1, 1) if self.anchor is None else self._absolute(self.anchor)


_A_MONDAY = date(1969, 12, 29).toordinal()  # the Monday of the epoch's week
_FITTING = {
    Kind.INTEGER: "give `span` as a whole number, such as 1000000",
    Kind.DATE: "give `span` in days, weeks, months, quarters or years",
    Kind.TIMESTAMP: 'give `span` in words, such as "1 month"',
    Kind.TIMESTAMPTZ: 'give `span` in words, such as "1 month"',
    Kind.NUMERIC: "partition by list or hash: range spans need a time or a whole number",
    Kind.TEXT: "partition by list or hash: range spans need a time or a whole number",
    Kind.UUID: "partition by hash: range spans need a time or a whole number",
    Kind.BOOL: "partition by list: range spans need a time or a whole number",
    Kind.OTHER: "partition by hash: range spans need a time or a whole number",
}


def shifted(value: Value, span: Span, steps: int, zone: ZoneInfo) -> Value:
    """`value` moved by `steps` spans along the calendar of `zone`.

    A day that the target month lacks becomes its last one: 31 March minus 1 month is 28 or 29 February, as the
    server has it (PostgreSQL manual, 9.9 Date/Time Functions and Operators). An infinity stays where it is.
    """
    match value:
        case int():
            return value + steps * span.count
        case datetime():
            if span.unit is Unit.HOUR:
                return value + timedelta(hours=steps * span.count)
            wall = value.astimezone(zone) if value.tzinfo else value
            moved = datetime.combine(_moved_day(wall.date(), span, steps), wall.time())
            return moved.replace(tzinfo=zone).astimezone(UTC) if value.tzinfo else moved
        case date():
            return _moved_day(value, span, steps)
        case Edge():
            return value
        case _:
            raise TypeError(f"{value!r} cannot be moved by a span")


def _moved_day(day: date, span: Span, steps: int) -> date:
    try:
        if not span.months:
            return day + timedelta(days=steps * span.days)
        year, month = divmod(day.year * 12 + day.month - 1 + steps * span.months, 12)
        first_of_next = date(year + month // 11, (month + 1) % 12 + 1, 1)
        return date(year, month + 1, min(day.day, (first_of_next - timedelta(days=1)).day))
    except (ValueError, OverflowError):
        raise LayoutError(
            f"{steps} × {span} from {day} reaches beyond the years 1 to 9999", fix="shorten `ahead` or `keep`"
        ) from None


def suffix(span: Span, kind: Kind, start: Value, zone: ZoneInfo) -> str:
    """The bound that a slot begins with, as the end of a partition's name, in ISO order.

    >>> suffix(Span(1, Unit.MONTH), Kind.DATE, date(2026, 3, 1), ZoneInfo("UTC"))
    '2026_03'
    """
    if isinstance(start, int):
        return str(start) if start >= 0 else f"minus{-start}"
    if not isinstance(start, date):  # datetime is a date too
        raise TypeError(f"{start!r} names no slot")
    if span.unit is Unit.HOUR and isinstance(start, datetime):
        return f"{start:%Y_%m_%dt%H%M}" + ("z" if kind is Kind.TIMESTAMPTZ else "")
    wall = start.astimezone(zone) if isinstance(start, datetime) and start.tzinfo else start
    if isinstance(wall, datetime) and (wall.hour, wall.minute, wall.second, wall.microsecond) != (0, 0, 0, 0):
        return f"{wall:%Y_%m_%dt%H%M%S}"  # a piece that does not begin on the grid
    year, day = f"{wall.year:04d}", f"{wall.year:04d}_{wall.month:02d}_{wall.day:02d}"
    match span.unit:
        case Unit.YEAR if (wall.month, wall.day) == (1, 1):
            return year
        case Unit.QUARTER if wall.day == 1 and wall.month % 3 == 1:
            return f"{year}_q{(wall.month + 2) // 3}"
        case Unit.MONTH if wall.day == 1:
            return f"{year}_{wall.month:02d}"
        case Unit.WEEK if wall.isoweekday() == 1:
            iso = wall.isocalendar()
            return f"{iso.year:04d}_w{iso.week:02d}"
        case Unit.YEAR | Unit.QUARTER | Unit.MONTH | Unit.WEEK | Unit.DAY | Unit.HOUR | Unit.NUMBER:
            return day
        case _:
            assert_never(span.unit)
