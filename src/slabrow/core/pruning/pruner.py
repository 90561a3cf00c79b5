"""Which leaves can hold rows that satisfy a condition on the key: the server's own way of pruning, on plain values.

The steps are those of PostgreSQL (src/backend/partitioning/partprune.c, the same from 15 to 18): conditions joined by
AND give one step for each key prefix that they pin, OR unites its arms, and a step finds the offsets between bounds
that can match, gaps included. A set of offsets is a whole number with a bit for each, so that thousands of partitions
cost no more than a few.

Everything that is not understood is `Anything`, which keeps every leaf: never too few.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from functools import lru_cache
from itertools import product
from typing import TYPE_CHECKING, Any, assert_never

from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.answers import HashPlace
from slabrow.core.sql.when import When
from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range
from slabrow.core.table.tree import KeyColumn, Partition, Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Key, Kind, Opaque, Value, order, spell
from slabrow.core.values.method import By

if TYPE_CHECKING:
    from slabrow.core.hashing.hash_encoding import HashType
    from slabrow.core.sql.answers import Answers


@dataclass(frozen=True, slots=True)
class KeyComparison:
    """`column operator value`; operator is one of = <> < <= > >=. value is None where only a run supplies it."""

    column: str
    operator: str
    value: Value | None
    when: When = When.PLAN
    fragment: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class Among:
    """`column IN (…)`: the values are tried one by one, never together with what is known of other columns.

    values   without the NULLs, which match nothing
    """

    column: str
    values: tuple[Value, ...]
    when: When = When.PLAN
    fragment: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class NotAmong:
    """`column NOT IN (…)`, of several values: like `Among` the server takes them one by one.

    has_null   whether a NULL is among them: then no row satisfies it, which the server does not see everywhere
    """

    column: str
    values: tuple[Value, ...]
    when: When = When.PLAN
    fragment: str = field(default="", compare=False)
    has_null: bool = False


@dataclass(frozen=True, slots=True)
class NullTest:
    """`column IS NULL`, or with is_null False `column IS NOT NULL`."""

    column: str
    is_null: bool


@dataclass(frozen=True, slots=True)
class All:
    """Every one of these holds (AND)."""

    conditions: tuple["Condition", ...]


@dataclass(frozen=True, slots=True)
class Any_:
    """At least one of these holds (OR); of none, nothing holds. fragment: as written, where it was."""

    conditions: tuple["Condition", ...]
    fragment: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class Anything:
    """What is not understood, or cannot be used.

    column     the one that it is about, where it is about one
    is_empty   whether no row satisfies it: the server sees that by refuting it, and not where it is an arm of OR
    """

    reason: Reason | None = None
    fragment: str = ""
    column: str | None = None
    is_empty: bool = False


Condition = KeyComparison | Among | NotAmong | NullTest | All | Any_ | Anything
NOTHING = Any_(())


@dataclass(frozen=True, slots=True)
class Touched:
    """The leaves that a condition leaves over.

    planned    once planning is over
    started    once execution has started; a part of `planned`
    may_prune_running   whether values that only a run supplies can leave out more
    """

    planned: frozenset[str]
    started: frozenset[str]
    may_prune_running: bool


class _Contradiction(Exception):
    """No row can satisfy the conditions."""


_Rank = tuple[float, Any]
_MINVALUE: _Rank = (-2, 0)
_MAXVALUE: _Rank = (2, 0)


@dataclass(slots=True)
class _Kept:
    """Offsets between bounds, as bits; whether the homes of NULL and of all else (the catch-all) are kept too."""

    offsets: int
    null: bool = False
    rest: bool = False

    def __and__(self, other: "_Kept") -> "_Kept":
        return _Kept(self.offsets & other.offsets, self.null and other.null, self.rest and other.rest)

    def __or__(self, other: "_Kept") -> "_Kept":
        return _Kept(self.offsets | other.offsets, self.null or other.null, self.rest or other.rest)


def _bits(low: int, high: int) -> int:
    """The bits `low` to `high`, both in; none when high < low."""
    return ((1 << (high + 1)) - 1) & ~((1 << low) - 1) if high >= low else 0


class Pruner:
    """A tree made ready for many conditions. Trees whose bounds cannot be put in order keep every leaf.

    answers   what a server says of the order of values that has no rule here; None without a server
    """

    def __init__(self, tree: Tree, answers: "Answers | None" = None) -> None:
        self.tree = tree
        below: dict[str, list[Partition]] = {}
        for partition in tree.partitions:
            below.setdefault(partition.parent, []).append(partition)
        self._top = _Level(tree.by, tree.key, below.get(tree.spelling, []), tree.spelling, answers)
        self._inner: dict[str, _Level] = {}
        for partition in tree.partitions:
            if not partition.is_leaf and partition.division is not None:
                division = partition.division
                children = below.get(partition.spelling, [])
                self._inner[partition.spelling] = _Level(
                    division.by, division.key, children, partition.spelling, answers
                )
        self._below = below
        self._every = frozenset(leaf.spelling for leaf in tree.leaves)

    def touched(self, condition: Condition) -> Touched:
        """What is left when planning is over, and when execution has started."""
        planned = self._spelled(self.survivors(condition, When.PLAN))
        started = planned
        # Of a single leaf the server makes a plan without an Append, from which nothing can be left out later.
        if len(planned) > 1 and self.waits(condition):
            started = self._spelled(self.survivors(condition, When.START))
        return Touched(planned, started, len(started) > 1 and self._may_prune_running(condition))

    def _spelled(self, leaves: tuple[Partition, ...]) -> frozenset[str]:
        return self._every if len(leaves) == len(self._every) else frozenset(leaf.spelling for leaf in leaves)

    def survivors(self, condition: Condition, until: When = When.START) -> tuple[Partition, ...]:
        """The leaves that rows satisfying `condition` can lie in, from the values known at `until`."""
        return tuple(self._leaves(self._top, condition, until))

    @staticmethod
    def waits(condition: Condition) -> bool:
        """Whether some of its values are known only once execution starts, or later."""
        return _latest(condition) >= When.START

    def _leaves(self, level: "_Level", condition: Condition, until: When) -> Iterator[Partition]:
        for child in level.children_of(condition, until):
            inner = self._inner.get(child.spelling)
            if child.is_leaf:
                yield child
            elif inner is not None:
                yield from self._leaves(inner, condition, until)
            else:
                yield from self._all_below(child)

    def _all_below(self, partition: Partition) -> Iterator[Partition]:
        for child in self._below.get(partition.spelling, ()):
            if child.is_leaf:
                yield child
            else:
                yield from self._all_below(child)

    def _may_prune_running(self, condition: Condition) -> bool:
        levels = (self._top, *self._inner.values())
        return any(level.would_use(condition) for level in levels)


def _latest(condition: Condition) -> When:
    match condition:
        case KeyComparison(when=when) | Among(when=when) | NotAmong(when=when):
            return when
        case All(parts) | Any_(parts):
            return max(map(_latest, parts), default=When.PLAN)
        case _:
            return When.PLAN


@dataclass(slots=True)
class _Clauses:
    """What conditions joined by AND say of each key column: tests by place in the key, and NULL tests."""

    tests: dict[int, list[KeyComparison]] = field(default_factory=dict)
    nulls: set[int] = field(default_factory=set)
    not_nulls: set[int] = field(default_factory=set)


class _Level:
    """One partitioned table and its own partitions."""

    def __init__(
        self,
        by: By,
        key: tuple[KeyColumn, ...],
        children: Sequence[Partition],
        spelling: str,
        answers: "Answers | None",
    ) -> None:
        self.children = tuple(children)
        self.key = key
        named = {place: column.name for place, column in enumerate(key) if not column.is_apart}
        self._places = {name: place for place, name in named.items() if name is not None}
        self._everything = self.children
        self._rest = next((child for child in children if isinstance(child.bounds, CatchAll)), None)
        self._bounds = _bounds(by, key, children, spelling, answers)

    def children_of(self, condition: Condition, until: When) -> tuple[Partition, ...]:
        """The children that may hold rows, in the order of their bounds."""
        if self._bounds is None:
            return self.children
        try:
            kept = self._kept((condition,), until)
        except _Contradiction:
            return ()
        if kept is None:
            return self.children
        return tuple(self._homes(kept))

    def _homes(self, kept: _Kept) -> Iterator[Partition]:
        assert self._bounds is not None
        homes = self._bounds.homes
        rest, seen = kept.rest, set()
        offsets = kept.offsets
        while offsets:
            lowest = offsets & -offsets
            offset = lowest.bit_length() - 1
            offsets ^= lowest
            home = homes[offset] if offset < len(homes) else None
            if home is None:
                rest = True
            elif home.spelling not in seen:
                seen.add(home.spelling)
                yield home
        null = self._bounds.null_home
        if kept.null and null is not None and null.spelling not in seen:
            yield null
        if rest and self._rest is not None:
            yield self._rest

    def would_use(self, condition: Condition) -> bool:
        """Whether values that only a run supplies pin this level's key."""
        if self._bounds is None:
            return False
        match condition:
            case KeyComparison(column=column, operator=operator, when=When.RUN):
                place = self._places.get(column)
                return place is not None and self._bounds.takes(place, operator)
            case All(nested):
                # A column that equals a known value needs none from the run: both stand in one equivalence class.
                given = {
                    part.column
                    for part in _flat(nested)
                    if isinstance(part, KeyComparison) and part.operator == "=" and part.when is not When.RUN
                }
                parts = tuple(
                    part
                    for part in _flat(nested)
                    if not (isinstance(part, KeyComparison) and part.when is When.RUN and part.column in given)
                )
                if isinstance(self._bounds, _HashBounds):
                    known = {
                        part.column
                        for part in _flat(parts)
                        if (isinstance(part, KeyComparison) and part.operator == "=")
                        or (isinstance(part, NullTest) and part.is_null)
                    }
                    running = any(isinstance(part, KeyComparison) and part.when is When.RUN for part in _flat(parts))
                    return running and set(self._places) <= known and len(self._places) == len(self.key)
                return any(map(self.would_use, parts))
            case Any_(parts):
                return bool(parts) and all(
                    self.would_use(part) or not isinstance(part, Anything) for part in parts
                ) and any(map(self.would_use, parts))  # fmt: skip
            case _:
                return False

    def _kept(self, conditions: Sequence[Condition], until: When) -> _Kept | None:
        """gen_partprune_steps_internal: None where nothing can be used. Raises _Contradiction."""
        assert self._bounds is not None
        steps: list[_Kept] = []
        clauses = _Clauses()
        for condition in _flat(conditions):
            match condition:
                case Any_(conditions=arms):
                    if (kept := self._any(arms, until)) is not None:
                        steps.append(kept)
                case Among(column, values, when):
                    place = self._places.get(column)
                    if place is not None and when <= until and self._bounds.takes(place, "="):
                        kept = self._any(tuple(KeyComparison(column, "=", value) for value in values), until)
                        if kept is not None:
                            steps.append(kept)
                case NotAmong(column, values, when, _, has_null):
                    place = self._places.get(column)
                    if place is not None and when <= until and self._bounds.takes(place, "<>"):
                        if has_null:
                            raise _Contradiction
                        for value in values if all(self._bounds.knows(place, each) for each in values) else ():
                            steps += self._bounds.steps(_Clauses({place: [KeyComparison(column, "<>", value)]}))
                case NullTest(column, is_null):
                    place = self._places.get(column)
                    if place is not None:
                        self._null_test(clauses, place, is_null)
                case KeyComparison(column, operator, value, when):
                    place = self._places.get(column)
                    if place is None or when > until or value is None or not self._bounds.takes(place, operator):
                        continue
                    if not self._bounds.knows(place, value):
                        continue
                    if place in clauses.nulls:
                        raise _Contradiction
                    clauses.tests.setdefault(place, []).append(condition)
                case Anything():
                    pass
                case All():
                    raise AssertionError("nested ANDs were dissolved")
                case _:
                    assert_never(condition)
        steps += self._bounds.steps(clauses)
        if not steps:
            return None
        kept = steps[0]
        for step in steps[1:]:
            kept = kept & step
        return kept

    @staticmethod
    def _null_test(clauses: _Clauses, place: int, is_null: bool) -> None:
        if is_null:
            if place in clauses.not_nulls or place in clauses.tests:
                raise _Contradiction
            clauses.nulls.add(place)
        else:
            if place in clauses.nulls:
                raise _Contradiction
            clauses.not_nulls.add(place)

    def _any(self, arms: Sequence[Condition], until: When) -> _Kept | None:
        """Arms that contradict themselves count for nothing; one that says nothing keeps everything."""
        assert self._bounds is not None
        united: _Kept | None = None
        for arm in arms:
            try:
                kept = self._kept((arm,), until)
            except _Contradiction:
                continue
            kept = self._bounds.everything if kept is None else kept
            united = kept if united is None else united | kept
        if united is None:
            raise _Contradiction
        return united


