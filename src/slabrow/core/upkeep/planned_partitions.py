"""The partitions that a layout asks for: their bounds and their names."""

from collections.abc import Container, Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from functools import lru_cache
from itertools import pairwise
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, spell_bounds, spell_key
from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Grid, shifted, suffix
from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Edge, Far, Key, Kind, Value, order, spell, spell_local
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, fit, slug, unused

# Planning cost, locks and files grow with every partition; ten thousand is far more than was ever useful.
MOST_PARTITIONS = 10_000


@dataclass(frozen=True, slots=True)
class Planned:
    """A partition that does not exist yet. name is without its schema, which is the table's.

    inner   its own partitions, where the layout has a `within`
    """

    name: str
    bounds: Bounds
    inner: tuple["Planned", ...] = ()

    @property
    def leaves(self) -> tuple["Planned", ...]:
        """Itself, or the partitions that it is divided into."""
        return self.inner or (self,)


@dataclass(frozen=True, slots=True)
class Namer:
    """Gives every bound of one layout its name, within the server's limit and never twice."""

    layout: Layout
    kind: Kind
    limit: int
    taken: Container[str] = ()

    def name(self, bounds: Bounds, label: str | None = None, also_taken: Container[str] = ()) -> str:
        """label   the group's name, for a list partition that has one"""
        ending = label if label is not None else self._ending(bounds)
        return self._unused(self._fitted(ending), spell_bounds(bounds), also_taken)

    def _ending(self, bounds: Bounds) -> str:
        layout = self.layout
        match bounds:
            case Range(from_=None, to=None):
                return "all"
            case Range(from_=None, to=to) if to is not None:
                return "until_" + self._range_ending(to)
            case Range(from_=from_) if from_ is not None:
                return self._range_ending(from_)
            case Listed(values=values):
                return "_".join(slug(spell(value)) for value in values)
            case Hashed(modulus=modulus, remainder=remainder):
                return f"m{modulus}r{remainder:0{max(2, len(str(modulus - 1)))}d}"
            case CatchAll():
                return "rest"
            case _:
                raise TypeError(f"{bounds} of {layout.table} has no name")

    def _range_ending(self, end: Key) -> str:
        span = self.layout.span
        if span is None or isinstance(end[0], Edge):
            return slug(spell_key(end))
        return suffix(span, self.kind, end[0], ZoneInfo(self.layout.zone))

    def _fitted(self, ending: str) -> str:
        before, after = self.layout.partition_name.split("{bound}", 1)
        stem = before.replace("{table}", self.layout.table.table)
        # The bound and what follows it stay whole; only the table's part may be cut.
        cut = len(stem) - len(stem.rstrip("_"))
        return fit(
            stem[: len(stem) - cut], "_" * cut + ending + after.replace("{table}", self.layout.table.table), self.limit
        )

    def _unused(self, name: str, what: str, also_taken: Container[str]) -> str:
        taken = _Either(self.taken, also_taken)
        return unused(name, what, taken, self.limit)


@dataclass(frozen=True, slots=True)
class _Either(Container[str]):
    one: Container[str]
    other: Container[str]

    def __contains__(self, name: object) -> bool:
        return name in self.one or name in self.other


def as_key(now: datetime | int, kind: Kind, zone: ZoneInfo) -> Value:
    """The clock as a value of the key: an instant, the zone's wall clock, its date, or for a numeric key the number.

    Raises LayoutError when the key is not one that time or numbers move along.
    """
    match now, kind:
        case int(), Kind.INTEGER:
            return now
        case datetime(), Kind.TIMESTAMPTZ:
            return now.astimezone(UTC)
        case datetime(), Kind.TIMESTAMP:
            return now.astimezone(zone).replace(tzinfo=None)
        case datetime(), Kind.DATE:
            return now.astimezone(zone).date()
        case _:
            raise LayoutError(f"a key of type {kind} does not move with the clock", fix="partition it by list or hash")


def number_now(high: Value | None) -> int:
    """Where a key of whole numbers has got to: its greatest value; 0 before the first row."""
    return high if isinstance(high, int) else 0


def cutoff(layout: Layout, here: Value) -> Value | None:
    """Keys below this are past `keep`; None without `keep`."""
    return None if layout.keep is None else shifted(here, layout.keep, -1, ZoneInfo(layout.zone))


def last_slot(layout: Layout, grid: Grid, here: Value) -> int:
    """The last slot that `ahead` asks for: the one that holds the last key before `here` + `ahead`."""
    if layout.ahead is None:
        return grid.index(here)
    if layout.is_ahead_by_growth:
        return grid.index(here) + 1  # the rate of growth is watched by core/upkeep/number_growth.py
    limit = shifted(here, layout.ahead, 1, ZoneInfo(layout.zone))
    slot = grid.index(limit)
    return slot - 1 if grid.start(slot) == limit else slot


def ahead_of(here: Value, ranges: Iterable[Range]) -> int:
    """How many of the ranges begin beyond `here`."""
    return sum(held.from_ is not None and order(held.from_[:1]) > order((here,)) for held in ranges)


