"""What one table needs: looked at whole, guarded, decided, and done."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from slabrow.core.table.bounds import CatchAll, Range
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Traits
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action, Archive, Create, Detach, Drop, Sweep
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.guards import guard_grid, guard_retiring, has_estimates, retiring
from slabrow.core.upkeep.planned_partitions import describe_clock
from slabrow.core.upkeep.reconcile import reconcile
from slabrow.core.values.errors import Refusal, ServerError, SlabrowError
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, reading
from slabrow.servers.postgresql.ledger import Ledger
from slabrow.servers.postgresql.read import catalogue, row_counts
from slabrow.servers.postgresql.read.shape import constraints, indexes
from slabrow.servers.postgresql.read.siblings import traits
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.sweeping import COPIED_ABOVE, Copying
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.tending.action_runner import Doing
from slabrow.work.tending.catch_all_rows import new_values, sifted
from slabrow.work.tending.table_clock import Moments
from slabrow.work.tending.upkeep_result import State, TableReport, Tended

COUNTED_BELOW = 64 * 2**20  # bytes


@dataclass(frozen=True, slots=True)
class Keeping:
    """What is done about each table of a run.

    retiring   how many partitions may leave, when somebody named it
    barred     why none may leave in this run, whatever the layout says
    """

    moments: Moments
    doing: Doing
    go: bool
    retiring: int | None
    barred: SlabrowError | None = None

    @property
    def context(self) -> Context:
        return self.doing.context

    @property
    def connection(self) -> Connection:
        return self.doing.connection

    @property
    def ledger(self) -> Ledger | None:
        return self.doing.ledger

    def _copying(self, tree: Tree, actions: Sequence[Action]) -> Copying | None:
        """What sweeps of many rows need to know; None without any, and where the catch-all is no usual table."""
        if tree.catch_all is None or not any(isinstance(each, Sweep) and each.rows > COPIED_ABOVE for each in actions):
            return None
        leaves = row_counts.blocks(self.connection, [leaf.name for leaf in tree.leaves_of(tree.catch_all)])
        if leaves is None:
            return None
        with reading(self.connection):
            parent = catalogue.relation(self.connection, tree.table)
            return Copying(leaves, constraints(self.connection, parent), indexes(self.connection, parent))

    def tend(self, layout: Layout) -> TableReport:
        connection, wait_ms = self.connection, self.context.lock_wait_ms
        with runner.sole(connection, [layout.table], wait_ms):
            tree = catalogue.tree(connection, layout.table)
            with reading(connection):
                found = catalogue.relation(connection, layout.table)
                taken = catalogue.names_in_schema(connection, tree.table.schema)
                owner, role = catalogue.owner(connection, found), catalogue.current_role(connection)
                columns = catalogue.movable_columns(connection, found)
                siblings = [leaf for leaf in tree.leaves if not isinstance(leaf.bounds, CatchAll)]
                inherited = traits(connection, layout.table, siblings[-1].name if siblings else None)
            now = self.moments.now(layout, tree)
            counted, unknown = self.moments.counted(layout, tree, now)
            values, unmade = new_values(connection, layout, tree)
            said = "" if counted.ahead is layout.ahead else f"{layout.ahead}, {counted.ahead} keys as it grows now"
            due = reconcile(counted, tree, now, taken=taken, values=values, ahead_words=said)
            guard_grid(layout, tree)
            unheld, held = self._without_held(tree, due.actions)
            lying = sifted(connection, layout, tree, unheld)
            actions = lying.actions
            untaken = [*self._unpublished(inherited.out_of_reach, actions), *self._unwritten(inherited, actions)]
            leftovers = (*due.leftovers, *unknown, *unmade, *held, *lying.findings, *untaken)
            copying = self._copying(tree, actions)
            upkeep = ddl.upkeep_of(tree, layout, wait_ms, owner, role, columns, inherited, copying)
            tended = [self._proposed(action, upkeep, layout) for action in actions]

            error: SlabrowError | None = None
            try:
                self._guard_rows(layout, tree, actions, now)
                guard_retiring(layout, tree, actions, self.retiring, self._counted_rows(tree, actions))
                if self.barred is not None and retiring(actions):
                    raise self.barred
            except SlabrowError as refusal:
                if connection.closed:
                    raise
                # A guard refuses what it guards. Coming partitions are made all the same: without them the next rows
                # would fall into the catch-all, or be refused.
                error = refusal
                text = f"it stays: {refusal.problem}"
                tended = [
                    replace(each, state=State.SKIPPED, text=text) if retiring([each.action]) else each
                    for each in tended
                ]
            for place, each in enumerate(tended if self.go else ()):
                try:
                    tended[place] = self.doing.told(self.doing.do(each, layout, upkeep))
                except Refusal as refusal:
                    self.doing.write(each, "failed", 0.0, refusal.problem)
                    tended[place] = self.doing.told(replace(each, state=State.FAILED, text=refusal.problem))
                    error = error or refusal
            return TableReport(layout, tuple(tended), leftovers, error, tree, now, lying.rows)

    def _counted_rows(self, tree: Tree, actions: Sequence[Action]) -> dict[str, int] | None:
        """Of a small table without statistics; None where estimates or bytes have to do."""
        if not retiring(actions) or has_estimates(tree) or sum(leaf.bytes for leaf in tree.leaves) > COUNTED_BELOW:
            return None
        try:
            return row_counts.rows_of_leaves(self.connection, [leaf for leaf in tree.leaves if not leaf.is_empty])
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

    @staticmethod
    def _unwritten(inherited: Traits, actions: Sequence[Action]) -> list[Finding]:
        """Policies that somebody has to write anew. Until then the partition itself shows nobody these rows."""
        made = [action for action in actions if isinstance(action, Create | Sweep)]
        if not inherited.named_policies or not made:
            return []
        names = ", ".join(map(quoting.identifier, inherited.named_policies))
        tables = ", ".join(quoting.table(each.partition) for each in made)
        return [Finding("policy", f"policy {names} names the partition that it is on: write it for {tables}")]

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
        if row_counts.any_rows(self.connection, [leaf.name for leaf in reversed(staying)]):
            return
        if not row_counts.any_rows(self.connection, list(retired)):
            return  # an empty table loses nothing
        newest = max(
            child.spelling for child in tree.children if child.name in retired and isinstance(child.bounds, Range)
        )
        leaving = "1 partition" if len(retired) == 1 else f"{len(retired)} partitions"
        raise Refusal(
            f"retiring {leaving} would leave {layout.table} without rows",
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
            if (why := row_counts.moving_obstacle(self.connection, layout.table, action.catch_all)) is not None:
                return Tended(action, transaction, State.SKIPPED, f"its rows were not moved: {why}")
        return Tended(action, transaction, State.PROPOSED)
