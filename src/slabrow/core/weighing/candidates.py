"""The layouts that are weighed: found from the conditions of the workload and the values of the columns."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from math import inf

from slabrow.core.hashing.hash_encoding import parse_types
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.layout import Coarsen, Group, Layout
from slabrow.core.table.spans import Span, Unit
from slabrow.core.upkeep.planned_partitions import MOST_PARTITIONS
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Kind, Value
from slabrow.core.values.method import By
from slabrow.core.values.names import slug
from slabrow.core.values.wording import share
from slabrow.core.weighing.coarser import MANY, NEXT
from slabrow.core.weighing.workload_reading import Usage

SPANS = (
    Span(1, Unit.HOUR), Span(1, Unit.DAY), Span(1, Unit.WEEK), Span(1, Unit.MONTH), Span(1, Unit.QUARTER),
    Span(1, Unit.YEAR),
)  # fmt: skip
PARTS = (2, 4, 8, 16, 32, 64, 128, 256)
MOST_CANDIDATES = 64
MOST_LISTED = 50  # values with a partition of their own
GIANT = 0.05  # the share of all rows from which on one value deserves a partition of its own (N08)
_APPROXIMATE_DAYS = {Unit.HOUR: 1 / 24, Unit.DAY: 1.0, Unit.WEEK: 7.0, Unit.MONTH: 30.4, Unit.QUARTER: 91.3,
                     Unit.YEAR: 365.25}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Wishes:
    """The wishes of the person: keys to add, columns to exclude, limits.

    keys, bys, spans, parts   added to what is found; with keys, nothing is found beyond them
    barred    columns that no candidate may have in its key
    keep      how long rows are kept, for layouts along time
    target_bytes   the most that a partition should hold
    memory_bytes   that tables and indexes can be found in; None: as the server's settings say
    grown     the table is weighed with so many times the rows, too
    as_of     the table is weighed as it will be on that day, too
    ceiling   the most partitions
    """

    keys: tuple[tuple[str, ...], ...] = ()
    bys: tuple[By, ...] = ()
    spans: tuple[Span, ...] = ()
    parts: tuple[int, ...] = ()
    barred: frozenset[str] = frozenset()
    keep: Span | None = None
    target_bytes: int | None = None
    memory_bytes: int | None = None
    grown: float | None = None
    as_of: datetime | None = None
    ceiling: int = 1_000
    zone: str = "UTC"


@dataclass(frozen=True, slots=True)
class Ageing:
    """How much a column is one along which data ages, 0 to 1, and why (N05)."""

    column: str
    score: float
    reasons: tuple[str, ...] = field(default=())


def ageing(facts: TableFacts, used: Mapping[str, Usage], weight: float) -> tuple[Ageing, ...]:
    """Time-like and ever-growing columns, the likeliest first.

    Rows are written in the order of such a column, so its correlation with their place in the table is near 1;
    queries ask for ranges of it; and its values hardly repeat, or only within a day.
    """
    found = []
    for name, column in facts.columns.items():
        seen = facts.statistics.get(name)
        if seen is None or not (column.kind.is_time or column.kind is Kind.INTEGER):
            continue
        correlation = seen.correlation or 0.0
        ranged = used[name].ranged / weight if weight and name in used else 0.0
        grows = (seen.distinct or 0) > 20
        if not column.kind.is_time and (correlation < 0.95 or (seen.distinct or 0) < facts.rows * 0.5):
            continue
        if not grows or (correlation < 0.5 and not ranged):
            continue
        score = 0.5 * max(0.0, correlation) + 0.3 * min(1.0, 2 * ranged) + 0.2 * column.kind.is_time
        reasons = [f"rows are stored in the order of this column (correlation {correlation:.2f})"]
        if ranged:
            reasons.append(f"{share(ranged)} of the workload asks for ranges of it")
        found.append(Ageing(name, round(score, 3), tuple(reasons)))
    return tuple(sorted(found, key=lambda each: -each.score))


@dataclass(frozen=True, slots=True)
class Candidates:
    """Layouts to weigh, and what was not weighed, each with the reason."""

    layouts: tuple[Layout, ...]
    left_out: tuple[tuple[str, str], ...]


def candidates(
    facts: TableFacts, used: Mapping[str, Usage], pairs: Mapping[frozenset[str], float], wishes: Wishes
) -> Candidates:
    """Layouts to weigh, the most promising kinds first, at most MOST_CANDIDATES of those that were found.

    pairs   runs a day by the set of columns that a run pins by = at once
    """
    finder = _Finder(facts, used, pairs, wishes)
    why = finder.why
    found = list(finder.wished() if wishes.keys else finder.found())
    kept: dict[str, Layout] = {}
    for layout in found:
        if wishes.bys and layout.by not in wishes.bys:
            why.setdefault(f"{layout.by} of any kind", "--by asks for others")
            continue
        if barred := (set(layout.key) | set(layout.within.key if layout.within else ())) & wishes.barred:
            why.setdefault(f"keys with {', '.join(sorted(barred))}", "--not bars them")
            continue
        kept.setdefault(str(layout), layout)
    layouts = tuple(kept.values())
    if not wishes.keys and len(layouts) > MOST_CANDIDATES:
        rest = len(layouts) - MOST_CANDIDATES
        why[f"{rest} more"] = (
            f"{MOST_CANDIDATES} are weighed at a time: ask for them with --key, --by, --span or --parts"
        )
        layouts = layouts[:MOST_CANDIDATES]
    return Candidates(layouts, tuple(why.items()))


@dataclass(frozen=True, slots=True)
class _Finder:
    facts: TableFacts
    used: Mapping[str, Usage]
    pairs: Mapping[frozenset[str], float]
    wishes: Wishes
    why: dict[str, str] = field(default_factory=dict)

    def wished(self) -> Iterator[Layout]:
        """Every way to divide by the columns that were named."""
        for key in self.wishes.keys:
            for name in key:
                if name not in self.facts.columns:
                    raise UsageError(
                        f"{self.facts.spelling} has no column {name}",
                        found=f"its columns are {', '.join(self.facts.columns)}",
                    )
            if len(key) == 1:
                yield from self.ranges(key[0])
                yield from self.lists(key[0])
                yield from self.giants(key[0])
            yield from self.hashes(key)
        single = [key[0] for key in self.wishes.keys if len(key) == 1]
        for name in single:
            if self._is_rangeable(name):
                yield from self.divided([name], [other for other in single if other != name])

    def found(self) -> Iterator[Layout]:
        by_use = sorted(self.used, key=lambda name: -self.used[name].pinned)
        ranged = [name for name in by_use if self.used[name].ranged and self._is_rangeable(name)]
        aged = [each.column for each in ageing(self.facts, self.used, 1.0) if each.score > 0.4]
        moving = list(
            dict.fromkeys([*[name for name in aged if self.facts.columns[name].kind.is_time], *ranged, *aged])
        )
        pinned = [name for name in by_use if self.used[name].equal or self.used[name].joined]
        for name in moving[:3]:
            yield from self.ranges(name)
        for name in pinned[:4]:
            yield from self.lists(name)
        for name in pinned[:4]:
            yield from self.giants(name)
        # Within a span, what the workload asks for by =.
        yield from self.divided(moving[:1], [name for name in pinned if name not in moving[:1]][:2])
        for name in pinned[:3]:
            yield from self.hashes((name,))
        for pair in self._common_pairs():
            yield from self.hashes(pair)
        for what, names, most in (("ranges", moving, 3), ("lists and hashes", pinned, 4)):
            if names[most:]:
                self.why[f"{what} of {', '.join(names[most:])}"] = "the workload asks for others more often"
        idle = [name for name in self.facts.columns if name not in moving and name not in pinned]
        if idle:
            self.why[f"keys with {', '.join(idle)}"] = "the workload never pins them, and rows do not age along them"

    def _is_rangeable(self, name: str) -> bool:
        return self.facts.columns[name].kind.is_time or self.facts.columns[name].kind is Kind.INTEGER

    def _common_pairs(self) -> list[tuple[str, ...]]:
        twos = sorted((weight, tuple(sorted(columns))) for columns, weight in self.pairs.items() if len(columns) == 2)
        return [columns for _, columns in reversed(twos)][:2]

    def ranges(self, name: str) -> Iterator[Layout]:
        column, seen = self.facts.columns[name], self.facts.statistics.get(name)
        if seen is None or seen.low is None or seen.high is None or not self._is_rangeable(name):
            return
        for span, is_coarse in self._spans(column.kind, seen):
            # A scheduler that stands still for a morning must not leave new rows without a home.
            ahead = Span(2, Unit.DAY) if span.unit is Unit.HOUR else Span(span.count * 3, span.unit)
            keep = self.wishes.keep
            if keep is not None and (keep.unit is Unit.NUMBER) is not (span.unit is Unit.NUMBER):
                keep = None
            if keep is not None and _days(keep) is not None and (_days(keep) or 0) < (_days(span) or 0):
                # A partition that spans more than the time to keep can never be dropped whole.
                self.why[f"range ({name}) in spans of {span}"] = f"it is longer than the {keep} that rows are kept"
                continue
            yield Layout(
                self.facts.name,
                By.RANGE,
                (name,),
                span=span,
                zone=self.wishes.zone,
                ahead=ahead,
                keep=keep,
                coarsen=Coarsen(NEXT[span.unit][1], NEXT[span.unit][0]) if is_coarse else None,
                # NULL keys have no other home.
                catch_all=seen.null_share > 0 or column.name not in self.facts.not_null,
            )

    def _spans(self, kind: Kind, seen: ColumnStatistics) -> Iterable[tuple[Span, bool]]:
        """Spans, and whether old partitions become wider ones (`coarsen`)."""
        given = [span for span in self.wishes.spans if (span.unit is Unit.NUMBER) is (kind is Kind.INTEGER)]
        if given:
            return [(span, False) for span in given]
        width = _width(seen.low, seen.high)
        if width <= 0:
            return ()
        if kind is Kind.INTEGER:
            return [(span, False) for span in self._number_spans(width)]
        spans = SPANS[1:] if kind is Kind.DATE else SPANS
        kept_days = _days(self.wishes.keep) if self.wishes.keep else None
        most = max(width, kept_days or 0)
        found: list[tuple[Span, bool]] = []
        for span in spans:
            number = most / _APPROXIMATE_DAYS[span.unit]
            if number >= MANY and self._coarse_number(span, most) <= min(self.wishes.ceiling, number / 2):
                found.append((span, True))
            if number > self.wishes.ceiling:
                self.why[f"range ({seen.name}) in spans of {span}"] = (
                    f"{number:,.0f} partitions, more than the {self.wishes.ceiling:,} of --ceiling"
                )
            elif width / _APPROXIMATE_DAYS[span.unit] >= 1.5:
                found.append((span, False))
        return found

    @staticmethod
    def _coarse_number(span: Span, days: float) -> float:
        """About how many partitions there are once old ones have become wider; very many where none would."""
        if span.unit not in NEXT or days / _APPROXIMATE_DAYS[span.unit] > MOST_PARTITIONS:
            return inf
        wide, after = NEXT[span.unit]
        narrow = (_days(after) or 0.0) + (_days(wide) or 0.0)
        if days <= narrow:
            return inf
        return narrow / _APPROXIMATE_DAYS[span.unit] + (days - narrow) / (_days(wide) or 1.0)

    def _number_spans(self, width: float) -> list[Span]:
        """Round widths that give about 8, 16, 32, 64 and 128 partitions."""
        spans: list[Span] = []
        for count in (8, 16, 32, 64, 128):
            if count <= self.wishes.ceiling and width / count >= 1:
                spans.append(Span(_round_up(width / count), Unit.NUMBER))
        return list(dict.fromkeys(spans))

    def lists(self, name: str) -> Iterator[Layout]:
        seen = self.facts.statistics.get(name)
        if seen is None or not seen.common or not self._is_listable(name):
            return
        distinct = seen.distinct or len(seen.common)
        if distinct > MOST_LISTED:
            self.why[f"list ({name}), a partition for each value"] = (
                f"{distinct:,.0f} values, and as many partitions: hash shares a few of them"
            )
        values = [value for value, _ in seen.common]
        if distinct <= min(MOST_LISTED, self.wishes.ceiling):
            yield self._listed(name, [[value] for value in values], seen)
        if 6 <= distinct <= 1_000 and len(seen.common) >= 4:
            # A few values dominate: they get partitions of their own, the others share one.
            big = [value for value, share in seen.common if share >= 1.5 / distinct and share >= 0.02][:12]
            if 2 <= len(big) < distinct:
                yield self._listed(name, [[value] for value in big], seen)

    def _listed(self, name: str, groups: Sequence[Sequence[Value]], seen: ColumnStatistics) -> Layout:
        """Values beyond the groups, and NULL, go to the catch-all."""
        made = tuple(Group(_group_name(values), tuple(map(_plain, values))) for values in groups)
        return Layout(self.facts.name, By.LIST, (name,), groups=_unlike(made), catch_all=True)

    def _is_listable(self, name: str) -> bool:
        return self.facts.columns[name].kind in (Kind.INTEGER, Kind.TEXT)

    def giants(self, name: str) -> Iterator[Layout]:
        """Big tenants alone, and the long tail hashed (N08)."""
        seen = self.facts.statistics.get(name)
        if seen is None or not self._is_listable(name) or not self._is_hashable((name,)):
            return
        distinct = seen.distinct or 0
        big = [value for value, share in seen.common if share >= GIANT][:12]
        if not big or distinct < 4 * len(big) + 8:
            return
        listed = self._listed(name, [[value] for value in big], seen)
        for parts in self.wishes.parts or (8, 16, 32):
            if len(big) + parts <= self.wishes.ceiling:
                tail = Layout(self.facts.name, By.HASH, (name,), parts=parts)
                yield replace(listed, within=tail)

    def hashes(self, key: tuple[str, ...]) -> Iterator[Layout]:
        if not self._is_hashable(key):
            return
        distinct = 1.0
        for name in key:
            seen = self.facts.statistics.get(name)
            distinct *= (seen.distinct or 1.0) if seen else 1.0
        for parts in self.wishes.parts or PARTS:
            # Fewer than four values a part, and parts stay empty or uneven.
            if 2 <= parts <= self.wishes.ceiling and (distinct >= 4 * parts or self.wishes.parts):
                yield Layout(self.facts.name, By.HASH, key, parts=parts)
            elif parts <= self.wishes.ceiling:
                self.why.setdefault(
                    f"hash ({', '.join(key)}) in {parts} parts and more", f"{distinct:,.0f} values would not fill them"
                )

    def _is_hashable(self, key: tuple[str, ...]) -> bool:
        try:
            for name in key:
                parse_types(self.facts.columns[name].type_name)
        except UsageError:
            self.why[f"hash ({', '.join(key)})"] = f"{name} is of a type whose hash is not known here"
            return False
        return True

    def divided(self, moving: Sequence[str], pinned: Sequence[str]) -> Iterator[Layout]:
        """A range whose spans are divided by what the workload pins: hashed, or a partition for each common value."""
        for name in moving:
            spans = [
                layout
                for layout in self.ranges(name)
                if layout.coarsen is None and layout.span and layout.span.unit is not Unit.HOUR
            ]
            for other in pinned:
                for inner in self._inner(other):
                    many = inner.parts or len(inner.groups) + 1
                    for layout in spans[-4:]:
                        if self._count(layout) * many <= self.wishes.ceiling:
                            yield replace(layout, within=inner)
                        else:
                            what = f"range ({name}) in spans of {layout.span}, each by {inner.by} ({other})"
                            self.why.setdefault(what, f"{many} and more in each are more than --ceiling allows")

    def _inner(self, other: str) -> Iterator[Layout]:
        seen = self.facts.statistics.get(other)
        if seen is not None and seen.common and self._is_listable(other):
            values = [value for value, _ in seen.common]
            if (seen.distinct or 99) > 12:
                values = [value for value, share in seen.common if share >= GIANT][:12]
            if values:
                yield self._listed(other, [[value] for value in values], seen)
        distinct = (seen.distinct if seen else None) or 0.0
        if self._is_hashable((other,)):
            for parts in self.wishes.parts or (4, 8, 16):
                if distinct >= 4 * parts or self.wishes.parts:
                    yield Layout(self.facts.name, By.HASH, (other,), parts=parts)

    def _count(self, layout: Layout) -> float:
        """About how many spans there are."""
        seen = self.facts.statistics.get(layout.key[0])
        width = _width(seen.low, seen.high) if seen is not None else 0.0
        span = layout.span
        assert span is not None
        each = span.count * (1.0 if span.unit is Unit.NUMBER else _APPROXIMATE_DAYS[span.unit])
        return width / each + 1


def _days(span: Span | None) -> float | None:
    return None if span is None or span.unit is Unit.NUMBER else span.count * _APPROXIMATE_DAYS[span.unit]


def _width(low: Value | None, high: Value | None) -> float:
    """In days for times, in steps for numbers."""
    match low, high:
        case datetime(), datetime():
            return (high - low).total_seconds() / 86_400
        case date(), date():
            return float((high - low).days)
        case int(), int():
            return float(high - low)
        case _:
            return 0.0


def _round_up(width: float) -> int:
    """To 1, 2 or 5 times a power of ten."""
    power = int("1" + "0" * (len(str(int(width))) - 1))
    return next(step * power for step in (1, 2, 5, 10) if step * power >= width)


def _plain(value: Value) -> str | int:
    return value if isinstance(value, int) and not isinstance(value, bool) else str(value)


def _group_name(values: Sequence[Value]) -> str:
    return "_".join(slug(str(value)) for value in values) or "empty"


def _unlike(groups: tuple[Group, ...]) -> tuple[Group, ...]:
    """Names that differ: two values may have one slug."""
    seen: dict[str, int] = {}
    made = []
    for group in groups:
        count = seen[group.name] = seen.get(group.name, 0) + 1
        made.append(group if count == 1 else replace(group, name=f"{group.name}_{count}"))
    return tuple(made)
