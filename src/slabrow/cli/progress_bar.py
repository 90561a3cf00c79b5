"""The progress bar: what is being done, how much of it is done, and about how long it will take."""

import os
import time
from threading import Event, Thread
from types import TracebackType

from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from slabrow.core.values.one_line import one_line

_TICK_S = 0.25
_WORTH_SAYING_S = 2.0  # of what takes less, the time left is not said
_AT_MOST = 0.97  # of a step whose end is only estimated


def time_left(seconds: float) -> str:
    """The time left in words.

    >>> time_left(75), time_left(4000)
    ('about 75 s left', 'about 67 min left')
    """
    if seconds < 1:
        return "nearly done"
    return f"about {seconds:.0f} s left" if seconds < 100 else f"about {seconds / 60:.0f} min left"


class ProgressBar:
    """A bar on standard error that goes away at the end. Steps that cannot tell how far they are go by the clock."""

    def __init__(self) -> None:
        console = Console(stderr=True, no_color="NO_COLOR" in os.environ)
        columns = (
            BarColumn(40, complete_style="cyan", finished_style="cyan"),
            TextColumn("{task.percentage:>3.0f} %"),
            TimeElapsedColumn(),
            TextColumn("{task.fields[left]}"),
            TextColumn("{task.description}"),
        )
        self._bar = Progress(*columns, console=console, transient=True)
        self._task = self._bar.add_task("", total=1.0, left="")
        self._began = time.monotonic()
        self._share, self._expected, self._step_began = 0.0, 0.0, self._began
        self._ended = Event()
        self._ticking = Thread(target=self._tick, name="progress", daemon=True)

    def __enter__(self) -> "ProgressBar":
        self._bar.start()
        self._ticking.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._ended.set()
        self._ticking.join(1)
        self._bar.stop()

    def tell(self, done: float, doing: str) -> None:
        """done: the share of all the work, 0 to 1."""
        self._share, self._expected = min(1.0, done), 0.0
        passed = time.monotonic() - self._began
        left = ""
        if done > 0.02 and passed > _WORTH_SAYING_S / 2:
            seconds = passed * (1 - self._share) / self._share
            left = time_left(seconds) if seconds + passed > _WORTH_SAYING_S else ""
        self._bar.update(self._task, completed=self._share, description=escape(one_line(doing)), left=left)

    def expect(self, seconds: float, doing: str) -> None:
        """About so long will the step take that begins now."""
        self._expected, self._step_began = max(seconds, 0.1), time.monotonic()
        left = time_left(seconds) if seconds > _WORTH_SAYING_S else ""
        self._bar.update(self._task, description=escape(one_line(doing)), left=left)

    def _tick(self) -> None:
        while not self._ended.wait(_TICK_S):
            if not self._expected:
                continue
            passed = time.monotonic() - self._step_began
            part = min(_AT_MOST, passed / self._expected)
            over = passed > self._expected
            left = "longer than expected" if over else time_left(self._expected - passed)
            said = left if self._expected > _WORTH_SAYING_S or over else ""
            self._bar.update(self._task, completed=self._share + (1 - self._share) * part, left=said)
