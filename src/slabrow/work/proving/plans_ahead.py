"""The server's plans of many queries, asked for while the parser, which takes as long to load, is loaded."""

from collections.abc import Sequence
from concurrent.futures import Future
from threading import Event

from slabrow.core.pruning.plan_reading import PlanReading, Query
from slabrow.core.sql.parameters import parameters_in
from slabrow.files.query_file import FileQuery
from slabrow.servers.protocols import Session
from slabrow.work.background_session import BackgroundSession


class PlansAhead(BackgroundSession):
    """Plans asked for in the order of the queries.

    Queries that have parameters and no values for them are left to whoever needs them.
    """

    def __init__(self, dsn: str, queries: Sequence[FileQuery], timeout_ms: int) -> None:
        super().__init__(dsn)
        self._timeout_ms = timeout_ms
        self._plans: dict[FileQuery, Future[str]] = {
            query: Future() for query in queries if query.params or not parameters_in(query.sql)
        }
        self._left = Event()

    def begin(self) -> None:
        """Starts asking, where there is anything to ask."""
        if self._plans:
            super().begin()

    def end(self) -> None:
        """Stops after the query that is being asked."""
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
        assert self._session is not None
        return self._session.planner.read_explained(future.result())

    def ask(self, session: Session) -> None:
        """Every plan, on the thread."""
        for query, future in self._plans.items():
            if self._left.is_set():
                break
            self._ask_one(session, query, future)
        self._leave_the_rest()

    def failed(self, error: Exception) -> None:
        """The caller's own session will meet the same, and say it."""
        self._leave_the_rest()

    def _leave_the_rest(self) -> None:
        for future in self._plans.values():
            if not future.done():
                future.set_exception(_NotAsked())

    def _ask_one(self, session: Session, query: FileQuery, future: "Future[str]") -> None:
        if not session.planner.is_explainable(query.sql):
            future.set_exception(_NotAsked())
            return
        try:
            future.set_result(session.planner.explain(Query(query.sql, query.params), self._timeout_ms))
        except Exception as error:  # whatever it is: it is raised where the plan is wanted
            future.set_exception(error)
            with session.explained("go on after a query that failed"):
                session.planner.forget()


class _NotAsked(Exception):
    """The asking ended before this query's turn."""
