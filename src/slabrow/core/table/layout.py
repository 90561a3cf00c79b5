"""A layout: what a table should be. Declared in a file, checked here, compared with the tree elsewhere."""

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time
from enum import StrEnum
from itertools import pairwise
from zoneinfo import ZoneInfo

from slabrow.core.table.spans import Grid, Span, Unit
from slabrow.core.values.errors import LayoutError, nearest
from slabrow.core.values.key_values import Kind, Value, parse_value
from slabrow.core.values.method import By
from slabrow.core.values.names import Name


class PastKeep(StrEnum):
    """The end of a partition that is older than `keep`."""

    DETACH = "detach"
    ARCHIVE = "archive"
    DROP = "drop"


class Analyse(StrEnum):
    """When upkeep takes fresh statistics of the table as a whole, unless a span says how old they may be."""

    AFTER_CHANGE = "after change"
    NEVER = "never"


class ArchiveForm(StrEnum):
    """The open format of an archive file."""

    PARQUET = "parquet"
    CSV = "csv"


@dataclass(frozen=True, slots=True)
class Group:
    """A list partition by name and the values it holds."""

    name: str
    values: tuple[str | int, ...]


@dataclass(frozen=True, slots=True)
class Coarsen:
    """Partitions that are older than `after` become wider ones, of this span."""

    after: Span
    span: Span


@dataclass(frozen=True, slots=True)
class Wanted:
    """What has to hold: `tend --check` says what no longer does. None where nothing is wanted.

    size         bytes of a partition at most
    partitions   their number at most
    pruned       the share of the runs that leave partitions out, at least, from 0 to 1
    """

    size: int | None = None
    partitions: int | None = None
    pruned: float | None = None


HERE = "here"  # among the servers of a layout: the one that has the table


@dataclass(frozen=True, slots=True)
class PlaceRule:
    """Partitions that are older than `after` lie in a tablespace, or on another server: one of the two is named."""

    after: Span
    tablespace: str = ""
    elsewhere: str = ""

    @property
    def target(self) -> str:
        """The name of either."""
        return self.tablespace or self.elsewhere


