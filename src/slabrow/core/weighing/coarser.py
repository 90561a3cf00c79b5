"""What `coarsen` would bring to a layout of many narrow spans: how many partitions, and how many a window touches."""

from dataclasses import dataclass, replace

from slabrow.core.table.layout import Coarsen, Layout
from slabrow.core.table.spans import Span, Unit
from slabrow.core.weighing.windows import WindowRule, most_touched

MANY = 60  # partitions once `keep` is reached: fewer need no merging
_DAYS = {Unit.HOUR: 1 / 24, Unit.DAY: 1.0, Unit.WEEK: 7.0, Unit.MONTH: 30.44, Unit.QUARTER: 91.3, Unit.YEAR: 365.25}
# The next wider span, and after how long data of the narrow one is seldom asked for any more.
NEXT = {
    Unit.HOUR: (Span(1, Unit.DAY), Span(1, Unit.WEEK)),
    Unit.DAY: (Span(1, Unit.MONTH), Span(3, Unit.MONTH)),
    Unit.WEEK: (Span(1, Unit.QUARTER), Span(6, Unit.MONTH)),
    Unit.MONTH: (Span(1, Unit.YEAR), Span(2, Unit.YEAR)),
}


@dataclass(frozen=True, slots=True)
class Coarser:
    """partitions: once `keep` is reached; most_widest: those of the wider span that the widest window touches."""

    coarsen: Coarsen
    partitions: int
    most_widest: int | None


def coarser(layout: Layout | None, kept: int, rule: WindowRule | None) -> Coarser | None:
    """kept: partitions once `keep` is reached. None where merging brings nothing.

    The narrow spans reach back at least as far as the windows that are usual: only seldom queries meet wide ones.
    """
    if layout is None:
        return None
    span, keep = layout.span, layout.keep
    if (
        span is None
        or keep is None
        or layout.coarsen is not None
        or layout.within is not None
        or span.unit not in NEXT
        or kept < MANY
    ):
        return None
    wide, after = NEXT[span.unit]
    usual_days = rule.usual / 86_400_000_000 if rule is not None else 0.0
    if usual_days > _length(after):
        after = replace(after, count=-(-int(usual_days + 1) // round(_DAYS[after.unit])))
    if _length(keep) <= _length(after) + _length(wide):
        return None
    narrow = kept * min(1.0, (_length(after) + _length(wide)) / _length(keep))
    partitions = round(narrow + (_length(keep) - _length(after)) / _length(wide))
    widest = most_touched(max(1, rule.widest), round(_length(wide) * 86_400_000_000)) if rule is not None else None
    return Coarser(Coarsen(after, wide), partitions, widest) if partitions < kept else None


def _length(span: Span) -> float:
    """In days."""
    return _DAYS[span.unit] * span.count if span.unit in _DAYS else 0.0
