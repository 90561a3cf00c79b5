"""Ranks what was weighed: the best first, with the size that a partition should not exceed."""

# Three rules keep the ranking honest. A gain below LEAST_GAIN or LEAST_GAIN_MS does not count: the model is not exact
# enough, and a conversion is work. Among candidates within two percent the one with fewer partitions wins. And what a
# layout takes (uniqueness, slower queries) is said beside the reasons, but never turned into milliseconds.

from collections.abc import Callable, Sequence
from dataclasses import replace

from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Unit
from slabrow.core.values.method import By
from slabrow.core.weighing.coarser import coarser
from slabrow.core.weighing.piece_upkeep import SizeLimit
from slabrow.core.weighing.reasons import Adviser, other_winners, when_second_wins
from slabrow.core.weighing.weighed import Ranking, Weighed
from slabrow.core.weighing.weighing import Weigher
from slabrow.core.weighing.windows import WindowRule, window_rule
from slabrow.core.weighing.workload_reading import TableWorkload, windows

# A gain below this share is within the error of the model, and not worth a conversion.
LEAST_GAIN = 0.10
LEAST_GAIN_MS = 100.0  # a day: too little to be noticed
LOPSIDED = 0.8  # of the table in one leaf: queries read it as they read the table


def verdict(
    weigher: Weigher, layouts: Sequence[Layout], limit: SizeLimit, progress: Callable[[float], None]
) -> Ranking:
    """All candidates and the table as it is, ranked."""
    now = weigher.as_it_is()
    found = [now]
    for place, layout in enumerate(layouts):
        progress(place / max(1, len(layouts)))
        weighed = weigher.weigh(layout)
        if weighed is not None:
            found.append(weighed)
    found = [replace(each, read_share=each.blocks / (now.blocks or 1.0)) for each in found]
    ranked = ordered(found, limit, weigher.facts.bytes)
    winner = ranked[0]
    now = next(each for each in ranked if each.layout is None)
    rule = None
    if winner.layout is not None and winner.layout.by is By.RANGE:
        rule = window_rule_of(weigher.workload, winner.layout)
    second = ranked[1] if len(ranked) > 1 else None
    adviser = Adviser(weigher, winner, now, tuple(ranked))
    return Ranking(
        tuple(ranked),
        tuple(adviser.reasons()),
        tuple(adviser.price()),
        when_second_wins(winner, second) if second is not None else None,
        rule,
        coarser(winner.layout, winner.partitions_kept, rule),
        tuple(adviser.answer()),
        other_winners(ranked),
        limit,
    )


def ordered(found: Sequence[Weighed], limit: SizeLimit, table_bytes: int) -> list[Weighed]:
    """By cost; too large ones after those that fit, and the table as it is first unless the gain is worth it.

    A layout of which one leaf holds nearly everything divides nothing: it comes after all that do. A table that was
    not asked to be divided is never too large as it is.
    """

    def misses(each: Weighed) -> bool:
        if each.layout is None:
            return limit.is_asked and each.largest > limit.bytes
        return each.largest > limit.bytes or each.largest > LOPSIDED * table_bytes

    # Within one in fifty the model cannot tell: fewer partitions win then.
    in_order = sorted(found, key=lambda each: (misses(each), each.ms))
    best = in_order[0]
    alike = [each for each in in_order if misses(each) == misses(best) and each.ms <= best.ms * 1.02]
    best = min(alike, key=lambda each: (each.partitions, each.ms))
    now = next(each for each in found if each.layout is None)
    gained = now.ms - best.ms
    if misses(now) == misses(best) and (gained < now.ms * LEAST_GAIN or gained < LEAST_GAIN_MS):
        best = now
    return [best, *(each for each in in_order if each is not best)]


def window_rule_of(workload: TableWorkload, layout: Layout) -> WindowRule | None:
    """The windows that the workload asks of a range layout's key, against its span."""
    asked = windows(workload, layout.key[0])
    span = _span_steps(layout)
    return window_rule(asked, span, workload.weight) if span else None


def _span_steps(layout: Layout) -> int | None:
    span = layout.span
    if span is None:
        return None
    if span.unit is Unit.NUMBER:
        return span.count
    days = {Unit.HOUR: 1 / 24, Unit.DAY: 1, Unit.WEEK: 7, Unit.MONTH: 28, Unit.QUARTER: 90, Unit.YEAR: 365}
    return round(days[span.unit] * span.count * 86_400_000_000)  # the shortest month: never too few partitions