@lru_cache(maxsize=16)
def slots(grid: Grid, first: int, last: int, width: int) -> tuple[Range, ...]:
    """The ranges of the slots `first` to `last`, both included, for a key of `width` columns.

    A slot without a single key is left out: days that a zone skipped when it crossed the date line.
    Kept for the next table: many have the same ones.
    """
    if last - first >= MOST_PARTITIONS:
        raise LayoutError(
            f"spans of {grid.span} from {spell(grid.start(first))} to {spell(grid.start(last))} "
            f"are {last - first + 1:,} partitions",
            fix=f"take a wider span or a later `from`: the limit is {MOST_PARTITIONS:,}",
        )
    tail: tuple[Value, ...] = (Edge.MINVALUE,) * (width - 1)
    edges = [grid.start(slot) for slot in range(first, last + 2)]
    return tuple(Range((start, *tail), (end, *tail)) for start, end in pairwise(edges) if start != end)


def due_ranges(
    layout: Layout, kinds: tuple[Kind, ...], now: datetime | int, low: Value | None, high: Value | None
) -> list[Range]:
    """The range partitions for a table whose leading key lies between `low` and `high` (None: no rows).

    They begin with `from`, else with the slot of `low`, else of `now`; they end with `ahead`, or with the slot of
    `high` when that lies further on and there is no catch-all to hold it.
    """
    grid = layout.grid(kinds[0])
    here = as_key(now, kinds[0], grid.zone)
    start = layout.start(kinds[0])
    finite_low = here if low is None or isinstance(low, Edge | Far) else low
    first = grid.index(start if start is not None else _lower(finite_low, here))
    last = max(last_slot(layout, grid, here), first)
    if high is not None and not isinstance(high, Edge | Far) and not layout.catch_all:
        last = max(last, grid.index(high))
    ranges = list(slots(grid, first, last, len(kinds)))
    if layout.open_below:
        ranges.insert(0, Range(None, ranges[0].from_))
    return ranges


def _lower(one: Value, other: Value) -> Value:
    return one if order((one,)) <= order((other,)) else other


def due_partitions(
    layout: Layout,
    kinds: tuple[Kind, ...],
    namer: Namer,
    *,
    now: datetime | int,
    low: Value | None = None,
    high: Value | None = None,
    values: tuple[Value | None, ...] = (),
) -> tuple[Planned, ...]:
    """Every partition that a table with this layout needs, the catch-all last.

    low, high   the leading key's least and greatest value in the rows there are
    values      for a list layout without groups: the values that the rows hold
    Partitions of partitions are left to `divided`. Raises LayoutError when the layout cannot be applied to such a key.
    """
    bounds: list[tuple[Bounds, str | None]] = []
    match layout.by:
        case By.RANGE:
            bounds += [(range_, None) for range_ in due_ranges(layout, kinds, now, low, high)]
        case By.HASH:
            bounds += [(Hashed(layout.parts or 0, remainder), None) for remainder in range(layout.parts or 0)]
        case By.LIST:
            bounds += list(list_bounds(layout, kinds[0], values))
    if layout.catch_all:
        bounds.append((CatchAll(), None))
    if not bounds:
        raise LayoutError(
            f"the layout of {layout.table} gives no partition",
            fix="add `groups`, or catch_all = true, or load rows first",
        )
    given: set[str] = set()
    planned = []
    for bound, label in bounds:
        name = namer.name(bound, label, also_taken=given)
        given.add(name)
        planned.append(Planned(name, bound))
    return tuple(planned)


def divided(planned: Iterable[Planned], layout: Layout, kinds: tuple[Kind, ...], limit: int) -> tuple[Planned, ...]:
    """The partitions with their own, as `within` asks. kinds: of the columns of the inner key."""
    within = layout.within
    if within is None:
        return tuple(planned)
    made = []
    for each in planned:
        if layout.divides_catch_all_only and not isinstance(each.bounds, CatchAll):
            made.append(each)
            continue
        inner = replace(within, table=Name(layout.table.schema, each.name), partition_name=layout.partition_name)
        # A list or a hash within does not move with the clock.
        made.append(replace(each, inner=due_partitions(inner, kinds, Namer(inner, kinds[0], limit), now=0)))
    return tuple(made)


def list_bounds(layout: Layout, kind: Kind, values: tuple[Value | None, ...]) -> Iterator[tuple[Listed, str | None]]:
    """The declared groups, or without any a partition for each value."""
    if layout.groups:
        for group in layout.groups:
            yield Listed(layout.group_values(group, kind)), group.name
        return
    for value in values:
        yield Listed((value,)), None


def is_past(bounds: Bounds, limit: Value | None) -> bool:
    """Whether every key that a partition can hold lies before `limit`."""
    if limit is None or not isinstance(bounds, Range) or bounds.to is None or bounds.is_opaque:
        return False
    return order(bounds.to[:1]) <= order((limit,))


@lru_cache(maxsize=16_384)
def on_grid(bounds: Range, grid: Grid) -> bool:
    """Whether the layout could have made a range: whole slots, or a piece within one slot."""
    holds = True
    for end in (bounds.from_, bounds.to):
        if end is None:
            continue
        if isinstance(end[0], Edge):
            return False
        holds = holds and grid.holds(end[0])
    if holds:
        return True
    if bounds.from_ is None or bounds.to is None:
        return False
    slot = grid.index(bounds.from_[0])
    return order(bounds.to[:1]) <= order((grid.start(slot + 1),))


def describe_clock(now: datetime | date | int) -> str:
    """`now` as messages quote it: to the second."""
    return spell_local(now.replace(microsecond=0), None) if isinstance(now, datetime) else str(now)
