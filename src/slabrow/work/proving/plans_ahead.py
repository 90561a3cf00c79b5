"""The server's plans of many queries, asked for while the parser, which takes as long to load, is loaded."""

from collections.abc import Sequence
from concurrent.futures import Future
from threading import Event

from slabrow.core.sql.parameters import parameters_in
from slabrow.files.query_file import FileQuery
from slabrow.servers.postgresql.ask.plans import PlanReading
from slabrow.servers.postgresql.ask.queries import Query, explain, forget, is_explainable, read_explained
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.work.background_session import Aside


class PlansAhead(Aside):
    """Plans asked for in the order of the queries.

    Queries that have parameters and no values for them are left to whoever needs them.
    """

    def __init__(self, dsn: str, queries: Sequence[FileQuery], timeout_ms: int) -> None:
        super().__init__(dsn)
        self._timeout_ms = timeout_ms
        self._plans: dict[FileQuery, Future[str]] = {
            query: Future()
            for query in queries
            if is_explainable(query.sql) and (query.params or not parameters_in(query.sql))
        }
        self._left = Event()

    def begin(self) -> None:
        if self._plans:
            super().begin()

    def end(self) -> None:
        self._left.set()
        super().end()

    def plan(self, query: FileQuery) -> PlanReading | None:
        """Waits for the plan of a query. None when it was not asked for, or no session could be had.

        Raises ServerError with the server's words when the statement is wrong.
        """
        future = self._plans.get(query)
        if future is None:
            return None
        found = future.exception()
        if isinstance(found, _NotAsked):
            return None
        return read_explained(future.result())

    def ask(self, connection: Connection) -> None:
        for query, future in self._plans.items():
            if self._left.is_set():
                break
            self._ask_one(connection, query, future)
        self._leave_the_rest()

    def failed(self, error: Exception) -> None:
        """The caller's own session will meet the same, and say it."""
        self._leave_the_rest()

    def _leave_the_rest(self) -> None:
        for future in self._plans.values():
            if not future.done():
                future.set_exception(_NotAsked())

    def _ask_one(self, connection: Connection, query: FileQuery, future: "Future[str]") -> None:
        try:
            future.set_result(explain(connection, Query(query.sql, query.params), self._timeout_ms))
        except Exception as error:  # whatever it is: it is raised where the plan is wanted
            future.set_exception(error)
            with explained("go on after a query that failed"):
                forget(connection)


class _NotAsked(Exception):
    """The asking ended before this query's turn."""
