"""`tend`: the routine upkeep. Creates what lies ahead, sweeps the catch-all, retires what is past `keep` (N39–N45)."""

import time
import uuid
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from slabrow.core.actions import Action, Archive, Create, Detach, Drop, Sweep
from slabrow.core.bounds import CatchAll, Range
from slabrow.core.by import By
from slabrow.core.due import describe_clock, number_now
from slabrow.core.errors import Refusal, ServerError, SlabrowError
from slabrow.core.findings import Finding
from slabrow.core.growing import LEAST_APART, Seen, ahead_in_numbers, growth_a_second
from slabrow.core.guards import guard_clock, guard_grid, guard_retiring, has_estimates, retiring
from slabrow.core.layout import Layout
from slabrow.core.reconcile import reconcile
from slabrow.core.shape import Traits
from slabrow.core.statements import Statement, Transaction
from slabrow.core.tree import Partition, Tree
from slabrow.servers.postgresql import catalogue, ddl, measure, quoting
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.ledger import Entry, Ledger
from slabrow.servers.postgresql.shape import constraints, indexes
from slabrow.servers.postgresql.siblings import traits
from slabrow.servers.postgresql.sweeping import CHANGED, COPIED_ABOVE, ROWS_SETTING, Copying
from slabrow.work import archive, runner
from slabrow.work.context import Context, Event, unseen
from slabrow.work.lying import new_values, swept
from slabrow.work.upkeep import State, TableReport, Tended, TendResult

SWEEPS = 3  # times that a sweep is tried: the last one wholly under the lock
GROWTH_WINDOW = timedelta(days=30)  # how long the growth of a key is looked back at
COUNTED_BELOW = 64 * 2**20  # bytes


@dataclass(frozen=True, slots=True)
class Asked:
    """go: do it; retiring: how many partitions may leave, by name; ledger_schema: None for no ledger.

    with_sizes   whether the bytes of tables that need nothing are wanted
    """

    go: bool
    retiring: int | None = None
    ledger_schema: str | None = None
    with_sizes: bool = False


def tend(context: Context, layouts: Iterable[Layout], asked: Asked) -> TendResult:
    """Does, or without `go` proposes, what each layout needs at the context's `now`.

    A failure on one table is reported and never stops the others.
    Raises Refusal when the clocks do not agree, ServerError when the server cannot be reached.
    """
    reports = []
    note = None
    with context.connected() as connection:
        ledger = Ledger(connection, asked.ledger_schema) if asked.ledger_schema is not None else None
        if context.is_machine_clock:
            guard_clock(context.now, catalogue.moment(connection), ledger.last_clock() if ledger else None)
        if ledger is not None and asked.go:
            # One that is there and cannot be used ends the run: it may hold what keeps a partition from leaving.
            exists = ledger.version() > 0
            try:
                ledger.prepare()
            except ServerError as error:
                if exists:
                    raise
                note = f"{error.problem}: {error.found}; {error.fix}"
                ledger = None
        keeping = _Keeping(context, connection, asked, ledger, str(uuid.uuid4()))
        layouts = tuple(layouts)
        trees = catalogue.trees(connection, [layout.table for layout in layouts], with_sizes=asked.with_sizes)
        for layout in layouts:
            try:
                # Most tables of most runs need nothing: that is seen in what is read of all of them at once.
                idle = keeping.idle(layout, trees[layout.table]) if layout.table in trees else None
                reports.append(keeping.tend(layout) if idle is None else idle)
            except SlabrowError as error:
                if connection.closed:
                    raise
                reports.append(TableReport(layout, error=error))
    return TendResult(context.now, tuple(reports), note)


SIDE_BY_SIDE = 4  # servers at a time


