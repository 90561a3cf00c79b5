"""Does what upkeep has decided, one action after the other, and writes down in the ledger how each ended."""

import time
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from slabrow.core.table.export_column import RowSource
from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.actions import Archive, Merge, Place, Sweep
from slabrow.core.upkeep.ledger_entries import LedgerEntry
from slabrow.core.upkeep.statements import Statement, Transaction, sql_of
from slabrow.core.values.errors import Outdated, ServerError, SlabrowError
from slabrow.core.values.names import Name
from slabrow.servers.protocols import ActionWriter, LedgerStore, Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.tending import archive
from slabrow.work.tending.upkeep_result import State, Tended

SWEEPS = 3  # times that a sweep is tried: the last one wholly under the lock


@dataclass(slots=True)
class _Course:
    """How a run goes. lock_waits: tries that got no lock; begun: the ledger's number of what is not ended yet."""

    lock_waits: int = 0
    begun: int | None = None

    def wait(self) -> None:
        self.lock_waits += 1


@dataclass(frozen=True, slots=True)
class ActionRunner:
    """The parts that all actions of a run share. run: its number in the ledger; ledger: None for none; schema: its."""

    context: Context
    session: Session
    ledger: LedgerStore | None
    run: str
    schema: str | None = None
    course: _Course = field(default_factory=_Course)

    def do(self, tended: Tended, layout: Layout, writer: ActionWriter) -> Tended:
        """Does one action, and says what became of it. Raises Refusal, and Stopped when the server is gone."""
        if tended.state is State.SKIPPED or (
            tended.transaction is None and not isinstance(tended.action, Merge | Place)
        ):
            return tended
        began, waits = time.monotonic(), self.course.lock_waits
        try:
            match tended.action:
                case Archive() as action:
                    done = self._archived(tended, layout, writer.after_archive(action)[1])
                case Sweep():
                    done = self._swept(tended, writer)
                case Merge() as action:
                    done = self._merged(tended, action, layout)
                case Place() as action:
                    done = self._placed(tended, action, layout)
                case _:
                    done = self._ran(tended)
            done = self._done_there(done)
        except ServerError as error:
            if self.session.closed:
                raise
            text = error.found or error.problem
            self.write(replace(tended, lock_waits=self.course.lock_waits - waits), "failed", _since(began), text)
            done = replace(tended, state=State.FAILED, text=text)
        return replace(done, duration_ms=round(_since(began), 3), lock_waits=self.course.lock_waits - waits)

    def _done_there(self, done: Tended) -> Tended:
        """What has left here goes there too: in this order no query finds a partition without its rows."""
        left = []
        for transaction in done.there:
            try:
                self._run(transaction)
            except SlabrowError as error:
                left.append(f"{transaction.purpose} by hand: {error.problem}")
        return done if not left else replace(done, text="; ".join(filter(None, (done.text, *left))))

    def told(self, tended: Tended) -> Tended:
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
            self.session, [transaction], context.lock_wait_ms, context.progress, context.say,
            deadline_ms=context.lock_deadline_ms, waited=self.course.wait,
        )  # fmt: skip

    def _merged(self, tended: Tended, action: Merge, layout: Layout) -> Tended:
        """By the steps of `merge`, which write down themselves how far they are; the old partitions are let go of."""
        from slabrow.work.tending.reshape import coarsen

        if self.schema is None or self.ledger is None:
            return replace(tended, state=State.SKIPPED, text="a merge keeps its state in the ledger, and there is none")
        rows = coarsen(self.context, self.session, self.schema, layout, action.table, action.sources)
        return replace(tended, state=State.DONE, rows=rows)

    def _placed(self, tended: Tended, action: Place, layout: Layout) -> Tended:
        """By the steps of `relocate`, which write down themselves how far they are."""
        if action.is_server:
            from slabrow.work.tending.reshape import move_elsewhere

            if self.schema is None or self.ledger is None:
                text = "a move to another server keeps its state in the ledger, and there is none"
                return replace(tended, state=State.SKIPPED, text=text)
            rows = sum(
                move_elsewhere(self.context, self.session, self.schema, layout, action.table, leaf, action.target)
                for leaf in action.leaves
            )
            return replace(tended, state=State.DONE, rows=rows, text=f"now on {action.target}")
        from slabrow.work.relocate import move_leaves

        move_leaves(self.context, self.session, self.ledger, action.table, action.leaves, action.target)
        return replace(tended, state=State.DONE, text=f"now in {action.target}")

    def _ran(self, tended: Tended) -> Tended:
        assert tended.transaction is not None
        began = time.monotonic()
        transaction = tended.transaction
        if self.ledger is not None and transaction.is_atomic:
            # In the same transaction: wherever it is killed, the ledger holds exactly the actions that were done.
            entry = Statement(self.ledger.insertion(self._entry(tended, "done", None)))
            transaction = replace(transaction, statements=(*transaction.statements, entry))
        elif self.ledger is not None:
            # A statement that cannot run in a transaction is recorded first: a kill leaves an entry without an end.
            self.course.begun = self.ledger.begin(self._entry(tended, "begun", None))
        self._run(transaction)
        if not transaction.is_atomic:
            self.write(tended, "done", _since(began))
        return replace(tended, state=State.DONE)

    def _swept(self, tended: Tended, writer: ActionWriter) -> Tended:
        """Again when rows of the catch-all were changed while they were copied, and at last wholly under the lock."""
        if tended.transaction is not None and not tended.transaction.is_atomic:
            moved = tended.action.rows if isinstance(tended.action, Sweep) else None
            return replace(self._ran(tended), rows=moved)  # the server moves the rows within that one statement
        began = time.monotonic()
        for attempt in range(1, SWEEPS + 1):
            if attempt == SWEEPS:
                tended = replace(tended, transaction=writer.under_lock(tended.action))
            transaction = tended.transaction
            assert transaction is not None
            if self.ledger is not None:
                entry = self.ledger.insertion(
                    self._entry(tended, "done", None), counts_moved=True, before_ms=_since(began)
                )
                transaction = replace(transaction, statements=(*transaction.statements, Statement(entry)))
            try:
                self._run(transaction)
                break
            except Outdated:
                if attempt == SWEEPS:
                    raise
        return replace(tended, state=State.DONE, rows=self.session.execution.moved_rows())

    def archive_folder(self, layout: Layout) -> Path:
        """Where the archives of a table are written."""
        return self.context.layout_file.parent / (layout.archive_to or "archive") / (self.context.server or "")

    def _archived(self, tended: Tended, layout: Layout, apart: Name | None) -> Tended:
        assert tended.transaction is not None
        folder, source = self.archive_folder(layout), RowSource(tended.action.table, tended.action.partition)
        if apart is not None:
            return self._archived_apart(tended, layout, folder, replace(source, apart=apart))
        began = time.monotonic()
        archived = archive.archive(self.session, tended.action, source, layout, folder, self.context)
        entry: tuple[Statement, ...] = ()
        if self.ledger is not None:
            written = self._entry(tended, "done", None, **_written_as(archived))
            entry = (Statement(self.ledger.insertion(written, before_ms=_since(began))),)
        statements = (
            *archived.guard,
            *tended.transaction.statements,
            *entry,
        )
        transaction = replace(tended.transaction, statements=statements)
        self._run(transaction)
        archive.has_left(archived)
        return replace(tended, state=State.DONE, text=f"written to {archived.path}", rows=archived.manifest.rows)

    def _archived_apart(self, tended: Tended, layout: Layout, folder: Path, apart: RowSource) -> Tended:
        """Where the server commits each change by itself: the partition becomes a table of its own, which nobody writes
        to, is compared with the file once more, and dropped. A kill in between leaves that table to the next run.
        """
        assert tended.transaction is not None and apart.apart is not None
        began = time.monotonic()
        lets_out, drops = (replace(tended.transaction, statements=(each,)) for each in tended.transaction.statements)
        is_apart = self.session.catalogue.exists(apart.apart)
        source = apart if is_apart else replace(apart, apart=None)
        written = archived = archive.archive(self.session, tended.action, source, layout, folder, self.context)
        if self.ledger is not None:
            self.course.begun = self.ledger.begin(self._entry(tended, "begun", None, **_written_as(written)))
        if not is_apart:
            self._run(lets_out)
            archived = archive.archive(self.session, tended.action, apart, layout, folder, self.context)
        self._run(drops)
        archive.has_left(archived)
        late = archived.manifest.rows != written.manifest.rows
        self.write(tended, "done", _since(began), f"{archived.manifest.rows:,} rows in the end" if late else None)
        text = f"written to {archived.path}"
        return replace(tended, state=State.DONE, text=text, rows=archived.manifest.rows)

    def _entry(
        self,
        tended: Tended,
        state: str,
        duration_ms: float | None,
        rows: int | None = None,
        note: str | None = None,
        details: dict[str, str] | None = None,
    ) -> LedgerEntry:
        action, transaction = tended.action, tended.transaction
        statements = () if transaction is None else transaction.statements
        return LedgerEntry(
            kind=action.kind,
            table=str(action.table),
            partition=action.partition.table,
            state=state,
            clock=self.context.now,
            is_machine_clock=self.context.is_machine_clock,
            run=self.run,
            statements=tuple(each.sql for each in statements if isinstance(each, Statement))
            + tuple(sql_of(part) for each in tended.there for part in each.statements),
            duration_ms=duration_ms,
            rows=rows,
            lock_waits=tended.lock_waits,
            note=note,
            details=details,
        )

    def write(self, tended: Tended, state: str, duration_ms: float, note: str | None = None) -> None:
        """Writes down how an action ended: ends the entry that was begun for it, else adds one. Raises ServerError."""
        if self.ledger is None:
            return
        begun, self.course.begun = self.course.begun, None
        if begun is not None:
            with suppress(ServerError):  # a role that may only add to the ledger adds an entry of its own
                self.ledger.end(begun, state, duration_ms, tended.lock_waits, note)
                return
        self.ledger.write(self._entry(tended, state, duration_ms, note=note))


def _written_as(archived: archive.Archived) -> dict[str, Any]:
    """The fields of a ledger entry that say which file holds the rows."""
    details = {"manifest": str(archived.path), "sha256": archived.manifest.sha256}
    return {"rows": archived.manifest.rows, "details": details}


def _since(began: float) -> float:
    """Milliseconds. began: of the monotonic clock."""
    return (time.monotonic() - began) * 1_000