def _flat(conditions: Sequence[Condition]) -> Sequence[Condition]:
    """With nested ANDs dissolved."""
    if not any(isinstance(each, All) for each in conditions):
        return conditions
    return tuple(part for each in conditions for part in (_flat(each.conditions) if isinstance(each, All) else (each,)))


class _Bounds:
    """What one strategy does with clauses. homes: the child at each offset, None in a gap."""

    homes: Sequence[Partition | None]
    null_home: Partition | None = None
    everything: _Kept

    def takes(self, place: int, operator: str) -> bool:
        """Whether a comparison of the key column at `place` can be used."""
        raise NotImplementedError

    def steps(self, clauses: _Clauses) -> Sequence[_Kept]:
        raise NotImplementedError

    def knows(self, place: int, value: Value) -> bool:
        """Whether the value has a known place among the bounds of the key column at `place`."""
        return True


def _bounds(
    by: By, key: tuple[KeyColumn, ...], children: Sequence[Partition], spelling: str, answers: "Answers | None"
) -> _Bounds | None:
    """None where a bound cannot be put in order."""
    if by is By.HASH:
        return _HashBounds(key, children, spelling, answers)
    ranking = [_ranking(column, place, children, answers) for place, column in enumerate(key)]
    if any(
        isinstance(value, Opaque) and ranking[place] is None
        for child in children
        for place, value in _values(child)
        if by is not By.LIST or key[0].kind is not Kind.OTHER
    ):
        return None
    return _RangeBounds(key, children, ranking) if by is By.RANGE else _ListBounds(key[0], children, ranking[0])


