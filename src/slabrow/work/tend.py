"""`tend`: the routine upkeep. Creates what must lie ahead, retires what is past `keep` (N39, N40 in its first form)."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from slabrow.core.actions import Action, Archive, Create, Detach, Drop
from slabrow.core.bounds import Range
from slabrow.core.due import describe_clock
from slabrow.core.errors import Refusal, ServerError, SlabrowError
from slabrow.core.findings import Finding
from slabrow.core.layout import By, Layout
from slabrow.core.reconcile import reconcile
from slabrow.core.statements import Transaction
from slabrow.core.tree import Tree
from slabrow.servers.postgresql import catalogue, ddl, measure
from slabrow.servers.postgresql.connection import Connection
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.prospect import number_now


class State(StrEnum):
    PROPOSED = "proposed"
    DONE = "done"
    FAILED = "failed"
    SKIPPED = "skipped"


@dataclass(frozen=True, slots=True)
class Tended:
    """An action with its statements and what became of it. text says why when it failed or was skipped."""

    action: Action
    transaction: Transaction | None
    state: State
    text: str | None = None


@dataclass(frozen=True, slots=True)
class TableReport:
    """What was found and done about one layout. error is set when nothing could be, and then exit_code is not 0."""

    layout: Layout
    tended: tuple[Tended, ...] = ()
    leftovers: tuple[Finding, ...] = ()
    error: SlabrowError | None = None


@dataclass(frozen=True, slots=True)
class TendResult:
    now: datetime
    reports: tuple[TableReport, ...]

    @property
    def actions(self) -> tuple[Tended, ...]:
        return tuple(tended for report in self.reports for tended in report.tended)

    @property
    def error(self) -> SlabrowError | None:
        """The error that decides the exit code: the gravest one."""
        errors = [report.error for report in self.reports if report.error is not None]
        return max(errors, key=lambda error: error.exit_code, default=None)

    @property
    def has_failed(self) -> bool:
        """Whether the server refused an action."""
        return any(tended.state is State.FAILED for tended in self.actions)

    @property
    def has_open(self) -> bool:
        """Whether something is left to do: proposed, failed, skipped, or drift that no action mends."""
        return any(tended.state is not State.DONE for tended in self.actions) or any(
            finding.code == "drift" for report in self.reports for finding in report.leftovers
        )


def tend(context: Context, layouts: Iterable[Layout], *, go: bool) -> TendResult:
    """Does, or with `go` False proposes, what each layout needs at the context's `now`.

    A failure on one table is reported and never stops the others.
    """
    reports = []
    with context.connected() as connection:
        for layout in layouts:
            try:
                reports.append(_tend(context, connection, layout, go))
            except SlabrowError as error:
                if connection.closed:
                    raise
                reports.append(TableReport(layout, error=error))
    return TendResult(context.now, tuple(reports))


def _tend(context: Context, connection: Connection, layout: Layout, go: bool) -> TableReport:
    with runner.sole(connection, [layout.table], context.lock_wait_ms):
        tree = catalogue.tree(connection, layout.table)
        with catalogue.reading(connection):
            found = catalogue.relation(connection, layout.table)
            taken = catalogue.names_in_schema(connection, tree.table.schema)
            owner, role = catalogue.owner(connection, found), catalogue.current_role(connection)
        now = _now(context, connection, layout, tree)
        due = reconcile(layout, tree, now, taken=taken)
        _guard_rows(connection, layout, tree, due.actions, now)
        upkeep = ddl.upkeep_of(tree, context.lock_wait_ms, owner, role, layout.within)
        tended = [_proposed(action, upkeep) for action in due.actions]
        if go:
            tended = [_done(each, connection, context) for each in tended]
        return TableReport(layout, tuple(tended), due.leftovers)


def _now(context: Context, connection: Connection, layout: Layout, tree: Tree) -> datetime | int:
    """The clock, or for a key of whole numbers where that has got to."""
    if layout.by is not By.RANGE or tree.kinds[0].is_time:
        return context.now
    column = catalogue.ColumnFact(tree.key[0].text, tree.key[0].type_name, tree.key[0].not_null)
    with catalogue.reading(connection):
        return number_now(measure.extent(connection, tree.table, replace(column, not_null=True)).high)


def _guard_rows(
    connection: Connection, layout: Layout, tree: Tree, actions: tuple[Action, ...], now: datetime | int
) -> None:
    """A clock or a `keep` that is wrong must not take away the last data: some rows have to stay."""
    retired = {action.partition for action in actions if isinstance(action, Detach | Drop | Archive)}
    if not retired:
        return
    # A partition that is divided goes with its own partitions.
    gone = {partition.spelling for partition in tree.partitions if partition.name in retired}
    staying = [leaf for leaf in tree.leaves if leaf.name not in retired and leaf.parent not in gone]
    # The newest first: there, one look finds rows nearly always.
    if measure.any_rows(connection, [leaf.name for leaf in reversed(staying)]):
        return
    if not measure.any_rows(connection, list(retired)):
        return  # an empty table loses nothing
    newest = max(child.spelling for child in tree.children if child.name in retired and isinstance(child.bounds, Range))
    raise Refusal(
        f"retiring {len(retired)} partitions would leave {layout.table} without rows",
        found=f"it is taken to be {describe_clock(now)}, and the newest rows stand in {newest} or before",
        fix="check --now, the clock, and `keep` in the layout",
    )


def _proposed(action: Action, upkeep: ddl.Upkeep) -> Tended:
    if isinstance(action, Archive):
        text = 'this version does not archive yet: set past_keep to "detach" or "drop"'
        return Tended(action, None, State.SKIPPED, text)
    return Tended(action, upkeep.transaction(action), State.PROPOSED)


def _done(tended: Tended, connection: Connection, context: Context) -> Tended:
    if tended.transaction is None:
        return tended
    try:
        runner.run(connection, [tended.transaction], context.lock_wait_ms, context.progress, context.say)
    except ServerError as error:
        advice = _catch_all_advice(tended.action, error)
        return replace(tended, state=State.FAILED, text=f"{error.found or error.problem}{advice}")
    return replace(tended, state=State.DONE)


def _catch_all_advice(action: Action, error: ServerError) -> str:
    if isinstance(action, Create) and "default partition" in (error.found or ""):
        return ": rows that belong there lie in the catch-all; move them out first"
    return ""
