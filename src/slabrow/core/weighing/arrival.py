"""The order in which rows arrived, from 0 (the oldest) to 1 (the newest), and where conditions lie in it.

Rows that are written in the order of a column (its correlation with their place is near 1) lie together when their
values do. What a query asks of such a column tells which stretch of the table it reads; and the stretches that many
queries ask for are the ones that stay in memory.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from slabrow.core.pruning.key_conditions import All, Among, Condition
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.values.key_values import Value, order
from slabrow.core.weighing.cache import Floats
from slabrow.core.weighing.workload_reading import TableWorkload, bounds_asked

IN_ORDER = 0.9  # the correlation from which on a column's values tell the place of a row
_HALVINGS = 12  # strips get narrower towards the newest rows, as most tables are read: the last is 1/4096
_MOST_WINDOWS = 12  # windows of the workload that get strips of their own
_STEADY = 0.05  # how far apart the ends of a shape's windows may lie, in shares of the table

Stretch = tuple[float, float]
WHOLE: Stretch = (0.0, 1.0)


@dataclass(frozen=True, slots=True)
class Arrival:
    """columns: the statistics of those that rows arrive in the order of."""

    columns: Mapping[str, ColumnStatistics]

    def place(self, column: str, value: Value) -> float:
        """The share of rows that arrived before the first one with this value."""
        try:
            return min(1.0, max(0.0, self.columns[column].between(None, value)))
        except TypeError:  # values of another kind
            return 0.0

    def stretch(self, condition: Condition) -> Stretch:
        """Where the rows lie that can satisfy a condition; the whole table where it says nothing of the order."""
        low, high = WHOLE
        for column in self.columns:
            from_, to = bounds_asked(condition, column)
            listed = _listed(condition, column)
            if from_ is None and to is None and listed:
                try:
                    from_, to = min(listed, key=lambda v: order((v,))), max(listed, key=lambda v: order((v,)))
                except TypeError:
                    continue
            if from_ is not None:
                low = max(low, self.place(column, from_))
            if to is not None:
                high = min(high, self.place(column, to))
        return (low, max(low, high))


def arrival(facts: TableFacts) -> Arrival:
    """From the statistics: none of the columns where rows lie in no order."""
    return Arrival(
        {
            name: seen
            for name, seen in facts.statistics.items()
            if (seen.correlation or 0.0) >= IN_ORDER and len(seen.histogram) > 2 and seen.null_share < 0.5
        }
    )


def _listed(condition: Condition, column: str) -> list[Value]:
    parts: Iterable[Condition] = condition.conditions if isinstance(condition, All) else (condition,)
    return [value for part in parts if isinstance(part, Among) and part.column == column for value in part.values]


@dataclass(frozen=True, slots=True)
class Strips:
    """The order cut into strips: within one, every block is touched alike. ends: from 0 to 1, rising."""

    ends: Floats
    widths: Floats = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "widths", np.diff(self.ends))

    def __len__(self) -> int:
        return len(self.widths)

    def with_end(self, end: float) -> "Strips":
        """The same, with one more end where none is near."""
        if np.abs(self.ends - end).min() < 1e-4:
            return self
        return Strips(np.sort(np.append(self.ends, end)))

    def covered(self, stretch: Stretch) -> Floats:
        """The share of each strip that a stretch covers; a stretch without width covers a moment of one strip."""
        low, high = stretch
        if high - low < 1e-12:
            found = np.zeros(len(self))
            found[min(len(self) - 1, int(np.searchsorted(self.ends, low, side="right")) - 1)] = 1e-12
            return found
        inner = np.minimum(self.ends[1:], high) - np.maximum(self.ends[:-1], low)
        return np.asarray(np.clip(inner, 0.0, None) / self.widths)


def strips(workload: TableWorkload, order: Arrival) -> Strips:
    """Narrower towards the newest rows, with ends where the weightiest windows of the workload begin and end."""
    ends = {0.0, 1.0, *(1 - 0.5**step for step in range(1, _HALVINGS + 1))} if order.columns else {0.0, 1.0}
    windows: dict[float, float] = {}
    for read in workload.shapes if order.columns else ():
        found = [order.stretch(asked.condition) for run in read.runs for asked in run]
        for side in (0, 1):
            # A single value is no region: where strips begin at values that were seen, each of them looks hot.
            each = [stretch[side] for stretch in found if 0 < stretch[1] - stretch[0] < 0.5]
            # Windows that lie at another place each time are no region of their own.
            if each and max(each) - min(each) < _STEADY:
                end = min(each) if side == 0 else max(each)
                windows[end] = windows.get(end, 0.0) + read.shape.weight
    added = 0
    for end in sorted(windows, key=lambda each: -windows[each]):
        if added < _MOST_WINDOWS and all(abs(end - other) > 1e-4 for other in ends):
            ends.add(end)
            added += 1
    return Strips(np.array(sorted(ends)))
