"""Made-up values of one column, shaped like the real ones by its statistics alone (N48).

A column is described by its inverse distribution: the value at each place between 0 and 1 of all values in order. The
common values take as much room in it as they have rows, the others lie between the bounds of the histogram, as the
server itself assumes (PostgreSQL manual, 68.1 Row Estimation Examples). A row's place follows its number in the table
as closely as the statistics say that the column is correlated with the order of the rows.

No real value is taken over unless that is allowed, or the workload or the layout names it already. Of what has an order
(numbers, days, moments) the histogram gives the ranges; a number within them may be one that a real row has, too.
"""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import Decimal
from enum import StrEnum
from typing import Any
from uuid import UUID

import numpy as np
from numpy.typing import NDArray

from slabrow.core.rehearsal.numbered import letters_of, scattered, shuffled_nearby, words
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.values.key_values import Far, Kind, Opaque, Value

Array = NDArray[Any]
EPOCH = datetime(2000, 1, 1)
DAY_US = 86_400_000_000
_MOST_SLOTS = 1 << 21  # different values that are kept one by one; of more, only their distribution
_NEARLY_ALL = 0.98  # a column with that many different values for its rows is made of values that never repeat
_NEIGHBOURS = 6
_CLOSE = 0.7  # a correlation from here on is a small distance from the row's place; below it, some rows keep to theirs


class Form(StrEnum):
    """How the values of a column are held in an array.

    WHOLE     int64
    NUMBER    float64
    DAYS      int64, since 2000-01-01
    MOMENTS   int64, microseconds since 2000-01-01, in UTC
    TEXT      bytes
    UUID      16 bytes
    TRUTH     int64, 0 or 1
    OPAQUE    bytes: texts of a type that is not understood here
    """

    WHOLE = "whole"
    NUMBER = "number"
    DAYS = "days"
    MOMENTS = "moments"
    TEXT = "text"
    UUID = "uuid"
    TRUTH = "truth"
    OPAQUE = "opaque"


_FORMS = {
    Kind.INTEGER: Form.WHOLE,
    Kind.NUMERIC: Form.NUMBER,
    Kind.DATE: Form.DAYS,
    Kind.TIMESTAMP: Form.MOMENTS,
    Kind.TIMESTAMPTZ: Form.MOMENTS,
    Kind.TEXT: Form.TEXT,
    Kind.UUID: Form.UUID,
    Kind.BOOL: Form.TRUTH,
    Kind.OTHER: Form.OPAQUE,
}


