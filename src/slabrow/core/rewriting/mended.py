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


def never_comes(wall: datetime, zone: ZoneInfo) -> bool:
    """Whether the clocks are set forward past it."""
    return wall.replace(tzinfo=zone).astimezone(UTC).astimezone(zone).replace(tzinfo=None) != wall


@cache
def moves_by_hours(zone: ZoneInfo) -> bool:
    """Whether its clocks are only set by whole hours, as far as is known."""
    days = (datetime(1970, 1, 1, tzinfo=zone) + timedelta(days=15 * number) for number in range(24 * 80))
    offsets = [day.utcoffset() or timedelta() for day in days]
    return len({offset % timedelta(hours=1) for offset in offsets}) == 1


@cache
def is_fixed(zone: ZoneInfo) -> bool:
    """Whether its clocks do not change, as far as is known."""
    days = (datetime(1970, 1, 1, tzinfo=zone) + timedelta(days=15 * number) for number in range(24 * 80))
    return len({day.utcoffset() for day in days}) == 1
