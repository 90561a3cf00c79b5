"""The questions that a session answers: its catalogue, rows to be counted, plans, archives. See protocols.py."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import TYPE_CHECKING, Protocol
from zoneinfo import ZoneInfo

if TYPE_CHECKING:  # only types: a run of `tend` that finds nothing to do must not load them all
    from slabrow.core.pruning.plan_reading import PlanReading, Query, UnvaluedPlan
    from slabrow.core.pruning.predict import Settings
    from slabrow.core.sql.answers import Answers
    from slabrow.core.sql.schema import Schema
    from slabrow.core.statistics.estimates import ColumnStatistics
    from slabrow.core.statistics.facts import TableFacts
    from slabrow.core.statistics.glance import Overview
    from slabrow.core.table.belongings import Belongings
    from slabrow.core.table.bounds import Bounds
    from slabrow.core.table.counted import BucketCounts, CatchAllCount, Extent, LeafCount
    from slabrow.core.table.export_column import ExportColumn, RowSource
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.relation import ColumnFact, ForeignKeyFact, IndexFact, LeafFact, LeavesTotal, Relation
    from slabrow.core.table.shape import Shape
    from slabrow.core.table.tree import Partition, Tree
    from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
    from slabrow.core.values.key_values import Value
    from slabrow.core.values.names import Name
    from slabrow.core.weighing.costs import Costs
    from slabrow.core.weighing.workload import Workload


class Catalogue(Protocol):
    """Facts about tables from the catalogue, and about the server itself. Changes nothing and waits for no lock."""

    def exists(self, name: Name) -> bool:
        """Whether there is a relation of that name."""

    def has_schema(self, name: str) -> bool:
        """Whether there is a schema of that name."""

    def relation(self, name: Name) -> Relation:
        """The relation of that name. Raises UsageError with the nearest names when there is none."""

    def tree(self, name: Name, *, with_values: bool = False) -> Tree:
        """A partitioned table and all its partitions, in the order of their bounds.

        with_values   also the least and greatest key of each leaf, from its statistics: one query more
        Raises UsageError when there is no such table, or it is not partitioned.
        """

    def columns(self, found: Relation) -> tuple[ColumnFact, ...]:
        """The columns of a table in their order."""

    def column_statistics(self, found: Relation) -> dict[str, ColumnStatistics]:
        """Each column of a table as the last ANALYZE saw it; columns without statistics are left out.

        n_distinct below zero is a share of the rows (PostgreSQL manual, 53.25 pg_stats).
        """

    def indexes(self, found: Relation) -> tuple[IndexFact, ...]:
        """The indexes of a table with their sizes and how often they were scanned."""

    def foreign_keys(self, found: Relation) -> tuple[ForeignKeyFact, ...]:
        """The foreign keys out of a table and into it."""

    def all_leaves(self) -> tuple[LeafFact, ...]:
        """Every partitioned table in the database with its leaves: one query."""

    def names_like(self, prefix: str, *, partitions: bool, most: int) -> tuple[str, ...]:
        """Tables, or leaves of partitioned tables, whose names begin so; as `schema.table`, quoted where needed.

        most   no more than so many
        """

    def names_in_schema(self, schema: str | None) -> frozenset[str]:
        """Every relation name in a schema: what a new partition cannot be called."""

    def leaves_total(self, found: Relation) -> LeavesTotal:
        """One query, whatever the number of leaves."""

    def whole(self, found: Relation) -> tuple[Relation, LeavesTotal | None]:
        """A partitioned table with the rows and bytes of its leaves, and what these come from; another one as it is."""

    def blocks(self, found: Relation) -> int:
        """The size of a table's main fork, in blocks."""

    def current_role(self) -> str:
        """The role that acts."""

    def owner(self, found: Relation) -> str:
        """The role that owns a relation."""

    def comment(self, found: Relation) -> str | None:
        """The comment on a relation, None without one."""

    def has_record_hash(self, found: Relation) -> bool:
        """Whether a whole row can be hashed: the type of every column has a hash function."""

    def is_type(self, text: str) -> bool:
        """Whether the server knows a text as the name of a type. The text is never run."""

    def time_zone(self) -> ZoneInfo | None:
        """The session's time zone; None when the zone has no name here."""

    def moment(self) -> datetime:
        """The server's now()."""

    def shape(self, name: Name) -> Shape:
        """The shape of a table. Raises ServerError when it is a view, or anything else that holds no rows of its own.

        Call it within `reading`, so that all its queries see one state.
        """

    def belongings(self, found: Relation) -> Belongings:
        """What is bound to a table beside its columns, keys and indexes. Call it within `reading`."""

    def recorded_by(self, table: Name) -> str | None:
        """The ledger's schema of the conversion that records the changes of a table; None where none does."""

    def bodies_naming(self, table: Name) -> tuple[tuple[str, str], ...]:
        """(function, its body as text) of each function in the database whose body names the table."""

    def table_facts(self, name: Name) -> TableFacts:
        """Raises ServerError when there is no such table, it holds no rows of its own, or was never analysed."""

    def stored_columns(self, table: Name) -> list[ExportColumn]:
        """The stored columns of a table, generated ones left out, each with the form that its type has at best."""

    def schema(self, names: Iterable[Name]) -> Schema:
        """The columns of the tables that statements name, and what the views among them are: one query.

        Names that stand for nothing are left out. Views bring the tables that they read.
        """

    def settings(self) -> Settings:
        """The settings of the session that change what prunes."""

    def trees_in_parts(
        self, names: Sequence[Name], *, with_sizes: bool = True
    ) -> Iterator[Callable[[], dict[Name, Tree]]]:
        """Many partitioned tables with all their partitions, by the names that were asked for, in one part or two.

        A part is a function: called, it makes the trees of what the server has answered. So the first part can be
        looked at while the server reads the second one. The session is free when the last part has come.
        Names that are not there, are not partitioned, or lie in a schema that may not be used, are left out; so is a
        table whose bounds cannot be read.
        with_sizes   False: the bytes of partitions are not wanted, and the server need not look at their files
        """

    def overview(self, now: datetime) -> Overview:
        """Every table that the role may read, at a glance: a few queries, whatever their number. now: the clock."""

    def upkeep_facts(self, tree: Tree, like: Name | None = None) -> UpkeepFacts:
        """The facts about a table that its upkeep is decided and written from.

        like   the partition whose own properties new ones get; None: the newest one
        """

    def copying(self, tree: Tree) -> Copying | None:
        """The facts that a sweep needs which copies rows before it locks; None without a catch-all, or where it is no
        heap.
        """

    def shape_from_sql(self, definitions: Sequence[str], table: Name, doing: str) -> Shape | None:
        """The shape of the table that the definitions make; None when they make no such table. The table does not stay.

        definitions   CREATE TABLE and the like, checked by the caller: they are run
        Raises ServerError with the server's words when a definition is wrong.
        """


