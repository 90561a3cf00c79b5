"""What a server family does for the rest of the program. Only core objects cross this line: drivers, cursors and
catalogue rows stay below it.

A `Family` is chosen by the DSN (`families.py`) and opens a `Session`. The session's parts are small protocols, one for
each kind of question: its catalogue, counting, the planner, archives, the ledger, and the execution of changes. Writing
statements is pure and needs no session: a family's `Writer` does that.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from zoneinfo import ZoneInfo

if TYPE_CHECKING:  # only types: a run of `tend` that finds nothing to do must not load them all
    from slabrow.core.pruning.plan_reading import PlanReading, Query, UnvaluedPlan
    from slabrow.core.pruning.predict import Settings
    from slabrow.core.sql.answers import Answers
    from slabrow.core.sql.schema import Schema
    from slabrow.core.statistics.counted import BucketCounts, CatchAllCount, Extent, LeafCount
    from slabrow.core.statistics.estimates import ColumnStatistics
    from slabrow.core.statistics.facts import TableFacts
    from slabrow.core.table.bounds import Bounds
    from slabrow.core.table.export_column import ExportColumn
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.relation import ColumnFact, ForeignKeyFact, IndexFact, LeafFact, LeavesTotal, Relation
    from slabrow.core.table.shape import Shape
    from slabrow.core.table.tree import Partition, Tree
    from slabrow.core.upkeep.actions import Action, Adopt
    from slabrow.core.upkeep.conversion_plan import ConversionPlan
    from slabrow.core.upkeep.ledger_entries import LedgerEntry, WrittenEntry
    from slabrow.core.upkeep.number_growth import Seen
    from slabrow.core.upkeep.planned_partitions import Planned
    from slabrow.core.upkeep.statements import Load, Part, Transaction
    from slabrow.core.upkeep.steps import Step
    from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
    from slabrow.core.values.errors import SlabrowError
    from slabrow.core.values.key_values import Kind, Value
    from slabrow.core.values.names import Name
    from slabrow.core.weighing.costs import Costs
    from slabrow.core.weighing.workload import Workload


@dataclass(frozen=True, slots=True, kw_only=True)
class FamilyTraits:
    """What differs between families without being a task of its own.

    name         as people write it
    schemes      of the DSNs that belong to it, the usual one first
    dialect      what the SQL parser calls its SQL
    name_limit   the longest name of a table
    oldest       the oldest major version that is tested
    """

    name: str
    schemes: tuple[str, ...]
    dialect: str
    name_limit: int
    oldest: int


class Catalogue(Protocol):
    """What the catalogue tells of tables, and the server of itself. Nothing is changed, and no lock is waited for."""

    def exists(self, name: Name) -> bool:
        """Whether there is a relation of that name."""

    def has_schema(self, name: str) -> bool:
        """Whether there is a schema of that name."""

    def relation(self, name: Name) -> Relation:
        """The relation of that name. Raises ServerError with the nearest names when there is none."""

    def tree(self, name: Name, *, with_values: bool = False) -> Tree:
        """A partitioned table and all its partitions, in the order of their bounds.

        with_values   also the least and greatest key of each leaf, from its statistics: one query more
        Raises ServerError when there is no such table, or it is not partitioned.
        """

    def columns(self, found: Relation) -> tuple[ColumnFact, ...]:
        """The columns of a table in their order."""

    def column_statistics(self, found: Relation) -> dict[str, ColumnStatistics]:
        """What the last ANALYZE saw of each column of a table; a column without statistics is not in it.

        n_distinct below zero is a share of the rows (PostgreSQL manual, 53.25 pg_stats).
        """

    def indexes(self, found: Relation) -> tuple[IndexFact, ...]:
        """The indexes of a table with their sizes and how often they were scanned."""

    def foreign_keys(self, found: Relation) -> tuple[ForeignKeyFact, ...]:
        """The foreign keys out of a table and into it."""

    def all_leaves(self) -> tuple[LeafFact, ...]:
        """Every partitioned table in the database with its leaves: one query."""

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
        """Whether the server takes a text for the name of a type. Nothing in it is run."""

    def time_zone(self) -> ZoneInfo | None:
        """The session's time zone; None when it is one that has no name here."""

    def moment(self) -> datetime:
        """What now() gives on the server."""

    def shape(self, name: Name) -> Shape:
        """The shape of a table. Raises ServerError when it is a view, or anything else that holds no rows of its own.

        Call it within `reading`, so that all its queries see one state.
        """

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

    def upkeep_facts(self, tree: Tree) -> UpkeepFacts:
        """What has to be known of a table before its upkeep is decided and written."""

    def copying(self, tree: Tree) -> Copying | None:
        """What a sweep needs that copies rows before it locks; None without a catch-all, or where it is no heap."""

    def shape_from_sql(self, definitions: Sequence[str], table: Name, doing: str) -> Shape | None:
        """The shape of the table that the definitions make; None when they do not make it. Nothing stays.

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

    def rows_of_leaves(self, leaves: Sequence[Partition]) -> dict[str, int]:
        """Exact, by the spelling of each leaf: one scan of all. Each batch of leaves is its own transaction."""

    def any_rows(self, tables: Sequence[Name]) -> bool:
        """Whether one of the tables holds a row at all. Each batch of tables is its own transaction."""

    def count_catch_all(self, catch_all: Name, key: tuple[str, ...], held: Sequence[Bounds | None]) -> CatchAllCount:
        """The rows of a catch-all within each of the bounds: one scan for up to some two hundred of them.

        key    the columns of the key, in which the bounds are written
        held   None for bounds that hold nothing
        Raises ValueError for bounds that cannot be written as a condition.
        """

    def some_values(self, table: Name, column: ColumnFact, most: int) -> list[Value]:
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

    def hash_routes(self, tree: Tree, keys: Sequence[Sequence[str | None]]) -> list[str | None]:
        """For each key (its columns as text, None for NULL) the hash partition that the server picks: one query.

        Asked with satisfies_hash_partition(), the function behind every hash partition's own constraint.
        """


class Planner(Protocol):
    """Asks about statements: plans, measured runs that change nothing, the worth of constants, statistics."""

    def is_explainable(self, sql: str) -> bool:
        """Whether a statement begins like those that have a plan."""

    def plan(self, query: Query, timeout_ms: int) -> PlanReading:
        """The plan, not executed. A prepared statement is planned for its parameters (a custom plan).

        Raises ServerError with the server's words when the statement is wrong.
        """

    def explain(self, query: Query, timeout_ms: int) -> str:
        """The plan as `plan` reads it, in the server's JSON. Raises as `plan` does."""

    def read_explained(self, text: str) -> PlanReading:
        """What `explain` has returned."""

    def plan_generic(self, query: Query, timeout_ms: int) -> PlanReading:
        """The plan that serves every value of the parameters, as it is once it starts with those of `query`.

        The server turns to it after five executions where it looks no dearer (PostgreSQL manual, PREPARE, Notes).
        Raises ServerError with the server's words when the statement is wrong.
        """

    def plan_unvalued(self, sql: str, timeout_ms: int) -> UnvaluedPlan:
        """A statement with $1, $2, … for which nobody gives values. Raises ServerError when the statement is wrong."""

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
        """Removes what a failed query may have left prepared."""

    def powers(self) -> str | None:
        """What the session's role could do besides reading, in words; None for a role that only reads."""

    def answer(self, answers: Answers, fence: Fence) -> None:
        """Answers all that is open, as far as it can be answered; the rest is noted as having no answer."""

    def read_statistics(self) -> Workload:
        """The workload of this database since the statistics were last reset.

        Raises ServerError when the extension is not there, or its view may not be read.
        """

    def calibrated(self, progress: Callable[[float, str], None]) -> Costs:
        """Takes some seconds. Nothing is left behind; what is made is seen by this session alone.

        Raises ServerError when the role may not make temporary tables, or the server only reads.
        """


