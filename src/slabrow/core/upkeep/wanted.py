"""What a layout wants to hold, against what there is: what no longer does, since when, and what to change (N59)."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from shlex import quote

from slabrow.core.table.bounds import Range
from slabrow.core.table.layout import Layout, Wanted
from slabrow.core.table.spans import Span, Unit
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.findings import Finding
from slabrow.core.values.method import By
from slabrow.core.values.wording import count, share, size

# The next narrower span, and the next wider one.
_NARROWER = {
    Unit.YEAR: "1 quarter",
    Unit.QUARTER: "1 month",
    Unit.MONTH: "1 week",
    Unit.WEEK: "1 day",
    Unit.DAY: "1 hour",
}
_WIDER = {Unit.HOUR: "1 day", Unit.DAY: "1 week", Unit.WEEK: "1 month", Unit.MONTH: "1 quarter", Unit.QUARTER: "1 year"}
_DAYS = {Unit.HOUR: 1 / 24, Unit.DAY: 1.0, Unit.WEEK: 7.0, Unit.MONTH: 30.44, Unit.QUARTER: 91.3, Unit.YEAR: 365.25}
_AHEAD_DAYS = 366.0  # what will not hold within a year is said


@dataclass(frozen=True, slots=True)
class PrunedShare:
    """The share of a table's runs that leave at least one partition out. since: when the statistics begin."""

    share: float
    runs: float
    since: datetime | None
    widest: str = ""  # the weightiest shape that prunes nothing


def unmet(wanted: Wanted, layout: Layout, tree: Tree, now: datetime, pruned: PrunedShare | None) -> tuple[Finding, ...]:
    """The wishes that do not hold, and those that will not hold within a year at the growth that the partitions show.

    pruned   None where the server's statement statistics do not tell
    """
    return (
        *_size(wanted, layout, tree, now),
        *_number(wanted, layout, tree, now),
        *_pruning(wanted, layout, pruned),
    )


def _size(wanted: Wanted, layout: Layout, tree: Tree, now: datetime) -> Iterator[Finding]:
    if wanted.size is None or not tree.leaves:
        return
    largest = max(tree.leaves, key=lambda leaf: leaf.bytes)
    too_large = [leaf for leaf in tree.leaves if leaf.bytes > wanted.size]
    what = f"at most {size(wanted.size)} in a partition"
    change = _smaller(layout)
    if too_large:
        first = min((begin for leaf in too_large if (begin := _begin(leaf)) is not None), default=None)
        since = f", the first begins on {first:%Y-%m-%d}" if first is not None else ""
        number = "1 partition is" if len(too_large) == 1 else f"{count(len(too_large))} partitions are"
        yield Finding(
            "too_large",
            f"{what} no longer holds: {number} larger{since}; {largest.spelling} has {size(largest.bytes)}. {change}",
            largest.spelling,
        )
        return
    when = _size_reached(tree, wanted.size, now)
    if when is not None:
        yield Finding(
            "too_large_soon",
            f"{what} will no longer hold from about {when:%Y-%m-%d} on, as the partitions grow. {change}",
            largest.spelling,
        )


def _number(wanted: Wanted, layout: Layout, tree: Tree, now: datetime) -> Iterator[Finding]:
    if wanted.partitions is None:
        return
    number = len(tree.leaves)
    what = f"at most {count(wanted.partitions)} partitions"
    change = _fewer(layout)
    a_day = _new_a_day(layout, tree)
    if number > wanted.partitions:
        since = ""
        if a_day:
            since = f", since about {now - timedelta(days=(number - wanted.partitions) / a_day):%Y-%m-%d}"
        yield Finding("too_many", f"{what} no longer holds: there are {count(number)}{since}. {change}")
        return
    if not a_day or _settles_below(wanted.partitions, layout, a_day):
        return
    days = (wanted.partitions - number) / a_day
    if days <= _AHEAD_DAYS:
        yield Finding(
            "too_many_soon",
            f"{what} will no longer hold from about {now + timedelta(days=days):%Y-%m-%d} on: there are "
            f"{count(number)}, and {a_day * 30.44:.3g} come a month. {change}",
        )


def _pruning(wanted: Wanted, layout: Layout, pruned: PrunedShare | None) -> Iterator[Finding]:
    if wanted.pruned is None:
        return
    what = f"{share(wanted.pruned)} of the runs prune"
    if pruned is None:
        yield Finding(
            "pruning_unknown",
            f"whether {what} cannot be told: the server has no statement statistics that this role may read, or none "
            "of this table",
        )
    elif pruned.share < wanted.pruned:
        since = f" since {pruned.since:%Y-%m-%d}" if pruned.since is not None else ""
        first = f", most of all {pruned.widest}" if pruned.widest else ""
        yield Finding(
            "not_pruning",
            f"{what} no longer holds: {share(pruned.share)} of {count(pruned.runs)} runs a day{since} did{first}. "
            f"`slabrow weigh {_shell(layout)} --statistics` says which key they ask for, `slabrow prove` what to write",
        )