class Counting(Protocol):
    """Reads rows: counts, extremes, samples, routes. Each says how many scans it takes."""

    def extent(self, table: Name, column: ColumnFact) -> Extent:
        """Exact. Where the column cannot be NULL this is two index look-ups, else one scan."""

    def count_rows(self, table: Name) -> int:
        """Exact: one scan."""

    def count_buckets(self, table: Name, column: ColumnFact, thresholds: Sequence[Value]) -> BucketCounts:
        """Counts the rows between sorted thresholds: one scan, whatever their number."""

    def count_values(self, table: Name, column: ColumnFact) -> dict[Value | None, int]:
        """Counts the rows of each value: one scan."""

    def count_leaves(self, tree: Tree) -> dict[str, LeafCount]:
        """Exact rows and extremes of every leaf, by spelling. Each batch of leaves is its own transaction."""

    def rows_of_leaves(self, tree: Tree, leaves: Sequence[Partition]) -> dict[str, int]:
        """Exact, by the spelling of each leaf: one scan of all. Each batch of leaves is its own transaction."""

    def any_rows(self, tree: Tree, leaves: Sequence[Partition]) -> bool:
        """Whether one of the leaves holds a row at all. Each batch of leaves is its own transaction."""

    def count_catch_all(
        self, tree: Tree, catch_all: Partition, key: tuple[str, ...], held: Sequence[Bounds | None]
    ) -> CatchAllCount:
        """The rows of a catch-all within each of the bounds: one scan for up to some two hundred of them.

        key    the columns of the key, in which the bounds are written
        held   None for bounds that hold nothing
        Raises ValueError for bounds that cannot be written as a condition.
        """

    def some_values(self, tree: Tree, leaf: Partition, column: ColumnFact, most: int) -> list[Value]:
        """Different values of a column, NULL left out, at most so many: one scan."""

    def moving_obstacle(self, parent: Name, catch_all: Name) -> str | None:
        """Why rows cannot be moved out of a catch-all by DELETE and INSERT without side effects; None when they can."""

    def count_keys(
        self, table: Name, columns: Sequence[ColumnFact]
    ) -> Iterator[tuple[list[list[str | None]], list[int]]]:
        """The different keys of a table with their rows: batches of (the texts of each column, rows). One scan.

        Read through a cursor on the server, so that memory stays constant; call it within `reading`.
        """

    def count_pairs(
        self,
        table: Name,
        leading: ColumnFact,
        thresholds: Sequence[Value] | None,
        columns: Sequence[ColumnFact],
    ) -> Iterator[tuple[list[str | None], list[list[str | None]], list[int]]]:
        """Rows by a label and the values of columns: batches of (labels, texts of each column, rows). One scan.

        leading      the column that the label is of
        thresholds   None: the label is the value's text. Else it is the number of the range between the thresholds, 0
                     below the first one. The label of a NULL is None
        Read through a cursor on the server, so that memory stays constant; call it within `reading`.
        """

    def sample(self, table: Name, columns: Sequence[ColumnFact], percent: float) -> dict[str, list[Value | None]]:
        """The values of every column in a sample of the table's blocks, in the table's order (TABLESAMPLE SYSTEM)."""

    def routes(self, tree: Tree, keys: Sequence[Sequence[str | None]], zone: ZoneInfo) -> list[str | None] | None:
        """For each key (its columns as text, None for NULL) the partition that the server picks, by its spelling.

        None where the bounds tell it, so that no server has to be asked.
        zone   where an instant without an offset is read
        Raises UsageError when a value does not fit the key.
        """


