"""`split` and `merge`: partitions are divided anew while the table is in use (N24)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.steps import LongWork, Phase, Step
from slabrow.core.values.errors import Doubled, Refusal, UsageError
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.servers.step_protocols import LiveSteps
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.convert import ComparedPartition
from slabrow.work.reshaping.live_result import phase_of, steps_done
from slabrow.work.reshaping.moving import broken_elsewhere, far_notes
from slabrow.work.reshaping.redivision_plan import (
    Place,
    details_of,
    find_partitions,
    plan_again,
    plan_merge,
    plan_split,
)
from slabrow.work.reshaping.redivision_result import Piece, RedivisionOptions, RedivisionResult
from slabrow.work.reshaping.running import COPY, LongRun, seconds_left
from slabrow.work.reshaping.under_way import refuse_under_way
from slabrow.work.step_runner import StepRunner, ledger_or_none

CLAIM_WAIT_MS = 6_000  # a run that was killed may still be at work on the server for a moment
_BEGINS_AT = {
    COPY: 0.02,
    "build keys and indexes": 0.4,
    "bring changes over": 0.78,
    "compare": 0.8,
    "wait for old transactions": 0.97,
    "swap": 0.98,
}
_STEP_OF_MARK = {
    "made": "make the stage",
    "partitions": "make the new partitions",
    "watched": "record changes",
    "complete": "build keys and indexes",
    "way back": "prepare the way back",
    "swapped": "swap",
    "undone": "swap back",
}
# The words of a record's state for a person, with the option that goes on from there.
_LEAVING = {
    ReshapingState.GIVEN_UP: ("is being given up", "--give-up --go"),
    ReshapingState.UNDONE: ("is being undone", "--undo --go"),
}


@dataclass(slots=True)
class Redivision:
    """One run. names: the partitions that were named; root: whose they are."""

    context: Context
    session: Session
    schema: str
    store: ReshapingStore
    layout: Layout | None
    options: RedivisionOptions
    names: tuple[Name, ...]
    root: Name
    record: Reshaping | None = None
    plan: RedivisionPlan | None = None
    _place: Place | None = None
    _giving_up: tuple[Step, ...] = ()
    _running: LongRun | None = None

    # What is asked for

    def divide(self, *, go: bool) -> RedivisionResult:
        """Begins, or goes on, up to and including the swap; without `go` says what would be done."""
        kind = self.options.kind
        if self.record is None:
            refuse_under_way(self.session, self.schema, self.root)
            self._planned_anew()
            if self._giving_up and go:
                self.context.guard_pretended_clock(self.session.catalogue.moment())
                self._give_up_keys()
                self._planned_anew()
        else:
            if self.record.state in _LEAVING:
                what, fix = _LEAVING[self.record.state]
                raise Refusal(f"the {kind} of {self.record.table} {what}", fix=f"finish that: {fix}")
            self.plan = self._planned_again(self.record)
        steps = self._steps()  # before anything is written down: the server may have no way to do it
        if not go:
            return self._proposed(kind, (*self._giving_up, *steps))
        self.context.guard_pretended_clock(self.session.catalogue.moment())
        if self.record is None:
            self._begin()
            steps = self._steps()
        self._do(steps)
        return self._result(kind, steps, is_paused=self.options.pause_before_swap)

    def undo(self, *, go: bool) -> RedivisionResult:
        """The old partitions come back, with everything that was written since the swap."""
        record = self._known(ReshapingState.UNDONE)
        if record is None:
            return self._result("undo", ())
        if record.state not in (ReshapingState.UNDONE, ReshapingState.SWAPPED):
            raise Refusal(
                f"the {record.kind} of {record.table} has not swapped yet",
                fix="there is nothing to go back from: --give-up --go takes everything away again",
            )
        self.plan = self._planned_again(record)
        steps = self._work().undo()
        if record.state == ReshapingState.UNDONE:
            steps = self._work().after_undo()
        else:
            self._refuse_lost_pieces(record)
        if not go:
            return self._proposed("undo", steps)
        try:
            self._do(steps)
        except Doubled as error:
            raise Refusal(
                f"{record.table} cannot go back yet",
                found=error.found,
                fix="two rows have the same key: change or delete one of them, then go back",
            ) from error
        return self._result("undo", steps)

    def let_go(self, *, go: bool) -> RedivisionResult:
        """The old partitions are dropped."""
        record = self._known(ReshapingState.DONE)
        if record is None:
            return self._result("drop", ())
        if record.state != ReshapingState.SWAPPED:
            raise Refusal(
                f"the {record.kind} of {record.table} has not swapped yet",
                found=f"it is {record.state}",
                fix="let it end first: the same command with --go; or take it away with --give-up --go",
            )
        self.plan = self._planned_again(record)
        steps = self._work().let_go()
        if not go:
            return self._proposed("drop", steps)
        self._do(steps)
        return self._result("drop", steps)

    def give_up(self, *, go: bool) -> RedivisionResult:
        """Everything is taken away again, before the swap."""
        record = self._known(ReshapingState.GIVEN_UP)
        if record is None:
            return self._result("give up", ())
        if record.state == ReshapingState.SWAPPED:
            raise Refusal(
                f"the {record.kind} of {record.table} has swapped already",
                fix="--undo --go goes back without losing what was written since",
            )
        if record.state == ReshapingState.UNDONE:
            raise Refusal(f"the {record.kind} of {record.table} is being undone", fix="finish that: --undo --go")
        self.plan = self._planned_again(record)
        steps = self._work().give_up()
        if not go:
            return self._proposed("give up", steps)
        self._do(steps)
        return self._result("give up", steps)

    def status(self) -> RedivisionResult:
        """Where it stands. Raises Refusal when none is known."""
        self.record = self.record or self.store.find(self.names[0], ended=True)
        if self.record is None or self.record.kind != self.options.kind:
            raise Refusal(f"no {self.options.kind} of {self.names[0]} is known", fix="begin one with --go")
        self.plan = self._planned_again(self.record)
        return self._result(self.options.kind, (), is_done=False)

    def scripts(self) -> dict[str, str]:
        """The whole as scripts, by the names of their files. Raises Refusal for one that is under way."""
        if self.record is not None:
            raise Refusal(
                f"the {self.record.kind} of {self.record.table} is under way already",
                fix="go on with it: a script would begin anew",
            )
        refuse_under_way(self.session, self.schema, self.root)
        self._planned_anew()
        assert self.plan is not None
        plan, work, writer = self.plan, self._work(), self.session.writer
        first = plan.sources[0]
        before = self.store.beginning(
            plan.job, kind=plan.kind, way="live", table=first.name, layout=_words(plan), old_name=first.kept_as,
            details=details_of(plan),
        )  # fmt: skip
        forward = work.forward()
        at = [step.name for step in forward].index("bring changes over")
        ended, swapped = (self.store.over(plan.job, once_swapped=once) for once in (False, True))
        phases: list[tuple[str, str, tuple[Step, ...], str | None]] = [
            ("1-copy", "copy the rows while the table is in use", (*before, *forward[:at]), None),
            ("2-follow", "bring the changes over, and compare", forward[at:], swapped),
            ("3-swap", "put the new partitions in their place", work.swap(), ended),
            ("4-undo", "the way back: instead of file 5", work.undo(), ended),
            ("5-let-go", "drop the old partitions: instead of file 4", work.let_go(), ended),
            ("give-up", "take everything away: before file 3", work.give_up(), ended),
        ]
        title = f"{plan.kind.capitalize()} {_words(plan)}: "
        wait, now = self.context.lock_wait_ms, self.context.now
        return {
            f"{name}.sql": writer.phase_script(title + what, steps, wait, now, over)
            for name, what, steps, over in phases
        }

    # How it is done

    def _planned_anew(self) -> None:
        options = self.options
        if options.relocates:
            from slabrow.work.relocate import live_plan

            planned = live_plan(self.session, self.layout, self.schema, self.store, self.names[0], options)
            self.plan, self._place, self._giving_up = planned
            return  # it keeps its name, and with it a hold
        if options.split is not None:
            self.plan, self._place = plan_split(
                self.session, self.layout, self.schema, self.store, self.names[0], options.split
            )
        else:
            self.plan, self._place = plan_merge(
                self.session, self.layout, self.schema, self.store, self.names, options.span
            )
        self._refuse_held()

    def _give_up_keys(self) -> None:
        """Before the table's first partition elsewhere."""
        ledger = ledger_or_none(self.context, self.session, self.schema)
        work = LongWork(kind=self.options.kind, table=self.root, steps=self._giving_up)
        for step in self._giving_up:  # before an index is built on each of thousands
            runner.guard_locks(self.session.execution, step.transaction)
        StepRunner(self.context, self.session, ledger).do(work)

    def _refuse_held(self) -> None:
        """A partition under hold keeps its name, by which the hold is known."""
        assert self.plan is not None
        ledger = self.session.ledger(self.schema)
        held = ledger.holds(str(self.root), self.context.now) if ledger.version() > 0 else {}
        for source in self.plan.sources:
            if source.name.table in held:
                raise Refusal(
                    f"{source.name} is under hold",
                    found="it would lose the name by which the hold is known",
                    fix=f"end the hold first: slabrow tend --end-hold {source.name.table} --go",
                )

    def _refuse_lost_pieces(self, record: Reshaping) -> None:
        """The way back needs all that came: a new partition that has left, or was divided again, took rows along."""
        assert self.plan is not None
        tree = self.session.catalogue.tree(self.plan.parent)
        there = {child.name.table for child in tree.children}
        if lost := [each.name for each in self.plan.planned if each.name not in there]:
            raise Refusal(
                f"the {record.kind} of {record.table} cannot be undone",
                found=f"{', '.join(lost)} is no longer a partition of {self.plan.parent}",
                fix="bring it back first, or let go of the old partitions: --drop-old --go",
            )

    def _planned_again(self, record: Reshaping) -> RedivisionPlan:
        return plan_again(self.session, self.schema, record, parse_name(record.root), self.options.speed)

    def _known(self, ended_as: str) -> Reshaping | None:
        """The record of what is under way; None when the last one has ended in the way that is asked for."""
        if self.record is not None:
            return self.record
        last = self.store.find(self.names[0], ended=True)
        if last is None or last.kind != self.options.kind or last.state != ended_as:
            fix = "see what was done with: slabrow history"
            if last is not None and last.details.get("at_once"):
                fix = "where the server divides at once, split and merge undo each other; " + fix
            raise Refusal(
                f"no {self.options.kind} of {self.names[0]} is under way",
                found=f"the last one is {last.state}" if last is not None else None,
                fix=fix,
            )
        self.record = last
        self.plan = self._planned_again(last)
        return None

    def _begin(self) -> None:
        assert self.plan is not None
        self.session.ledger(self.schema).prepare()
        plan, first = self.plan, self.plan.sources[0]
        job = self.store.begin(
            first.name,
            kind=plan.kind,
            way="live",
            layout=_words(plan),
            old_name=first.kept_as,
            details=details_of(plan) | ({"coarsens": True} if self.options.coarsens else {}),
        )
        self.record = self.store.find(first.name)
        assert self.record is not None and self.record.job == job
        self.plan = self._planned_again(self.record)

    def _work(self) -> LiveSteps:
        assert self.plan is not None
        return self.session.writer.redivision(self.plan, self.options.speed.jobs)

    def _steps(self) -> tuple[Step, ...]:
        """Forward, from the beginning or from the swap."""
        work = self._work()
        if self.record is not None and self.record.state == ReshapingState.SWAPPED:
            return work.in_step()
        return work.forward() + (() if self.options.pause_before_swap else work.swap())

    def _floor(self) -> Transaction | None:
        return None if self.record is None else self._work().floor(back=self.record.state == ReshapingState.SWAPPED)

    @property
    def _run(self) -> LongRun:
        if self._running is None:
            self._running = LongRun(
                self.context, self.session, self.store, self.schema, self.options.speed,
                self.options.wait_for_snapshots_s, _BEGINS_AT, self._floor,
            )  # fmt: skip
        return self._running

    def _do(self, steps: tuple[Step, ...]) -> None:
        assert self.plan is not None and self.record is not None
        self._run.do(self.plan.kind, self.record, [source.name for source in self.plan.sources], steps)

    # What is said

    def _proposed(self, doing: str, steps: tuple[Step, ...]) -> RedivisionResult:
        self._run.propose(steps)
        return self._result(doing, steps, is_done=False)

    def _result(
        self, doing: str, steps: tuple[Step, ...], *, is_done: bool = True, is_paused: bool = False
    ) -> RedivisionResult:
        assert self.plan is not None
        plan, record = self.plan, self.record
        if record is not None:
            record = self.store.find(record.table) or self.store.find(record.table, ended=True)
        done, pieces, copied = self.store.progress(record.job) if record else (0, 0, 0)
        phase = phase_of(record, done, pieces)
        compared = record.compared if record is not None else ()
        rows = {name: after for name, _, after in compared}
        total = self.store.total_of(record.job) if record else 0
        log = "back" if phase is Phase.SWAPPED else "log"
        return RedivisionResult(
            kind=plan.kind,
            root=plan.root,
            doing=doing,
            phase=phase,
            before=self._before(),
            after=tuple(
                Piece(
                    name=plan.parent.sibling(each.name),
                    bounds=each.bounds,
                    rows=rows.get(plan.incoming(each).table, 0 if compared else None),
                    places=plan.lies_in,
                )
                for each in plan.planned
            ),
            kept_as=tuple(None if plan.at_once else source.kept_as for source in plan.sources),
            work=LongWork(kind=plan.kind, table=plan.root, steps=steps),
            steps=self._run.said(copied) if steps else steps_done(record, _STEP_OF_MARK),
            is_done=is_done,
            rows_copied=copied,
            rows_total=max(copied, total or sum(each.rows or 0 for each in self._before())),
            changes_waiting=self.store.changes_waiting(record.job, log) if record else 0,
            longest_lock_ms=round(record.longest_lock_ms, 3) if record else 0.0,
            compared=tuple(ComparedPartition(*each) for each in compared if each[0] == "all rows"),
            seconds_left=seconds_left(record, done, pieces),
            notes=self._notes(),
            is_paused=is_paused,
        )  # fmt: skip

    def _before(self) -> tuple[Piece, ...]:
        assert self.plan is not None
        rows = {each.name: each.rows for each in self._place.partitions} if self._place is not None else {}
        return tuple(
            Piece(
                name=source.name,
                bounds=source.bounds,
                rows=rows.get(source.name),
                places=self.plan.lay_in,
            )
            for source in self.plan.sources
        )

    def _notes(self) -> tuple[str, ...]:
        assert self.plan is not None
        if self.plan.at_once:
            return (
                "The server copies these rows in one statement, which keeps all writers of the table out meanwhile.",
            )
        notes: list[str] = []
        if self.plan.far is not None:
            notes += far_notes(self.plan, self._giving_up)
            if self.record is None and self.plan.far.comes:
                notes += broken_elsewhere(self.session, self.plan, self.options.workload)
        elif self.plan.tablespace is not None:
            notes.append(
                f"{self.plan.sources[0].name} is copied to {self.plan.tablespace} while it is used: as many bytes are "
                "needed there, and as many in the server's log."
            )
        if self.plan.catch_all is not None:
            notes.append(
                f"{self.plan.catch_all} is locked and looked through in the swap: quick while it holds few rows."
            )
        if any(each.kind == "f" for each in self.plan.shape.constraints):
            notes.append(
                "For the moments before the swap, deleting a row that foreign keys refer to can be refused, when the "
                "last row that referred to it went just before. The application tries again."
            )
        return tuple(notes)