def _smaller(layout: Layout) -> str:
    """What to write for smaller partitions, and the command that does it."""
    inner = layout.within
    convert = f"`slabrow convert {_shell(layout)}` does it, live"
    if layout.by is By.HASH and layout.parts:
        return f"parts = {2 * layout.parts} would halve them: {convert}"
    if inner is not None and inner.by is By.HASH and inner.parts:
        return f"within.parts = {2 * inner.parts} would halve them: {convert}"
    if layout.by is By.RANGE and layout.span is not None:
        if layout.span.unit is Unit.NUMBER:
            return f"span = {max(1, layout.span.count // 2)} would halve them: {convert}"
        narrower = f"1 {layout.span.unit}" if layout.span.count > 1 else _NARROWER.get(layout.span.unit)
        if narrower is not None:
            return f'span = "{narrower}" makes smaller ones: {convert}; `slabrow split` divides single ones'
    return f"`slabrow split` divides single ones, `slabrow weigh {_shell(layout)} --size …` looks for another key"


def _fewer(layout: Layout) -> str:
    convert = f"`slabrow convert {_shell(layout)}` does it, live"
    if layout.by is By.RANGE and layout.span is not None and layout.span.unit in _WIDER:
        wider = _WIDER[layout.span.unit]
        if layout.coarsen is None and layout.within is None:
            return (
                f'coarsen = {{ after = "3 months", span = "{wider}" }} lets `slabrow tend --go` merge the old ones; '
                f'or span = "{wider}": {convert}'
            )
        return f'span = "{wider}" makes fewer: {convert}'
    if layout.by is By.RANGE and layout.span is not None:
        return f"span = {2 * layout.span.count} makes half as many: {convert}"
    if layout.by is By.HASH and layout.parts and layout.parts > 2:
        return f"parts = {layout.parts // 2} makes half as many: {convert}"
    return f"`slabrow merge` joins single ones, `slabrow weigh {_shell(layout)} --ceiling …` looks for another key"


def _shell(layout: Layout) -> str:
    """The table as a command line takes it: whoever named the table must not run anything."""
    return quote(str(layout.table))


def _begin(leaf: Partition) -> datetime | None:
    if not isinstance(leaf.bounds, Range) or not leaf.bounds.from_:
        return None
    return _moment(leaf.bounds.from_[0])


def _moment(value: object) -> datetime | None:
    if isinstance(value, datetime):
        return value if value.tzinfo else value.replace(tzinfo=UTC)
    return datetime.combine(value, time(), UTC) if isinstance(value, date) else None


def _size_reached(tree: Tree, limit: int, now: datetime) -> datetime | None:
    """When a whole partition will be larger, on the straight line through those that are complete; None: not soon."""
    points = []
    for leaf in tree.leaves:
        bounds = leaf.bounds
        if not isinstance(bounds, Range) or not bounds.to or not leaf.bytes or leaf.parent != tree.spelling:
            continue
        begin, end = _begin(leaf), _moment(bounds.to[0])
        if begin is not None and end is not None and end <= now:
            points.append(((begin - now).total_seconds() / 86_400, float(leaf.bytes)))
    slope, at_now = _line(points)
    if slope <= 0 or len(points) < 4:
        return None
    days = (limit - at_now) / slope
    return now + timedelta(days=max(0.0, days)) if days <= _AHEAD_DAYS else None


def _line(points: Sequence[tuple[float, float]]) -> tuple[float, float]:
    """Slope and height at 0 of the straight line through points by least squares."""
    if len(points) < 2:
        return 0.0, 0.0
    mean_x = sum(x for x, _ in points) / len(points)
    mean_y = sum(y for _, y in points) / len(points)
    spread = sum((x - mean_x) ** 2 for x, _ in points)
    slope = sum((x - mean_x) * (y - mean_y) for x, y in points) / spread if spread else 0.0
    return slope, mean_y - slope * mean_x


def _new_a_day(layout: Layout, tree: Tree) -> float:
    """Leaves that come a day; 0 where their number does not move with time."""
    span = layout.span
    if layout.by is not By.RANGE or span is None or span.unit is Unit.NUMBER:
        return 0.0
    return max(1.0, len(tree.leaves) / max(1, len(tree.children))) / (span.count * _DAYS[span.unit])


def _settles_below(most: int, layout: Layout, a_day: float) -> bool:
    """Whether `keep` holds the number below."""
    kept = _days(layout.keep)
    return kept is not None and (kept + (_days(layout.ahead) or 0.0)) * a_day + 1 <= most


def _days(span: Span | None) -> float | None:
    return None if span is None or span.unit is Unit.NUMBER else span.count * _DAYS[span.unit]
