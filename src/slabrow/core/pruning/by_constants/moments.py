"""Dates and times as MariaDB reads them in literals, and intervals added to them.

Source: MariaDB manual, Date and Time Literals; the forms that are left out come back as not read.
"""

import calendar
import re
from datetime import date, datetime, timedelta

_DASHED = re.compile(
    r"\s*(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})(?:[ T]+(\d{1,2}):(\d{1,2})(?::(\d{1,2})(?:\.(\d{1,9}))?)?)?\s*"
)
_TOGETHER = re.compile(r"(\d{4})(\d{2})(\d{2})(?:T?(\d{2})(\d{2})(\d{2})(?:\.(\d{1,6}))?)?")
_UNITS = {
    "WEEK": timedelta(weeks=1),
    "DAY": timedelta(days=1),
    "HOUR": timedelta(hours=1),
    "MINUTE": timedelta(minutes=1),
    "SECOND": timedelta(seconds=1),
    "MICROSECOND": timedelta(microseconds=1),
}
_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}


def parse_moment(text: str) -> date | datetime | None:
    """A day, or a moment on a wall clock; None for another form, and for a day that no calendar has."""
    match = _DASHED.fullmatch(text) or _TOGETHER.fullmatch(text.strip())
    if match is None:
        return None
    year, month, day, hour, minute, second, fraction = match.groups()
    try:
        if hour is None:
            return date(int(year), int(month), int(day))
        micro = int((fraction or "")[:6].ljust(6, "0"))
        return datetime(int(year), int(month), int(day), int(hour), int(minute), int(second or 0), micro)
    except ValueError:
        return None


def moved(start: date | datetime, count: int, unit: str) -> date | datetime | None:
    """`start + INTERVAL count unit`; a day at the end of a month stays within its month. None for another unit."""
    try:
        if unit in _MONTHS:
            place = start.year * 12 + start.month - 1 + count * _MONTHS[unit]
            year, month = divmod(place, 12)
            day = min(start.day, calendar.monthrange(year, month + 1)[1])
            return start.replace(year=year, month=month + 1, day=day)
        if unit not in _UNITS:
            return None
        if not isinstance(start, datetime) and unit not in ("WEEK", "DAY"):
            start = datetime(start.year, start.month, start.day)
        return start + count * _UNITS[unit]
    except (ValueError, OverflowError):
        return None
