"""What comes of a condition that is put in other words, and what clocks that change do to it."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache
from typing import Any
from zoneinfo import ZoneInfo

from sqlglot import exp

from slabrow.core.pruning.conditions import columns_in
from slabrow.core.sql.constants import comes_twice
from slabrow.core.sql.operators import ORDERING, TURNED
from slabrow.core.values.periods import beginning, following, not_before

MONTHS = "months differ in length, so moving them to the other side gives other rows"
DAYS = "a day has 23 or 25 hours where the clocks change, so moving it to the other side gives other rows"
TWICE = "midnight comes twice there when the clocks are set back, so a range from it gives other rows"


@dataclass(frozen=True, slots=True)
class Mended:
    """text: the condition in other words; note: when that holds, empty when always."""

    text: str
    note: str = ""


class Refused(Exception):
    """Other words come to mind, but they would return other rows; the message says when."""


def with_columns_first(condition: exp.Expression) -> tuple[Any, str, Any]:
    """A comparison as the side with columns, the sign as it reads from there, and the other side."""
    sign, left, right = ORDERING[type(condition)], condition.this, condition.args["expression"]
    if columns_in(left) and not columns_in(right):
        return left, sign, right
    return right, TURNED[sign], left


@cache
def has_midnight_twice(zone: ZoneInfo) -> bool:
    """Whether one did since 1990, or will within the rules that are known."""
    days = (datetime(1990, 1, 1) + timedelta(days=number) for number in range(366 * 50))
    return any(comes_twice(day, zone) for day in days)


def period_ends(wall: datetime, unit: str, sign: str) -> tuple[datetime, datetime] | None:
    """The bounds of the bare key for `f(key) sign wall`, where f cuts a moment down to the unit.

    For `=` the bounds are the first moments of the period and of the next one. For other signs both bounds are the same
    moment. None where `=` is always false, because `wall` is not the first moment of a period.
    """
    if sign == "=":
        return (wall, following(wall, unit)) if beginning(wall, unit) == wall else None
    end = not_before(wall, unit) if sign in (">=", "<") else following(beginning(wall, unit), unit)
    return end, end


def range_text(name: str, sign: str, low: str, high: str) -> str:
    """The condition on the bare key, with the ends of `period_ends` as SQL."""
    if sign == "=":
        return f"{name} >= {low} AND {name} < {high}"
    return f"{name} {'>=' if sign.startswith('>') else '<'} {low}"


def later_range_text(name: str, sign: str, start: str, end: str) -> str:
    """As `range_text`, for a period whose first moment and end are only known as SQL."""
    return range_text(name, sign, start if sign in ("=", ">=", "<") else end, end)


def never_comes(wall: datetime, zone: ZoneInfo) -> bool:
    """Whether the clocks of the zone are set forward past this local time."""
    return wall.replace(tzinfo=zone).astimezone(UTC).astimezone(zone).replace(tzinfo=None) != wall


@cache
def _offsets(zone: ZoneInfo) -> frozenset[timedelta]:
    """The distances from UTC that the zone has had since 1970, and will have within the rules that are known."""
    days = (datetime(1970, 1, 1, tzinfo=zone) + timedelta(days=15 * number) for number in range(24 * 80))
    return frozenset(day.utcoffset() or timedelta() for day in days)


def moves_by_hours(zone: ZoneInfo) -> bool:
    """Whether the clocks of the zone are only set by whole hours."""
    return len({offset % timedelta(hours=1) for offset in _offsets(zone)}) == 1


def is_fixed(zone: ZoneInfo) -> bool:
    """Whether the clocks of the zone never change."""
    return len(_offsets(zone)) == 1
