"""A session that is asked on a thread of its own while this process does something else.

The driver waits for the server outside Python's lock: the server works while modules are loaded here, which takes as
long, or while what it has said already is looked at.
"""

import sys
from abc import ABC, abstractmethod
from threading import Lock, Thread
from types import TracebackType
from typing import Self

from slabrow.servers.postgresql.connection import Connection, cancel, connect

_PATIENCE_S = 5.0  # how long a thread is waited for that has been told to end
_SWITCH_S = 0.0005  # how long an asking thread waits for its turn when an answer has come


class Aside(ABC):
    """Asks from `begin`, or from when its block is entered, until `end`, or until the block is left."""

    def __init__(self, dsn: str) -> None:
        self._dsn = dsn
        self._connection: Connection | None = None
        self._hurries = False
        # A daemon: one that is still looking for the server does not keep a process from ending.
        self._thread = Thread(target=self._run, name=type(self).__name__, daemon=True)

    @abstractmethod
    def ask(self, connection: Connection) -> None:
        """What is asked, on the thread."""

    @abstractmethod
    def failed(self, error: Exception) -> None:
        """Hears, on the thread, what connecting or asking raised."""

    def begin(self) -> None:
        self._hurries = True
        _hurry(1)
        self._thread.start()

    def join(self) -> None:
        """Waits until all has been asked."""
        self._thread.join()
        self._calm()

    def end(self) -> None:
        """Ends the asking, wherever it is, and the session."""
        self._calm()
        if self._connection is not None:
            if self._thread.is_alive():
                cancel(self._connection, _PATIENCE_S)
                self._thread.join(_PATIENCE_S)
            self._connection.close()

    def __enter__(self) -> Self:
        self.begin()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.end()

    def _calm(self) -> None:
        if self._hurries:
            self._hurries = False
            _hurry(-1)

    def _run(self) -> None:
        try:
            self._connection = connect(self._dsn)
            self.ask(self._connection)
        except Exception as error:  # whatever it is: it is raised where the answer is wanted
            self.failed(error)


_lock = Lock()
_hurrying = 0
_usual_switch_s = 0.0


def _hurry(more: int) -> None:
    """The interval is the process's own: the first thread that hurries shortens it, the last one sets it back."""
    global _hurrying, _usual_switch_s
    with _lock:
        if _hurrying == 0:
            _usual_switch_s = sys.getswitchinterval()
        _hurrying += more
        sys.setswitchinterval(_SWITCH_S if _hurrying else _usual_switch_s)