def _words(plan: RedivisionPlan) -> str:
    sources = ", ".join(source.name.table for source in plan.sources)
    if plan.kind == "relocate":
        return f"{sources} to {', '.join(plan.lies_in)}"
    return f"{sources} into {', '.join(each.name for each in plan.planned)}"


@contextmanager
def opened(
    context: Context,
    schema: str | None,
    options: RedivisionOptions,
    names: Sequence[Name],
    layout_of: Callable[[Name], Layout | None],
    *,
    alone: bool = True,
) -> Iterator[Redivision]:
    """layout_of: of a table, where the layout file has one; alone: keep other runs away.

    Raises UsageError without a schema for the ledger, and for names that are no partitions.
    """
    if schema is None:
        raise UsageError(
            f"a {options.kind} keeps its state in the ledger's schema, and the layout file switches the ledger off",
            fix="name a schema under [ledger] in the layout file",
        )
    with context.connected() as session:
        store = session.reshapings(schema)
        with session.reading():
            full = tuple(session.partitions.full_name(name) for name in names)
        record = next((found for name in full if (found := store.of_partition(name)) is not None), None)
        if record is not None and record.kind != options.kind:
            raise Refusal(f"a {record.kind} of {record.table} is under way", fix="let it end, or give it up, first")
        last = None if record is not None else store.find(full[0], ended=True)
        if record is not None:
            root = parse_name(record.root)
        elif session.catalogue.exists(full[0]) or last is None:
            root = find_partitions(session, full).root
        else:
            root = parse_name(last.root)
        run = Redivision(context, session, schema, store, layout_of(root), options, full, root, record)
        if not alone:
            yield run
            return
        with runner.sole(session, [root], max(CLAIM_WAIT_MS, context.lock_wait_ms)):
            session.execution.end_orphans(root)
            # Another run may have begun, or ended, while this one waited for it.
            run.record = next((found for name in full if (found := store.of_partition(name)) is not None), None)
            yield run
