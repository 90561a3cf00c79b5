"""Sessions that work side by side, each on a thread of its own, while the main thread watches over them."""

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from threading import Event, Thread

from slabrow.core.values.errors import SlabrowError
from slabrow.core.values.names import Name
from slabrow.servers.families import family_of
from slabrow.servers.protocols import Session
from slabrow.work.context import Context

_WATCH_S = 0.2
_PATIENCE_S = 3.0  # how long a session may go on with what it does once it is told to stop


@dataclass(slots=True)
class Crew:
    """table: what they work for; size: how many sessions; watch: called now and then on the main thread"""

    context: Context
    table: Name
    size: int
    watch: Callable[[], None]
    _stopping: Event = field(default_factory=Event)
    _failed: list[BaseException] = field(default_factory=list)

    def run(self, work: Callable[[Session, Event], None]) -> None:
        """Calls `work` in each session until all have returned. Raises what the first that failed raised.

        work is told to stop by the event: between two transactions it looks whether it is set.
        """
        family_of(self.context.dsn).load()  # here and not on a thread: two that load modules wait for each other
        sessions: list[Session] = []

        def one() -> None:
            try:
                session = self.context.open_session()
                sessions.append(session)
                session.execution.prepare_maintenance()
                session.execution.join_work(self.table)
                work(session, self._stopping)
            except BaseException as error:  # whatever it is: it is raised where the work is waited for
                self._failed.append(error)
                self._stopping.set()

        threads = [Thread(target=one, name=f"slabrow {number}", daemon=True) for number in range(self.size)]
        for thread in threads:
            thread.start()
        try:
            while any(thread.is_alive() for thread in threads) and not self._failed:
                threads[0].join(_WATCH_S) if threads[0].is_alive() else time.sleep(_WATCH_S / 4)
                self.watch()
        finally:
            self._stopping.set()
            self._end(threads, sessions)
        if self._failed:
            # The first is the cause; the others were ended because of it.
            known = [error for error in self._failed if isinstance(error, SlabrowError)]
            raise self._failed[0] if not known else known[0]

    @staticmethod
    def _end(threads: list[Thread], sessions: list[Session]) -> None:
        until = time.monotonic() + _PATIENCE_S
        for thread in threads:
            thread.join(max(0.0, until - time.monotonic()))
        if any(thread.is_alive() for thread in threads):
            for session in sessions:
                session.cancel(_PATIENCE_S)
            for thread in threads:
                thread.join(_PATIENCE_S)
        for session in sessions:
            session.close()
