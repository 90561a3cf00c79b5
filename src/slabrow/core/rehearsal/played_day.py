"""A day's load, played faster than it happens: when each request is due (N48).

Arrivals are open-loop: a request is due whatever became of those before it, so that a slow server shows as latency and
not as fewer requests.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from slabrow.core.rehearsal.made_up_column import Array

HOURS = 24
# Busy by day, quiet at night, with a peak in the morning and one after noon: made up, as a federation's day might be.
BUILT_IN = (
    0.25, 0.2, 0.15, 0.15, 0.2, 0.35, 0.6, 0.95, 1.35, 1.65, 1.75, 1.7,
    1.5, 1.55, 1.65, 1.6, 1.5, 1.35, 1.2, 1.05, 0.9, 0.7, 0.5, 0.35,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Curve:
    """loads: of each hour of a day, in any measure; between the middles of hours they change evenly."""

    loads: tuple[float, ...] = BUILT_IN

    def due(self, number: int, seconds: float, chance: np.random.Generator) -> Array:
        """When each of so many requests is due, sorted, in seconds from the beginning of a day played in `seconds`."""
        fine = np.linspace(0, HOURS, 24 * 60 + 1)
        middles = np.arange(-1, HOURS + 1) + 0.5
        around = np.array([self.loads[-1], *self.loads, self.loads[0]])
        load = np.interp(fine, middles, around)
        passed = np.concatenate([[0.0], np.cumsum((load[1:] + load[:-1]) / 2)])
        return np.sort(np.interp(chance.random(number) * passed[-1], passed, fine / HOURS * seconds))

    def hour_of(self, due: Array, seconds: float) -> Array:
        """The hour of the played day, 0 to 23, of each moment."""
        hours: Array = np.minimum((due / seconds * HOURS).astype(int), HOURS - 1)
        return hours


@dataclass(frozen=True, slots=True)
class Pace:
    """How much is played.

    rate    statements a second, in the mean of the day
    least   runs of each statement at least
    looked_at  runs of each, besides, of which the server is asked what they cost
    """

    rate: float
    least: int
    looked_at: int


_PACES = ((5, 3), (3, 2), (2, 1), (1, 1))
_LEAST_RATE = 0.5
_FIXED = 0.6  # of the time there is: what the least runs of all statements may take of it


def pace(weights: Sequence[float], took_s: Sequence[float], rate: float, budget_s: float) -> Pace:
    """A pace at which the runs together take no more than there is time for: a queue would measure itself.

    took_s   what a run of each statement takes
    rate     wanted
    """
    total = sum(weights) or 1.0
    mean = sum(weight * took for weight, took in zip(weights, took_s, strict=True)) / total
    fixed = sum(took_s)
    least, looked_at = next(
        ((least, looked) for least, looked in _PACES if (least + looked) * fixed <= _FIXED * budget_s), _PACES[-1]
    )
    left = max(0.0, budget_s - (least + looked_at) * fixed)
    return Pace(max(_LEAST_RATE, min(rate, left / mean)) if mean > 0 else rate, least, looked_at)


def runs_of(weights: list[float], rate: float, seconds: float, least: int) -> list[int]:
    """How often each statement runs: by its weight, at `rate` a second in all, and at least so many times."""
    total = sum(weights) or 1.0
    return [max(least, round(weight / total * rate * seconds)) for weight in weights]
