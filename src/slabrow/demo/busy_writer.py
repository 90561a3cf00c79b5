"""A writer that never rests while a table of the demo is converted, and measures how long each of its writes took."""

import time
from dataclasses import dataclass, field
from threading import Event, Thread

from slabrow.core.values.errors import SlabrowError
from slabrow.servers.families import family_of, open_session

_PAUSE_S = 0.002


@dataclass(slots=True)
class BusyWriter:
    """A sensor gateway: it writes a reading, corrects it, and takes it back, so that the counts stay as they were.

    statements  what it does, again and again
    writes      how many statements were done
    longest_ms  the longest time that one of them took
    failed      the first error, in words; None without one
    """

    dsn: str
    statements: tuple[str, ...]
    writes: int = 0
    longest_ms: float = 0.0
    failed: str | None = None
    _ended: Event = field(default_factory=Event)
    _thread: Thread | None = None

    def __enter__(self) -> "BusyWriter":
        family_of(self.dsn).load()
        self._thread = Thread(target=self._run, name="demo writer", daemon=True)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ended.set()
        if self._thread is not None:
            self._thread.join(10)

    def _run(self) -> None:
        try:
            session = open_session(self.dsn)
            try:
                while not self._ended.is_set():
                    for statement in self.statements:
                        began = time.monotonic()
                        with session.explained("write a reading"):
                            session.execution.run(statement)
                        self.longest_ms = max(self.longest_ms, (time.monotonic() - began) * 1_000)
                        self.writes += 1
                        self._ended.wait(_PAUSE_S)
            finally:
                session.close()
        except SlabrowError as error:
            self.failed = error.line
