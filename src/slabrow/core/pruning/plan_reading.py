"""The facts about pruning in a server's plan, as plain data. Reading the plan's own text belongs to the family."""

from collections.abc import Mapping
from dataclasses import dataclass

from slabrow.core.values.errors import ServerError


@dataclass(frozen=True, slots=True)
class Query:
    """A statement with the values of its parameters, as SQL literals."""

    sql: str
    params: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Scan:
    """A part of a plan that reads a relation.

    relation    `schema.table` as the catalogue holds them
    loops       how often it ran, None when the query was not executed
    rows_read   rows it looked at in all its loops, those it filtered out too; None when the query was not executed
    is_sent     whether the rows come from another server
    unsent      the condition that is worked out here, on rows that another server sends; empty where there is none
    """

    relation: str
    loops: int | None
    was_pruned_running: bool
    rows_read: int | None = None
    is_sent: bool = False
    unsent: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanReading:
    """The facts in one plan. Times in milliseconds; blocks are those of tables and indexes.

    removed      for a relation of each partitioned table, how many members were left out as execution started
    hit, read    blocks found in the server's memory, and read into it
    rows         rows returned, or changed
    changes      of an UPDATE, a DELETE or a MERGE: how many rows the planner expects to change
    waiting_ms   of the execution, spent in waiting for blocks; None where the server does not time that
    """

    scans: tuple[Scan, ...]
    removed: Mapping[str, int]
    removed_unnamed: int
    planning_ms: float | None
    execution_ms: float | None
    hit: int | None
    read: int | None
    rows: int | None
    changes: int | None = None
    waiting_ms: float | None = None

    @property
    def blocks(self) -> int | None:
        """Blocks touched, in memory or not; None when the query was not executed."""
        return None if self.hit is None or self.read is None else self.hit + self.read


@dataclass(frozen=True, slots=True)
class UnvaluedPlan:
    """A prepared statement without values.

    types         of its parameters, as the server found them
    plan          the generic plan; the leaves that values leave out as it starts are still in it
    may_prune_at_start   whether values leave any out
    """

    types: tuple[str, ...]
    plan: PlanReading
    may_prune_at_start: bool


class NotRun(ServerError):
    """A query that could be planned and may not be run: it changes or locks rows, or takes too long."""