class Planner(Protocol):
    """Asks about statements: plans, measured runs that change nothing, values of constants, statistics."""

    def is_explainable(self, sql: str) -> bool:
        """Whether a statement begins with a keyword that EXPLAIN accepts."""

    def plan(self, query: Query, timeout_ms: int) -> PlanReading:
        """The plan, not executed. A prepared statement is planned for its parameters (a custom plan).

        Raises ServerError with the server's words when the statement is wrong.
        """

    def explain(self, query: Query, timeout_ms: int) -> str:
        """The plan as `plan` reads it, in the server's JSON. Raises as `plan` does."""

    def read_explained(self, text: str) -> PlanReading:
        """Reads a text that `explain` has returned."""

    def plan_generic(self, query: Query, timeout_ms: int) -> PlanReading | None:
        """The plan that serves every value of the parameters, as it is once it starts with those of `query`.

        None where the server has no such plan.

        The server changes to this plan after five executions, if it does not look more expensive (PostgreSQL manual,
        PREPARE, Notes). Raises ServerError with the server's words when the statement is wrong.
        """

    def plan_unvalued(self, sql: str, timeout_ms: int) -> UnvaluedPlan:
        """The plan of a statement with $1, $2, … that has no values. Raises ServerError when the statement is wrong."""

    def run(self, query: Query, timeout_ms: int, *, prunes: bool = True) -> PlanReading:
        """The plan with what really happened: executed in a read-only transaction that is rolled back.

        prunes   False: with pruning switched off, while planning and while running
        Raises NotRun when the statement would change or lock rows, or takes longer than the timeout.
        """

    def run_change(self, query: Query, timeout_ms: int) -> PlanReading:
        """As `run`, for an UPDATE or a DELETE: the rows are changed, and the transaction is rolled back."""

    def result_print(self, query: Query, timeout_ms: int) -> tuple[int, str]:
        """How many rows a query returns, and a fingerprint of them that does not depend on their order."""

    def count(self, sql: str, timeout_ms: int) -> int:
        """The number that a query without parameters returns."""

    def forget(self) -> None:
        """Removes prepared statements that a failed query may have left."""

    def powers(self) -> str | None:
        """The rights of the session's role besides reading, in words; None for a role that can only read."""

    def answer(self, answers: Answers, fence: Fence) -> None:
        """Answers all that is open, as far as it can be answered; the rest is noted as having no answer."""

    def read_statistics(self) -> Workload:
        """The workload of this database since the statistics were last reset.

        Raises ServerError when the extension is not there, or its view may not be read.
        """

    def tried(self, shape: Shape, layout: Layout, statements: Sequence[str]) -> list[str | None]:
        """The server's words for each statement that it would refuse if the table were laid out in this way.

        Empty for one that it accepts, None where it cannot be tried. Statements are planned and never run.
        """

    def usual_costs(self) -> Costs:
        """The constants of the cost model as they are usual for this family."""

    def calibrated(self, progress: Callable[[float, str], None]) -> Costs:
        """Takes some seconds. Its tables are visible to this session alone, and are removed.

        Raises ServerError when the role may not make temporary tables, or the server only reads.
        """


