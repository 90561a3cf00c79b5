"""Reads and writes the keys of a layout that say where partitions lie: `place`, `at_most_moved`, `place_hours`."""

import re
from collections.abc import Sequence
from datetime import time
from typing import Any

from slabrow.core.table.layout import PlaceRule
from slabrow.core.table.spans import parse_span
from slabrow.core.values.errors import LayoutError

_EXAMPLE = 'write place = [{ after = "3 months", tablespace = "cold" }]'
_HOURS = re.compile(r"\s*(\d{1,2}):(\d{2})\s*-\s*(\d{1,2}):(\d{2})\s*")


def parse_place(given: Sequence[Any]) -> tuple[PlaceRule, ...]:
    """Raises LayoutError."""
    rules = []
    for each in given:
        if isinstance(each, dict) and "elsewhere" in each:
            raise LayoutError("upkeep moves no partitions to other servers yet", fix=_EXAMPLE)
        if not isinstance(each, dict) or set(each) != {"after", "tablespace"}:
            raise LayoutError("each entry of `place` has two keys", fix=_EXAMPLE)
        if not isinstance(each["tablespace"], str) or not each["tablespace"]:
            raise LayoutError("a tablespace is named by a text", fix=_EXAMPLE)
        rules.append(PlaceRule(parse_span(each["after"]), each["tablespace"]))
    return tuple(rules)


def parse_hours(text: str) -> tuple[time, time]:
    """`01:00-05:00`, also over midnight. Raises LayoutError."""
    match = _HOURS.fullmatch(text)
    try:
        if match is None:
            raise ValueError(text)
        hours = tuple(map(int, match.groups()))
        begin, end = time(hours[0], hours[1]), time(hours[2] % 24, hours[3])
    except ValueError:
        raise LayoutError(f"{text[:40]!r} are no hours", fix='write place_hours = "01:00-05:00"') from None
    if begin == end:
        raise LayoutError("these hours are none, or all", fix='write place_hours = "01:00-05:00", or leave it out')
    return begin, end


def hours_text(hours: tuple[time, time]) -> str:
    """As the file has it."""
    return f"{hours[0]:%H:%M}-{hours[1]:%H:%M}"
