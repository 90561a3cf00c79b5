"""The trees of a layout file's tables, asked for on the run's own session while this process loads its modules.

The driver waits for the server outside Python's lock: of the run with nothing to do, the answer is a quarter of the
time, and modules another half.
"""

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from threading import Thread

from slabrow.core.names import Name
from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.tree_rows import TreeRow, rows_by_name

_SWITCH_S = 0.0005  # how long the asking thread waits for its turn when the answer has come


class TreesAhead:
    """Asked for from the moment that this is made. with_sizes: as of `rows_by_name`."""

    def __init__(self, dsn: str, names: Sequence[Name], *, with_sizes: bool) -> None:
        self._dsn, self._names, self._with_sizes = dsn, names, with_sizes
        self._connection: Connection | None = None
        self._rows: dict[Name, list[TreeRow]] = {}
        self._error: Exception | None = None
        self._usual_switch_s = sys.getswitchinterval()
        sys.setswitchinterval(_SWITCH_S)
        # A daemon: one that is still looking for the server does not keep a process from ending.
        self._thread = Thread(target=self._ask, name="trees ahead", daemon=True)
        self._thread.start()

    @contextmanager
    def connected(self) -> Iterator[tuple[Connection, dict[Name, list[TreeRow]]]]:
        """The session and what it was asked for. Raises what connecting and asking raise."""
        self._thread.join()
        sys.setswitchinterval(self._usual_switch_s)
        try:
            if self._error is not None:
                raise self._error
            assert self._connection is not None
            yield self._connection, self._rows
        finally:
            self.close()

    def close(self) -> None:
        """Ends the session, whether anybody took it or not."""
        sys.setswitchinterval(self._usual_switch_s)
        if self._connection is not None:
            if self._thread.is_alive():
                self._connection.cancel()
                self._thread.join()
            self._connection.close()

    def _ask(self) -> None:
        try:
            self._connection = connect(self._dsn)
            self._rows = rows_by_name(self._connection, self._names, with_sizes=self._with_sizes)
        except Exception as error:  # whatever it is: it is raised where the answer is wanted
            self._error = error
