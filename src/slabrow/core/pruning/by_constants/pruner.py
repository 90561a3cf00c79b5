"""Which leaves a condition leaves over, as MariaDB's range analysis tells it (prune_partitions, sql/opt_range.cc).

A condition becomes a list of boxes: for each column of the key a set of values. AND cuts boxes with each other. OR of
arms that begin with the same column lists the boxes of all; of others it stays a list of arms, each pruned by itself
(SEL_IMERGE). What is not understood limits nothing.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime

from slabrow.core.pruning.by_constants.level import Level, ordered
from slabrow.core.pruning.by_constants.spans import Span, Values
from slabrow.core.pruning.by_constants.text_order import prefix_weights
from slabrow.core.pruning.key_conditions import (
    All,
    Among,
    Any_,
    Condition,
    KeyComparison,
    NamedLeaves,
    NotAmong,
    NullTest,
)
from slabrow.core.pruning.pruner import Touched
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn, KeyRule, Partition, Tree
from slabrow.core.values.key_values import Kind
from slabrow.core.values.method import By

_MOST_BOXES = 4_000
Box = Mapping[str, Values]


@dataclass(frozen=True, slots=True)
class _Found:
    """boxes None: nothing is known of the key. merged: lists of arms; of each list one arm holds."""

    boxes: tuple[Box, ...] | None = None
    merged: tuple[tuple["_Found", ...], ...] = field(default=())

    @property
    def is_unknown(self) -> bool:
        return self.boxes is None and not self.merged

    @property
    def is_empty(self) -> bool:
        return self.boxes == ()


class ConstantPruner:
    """A tree made ready for many conditions.

    answers   what a server says of the order of texts; None without a server
    """

    def __init__(self, tree: Tree, answers: Answers | None = None) -> None:
        self.tree = tree
        self._answers = answers
        rule = tree.rule if tree.rule is not None else _usual_rule(tree.by, tree.key)
        self._tops = tree.children
        self._top = Level(tree.by, tree.key, rule, [each.bounds for each in self._tops], answers)
        self._subs: dict[str, list[Partition]] = {}
        for each in tree.partitions:
            if each.parent != tree.spelling:
                self._subs.setdefault(each.parent, []).append(each)
        division = next((each.division for each in self._tops if each.division is not None), None)
        self._sub: Level | None = None
        columns = [*self._top.columns]
        if division is not None:
            inner = division.rule if division.rule is not None else _usual_rule(division.by, division.key)
            first = next(iter(self._subs.values()), [])
            self._sub = Level(By.HASH, division.key, inner, [each.bounds for each in first], answers)
            columns += self._sub.columns
        self._columns = {column.text.lower(): column for column in reversed(columns)}
        self._order = {name: place for place, name in enumerate(dict.fromkeys(c.text.lower() for c in columns))}

    def touched(self, condition: Condition) -> Touched:
        """Everything is decided while planning."""
        kept = frozenset(leaf.spelling for leaf in self.survivors(condition))
        return Touched(kept, kept, False)

    def survivors(self, condition: Condition, until: When = When.START) -> tuple[Partition, ...]:
        """The leaves that rows satisfying `condition` can lie in."""
        named = _named(condition)
        kept = self._leaves(self._found(condition))
        return tuple(
            leaf
            for leaf in self.tree.leaves
            if leaf.spelling in kept and (named is None or {leaf.name.table, leaf.parent} & named)
        )

    def waits(self, condition: Condition) -> bool:
        """Never: at every execution all is decided anew."""
        return False

    def _leaves(self, found: _Found) -> frozenset[str]:
        if found.boxes is None:
            kept = frozenset(leaf.spelling for leaf in self.tree.leaves)
        else:
            kept = frozenset().union(*(self._of_box(box) for box in found.boxes))
        for arms in self._looked_at(found):
            kept &= frozenset().union(*(self._leaves(arm) for arm in arms))
        return kept

    @staticmethod
    def _looked_at(found: _Found) -> Sequence[tuple[_Found, ...]]:
        """The ORs by which the server prunes.

        Other conditions can leave a single arm of an OR. The server then turns this OR into ranges. Beside another OR
        the server does not prune by ranges (imerge_list_and_tree, prune_partitions).
        """
        if len(found.merged) < 2 or found.boxes is None:
            return found.merged
        ranges = _Found(found.boxes)
        left = [arms for arms in found.merged if sum(not _and(arm, ranges).is_empty for arm in arms) > 1]
        return left or found.merged

    def _of_box(self, box: Box) -> frozenset[str]:
        tops = [self._tops[place] for place in self._kept(self._top, box)]
        if self._sub is None:
            return frozenset(each.spelling for each in tops)
        subs = self._kept(self._sub, box)
        return frozenset(self._subs[top.spelling][place].spelling for top in tops for place in subs)

    @staticmethod
    def _kept(level: Level, box: Box) -> frozenset[int]:
        try:
            return level.kept(box)
        except TypeError:  # values without a known order
            return level.kept({})

    def _found(self, condition: Condition) -> _Found:
        match condition:
            case All(parts):
                found = _Found()
                for part in parts:
                    found = _and(found, self._found(part))
                return found
            case Any_(parts):
                arms = [arm for arm in map(self._found, parts) if not arm.is_empty]
                return self._or(arms)
            case KeyComparison(column, sign, value) if value is not None:
                return self._compared(column, sign, value)
            case Among(column, values) if column.lower() in self._columns:
                arms = [self._compared(column, "=", value) for value in values]
                return self._or([arm for arm in arms if not arm.is_empty])
            case NotAmong(column, values):
                found = _Found()
                for value in values:
                    found = _and(found, self._compared(column, "<>", value))
                return found
            case NullTest(column, is_null) if column.lower() in self._order:
                held = Values(has_null=True) if is_null else Values(spans=(Span(),))
                if is_null and self._columns[column.lower()].not_null:
                    if not self._may_be_zero(column):
                        return _Found(())
                    held = Values(has_null=True, spans=(self._below_all_days(column),))
                return _Found(({column.lower(): held},))
        return _Found()

    def _may_be_zero(self, column: str) -> bool:
        """Days without a calendar answer to IS NULL even where no NULL can be: as such a day, below everything."""
        return self._columns[column.lower()].kind in (Kind.DATE, Kind.TIMESTAMP)

    def _below_all_days(self, column: str) -> Span:
        lowest = date.min if self._columns[column.lower()].kind is Kind.DATE else datetime.min
        return Span(None, False, lowest, False)

    def _or(self, arms: Sequence[_Found]) -> _Found:
        if not arms:
            return _Found(())
        if any(arm.is_unknown for arm in arms):
            return _Found()
        if len(arms) == 1:
            return arms[0]
        first = {self._first(box) for arm in arms for box in arm.boxes or ({},)}
        if len(first) == 1 and None not in first and not any(arm.merged for arm in arms):
            boxes = tuple(box for arm in arms for box in arm.boxes or ())
            return _Found(self._gathered(boxes))
        return _Found(None, (tuple(arms),))

    def _gathered(self, boxes: tuple[Box, ...]) -> tuple[Box, ...]:
        """Boxes on one column alone become one box."""
        if all(len(box) == 1 for box in boxes) and len({next(iter(box)) for box in boxes}) == 1:
            (name,) = {next(iter(box)) for box in boxes}
            has_null = any(box[name].has_null for box in boxes)
            from slabrow.core.pruning.by_constants.spans import united

            try:
                spans = united(tuple(span for box in boxes for span in box[name].spans))
            except TypeError:
                return boxes
            return ({name: Values(has_null, spans)},)
        return boxes

    def _first(self, box: Box) -> int | None:
        return min((self._order[name] for name in box), default=None)

    def _compared(self, name: str, sign: str, value: object) -> _Found:
        column = self._columns.get(name.lower())
        if column is None:
            return _Found()
        if sign == "like":
            return self._like(column, str(value))
        try:
            place = ordered(column, value, self._answers)
        except TypeError:
            return _Found()
        if sign != "=" and column.kind in (Kind.UUID, Kind.OTHER):
            return _Found()
        match sign:
            case "=":
                spans = [Span(place, True, place, True)]
            case "<>":
                spans = [Span(None, False, place, False), Span(place, False, None, False)]
            case "<" | "<=":
                spans = [Span(None, False, place, sign == "<=")]
            case _:
                spans = [Span(place, sign == ">=", None, False)]
        return _Found(({column.text.lower(): Values(spans=tuple(spans))},))

    def _like(self, column: KeyColumn, prefix: str) -> _Found:
        weights = prefix_weights(prefix, column.collation or "")
        if weights is None:
            return _Found()
        high = (*weights, *([1 << 20] * 8))
        return _Found(({column.text.lower(): Values(spans=(Span(weights, True, high, True),))},))


def _usual_rule(by: By, key: tuple[KeyColumn, ...]) -> KeyRule:
    """Of a table that is only supposed: as it would be made."""
    is_number = len(key) == 1 and key[0].kind is Kind.INTEGER
    return KeyRule(columns=key, is_key=by is By.HASH and not is_number)


def _and(one: _Found, two: _Found) -> _Found:
    merged = (*one.merged, *two.merged)
    if one.boxes is None or two.boxes is None:
        return _Found(one.boxes if two.boxes is None else two.boxes, merged)
    if len(one.boxes) * len(two.boxes) > _MOST_BOXES:
        return _Found(one.boxes, merged)
    boxes = []
    for first in one.boxes:
        for second in two.boxes:
            box = dict(first)
            for name, values in second.items():
                try:
                    box[name] = box[name].both(values) if name in box else values
                except TypeError:
                    continue
            if not any(values.is_empty for values in box.values()):
                boxes.append(box)
    return _Found(tuple(boxes), merged)


def _named(condition: Condition) -> set[str] | None:
    """The partitions that a statement names itself."""
    match condition:
        case NamedLeaves(names):
            return set(names)
        case All(parts):
            known = [found for part in parts if (found := _named(part)) is not None]
            return set.intersection(*known) if known else None
    return None
