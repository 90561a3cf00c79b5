"""How fast a key of whole numbers grows, from where it was seen to be, and how far it gets in a time to come."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Span, Unit, shifted

LEAST_APART = timedelta(minutes=5)  # two looks that are closer say more about chance than about growth


@dataclass(frozen=True, slots=True)
class Seen:
    """The greatest key of a table at a moment."""

    at: datetime
    high: int


def growth_a_second(seen: Sequence[Seen]) -> float | None:
    """Keys a second: the fastest between two looks, so that a busy day counts and a quiet night does not.

    seen   in any order; None when no two of them lie far enough apart. A key that went back has not grown.
    """
    ordered = sorted(seen, key=lambda each: each.at)
    kept: list[Seen] = []
    for each in ordered:
        if not kept or each.at - kept[-1].at >= LEAST_APART:
            kept.append(each)
    rates = [(after.high - before.high) / (after.at - before.at).total_seconds() for before, after in pairwise(kept)]
    return max(0.0, *rates) if rates else None


def ahead_in_numbers(layout: Layout, now: datetime, a_second: float) -> Layout:
    """The layout with `ahead` in keys instead of time."""
    if layout.ahead is None or not layout.is_ahead_by_growth:
        return layout
    until = shifted(now, layout.ahead, 1, ZoneInfo(layout.zone))
    assert isinstance(until, datetime)
    least = layout.span.count if layout.span is not None else 1  # the next key may already need the next partition
    keys = max(least, math.ceil(a_second * (until - now).total_seconds()))
    return replace(layout, ahead=Span(keys, Unit.NUMBER))
