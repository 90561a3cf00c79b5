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
        named = {"tablespace", "elsewhere"} & set(each) if isinstance(each, dict) else set()
        if len(named) != 1 or set(each) != {"after", *named}:
            raise LayoutError("each entry of `place` has two keys, `after` and where to", fix=_EXAMPLE)
        [where] = named
        if not isinstance(each[where], str) or not each[where]:
            raise LayoutError(f"`{where}` is a name", fix=_EXAMPLE)
        rules.append(PlaceRule(parse_span(each["after"]), **{where: each[where]}))
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