@dataclass(frozen=True, slots=True)
class Layout:
    """One `[[layout]]` of the layout file. Fields are as DESIGN §5 and docs/layout.md describe them.

    place          the youngest first
    at_most_moved  bytes that one run moves, at most; at least one partition is moved
    place_hours    from (in) and to (out), in `zone`
    servers        the parts of a hash lie on these servers in turn; HERE is the server of the table
    """

    table: Name
    by: By
    key: tuple[str, ...]
    span: Span | None = None
    parts: int | None = None
    groups: tuple[Group, ...] = ()
    zone: str = "UTC"
    from_: date | datetime | int | None = None
    ahead: Span | None = None
    keep: Span | None = None
    past_keep: PastKeep = PastKeep.DETACH
    detach_to: str | None = None
    archive_to: str | None = None
    archive_as: ArchiveForm = ArchiveForm.PARQUET
    at_most_retired: int = 3
    at_most_share: float = 0.5
    at_most_swept: int = 2_000_000
    catch_all: bool = False
    open_below: bool = False
    analyse: Analyse | Span = Analyse.AFTER_CHANGE
    coarsen: Coarsen | None = None
    place: tuple[PlaceRule, ...] = ()
    at_most_moved: int | None = None
    place_hours: tuple[time, time] | None = None
    wanted: Wanted | None = None
    servers: tuple[str, ...] = ()
    partition_name: str = "{table}_{bound}"
    within: "Layout | None" = None

    def faults(self) -> list[tuple[str, str]]:
        """Every contradiction, each as (the layout key at fault, what is wrong and what to do)."""
        faults = [*self._foreign_options(), *self._missing_options(), *self._doubtful_values()]
        if self.within is not None:
            faults += [("within", f"within: {text}") for _, text in self.within.faults()]
            faults += self._doubtful_within(self.within)
        return faults

    def _doubtful_within(self, within: "Layout") -> list[tuple[str, str]]:
        faults = []
        if within.within is not None:
            faults.append(("within", "partitions are divided once more at most: remove the inner `within`"))
        if within.by is By.LIST and not within.groups:
            faults.append(("within", "a list within needs its `groups`: the values of each partition are not known"))
        for option in ("ahead", "keep"):
            if getattr(within, option) is not None:
                faults.append(("within", f"`{option}` belongs to the layout, not to `within`: move it out"))
        if self.divides_catch_all_only and not self.catch_all:
            faults.append(("within", "the same key within divides only the catch-all: add catch_all = true"))
        if within.by is By.RANGE:
            faults.append(("within", "a range stands outside: partition by range, and put the list or hash within"))
        return faults

    def server_of(self, part: int) -> str | None:
        """The other server that a part of a hash lies on; None for this one."""
        name = self.servers[part % len(self.servers)] if self.servers else HERE
        return None if name == HERE else name

    @property
    def full_key(self) -> tuple[str, ...]:
        """The columns that every unique key must contain: those of `within` too."""
        inner = self.within.key if self.within is not None else ()
        return (*self.key, *(column for column in inner if column not in self.key))

    @property
    def divides_catch_all_only(self) -> bool:
        """Whether `within` is by the same key: a listed value cannot be divided by it, only what is not listed."""
        return self.within is not None and self.by is By.LIST and self.within.key == self.key

    def _foreign_options(self) -> list[tuple[str, str]]:
        only = {
            "span": (By.RANGE, self.span is not None),
            "ahead": (By.RANGE, self.ahead is not None),
            "keep": (By.RANGE, self.keep is not None),
            "detach_to": (By.RANGE, self.detach_to is not None),
            "archive_to": (By.RANGE, self.archive_to is not None),
            "from": (By.RANGE, self.from_ is not None),
            "open_below": (By.RANGE, self.open_below),
            "coarsen": (By.RANGE, self.coarsen is not None),
            "place": (By.RANGE, bool(self.place)),
            "parts": (By.HASH, self.parts is not None),
            "servers": (By.HASH, bool(self.servers)),
            "groups": (By.LIST, bool(self.groups)),
        }
        faults = [
            (option, f'`{option}` belongs to by = "{by}", but by is "{self.by}": remove one of them')
            for option, (by, given) in only.items()
            if given and by is not self.by
        ]
        if self.by is By.HASH and self.catch_all:
            faults.append(("catch_all", "a hash layout has no catch-all, its parts hold every key: remove `catch_all`"))
        return faults

    def _missing_options(self) -> list[tuple[str, str]]:
        faults = []
        if self.by is By.RANGE and self.span is None:
            faults.append(("by", 'a range layout needs a `span`, such as span = "1 month"'))
        if self.by is By.HASH and self.parts is None:
            faults.append(("by", "a hash layout needs `parts`, such as parts = 16"))
        if self.by is By.LIST and len(self.key) > 1:
            faults.append(("key", "a list layout has one key column: keep the first and remove the others"))
        return faults

    def _doubtful_coarsening(self) -> list[tuple[str, str]]:
        coarsen, span = self.coarsen, self.span
        if coarsen is None or span is None:
            return []
        numeric = span.unit is Unit.NUMBER
        if any((each.unit is Unit.NUMBER) != numeric for each in (coarsen.after, coarsen.span)):
            return [
                ("coarsen", "coarsen: `after` and `span` are counted as the layout's `span` is: in time, or in keys")
            ]
        if self.within is not None:
            return [
                ("coarsen", "partitions that are divided once more are not coarsened: remove `coarsen` or `within`")
            ]
        if (not numeric and _days(coarsen.span) <= _days(span)) or (numeric and coarsen.span.count <= span.count):
            return [("coarsen", f"coarsen: a span of {coarsen.span} is no wider than {span}: give a wider one")]
        return []

    def _doubtful_places(self) -> Iterator[tuple[str, str]]:
        numeric = self.span is not None and self.span.unit is Unit.NUMBER
        if any((rule.after.unit is Unit.NUMBER) != numeric for rule in self.place):
            yield "place", "place: `after` is counted as the layout's `span` is: in time, or in keys"
        else:
            ages = [rule.after.count if numeric else _days(rule.after) for rule in self.place]
            if any(one >= other for one, other in pairwise(ages)):
                yield "place", "place: the entries follow each other by age, the youngest first"
        for option in ("at_most_moved", "place_hours"):
            if getattr(self, option) is not None and not self.place:
                yield option, f"`{option}` belongs to `place`: add that, or remove it"
        if self.place_hours is not None and numeric:
            yield "place_hours", "hours are known of keys in time alone: remove `place_hours`"

    def _doubtful_values(self) -> list[tuple[str, str]]:
        faults = [*self._doubtful_coarsening(), *self._doubtful_places()]
        if self.servers and (self.within is not None or all(each == HERE for each in self.servers)):
            faults.append(("servers", "`servers` spreads the parts of a hash that is not divided further: name others"))
        if len(set(self.key)) != len(self.key):
            faults.append(("key", "a key column stands twice: remove one"))
        if self.parts is not None and self.parts < 2:
            faults.append(("parts", f"{self.parts} parts divide nothing: use 2 or more"))
        numeric = self.span is not None and self.span.unit is Unit.NUMBER
        for option, span in (("ahead", self.ahead), ("keep", self.keep)):
            # For a numeric key, a length of time means the number of keys that come in that time.
            by_growth = option == "ahead" and numeric
            if span is not None and self.span is not None and (span.unit is Unit.NUMBER) != numeric and not by_growth:
                faults.append((option, f"`{option}` is {span} but `span` is {self.span}: give both in the same kind"))
        held: dict[str | int, str] = {}
        for group in self.groups:
            for value in group.values:
                if value in held:
                    faults.append(("groups", f"{value!r} stands in {held[value]!r} and in {group.name!r}: keep one"))
                held[value] = group.name
        if self.past_keep is PastKeep.ARCHIVE and self.archive_to is None:
            faults.append(("past_keep", 'an archive needs a folder: add archive_to = "archive"'))
        if self.detach_to is not None and self.past_keep is not PastKeep.DETACH:
            faults.append(
                ("detach_to", f'nothing is detached where past_keep is "{self.past_keep}": remove one of them')
            )
        if self.at_most_swept < 1:
            faults.append(("at_most_swept", "a limit below 1 lets no row move: write how many rows may move at once"))
        if self.at_most_retired < 1:
            faults.append(("at_most_retired", "a limit below 1 lets nothing leave: remove `keep` for that"))
        if not 0 < self.at_most_share <= 1:
            faults.append(("at_most_share", "a share lies above 0 and is at most 1: 0.5 is half of the rows"))
        if "{bound}" not in self.partition_name:
            faults.append(("partition_name", "a pattern without {bound} gives every partition the same name: add it"))
        without = self.partition_name.replace("{bound}", "").replace("{table}", "")
        if "{" in without or "}" in without:
            faults.append(("partition_name", "a pattern may use {table} and {bound}, nothing else in braces"))
        return faults

    @property
    def takes_new_values(self) -> bool:
        """Whether a value that is not listed yet gets a partition of its own."""
        return self.by is By.LIST and not self.groups

    @property
    def is_ahead_by_growth(self) -> bool:
        """Whether `ahead` is a length of time for a key of whole numbers: as far as the key grows in that time."""
        by_number = self.span is not None and self.span.unit is Unit.NUMBER
        return by_number and self.ahead is not None and self.ahead.unit is not Unit.NUMBER

    def check_columns(self, columns: Collection[str], table: str) -> None:
        """Raises LayoutError when the key, or that of the layout within, names none of the table's columns."""
        for name in self.key:
            if name not in columns:
                near = nearest(name, columns)
                raise LayoutError(
                    f"{table} has no column {name}",
                    found=f"its columns are {', '.join(columns)}",
                    fix=f"did you mean {near}?" if near else "correct `key` in the layout",
                )
        if self.within is not None:
            self.within.check_columns(columns, table)

    def grid(self, kind: Kind) -> Grid:
        """The boundaries of a range layout on a leading key column of this kind.

        Raises LayoutError when the span does not fit the kind, or `from` does not.
        """
        if self.span is None:
            raise LayoutError(f"the layout of {self.table} has no span", fix='add span = "1 month"')
        return Grid(self.span, kind, ZoneInfo(self.zone), self.start(kind))

    def start(self, kind: Kind) -> Value | None:
        """`from` as a value of the key's kind: a bare date is midnight in the layout's zone."""
        if self.from_ is None:
            return None
        wrong = LayoutError(
            f"`from` of {self.table} does not fit a key of type {kind}",
            found=f"from = {self.from_}",
            fix="give a whole number" if kind is Kind.INTEGER else "give a date, such as 2025-01-01",
        )
        match self.from_, kind:
            case int(), Kind.INTEGER:
                return self.from_
            case datetime(), Kind.TIMESTAMPTZ:
                aware = self.from_ if self.from_.tzinfo else self.from_.replace(tzinfo=ZoneInfo(self.zone))
                return aware.astimezone(UTC)
            case datetime(), Kind.TIMESTAMP if self.from_.tzinfo is None:
                return self.from_
            case datetime(), _:
                raise wrong
            case date(), Kind.DATE:
                return self.from_
            case date(), Kind.TIMESTAMP:
                return datetime.combine(self.from_, time())
            case date(), Kind.TIMESTAMPTZ:
                return datetime.combine(self.from_, time(), ZoneInfo(self.zone)).astimezone(UTC)
            case _:
                raise wrong

    def group_values(self, group: Group, kind: Kind) -> tuple[Value, ...]:
        """The values of a group in the key's kind. Raises UsageError when one does not fit."""
        return tuple(parse_value(str(value), kind) for value in group.values)

    def __str__(self) -> str:
        if self.within is None:
            return self._own_words()
        divided = "the catch-all" if self.divides_catch_all_only else "each"
        return f"{self._own_words()}, {divided} by {self.within}"

    def _own_words(self) -> str:
        by = f"{self.by} ({', '.join(self.key)})"
        match self.by:
            case By.RANGE:
                older = ""
                if self.coarsen is not None:
                    older = f", of {self.coarsen.span} once older than {self.coarsen.after}"
                return f"{by} in spans of {self.span}{older}" + (
                    f", days begin in {self.zone}" if self.zone != "UTC" else ""
                )
            case By.HASH:
                return f"{by} in {self.parts} parts" + (f" over {', '.join(self.servers)}" if self.servers else "")
            case By.LIST:
                return f"{by}" + (f" in {len(self.groups)} groups" if self.groups else ", a partition for each value")


def _days(span: Span) -> float:
    """How long a span of time is, nearly."""
    return span.months * 30.44 + span.days + (span.count / 24 if span.unit is Unit.HOUR else 0.0)
