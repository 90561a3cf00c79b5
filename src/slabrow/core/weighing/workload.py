"""The workload: what runs, how often, and a bounded sample of the values it runs with."""

import random
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from slabrow.core.sql.statement_shapes import (
    can_be_marked,
    exact_shape_of,
    literals_of,
    marked,
    rough_shape_of,
    shape_of,
)

SAMPLES = 24  # runs kept of each shape: enough for its ranges and its skew
MOST_SHAPES = 10_000  # so that the sample stays below 100 MB even of long statements
_LONG = 4_000  # characters; of longer statements one run is kept
_SEED = 20260301


@dataclass(frozen=True, slots=True)
class Run:
    """The values of one run. at: when it ran, None when the source does not say."""

    literals: tuple[str, ...]
    params: tuple[str, ...] | None
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class StatementShape:
    """One shape of statement.

    text      with `?` for literals, as people read it
    marked    with marks for literals, as the parser reads it
    weight    runs a day
    calls     how often it was seen
    total_ms  the time it took together, None where it was not measured
    blocks    blocks that a run reads, from the server's statistics; None where it was not measured
    runs      a sample; of statements known only in their normalised form it is empty
    """

    name: str
    text: str
    marked: str
    weight: float
    calls: int
    total_ms: float | None
    runs: tuple[Run, ...]
    blocks: float | None = None


@dataclass(frozen=True, slots=True)
class Workload:
    """The statements that were read, and their source.

    begins, ends   when the first and the last statement ran, None where the source does not say
    broken         lines that could not be read
    left_out       statements of other databases, of the server itself, or beyond the limit of shapes
    """

    source: str
    shapes: tuple[StatementShape, ...]
    statements: int
    begins: datetime | None = None
    ends: datetime | None = None
    broken: int = 0
    left_out: int = 0

    @property
    def weight(self) -> float:
        """Runs a day, all together."""
        return sum(shape.weight for shape in self.shapes)


@dataclass(slots=True)
class _Seen:
    first: str
    calls: int = 0
    total_ms: float = 0.0
    timed: int = 0
    runs: list[tuple[str, tuple[str, ...] | None, str | None]] = field(default_factory=list)
    name: str | None = None
    weight: float = 0.0
    blocks: float | None = None
    next: int = 0  # the call whose run is kept next, once the sample is full


