"""`convert --way live`: the table is converted while it is read and written to (N19, N20, N21)."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.steps import LongWork, Phase, Step
from slabrow.core.values.errors import Doubled, Refusal, UsageError
from slabrow.core.values.names import Name
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.servers.step_protocols import AsIsSteps, LiveSteps
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.convert import ComparedPartition
from slabrow.work.reshaping.as_is_plan import as_is_details, layout_lines, plan_as_is, plan_as_is_again
from slabrow.work.reshaping.live_result import LiveOptions, LiveResult, phase_of, steps_done
from slabrow.work.reshaping.plan import PlannedLive, details_of, plan_again, plan_anew
from slabrow.work.reshaping.running import COPY, LongRun, seconds_left

if TYPE_CHECKING:
    from slabrow.core.upkeep.breaks import Break

CLAIM_WAIT_MS = 6_000  # a run that was killed may still be at work on the server for a moment
# How far each step is on the bar, as measured with two million rows and two sessions.
_BEGINS_AT = {
    COPY: 0.02,
    "build keys and indexes": 0.32,
    "analyse": 0.75,
    "bring changes over": 0.78,
    "compare": 0.8,
    "wait for old transactions": 0.97,
    "swap names": 0.98,
    "check foreign keys": 0.99,
}


@dataclass(slots=True)
class LiveConversion:
    """One run on one table. schema: of the ledger, where the state lies."""

    context: Context
    session: Session
    layout: Layout
    schema: str
    store: ReshapingStore
    options: LiveOptions
    planned: PlannedLive | None = None
    record: Reshaping | None = None
    _running: LongRun | None = None

    # What is asked for

    def convert(self, *, go: bool) -> LiveResult:
        """Begins, or goes on, up to and including the swap; without `go` says what would be done."""
        self.record = self.store.find(self.layout.table)
        if self.record is not None and self.record.way != self.options.way:
            raise Refusal(
                f"{self.layout.table} is being converted with --way {self.record.way}",
                fix=f"go on with --way {self.record.way}, or take it away first: --give-up --go",
            )
        if self.record is None:
            self.planned = self._plan()
        else:
            self._refuse_other_layout(self.record)
            self._refuse_ending(self.record)
            if not go and _is_unmade(self.record):
                return self._proposed("convert", ())
            self.planned = self._again(self.record)
        if not go:
            return replace(self._proposed("convert", self._steps()), breaks=self._broken())
        self.context.guard_pretended_clock(self.session.catalogue.moment())
        if self.record is None:
            self._begin()
        steps = self._steps()
        self._do(steps)
        return self._result("convert", steps, is_paused=self.options.pause_before_swap)

    def _broken(self) -> tuple[Break, ...]:
        if self.record is not None:
            return ()
        from slabrow.work.reshaping.broken import broken  # with the parser, which is slow to load

        assert self.planned is not None
        shape, options = self.planned.plan.shape, self.options
        return broken(self.session, shape, self.layout, options.workload, statistics=options.statistics)

    def _plan(self, old_name: str | None = None) -> PlannedLive:
        options = self.options
        if options.way == "as-is":
            return plan_as_is(self.context, self.session, self.layout, self.schema, self.store, options.to)
        old = options.old_name or old_name
        return plan_anew(self.context, self.session, self.layout, self.schema, self.store, options.speed, old)

    def _steps(self) -> tuple[Step, ...]:
        """Forward, from the beginning or from the swap."""
        is_swapped = self.record is not None and self.record.state == ReshapingState.SWAPPED
        if self.options.way == "as-is":
            taking = self._as_is()
            return taking.after_swap() if is_swapped else (*taking.forward(), *taking.swap())
        live = self._live()
        if is_swapped:
            return (*live.after_swap(), *live.in_step())
        return live.forward() + (() if self.options.pause_before_swap else live.swap())

    def scripts(self) -> dict[str, str]:
        """The whole as scripts, by the names of their files. Raises Refusal for one that is under way."""
        self.record = self.store.find(self.layout.table)
        if self.record is not None:
            raise Refusal(
                f"the conversion of {self.record.table} is under way already",
                fix="go on with it: a script would begin anew",
            )
        self.planned = self._plan()
        plan, writer, wait = self.planned.plan, self.session.writer, self.context.lock_wait_ms
        is_live = self.options.way == "live"
        details = details_of(plan, self.planned.key_changes) if is_live else as_is_details(plan)
        before = self.store.beginning(
            plan.job, kind="convert", way=self.options.way, table=plan.shape.name, layout=str(plan.layout),
            old_name=plan.old_name, details=details,
        )  # fmt: skip
        phases: list[tuple[str, str, tuple[Step, ...]]] = []
        if is_live:
            live = self._live()
            forward = live.forward()
            at = [step.name for step in forward].index("bring changes over")
            phases = [
                ("1-copy", "copy the rows while the table is in use", (*before, *forward[:at])),
                ("2-follow", "bring the changes over, and compare", forward[at:]),
                ("3-swap", "swap the names", live.swap()),
                ("4-undo", "the way back: instead of file 5", live.undo()),
                ("5-let-go", "drop the old table: instead of file 4", live.let_go()),
                ("give-up", "take everything away: before file 3", live.give_up()),
            ]
        else:
            taking = self._as_is()
            phases = [
                ("1-prepare", "bound the rows, and build the new keys", (*before, *taking.forward())),
                ("2-take-in", "make the table the first partition", taking.swap()),
                ("give-up", "take everything away: before file 2", taking.give_up()),
            ]
        title = f"Convert {plan.shape.name} to {plan.layout}: "
        ended, swapped = (self.store.over(plan.job, once_swapped=once) for once in (False, True))
        over = {"1-copy": None, "1-prepare": None, "2-follow": swapped}
        return {
            f"{name}.sql": writer.phase_script(title + what, steps, wait, self.context.now, over.get(name, ended))
            for name, what, steps in phases
        }

    def undo(self, *, go: bool) -> LiveResult:
        """The old table comes back, with everything that was written since the swap."""
        record = self._known(ReshapingState.UNDONE)
        if record is None:
            return self._result("undo", ())
        if record.way == "as-is":
            raise Refusal(
                f"{record.table} was taken in as it is: there is no old table to go back to",
                fix="before the lock --give-up --go takes everything away again",
            )
        if record.state == ReshapingState.UNDONE:
            self.planned = self._again(record)
            steps = self._live().after_undo()
        else:
            if record.state != ReshapingState.SWAPPED:
                raise Refusal(
                    f"the conversion of {record.table} has not swapped yet",
                    fix="there is nothing to go back from: --give-up --go takes everything away again",
                )
            self.planned = self._again(record)
            steps = self._live().undo()
        if not go:
            return self._proposed("undo", steps)
        try:
            self._do(steps)
        except Doubled as error:
            raise Refusal(
                f"{record.table} cannot go back yet",
                found=error.found,
                fix="two rows have the same old key since the swap: change or delete one of them, then go back",
            ) from error
        return self._result("undo", steps)

    def let_go(self, *, go: bool) -> LiveResult:
        """The old table is dropped."""
        record = self._known(ReshapingState.DONE)
        if record is None:
            return self._result("drop", ())
        if record.state != ReshapingState.SWAPPED:
            raise Refusal(
                f"the conversion of {record.table} has not swapped yet",
                found=f"it is {record.state}",
                fix="let it end first: slabrow convert --go; or take it away with --give-up --go",
            )
        self.planned = self._again(record)
        steps = self._live().let_go()
        if not go:
            return self._proposed("drop", steps)
        self._do(steps)
        return self._result("drop", steps)

    def give_up(self, *, go: bool) -> LiveResult:
        """Everything is taken away again, before the swap."""
        record = self._known(ReshapingState.GIVEN_UP)
        if record is None:
            return self._result("give up", ())
        if record.state == ReshapingState.SWAPPED:
            raise Refusal(
                f"the conversion of {record.table} has swapped already",
                fix="--undo --go goes back without losing what was written since",
            )
        if record.state == ReshapingState.UNDONE:
            raise Refusal(f"the conversion of {record.table} is being undone", fix="finish that: --undo --go")
        if _is_unmade(record):
            # Nothing follows the table yet: what was made is dropped, and that is all.
            if go:
                self.store.begin_again(record)
                self.store.close(record.job, ReshapingState.GIVEN_UP)
            self.record = record
            return self._result("give up", (), is_done=go)
        self.planned = self._again(record, leaving=True)
        steps = self._as_is().give_up() if record.way == "as-is" else self._live().give_up()
        if not go:
            return self._proposed("give up", steps)
        self._do(steps)
        return self._result("give up", steps)

    def status(self) -> LiveResult:
        """Where it stands. Raises Refusal when no conversion is known."""
        record = self.store.find(self.layout.table) or self.store.find(self.layout.table, ended=True)
        if record is None:
            raise Refusal(f"no conversion of {self.layout.table} is known", fix="begin one: slabrow convert --go")
        self.record = record
        return self._result("convert", (), is_done=False)

    # How it is done

    def _known(self, ended_as: str) -> Reshaping | None:
        """The record of what is under way; None when the last one has ended in the way that is asked for."""
        record = self.store.find(self.layout.table)
        if record is None:
            last = self.store.find(self.layout.table, ended=True)
            if last is None or last.state != ended_as:
                raise Refusal(
                    f"no conversion of {self.layout.table} is under way",
                    found=f"the last one is {last.state}" if last is not None else None,
                    fix="see what was done with: slabrow history",
                )
            self.record = last
            return None
        self.record = record
        return record

    def _refuse_other_layout(self, record: Reshaping) -> None:
        if record.layout != str(self.layout) and record.state == ReshapingState.SWAPPED:
            raise Refusal(
                f"the old table of the last conversion of {record.table} is still kept",
                found=f"{record.old_name}, from before it became {record.layout}",
                fix="let go of it first with --drop-old --go, or go back with --undo --go",
            )
        if record.layout != str(self.layout):
            raise Refusal(
                f"a conversion of {record.table} to another layout is under way",
                found=f"it is to become {record.layout}; the layout file says {self.layout}",
                fix="go on with that layout, or take the conversion away first: --give-up --go",
            )

    def _refuse_ending(self, record: Reshaping) -> None:
        if record.state == ReshapingState.GIVEN_UP:
            raise Refusal(f"the conversion of {record.table} is being given up", fix="finish that: --give-up --go")
        if record.state == ReshapingState.UNDONE:
            raise Refusal(f"the conversion of {record.table} is being undone", fix="finish that: --undo --go")

    def _again(self, record: Reshaping, *, leaving: bool = False) -> PlannedLive:
        if _is_unmade(record):
            return self._plan_unmade(record)
        if record.way == "as-is":
            return plan_as_is_again(self.context, self.session, self.layout, self.schema, record)
        speed = self.options.speed
        return plan_again(self.context, self.session, self.layout, self.schema, record, speed, leaving=leaving)

    def _plan_unmade(self, record: Reshaping) -> PlannedLive:
        """Killed before all partitions were made: nothing follows them yet, and they are made anew."""
        self.store.begin_again(record)
        planned = self._plan(record.old_name.table if record.way == "live" else None)
        if record.way == "as-is":
            self.store.set_details(record.job, as_is_details(planned.plan))
        return replace(planned, plan=replace(planned.plan, job=record.job))

    def _begin(self) -> None:
        assert self.planned is not None
        self.session.ledger(self.schema).prepare()
        plan = self.planned.plan
        job = self.store.begin(
            plan.shape.name,
            kind="convert",
            way=self.options.way,
            layout=str(plan.layout),
            old_name=plan.old_name,
            details=as_is_details(plan) if self.options.way == "as-is" else details_of(plan, self.planned.key_changes),
        )
        self.planned = replace(self.planned, plan=replace(plan, job=job))
        self.record = self.store.find(plan.shape.name)

    def _live(self) -> LiveSteps:
        assert self.planned is not None
        return self.session.writer.live(self.planned.plan, self.options.speed.jobs)

    def _as_is(self) -> AsIsSteps:
        assert self.planned is not None
        return self.session.writer.as_is(self.planned.plan)

    def _do(self, steps: tuple[Step, ...]) -> None:
        assert self.planned is not None and self.record is not None
        self._run.do("convert", self.record, self.planned.plan.leaves, steps)

    def _floor(self) -> Transaction | None:
        """Where there is a log, its floor is raised now and then."""
        if self.options.way != "live" or self.record is None:
            return None
        return self._live().floor(back=self.record.state == ReshapingState.SWAPPED)

    @property
    def _run(self) -> LongRun:
        if self._running is None:
            self._running = LongRun(
                self.context,
                self.session,
                self.store,
                self.schema,
                self.options.speed,
                self.options.wait_for_snapshots_s,
                _BEGINS_AT,
                self._floor,
            )
        return self._running

    # What is said

    def _proposed(self, doing: str, steps: tuple[Step, ...]) -> LiveResult:
        self._run.propose(steps)
        return self._result(doing, steps, is_done=False)

    def _result(
        self, doing: str, steps: tuple[Step, ...], *, is_done: bool = True, is_paused: bool = False
    ) -> LiveResult:
        record = self.record
        if record is not None:
            record = self.store.find(record.table) or self.store.find(record.table, ended=True)
        planned = self.planned
        old_name = planned.plan.old_name if planned is not None else record.old_name if record else self.layout.table
        done, pieces, rows = self.store.progress(record.job) if record else (0, 0, 0)
        phase = phase_of(record, done, pieces)
        log = "back" if phase is Phase.SWAPPED else "log"
        changes = planned.key_changes if planned is not None else ()
        return LiveResult(
            table=record.table if record else self.layout.table,
            layout=self.layout,
            doing=doing,
            phase=phase,
            work=LongWork(kind="convert", table=self.layout.table, steps=steps),
            steps=self._run.said(rows) if steps else steps_done(record),
            old_name=old_name,
            is_done=is_done,
            key_changes=changes,
            seen=planned.seen if planned is not None else None,
            notes=planned.notes if planned is not None else (),
            rows_copied=rows,
            rows_total=max(rows, self.store.total_of(record.job) or self._estimate()) if record else self._estimate(),
            changes_waiting=self.store.changes_waiting(record.job, log) if record else 0,
            longest_lock_ms=round(record.longest_lock_ms, 3) if record else 0.0,
            compared=tuple(ComparedPartition(*each) for each in record.compared) if record else (),
            seconds_left=seconds_left(record, done, pieces),
            is_paused=is_paused,
            way=record.way if record else self.options.way,
            has_script=self.store.has_scripts,
            lines=layout_lines(planned.plan) if planned is not None and self.options.way == "as-is" else (),
        )

    def _estimate(self) -> int:
        """Before the copy is divided: what the planner knows of the tables that hold the rows."""
        if self.planned is not None:
            return self.store.rows_total(self.planned.plan.leaves)
        held = self.record.details.get("leaves", ()) if self.record is not None else ()
        return self.store.rows_total([Name(*leaf) for leaf in held])


def _is_unmade(record: Reshaping) -> bool:
    """Whether a run was killed before all partitions were made: the plan is then made anew."""
    return "partitions" not in record.marks and record.state == ReshapingState.BEGUN


def is_known(context: Context, table: Name, schema: str) -> bool:
    """Whether a conversion of the table keeps an old table, or has let go of it. schema: of the ledger."""
    with context.connected() as session:
        store = session.reshapings(schema)
        with session.reading():
            name = session.catalogue.relation(table).name
        if store.find(name) is not None:
            return True
        last = store.find(name, ended=True)
        return last is not None and not session.catalogue.exists(last.old_name)


@contextmanager
def opened(
    context: Context,
    layout: Layout,
    schema: str | None,
    options: LiveOptions,
    *,
    alone: bool = True,
) -> Iterator[LiveConversion]:
    """alone: keep other runs away.

    Raises UsageError without a schema for the ledger: the state has no place.
    """
    if schema is None:
        raise UsageError(
            "a live conversion keeps its state in the ledger's schema, and the layout file switches the ledger off",
            fix="name a schema under [ledger] in the layout file, or use --way locked",
        )
    with context.connected() as session:
        with session.reading():
            layout = replace(layout, table=session.catalogue.relation(layout.table).name)
        if not alone:
            yield LiveConversion(context, session, layout, schema, session.reshapings(schema), options)
            return
        with runner.sole(session, [layout.table], max(CLAIM_WAIT_MS, context.lock_wait_ms)):
            session.execution.end_orphans(layout.table)
            yield LiveConversion(context, session, layout, schema, session.reshapings(schema), options)
