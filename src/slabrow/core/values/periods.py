"""Periods of the calendar on a wall clock: where the period of a moment begins, and where the next period begins."""

from collections.abc import Callable
from datetime import datetime, timedelta


def beginning(wall: datetime, unit: str) -> datetime:
    """The start of the second, minute, hour, day, week (from Monday), month, quarter or year that holds a moment.

    As date_trunc of the server cuts it (PostgreSQL manual, 9.9.2).

    Raises KeyError for another unit.
    """
    return _BEGINNINGS[unit](wall)


def following(wall: datetime, unit: str) -> datetime:
    """The start of the next period after the period that begins at `wall`."""
    return _FOLLOWING[unit](wall)


def not_before(wall: datetime, unit: str) -> datetime:
    """The first start of a period that is not before a moment."""
    start = beginning(wall, unit)
    return start if start == wall else following(start, unit)


def is_unit(unit: str) -> bool:
    """Whether a word names a period of the calendar."""
    return unit in _BEGINNINGS


def _midnight(wall: datetime) -> datetime:
    return wall.replace(hour=0, minute=0, second=0, microsecond=0)


def _months_on(wall: datetime, months: int) -> datetime:
    year, month = divmod(wall.year * 12 + wall.month - 1 + months, 12)
    return wall.replace(year=year, month=month + 1)


_BEGINNINGS: dict[str, Callable[[datetime], datetime]] = {
    "second": lambda wall: wall.replace(microsecond=0),
    "minute": lambda wall: wall.replace(second=0, microsecond=0),
    "hour": lambda wall: wall.replace(minute=0, second=0, microsecond=0),
    "day": _midnight,
    "week": lambda wall: _midnight(wall) - timedelta(days=wall.weekday()),
    "month": lambda wall: _midnight(wall).replace(day=1),
    "quarter": lambda wall: _midnight(wall).replace(day=1, month=(wall.month - 1) // 3 * 3 + 1),
    "year": lambda wall: _midnight(wall).replace(day=1, month=1),
}
_FOLLOWING: dict[str, Callable[[datetime], datetime]] = {
    "second": lambda wall: wall + timedelta(seconds=1),
    "minute": lambda wall: wall + timedelta(minutes=1),
    "hour": lambda wall: wall + timedelta(hours=1),
    "day": lambda wall: wall + timedelta(days=1),
    "week": lambda wall: wall + timedelta(days=7),
    "month": lambda wall: _months_on(wall, 1),
    "quarter": lambda wall: _months_on(wall, 3),
    "year": lambda wall: _months_on(wall, 12),
}
