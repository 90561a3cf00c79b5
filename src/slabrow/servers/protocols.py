"""The operations of a server family. Only core objects cross this line: drivers, cursors and
catalogue rows stay below it.

A `Family` is chosen by the DSN (`families.py`) and opens a `Session`. The session's parts are small protocols, one for
each kind of question: its catalogue, counting, the planner, archives, the ledger, and the execution of changes. Writing
statements is pure and needs no session: a family's `Writer` does that.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import TYPE_CHECKING, Any, Protocol

from slabrow.servers.asking import Archives, Catalogue, Counting, Fence, Planner
from slabrow.servers.family_traits import FamilyTraits
from slabrow.servers.far_protocols import FarWriting
from slabrow.servers.hashing_protocols import MakesHashings
from slabrow.servers.partition_protocols import PartitionQuestions
from slabrow.servers.private_protocols import PrivateServers
from slabrow.servers.rehearsal_protocols import Rehearsing
from slabrow.servers.step_protocols import AsIsSteps, LiveSteps

if TYPE_CHECKING:  # only types: a run of `tend` that finds nothing to do must not load them all
    from slabrow.core.pruning.family_rules import PruningRules
    from slabrow.core.pruning.offline_tables import OfflineTables
    from slabrow.core.sql.index_statement import IndexAsked
    from slabrow.core.table.bounds import Bounds
    from slabrow.core.table.export_column import ExportColumn
    from slabrow.core.table.index_matrix import IndexFound, IndexMatrix
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.shape import Shape
    from slabrow.core.table.tree import Tree
    from slabrow.core.upkeep.actions import Action, Adopt, Archive
    from slabrow.core.upkeep.conversion_plan import ConversionPlan
    from slabrow.core.upkeep.elsewhere import Elsewhere
    from slabrow.core.upkeep.ledger_entries import LedgerEntry, WrittenEntry
    from slabrow.core.upkeep.live_plan import LivePlan, Reshaping
    from slabrow.core.upkeep.membership import JoiningPlan, LeavingPlan
    from slabrow.core.upkeep.number_growth import Seen
    from slabrow.core.upkeep.planned_partitions import Planned
    from slabrow.core.upkeep.redivision import RedivisionPlan
    from slabrow.core.upkeep.relocation import RelocationPlan
    from slabrow.core.upkeep.statements import Load, Part, Pipe, Remote, Transaction
    from slabrow.core.upkeep.steps import Step
    from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
    from slabrow.core.values.errors import SlabrowError
    from slabrow.core.values.key_values import Kind
    from slabrow.core.values.names import Name


class Execution(Protocol):
    """Sends statements that change something. When to try again is decided by the caller."""

    def errors(self, transaction: Transaction) -> AbstractContextManager[None]:
        """Turns the driver's errors into LockNotGot, ServerError or Stopped."""

    def at_once(self, transaction: Transaction, lock_waits: int) -> None:
        """Runs a whole transaction in one message to the server."""

    def send_cleaning_away(self, transaction: Transaction) -> None:
        """Takes the lock `StrongLock.cleaned` for a moment, so that the server's own cleaning leaves those
        tables. Errors are ignored.
        """

    def under_lock(self, transaction: Transaction, lock_wait_ms: int, lock_waits: int) -> float:
        """Runs a transaction behind its strong lock. Returns for how many milliseconds the lock was held."""

    def block(self) -> AbstractContextManager[Any]:
        """A transaction; within one, a savepoint."""

    def run(self, sql: str) -> None:
        """One statement, whose result is not wanted."""

    def rows(self, sql: str) -> list[tuple[Any, ...]]:
        """All rows of a query."""

    def run_with(self, sql: str, values: Sequence[str]) -> None:
        """A statement with the values of its parameters as text."""

    def drop_schema(self, schema: str) -> None:
        """With all that is in it."""

    def load(self, load: Load) -> None:
        """Puts the rows of a Load into its table."""

    def run_there(self, part: Remote) -> None:
        """Statements on another server, in a transaction there. Raises ServerError, which names it."""

    def pipe(self, part: Pipe) -> None:
        """Rows from one server to another. Raises ServerError."""

    def set_lock_wait(self, milliseconds: int) -> None:
        """For statements outside a transaction block."""

    def note_lock_waits(self, waits: int) -> None:
        """Leaves the number where the ledger's entry of the same transaction finds it."""

    def moved_rows(self) -> int | None:
        """How many rows the last sweep has moved."""

    def lock_room(self) -> int:
        """How many locks the server can hold at once, for all sessions together."""

    def oldest_transaction(self) -> str | None:
        """The session with the oldest open transaction, in words; None when no other session has one."""

    def prepare_maintenance(self) -> None:
        """Sets the session up for changes: it sees all rows and has no timeouts."""

    def join_work(self, table: Name) -> None:
        """Says of this session that it works for a run on that table, which another session has claimed."""

    def end_orphans(self, table: Name) -> None:
        """Ends the sessions that still work for a run that was killed. Called by the run that has the claim now."""

    def claim_key(self, table: Name) -> int:
        """One number for a table, however its name is written."""

    def try_claim(self, key: int) -> bool:
        """Keeps other runs of Slabrow away until the session ends; False when another run has the table."""

    def release(self, keys: Sequence[int]) -> None:
        """Gives claims back."""


