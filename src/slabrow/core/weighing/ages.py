"""How access falls off with age: which share of a workload reads the last day, week, month, year (N05)."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from slabrow.core.values.key_values import as_moment
from slabrow.core.weighing.workload_reading import TableWorkload, bounds_asked

STEPS = (("day", 1), ("week", 7), ("month", 31), ("quarter", 92), ("year", 366))


@dataclass(frozen=True, slots=True)
class Ages:
    """within: for each step the share of the runs that ask for nothing older; all: the share without a lower bound.

    The age of what a run asks for is counted from when it ran, where the log tells, else from `now`.
    """

    column: str
    within: tuple[tuple[str, float], ...]
    older: float
    all: float


def ages_read(workload: TableWorkload, column: str, now: datetime) -> Ages | None:
    """None when nothing in the workload reads the table."""
    found = dict.fromkeys((name for name, _ in STEPS), 0.0)
    older = unbounded = total = 0.0
    for read in workload.shapes:
        for place, run in enumerate(read.runs):
            weight = read.shape.weight / len(read.runs)
            total += weight
            at = read.shape.runs[place].at if place < len(read.shape.runs) and not read.is_guessed else None
            lows = [as_moment(bounds_asked(asked.condition, column)[0]) for asked in run]
            if not lows or any(low is None for low in lows):
                unbounded += weight
                continue
            age = (at or now) - min(low for low in lows if low is not None)
            name = next((name for name, days in STEPS if age <= timedelta(days=days)), None)
            if name is None:
                older += weight
            else:
                found[name] += weight
    if not total:
        return None
    passed, within = 0.0, []
    for name, _ in STEPS:
        passed += found[name]
        within.append((name, passed / total))
    return Ages(column, tuple(within), older / total, unbounded / total)