class Collector:
    """Takes statements one by one and keeps their shapes; memory is bounded whatever their number."""

    def __init__(self, moment: Callable[[str], datetime | None] = datetime.fromisoformat) -> None:
        """moment   reads the times of statements: only those that are kept are read"""
        self._seen: dict[str, _Seen] = {}
        # Nearly every statement is found by its rough shape; the careful one is worked out once for each of those.
        self._by_rough_shape: dict[str, _Seen] = {}
        self._of_first: dict[str, _Seen] = {}
        self._moment = moment
        self._random = random.Random(_SEED).random
        self.statements = 0
        self.left_out = 0

    def add(
        self,
        sql: str,
        params: tuple[str, ...] | None = (),
        at: str | None = None,
        took_ms: float | None = None,
    ) -> str | None:
        """One run of a statement. Returns the first of its shape, for `took`; None when it is left out."""
        self.statements += 1
        rough = rough_shape_of(sql)
        seen = self._by_rough_shape.get(rough) or self._new(rough, sql)
        if seen is None:
            self.left_out += 1
            return None
        seen.calls += 1
        if took_ms is not None:
            seen.total_ms += took_ms
            seen.timed += 1
        if seen.calls >= seen.next:
            self._keep(seen, (sql, params, at))
        return seen.first

    def _keep(self, seen: "_Seen", run: tuple[str, tuple[str, ...] | None, str | None]) -> None:
        """Puts a run into the sample, in which every run has the same chance to be (reservoir sampling).

        How many runs are passed over next is drawn at once, instead of a number for each (Vitter, "Random sampling with
        a reservoir", ACM TOMS 11(1), 1985, algorithm X by inversion): P(more than s are passed over) is the product of
        1 - n/k over the calls k that follow.
        """
        size = SAMPLES if len(run[0]) < _LONG else 1
        if len(seen.runs) < size:
            seen.runs.append(run)
            if len(seen.runs) < size:
                return
        else:
            seen.runs[int(self._random() * len(seen.runs))] = run
        left, passed, kept = self._random(), 1.0, len(seen.runs)
        call = max(seen.calls, kept)
        while passed > left:
            call += 1
            passed *= 1 - kept / call
        seen.next = call

    def _new(self, rough: str, sql: str) -> "_Seen | None":
        """The entry for a rough shape that was not seen before; None beyond the limit of shapes."""
        shape = shape_of(sql)
        seen = self._seen.get(shape)
        if seen is None:
            if len(self._seen) >= MOST_SHAPES:
                return None
            seen = self._seen[shape] = self._of_first[sql] = _Seen(sql)
        if len(self._by_rough_shape) < 2 * MOST_SHAPES and shape_of(rough) == shape:
            self._by_rough_shape[rough] = seen
        return seen

    def took(self, first: str, milliseconds: float) -> None:
        """How long a statement took that was added before."""
        if (seen := self._of_first.get(first)) is not None:
            seen.total_ms += milliseconds
            seen.timed += 1

    def add_named(self, name: str, sql: str, weight: float, params: tuple[str, ...] | None) -> None:
        """A query of a file, with its own name and weight; it stands alone even where another has its shape."""
        self.statements += 1
        self._seen[f"{name}\n{sql}"] = _Seen(sql, 1, runs=[(sql, params, None)], name=name, weight=weight)

    def add_normalised(self, sql: str, calls: int, weight: float, total_ms: float, blocks: float) -> None:
        """A statement of the server's statistics: its values are gone."""
        self.statements += calls
        known = self._seen.setdefault(sql, _Seen(sql, name=None))
        known.calls += calls
        known.weight += weight
        known.total_ms += total_ms
        known.timed += calls
        known.blocks = blocks

    def absorb(self, later: "Collector") -> None:
        """Adds what another one collected of statements that ran later. Every run keeps its chance to be kept."""
        self.statements += later.statements
        self.left_out += later.left_out
        for shape, other in later._seen.items():
            seen = self._seen.get(shape)
            if seen is None:
                if len(self._seen) >= MOST_SHAPES:
                    self.left_out += other.calls
                    continue
                self._seen[shape] = self._of_first[other.first] = other
                continue
            self._of_first[other.first] = seen
            seen.runs = self._drawn(seen, other)
            seen.calls += other.calls
            seen.total_ms += other.total_ms
            seen.timed += other.timed

    def _drawn(self, one: "_Seen", other: "_Seen") -> list[tuple[str, tuple[str, ...] | None, str | None]]:
        """A sample of two samples: each place is taken from one of them, with a chance by the runs it stands for."""
        size = SAMPLES if len(one.first) < _LONG else 1
        left, right = list(one.runs), list(other.runs)
        share = one.calls / max(1, one.calls + other.calls)
        drawn: list[tuple[str, tuple[str, ...] | None, str | None]] = []
        while len(drawn) < size and (left or right):
            source = left if left and (not right or self._random() < share) else right
            drawn.append(source.pop(int(self._random() * len(source))))
        return drawn

    def __getstate__(self) -> dict[str, object]:
        """What another process needs of it: not the short cuts."""
        return {"seen": self._seen, "statements": self.statements, "left_out": self.left_out, "moment": self._moment}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(state["moment"])  # type: ignore[misc]
        self._seen, self.statements, self.left_out = state["seen"], state["statements"], state["left_out"]
        self._of_first = {seen.first: seen for seen in self._seen.values()}

    def workload(
        self, source: str, *, begins: datetime | None = None, ends: datetime | None = None, broken: int = 0
    ) -> Workload:
        """The collected statements, the weightiest first. With times, `weight` is calls by days covered."""
        days = max((ends - begins).total_seconds() / 86_400, 1 / 24) if begins and ends else 1.0
        shapes = [self._shape(seen, days) for seen in self._seen.values()]
        shapes.sort(key=lambda shape: -shape.weight)
        named = tuple(_numbered(shapes))
        return Workload(
            source=source,
            shapes=named,
            statements=self.statements,
            begins=begins,
            ends=ends,
            broken=broken,
            left_out=self.left_out,
        )

    def _shape(self, seen: _Seen, days: float) -> StatementShape:
        # One text is parsed for all runs: those whose lists have another length cannot be put into it.
        first = seen.runs[0][0] if seen.runs else seen.first
        exact, rough = exact_shape_of(first), rough_shape_of(first)
        runs = tuple(
            Run(literals_of(sql), params, None if at is None else self._moment(at))
            for sql, params, at in seen.runs
            # The rough shape keeps the lists' lengths: where it is the same, the exact one need not be worked out.
            if rough_shape_of(sql) == rough or exact_shape_of(sql) == exact
        )
        return StatementShape(
            name=seen.name or "",
            text=shape_of(first),
            marked=marked(first) if runs and can_be_marked(first) else first,
            weight=seen.weight or seen.calls / days,
            calls=seen.calls,
            total_ms=seen.total_ms if seen.timed else None,
            runs=runs,
            blocks=seen.blocks,
        )


def _numbered(shapes: Iterable[StatementShape]) -> Iterable[StatementShape]:
    """Gives every shape without a name the number of its rank."""
    for number, shape in enumerate(shapes, 1):
        yield shape if shape.name else replace(shape, name=f"shape-{number}")


def merged(workloads: list[Workload]) -> Workload:
    """Several sources as one; names that stand twice get a number."""
    if len(workloads) == 1:
        return workloads[0]
    shapes = [shape for each in workloads for shape in each.shapes]
    begins = [each.begins for each in workloads if each.begins is not None]
    ends = [each.ends for each in workloads if each.ends is not None]
    return Workload(
        source=", ".join(each.source for each in workloads),
        shapes=tuple(shapes),
        statements=sum(each.statements for each in workloads),
        begins=min(begins, default=None),
        ends=max(ends, default=None),
        broken=sum(each.broken for each in workloads),
        left_out=sum(each.left_out for each in workloads),
    )
