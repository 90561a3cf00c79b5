"""Which leaves can hold rows that satisfy a condition on the key: the server's own way of pruning, on plain values.

The server (src/backend/partitioning/partprune.c) finds for each comparison the slots between bounds that can match,
gaps included, and then intersects them for AND and unites them for OR. A catch-all survives when a gap is left. Here a
slot is a place in a list: a range between neighbouring bounds, a listed value, or a hash remainder.

Everything that is not understood is `Anything`, which keeps every leaf: never too few.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import assert_never

import numpy as np

from slabrow.core.bounds import Hashed, Listed, Range, range_order
from slabrow.core.errors import UsageError
from slabrow.core.hash_keys import keys_hash, parse_types
from slabrow.core.keys import Key, Value, order, spell
from slabrow.core.layout import By
from slabrow.core.tree import Partition, Tree


@dataclass(frozen=True, slots=True)
class Compared:
    """`column operator value`; operator is one of = <> < <= > >=."""

    column: str
    operator: str
    value: Value


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
    """At least one of these holds (OR); of none, nothing holds."""

    conditions: tuple["Condition", ...]


@dataclass(frozen=True, slots=True)
class Anything:
    """What is not understood, or not about the key."""


Condition = Compared | NullTest | All | Any_ | Anything


@dataclass(frozen=True, slots=True)
class _Slot:
    """A place where keys can lie. home is None in a gap, whose rows the catch-all takes."""

    may_match: Callable[[Compared], bool]
    home: Partition | None


def survivors(tree: Tree, condition: Condition) -> tuple[Partition, ...]:
    """The leaves that rows satisfying `condition` can lie in; of a child that is divided further, all its leaves."""
    kept = _children(tree, condition)
    below: dict[str, list[Partition]] = {}
    for partition in tree.partitions:
        below.setdefault(partition.parent, []).append(partition)

    def leaves(partition: Partition) -> Iterable[Partition]:
        if partition.is_leaf:
            yield partition
        for child in below.get(partition.spelling, ()):
            yield from leaves(child)

    return tuple(leaf for child in kept for leaf in leaves(child))


def _children(tree: Tree, condition: Condition) -> tuple[Partition, ...]:
    children = tree.children
    if any(isinstance(child.bounds, Range) and child.bounds.is_opaque for child in children):
        return children
    match tree.by:
        case By.RANGE:
            slots = _range_slots(tree)
            places = _Places(slots, _RangeRules(tree))
        case By.LIST:
            slots = _list_slots(tree)
            places = _Places(slots, _ListRules(tree))
        case By.HASH:
            slots = [_Slot(lambda _: True, child) for child in children]
            places = _Places(slots, _HashRules(tree))
        case _:
            assert_never(tree.by)
    kept = places.of(condition)
    homes = {slots[place].home for place in kept if slots[place].home is not None}
    if any(slots[place].home is None for place in kept):
        homes.add(tree.catch_all)
    return tuple(child for child in children if child in homes)


class _Rules:
    """What a strategy does with a single test. Slots are numbered; NULL has a slot of its own where it has a home."""

    def compared(self, test: Compared, slots: Sequence[_Slot]) -> set[int]:
        raise NotImplementedError

    def null(self, test: NullTest, slots: Sequence[_Slot]) -> set[int]:
        raise NotImplementedError

    def together(self, conditions: tuple[Condition, ...], slots: Sequence[_Slot]) -> set[int]:
        """What conditions joined by AND allow beyond what each allows alone."""
        return set(range(len(slots)))


@dataclass(frozen=True, slots=True)
class _Places:
    slots: Sequence[_Slot]
    rules: _Rules

    def of(self, condition: Condition) -> set[int]:
        match condition:
            case Compared():
                return self.rules.compared(condition, self.slots)
            case NullTest():
                return self.rules.null(condition, self.slots)
            case All(conditions):
                kept = self.rules.together(_flat(conditions), self.slots)
                for each in conditions:
                    kept &= self.of(each)
                return kept
            case Any_(conditions):
                return set().union(*map(self.of, conditions))
            case Anything():
                return set(range(len(self.slots)))
            case _:
                assert_never(condition)


def _flat(conditions: tuple[Condition, ...]) -> tuple[Condition, ...]:
    """With nested ANDs dissolved."""
    return tuple(part for each in conditions for part in (_flat(each.conditions) if isinstance(each, All) else (each,)))


def _range_slots(tree: Tree) -> list[_Slot]:
    """Every range between neighbouring bounds, the gaps and both open ends among them; at the end the slot of NULL."""
    ordered = sorted(tree.ranges(), key=lambda pair: range_order(pair[1]))
    slots: list[_Slot] = []
    at: Key | None = None
    begun = False
    for partition, bounds in ordered:
        if (not begun and bounds.from_ is not None) or (begun and at != bounds.from_):
            slots.append(_range_slot(at if begun else None, bounds.from_, None, len(tree.key)))
        slots.append(_range_slot(bounds.from_, bounds.to, partition, len(tree.key)))
        at, begun = bounds.to, True
    if not ordered or at is not None:
        slots.append(_range_slot(at, None, None, len(tree.key)))
    return [*slots, _Slot(lambda _: False, None)]


def _range_slot(low: Key | None, high: Key | None, home: Partition | None, width: int) -> _Slot:
    first = None if low is None else order(low[:1])
    last = None if high is None else order(high[:1])

    def may_match(test: Compared) -> bool:
        # Values are dense to the server: after x there is always something before the next bound.
        value = order((test.value,))
        starts_before = first is None or first < value
        starts_at = first == value
        reaches = last is None or value < last
        # With more columns a bound may end within the value: (x, MINVALUE) is kept as the server does.
        touches_end = width > 1 and last == value
        match test.operator:
            case "=":
                return (starts_before or starts_at) and (reaches or touches_end)
            case "<":
                return starts_before or (width > 1 and starts_at)
            case "<=":
                return starts_before or starts_at
            case ">" | ">=":
                return reaches or touches_end
            case _:
                return True

    return _Slot(may_match, home)


@dataclass(frozen=True, slots=True)
class _RangeRules(_Rules):
    """Only the leading key column is looked at; NULL keys lie in the catch-all alone."""

    tree: Tree

    def compared(self, test: Compared, slots: Sequence[_Slot]) -> set[int]:
        everything = set(range(len(slots)))
        # Texts have the order of a collation, which is not known here.
        if test.column != self.tree.key[0].name or test.operator == "<>" or isinstance(test.value, str):
            return everything
        return {place for place, slot in enumerate(slots[:-1]) if slot.may_match(test)} | (
            {len(slots) - 1} if len(self.tree.key) > 1 else set()
        )

    def null(self, test: NullTest, slots: Sequence[_Slot]) -> set[int]:
        if test.column not in [column.name for column in self.tree.key]:
            return set(range(len(slots)))
        return {len(slots) - 1} if test.is_null else set(range(len(slots)))


def _list_slots(tree: Tree) -> list[_Slot]:
    """Every listed value, then NULL, then all values that are not listed."""
    slots: list[_Slot] = []
    null_home: Partition | None = None
    for child in tree.children:
        if isinstance(child.bounds, Listed):
            for value in child.bounds.values:
                if value is None:
                    null_home = child
                else:
                    slots.append(_Slot(lambda test, value=value: _holds(value, test), child))  # type: ignore[misc]
    return [*slots, _Slot(lambda _: False, null_home), _Slot(lambda _: True, None)]


def _holds(value: Value, test: Compared) -> bool:
    try:
        one, other = order((value,)), order((test.value,))
    except TypeError:
        return True
    match test.operator:
        case "=":
            return one == other
        case "<>":
            return one != other
        case "<":
            return one < other
        case "<=":
            return one <= other
        case ">":
            return one > other
        case _:
            return one >= other


@dataclass(frozen=True, slots=True)
class _ListRules(_Rules):
    tree: Tree

    def compared(self, test: Compared, slots: Sequence[_Slot]) -> set[int]:
        if test.column != self.tree.key[0].name:
            return set(range(len(slots)))
        # Texts have the order of a collation, which is not known here: only equality is.
        if isinstance(test.value, str) and test.operator not in ("=", "<>"):
            return set(range(len(slots)))
        listed = {place for place, slot in enumerate(slots[:-2]) if slot.may_match(test)}
        # An equality with a listed value leaves nothing to the others; every other comparison may.
        return listed if test.operator == "=" and listed else listed | {len(slots) - 1}

    def null(self, test: NullTest, slots: Sequence[_Slot]) -> set[int]:
        null = len(slots) - 2
        if test.column != self.tree.key[0].name:
            return set(range(len(slots)))
        return {null} if test.is_null else set(range(len(slots))) - {null}


@dataclass(frozen=True, slots=True)
class _HashRules(_Rules):
    """Only when every key column is known, by = or IS NULL, is there one part for it."""

    tree: Tree

    def compared(self, test: Compared, slots: Sequence[_Slot]) -> set[int]:
        return self.together((test,), slots)

    def null(self, test: NullTest, slots: Sequence[_Slot]) -> set[int]:
        return self.together((test,), slots)

    def together(self, conditions: tuple[Condition, ...], slots: Sequence[_Slot]) -> set[int]:
        known: dict[str, str | None] = {}
        for each in conditions:
            match each:
                case Compared(column, "=", value):
                    if known.setdefault(column, spell(value)) != spell(value):
                        return set(range(len(slots)))  # a contradiction: left to the server
                case NullTest(column, True):
                    known.setdefault(column, None)
        columns = [column.name or "" for column in self.tree.key]
        if not set(columns) <= known.keys():
            return set(range(len(slots)))
        try:
            types = tuple(parse_types(column.type_name)[0] for column in self.tree.key)
            hashed = keys_hash([[known[column]] for column in columns], types)[0]
        except UsageError:
            return set(range(len(slots)))
        return {
            place
            for place, slot in enumerate(slots)
            if slot.home is not None
            and isinstance(slot.home.bounds, Hashed)
            and int(hashed % np.uint64(slot.home.bounds.modulus)) == slot.home.bounds.remainder
        }
