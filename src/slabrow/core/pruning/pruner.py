"""Which leaves can hold rows that satisfy a condition on the key: the server's own way of pruning, on plain values.

The steps are those of PostgreSQL (src/backend/partitioning/partprune.c, the same from 15 to 18): conditions joined by
AND give one step for each key prefix that they pin, OR unites its arms, and a step finds the offsets between bounds
that can match, gaps included. A set of offsets is a whole number with a bit for each, so that thousands of partitions
cost no more than a few.

Everything that is not understood is `Anything`, which keeps every leaf: never too few.
"""

# How pruning works, in five sentences. The partitions of one level lie between sorted bounds, and every gap between two
# bounds has a number, its *offset*. A comparison such as `k >= 5` is a *step*: it gives the set of offsets in which a
# matching row can lie. Comparisons joined by AND intersect their sets, arms joined by OR unite them. Offsets lead to
# partitions; an offset without a partition leads to the catch-all. What cannot be turned into a step gives no set at
# all, and so leaves out nothing.
#
# The rules and their sources:
# - partprune.c, gen_partprune_steps_internal: which conditions become steps, and when they contradict each other.
# - partprune.c, gen_prune_steps_from_opexps: a condition on a later key column is used only together with conditions on
#   all columns before it.
# - partprune.c, get_matching_range_bounds and its like for lists and hash: which offsets a step keeps.
# - A value known only as execution starts (`now()`, a parameter of a generic plan) is used in a second round, and a
#   value known only while the query runs is not used at all: such a query *may* prune later, and that is all that is
#   said.
#
# An example. Bounds are January 1, February 1, March 1; partitions are jan (offset 1) and feb (offset 2); a catch-all
# takes the rest. `k >= February 1 AND k < February 10` keeps the offsets {2, 3} and {0, 1, 2}: together {2}, which is
# feb. `k = March 5` keeps offset 3, in which no partition lies: only the catch-all is read. `k + 0 = 5` keeps all.
#
# Being cleverer than the server would be wrong here. The prediction is held against the server's plan, so where the
# server keeps a partition that no row can be in, the pruner keeps it too.

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, assert_never

from slabrow.core.pruning.key_conditions import (
    All,
    Among,
    Any_,
    Anything,
    Condition,
    KeyComparison,
    NamedLeaves,
    NotAmong,
    NullTest,
)
from slabrow.core.pruning.sorted_bounds import Clauses, Contradiction, HashBounds, Kept, flat, sorted_bounds
from slabrow.core.sql.when import When
from slabrow.core.table.bounds import CatchAll
from slabrow.core.table.tree import KeyColumn, Partition, Tree
from slabrow.core.values.method import By

if TYPE_CHECKING:
    from slabrow.core.sql.answers import Answers


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
        self._has_one_level = all(child.is_leaf for child in self._top.children)
        self._every = frozenset(leaf.spelling for leaf in tree.leaves)

    def touched(self, condition: Condition) -> Touched:
        """The leaves that are left when planning is over, and those that are left when execution has started."""
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
        if self._has_one_level:
            return self._top.children_of(condition, until)
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
        self._bounds = sorted_bounds(by, key, children, spelling, answers)

    def children_of(self, condition: Condition, until: When) -> tuple[Partition, ...]:
        """The children that may hold rows, in the order of their bounds."""
        if self._bounds is None:
            return self.children
        try:
            kept = self._kept((condition,), until)
        except Contradiction:
            return ()
        if kept is None:
            return self.children
        return tuple(self._homes(kept))

    def _homes(self, kept: Kept) -> Iterator[Partition]:
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
                    for part in flat(nested)
                    if isinstance(part, KeyComparison) and part.operator == "=" and part.when is not When.RUN
                }
                parts = tuple(
                    part
                    for part in flat(nested)
                    if not (isinstance(part, KeyComparison) and part.when is When.RUN and part.column in given)
                )
                if isinstance(self._bounds, HashBounds):
                    known = {
                        part.column
                        for part in flat(parts)
                        if (isinstance(part, KeyComparison) and part.operator == "=")
                        or (isinstance(part, NullTest) and part.is_null)
                    }
                    running = any(isinstance(part, KeyComparison) and part.when is When.RUN for part in flat(parts))
                    return running and set(self._places) <= known and len(self._places) == len(self.key)
                return any(map(self.would_use, parts))
            case Any_(parts):
                return bool(parts) and all(
                    self.would_use(part) or not isinstance(part, Anything) for part in parts
                ) and any(map(self.would_use, parts))  # fmt: skip
            case _:
                return False

    def _kept(self, conditions: Sequence[Condition], until: When) -> Kept | None:
        """gen_partprune_steps_internal: None where nothing can be used. Raises Contradiction."""
        assert self._bounds is not None
        steps: list[Kept] = []
        clauses = Clauses()
        for condition in flat(conditions):
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
                            raise Contradiction
                        for value in values if all(self._bounds.knows(place, each) for each in values) else ():
                            steps += self._bounds.steps(Clauses({place: [KeyComparison(column, "<>", value)]}))
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
                        raise Contradiction
                    clauses.tests.setdefault(place, []).append(condition)
                case Anything() | NamedLeaves():
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
    def _null_test(clauses: Clauses, place: int, is_null: bool) -> None:
        if is_null:
            if place in clauses.not_nulls or place in clauses.tests:
                raise Contradiction
            clauses.nulls.add(place)
        else:
            if place in clauses.nulls:
                raise Contradiction
            clauses.not_nulls.add(place)

    def _any(self, arms: Sequence[Condition], until: When) -> Kept | None:
        """Unites the arms of OR: a contradictory arm adds nothing, an arm that cannot be used keeps everything."""
        assert self._bounds is not None
        united: Kept | None = None
        for arm in arms:
            try:
                kept = self._kept((arm,), until)
            except Contradiction:
                continue
            kept = self._bounds.everything if kept is None else kept
            united = kept if united is None else united | kept
        if united is None:
            raise Contradiction
        return united