def tend_on(
    context: Context, servers: Sequence[tuple[str, str]], layouts: Sequence[Layout], asked: Asked
) -> TendResult:
    """As `tend`, on several servers side by side. servers: the name and the DSN of each.

    One that cannot be reached, or refuses, is reported at each of its tables and never stops the others.
    """

    def on_one(server: tuple[str, str]) -> TendResult:
        name, dsn = server

        def tell(event: Event) -> None:
            context.tell({**event, "server": name})

        try:
            result = tend(replace(context, dsn=dsn, progress=unseen, tell=tell), layouts, asked)
        except SlabrowError as error:
            result = TendResult(context.now, tuple(TableReport(layout, error=error) for layout in layouts))
        return replace(result, reports=tuple(replace(report, server=name) for report in result.reports))

    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        results = list(pool.map(on_one, servers))
    notes = [f"{name}: {result.note}" for (name, _), result in zip(servers, results, strict=True) if result.note]
    return TendResult(
        context.now, tuple(report for each in results for report in each.reports), "; ".join(notes) or None
    )


@dataclass(slots=True)
class _Course:
    """How a run goes. lock_waits: tries that got no lock; begun: the ledger's number of what is not ended yet."""

    lock_waits: int = 0
    begun: int | None = None

    def wait(self) -> None:
        self.lock_waits += 1


