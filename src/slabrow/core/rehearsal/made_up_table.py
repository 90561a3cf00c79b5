"""Made-up rows of a table, in chunks of constant size: the same for the same statistics and number of rows (N48)."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from slabrow.core.rehearsal.made_up_column import Array, ColumnFacts, Form, MadeUpColumn, made_up
from slabrow.core.table.shape import Shape
from slabrow.core.values.key_values import Value
from slabrow.core.values.names import Name

CHUNK = 200_000  # rows
_SEED = 20_260_301
_FOLLOWS = 0.7  # the order of the rows


@dataclass(frozen=True, slots=True)
class ForeignKeyFacts:
    """A foreign key of one column."""

    name: str
    column: str
    table: Name
    referenced: str


@dataclass(frozen=True, slots=True)
class EnumerationFacts:
    """An enumeration, with its labels in their order."""

    name: Name
    labels: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class SourceTable:
    """A real table, as far as statistics and catalogue tell of it.

    shape         with what a made-up table cannot have taken out
    columns       those that hold values of their own, in their order
    rows, bytes   of the real table, indexes with it
    foreign_keys  of one column, out of the table
    notes         what differs in the made-up table, in words
    types         enumerations that columns are of
    """

    name: Name
    shape: Shape
    columns: tuple[ColumnFacts, ...]
    rows: int
    bytes: int
    foreign_keys: tuple[ForeignKeyFacts, ...] = ()
    notes: tuple[str, ...] = ()
    types: tuple[EnumerationFacts, ...] = ()


@dataclass(frozen=True, slots=True)
class MadeValues:
    """Values of one column for some rows. nulls: True where the row has none; None when all have one."""

    column: MadeUpColumn
    values: Array
    nulls: Array | None


@dataclass(frozen=True, slots=True)
class MadeUpTable:
    """Makes the rows of one table.

    keys   for columns of foreign keys, the keys that the other table has, in order
    """

    source: SourceTable
    rows: int
    columns: tuple[MadeUpColumn, ...]
    keys: Mapping[str, Array] = field(default_factory=dict)

    def chunks(self) -> Iterator[tuple[MadeValues, ...]]:
        """All rows in their order."""
        for place, first in enumerate(range(0, self.rows, CHUNK)):
            numbers = np.arange(first, min(self.rows, first + CHUNK))
            yield self._made(numbers, np.random.default_rng([_SEED, place]))

    def newest(self, first: int, number: int, seed: int) -> tuple[MadeValues, ...]:
        """So many rows as will be written next, of which the first has the number `first` after the last row.

        Values that follow the order of the rows are those of its end; what never repeats goes on.
        """
        chance = np.random.default_rng([_SEED, seed])
        made = []
        for each in self._made(np.full(number, self.rows - 1), chance):
            if each.column.never_repeats:
                further = np.arange(self.rows + first, self.rows + first + number)
                each = replace(each, values=self._further(each.column, further))
            elif each.column.form is Form.MOMENTS and abs(each.column.correlation) > _FOLLOWS:
                # One after the other, as rows are written: a key of a value and a moment never stands twice.
                each = replace(each, values=each.values + np.arange(first, first + number))
            made.append(each)
        return tuple(made)

    def _further(self, column: MadeUpColumn, numbers: Array) -> Array:
        """Values after all others: of numbers and moments those that follow, of others made anew."""
        if column.form in (Form.WHOLE, Form.MOMENTS, Form.DAYS):
            last = int(column.of_rows(np.arange(max(0, self.rows - 1), self.rows), self.rows, _NONE, _NO_JITTER)[-1])
            high = max(last, int(column.values[-1]))
            return high + 1 + (numbers - self.rows)
        ascending = replace(column, correlation=1.0)
        return ascending.of_rows(numbers, max(self.rows, int(numbers[-1]) + 1), _NONE, _NO_JITTER)

    def _made(self, numbers: Array, chance: np.random.Generator) -> tuple[MadeValues, ...]:
        jitter = chance.uniform(-1, 1, len(numbers))
        made = []
        for column in self.columns:
            values = column.of_rows(numbers, self.rows, chance, jitter)
            if (keys := self.keys.get(column.facts.name)) is not None:
                values = snapped(values, keys)
            nulls = chance.random(len(numbers)) < column.null_share if column.null_share > 0 else None
            made.append(MadeValues(column, values, nulls))
        return tuple(made)

    def column(self, name: str) -> MadeUpColumn | None:
        """The maker of that column."""
        return next((each for each in self.columns if each.facts.name == name), None)

    def drawn(self, name: str, number: int, chance: np.random.Generator) -> list[str]:
        """Values of a column as texts, as rows chosen at random have them."""
        column = self.column(name)
        if column is None or not self.rows:
            return []
        values = column.drawn(number, self.rows, chance)
        if (keys := self.keys.get(name)) is not None:
            values = snapped(values, keys)
        return column.texts(values)

    def all_of(self, name: str) -> Array:
        """The different values of a column, in order: what foreign keys may lead to."""
        column = self.column(name)
        if column is None:
            return np.array([])
        parts = [next(each.values for each in chunk if each.column.facts.name == name) for chunk in self.chunks()]
        found = np.concatenate(parts) if parts else np.array([])
        return np.unique(found) if found.dtype.kind != "V" else found


_NONE = np.random.default_rng(0)
_NO_JITTER = np.zeros(1)


def snapped(values: Array, keys: Array) -> Array:
    """Each value as the key next to it; of texts, a key that stands for the same value every time."""
    if not len(keys):
        return values
    if values.dtype.kind == "V" or keys.dtype.kind == "V":
        heads = np.ascontiguousarray(values).view(">u8").reshape(len(values), 2)[:, 0]
        return keys[(heads % np.uint64(len(keys))).astype(np.int64)]
    found = np.minimum(np.searchsorted(keys, values), len(keys) - 1)
    if values.dtype.kind == "S":
        return keys[found]
    before = np.maximum(found - 1, 0)
    return np.where(np.abs(keys[before] - values) < np.abs(keys[found] - values), keys[before], keys[found])


def matched(values: Array, keys: Array) -> Array:
    """Different values as different keys, each the next one to it where that is still to be had."""
    if not len(keys) or not len(values):
        return values
    if values.dtype.kind in "SV" or keys.dtype.kind in "SV":
        chosen: Array = keys[np.arange(len(values)) * len(keys) // len(values)]
        return chosen
    found = np.searchsorted(keys, values).clip(0, len(keys) - 1)
    before = np.maximum(found - 1, 0)
    found = np.where(np.abs(keys[before] - values) < np.abs(keys[found] - values), before, found)
    # Those that are keys themselves stay; of several with one key, the others get keys that nobody has.
    order = np.argsort(keys[found] != values, kind="stable")
    _, firsts = np.unique(found[order], return_index=True)
    again = np.setdiff1d(np.arange(len(values)), order[firsts])
    free = np.setdiff1d(np.arange(len(keys)), found)
    if len(again) and len(free):
        found[again[: len(free)]] = free[np.linspace(0, len(free) - 1, min(len(again), len(free))).round().astype(int)]
    matching: Array = keys[found]
    return matching


def made_up_tables(
    sources: Sequence[SourceTable],
    rows: Mapping[Name, int],
    named: Mapping[tuple[Name, str], Collection[Value]],
    *,
    with_values: bool,
) -> tuple[MadeUpTable, ...]:
    """The makers of several tables, those that foreign keys lead to first.

    rows    how many each has
    named   values of columns that the workload or a layout names
    """
    made: dict[Name, MadeUpTable] = {}
    asked = _asked_of_parents(sources, named)
    for source in _parents_first(sources):
        columns = tuple(
            made_up(
                each, rows[source.name], source.rows, asked.get((source.name, each.name), ()), with_values=with_values
            )
            for each in source.columns
        )
        keys = {
            each.column: made[each.table].all_of(each.referenced) for each in source.foreign_keys if each.table in made
        }
        columns = tuple(
            replace(each, values=matched(each.values, keys.pop(each.facts.name)))
            if each.has_slots and each.facts.name in keys
            else each
            for each in columns
        )
        made[source.name] = MadeUpTable(source, rows[source.name], columns, keys)
    return tuple(made.values())


def _asked_of_parents(
    sources: Sequence[SourceTable], named: Mapping[tuple[Name, str], Collection[Value]]
) -> dict[tuple[Name, str], frozenset[Value]]:
    """What is named of a foreign key's column is asked of the column that it leads to as well."""
    asked = {place: frozenset(values) for place, values in named.items()}
    for _ in sources:  # from table to table, as far as foreign keys go
        for source in sources:
            for key in source.foreign_keys:
                place = key.table, key.referenced
                asked[place] = asked.get(place, frozenset()) | asked.get((source.name, key.column), frozenset())
    return asked


def _parents_first(sources: Sequence[SourceTable]) -> Iterator[SourceTable]:
    waiting, done = list(sources), set[Name]()
    names = {source.name for source in sources}
    while waiting:
        ready = [
            source
            for source in waiting
            if all(
                key.table in done or key.table not in names or key.table == source.name for key in source.foreign_keys
            )
        ] or waiting[:1]  # a ring of foreign keys: one of them is left out
        for source in ready:
            yield source
            done.add(source.name)
            waiting.remove(source)
