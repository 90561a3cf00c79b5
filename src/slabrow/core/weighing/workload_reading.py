"""A workload read against one table: what every run of every shape asks of it, worked out once for all candidates."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from zoneinfo import ZoneInfo

from slabrow.core.pruning.family_rules import USUAL_RULES, PruningRules
from slabrow.core.pruning.key_conditions import All, Among, Any_, Anything, Condition, KeyComparison, NotAmong, NullTest
from slabrow.core.pruning.planned_statement import PlannedStatement, TableOccurrence
from slabrow.core.sql.constant_values import NotKnown, Surroundings
from slabrow.core.sql.constants import evaluate
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.when import When
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.values.key_values import Value, order
from slabrow.core.weighing.costs import Access
from slabrow.core.weighing.selectivity import Estimator
from slabrow.core.weighing.workload import Run, StatementShape, Workload

_STAND_INS = (0.1, 0.3, 0.5, 0.7, 0.9)  # places in the histogram from which unknown values are taken


@dataclass(frozen=True, slots=True)
class AskedConditions:
    """One run at one place. is_empty: the server sees that no row can match."""

    condition: Condition
    access: Access
    is_empty: bool


@dataclass(frozen=True, slots=True)
class ReadShape:
    """A shape that names the table.

    runs        for each run kept, what each of its places asks
    inserts     whether it only adds rows to the table
    is_guessed  whether its values were not known, and taken from the table's statistics
    changed     columns of the table that it sets
    """

    shape: StatementShape
    statement: PlannedStatement
    runs: tuple[tuple[AskedConditions, ...], ...]
    inserts: bool
    is_guessed: bool
    changed: frozenset[str]


@dataclass(frozen=True, slots=True)
class TableWorkload:
    """unread: shapes that the parser does not understand; others: weight of shapes that do not name the table."""

    shapes: tuple[ReadShape, ...]
    unread: tuple[StatementShape, ...]
    others: float

    @property
    def weight(self) -> float:
        """Runs a day."""
        return sum(read.shape.weight for read in self.shapes)


def read_workload(
    workload: Workload,
    facts: TableFacts,
    schema: Schema,
    zone: ZoneInfo,
    now: datetime,
    most_runs: int = 100_000,
    rules: PruningRules = USUAL_RULES,
) -> TableWorkload:
    """The part of a workload that is about one table.

    most_runs   a bound on all runs together; with many shapes fewer runs of each are looked at
    rules       of the server's family
    """
    each = max(3, most_runs // max(1, len(workload.shapes)))
    reader = _Reader(facts, schema, zone, now, each, rules)
    shapes: list[ReadShape] = []
    unread: list[StatementShape] = []
    others = 0.0
    for shape in workload.shapes:
        statement = rules.read_statement(shape.marked, schema, shape.runs[0].literals if shape.runs else ())
        if statement is None:
            unread.append(shape)
            continue
        read = reader.read(shape, statement)
        if read is None:
            others += shape.weight
        else:
            shapes.append(read)
    return TableWorkload(tuple(shapes), tuple(unread), others)


@dataclass(slots=True)
class _Reader:
    facts: TableFacts
    schema: Schema
    zone: ZoneInfo
    now: datetime
    most_runs: int
    rules: PruningRules
    estimator: Estimator = field(init=False)

    def __post_init__(self) -> None:
        self.estimator = Estimator(self.facts.columns, self.facts.statistics, self.facts.rows)

    def read(self, shape: StatementShape, statement: PlannedStatement) -> ReadShape | None:
        places = [place for place in statement.places if place.table == self.facts.name]
        inserts = statement.target == self.facts.name
        if not places and not inserts:
            return None
        changed = statement.changed if statement.kind == "update" and places else frozenset[str]()
        runs, is_guessed = self._runs(shape, places)
        return ReadShape(
            shape=shape,
            statement=statement,
            runs=runs,
            inserts=inserts and not places,
            is_guessed=is_guessed,
            changed=changed,
        )

    def _runs(
        self, shape: StatementShape, places: Sequence[TableOccurrence]
    ) -> tuple[tuple[tuple[AskedConditions, ...], ...], bool]:
        if not places:
            return (), False
        found = [self._asked(places, run) for run in shape.runs[: self.most_runs]]
        if found and not any(_is_unknown(asked.condition) for run in found for asked in run):
            return tuple(found), False
        # The values are not known: a few stand in for them, from one end of the column to the other.
        run = shape.runs[0] if shape.runs else Run((), None)
        generic = Run(run.literals, run.params or None, run.at)
        guessed = [self._asked(places, generic, place) for place in _STAND_INS]
        return tuple(guessed), True

    def _asked(
        self, places: Sequence[TableOccurrence], run: Run, stand_in: float | None = None
    ) -> tuple[AskedConditions, ...]:
        around = Surroundings(self.zone, run.at or self.now, run.params, run.literals)
        return tuple(self._at(place, around, stand_in) for place in places)

    def _at(self, place: TableOccurrence, around: Surroundings, stand_in: float | None) -> AskedConditions:
        condition = self.rules.bind(place.pattern, around)
        if stand_in is not None:
            condition = _filled(condition, self.facts.statistics, stand_in)
        limit: float | None = None
        if place.limit is not None:
            try:
                value = evaluate(place.limit, around).value
                limit = float(value) if isinstance(value, int) and not isinstance(value, bool) else 10.0
            except NotKnown:
                limit = 10.0
        access = Access(self.estimator.shares(condition), place.ordered, limit, place.wanted, place.is_counted)
        return AskedConditions(condition, access, self.rules.is_contradiction(condition, self.facts.not_null))


def _is_unknown(condition: Condition) -> bool:
    """Whether a value is missing that the workload should have brought."""
    match condition:
        case KeyComparison(value=None, when=When.START):
            return True
        case All(parts) | Any_(parts):
            return any(map(_is_unknown, parts))
        case _:
            return False


def _filled(condition: Condition, statistics: Mapping[str, ColumnStatistics], place: float) -> Condition:
    """Each unknown value becomes a value from the histogram; a pair of unknown bounds becomes a narrow window."""
    match condition:
        case All(parts):
            missing = [part for part in parts if isinstance(part, KeyComparison) and _misses(part)]
            lows = {part.column for part in missing if part.operator[0] == ">"}
            return All(tuple(_filled_test(part, statistics, place, lows) for part in parts))
        case Any_(parts):
            return Any_(tuple(_filled(part, statistics, place) for part in parts))
        case _:
            return _filled_test(condition, statistics, place, set())


def _misses(condition: Condition) -> bool:
    return isinstance(condition, KeyComparison) and condition.value is None and condition.when is not When.RUN


def _filled_test(
    condition: Condition, statistics: Mapping[str, ColumnStatistics], place: float, lows: set[str]
) -> Condition:
    if isinstance(condition, All | Any_):
        return _filled(condition, statistics, place)
    if not _misses(condition) or not isinstance(condition, KeyComparison):
        return condition
    seen = statistics.get(condition.column)
    values = seen.histogram or tuple(value for value, _ in seen.common) if seen else ()
    if not values:
        return Anything(None, "", condition.column)
    at = place
    if condition.operator[0] == "<" and condition.column in lows:
        at = min(1.0, place + 0.02)
    value = values[min(len(values) - 1, int(at * len(values)))]
    return KeyComparison(condition.column, condition.operator, value, When.PLAN)


@dataclass(frozen=True, slots=True)
class Usage:
    """How the workload uses one column: runs a day that pin it by =, by a range, or join on it."""

    equal: float = 0.0
    ranged: float = 0.0
    joined: float = 0.0

    @property
    def pinned(self) -> float:
        """The columns that are compared with `=` to one value."""
        return self.equal + self.ranged


def usage(workload: TableWorkload) -> dict[str, Usage]:
    """By column; columns that are never asked for are not in it."""
    found: dict[str, list[float]] = {}
    for read in workload.shapes:
        for run in read.runs:
            share = read.shape.weight / len(read.runs)
            for asked in run:
                for column, kind in set(_uses(asked.condition)):
                    found.setdefault(column, [0.0, 0.0, 0.0])[kind] += share
    return {column: Usage(*weights) for column, weights in found.items()}


def _uses(condition: Condition) -> Iterator[tuple[str, int]]:
    match condition:
        case KeyComparison(column, operator, _, when):
            yield column, 2 if when is When.RUN else 0 if operator == "=" else 1
        case Among(column):
            yield column, 0
        case All(parts) | Any_(parts):
            for part in parts:
                yield from _uses(part)
        case NullTest(column):
            yield column, 0
        case NotAmong() | Anything():
            return


def together(workload: TableWorkload) -> dict[frozenset[str], float]:
    """Runs a day by the set of columns that a run pins by = at once."""
    found: dict[frozenset[str], float] = {}
    for read in workload.shapes:
        for run in read.runs:
            for asked in run:
                columns = frozenset(asked.access.shares.equal)
                if columns:
                    found[columns] = found.get(columns, 0.0) + read.shape.weight / len(read.runs)
    return found


def windows(workload: TableWorkload, column: str) -> list[tuple[int, float]]:
    """The widths of the closed ranges that runs ask of a column, in its steps, each with its weight."""
    found: list[tuple[int, float]] = []
    for read in workload.shapes:
        for run in read.runs:
            for asked in run:
                width = _width(asked.condition, column)
                if width is not None and width > 0:
                    found.append((width, read.shape.weight / len(read.runs)))
    return found


def bounds_asked(condition: Condition, column: str) -> tuple[Value | None, Value | None]:
    """The least and the greatest value of a column that a run asks for; None where it is open."""
    low: Value | None = None
    high: Value | None = None
    for part in condition.conditions if isinstance(condition, All) else (condition,):
        if isinstance(part, All):
            inner_low, inner_high = bounds_asked(part, column)
            low, high = _later(low, inner_low), _earlier(high, inner_high)
        elif isinstance(part, KeyComparison) and part.column == column and part.value is not None:
            if part.operator in ("=", ">", ">="):
                low = _later(low, part.value)
            if part.operator in ("=", "<", "<="):
                high = _earlier(high, part.value)
    return low, high


def _later(one: Value | None, other: Value | None) -> Value | None:
    if one is None or other is None:
        return other if one is None else one
    return one if order((one,)) >= order((other,)) else other


def _earlier(one: Value | None, other: Value | None) -> Value | None:
    if one is None or other is None:
        return other if one is None else one
    return one if order((one,)) <= order((other,)) else other


def _width(condition: Condition, column: str) -> int | None:
    low, high = bounds_asked(condition, column)
    match low, high:
        case datetime(), datetime() if (low.tzinfo is None) == (high.tzinfo is None):
            delta = high - low
            return (delta.days * 86_400 + delta.seconds) * 1_000_000 + delta.microseconds
        case date(), date() if not isinstance(low, datetime) and not isinstance(high, datetime):
            return (high - low).days * 86_400_000_000
        case int(), int():
            return high - low
        case _:
            return None