def form_of(kind: Kind) -> Form:
    """How values of this kind are held."""
    return _FORMS[kind]


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnFacts:
    """What is known of a column.

    type_name   as the server spells it
    kind        of its values
    width       bytes of a value, on average
    not_null    whether NULL is refused
    is_unique   whether no value may stand twice
    labels      of an enumeration, in their order; empty for other types
    """

    name: str
    type_name: str
    kind: Kind
    width: int
    not_null: bool
    is_unique: bool
    statistics: ColumnStatistics | None
    labels: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class MadeUpColumn:
    """Makes the values of one column.

    places, values   the inverse distribution: places from 0 to 1 with their values. With slots the values repeat: the
                     place's value is the next one; without, it lies between its neighbours
    correlation      of the values with the order of the rows, -1 to 1
    room             for values that never repeat: how many there are; `values` are their ends then, or all of them
    """

    facts: ColumnFacts
    form: Form
    places: Array
    values: Array
    has_slots: bool
    null_share: float
    correlation: float
    room: int | None = None

    @property
    def never_repeats(self) -> bool:
        """Whether each row has a value of its own."""
        return self.room is not None

    def of_rows(self, numbers: Array, rows: int, chance: np.random.Generator, jitter: Array) -> Array:
        """The values of the rows with these numbers, of `rows` in all.

        jitter   a number between -1 and 1 for each row: columns that follow the order of the rows share it, so that
                 their distances from one another stay small
        """
        if self.room is not None:
            return self._unrepeated(numbers, rows)
        return self.at(self._places((numbers + 0.5) / rows, chance, jitter))

    def at(self, places: Array) -> Array:
        """The values at places from 0 to 1."""
        if self.has_slots:
            found = np.searchsorted(self.places, places, side="left")
            chosen: Array = self.values[np.minimum(found, len(self.values) - 1)]
            return chosen
        between: Array = np.interp(places, self.places, self.values)
        return between if self.form is Form.NUMBER else np.floor(between).astype(np.int64)

    def drawn(self, number: int, rows: int, chance: np.random.Generator) -> Array:
        """So many values as rows chosen at random have them; rows: of the table."""
        if self.room is not None:
            return self._unrepeated(chance.integers(0, max(1, rows), number), rows)
        return self.at(chance.random(number))

    def _unrepeated(self, numbers: Array, rows: int) -> Array:
        ranks = numbers.astype(np.int64)
        if self.correlation < 0:
            ranks = rows - 1 - ranks
        ranks = shuffled_nearby(ranks, rows, abs(self.correlation))
        if self.form is Form.UUID:
            return scattered(ranks)
        if self.form in (Form.TEXT, Form.OPAQUE):
            return words(ranks, self.facts.width, self._most_letters)
        if len(self.values) > 2:
            all_of_them: Array = self.values[np.minimum(ranks, len(self.values) - 1)]
            return all_of_them
        low, high = int(self.values[0]), int(self.values[-1])
        span = max(high - low + 1, rows, self.room or 0)
        return low + ranks * (span // max(rows, 1))

    def texts(self, values: Iterable[Any]) -> list[str]:
        """Values as the server reads them in a literal, without quotes."""
        found = texts_of(self.form, values)
        return [f"{text}+00" for text in found] if self.facts.kind is Kind.TIMESTAMPTZ else found

    @property
    def _most_letters(self) -> int | None:
        return letters_of(self.facts.type_name)

    def _places(self, places: Array, chance: np.random.Generator, jitter: Array) -> Array:
        """Where the rows at these places of the table have their values.

        A small distance from the own place, reflected at both ends, keeps the distribution even; with a distance of up
        to w the correlation is 1 / sqrt(1 + 4 w²).
        """
        strength = abs(self.correlation)
        along = places if self.correlation >= 0 else 1 - places
        if strength >= _CLOSE:
            moved = np.abs(along + jitter * (np.sqrt(1 / strength**2 - 1) / 2))
            reflected: Array = np.where(moved > 1, 2 - moved, moved)
            return reflected
        keeps = chance.random(len(places)) < strength
        return np.where(keeps, along, chance.random(len(places)))


def made_up(
    facts: ColumnFacts, rows: int, real_rows: int, named: Collection[Value], *, with_values: bool
) -> MadeUpColumn:
    """The maker of a column of a table with so many rows.

    real_rows    of the real table: values that are many because the rows are, grow with them
    named        values that the workload or the layout names: they keep their places
    with_values  whether real values may be taken over
    """
    statistics = facts.statistics or ColumnStatistics(facts.name, 0.0 if facts.not_null else 1.0, None)
    form = Form.OPAQUE if facts.labels else form_of(facts.kind)
    present = 1 - statistics.null_share
    grows = rows / max(1, real_rows)
    distinct = statistics.distinct
    if distinct is None:
        distinct = float(rows)
    if distinct > real_rows * 0.1:  # as ANALYZE tells a number of values from a share of the rows
        distinct *= grows
    distinct = max(1.0, min(distinct, rows * present or 1.0))
    correlation = _beyond_ties(statistics, distinct)
    chance = np.random.default_rng([len(facts.name), *facts.name.encode()[:16], rows % 1_000_003])
    shape = _Shape(facts, form, statistics, distinct, chance, frozenset(named), with_values)
    nulls = 0.0 if facts.not_null else statistics.null_share
    if facts.is_unique or (distinct >= rows * present * _NEARLY_ALL and not statistics.common and rows > 1):
        low, high = shape.ends()
        span = high - low
        if facts.kind is Kind.INTEGER and grows > 1:
            high = low + span * grows
        if form in (Form.UUID, Form.TEXT, Form.OPAQUE, Form.WHOLE) or (form is Form.MOMENTS and facts.is_unique):
            places, values = np.array([0.0, 1.0]), np.array([low, high])
            if form is Form.WHOLE:
                values = _with_named(int(low), int(high), rows, named)
            return MadeUpColumn(facts, form, places, values, False, nulls, correlation, rows)
    places, values, has_slots = shape.distribution()
    return MadeUpColumn(facts, form, places, values, has_slots, nulls, correlation)


@dataclass(frozen=True, slots=True)
class _Shape:
    """Works out the inverse distribution."""

    facts: ColumnFacts
    form: Form
    statistics: ColumnStatistics
    distinct: float
    chance: np.random.Generator
    named: frozenset[Value]
    with_values: bool

    def ends(self) -> tuple[float, float]:
        """The least and the greatest value as numbers; 0 and the number of values where they have no order."""
        known = [*self.statistics.histogram, *(value for value, _ in self.statistics.common)]
        numbers = [number for value in known if (number := number_of(value)) is not None]
        return (min(numbers), max(numbers)) if numbers else (0.0, self.distinct)

    def distribution(self) -> tuple[Array, Array, bool]:
        """Places, values, and whether they are slots."""
        common = [(value, share) for value, share in self.statistics.common if share > 0]
        others = max(0.0, 1 - self.statistics.null_share - sum(share for _, share in common))
        unnamed = max(0, round(self.distinct) - len(common))
        if self.form in (Form.TEXT, Form.OPAQUE, Form.UUID):
            return self._of_words(common, others, unnamed)
        if self.form is Form.TRUTH:
            shares = {bool(value): share for value, share in common}
            total = sum(shares.values()) or 1.0
            return np.array([shares.get(False, 0.5 * (not shares)) / total, 1.0]), np.array([0, 1]), True
        knots = self._knots()
        if unnamed > _MOST_SLOTS or (self.form is Form.NUMBER and unnamed > 10_000):
            return self._continuous(common, others, knots)
        rest = self._slots(knots, unnamed) if others > 1e-9 and unnamed else np.array([])
        told = [number_of(value) for value, _ in common if self._may_be_told(value)]
        rest = np.setdiff1d(rest, [number for number in told if number is not None])
        named = self._renamed(common, rest)
        values = np.concatenate([rest, [value for value, _ in named]])
        each = others / max(1, len(rest))
        shares_ = np.concatenate([np.full(len(rest), each), [share for _, share in named]])
        return _cumulated(values, shares_)

    def _knots(self) -> Array:
        """The histogram as numbers; at least two."""
        numbers = [number for value in self.statistics.histogram if (number := number_of(value)) is not None]
        if len(numbers) < 2:
            low, high = self.ends()
            numbers = [low, max(high, low + (self.distinct if self.form is not Form.NUMBER else 1.0))]
        return np.array(numbers, float)

    def _slots(self, knots: Array, wanted: int) -> Array:
        """So many different values between the bounds of the histogram, the more the closer these stand."""
        places = (np.arange(wanted) + 0.5) / wanted
        found = np.interp(places, np.linspace(0, 1, len(knots)), knots)
        if self.form is not Form.NUMBER:
            found = np.unique(np.round(found))
            found = self._filled_up(found, knots, wanted)
        for value in self.named:  # a value that is asked for is there, as it is in the real table
            number = number_of(value)
            if number is not None and len(found) and knots[0] <= number <= knots[-1]:
                found[int(np.argmin(np.abs(found - number)))] = number
        return np.unique(found)

    def _filled_up(self, found: Array, knots: Array, wanted: int) -> Array:
        low, high = int(np.ceil(knots[0])), int(np.floor(knots[-1]))
        missing = wanted - len(found)
        if missing <= 0 or high - low + 1 > 4 * _MOST_SLOTS:
            return found
        unused = np.setdiff1d(np.arange(low, high + 1, dtype=float), found)
        return np.union1d(found, self.chance.permutation(unused)[:missing])

    def _renamed(self, common: Sequence[tuple[Value, float]], rest: Array) -> list[tuple[float, float]]:
        """The common values as numbers: those that may be told as they are, the others as numbers near them."""
        known = [(value, number, share) for value, share in common if (number := number_of(value)) is not None]
        kept = [(number, share) for value, number, share in known if self._may_be_told(value)]
        others = [(number, share) for value, number, share in known if not self._may_be_told(value)]
        if not others:
            return kept
        low, high = self.ends()
        # A value stays between the same two named ones: a range that is asked for then holds as many rows as it does.
        marks = np.array(sorted({number for value in self.named if (number := number_of(value)) is not None}))
        if self.form is Form.NUMBER or high - low + 1 > 2 * _MOST_SLOTS:
            return kept + [(self._moved(number, low, high, marks), share) for number, share in others]
        taken = np.concatenate([rest, [number for number, _ in kept]])
        free = np.setdiff1d(np.arange(int(low), int(high) + 1, dtype=float), taken)
        for number, share in others:
            # One of the free numbers next to it, and not itself where there is another one.
            between = np.searchsorted(marks, free) == np.searchsorted(marks, number)
            near = np.flatnonzero(between & ~np.isin(free, marks))
            near = near[np.argsort(np.abs(free[near] - number))][:_NEIGHBOURS]
            near = near[free[near] != number] if len(near) > 1 else near
            if not len(near):
                kept.append((number, share))
                continue
            place = int(self.chance.choice(near))
            kept.append((float(free[place]), share))
            free = np.delete(free, place)
        return kept

    def _moved(self, number: float, low: float, high: float, marks: Array) -> float:
        """Another number close by, between the same named ones."""
        place = int(np.searchsorted(marks, number))
        low = max(low, float(marks[place - 1])) if place > 0 else low
        high = min(high, float(marks[place])) if place < len(marks) else high
        reach = max(1.0, (high - low) / 50)
        moved = number + self.chance.uniform(-reach, reach)
        moved = moved if self.form is Form.NUMBER else float(round(moved))
        return min(high, max(low, moved))

    def _may_be_told(self, value: Value) -> bool:
        return self.with_values or value in self.named

    def _continuous(
        self, common: Sequence[tuple[Value, float]], others: float, knots: Array
    ) -> tuple[Array, Array, bool]:
        """Between the knots evenly; a common value is a flat stretch of its share."""
        named = sorted(self._renamed(common, np.array([])))
        total = others + sum(share for _, share in named) or 1.0
        steps = np.linspace(0, others, len(knots))
        places: list[float] = []
        values: list[float] = []
        before, at = 0.0, 0
        for number, share in [*named, (float("inf"), 0.0)]:
            while at < len(knots) and knots[at] <= number:
                places.append(before + steps[at])
                values.append(knots[at])
                at += 1
            if number == float("inf"):
                break
            here = before + (np.interp(number, knots, steps) if len(knots) > 1 else 0.0)
            places += [here, here + share]
            values += [number, number]
            before += share
        return np.array(places) / total, np.array(values), False

    def _of_words(
        self, common: Sequence[tuple[Value, float]], others: float, unnamed: int
    ) -> tuple[Array, Array, bool]:
        """Texts: those that may be told, and made-up ones of the same width."""
        if self.facts.labels:  # names in the type's definition, no values of rows
            shares = {_text_of(value): share for value, share in common}
            left = max(0.0, 1 - sum(shares.values())) / max(1, len(self.facts.labels) - len(shares))
            given = [shares.get(label, left) or 1e-9 for label in self.facts.labels]
            texts = np.array([label.encode() for label in self.facts.labels])
            return _cumulated(np.arange(len(texts)), np.array(given), texts)
        rest = min(unnamed, _MOST_SLOTS) if others > 1e-9 else 0
        if self.form is Form.UUID:
            made = scattered(np.arange(rest + len(common)))
        else:
            made = words(np.arange(rest + len(common)), self.facts.width, letters_of(self.facts.type_name))
        kept = [
            _bytes_of(value) if self.with_values or value in self.named else made[rest + place]
            for place, (value, _) in enumerate(common)
        ]
        also = [_bytes_of(value) for value in self.named if value not in dict(common)]
        if rest and also and not isinstance(also[0], np.bytes_ | type(None)):
            for place, text in enumerate(also[:rest]):
                made = made.astype(f"S{max(made.dtype.itemsize, len(text))}") if self.form is not Form.UUID else made
                made[place * max(1, rest // len(also))] = text
        texts = np.array([*made[:rest].tolist(), *kept] or [b""])
        if self.form is Form.UUID:
            texts = np.array([*made[:rest], *kept], dtype="V16") if rest + len(kept) else np.zeros(1, "V16")
        shares_ = np.concatenate(
            [np.full(rest, others / max(1, rest)), [share for _, share in common]]
            if rest + len(kept)
            else [np.array([1.0])]
        )
        return _cumulated(np.arange(len(texts)), shares_, texts)


def _cumulated(values: Array, shares: Array, texts: Array | None = None) -> tuple[Array, Array, bool]:
    if not len(values):
        return np.array([1.0]), np.array([0]), True
    order = np.argsort(values, kind="stable") if texts is None else np.argsort(texts, kind="stable") if (
        texts.dtype.kind == "S"
    ) else np.arange(len(texts))  # fmt: skip
    total = shares.sum() or 1.0
    places = np.cumsum(shares[order]) / total
    places[-1] = 1.0
    return places, (values if texts is None else texts)[order], True


def number_of(value: Value) -> float | None:
    """A value of a kind with an order, as the number that its form holds; None for others."""
    match value:
        case bool():
            return None
        case int() | Decimal():
            return float(value)
        case datetime():
            moment = value.astimezone(UTC).replace(tzinfo=None) if value.tzinfo else value
            return (moment - EPOCH).total_seconds() * 1e6
        case date():
            return float((value - EPOCH.date()).days)
        case Far():
            return float(value.days)
        case _:
            return None


def _text_of(value: Value) -> str:
    return value.text if isinstance(value, Opaque) else str(value)


def _bytes_of(value: Value) -> bytes:
    return value.bytes if isinstance(value, UUID) else _text_of(value).encode()


def _beyond_ties(statistics: ColumnStatistics, distinct: float) -> float:
    """The correlation without what equal values bring by themselves, -1 to 1.

    ANALYZE ranks equal values in the order of their rows, so rows in any order at all have a correlation of the sum of
    the squared shares of the values (worked out from compute_scalar_stats in PostgreSQL's commands/analyze.c).
    """
    found = statistics.correlation or 0.0
    others = max(0.0, 1 - statistics.null_share - sum(share for _, share in statistics.common))
    present = max(1e-9, 1 - statistics.null_share)
    ties = sum((share / present) ** 2 for _, share in statistics.common)
    ties += (others / present) ** 2 / max(1.0, distinct - len(statistics.common))
    if ties >= 0.999:
        return 0.0
    return max(-1.0, min(1.0, (found - ties) / (1 - ties if found >= ties else 1 + ties)))


def _with_named(low: int, high: int, rows: int, named: Collection[Value]) -> Array:
    """The ends of evenly spaced numbers; or all of them, where those that are asked for have to be among them."""
    step = max(high - low + 1, rows) // max(rows, 1)
    wanted = [value for value in named if isinstance(value, int) and low <= value <= high and (value - low) % step]
    if not wanted or rows > _MOST_SLOTS or rows < 3:
        return np.array([low, high])
    numbers = low + np.arange(rows) * step
    for value in wanted:
        numbers[min(rows - 1, round((value - low) / step))] = value
    return np.unique(numbers) if len(np.unique(numbers)) == rows else np.array([low, high])


def texts_of(form: Form, values: Iterable[Any]) -> list[str]:
    """Values as the server reads them in a literal, without quotes."""
    found = []
    for value in values:
        match form:
            case Form.WHOLE:
                found.append(str(int(value)))
            case Form.NUMBER:
                found.append(repr(float(value)))
            case Form.TRUTH:
                found.append("true" if value else "false")
            case Form.DAYS:
                found.append(str(np.datetime64("2000-01-01", "D") + int(value)))
            case Form.MOMENTS:
                found.append(str(np.datetime64("2000-01-01T00:00:00.000000", "us") + int(value)))
            case Form.UUID:
                found.append(str(UUID(bytes=bytes(value))))
            case _:
                found.append(bytes(value).decode(errors="replace"))
    return found
