"""One level of partitions: which of them a set of values leaves over, by MariaDB's rules.

Sources: MariaDB 10.11 (sql/sql_partition.cc: get_part_iter_for_interval_via_mapping, _via_walking, _cols_via_map), and
the server's own EXPLAIN for each kind.
"""

from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime
from itertools import product
from typing import Any

from slabrow.core.hashing.key_leaves import hash_leaves, key_leaves
from slabrow.core.hashing.stored_bytes import parse_stored_type, stored, whole_numbers
from slabrow.core.pruning.by_constants.moments import parse_moment
from slabrow.core.pruning.by_constants.spans import Span, Values
from slabrow.core.pruning.by_constants.text_order import place_of
from slabrow.core.pruning.by_constants.whole_numbers import NotWorkedOut, function_of, worked_out
from slabrow.core.sql.answers import Answers
from slabrow.core.table.bounds import Bounds, CatchAll, Listed, Range
from slabrow.core.table.tree import KeyColumn, KeyRule
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Kind, Opaque, OpaqueKey, Value
from slabrow.core.values.method import By

Box = Mapping[str, Values]  # of each column in lower case that is limited
_WALKED = 32  # numbers that are always tried one by one (MAX_RANGE_TO_WALK)
_MOST_PRODUCT = 5_000
_MAY_BE_NULL = ("to_days", "to_seconds")  # of a day that no calendar has
_WHOLE_TYPES = ("tinyint", "smallint", "mediumint", "int", "bigint")


