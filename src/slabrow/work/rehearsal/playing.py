"""Plays a day's load on one table: what is due when, the processes that send it, and what they have measured."""

import multiprocessing
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection as Pipe
from multiprocessing.process import BaseProcess
from typing import Any

import numpy as np

from slabrow.core.rehearsal.fresh_values import PlayedRun
from slabrow.core.rehearsal.made_up_column import Array
from slabrow.core.rehearsal.outcome import HourOutcome, Latencies, QueryOutcome, hours, latencies
from slabrow.core.rehearsal.played_day import Curve, Pace, runs_of
from slabrow.core.values.errors import SlabrowError, Stopped
from slabrow.work.rehearsal.player import LookedAt, PlayedEvent, PlayJob, PlayReport, play_alone

READERS, WRITERS = 2, 1  # processes
SESSIONS = 4  # of each
_SEED = 20_260_228
_PATIENCE_S = 20.0
_START_S = 0.3


@dataclass(frozen=True, slots=True)
class PlayedStatement:
    """A statement of the workload with runs to choose from. changes: it changes rows."""

    name: str
    weight: float
    runs: tuple[PlayedRun, ...]
    changes: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Load:
    """What is played on each table, the same on all.

    inserts  new rows, one a run, in the order in which they are written
    pace     how much of the statements; insert_rate: new rows a second;
             wanted_insert_rate: those that would go with so many statements
    """

    statements: tuple[PlayedStatement, ...]
    inserts: tuple[PlayedRun, ...]
    pace: Pace
    insert_rate: float
    wanted_insert_rate: float
    seconds: float
    curve: Curve
    zone: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Played:
    """What was measured.

    asked, done   runs that were due, and that were done
    planning_share  of the time that the server took, for the runs that were looked at
    client_cpu      of one processor, what the load itself took
    """

    queries: tuple[QueryOutcome, ...]
    writes: Latencies | None
    write_service: Latencies | None
    asked: int
    done: int
    failed: int
    error: str | None
    planning_share: float | None
    hours: tuple[HourOutcome, ...]
    client_cpu: float
    waiting_share: float  # of the latency, waiting for a turn
    write_moments: tuple[tuple[float, float], ...]  # when each was due, and its latency in milliseconds


def events_of(load: Load) -> tuple[list[PlayedEvent], list[PlayedEvent]]:
    """Of readers, and of writers: sorted by when they are due. Statement -1 is a new row."""
    chance = np.random.default_rng(_SEED)
    looked_at = load.pace.looked_at
    runs = runs_of([each.weight for each in load.statements], load.pace.rate, load.seconds, load.pace.least)
    reading: list[PlayedEvent] = []
    writing: list[PlayedEvent] = []
    for number, (statement, wanted) in enumerate(zip(load.statements, runs, strict=True)):
        due = load.curve.due(wanted + looked_at, load.seconds, chance)
        looked = set(np.linspace(0, wanted + looked_at - 1, looked_at + 2)[1:-1].round().astype(int).tolist())
        into = writing if statement.changes else reading
        for place, moment in enumerate(due.tolist()):
            run = statement.runs[place % len(statement.runs)]
            into.append(PlayedEvent(moment, number, run, place in looked, statement.changes))
    for moment, run in zip(load.curve.due(len(load.inserts), load.seconds, chance).tolist(), load.inserts, strict=True):
        writing.append(PlayedEvent(moment, -1, run))
    return sorted(reading, key=_due), sorted(writing, key=_due)


def _due(event: PlayedEvent) -> float:
    return event.due


def play(
    dsn: str,
    load: Load,
    leaves: frozenset[str],
    meanwhile: Callable[[], None],
    tell: Callable[[float], None],
) -> Played:
    """Plays the load.

    leaves     of the table, each as schema.table
    meanwhile  is called in the middle of the day
    tell       hears the share that has passed

    Raises Stopped when a process of the load ends without a report.
    """
    reading, writing = events_of(load)
    shares = [reading[place::READERS] for place in range(READERS)] + [
        writing[place::WRITERS] for place in range(WRITERS)
    ]
    jobs = [
        PlayJob(dsn, load.zone, events, min(SESSIONS, max(1, len(events))), load.seconds, _PATIENCE_S, leaves)
        for events in shares
        if events
    ]
    with _Crew(jobs) as crew:
        start = crew.begin()
        middle = threading.Timer(max(0.0, start + load.seconds / 2 - time.time()), meanwhile)
        middle.start()
        try:
            reports = crew.reports(lambda: tell(min(1.0, (time.time() - start) / load.seconds)))
            middle.join()
        finally:
            middle.cancel()
    return _summed(load, list(zip(jobs, reports, strict=True)))