class LedgerStore(Protocol):
    """The ledger in one schema. Reading a missing ledger finds no entries; `prepare` creates it."""

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


class ReshapingStore(Protocol):
    """The records of long work on tables, in the ledger's schema. The steps of the work write most of them."""

    @property
    def has_scripts(self) -> bool:
        """Whether long work can be written down for the server's own client."""

    def beginning(
        self, job: int, *, kind: str, way: str, table: Name, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> tuple[Step, ...]:
        """For a script: the steps that make the records' tables, and a record with this number."""

    def over(self, job: int, *, once_swapped: bool) -> str:
        """For a script: the query whether the work has ended, or, with `once_swapped`, has swapped."""

    def find(self, table: Name, *, ended: bool = False) -> Reshaping | None:
        """The record of a table's work that has not ended; with `ended` the latest that has."""

    def open_jobs(self) -> tuple[Reshaping, ...]:
        """All records of work that has not ended."""

    def of_partition(self, name: Name) -> Reshaping | None:
        """The record of open work that divides this partition anew, or has done so."""

    def begin(
        self, table: Name, *, kind: str, way: str, layout: str, old_name: Name, details: Mapping[str, Any]
    ) -> int:
        """Makes the record. Returns its number. Raises Refusal when another session has made one at the same time."""

    def set_details(self, job: int, details: Mapping[str, Any]) -> None:
        """Writes down a plan that was made anew."""

    def close(self, job: int, state: str) -> None:
        """Says how work has ended of which nothing is left."""

    def next_number(self) -> int:
        """The number that a record would get: what a preview shows."""

    def note_lock(self, job: int, held_ms: float) -> None:
        """Keeps the longest time for which a strong lock was held."""

    def progress(self, job: int) -> tuple[int, int, int]:
        """(pieces done, pieces, rows copied)."""

    def rows_total(self, tables: Sequence[Name]) -> int:
        """The planner's estimate of the rows in these tables."""

    def changes_waiting(self, job: int, log: str) -> int:
        """How many changes a log holds; none where it is gone. log: `log` or `back`."""

    def pressure(self) -> tuple[int, int]:
        """(bytes that the slowest replica is behind, bytes of WAL that a replication slot keeps); 0 where not known."""

    def rights_missing(self, table: Name, others: Sequence[Name], owned: Sequence[Name]) -> tuple[str, ...]:
        """What the acting role lacks for changing a table in use, each as what to ask for.

        others: tables that foreign keys refer to; owned: other relations that are replaced or changed
        """

    def total_of(self, job: int) -> int:
        """The planner's estimate of the rows when the copy began; 0 where not known."""

    def begin_again(self, record: Reshaping) -> None:
        """Removes what a run has made that was killed before anything followed the table."""


class ActionWriter(Protocol):
    """Writes the actions of one table in use, with the weakest locks that the server offers for each."""

    def transaction(self, action: Action) -> Transaction:
        """Raises NotImplementedError for an Archive, which writes files: see `after_archive`."""

    def under_lock(self, action: Action) -> Transaction:
        """As `transaction`; a sweep moves all its rows under the lock, and copies none before."""

    def after_archive(self, action: Archive) -> tuple[Transaction, Name | None]:
        """How a partition goes that has been written to a file. With a name, it becomes a table of that name by the
        first statement, and is dropped by the second: in between it is compared with the file once more. None: it is
        compared in the same transaction.
        """


class Writer(FarWriting, Protocol):
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

    def adoption(
        self, action: Adopt, parent: tuple[Tree, UpkeepFacts] | None, lock_wait_ms: int
    ) -> tuple[Transaction, ...]:
        """Brings an archive back. parent: the tree it becomes a part of; None: it stands alone. With the last one that
        is atomic the rows are back.
        """

    def conversion(self, plan: ConversionPlan) -> tuple[Step, ...]:
        """A plain table becomes the declared one: copied, compared and swapped in one step."""

    def live(self, plan: LivePlan, jobs: int) -> LiveSteps:
        """A table in use becomes the declared one. jobs: how many sessions work side by side."""

    def redivision(self, plan: RedivisionPlan, jobs: int) -> LiveSteps:
        """Partitions of a table in use are divided anew. jobs: how many sessions work side by side."""

    def joining(self, plan: JoiningPlan) -> tuple[Step, ...]:
        """A table becomes a partition: the steps that are still to be done."""

    def relocating(self, plan: RelocationPlan) -> tuple[Step, ...]:
        """Partitions are moved to another tablespace, while readers and writers of each wait for its rows."""

    def index_mending(self, matrix: IndexMatrix, taken: frozenset[str], only: Name | None = None) -> tuple[Step, ...]:
        """Every index of a table comes to every leaf, built beside writers. only: this index alone."""

    def index_creating(
        self, matrix: IndexMatrix, asked: IndexAsked, taken: frozenset[str]
    ) -> tuple[Name, tuple[Step, ...]]:
        """The name of a new index, and its steps. taken: names in the schema."""

    def analysis(self, table: Name, columns: Sequence[str], version: int) -> Transaction:
        """Fresh statistics of a partitioned table; of its leaves only where the server takes both together.

        columns: those that matter; empty for all
        """

    def index_dropping(self, matrix: IndexMatrix, index: IndexFound) -> tuple[Step, ...]:
        """An index leaves a table and all its leaves."""

    def leaving(self, plan: LeavingPlan) -> tuple[Step, ...]:
        """A partition becomes a table of its own."""

    def phase_script(
        self, title: str, steps: Sequence[Step], lock_wait_ms: int, now: datetime, is_over: str | None = None
    ) -> str:
        """Steps as a script that may be stopped and run again. is_over: a query whether all of it is past."""

    def as_is(self, plan: LivePlan) -> AsIsSteps:
        """A table becomes the first partition of the declared one."""

    def dropping(self, old: Name, lock_wait_ms: int) -> Transaction:
        """Drops the plain table that a conversion has kept."""

    def old_table(self, comment: str | None) -> tuple[Name, str | None] | None:
        """Of the comment on a table that a conversion kept: the table that it was, and that table's own comment.

        None when the comment is not such a mark.
        """

    def creation_of(self, table: Name, columns: Sequence[ExportColumn]) -> str:
        """The definition of a table's stored columns, for readers of the manifest."""

    def unchanged_since(
        self, table: Name, columns: Sequence[str], rows: int, fingerprint: str, *, is_far: bool
    ) -> tuple[Part, ...]:
        """Statements that compare a table with what was archived of it, and keep writers out from then on."""

    def script(self, transactions: Sequence[Transaction], title: str, now: datetime) -> str:
        """Transactions as a script for a person to read and to run with the server's own client."""


class Session(Protocol):
    """One open session. Its parts are there from the beginning; each asks the server only when it is called."""

    @property
    def catalogue(self) -> Catalogue:
        """Questions to the catalogue."""

    @property
    def counting(self) -> Counting:
        """Questions that read rows."""

    @property
    def partitions(self) -> PartitionQuestions:
        """Questions about single partitions."""

    @property
    def planner(self) -> Planner:
        """Questions to the planner."""

    @property
    def archives(self) -> Archives:
        """Rows as a stream."""

    @property
    def execution(self) -> Execution:
        """How changes are sent."""

    @property
    def writer(self) -> Writer:
        """How changes are written."""

    @property
    def rehearsing(self) -> Rehearsing:
        """Tables of made-up rows, and a load on them."""

    @property
    def traits(self) -> FamilyTraits:
        """The differences from other families."""

    @property
    def rules(self) -> PruningRules:
        """How the family reads statements and prunes."""

    def reach(self, read: Callable[[], Sequence[Elsewhere]]) -> None:
        """Other servers may be reached by their names from now on. read: called when the first of them is needed."""

    def reached(self) -> Sequence[Elsewhere]:
        """Those that may be reached."""

    @property
    def closed(self) -> bool:
        """Whether the session has ended, on this side or on the server's."""

    @property
    def version(self) -> int:
        """The server's major version."""

    @property
    def product(self) -> str:
        """Family and version, as in `PostgreSQL 18`."""

    @property
    def database(self) -> str:
        """The name of the database."""

    def ledger(self, schema: str) -> LedgerStore:
        """The ledger in a schema."""

    def reshapings(self, schema: str) -> ReshapingStore:
        """The records of long work in a schema."""

    def fence(self) -> Fence:
        """Which statements may be run in this session."""

    def reading(self, doing: str = "read the catalogue") -> AbstractContextManager[None]:
        """A read-only transaction in which the server spells values so that they can be read back."""

    def explained(self, doing: str) -> AbstractContextManager[None]:
        """Turns the driver's errors into Slabrow's. doing: what could not be done, as `read the catalogue`."""

    def cancel(self, patience_s: float) -> None:
        """Asks the server to end what this session does."""

    def close(self) -> None:
        """Ends the session."""


class Family(Protocol):
    """One server family."""

    @property
    def private(self) -> PrivateServers:
        """Servers of our own."""

    @property
    def traits(self) -> FamilyTraits:
        """The differences from other families."""

    @property
    def writer(self) -> Writer:
        """How changes are written."""

    @property
    def hashings(self) -> MakesHashings:
        """Hash partitions without a server."""

    def read_tables(self, text: str, source: str) -> OfflineTables:
        """The tables that a text of definitions creates. source: what messages call it. Raises UsageError."""

    def load(self) -> None:
        """Loads the modules that `open` needs, the driver among them."""

    def open(self, dsn: str) -> Session:
        """Raises UsageError when the DSN cannot be read, ServerError when no server answers or it is too old."""

    def holds_secret(self, dsn: str) -> bool:
        """Whether a DSN holds a password of any kind. Raises UsageError when it cannot be read."""

    def worded(self, error: Exception) -> SlabrowError | None:
        """An error of the driver that nobody has put into words yet; None for other errors."""