def _values(child: Partition) -> Iterator[tuple[int, Value | None]]:
    """Each value of a bound, with the place of its column in the key."""
    match child.bounds:
        case Range(from_, to):
            for end in (from_, to):
                yield from enumerate(end or ())
        case Listed(values):
            yield from ((0, value) for value in values)


@dataclass(frozen=True, slots=True)
class _Ranking:
    """The order of a column's values, as a server gives it."""

    answers: "Answers"
    order: tuple[str, str]

    def of(self, value: Value) -> "_Rank | None":
        """None where it is not known, or not yet."""
        if isinstance(value, Edge):
            return order((value,))[0]
        rank = self.answers.rank(self.order, spell(value))
        return None if rank is None else (0, rank)


def _ranking(
    column: KeyColumn, place: int, children: Sequence[Partition], answers: "Answers | None"
) -> _Ranking | None:
    """None where the order is known here, or not by the server either."""
    if answers is None or column.name is None or column.is_ordered:
        return None
    found = _Ranking(answers, (column.bare_type, column.collation or ""))
    own = [value for child in children for at, value in _values(child) if at == place and value is not None]
    ranks = [found.of(value) for value in own]  # all of them, so that they are asked about at once
    return None if None in ranks else found


def _rank(value: Value) -> _Rank:
    """Sorts values as the server does; a day is its midnight, so that it compares with an hour."""
    if type(value) is date:
        return (0, datetime.combine(value, time()))
    return order((value,))[0]