class _Crew:
    """The processes of the load. Whatever happens, none of them is left behind."""

    def __init__(self, jobs: Sequence[PlayJob]) -> None:
        self._jobs = jobs
        self._started: list[tuple[BaseProcess, Pipe]] = []

    def __enter__(self) -> "_Crew":
        fresh = multiprocessing.get_context("spawn")
        for job in self._jobs:
            here, there = fresh.Pipe()
            process = fresh.Process(target=play_alone, args=(there, job), daemon=True)
            process.start()
            there.close()
            self._started.append((process, here))
        return self

    def __exit__(self, *_: object) -> None:
        for process, pipe in self._started:
            pipe.close()
            process.terminate()
        for process, _pipe in self._started:
            process.join(10)

    def begin(self) -> float:
        """Waits until all are ready, and says when they begin."""
        for _, pipe in self._started:
            self._heard(pipe)
        start = time.time() + _START_S
        for _, pipe in self._started:
            pipe.send(start)
        return start

    def reports(self, tell: Callable[[], None]) -> list[PlayReport]:
        found: list[PlayReport] = []
        for _, pipe in self._started:
            while not pipe.poll(0.5):
                tell()
            found.append(self._heard(pipe))
        return found

    @staticmethod
    def _heard(pipe: Pipe) -> Any:
        try:
            said = pipe.recv()
        except EOFError:
            raise Stopped("a process of the load ended without a word", fix="run it again") from None
        if isinstance(said, SlabrowError):
            raise said
        return said


def _summed(load: Load, played: Sequence[tuple[PlayJob, PlayReport]]) -> Played:
    count = len(load.statements)
    waited: dict[int, list[float]] = {number: [] for number in range(-1, count)}
    served: dict[int, list[float]] = {number: [] for number in range(-1, count)}
    errors: dict[int, list[str]] = {}
    moments: list[tuple[float, float]] = []
    reads: list[tuple[float, float]] = []
    done = asked = 0
    looked: dict[int, list[LookedAt]] = {}
    for job, report in played:
        asked += len(job.events)
        for each in report.looked_at:
            looked.setdefault(each.statement, []).append(each)
        for place, event in enumerate(job.events):
            begun, ended = report.begun[place], report.ended[place]
            if place in report.failed:
                errors.setdefault(event.statement, []).append(report.failed[place])
                continue
            if begun is None or ended is None:  # it never had its turn: at least so late
                late = (load.seconds + _PATIENCE_S - event.due) * 1_000
            else:
                done += 1
                late = (ended - event.due) * 1_000
                if not event.looked_at:
                    served[event.statement].append((ended - begun) * 1_000)
            if event.looked_at:
                continue
            waited[event.statement].append(late)
            is_write = event.statement < 0 or event.changes
            (moments if is_write else reads).append((event.due, late))
    queries = tuple(
        _query(each, waited[number], served[number], looked.get(number, []), errors.get(number, []))
        for number, each in enumerate(load.statements)
    )
    seen = [each for some in looked.values() for each in some]
    planning = sum(_weighted(load, each, each.planning_ms) for each in seen)
    whole = planning + sum(_weighted(load, each, each.execution_ms) for each in seen)
    due, late_ms = (np.array([each[place] for each in reads]) for place in (0, 1))
    every = [words for some in errors.values() for words in some]
    return Played(
        queries=queries,
        writes=latencies(np.array([late for _, late in moments])),
        write_service=latencies(np.array(served[-1])),
        asked=asked,
        done=done,
        failed=len(every),
        error=every[0] if every else None,
        planning_share=planning / whole if whole else None,
        hours=hours(load.curve.hour_of(due, load.seconds), late_ms) if len(due) else (),
        client_cpu=sum(report.cpu_s for _, report in played) / load.seconds,
        waiting_share=_waiting(waited, served),
        write_moments=tuple(moments),
    )


def _waiting(waited: Mapping[int, Sequence[float]], served: Mapping[int, Sequence[float]]) -> float:
    latency, service = (sum(map(sum, each.values())) for each in (waited, served))
    return max(0.0, 1 - service / latency) if latency else 0.0


def _weighted(load: Load, each: LookedAt, value: float) -> float:
    return load.statements[each.statement].weight * value


def _query(
    statement: PlayedStatement,
    waited: Sequence[float],
    served: Sequence[float],
    looked: Sequence[LookedAt],
    errors: Sequence[str],
) -> QueryOutcome:
    def middle(values: Array) -> float | None:
        return float(np.median(values)) if len(values) else None

    return QueryOutcome(
        name=statement.name,
        weight=statement.weight,
        latency=latencies(np.array(waited)),
        service=latencies(np.array(served)),
        blocks=middle(np.array([each.blocks for each in looked])),
        reads=middle(np.array([each.reads for each in looked])),
        touched=middle(np.array([each.touched for each in looked])),
        planning_ms=middle(np.array([each.planning_ms for each in looked])),
        execution_ms=middle(np.array([each.execution_ms for each in looked])),
        failed=len(errors),
        error=errors[0] if errors else None,
    )
