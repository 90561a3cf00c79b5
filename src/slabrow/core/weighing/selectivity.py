"""Which share of the rows satisfies a condition, from column statistics: the server's own way of estimating.

Shares of different columns are multiplied, as if they were independent; a value that is not known counts as any one of
the distinct values, an open range of unknown width as a third (PostgreSQL manual, 68.1; selfuncs.h for the defaults).
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from math import prod

from slabrow.core.pruning.key_conditions import All, Among, Any_, Anything, Condition, KeyComparison, NotAmong, NullTest
from slabrow.core.sql.when import When
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, Value, order

_EQUAL_DEFAULT = 0.005  # DEFAULT_EQ_SEL
_OPEN_RANGE = 1 / 3  # DEFAULT_INEQ_SEL
_CLOSED_RANGE = 0.005  # DEFAULT_RANGE_INEQ_SEL


@dataclass(slots=True)
class Shares:
    """The shares of the rows that conditions joined by AND leave.

    by_column   the share that each column's own tests leave
    equal       columns pinned by = or IN, with how many values
    ranged      columns pinned by a range
    other       what is left by all that is not about one column
    """

    by_column: dict[str, float] = field(default_factory=dict)
    equal: dict[str, int] = field(default_factory=dict)
    ranged: set[str] = field(default_factory=set)
    other: float = 1.0

    @property
    def total(self) -> float:
        """The share of the rows that satisfies the whole condition."""
        return prod(self.by_column.values()) * self.other


@dataclass(frozen=True, slots=True)
class Estimator:
    """Estimates on one table."""

    columns: Mapping[str, KeyColumn]
    statistics: Mapping[str, ColumnStatistics]
    rows: int

    def shares(self, condition: Condition) -> Shares:
        """The share of each part."""
        found = Shares()
        ranges: dict[str, list[KeyComparison]] = {}
        for part in _conjuncts(condition):
            match part:
                case KeyComparison(when=When.RUN):
                    # Values that a join supplies: most joins read all rows that the other conditions leave.
                    pass
                case KeyComparison(column, "=", _):
                    self._pin(found, column, self._equal(column, part.value), 1)
                case KeyComparison(column, "<>", value):
                    found.other *= 1 - self._equal(column, value)
                case KeyComparison(column):
                    ranges.setdefault(column, []).append(part)
                case Among(column, values):
                    share = min(1.0, sum(self._equal(column, value) for value in values))
                    self._pin(found, column, share, len(values))
                case Any_(arms) if len(arms) > 1:
                    self._any(found, arms)
                case _:
                    found.other *= self.share(part)
        for column, tests in ranges.items():
            found.by_column[column] = found.by_column.get(column, 1.0) * self._ranged(column, tests)
            found.ranged.add(column)
        return found

    def _any(self, found: Shares, arms: Sequence[Condition]) -> None:
        """OR whose arms all pin one column can be looked up in an index, arm by arm."""
        each = [self.shares(arm) for arm in arms]
        total = 1 - prod(1 - arm.total for arm in each)
        pinned = set(each[0].equal) | each[0].ranged
        for arm in each[1:]:
            pinned &= set(arm.equal) | arm.ranged
        for column in sorted(pinned)[:1]:
            share = min(1.0, sum(arm.by_column[column] for arm in each))
            self._pin(found, column, share, len(arms))
            total = min(1.0, total / max(share, 1e-12))
        found.other *= total

    @staticmethod
    def _pin(found: Shares, column: str, share: float, values: int) -> None:
        found.by_column[column] = min(found.by_column.get(column, 1.0), share)
        found.equal[column] = min(found.equal.get(column, values), values)

    def share(self, condition: Condition) -> float:
        """From 0 to 1."""
        match condition:
            case All():
                return self.shares(condition).total
            case Any_(conditions):
                return 1 - prod(1 - self.share(each) for each in conditions)
            case Anything():
                return 1.0 if condition.reason is None else _EQUAL_DEFAULT if "=" in condition.fragment else _OPEN_RANGE
            case NullTest(column, is_null):
                seen = self.statistics.get(column)
                nulls = seen.null_share if seen else 0.0
                return nulls if is_null else 1 - nulls
            case NotAmong(column, values):
                return max(0.0, 1 - sum(self._equal(column, value) for value in values))
            case _:
                return self.shares(condition).total

    def _equal(self, column: str, value: Value | None) -> float:
        seen = self.statistics.get(column)
        if seen is None:
            return _EQUAL_DEFAULT
        if value is None:
            return (1 - seen.null_share) / seen.distinct if seen.distinct else _EQUAL_DEFAULT
        return seen.equal(self._fitting(column, value)) or 0.5 / max(1, self.rows)

    def _ranged(self, column: str, tests: list[KeyComparison]) -> float:
        seen = self.statistics.get(column)
        known = [test for test in tests if test.value is not None]
        if seen is None or not known:
            return _CLOSED_RANGE if len(tests) > 1 else _OPEN_RANGE
        lows = [
            self._fitting(column, test.value) for test in known if test.operator[0] == ">" and test.value is not None
        ]
        highs = [
            self._fitting(column, test.value) for test in known if test.operator[0] == "<" and test.value is not None
        ]
        try:
            low = max(lows, key=lambda value: order((value,))) if lows else None
            high = min(highs, key=lambda value: order((value,))) if highs else None
            share = seen.between(low, high)
        except TypeError:
            return _OPEN_RANGE
        return max(share, 0.5 / max(1, self.rows))

    def _fitting(self, column: str, value: Value) -> Value:
        """An hour against a column of days is its day: statistics hold days."""
        if isinstance(value, datetime) and self.columns[column].kind is Kind.DATE:
            return value.date()
        if type(value) is date and self.columns[column].kind is Kind.TIMESTAMP:
            return datetime.combine(value, datetime.min.time())
        return value


def _conjuncts(condition: Condition) -> Iterable[Condition]:
    if isinstance(condition, All):
        for each in condition.conditions:
            yield from _conjuncts(each)
    else:
        yield condition