class Archives(Protocol):
    """A table's rows as a stream, and their fingerprint."""

    def snapshot(self) -> AbstractContextManager[None]:
        """One view of the data for everything that is read within, under the steady settings; nothing is changed."""

    def relation_of(self, table: Name) -> str:
        """What tells a table from every other one, also one of its name: of the cluster, the database and itself."""

    def export_columns(self, table: Name) -> tuple[ExportColumn, ...]:
        """The stored columns of a table, generated ones left out, each with the form that holds all of its values."""

    def fingerprint(self, table: Name, columns: Sequence[str]) -> tuple[int, str]:
        """The rows of a table and their fingerprint, under the settings of the moment: see `steady`."""

    def stream(self, table: Name, columns: Sequence[ExportColumn]) -> Generator[bytes, None, None]:
        """The rows as CSV without a header, as COPY writes it: NULL is an empty field without quotes."""


class Fence(Protocol):
    """Tells which statements may be run: those that can only read, or whose changes a rollback brings back."""

    def why_not(self, sql: str, plan: str, *, changes: bool) -> str | None:
        """Why a statement is not run, in words; None when it may be.

        plan      as `Planner.explain` returns it
        changes   whether it is an UPDATE or a DELETE, which is rolled back
        """

    def may_evaluate(self, sql: str) -> bool:
        """Whether a constant expression can be evaluated without any side effect."""