class Archives(Protocol):
    """A table's rows as a stream, and their fingerprint."""

    def snapshot(self) -> AbstractContextManager[None]:
        """One view of the data for everything that is read within, under the steady settings; nothing is changed."""

    def title(self, source: RowSource) -> str:
        """What the file of an archive is called."""

    def relation_of(self, source: RowSource) -> str:
        """The identity of what holds the rows: its server, database and number, so that another one of the same name
        differs. It stays the same when a partition becomes a table of its own.
        """

    def export_columns(self, source: RowSource) -> tuple[ExportColumn, ...]:
        """The stored columns, generated ones left out, each with the form that holds all of its values."""

    def fingerprint(self, source: RowSource, columns: Sequence[str]) -> tuple[int, str]:
        """How many rows there are, and their fingerprint."""

    def stream(self, source: RowSource, columns: Sequence[ExportColumn]) -> Generator[bytes, None, None]:
        """The rows as CSV without a header: NULL is an empty field without quotes, a text always has quotes."""

    def left_behind(self, table: Name) -> tuple[RowSource, ...]:
        """Partitions of a table that a run which was stopped has let out, and not yet dropped."""

    def why_not_back(self, tree: Tree | None, partition: Name) -> str | None:
        """What stands where an archived partition is to come back; None for nothing. tree: of its table, if there is
        one still.
        """


class Fence(Protocol):
    """Tells which statements may be run: those that can only read, or whose changes a rollback brings back."""

    def why_not(self, sql: str, plan: str, *, changes: bool) -> str | None:
        """Why a statement is not run, in words; None when it may be.

        plan      as `Planner.explain` returns it
        changes   whether it is an UPDATE or a DELETE, which is rolled back
        """

    def may_evaluate(self, sql: str) -> bool:
        """Whether a constant expression can be evaluated without any side effect."""