class Level:
    """The partitions of one parent. bounds: of each, in the table's order."""

    def __init__(
        self,
        by: By,
        key: Sequence[KeyColumn],
        rule: KeyRule,
        bounds: Sequence[Bounds],
        answers: Answers | None,
    ) -> None:
        self._by, self._key, self._rule, self._answers = by, tuple(key), rule, answers
        self._bounds = tuple(bounds)
        self._every = frozenset(range(len(self._bounds)))
        self.columns = rule.columns
        self._rest = next((place for place, each in enumerate(bounds) if isinstance(each, CatchAll)), None)
        self._is_known = True
        try:
            if by is By.RANGE:
                self._ends = [self._end(each) for each in self._bounds if isinstance(each, Range)]
            elif by is By.LIST:
                self._lists = [self._listed(each) for each in self._bounds]
        except (TypeError, NotWorkedOut):
            self._is_known = False

    def kept(self, box: Box) -> frozenset[int]:
        """The places of the partitions that are left."""
        own = {column.text.lower(): box.get(column.text.lower()) for column in self.columns}
        if not self._is_known or all(values is None for values in own.values()):
            return self._every
        if any(values is not None and values.is_empty for values in own.values()):
            return frozenset()
        if self._by is By.HASH:
            return self._hashed(own)
        if self._rule.is_columns:
            return self._by_columns(own)
        only = next(iter(own.values())) if len(own) == 1 else None
        if self._rule.expression:
            return self._by_expression(own, only)
        return self._every if only is None else self._by_number(only)

    # -- values and bounds in one order ---------------------------------------------------------------------------

    def place(self, column: KeyColumn, value: Value) -> Any:
        """A value as something that compares as the server compares it. Raises TypeError where that is not known."""
        return ordered(column, value, self._answers)

    def _end(self, bounds: Range) -> Any:
        """Of a range on one whole number that number; else a tuple with a part for each column."""
        assert bounds.to is not None
        if self._rule.is_columns:
            return tuple(self._part(column, value) for column, value in zip(self._key, bounds.to, strict=True))
        value = bounds.to[0]
        if isinstance(value, Opaque | Edge):
            raise TypeError
        if self._rule.function:
            if not isinstance(value, date):
                raise TypeError
            return function_of(self._rule.function, value)
        if not isinstance(value, int):
            raise TypeError
        return value

    def _part(self, column: KeyColumn, value: Value | None) -> tuple[int, Any]:
        """NULL below everything, MAXVALUE above."""
        if value is None:
            return (0, 0)
        if value is Edge.MAXVALUE:
            return (2, 0)
        return (1, self.place(column, value))

    def _listed(self, bounds: Bounds) -> list[tuple[tuple[int, Any], ...]]:
        if not isinstance(bounds, Listed):
            return []
        found: list[tuple[tuple[int, Any], ...]] = []
        for value in bounds.values:
            parts = value.parts if isinstance(value, OpaqueKey) else (value,)
            if not self._rule.is_columns:
                if parts[0] is not None and not isinstance(parts[0], int):
                    raise TypeError
                found.append(((0, 0) if parts[0] is None else (1, parts[0]),))
                continue
            found.append(tuple(self._part(column, part) for column, part in zip(self._key, parts, strict=True)))
        return found

    # -- RANGE and LIST of one whole number -----------------------------------------------------------------------

    def _by_number(self, values: Values) -> frozenset[int]:
        """RANGE or LIST of a column of whole numbers, or of a function that rises with its column."""
        kept: set[int] = set()
        for span in values.spans:
            kept |= self._of_numbers(*self._numbers(span), is_point=span.is_point)
            if self._by is By.RANGE and self._rule.function in _MAY_BE_NULL and self._may_be_null(span):
                kept.add(0)
        if values.has_null:
            kept |= self._of_null()
        return frozenset(kept)

    def _numbers(self, span: Span) -> tuple[int | None, int | None]:
        """The least and the greatest whole number of a span, both in."""
        function = self._rule.function
        if not function:
            low = None if span.low is None else span.low + (not span.low_in)
            return low, None if span.high is None else span.high - (not span.high_in)
        return self._ends_of(span, function)

    def _ends_of(self, span: Span, function: str) -> tuple[int | None, int | None]:
        low = high = None
        if span.low is not None:
            low = function_of(function, span.low)
            low += not span.low_in and _is_strict(function, span.low, is_low=True)
        if span.high is not None:
            high = function_of(function, span.high)
            high -= not span.high_in and _is_strict(function, span.high, is_low=False)
        return low, high

    @staticmethod
    def _may_be_null(span: Span) -> bool:
        """Whether days that no calendar has lie in a span too: the function gives NULL for them."""
        if span.is_point or span.low is None:
            return False
        if span.high is None:
            return True
        return (span.low.year, span.low.month) != (span.high.year, span.high.month)

    def _of_numbers(self, low: int | None, high: int | None, *, is_point: bool) -> set[int]:
        if self._by is By.LIST:
            found = {
                place
                for place, listed in enumerate(self._lists)
                for ((kind, number),) in listed
                if kind and (low is None or number >= low) and (high is None or number <= high)
            }
            if self._rest is not None and (not is_point or not found):
                found.add(self._rest)
            return found
        first = 0 if low is None else bisect_right(self._ends, low)
        last = len(self._bounds) - 1 if high is None else bisect_right(self._ends, high)
        return set(range(first, min(last, len(self._bounds) - 1) + 1))

    def _of_null(self) -> set[int]:
        if self._by is By.RANGE:
            return {0}
        null = {place for place, listed in enumerate(self._lists) for each in listed if each == ((0, 0),)}
        return null or ({self._rest} if self._rest is not None else set())

    # -- RANGE and LIST of other expressions ----------------------------------------------------------------------

    def _by_expression(self, own: Mapping[str, Values | None], only: Values | None) -> frozenset[int]:
        found = self._worked_out(own)
        if found is None and only is not None and len(self.columns) == 1:
            found = self._walked(only)
        if found is None:
            return self._every
        kept: set[int] = set()
        for number in found:
            kept |= self._of_null() if number is None else self._of_numbers(number, number, is_point=True)
        return frozenset(kept)

    def _worked_out(self, own: Mapping[str, Values | None]) -> list[int | None] | None:
        """The numbers of the expression, where every column is given by values."""
        points = [None if values is None else values.points for values in own.values()]
        if any(each is None for each in points):
            return None
        chosen = [each for each in points if each is not None]
        size = 1
        for each in chosen:
            size *= len(each)
        if size > _MOST_PRODUCT:
            return None
        try:
            return [self._expression_of(dict(zip(own, values, strict=True))) for values in product(*chosen)]
        except NotWorkedOut:
            return None

    def _expression_of(self, values: Mapping[str, Any]) -> int | None:
        if self._rule.expression:
            return worked_out(self._rule.expression, values)
        (value,) = values.values()
        if value is None or isinstance(value, int):
            return value
        raise NotWorkedOut

    def _walked(self, values: Values) -> list[int | None] | None:
        """Small spans of whole numbers, number by number."""
        column = self.columns[0]
        if column.type_name.split(" ")[0].split("(")[0] not in _WHOLE_TYPES or values.has_null:
            return None
        found: list[int | None] = []
        for span in values.spans:
            if span.low is None or span.high is None:
                return None
            low, high = span.low + (not span.low_in), span.high - (not span.high_in)
            if high - low + 1 > max(_WALKED, 2 * len(self._bounds)):
                return None
            try:
                found += [self._expression_of({column.text.lower(): number}) for number in range(low, high + 1)]
            except NotWorkedOut:
                return None
        return found

    # -- RANGE COLUMNS and LIST COLUMNS ---------------------------------------------------------------------------

    def _by_columns(self, own: Mapping[str, Values | None]) -> frozenset[int]:
        if own[self._key[0].text.lower()] is None:
            return self._every
        kept: set[int] = set()
        for prefix, span in self._prefixes([own[column.text.lower()] for column in self._key]):
            kept |= self._in_columns(prefix, span)
        return frozenset(kept)

    def _prefixes(self, values: Sequence[Values | None]) -> Iterator[tuple[tuple[tuple[int, Any], ...], Span | None]]:
        """Each way to begin a key: columns with one value, and then a span of the next one, or nothing."""
        waiting: list[tuple[tuple[int, Any], ...]] = [()]
        for each in values:
            if each is None:
                break
            points = each.points
            if points is None or len(waiting) * len(points) > _MOST_PRODUCT:
                for prefix in waiting:
                    yield from ((prefix, span) for span in each.spans if not span.is_point)
                    yield from (((*prefix, (1, span.low)), None) for span in each.spans if span.is_point)
                    if each.has_null:
                        yield (*prefix, (0, 0)), None
                return
            parts = [(0, 0) if point is None else (1, point) for point in points]
            waiting = [(*prefix, part) for prefix in waiting for part in parts]
        yield from ((prefix, None) for prefix in waiting)

    def _in_columns(self, prefix: tuple[tuple[int, Any], ...], span: Span | None) -> set[int]:
        low: tuple[tuple[int, Any], ...] = prefix
        high: tuple[tuple[int, Any], ...] = prefix
        low_in = high_in = True
        if span is not None:
            low = (*prefix, (0, 0) if span.low is None else (1, span.low))
            high = (*prefix, (1, _Above()) if span.high is None else (1, span.high))
            low_in, high_in = span.low is not None and span.low_in, span.high is None or span.high_in
        if self._by is By.LIST:
            return self._listed_between(low, low_in, high, high_in)
        first = sum(self._is_below(end, low, is_in=low_in) for end in self._ends)
        last = sum(self._is_not_above(end, high, is_in=high_in) for end in self._ends)
        return set(range(first, min(last, len(self._bounds) - 1) + 1))

    @staticmethod
    def _is_below(end: tuple[tuple[int, Any], ...], low: tuple[tuple[int, Any], ...], *, is_in: bool) -> bool:
        """Whether every key from `low` on lies at or above the end of a partition."""
        head = end[: len(low)]
        if head != low:
            return head < low
        return not is_in or len(low) == len(end)

    @staticmethod
    def _is_not_above(end: tuple[tuple[int, Any], ...], high: tuple[tuple[int, Any], ...], *, is_in: bool) -> bool:
        """Whether some key up to `high` lies at or above the end of a partition."""
        head = end[: len(high)]
        if head != high:
            return head < high
        return is_in and (len(high) == len(end) or end[len(high)][0] != 2)

    def _listed_between(
        self, low: tuple[tuple[int, Any], ...], low_in: bool, high: tuple[tuple[int, Any], ...], high_in: bool
    ) -> set[int]:
        width = len(low)
        found = set()
        for place, listed in enumerate(self._lists):
            for each in listed:
                head = each[:width]
                if (low < head or (low_in and low == head)) and (head < high or (high_in and head == high)):
                    found.add(place)
                    break
        is_whole = width == len(self._key) and low == high
        if self._rest is not None and not (is_whole and found):
            found.add(self._rest)
        return found

    # -- HASH and KEY ---------------------------------------------------------------------------------------------

    def _hashed(self, own: Mapping[str, Values | None]) -> frozenset[int]:
        parts = len(self._bounds)
        if not self._rule.is_key:
            numbers = self._worked_out(own)
            if numbers is None and len(self.columns) == 1:
                only = next(iter(own.values()))
                numbers = self._walked(only) if only is not None else None
            if numbers is None:
                return self._every
            values, nulls = whole_numbers(numbers)
            return frozenset(hash_leaves(values, parts, linear=self._rule.is_linear, nulls=nulls).tolist())
        points = [self._key_points(column, own[column.text.lower()]) for column in self.columns]
        if any(each is None for each in points):
            return self._every
        rows = list(product(*(each for each in points if each is not None)))
        if not rows or len(rows) > _MOST_PRODUCT:
            return self._every if rows else frozenset()
        try:
            columns = [
                stored(parse_stored_type(_hash_type(column)), list(values), self._rule.algorithm)
                for column, values in zip(self.columns, zip(*rows, strict=True), strict=True)
            ]
        except (UsageError, ValueError, TypeError, AttributeError, OverflowError):
            return self._every
        return frozenset(key_leaves(columns, parts, linear=self._rule.is_linear).tolist())

    def _key_points(self, column: KeyColumn, values: Values | None) -> list[Any] | None:
        if values is None:
            return None
        points = values.points
        if points is None and len(self.columns) == 1:
            rule = KeyRule(is_columns=False, columns=(column,))
            numbers = Level(By.HASH, (column,), rule, self._bounds, None)._walked(values)
            return None if numbers is None else list(numbers)
        if points is None:
            return None
        return [None if each is None else _as_stored(column, each) for each in points]


