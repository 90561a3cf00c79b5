"""The pace of a copy: how many sessions, how long they rest, and when they wait for replicas and the server's log."""

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from threading import Event

from slabrow.core.values.errors import Stopped, UsageError

MB = 2**20
REPLICA_BEHIND = 256 * MB  # bytes of the server's log that a replica may be behind
KEPT_BY_SLOT = 2_048 * MB  # bytes of it that a replication slot may keep more than when the work began
_LOOK_EVERY_S = 2.0
_LONGEST_WAIT_S = 900.0  # for a replica that does not come nearer


@dataclass(frozen=True, slots=True)
class Speed:
    """jobs        how many sessions work side by side
    rest        how long a session rests after a piece, in parts of the time that the piece took
    rows_a_second   a limit for all of them together; None for none
    piece_blocks    the largest piece of the copy, in blocks
    """

    name: str
    jobs: int
    rest: float
    rows_a_second: int | None = None
    piece_blocks: int = 1024


SPEEDS = {
    "gentle": Speed("gentle", jobs=1, rest=1.5, piece_blocks=256),
    "normal": Speed("normal", jobs=2, rest=0.05),
    "full": Speed("full", jobs=4, rest=0.0, piece_blocks=4096),
}


def parse_speed(text: str) -> Speed:
    """`gentle`, `normal`, `full`, or a number of rows a second. Raises UsageError."""
    if text in SPEEDS:
        return SPEEDS[text]
    if text.isascii() and text.isdigit() and 1 <= int(text) <= 10**9:
        return Speed(text, jobs=1, rest=0.0, rows_a_second=int(text), piece_blocks=128)
    raise UsageError(
        f"--speed {text[:40]} is not a speed", fix="write gentle, normal, full, or a number of rows a second"
    )


@dataclass(slots=True)
class Pace:
    """rows_a_piece   on average, for a limit in rows a second; set when the pieces are known
    pressure      (bytes that the slowest replica is behind, bytes that a slot keeps)
    say           hears why it waits
    """

    speed: Speed
    pressure: Callable[[], tuple[int, int]]
    say: Callable[[str], None]
    rows_a_piece: float = 0.0
    _looked: float = 0.0
    _kept_at_first: int | None = None
    _is_pressed: Event = field(default_factory=Event)

    def rest(self, took_s: float, stopping: Event) -> None:
        """Called by a session after each piece."""
        pause = took_s * self.speed.rest
        if self.speed.rows_a_second is not None:
            pause = max(pause, self.rows_a_piece * self.speed.jobs / self.speed.rows_a_second - took_s)
        if pause > 0:
            stopping.wait(pause)
        while self._is_pressed.is_set() and not stopping.wait(0.1):
            pass

    def watch(self) -> None:
        """Called now and then by the main thread. Raises Stopped when a replica stays behind for very long."""
        if time.monotonic() - self._looked < _LOOK_EVERY_S:
            return
        until, said = time.monotonic() + _LONGEST_WAIT_S, False
        while (why := self._why()) is not None:
            self._is_pressed.set()
            if not said:
                self.say(f"the copy waits: {why}")
                said = True
            if time.monotonic() > until:
                raise Stopped(
                    "the copy waited for too long",
                    found=why,
                    fix="nothing is lost: the same command goes on from here when that is mended",
                )
            time.sleep(0.5)
        self._is_pressed.clear()
        self._looked = time.monotonic()

    def _why(self) -> str | None:
        behind, kept = self.pressure()
        if self._kept_at_first is None:
            self._kept_at_first = kept
        if behind > REPLICA_BEHIND:
            return f"a replica is {behind // MB:,} MB behind"
        if kept - self._kept_at_first > KEPT_BY_SLOT:
            return f"a replication slot keeps {kept // MB:,} MB of the server's log, and more from minute to minute"
        return None
