"""A session that is asked on a thread of its own while this process does something else.

The driver waits for the server outside Python's lock: the server works while modules are loaded here, which takes as
long, or while earlier answers are looked at.
"""

from abc import ABC, abstractmethod
from contextvars import copy_context
from threading import Thread
from types import TracebackType
from typing import Self

from slabrow.servers.families import family_of, open_session
from slabrow.servers.protocols import Session

_PATIENCE_S = 5.0  # how long a thread is waited for that has been told to end


class BackgroundSession(ABC):
    """Asks from `begin`, or from when its block is entered, until `end`, or until the block is left."""

    def __init__(self, dsn: str) -> None:
        self._dsn = dsn
        self._session: Session | None = None
        # A daemon: a thread that is still looking for the server does not keep the process from ending.
        context = copy_context()  # with the dialect that is spoken
        self._thread = Thread(target=context.run, args=(self._run,), name=type(self).__name__, daemon=True)

    @abstractmethod
    def ask(self, session: Session) -> None:
        """Asks the session, on the thread."""

    @abstractmethod
    def failed(self, error: Exception) -> None:
        """Hears, on the thread, what connecting or asking raised."""

    def begin(self) -> None:
        """Starts the thread. Raises UsageError for a DSN of no known family."""
        # Here and not on the thread: two threads that load modules wait for each other.
        family_of(self._dsn).load()
        self._thread.start()

    def join(self) -> None:
        """Waits until all has been asked."""
        self._thread.join()

    def end(self) -> None:
        """Ends the asking, wherever it is, and the session."""
        if self._session is not None:
            if self._thread.is_alive():
                self._session.cancel(_PATIENCE_S)
                self._thread.join(_PATIENCE_S)
            self._session.close()

    def __enter__(self) -> Self:
        self.begin()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.end()

    def _run(self) -> None:
        try:
            self._session = open_session(self._dsn)
            self.ask(self._session)
        except Exception as error:  # whatever it is: it is raised where the answer is wanted
            self.failed(error)
