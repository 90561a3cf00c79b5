"""The server's plans of many queries, asked on a session of its own while this process does something else.

The driver waits for the server outside Python's lock. So the server plans while the parser, which takes as long to
load as thirty plans, is loaded and the predictions are made.
"""

import sys
from collections.abc import Sequence
from concurrent.futures import Future
from threading import Event, Thread
from types import TracebackType
from typing import Self

from slabrow.core.errors import SlabrowError
from slabrow.core.parameters import parameters_in
from slabrow.files.query_file import FileQuery
from slabrow.servers.postgresql.connection import Connection, connect, explained
from slabrow.servers.postgresql.plans import PlanReading
from slabrow.servers.postgresql.queries import Query, explain, forget, is_explainable, read_explained

_SWITCH_S = 0.0005  # how long the asking thread waits for its turn when an answer has come


class PlansAhead:
    """Plans asked for in the order of the queries, from the moment that the block is entered until it is left.

    Queries that have parameters and no values for them are left to whoever needs them.
    """

    def __init__(self, dsn: str, queries: Sequence[FileQuery], timeout_ms: int) -> None:
        self._dsn, self._timeout_ms = dsn, timeout_ms
        self._plans: dict[FileQuery, Future[str]] = {
            query: Future()
            for query in queries
            if is_explainable(query.sql) and (query.params or not parameters_in(query.sql))
        }
        self._left = Event()
        self._connection: Connection | None = None
        self._thread = Thread(target=self._ask, name="plans ahead")

    def __enter__(self) -> Self:
        if self._plans:
            self._usual_switch_s = sys.getswitchinterval()
            sys.setswitchinterval(_SWITCH_S)
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if not self._plans:
            return
        self._left.set()
        if self._connection is not None and self._thread.is_alive():
            self._connection.cancel()
        self._thread.join()
        sys.setswitchinterval(self._usual_switch_s)

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

    def _ask(self) -> None:
        try:
            self._connection = connect(self._dsn)
            with self._connection:
                for query, future in self._plans.items():
                    if self._left.is_set():
                        break
                    self._ask_one(self._connection, query, future)
        except SlabrowError:
            pass  # the session of the caller meets the same, and says it
        finally:
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