class _RangeBounds(_Bounds):
    """Every bound once, in order; offset i is what lies below bound i, the last offset what lies above them all."""

    def __init__(
        self, key: tuple[KeyColumn, ...], children: Sequence[Partition], ranking: Sequence[_Ranking | None]
    ) -> None:
        self._width = len(key)
        self._ranking = ranking
        self._is_ordered = [column.is_ordered or ranks is not None for column, ranks in zip(key, ranking, strict=True)]
        ends = {
            self._end(end, edge)
            for child in children
            if isinstance(child.bounds, Range)
            for end, edge in ((child.bounds.from_, _MINVALUE), (child.bounds.to, _MAXVALUE))
        }
        self._datums = sorted(ends) if all(self._is_ordered) or not ends else self._in_given_order(children)
        at = {datum: offset for offset, datum in enumerate(self._datums)}
        homes: list[Partition | None] = [None] * (len(self._datums) + 1)
        for child in children:
            if isinstance(child.bounds, Range):
                homes[at[self._end(child.bounds.to, _MAXVALUE)]] = child
        self.homes = homes
        self.everything = _Kept(_bits(0, len(self._datums)), False, True)

    def _in_given_order(self, children: Sequence[Partition]) -> list[tuple[_Rank, ...]]:
        """Any order: no comparison is ever made on a key that cannot be ordered, every offset is kept or none."""
        found: dict[tuple[_Rank, ...], None] = {}
        for child in children:
            if isinstance(child.bounds, Range):
                found[self._end(child.bounds.from_, _MINVALUE)] = None
                found[self._end(child.bounds.to, _MAXVALUE)] = None
        return list(found)

    def _end(self, end: Key | None, edge: _Rank) -> tuple[_Rank, ...]:
        ranks = [edge] if end is None else [self._ranked(place, value) for place, value in enumerate(end)]
        for place, rank in enumerate(ranks):
            if rank in (_MINVALUE, _MAXVALUE):
                return (*ranks[:place], *[rank] * (self._width - place))
        return tuple(ranks)

    def takes(self, place: int, operator: str) -> bool:
        # Beyond a column that cannot be ordered nothing can be searched for.
        return operator != "<>" and all(self._is_ordered[: place + 1])

    def steps(self, clauses: _Clauses) -> Sequence[_Kept]:
        if clauses.nulls:
            return (_Kept(0, False, True),)
        steps = list(self._comparisons(clauses.tests))
        if not steps and len(clauses.not_nulls) == self._width:
            return (self.everything,)
        return steps

    def _comparisons(self, tests: dict[int, list[KeyComparison]]) -> Iterator[_Kept]:
        """gen_prune_steps_from_opexps: columns are looked at until one has no test, or none that includes its end."""
        by_operator: dict[str, list[tuple[int, KeyComparison]]] = {"<": [], "<=": [], "=": [], ">=": [], ">": []}
        for place in range(self._width):
            if place not in tests:
                break
            for test in tests[place]:
                by_operator[test.operator].append((place, test))
            if any(test.operator in "<>" for test in tests[place]):
                break
        for operator, found in by_operator.items():
            for place, test in found:
                if place == 0:
                    yield self._matching(operator, (self._ranked(0, test.value),))
                    continue
                usable = {"<": ("=", "<="), "<=": ("=", "<="), ">": ("=", ">="), ">=": ("=", ">=")}.get(
                    operator, ("=",)
                )
                prefixes = [
                    [
                        self._ranked(before, each.value)
                        for kind in usable
                        for at, each in by_operator[kind]
                        if at == before
                    ]
                    for before in range(place)
                ]
                if not all(prefixes):
                    break
                for prefix in product(*prefixes):
                    yield self._matching(operator, (*prefix, self._ranked(place, test.value)))

    def knows(self, place: int, value: Value) -> bool:
        ranks = self._ranking[place]
        return ranks is None or ranks.of(value) is not None

    def _ranked(self, place: int, value: Value | None) -> _Rank:
        assert value is not None
        ranks = self._ranking[place]
        rank = _rank(value) if ranks is None else ranks.of(value)
        assert rank is not None
        return rank

    def _matching(self, operator: str, values: tuple[_Rank, ...]) -> _Kept:
        """get_matching_range_bounds."""
        is_prefix = len(values) < self._width
        if not self._datums:
            return _Kept(0, False, True)
        low, high = 0, len(self._datums)
        match operator:
            case "=":
                first, last = self._equals(values)
                if first > last:
                    return _Kept(1 << first, False, is_prefix)
                if not is_prefix:
                    return _Kept(1 << (first + 1), False, False)
                low = first + (self._datums[first][len(values)] == _MINVALUE)
                return _Kept(_bits(low, last + 1), False, True)
            case ">=" | ">":
                offset, is_equal = self._search(values)
                if offset >= 0 and is_equal and is_prefix:
                    offset = self._walked(offset, values, -1 if operator == ">=" else 1)
                    low = offset if operator == ">=" else offset + 1
                else:
                    low = offset + 1
            case _:
                offset, is_equal = self._search(values)
                if offset >= 0 and is_equal and is_prefix:
                    offset = self._walked(offset, values, 1 if operator == "<=" else -1)
                    high = offset + 1 if operator == "<=" else offset
                elif offset >= 0 and is_equal and operator == "<":
                    high = offset
                else:
                    high = offset + 1
        last = len(values) - 1
        # The server steps over the open ends, so as not to look into the catch-all for them.
        if low < len(self._datums) and self.homes[low] is None and self._datums[low][last] == _MINVALUE:
            low += 1
        if high >= 1 and self.homes[high] is None and self._datums[high - 1][last] == _MAXVALUE:
            high -= 1
        return _Kept(_bits(low, high), False, is_prefix)

    def _equals(self, values: tuple[_Rank, ...]) -> tuple[int, int]:
        """The first and last bound that begin with `values`; without any, first is the offset they would lie at."""
        first = bisect_left(self._datums, values)
        return first, bisect_right(self._datums, (*values, (3, 0))) - 1

    def _search(self, values: tuple[_Rank, ...]) -> tuple[int, bool]:
        """partition_range_datum_bsearch: the greatest bound that is not above, or any one that begins alike."""
        if len(values) == self._width:
            at = bisect_right(self._datums, values) - 1
            return at, at >= 0 and self._datums[at] == values
        low, high, width = -1, len(self._datums) - 1, len(values)
        while low < high:
            middle = (low + high + 1) // 2
            if self._datums[middle][:width] <= values:
                low = middle
                if self._datums[middle][:width] == values:
                    return low, True
            else:
                high = middle - 1
        return low, False

    def _walked(self, offset: int, values: tuple[_Rank, ...], step: int) -> int:
        """On among the bounds that begin alike. The server does not set out from the first or the last bound."""
        while 1 <= offset < len(self._datums) - 1 and self._datums[offset + step][: len(values)] == values:
            offset += step
        return offset


