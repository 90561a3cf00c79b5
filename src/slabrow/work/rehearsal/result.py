"""The result of a rehearsal, as plain data."""

from dataclasses import dataclass

from slabrow.core.rehearsal.outcome import ServerCounters, Upkeep
from slabrow.core.table.layout import Layout
from slabrow.work.rehearsal.playing import Played


@dataclass(frozen=True, slots=True, kw_only=True)
class RehearsedLayout:
    """One layout, as it was tried. layout: None for the table as it is.

    name       as people read it
    bytes      with indexes, before the day
    build_ms   what the rows of the plain table took to get there; None for the table as it is
    day_ms     what a real day of the workload would take of the server, by what was measured
    predicted_ms  the same, by the cost model; None where it could not tell
    rank, predicted_rank  by these; the least is 1
    """

    name: str
    layout: Layout | None
    bytes: int
    partitions: int
    build_ms: float | None
    played: Played
    counters: ServerCounters
    upkeep: Upkeep | None
    day_ms: float
    predicted_ms: float | None
    rank: int = 0
    predicted_rank: int | None = None

    @property
    def drops(self) -> bool:
        """Whether upkeep works by partitions, not by rows."""
        return self.upkeep is not None and self.upkeep.created + self.upkeep.retired > 0


@dataclass(frozen=True, slots=True)
class LeftOutStatement:
    """A statement that was not played, and why."""

    name: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Rehearsal:
    """rows, real_rows   of the made-up table, and of the real one

    faster        how many times as fast as it happens the day was played
    rate, insert_rate  statements and new rows a second, in the mean of the day
    memory_bytes  of a private server; None elsewhere
    correlation   of the measured order with the predicted one
    tables        that were made, with their rows
    places        where the tables are that were left; empty when they are gone
    notes         what differs from the real table
    """

    table: str
    rows: int
    real_rows: int
    layouts: tuple[RehearsedLayout, ...]
    seconds: float
    faster: float
    rate: float
    insert_rate: float
    server: str
    memory_bytes: int | None
    correlation: float | None
    tables: tuple[tuple[str, int], ...]
    left_out: tuple[LeftOutStatement, ...] = ()
    notes: tuple[str, ...] = ()
    left_tables: tuple[str, ...] = ()
    has_real_values: bool = False
