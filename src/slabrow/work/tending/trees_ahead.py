"""The trees of a layout file's tables, asked for on the run's own session while this process loads its modules."""

from collections.abc import Iterator, Sequence
from queue import SimpleQueue

from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.read.tree_rows import Rows, rows_in_parts
from slabrow.work.background_session import Aside


class TreesAhead(Aside):
    """with_sizes: as of `rows_in_parts`."""

    def __init__(self, dsn: str, names: Sequence[Name], *, with_sizes: bool) -> None:
        super().__init__(dsn)
        self._names, self._with_sizes = names, with_sizes
        self._parts: SimpleQueue[Rows | Exception | None] = SimpleQueue()  # None: that was the last one

    def parts(self) -> Iterator[Rows]:
        """What has been asked for, as it comes. Raises what connecting and asking raise."""
        while (part := self._parts.get()) is not None:
            if isinstance(part, Exception):
                raise part
            yield part

    def connection(self) -> Connection:
        """The session, which is free when all parts have come."""
        self.join()
        assert self._connection is not None
        return self._connection

    def ask(self, connection: Connection) -> None:
        for part in rows_in_parts(connection, self._names, with_sizes=self._with_sizes):
            self._parts.put(part)
        self._parts.put(None)

    def failed(self, error: Exception) -> None:
        self._parts.put(error)
