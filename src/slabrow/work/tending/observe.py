"""Reads everything that deciding about the upkeep of one table needs. Changes nothing."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from slabrow.core.table.counted import CatchAllCount
from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import ColumnFact
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action
from slabrow.core.upkeep.catch_all_rows import MOST_NEW_VALUES, too_many_values, wanted_counts, with_sweeps
from slabrow.core.upkeep.decision import Observed, without_held
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.guards import guard_grid, has_estimates, retiring
from slabrow.core.upkeep.ledger_entries import WrittenEntry
from slabrow.core.upkeep.reconcile import reconcile
from slabrow.core.upkeep.upkeep_facts import COPIED_ABOVE
from slabrow.core.values.errors import ServerError
from slabrow.core.values.key_values import Value
from slabrow.core.values.method import By
from slabrow.servers.protocols import LedgerStore, Session
from slabrow.work.tending.table_clock import TableClock

COUNTED_BELOW = 64 * 2**20  # bytes: a table without statistics that is smaller is counted, a larger one estimated


def observe(clock: TableClock, layout: Layout) -> Observed:
    """Raises LayoutError when layout and tree do not describe the same kind of table, Refusal when the grid of the
    layout no longer fits its partitions, ServerError when the server refuses.
    """
    session = clock.session
    tree = session.catalogue.tree(layout.table)
    facts = session.catalogue.upkeep_facts(tree)
    now = clock.now(layout, tree)
    counted, unknown = clock.counted(layout, tree, now)
    values, unmade = _new_values(session, layout, tree)
    said = "" if counted.ahead is layout.ahead else f"{layout.ahead}, {counted.ahead} keys as it grows now"
    due = reconcile(counted, tree, now, taken=facts.taken, values=values, ahead_words=said)
    guard_grid(layout, tree)
    observed = Observed(
        layout=layout,
        tree=tree,
        now=now,
        due=due,
        facts=facts,
        findings=(*unknown, *unmade),
        holds=_holds(clock.ledger, tree, due.actions, clock),
    )
    unheld, _ = without_held(observed)
    lying = _lying(session, layout, tree, unheld)
    actions = tuple(unheld) if lying is None else with_sweeps(layout, tree, unheld, lying).actions
    sweeps = [action for action in actions if action.kind == "sweep"]
    is_large = lying is not None and any(each.rows > COPIED_ABOVE for each in lying.held)
    return replace(
        observed,
        lying=lying,
        copying=session.catalogue.copying(tree) if sweeps and is_large else None,
        why_unmoved=_why_unmoved(session, tree) if sweeps else None,
        stays_empty=_stays_empty(session, tree, actions),
        leaf_rows=_leaf_rows(session, tree, actions),
    )


def _new_values(session: Session, layout: Layout, tree: Tree) -> tuple[tuple[Value, ...], list[Finding]]:
    """For a list with a partition for each value: the values that lie in the catch-all and have none yet."""
    catch_all = tree.catch_all
    if not layout.takes_new_values or catch_all is None:
        return (), []
    column = ColumnFact(tree.key[0].text, tree.key[0].type_name, tree.key[0].not_null)
    values = session.counting.some_values(tree, catch_all, column, MOST_NEW_VALUES + 1)
    if len(values) <= MOST_NEW_VALUES:
        return tuple(values), []
    return (), [too_many_values(tree)]


def _holds(
    ledger: LedgerStore | None, tree: Tree, actions: Sequence[Action], clock: TableClock
) -> Mapping[str, WrittenEntry]:
    if ledger is None or not retiring(actions):
        return {}
    return ledger.holds(str(tree.table), clock.context.now)


def _lying(session: Session, layout: Layout, tree: Tree, actions: Sequence[Action]) -> CatchAllCount | None:
    """The rows in the catch-all; None where it is empty, or where the layout does not say which rows belong there."""
    catch_all = tree.catch_all
    if catch_all is None or layout.by is By.HASH:
        return None
    if not session.counting.any_rows(tree, tree.leaves_of(catch_all)):
        return None
    try:
        wanted = wanted_counts(layout, tree, actions)
        if wanted is None:
            return None
        key = tuple(column.name or column.text for column in tree.key)
        return session.counting.count_catch_all(tree, catch_all, key, wanted)
    except ValueError:
        return None


def _why_unmoved(session: Session, tree: Tree) -> str | None:
    assert tree.catch_all is not None
    return session.counting.moving_obstacle(tree.table, tree.catch_all.name)


def _stays_empty(session: Session, tree: Tree, actions: Sequence[Action]) -> bool:
    """Whether no row would stay in the table, though one leaves."""
    retired = {action.partition for action in retiring(actions)}
    if not retired:
        return False
    # A partition that is divided goes with its own partitions.
    gone = {partition.spelling for partition in tree.partitions if partition.name in retired}
    staying = [leaf for leaf in tree.leaves if leaf.name not in retired and leaf.parent not in gone]
    # The newest first: there, one look finds rows nearly always.
    if session.counting.any_rows(tree, list(reversed(staying))):
        return False
    leaving = [leaf for leaf in tree.leaves if leaf not in staying]
    return session.counting.any_rows(tree, leaving)  # an empty table loses nothing


def _leaf_rows(session: Session, tree: Tree, actions: Sequence[Action]) -> dict[str, int] | None:
    """Of a small table without statistics; None where estimates or bytes have to do."""
    if not retiring(actions) or has_estimates(tree) or sum(leaf.bytes for leaf in tree.leaves) > COUNTED_BELOW:
        return None
    try:
        return session.counting.rows_of_leaves(tree, [leaf for leaf in tree.leaves if not leaf.is_empty])
    except ServerError:
        if session.closed:
            raise
        return None  # a partition that may not be read must not keep the others from being tended