class _ListBounds(_Bounds):
    """Every listed value once, in order where there is one; the offset of a value leads to its partition."""

    def __init__(self, column: KeyColumn, children: Sequence[Partition], ranking: _Ranking | None) -> None:
        self._ranking = ranking
        self._is_ordered = column.is_ordered or ranking is not None
        self._is_known = column.name is not None and (column.kind is not Kind.OTHER or ranking is not None)
        listed: dict[Any, Partition] = {}
        for child in children:
            if isinstance(child.bounds, Listed):
                for value in child.bounds.values:
                    if value is None:
                        self.null_home = child
                    else:
                        listed[self._ranked(value) if self._is_known else value] = child
        self._values = sorted(listed) if self._is_ordered else list(listed)
        self._at = {value: place for place, value in enumerate(self._values)}
        self.homes = [listed[value] for value in self._values]
        self._all = _bits(0, len(self._values) - 1)
        self.everything = _Kept(self._all, True, True)

    def takes(self, place: int, operator: str) -> bool:
        return self._is_known if operator in ("=", "<>") else self._is_ordered

    def knows(self, place: int, value: Value) -> bool:
        return self._ranking is None or self._ranking.of(value) is not None

    def _ranked(self, value: Value) -> _Rank:
        rank = _rank(value) if self._ranking is None else self._ranking.of(value)
        assert rank is not None
        return rank

    def steps(self, clauses: _Clauses) -> Sequence[_Kept]:
        if clauses.nulls:
            return (_Kept(0, True, self.null_home is None),)
        tests = clauses.tests.get(0, ())
        if not tests and clauses.not_nulls:
            return (_Kept(self._all, False, True),)
        return [self._matching(test) for test in tests]

    def _matching(self, test: KeyComparison) -> _Kept:
        """get_matching_list_bounds: all but an equality may also match values that are not listed."""
        assert test.value is not None
        value = self._ranked(test.value)
        place = self._at.get(value)
        match test.operator:
            case "=":
                return _Kept(0, False, True) if place is None else _Kept(1 << place)
            case "<>":
                return _Kept(self._all if place is None else self._all & ~(1 << place), False, True)
            case ">" | ">=":
                low = (bisect_right if test.operator == ">" else bisect_left)(self._values, value)
                return _Kept(_bits(low, len(self._values) - 1), False, True)
            case _:
                high = (bisect_left if test.operator == "<" else bisect_right)(self._values, value)
                return _Kept(_bits(0, high - 1), False, True)


