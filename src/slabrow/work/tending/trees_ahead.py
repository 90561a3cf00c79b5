"""The trees of a layout file's tables, asked for on the run's own session while this process loads its modules."""

from collections.abc import Callable, Iterator, Sequence
from queue import SimpleQueue

from slabrow.core.table.tree import Tree
from slabrow.core.values.names import Name
from slabrow.servers.protocols import Session
from slabrow.work.background_session import BackgroundSession

TreePart = Callable[[], dict[Name, Tree]]  # as `Catalogue.trees_in_parts` has it


class TreesAhead(BackgroundSession):
    """with_sizes: as of `Catalogue.trees_in_parts`."""

    def __init__(self, dsn: str, names: Sequence[Name], *, with_sizes: bool) -> None:
        super().__init__(dsn)
        self._names, self._with_sizes = names, with_sizes
        self._parts: SimpleQueue[TreePart | Exception | None] = SimpleQueue()  # None: that was the last one

    def parts(self) -> Iterator[dict[Name, Tree]]:
        """The trees that have been asked for, as they come. Raises what connecting and asking raise."""
        while (part := self._parts.get()) is not None:
            if isinstance(part, Exception):
                raise part
            yield part()

    def session(self) -> Session:
        """The session, which is free when all parts have come."""
        self.join()
        assert self._session is not None
        return self._session

    def ask(self, session: Session) -> None:
        """Every part, on the thread."""
        for part in session.catalogue.trees_in_parts(self._names, with_sizes=self._with_sizes):
            self._parts.put(part)
        self._parts.put(None)

    def failed(self, error: Exception) -> None:
        """Hands the error to whoever waits for the trees."""
        self._parts.put(error)