class _Above:
    """Greater than every value of any type."""

    def __lt__(self, _: object) -> bool:
        return False

    def __gt__(self, other: object) -> bool:
        return not isinstance(other, _Above)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Above)

    def __hash__(self) -> int:
        return 0


def _is_strict(function: str, end: date | datetime, *, is_low: bool) -> bool:
    """Whether an end that is out is out of the function's numbers too (Item_func_*::val_int_endpoint)."""
    is_day = not isinstance(end, datetime)
    match function:
        case "to_days":
            if isinstance(end, datetime):
                clock = (end.hour, end.minute, end.second)
                return clock == (23, 59, 59) if is_low else (*clock, end.microsecond) == (0, 0, 0, 0)
            return True
        case "year":
            at_start = is_day or (end.hour, end.minute, end.second) == (0, 0, 0)  # type: ignore[union-attr]
            return not is_low and (end.month, end.day) == (1, 1) and at_start
    return True


class Text(str):
    """A text of a key that keeps what it was beside its place in the order."""

    __slots__ = ()


def ordered(column: KeyColumn, value: Any, answers: Answers | None) -> Any:
    """A value as something that compares as the server compares values of the column. Raises TypeError."""
    match column.kind:
        case Kind.INTEGER if isinstance(value, int):
            return value
        case Kind.DATE if isinstance(value, date):
            return value
        case Kind.TIMESTAMP | Kind.TIMESTAMPTZ if isinstance(value, datetime):
            return value
        case Kind.TEXT if isinstance(value, str):
            place = place_of(value, column.type_name, column.collation or "", answers)
            if place is not None:
                return _Worded(place, value)
        case Kind.NUMERIC if isinstance(value, int) or hasattr(value, "quantize"):
            return value
        case Kind.UUID | Kind.OTHER if isinstance(value, str):
            return _Only(value)
    raise TypeError


