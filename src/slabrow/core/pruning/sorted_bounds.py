"""The bounds of one level of partitions in order, and which of them conditions on the key leave over."""

# Three ways to divide, one interface. Each class keeps the bounds of one table in the order of the server and answers
# for conditions joined by AND: which offsets can hold matching rows? The answer is a set of bits in one whole number,
# so that thousands of partitions are intersected in one operation.
#
# - Range: bounds b0 < b1 < … < bn give the offsets 0 (below b0), 1 (from b0 to b1), …, n+1 (from bn on). A partition is
#   the home of the offset that ends with its upper bound. A search for a prefix of the key finds *all* bounds that
#   begin with the prefix, because MINVALUE and MAXVALUE stand for the columns that are not given.
# - List: the offset of a value is its place among all listed values. `<` and `>` need an order of the values, `=` does
#   not. Every answer but that of `=` also keeps the catch-all, which may hold values that are not listed.
# - Hash: the offset is the hash value modulo the greatest modulus; a partition with a smaller modulus is the home of
#   several offsets. Only `=` (or IS NULL) on every key column gives an answer.
#
# Sources: partition_range_datum_bsearch, partition_list_bsearch (src/backend/partitioning/partbounds.c) and
# get_matching_*_bounds (partprune.c). The search for a prefix is theirs to the letter: it stops at the first bound that
# begins alike and walks on from there, and so sometimes keeps one offset more than a perfect search would.
#
# An example. A range key (a, b) has the bounds (1, 5), (1, 9), (2, MINVALUE). `a = 1` alone finds the bounds 0 and 1
# and keeps the offsets 0 to 2, since rows with a = 1 lie below (1, 5) too.

from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import product
from typing import TYPE_CHECKING, Any

from slabrow.core.pruning.key_conditions import All, Condition, KeyComparison
from slabrow.core.sql.answers import HashPlace
from slabrow.core.table.bounds import Hashed, Listed, Range
from slabrow.core.table.tree import KeyColumn, Partition
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Key, Kind, Opaque, Value, midnight_of, order, spell
from slabrow.core.values.method import By

if TYPE_CHECKING:
    from slabrow.core.hashing.hash_encoding import HashType
    from slabrow.core.sql.answers import Answers


class Contradiction(Exception):
    """No row can satisfy the conditions."""


_Rank = tuple[float, Any]


_MINVALUE: _Rank = (-2, 0)


_MAXVALUE: _Rank = (2, 0)


@dataclass(slots=True)
class Kept:
    """Offsets between bounds, as bits; whether the homes of NULL and of all else (the catch-all) are kept too."""

    offsets: int
    null: bool = False
    rest: bool = False

    def __and__(self, other: "Kept") -> "Kept":
        return Kept(self.offsets & other.offsets, self.null and other.null, self.rest and other.rest)

    def __or__(self, other: "Kept") -> "Kept":
        return Kept(self.offsets | other.offsets, self.null or other.null, self.rest or other.rest)


def bits(low: int, high: int) -> int:
    """The bits `low` to `high`, both in; none when high < low."""
    return ((1 << (high + 1)) - 1) & ~((1 << low) - 1) if high >= low else 0


@dataclass(slots=True)
class Clauses:
    """Conditions joined by AND, sorted by key column: comparisons by place in the key, and NULL tests."""

    tests: dict[int, list[KeyComparison]] = field(default_factory=dict)
    nulls: set[int] = field(default_factory=set)
    not_nulls: set[int] = field(default_factory=set)


def flat(conditions: Sequence[Condition]) -> Sequence[Condition]:
    """The conditions with nested ANDs dissolved."""
    if not any(isinstance(each, All) for each in conditions):
        return conditions
    return tuple(part for each in conditions for part in (flat(each.conditions) if isinstance(each, All) else (each,)))


class SortedBounds:
    """The rules of range, list or hash for clauses. homes: the child at each offset, None in a gap."""

    homes: Sequence[Partition | None]
    null_home: Partition | None = None
    everything: Kept

    def takes(self, place: int, operator: str) -> bool:
        """Whether a comparison of the key column at `place` can be used."""
        raise NotImplementedError

    def steps(self, clauses: Clauses) -> Sequence[Kept]:
        """The pruning steps that conditions on the key give: each keeps some bounds, and all of them hold."""
        raise NotImplementedError

    def knows(self, place: int, value: Value) -> bool:
        """Whether the value has a known place among the bounds of the key column at `place`."""
        return True


def sorted_bounds(
    by: By, key: tuple[KeyColumn, ...], children: Sequence[Partition], spelling: str, answers: "Answers | None"
) -> SortedBounds | None:
    """None where a bound cannot be put in order."""
    if by is By.HASH:
        return HashBounds(key, children, spelling, answers)
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
    return order((midnight_of(value),))[0]