class Execution(Protocol):
    """Sends statements that change something. When to try again is decided by the caller."""

    def errors(self, transaction: Transaction) -> AbstractContextManager[None]:
        """Turns the driver's errors into LockNotGot, ServerError or Stopped."""

    def at_once(self, transaction: Transaction, lock_waits: int) -> None:
        """Runs a whole transaction in one message to the server."""

    def block(self) -> AbstractContextManager[Any]:
        """A transaction; within one, a savepoint."""

    def run(self, sql: str) -> None: ...

    def rows(self, sql: str) -> list[tuple[Any, ...]]: ...

    def run_with(self, sql: str, values: Sequence[str]) -> None:
        """A statement with the values of its parameters as text."""

    def drop_schema(self, schema: str) -> None:
        """With all that is in it."""

    def load(self, load: Load) -> None: ...

    def set_lock_wait(self, milliseconds: int) -> None:
        """For statements outside a transaction block."""

    def note_lock_waits(self, waits: int) -> None:
        """Leaves the number where the ledger's entry of the same transaction finds it."""

    def moved_rows(self) -> int | None:
        """How many rows the last sweep has moved."""

    def lock_room(self) -> int:
        """How many locks the server can hold at once, for all sessions together."""

    def oldest_transaction(self) -> str | None:
        """Who has kept a transaction open for longest, in words; None when nobody else has one."""

    def prepare_maintenance(self) -> None:
        """Sets the session up for changes: it sees all rows and has no timeouts."""

    def claim_key(self, table: Name) -> int:
        """One number for a table, however its name is written."""

    def try_claim(self, key: int) -> bool:
        """Keeps other runs of Slabrow away until the session ends; False when another run has the table."""

    def release(self, keys: Sequence[int]) -> None:
        """Gives claims back."""


class LedgerStore(Protocol):
    """The ledger in one schema. Reading one that is not there finds nothing; `prepare` makes it."""

    def version(self) -> int:
        """Of the ledger in the database; 0 when there is none. Raises ServerError for a foreign or a newer one."""

    def prepare(self) -> None:
        """Makes the ledger, or brings an older one up to date. Raises ServerError with what to do without the right."""

    def insertion(self, entry: LedgerEntry, *, counts_moved: bool = False, before_ms: float = 0.0) -> str:
        """The statement that adds an entry. Without a duration, the time since its transaction began counts.

        counts_moved   its rows are those that the sweep of the same transaction moved
        before_ms      added to the duration
        """

    def ending(self, number: int, *, rows: int | None = None) -> str:
        """The statement that says `done` of an entry that was begun, in the transaction that does it."""

    def begin(self, entry: LedgerEntry) -> int:
        """Writes an entry of work that is about to begin. Returns its number, for `end`."""

    def end(self, number: int, state: str, duration_ms: float, lock_waits: int, note: str | None) -> None:
        """Says how that ended."""

    def write(self, entry: LedgerEntry) -> None:
        """Writes one entry by itself."""

    def read(
        self,
        *,
        table: str | None = None,
        kinds: Sequence[str] = (),
        since: datetime | None = None,
        most: int | None = None,
        state: str | None = None,
    ) -> tuple[WrittenEntry, ...]:
        """Entries, the newest first; nothing when there is no ledger."""

    def holds(self, table: str, moment: datetime) -> dict[str, WrittenEntry]:
        """The partitions of a table that are under hold at a moment: the latest word on each counts."""

    def seen(self, table: str, since: datetime) -> tuple[Seen, ...]:
        """The greatest keys of a table that were seen since then and the last one before, the oldest first."""

    def see(self, table: str, seen: Seen, since: datetime) -> None:
        """Keeps the greatest key of a table as it is now, and forgets those from before `since`."""

    def last_clock(self) -> datetime | None:
        """The latest time that a machine's clock showed in any entry."""


class ActionWriter(Protocol):
    """Writes the actions of one table in use, with the weakest locks that the server offers for each."""

    def transaction(self, action: Action) -> Transaction:
        """Raises NotImplementedError for an Archive, which writes files: its Drop is written instead."""

    def under_lock(self, action: Action) -> Transaction:
        """As `transaction`; a sweep moves all its rows under the lock, and copies none before."""