@dataclass(frozen=True, slots=True)
class _Keeping:
    """One run over the layouts of one database."""

    context: Context
    connection: Connection
    asked: Asked
    ledger: Ledger | None
    run: str
    course: "_Course" = field(default_factory=lambda: _Course())

    def idle(self, layout: Layout, tree: Tree) -> TableReport | None:
        """The report of a table that needs nothing; None for one that has to be looked at."""
        try:
            guard_grid(layout, tree)
            now = self._now(layout, tree)
            counted, unknown = self._counted(layout, tree, now)
            due = reconcile(counted, tree, now)
        except SlabrowError:
            return None
        catch_all = tree.catch_all
        is_swept = layout.by is By.RANGE or layout.takes_new_values
        may_lie = is_swept and catch_all is not None and not self._is_empty(tree, catch_all)
        return None if due.actions or may_lie else TableReport(layout, (), (*due.leftovers, *unknown), None, tree)

    @staticmethod
    def _is_empty(tree: Tree, partition: Partition) -> bool:
        """Whether a partition has no block for rows, as the catalogue says."""
        return all(leaf.is_empty for leaf in tree.leaves_of(partition))

    def _copying(self, tree: Tree, actions: Sequence[Action]) -> Copying | None:
        """What sweeps of many rows need to know; None without any, and where the catch-all is no usual table."""
        if tree.catch_all is None or not any(isinstance(each, Sweep) and each.rows > COPIED_ABOVE for each in actions):
            return None
        leaves = measure.blocks(self.connection, [leaf.name for leaf in tree.leaves_of(tree.catch_all)])
        if leaves is None:
            return None
        with catalogue.reading(self.connection):
            parent = catalogue.relation(self.connection, tree.table)
            return Copying(leaves, constraints(self.connection, parent), indexes(self.connection, parent))

    def tend(self, layout: Layout) -> TableReport:
        connection, wait_ms = self.connection, self.context.lock_wait_ms
        with runner.sole(connection, [layout.table], wait_ms):
            tree = catalogue.tree(connection, layout.table)
            with catalogue.reading(connection):
                found = catalogue.relation(connection, layout.table)
                taken = catalogue.names_in_schema(connection, tree.table.schema)
                owner, role = catalogue.owner(connection, found), catalogue.current_role(connection)
                columns = catalogue.movable_columns(connection, found)
                siblings = [leaf for leaf in tree.leaves if not isinstance(leaf.bounds, CatchAll)]
                inherited = traits(connection, siblings[-1].name) if siblings else Traits()
            now = self._now(layout, tree)
            counted, unknown = self._counted(layout, tree, now)
            values, unmade = new_values(connection, layout, tree)
            said = "" if counted.ahead is layout.ahead else f"{layout.ahead}, {counted.ahead} keys as it grows now"
            due = reconcile(counted, tree, now, taken=taken, values=values, ahead_words=said)
            guard_grid(layout, tree)
            actions, held = self._without_held(tree, due.actions)
            actions, lying = swept(connection, layout, tree, actions)
            unpublished = self._unpublished(inherited.out_of_reach, actions)
            leftovers = (*due.leftovers, *unknown, *unmade, *held, *lying, *unpublished)
            upkeep = ddl.upkeep_of(
                tree, wait_ms, owner, role, layout.within, columns, inherited, layout.detach_to, layout.catch_all,
                self._copying(tree, actions),
            )  # fmt: skip
            tended = [self._proposed(action, upkeep, layout) for action in actions]
            try:
                self._guard_rows(layout, tree, actions, now)
                guard_retiring(layout, tree, actions, self.asked.retiring, self._counted_rows(tree, actions))
            except Refusal as refusal:
                return TableReport(layout, tuple(tended), leftovers, refusal, tree)
            for place, each in enumerate(tended if self.asked.go else ()):
                try:
                    tended[place] = self._told(self._done(each, layout, upkeep))
                except Refusal as refusal:
                    self._write(each, "failed", 0.0, refusal.problem)
                    tended[place] = self._told(replace(each, state=State.FAILED, text=refusal.problem))
                    return TableReport(layout, tuple(tended), leftovers, refusal, tree)
            return TableReport(layout, tuple(tended), leftovers, None, tree)

    def _counted_rows(self, tree: Tree, actions: Sequence[Action]) -> dict[str, int] | None:
        """Of a small table without statistics; None where estimates or bytes have to do."""
        if not retiring(actions) or has_estimates(tree) or sum(leaf.bytes for leaf in tree.leaves) > COUNTED_BELOW:
            return None
        try:
            return measure.rows_of_leaves(self.connection, [leaf for leaf in tree.leaves if not leaf.is_empty])
        except ServerError:
            if self.connection.closed:
                raise
            return None  # one that may not be read must not keep the others from being tended

    @staticmethod
    def _unpublished(publications: Sequence[str], actions: Sequence[Action]) -> list[Finding]:
        """What somebody else has to do, or new rows are not replicated."""
        made = [action for action in actions if isinstance(action, Create | Sweep)]
        if not publications or not made:
            return []
        names = ", ".join(map(quoting.identifier, publications))
        tables = ", ".join(quoting.table(each.partition) for each in made)
        text = (
            f"publication {names} holds partitions one by one, and belongs to another role: its owner has to add "
            f"{tables}, or publish the whole table"
        )
        return [Finding("publication", text)]

    def _now(self, layout: Layout, tree: Tree) -> datetime | int:
        """The clock, or for a key of whole numbers where that has got to."""
        if layout.by is not By.RANGE or tree.kinds[0].is_time:
            return self.context.now
        column = catalogue.ColumnFact(tree.key[0].text, tree.key[0].type_name, tree.key[0].not_null)
        with catalogue.reading(self.connection):
            return number_now(measure.extent(self.connection, tree.table, replace(column, not_null=True)).high)

    def _counted(self, layout: Layout, tree: Tree, now: datetime | int) -> tuple[Layout, list[Finding]]:
        """The layout with `ahead` in keys, where it is a time and the key is a number; and why it is not known yet."""
        if not layout.is_ahead_by_growth or not isinstance(now, int):
            return layout, []
        name, moment = str(tree.table), self.context.now
        if self.ledger is None:
            text = "`ahead` by time needs the ledger, which keeps how far the key was: one span is kept ahead"
            return layout, [Finding("growth", text)]
        since = moment - GROWTH_WINDOW
        seen = self.ledger.seen(name, since)
        here = Seen(moment, now)
        if self.asked.go and all(abs(moment - each.at) >= LEAST_APART for each in seen):
            self.ledger.see(name, here, since)
        a_second = growth_a_second((*seen, here))
        if a_second is None:
            text = "how fast the key grows is seen from the second run of `tend --go` on: one span is kept ahead"
            return layout, [Finding("growth", text)]
        return ahead_in_numbers(layout, moment, a_second), []

    def _without_held(self, tree: Tree, actions: Sequence[Action]) -> tuple[list[Action], list[Finding]]:
        """What leaves, without the partitions that somebody put under hold."""
        if self.ledger is None or not retiring(actions):
            return list(actions), []
        holds = self.ledger.holds(str(tree.table), self.context.now)
        kept: list[Action] = []
        findings: list[Finding] = []
        for action in actions:
            written = holds.get(action.partition.table) if isinstance(action, Detach | Drop | Archive) else None
            if written is None:
                kept.append(action)
                continue
            until = (written.entry.details or {}).get("until")
            text = f"{action.partition} is under hold by {written.role}{f' until {until}' if until else ''}: it stays"
            findings.append(Finding("hold", text, str(action.partition)))
        return kept, findings

    def _guard_rows(self, layout: Layout, tree: Tree, actions: Sequence[Action], now: datetime | int) -> None:
        """A clock or a `keep` that is wrong must not take away the last data: some rows have to stay."""
        retired = {action.partition for action in retiring(actions)}
        if not retired:
            return
        # A partition that is divided goes with its own partitions.
        gone = {partition.spelling for partition in tree.partitions if partition.name in retired}
        staying = [leaf for leaf in tree.leaves if leaf.name not in retired and leaf.parent not in gone]
        # The newest first: there, one look finds rows nearly always.
        if measure.any_rows(self.connection, [leaf.name for leaf in reversed(staying)]):
            return
        if not measure.any_rows(self.connection, list(retired)):
            return  # an empty table loses nothing
        newest = max(
            child.spelling for child in tree.children if child.name in retired and isinstance(child.bounds, Range)
        )
        raise Refusal(
            f"retiring {len(retired)} partitions would leave {layout.table} without rows",
            found=f"it is taken to be {describe_clock(now)}, and the newest rows stand in {newest} or before",
            fix="check --now, the clock, and `keep` in the layout",
        )

    def _proposed(self, action: Action, upkeep: ddl.Upkeep, layout: Layout) -> Tended:
        if isinstance(action, Archive):
            # What is written to files comes first; these are the statements after it.
            drop = Drop(action.table, action.partition, action.bounds, action.reason)
            return Tended(action, upkeep.transaction(drop), State.PROPOSED)
        transaction = upkeep.transaction(action)
        if isinstance(action, Sweep):
            if action.rows > layout.at_most_swept:
                text = (
                    f"{action.rows:,} rows are more than `at_most_swept` ({layout.at_most_swept:,}): writers wait "
                    "while they move, so raise it for an hour when few write"
                )
                return Tended(action, transaction, State.SKIPPED, text)
            if (why := measure.moving_obstacle(self.connection, layout.table, action.catch_all)) is not None:
                return Tended(action, transaction, State.SKIPPED, f"its rows were not moved: {why}")
        return Tended(action, transaction, State.PROPOSED)

    def _done(self, tended: Tended, layout: Layout, upkeep: ddl.Upkeep) -> Tended:
        if tended.transaction is None or tended.state is State.SKIPPED:
            return tended
        began, waits = time.monotonic(), self.course.lock_waits
        try:
            match tended.action:
                case Archive():
                    done = self._archived(tended, layout)
                case Sweep():
                    done = self._swept(tended, upkeep)
                case _:
                    done = self._ran(tended)
        except ServerError as error:
            if self.connection.closed:
                raise
            text = error.found or error.problem
            took_ms = (time.monotonic() - began) * 1_000
            self._write(replace(tended, lock_waits=self.course.lock_waits - waits), "failed", took_ms, text)
            done = replace(tended, state=State.FAILED, text=text)
        took = round((time.monotonic() - began) * 1_000, 3)
        return replace(done, duration_ms=took, lock_waits=self.course.lock_waits - waits)

    def _told(self, tended: Tended) -> Tended:
        """Says what became of an action as soon as it is known."""
        if tended.state is not State.SKIPPED:
            self.context.tell(
                {
                    "at": datetime.now(UTC).isoformat(timespec="milliseconds"),
                    "run": self.run,
                    "action": tended.action.kind,
                    "table": str(tended.action.table),
                    "partition": str(tended.action.partition),
                    "state": str(tended.state),
                    "rows": tended.rows,
                    "duration_ms": tended.duration_ms,
                    "lock_waits": tended.lock_waits,
                    "text": tended.text,
                }
            )
        return tended

    def _run(self, transaction: Transaction) -> None:
        context = self.context
        runner.run(
            self.connection, [transaction], context.lock_wait_ms, context.progress, context.say,
            deadline_ms=context.lock_deadline_ms, waited=self.course.wait,
        )  # fmt: skip

    def _ran(self, tended: Tended) -> Tended:
        assert tended.transaction is not None
        began = time.monotonic()
        transaction = tended.transaction
        if self.ledger is not None and transaction.is_atomic:
            # In the same transaction: what is done is in the ledger, and what is not is not, wherever it is killed.
            entry = Statement(self.ledger.insertion(self._entry(tended, "done", None)))
            transaction = replace(transaction, statements=(*transaction.statements, entry))
        elif self.ledger is not None:
            # What may not stand in a transaction is written down before: a kill leaves an entry that has no end.
            self.course.begun = self.ledger.begin(self._entry(tended, "begun", None))
        self._run(transaction)
        if not transaction.is_atomic:
            self._write(tended, "done", (time.monotonic() - began) * 1_000)
        return replace(tended, state=State.DONE)

    def _swept(self, tended: Tended, upkeep: ddl.Upkeep) -> Tended:
        """Again when rows of the catch-all were changed while they were copied, and at last wholly under the lock."""
        for attempt in range(1, SWEEPS + 1):
            if attempt == SWEEPS:
                under_lock = replace(upkeep, copying=None)
                tended = replace(tended, transaction=under_lock.transaction(tended.action))
            transaction = tended.transaction
            assert transaction is not None
            if self.ledger is not None:
                entry = self.ledger.insertion(self._entry(tended, "done", None), rows_setting=ROWS_SETTING)
                transaction = replace(transaction, statements=(*transaction.statements, Statement(entry)))
            try:
                self._run(transaction)
                break
            except Refusal as refusal:
                if refusal.problem != CHANGED or attempt == SWEEPS:
                    raise
        moved = self.connection.execute(f"SELECT current_setting('{ROWS_SETTING}')::bigint".encode()).fetchone()
        return replace(tended, state=State.DONE, rows=moved[0] if moved else None)

    def _archived(self, tended: Tended, layout: Layout) -> Tended:
        assert tended.transaction is not None
        folder = Path(layout.archive_to or "archive")
        folder = folder if folder.is_absolute() else self.context.layout_file.parent / folder
        archived = archive.archive(self.connection, tended.action, layout, folder, self.context)
        entry: tuple[Statement, ...] = ()
        if self.ledger is not None:
            details = {"manifest": str(archived.path), "sha256": archived.manifest.sha256}
            written = self._entry(tended, "done", None, archived.manifest.rows, details=details)
            entry = (Statement(self.ledger.insertion(written)),)
        statements = (
            *archived.guard,
            *tended.transaction.statements,
            *entry,
        )
        transaction = replace(tended.transaction, statements=statements)
        self._run(transaction)
        return replace(tended, state=State.DONE, text=f"written to {archived.path}", rows=archived.manifest.rows)

    def _entry(
        self,
        tended: Tended,
        state: str,
        duration_ms: float | None,
        rows: int | None = None,
        note: str | None = None,
        details: dict[str, str] | None = None,
    ) -> Entry:
        action, transaction = tended.action, tended.transaction
        statements = () if transaction is None else transaction.statements
        return Entry(
            action.kind,
            str(action.table),
            action.partition.table,
            state,
            self.context.now,
            self.context.is_machine_clock,
            self.run,
            tuple(each.sql for each in statements if isinstance(each, Statement)),
            duration_ms,
            rows,
            tended.lock_waits,
            note,
            details,
        )

    def _write(self, tended: Tended, state: str, duration_ms: float, note: str | None = None) -> None:
        if self.ledger is None:
            return
        begun, self.course.begun = self.course.begun, None
        if begun is not None:
            with suppress(ServerError):  # a role that may only add to the ledger adds an entry of its own
                self.ledger.end(begun, state, duration_ms, tended.lock_waits, note)
                return
        self.ledger.write(self._entry(tended, state, duration_ms, note=note))
