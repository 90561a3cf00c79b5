"""The upkeep of one table: observed, decided, and done."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from slabrow.core.table.bounds_data import bounds_from_data
from slabrow.core.table.layout import Layout, PastKeep
from slabrow.core.upkeep.actions import Action, Archive, Create, Drop, Merge, Place
from slabrow.core.upkeep.decision import Decision, Observed, decide
from slabrow.core.upkeep.elsewhere import FarTable
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.errors import MissingExtra, Refusal, SlabrowError
from slabrow.core.values.names import Name
from slabrow.servers.protocols import ActionWriter
from slabrow.work import runner
from slabrow.work.tending import archive
from slabrow.work.tending.action_runner import ActionRunner
from slabrow.work.tending.analysing import analysed
from slabrow.work.tending.observe import observe
from slabrow.work.tending.table_clock import TableClock
from slabrow.work.tending.upkeep_result import State, TableReport, Tended

_BUILT = "the layout says on which server it lies: `slabrow build --go` makes it there"


@dataclass(frozen=True, slots=True)
class TableUpkeep:
    """The upkeep of each table of a run.

    go         do it; False: only propose it
    retiring   how many partitions may leave, when somebody named it
    barred     why none may leave in this run, whatever the layout says
    """

    clock: TableClock
    actions: ActionRunner
    go: bool
    retiring: int | None
    barred: SlabrowError | None = None

    def tend(self, layout: Layout) -> TableReport:
        """Raises what observing raises, and Stopped when the server is gone."""
        session, wait_ms = self.clock.session, self.clock.context.lock_wait_ms
        with runner.sole(session, [layout.table], wait_ms):
            observed = observe(self.clock, layout)
            decision = decide(observed, allowed=self.retiring, barred=self.barred, spell=session.writer.table)
            writer = session.writer.upkeep(observed.tree, layout, observed.facts, wait_ms, observed.copying)
            report = self._act(observed, decision, writer)
            # Where rows lie says nothing about them.
            changed = any(each.state is State.DONE and not isinstance(each.action, Place) for each in report.tended)
            return analysed(self.clock, report, changed=changed) if self.go else report

    def _act(self, observed: Observed, decision: Decision, writer: ActionWriter) -> TableReport:
        tended, far = [*self._left_behind(observed, writer)], self._far_tables(observed)
        for proposal in decision.proposals:
            is_built = observed.layout.servers and isinstance(proposal.action, Create)
            written = _written(proposal.action, _BUILT if is_built else proposal.why_skipped, writer)
            tended.append(replace(written, there=self._drops_there(observed, proposal.action, far)))
        error = decision.refusal
        for place, each in enumerate(tended if self.go else ()):
            try:
                tended[place] = self.actions.told(self.actions.do(each, observed.layout, writer))
            except (Refusal, MissingExtra) as refusal:
                self.actions.write(each, "failed", 0.0, refusal.problem)
                tended[place] = self.actions.told(replace(each, state=State.FAILED, text=refusal.problem))
                error = error or refusal
        return TableReport(
            layout=observed.layout,
            tended=tuple(tended),
            leftovers=decision.leftovers,
            error=error,
            tree=observed.tree,
            here=observed.now,
            catch_all_rows=decision.catch_all_rows,
        )

    def _far_tables(self, observed: Observed) -> dict[Name, FarTable]:
        """Asked only of a table that has leaves on other servers."""
        if all(leaf.server is None for leaf in observed.tree.leaves):
            return {}
        return self.clock.session.partitions.far_tables(observed.layout.table)

    def _drops_there(self, observed: Observed, action: Action, far: Mapping[Name, FarTable]) -> tuple[Transaction, ...]:
        """The tables on other servers whose rows go with an action."""
        if not far or not isinstance(action, Archive | Drop):
            return ()
        partition = next(child for child in observed.tree.children if child.name == action.partition)
        tables = [far[leaf.name] for leaf in observed.tree.leaves_of(partition) if leaf.name in far]
        dropping = self.clock.session.writer.dropping_there
        return tuple(Transaction(f"drop {each.table} on {each.server}", (dropping(each),)) for each in tables)

    def _left_behind(self, observed: Observed, writer: ActionWriter) -> Iterator[Tended]:
        """Partitions that a run which was stopped has let out: they are only to be compared and dropped."""
        layout, session = observed.layout, self.clock.session
        if layout.past_keep is not PastKeep.ARCHIVE:
            return
        for source in session.archives.left_behind(layout.table):
            manifest = archive.begun(session, source, self.actions.archive_folder(layout))
            if manifest is not None and manifest.held is not None:
                bounds = bounds_from_data(manifest.held, observed.tree.kinds)
                reason = f"it is archived, and left as {source.apart} in a run that was stopped"
                yield _written(Archive(layout.table, source.partition, bounds, reason), None, writer)


def _written(action: Action, why_skipped: str | None, writer: ActionWriter) -> Tended:
    """An action with its statements. What an archive writes to files comes before them."""
    state = State.PROPOSED if why_skipped is None else State.SKIPPED
    if isinstance(action, Merge | Place):
        return Tended(action, None, state, why_skipped)
    if isinstance(action, Archive):
        return Tended(action, writer.after_archive(action)[0], state, why_skipped)
    return Tended(action, writer.transaction(action), state, why_skipped)
