"""One process of the load: it sends each run when it is due, on several sessions, and notes how long each took.

A run's latency counts from the moment at which it was due. When all sessions are busy it waits for its turn, as it
would in an application; that waiting is a part of the latency.
"""

import os
import signal
import threading
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from multiprocessing.connection import Connection as Pipe

from slabrow.core.pruning.plan_reading import PlanReading, Query
from slabrow.core.rehearsal.fresh_values import PlayedRun
from slabrow.core.values.errors import SlabrowError
from slabrow.servers.families import open_session
from slabrow.servers.protocols import Session

_TIMEOUT_MS = 120_000


@dataclass(frozen=True, slots=True)
class PlayedEvent:
    """due: seconds after the beginning; looked_at: whether the server is asked what the run cost."""

    due: float
    statement: int
    run: PlayedRun
    looked_at: bool = False
    changes: bool = False


@dataclass(frozen=True, slots=True)
class PlayJob:
    """The part of one process. patience_s: after the last run is due, so long what is late may still begin.

    leaves   those of the table, each as schema.table
    """

    dsn: str
    zone: str
    events: Sequence[PlayedEvent]
    sessions: int
    seconds: float
    patience_s: float
    leaves: frozenset[str]


@dataclass(frozen=True, slots=True)
class LookedAt:
    """What the server said of one run."""

    statement: int
    blocks: int
    reads: int
    touched: int
    planning_ms: float
    execution_ms: float


@dataclass(slots=True)
class PlayReport:
    """For each event the moments, in seconds, at which it began and ended; None for one that never began.

    failed   the server's words for events that failed
    cpu_s    of this process, from the beginning of the play to its end
    """

    begun: list[float | None] = field(default_factory=list)
    ended: list[float | None] = field(default_factory=list)
    failed: dict[int, str] = field(default_factory=dict)
    looked_at: list[LookedAt] = field(default_factory=list)
    cpu_s: float = 0.0


def play_alone(pipe: Pipe, job: PlayJob) -> None:
    """The main function of the process: says that it is ready, waits for the moment to begin, plays, reports."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is heard by the process that started this one
    try:
        player = _Player(job)
        player.open()
    except SlabrowError as error:
        pipe.send(error)
        return
    pipe.send("ready")
    try:
        start = pipe.recv()
    except EOFError:
        return
    threading.Thread(target=_end_with_parent, args=(pipe,), daemon=True).start()
    pipe.send(player.play(start))


def _end_with_parent(pipe: Pipe) -> None:
    """The pipe closes when the process that started this one is gone."""
    with suppress(EOFError, OSError):
        pipe.recv()
    os._exit(1)


class _Player:
    def __init__(self, job: PlayJob) -> None:
        self._job = job
        self._next = 0
        self._lock = threading.Lock()
        self._sessions: list[Session] = []
        count = len(job.events)
        self._report = PlayReport([None] * count, [None] * count)

    def open(self) -> None:
        for _ in range(self._job.sessions):
            session = open_session(self._job.dsn)
            session.rehearsing.set_zone(self._job.zone)
            self._sessions.append(session)

    def play(self, start: float) -> PlayReport:
        """start: a moment of time.time()."""
        cpu = time.process_time()
        threads = [threading.Thread(target=self._run, args=(session, start)) for session in self._sessions]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self._report.cpu_s = time.process_time() - cpu
        for session in self._sessions:
            session.close()
        return self._report

    def _take(self) -> int | None:
        with self._lock:
            if self._next >= len(self._job.events):
                return None
            self._next += 1
            return self._next - 1

    def _run(self, session: Session, start: float) -> None:
        rehearsing, report = session.rehearsing, self._report
        last = self._job.seconds + self._job.patience_s
        while (place := self._take()) is not None:
            event = self._job.events[place]
            wait = start + event.due - time.time()
            if wait > 0:
                time.sleep(wait)
            began = time.time() - start
            if began > last:
                continue
            report.begun[place] = began
            try:
                if event.looked_at:
                    self._look(session, event)
                else:
                    rehearsing.play(event.run)
            except SlabrowError as error:
                report.failed[place] = error.found or error.problem
                if session.closed:
                    return
                if event.looked_at:
                    with suppress(SlabrowError):
                        session.planner.forget()
            report.ended[place] = time.time() - start

    def _look(self, session: Session, event: PlayedEvent) -> None:
        query = Query(event.run.sql, event.run.params)
        run = session.planner.run_change if event.changes else session.planner.run
        plan: PlanReading = run(query, _TIMEOUT_MS)
        touched = {scan.relation for scan in plan.scans if scan.loops} & self._job.leaves
        self._report.looked_at.append(
            LookedAt(
                event.statement,
                plan.blocks or 0,
                plan.read or 0,
                len(touched),
                plan.planning_ms or 0.0,
                plan.execution_ms or 0.0,
            )
        )