class _Worded(tuple):  # type: ignore[type-arg]
    """A text by its place; `text` is what it was."""

    text: str

    def __new__(cls, place: Any, text: str) -> "_Worded":
        made = super().__new__(cls, place if isinstance(place, tuple) else (place,))
        made.text = text
        return made


class _Only(str):
    """A value that equals itself, and has no known place: comparing it otherwise raises TypeError."""

    __slots__ = ()

    def __lt__(self, other: object) -> bool:
        raise TypeError

    def __gt__(self, other: object) -> bool:
        raise TypeError


def _as_stored(column: KeyColumn, value: Any) -> Any:
    """A value as the encoder of its type takes it."""
    if isinstance(value, _Worded):
        return value.text
    match column.type_name.split("(")[0].split(" ")[0]:
        case "timestamp":
            return value.replace(tzinfo=None)
        case "time":
            import re
            from datetime import timedelta

            found = re.fullmatch(r"(-?)(\d{1,3}):(\d{2}):(\d{2})", str(value))
            if found is None:
                raise ValueError(value)
            sign, hours, minutes, seconds = found.groups()
            length = timedelta(hours=int(hours), minutes=int(minutes), seconds=int(seconds))
            return -length if sign else length
        case "binary" | "varbinary":
            return str(value).encode()
        case "enum" | "set":
            raise ValueError(value)
    return parse_moment(str(value)) if column.kind is Kind.DATE and isinstance(value, str) else value


def _hash_type(column: KeyColumn) -> str:
    collate = f" collate {column.collation}" if column.collation else ""
    return column.type_name + collate