class _HashBounds(_Bounds):
    """Offsets are the remainders by the greatest modulus."""

    def __init__(
        self, key: tuple[KeyColumn, ...], children: Sequence[Partition], spelling: str, answers: "Answers | None"
    ) -> None:
        self._width = len(key)
        self._types = _hash_types(key)
        # Types that are not hashed here are hashed by the server, where there is one.
        self._asked = answers if self._types is None and all(column.name for column in key) else None
        self._spelling = spelling
        self._bare_types = tuple(column.bare_type for column in key)
        parts = [(child, child.bounds) for child in children if isinstance(child.bounds, Hashed)]
        self._modulus = max((bounds.modulus for _, bounds in parts), default=1)
        homes: list[Partition | None] = [None] * self._modulus
        for child, bounds in parts:
            homes[bounds.remainder :: bounds.modulus] = [child] * len(
                range(bounds.remainder, self._modulus, bounds.modulus)
            )
        self.homes = homes
        self.everything = _Kept(_bits(0, self._modulus - 1))

    def takes(self, place: int, operator: str) -> bool:
        return operator == "=" and (self._types is not None or self._asked is not None)

    def steps(self, clauses: _Clauses) -> Sequence[_Kept]:
        columns: list[list[str | None]] = [
            [spell(test.value) for test in clauses.tests.get(place, ())] or ([None] if place in clauses.nulls else [])
            for place in range(self._width)
        ]
        if not all(columns):
            return ()
        return [self._matching(key) for key in product(*columns)]

    def _matching(self, key: tuple[str | None, ...]) -> _Kept:
        if self._asked is not None:
            found = self._asked.place(HashPlace(self._spelling, self._modulus, key, self._bare_types))
            return self.everything if found is None else _Kept(1 << found)
        if self._types is None:
            return self.everything
        try:
            return _Kept(1 << _key_hash(key, self._types) % self._modulus)
        except UsageError:  # a value beyond the type, such as 1e10 for an integer: left to the server
            return self.everything


# One key at a time is slow to hash, and many layouts ask for the same keys.
@lru_cache(maxsize=65_536)
def _key_hash(key: tuple[str | None, ...], types: "tuple[HashType, ...]") -> int:
    from slabrow.core.hashing.hash_encoding import (
        keys_hash,  # with NumPy, which is slow to load and needed for hash alone
    )

    return int(keys_hash([[each] for each in key], types)[0])


def _hash_types(key: tuple[KeyColumn, ...]) -> "tuple[HashType, ...] | None":
    from slabrow.core.hashing.hash_encoding import parse_types

    try:
        return tuple(parse_types(column.type_name)[0] for column in key)
    except UsageError:
        return None
