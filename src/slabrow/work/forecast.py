"""`forecast`: the partitions a layout gives, before anything exists (N12, N13), now or at a day to come."""

from dataclasses import dataclass, replace
from datetime import datetime
from zoneinfo import ZoneInfo

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.future_sizes import Expected, Outlook, expected_in, grown, steady_rows
from slabrow.core.statistics.row_growth import Growth, growth
from slabrow.core.table.bounds import Hashed
from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.placing import place_of
from slabrow.core.upkeep.planned_partitions import as_key, cutoff, is_past
from slabrow.core.values.errors import LayoutError, UsageError
from slabrow.core.values.method import By
from slabrow.core.weighing.candidates import ageing
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.layout_preview import LayoutPreview, preview


@dataclass(frozen=True, slots=True)
class Forecast:
    """preview: the partitions of that day, with the rows that they have now; outlook: what they will have.

    times   how many times the rows of today each is shown with; None: those of today
    places  the tablespace that each of `preview.sized` will lie in by its age; None while no rule says
    """

    preview: LayoutPreview
    outlook: Outlook | None = None
    times: float | None = None
    places: tuple[str | None, ...] = ()


def forecast(
    context: Context, layout: Layout, *, exact: bool, until: datetime | None = None, times: float | None = None
) -> Forecast:
    """See `preview`. Changes nothing.

    times   with so many times the rows of today
    until   a day to come; the rows of that day follow from the growth that the statistics show
    Raises UsageError when that day is not in the future, or the statistics show no growth along time.
    """
    if until is not None and until <= context.now:
        raise UsageError(
            f"--until {until.date()} is not in the future",
            found=f"it is taken to be {context.now.date()}",
            fix="name a later day",
        )
    with context.connected() as session:
        if until is None:
            now_seen = _times(preview(context, session, layout, exact=exact), times)
            return Forecast(now_seen, None, times, _places(now_seen, context.now))
        trend = _growth(session, layout)
        if layout.by is By.RANGE and not _is_along(layout, trend):
            raise UsageError(
                f"the rows of {layout.table} on that day cannot be estimated",
                found=f"new rows come in the order of {trend.column}, and the layout divides by {layout.key[0]}",
                fix="leave --until out, or divide by that column",
            )
        seen = preview(replace(context, now=until), session, layout, exact=exact)
        looked = _looked_out(seen, trend, until)
        return replace(looked, places=_places(looked.preview, until))


def _places(seen: LayoutPreview, now: datetime) -> tuple[str | None, ...]:
    """Of keys in time; a number says nothing of how old its rows are."""
    layout, kind = seen.layout, seen.key[0].kind
    if layout.servers:
        held = [each.top.bounds for each in seen.sized]
        return tuple(layout.server_of(each.remainder) if isinstance(each, Hashed) else None for each in held)
    if not layout.place or not kind.is_time:
        return ()
    here = as_key(now, kind, ZoneInfo(layout.zone))
    rules = [place_of(layout, each.top.bounds, here) for each in seen.sized]
    return tuple(None if rule is None else rule.target for rule in rules)


def _times(seen: LayoutPreview, times: float | None) -> LayoutPreview:
    """Each partition with so many times the rows and the bytes."""
    if times is None:
        return seen

    def more(number: int | None) -> int | None:
        return None if number is None else round(number * times)

    sized = tuple(replace(each, rows=more(each.rows), bytes=more(each.bytes)) for each in seen.sized)
    return replace(seen, sized=sized, homeless=round(seen.homeless * times), nulls=round(seen.nulls * times))


def _growth(session: Session, layout: Layout) -> Growth:
    with session.reading(f"read {layout.table}"):
        found, _ = session.catalogue.whole(session.catalogue.relation(layout.table))
        columns = {each.name: each.as_key() for each in session.catalogue.columns(found)}
        statistics = session.catalogue.column_statistics(found)
    facts = TableFacts(
        name=found.name,
        spelling=found.spelling,
        rows=found.rows or 0,
        heap_bytes=0,
        index_bytes=0,
        columns=columns,
        statistics=statistics,
    )
    times = [each.column for each in ageing(facts, {}, 0.0) if columns[each.column].kind.is_time]
    preferred = [layout.key[0]] if layout.key[0] in times else times
    for name in preferred:
        trend = growth(name, statistics[name], facts.rows)
        if trend is not None:
            return trend
    raise UsageError(
        f"the growth of {found.spelling} is not known",
        found="it has no time column whose statistics follow the order of its rows",
        fix=f"run {session.traits.analyse.format(found.spelling)}, or leave --until out",
    )


def _is_along(layout: Layout, trend: Growth) -> bool:
    return layout.key[0] == trend.column


def _looked_out(seen: LayoutPreview, trend: Growth, until: datetime) -> Forecast:
    layout, kind = seen.layout, seen.key[0].kind
    kept = seen.sized
    if layout.keep is not None and layout.by is By.RANGE:
        limit = cutoff(layout, as_key(until, kind, ZoneInfo(layout.zone)))
        kept = tuple(each for each in kept if not is_past(each.top.bounds, limit))
    if not kept:
        raise LayoutError(f"no partition of {layout.table} is left by {until.date()}", fix="check `keep` in the layout")
    retired = len({each.top.name for each in seen.sized}) - len({each.top.name for each in kept})
    rows = [each.rows or 0 for each in kept]
    if layout.by is By.RANGE:
        tops: dict[str, Expected] = {}
        of_top: dict[str, int] = {}
        for each in kept:
            of_top[each.top.name] = of_top.get(each.top.name, 0) + (each.rows or 0)
        for each in kept:
            known = of_top[each.top.name]
            tops[each.top.name] = expected_in(each.top.bounds, known, trend, until, ZoneInfo(layout.zone))
        expected = [
            _part(tops[each.top.name], _share(each.rows or 0, of_top[each.top.name], len(each.top.leaves)))
            for each in kept
        ]
    else:
        expected = grown(rows, trend, until)
    outlook = Outlook(until, trend, tuple(expected), retired, steady_rows(layout, trend, until))
    return Forecast(replace(seen, sized=kept), outlook)


def _share(rows: int, of_top: int, leaves: int) -> float:
    """Of a partition's rows in one of its own partitions: as they lie now, evenly where there are none yet."""
    return rows / of_top if of_top else 1 / leaves


def _part(whole: Expected, share: float) -> Expected:
    return Expected(round(whole.rows * share), round(whole.low * share), round(whole.high * share))
