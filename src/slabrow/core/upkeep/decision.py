"""Decides what one run of upkeep does about one table. Pure: `Observed` holds everything that was read before.

The order of thought: what differs from the layout (reconcile), without partitions under hold, with sweeps for rows
that fell into the catch-all; then the guards, which may refuse what leaves. Coming partitions are made all the same:
without them the next rows would fall into the catch-all, or be refused.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from slabrow.core.table.bounds import Range
from slabrow.core.table.counted import CatchAllCount
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action, Archive, Create, Detach, Drop, Merge, Sweep
from slabrow.core.upkeep.catch_all_rows import CatchAllRows, with_sweeps
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.guards import guard_retiring, retiring
from slabrow.core.upkeep.ledger_entries import WrittenEntry
from slabrow.core.upkeep.planned_partitions import describe_clock
from slabrow.core.upkeep.reconcile import Reconciliation
from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
from slabrow.core.values.errors import Refusal, SlabrowError
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True, kw_only=True)
class Observed:
    """Everything that deciding about one table needs.

    now           what time it is for the table: the clock, or the greatest key of whole numbers
    due           layout against tree
    findings      what observing itself had to say
    holds         the partitions under hold, by name
    lying         rows in the catch-all, for the bounds that `wanted_counts` names; None where none were counted
    copying       for sweeps of many rows; None where none is needed, or the catch-all cannot be copied from
    why_unmoved   why rows cannot be moved out of the catch-all; None when they can
    stays_empty   whether the partitions that stay hold no row, though one that leaves does: then nothing may leave
    leaf_rows     counted rows of each leaf; None where estimates have to do
    """

    layout: Layout
    tree: Tree
    now: datetime | int
    due: Reconciliation
    facts: UpkeepFacts
    findings: tuple[Finding, ...] = ()
    holds: Mapping[str, WrittenEntry]
    lying: CatchAllCount | None = None
    copying: Copying | None = None
    why_unmoved: str | None = None
    stays_empty: bool = False
    leaf_rows: Mapping[str, int] | None = None


@dataclass(frozen=True, slots=True)
class Proposal:
    """An action, and why it is not done; None when it may be."""

    action: Action
    why_skipped: str | None = None


@dataclass(frozen=True, slots=True)
class Decision:
    """refusal   the guard that keeps partitions from leaving
    catch_all_rows   rows in the catch-all that belong elsewhere, or nowhere
    """

    proposals: tuple[Proposal, ...]
    leftovers: tuple[Finding, ...]
    refusal: SlabrowError | None
    catch_all_rows: int


def decide(
    observed: Observed, *, allowed: int | None, barred: SlabrowError | None, spell: Callable[[Name], str]
) -> Decision:
    """allowed   how many partitions may leave, when somebody named it
    barred    why none may leave in this run, whatever the layout says
    spell     how the server writes the name of a table
    """
    unheld, held = without_held(observed)
    lying = CatchAllRows(tuple(unheld))
    if observed.lying is not None:
        lying = with_sweeps(observed.layout, observed.tree, unheld, observed.lying)
    leftovers = (
        *observed.due.leftovers,
        *observed.findings,
        *held,
        *lying.findings,
        *_unpublished(observed.facts.traits.out_of_reach, lying.actions, spell),
        *_unwritten(observed.facts.traits.named_policies, lying.actions, spell),
    )
    refusal = _refusal(observed, lying.actions, allowed, barred)
    proposals = tuple(Proposal(action, _why_skipped(observed, action, refusal)) for action in lying.actions)
    return Decision(proposals, leftovers, refusal, lying.rows)


def without_held(observed: Observed) -> tuple[list[Action], list[Finding]]:
    """The due actions, without those on partitions under hold."""
    kept: list[Action] = []
    findings: list[Finding] = []
    for action in observed.due.actions:
        is_leaving = isinstance(action, Detach | Drop | Archive)
        names = action.sources if isinstance(action, Merge) else (action.partition,) if is_leaving else ()
        written = next((found for name in names if (found := observed.holds.get(name.table)) is not None), None)
        if written is None:
            kept.append(action)
            continue
        until = (written.entry.details or {}).get("until")
        text = f"{action.partition} is under hold by {written.role}{f' until {until}' if until else ''}: it stays"
        findings.append(Finding("hold", text, str(action.partition)))
    return kept, findings


def _refusal(
    observed: Observed, actions: Sequence[Action], allowed: int | None, barred: SlabrowError | None
) -> SlabrowError | None:
    leaving = retiring(actions)
    if not leaving:
        return None
    try:
        if observed.stays_empty:
            raise _without_rows(observed, leaving)
        guard_retiring(observed.layout, observed.tree, actions, allowed, observed.leaf_rows)
    except Refusal as refusal:
        return refusal
    return barred


def _without_rows(observed: Observed, leaving: Sequence[Action]) -> Refusal:
    """A clock or a `keep` that is wrong must not take away the last data: some rows have to stay."""
    names = {action.partition for action in leaving}
    newest = max(
        child.spelling for child in observed.tree.children if child.name in names and isinstance(child.bounds, Range)
    )
    many = "1 partition" if len(names) == 1 else f"{len(names)} partitions"
    return Refusal(
        f"retiring {many} would leave {observed.layout.table} without rows",
        found=f"it is taken to be {describe_clock(observed.now)}, and the newest rows stand in {newest} or before",
        fix="check --now, the clock, and `keep` in the layout",
    )


def _why_skipped(observed: Observed, action: Action, refusal: SlabrowError | None) -> str | None:
    match action:
        case Detach() | Drop() | Archive():
            return None if refusal is None else f"it stays: {refusal.problem}"
        case Sweep() if action.rows > observed.layout.at_most_swept:
            return (
                f"{action.rows:,} rows are more than `at_most_swept` ({observed.layout.at_most_swept:,}): writers wait "
                "while they move, so raise it for an hour when few write"
            )
        case Sweep() if observed.why_unmoved is not None:
            return f"its rows were not moved: {observed.why_unmoved}"
        case _:
            return None


def _made(actions: Sequence[Action], spell: Callable[[Name], str]) -> str:
    return ", ".join(spell(action.partition) for action in actions if isinstance(action, Create | Sweep))


def _unpublished(publications: Sequence[str], actions: Sequence[Action], spell: Callable[[Name], str]) -> list[Finding]:
    """The publications that a person must extend, because otherwise new rows are not replicated."""
    tables = _made(actions, spell)
    if not publications or not tables:
        return []
    names = ", ".join(spell(Name(None, publication)) for publication in publications)
    text = (
        f"publication {names} holds partitions one by one, and belongs to another role: its owner has to add "
        f"{tables}, or publish the whole table"
    )
    return [Finding("publication", text)]


def _unwritten(policies: Sequence[str], actions: Sequence[Action], spell: Callable[[Name], str]) -> list[Finding]:
    """Policies that a person has to write anew. Until then the partition itself shows nobody these rows."""
    tables = _made(actions, spell)
    if not policies or not tables:
        return []
    names = ", ".join(spell(Name(None, policy)) for policy in policies)
    return [
        Finding("policy", f"policy {names} names its own partition in its condition: create it by hand for {tables}")
    ]