class Writer(Protocol):
    """Writes changes as statements. Pure: nothing is sent."""

    def identifier(self, name: str) -> str:
        """A name as SQL, quoted where needed."""

    def table(self, name: Name) -> str:
        """The name of a table as SQL."""

    def bounds(self, held: Bounds, width: int = 1) -> str:
        """Bounds as the server spells them. width: how many key columns there are."""

    def parse_bounds(self, text: str, kinds: tuple[Kind, ...]) -> Bounds:
        """Reads what `bounds` has written, for a key of these kinds. Raises SlabrowError for other text."""

    def build(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], role: str, lock_wait_ms: int
    ) -> list[Transaction]:
        """A new partitioned table and its partitions, the partitions in transactions of a bounded size."""

    def upkeep(
        self,
        tree: Tree,
        layout: Layout,
        facts: UpkeepFacts,
        lock_wait_ms: int,
        copying: Copying | None = None,
    ) -> ActionWriter:
        """How actions on this tree are written. copying: for sweeps that copy first; None: rows move under the lock."""

    def adoption(self, action: Adopt, parent: tuple[Tree, UpkeepFacts] | None, lock_wait_ms: int) -> Transaction:
        """Brings an archive back. parent: the tree it becomes a part of; None: it stands alone."""

    def conversion(self, plan: ConversionPlan) -> tuple[Step, ...]:
        """A plain table becomes the declared one: copied, compared and swapped in one step."""

    def dropping(self, old: Name, lock_wait_ms: int) -> Transaction:
        """Drops the plain table that a conversion has kept."""

    def old_table(self, comment: str | None) -> tuple[Name, str | None] | None:
        """Of the comment on a table that a conversion kept: the table that it was, and that table's own comment.

        None when the comment is not such a mark.
        """

    def creation_of(self, table: Name, columns: Sequence[ExportColumn]) -> str:
        """The definition of a table's stored columns, for whoever reads a manifest."""

    def unchanged_since(self, table: Name, columns: Sequence[str], rows: int, fingerprint: str) -> tuple[Part, ...]:
        """Statements that compare a table with what was archived of it, and keep writers out from then on."""

    def script(self, transactions: Sequence[Transaction], title: str, now: datetime) -> str:
        """Transactions as a script for a person to read and to run with the server's own client."""


class Session(Protocol):
    """One open session. Its parts are there from the beginning; each asks the server only when it is called."""

    @property
    def catalogue(self) -> Catalogue: ...

    @property
    def counting(self) -> Counting: ...

    @property
    def planner(self) -> Planner: ...

    @property
    def archives(self) -> Archives: ...

    @property
    def execution(self) -> Execution: ...

    @property
    def writer(self) -> Writer: ...

    @property
    def traits(self) -> FamilyTraits: ...

    @property
    def closed(self) -> bool: ...

    @property
    def version(self) -> int:
        """The server's major version."""

    @property
    def product(self) -> str:
        """Family and version, as in `PostgreSQL 18`."""

    @property
    def database(self) -> str: ...

    def ledger(self, schema: str) -> LedgerStore: ...

    def fence(self) -> Fence: ...

    def reading(self, doing: str = "read the catalogue") -> AbstractContextManager[None]:
        """A read-only transaction in which the server spells values so that they can be read back."""

    def explained(self, doing: str) -> AbstractContextManager[None]:
        """Turns the driver's errors into Slabrow's. doing: what could not be done, as `read the catalogue`."""

    def cancel(self, patience_s: float) -> None:
        """Asks the server to end what this session does."""

    def close(self) -> None: ...


class PrivateServer(Protocol):
    """A server of our own: for the demo, the tests and scratch work. It ends with the process that started it."""

    @property
    def folder(self) -> Path: ...

    @property
    def version(self) -> int: ...

    @property
    def dsn(self) -> str: ...

    @property
    def log(self) -> Path:
        """The server's log of statements."""

    @property
    def main_pid(self) -> int:
        """The process that stands for the whole server."""

    def stop(self) -> None:
        """Ends the server and removes its folder."""

    def let_go(self) -> None:
        """From now on the server stays when this process ends."""


class PrivateServers(Protocol):
    """Starts private servers, and ends those that were let go."""

    def start(self) -> PrivateServer:
        """Raises ServerError when no server is installed here, or it does not start."""

    def is_running(self, pid: int, folder: Path) -> bool:
        """Whether a server that was let go still runs."""

    def stop_by_pid(self, pid: int, folder: Path) -> bool:
        """Ends a server that was let go, and removes its folder. False when it was not running any more."""


class Family(Protocol):
    """One server family."""

    @property
    def private(self) -> PrivateServers: ...

    @property
    def traits(self) -> FamilyTraits: ...

    @property
    def writer(self) -> Writer: ...

    def open(self, dsn: str) -> Session:
        """Raises UsageError when the DSN cannot be read, ServerError when no server answers or it is too old."""

    def holds_secret(self, dsn: str) -> bool:
        """Whether a DSN holds a password of any kind. Raises UsageError when it cannot be read."""

    def worded(self, error: Exception) -> SlabrowError | None:
        """An error of the driver that nobody has put into words yet; None for other errors."""