class _RangeBounds(SortedBounds):
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
        self.everything = Kept(bits(0, len(self._datums)), False, True)

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
        """Whether a key column at this place can be used with this operator."""
        # Beyond a column that cannot be ordered nothing can be searched for.
        return operator != "<>" and all(self._is_ordered[: place + 1])

    def steps(self, clauses: Clauses) -> Sequence[Kept]:
        """The pruning steps that conditions on the key give: each keeps some bounds, and all of them hold."""
        if clauses.nulls:
            return (Kept(0, False, True),)
        steps = list(self._comparisons(clauses.tests))
        if not steps and len(clauses.not_nulls) == self._width:
            return (self.everything,)
        return steps

    def _comparisons(self, tests: dict[int, list[KeyComparison]]) -> Iterator[Kept]:
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

    def _matching(self, operator: str, values: tuple[_Rank, ...]) -> Kept:
        """get_matching_range_bounds."""
        is_prefix = len(values) < self._width
        if not self._datums:
            return Kept(0, False, True)
        low, high = 0, len(self._datums)
        match operator:
            case "=":
                first, last = self._equals(values)
                if first > last:
                    return Kept(1 << first, False, is_prefix)
                if not is_prefix:
                    return Kept(1 << (first + 1), False, False)
                low = first + (self._datums[first][len(values)] == _MINVALUE)
                return Kept(bits(low, last + 1), False, True)
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
        return Kept(bits(low, high), False, is_prefix)

    def _equals(self, values: tuple[_Rank, ...]) -> tuple[int, int]:
        """The first and last bound that begin with `values`; without any, first is the offset they would lie at."""
        first = bisect_left(self._datums, values)
        return first, bisect_right(self._datums, (*values, (3, 0))) - 1

    def _search(self, values: tuple[_Rank, ...]) -> tuple[int, bool]:
        """partition_range_datum_bsearch: the greatest bound that is not above the values, or any bound that shares
        their prefix.
        """
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
        """Moves along the bounds that share this prefix. As on the server, the first and the last bound never move."""
        while 1 <= offset < len(self._datums) - 1 and self._datums[offset + step][: len(values)] == values:
            offset += step
        return offset


class _ListBounds(SortedBounds):
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
        self._all = bits(0, len(self._values) - 1)
        self.everything = Kept(self._all, True, True)

    def takes(self, place: int, operator: str) -> bool:
        """Whether a key column at this place can be used with this operator."""
        return self._is_known if operator in ("=", "<>") else self._is_ordered

    def knows(self, place: int, value: Value) -> bool:
        return self._ranking is None or self._ranking.of(value) is not None

    def _ranked(self, value: Value) -> _Rank:
        rank = _rank(value) if self._ranking is None else self._ranking.of(value)
        assert rank is not None
        return rank

    def steps(self, clauses: Clauses) -> Sequence[Kept]:
        """The pruning steps that conditions on the key give: each keeps some bounds, and all of them hold."""
        if clauses.nulls:
            return (Kept(0, True, self.null_home is None),)
        tests = clauses.tests.get(0, ())
        if not tests and clauses.not_nulls:
            return (Kept(self._all, False, True),)
        return [self._matching(test) for test in tests]

    def _matching(self, test: KeyComparison) -> Kept:
        """get_matching_list_bounds: all but an equality may also match values that are not listed."""
        assert test.value is not None
        value = self._ranked(test.value)
        place = self._at.get(value)
        match test.operator:
            case "=":
                return Kept(0, False, True) if place is None else Kept(1 << place)
            case "<>":
                return Kept(self._all if place is None else self._all & ~(1 << place), False, True)
            case ">" | ">=":
                low = (bisect_right if test.operator == ">" else bisect_left)(self._values, value)
                return Kept(bits(low, len(self._values) - 1), False, True)
            case _:
                high = (bisect_left if test.operator == "<" else bisect_right)(self._values, value)
                return Kept(bits(0, high - 1), False, True)


class HashBounds(SortedBounds):
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
        self.everything = Kept(bits(0, self._modulus - 1))

    def takes(self, place: int, operator: str) -> bool:
        """Whether a key column at this place can be used with this operator."""
        return operator == "=" and (self._types is not None or self._asked is not None)

    def steps(self, clauses: Clauses) -> Sequence[Kept]:
        """The pruning steps that conditions on the key give: each keeps some bounds, and all of them hold."""
        columns: list[list[str | None]] = [
            [spell(test.value) for test in clauses.tests.get(place, ())] or ([None] if place in clauses.nulls else [])
            for place in range(self._width)
        ]
        if not all(columns):
            return ()
        return [self._matching(key) for key in product(*columns)]

    def _matching(self, key: tuple[str | None, ...]) -> Kept:
        if self._asked is not None:
            found = self._asked.place(HashPlace(self._spelling, self._modulus, key, self._bare_types))
            return self.everything if found is None else Kept(1 << found)
        if self._types is None:
            return self.everything
        try:
            return Kept(1 << _key_hash(key, self._types) % self._modulus)
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
