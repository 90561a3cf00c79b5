"""`relocate`: partitions are moved to another tablespace, or to another server (N14, N50)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Partition
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.relocation import LeafPlace, PlaceFacts, RelocationPlan, is_in_use, seconds_to_move
from slabrow.core.upkeep.steps import LongWork, Step, StepReport, StepState
from slabrow.core.values.errors import Refusal, ServerError, UsageError, nearest
from slabrow.core.values.names import Name
from slabrow.core.values.wording import size
from slabrow.servers.protocols import LedgerStore, ReshapingStore, Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.reshaping import moving
from slabrow.work.reshaping.redivision_plan import Place, find_partitions, plan_elsewhere, plan_relocation
from slabrow.work.reshaping.redivision_result import Piece, RedivisionOptions, RedivisionResult, uncopied
from slabrow.work.reshaping.under_way import refuse_under_way
from slabrow.work.step_runner import StepRunner, ledger_or_none

_LOCK_WAIT_MS = 100
_MOST_NAMED = 3


def usual_way(context: Context, names: Sequence[Name]) -> str:
    """`direct` for ranges that are no longer written to, else `live`. Raises UsageError for what is no partition."""
    with context.connected() as session:
        place = find_partitions(session, names)
        if any(leaf.server is not None for each in place.partitions for leaf in place.tree.leaves_of(each)):
            return "live"
        return "live" if is_in_use(place.tree, place.partitions) else "direct"


def relocate_directly(
    context: Context, schema: str | None, names: Sequence[Name], target: str, *, go: bool
) -> RedivisionResult:
    """Moves partitions, with their own partitions, one leaf after the other; without `go` says what would be done.

    schema   of the ledger; None for none
    Raises UsageError for a tablespace that is not there, ServerError without the right to use it, Refusal while the
    table is being changed.
    """
    with context.connected() as session:
        place = find_partitions(session, names)
        if not go:
            return _directly(context, session, schema, place, target, go=False)
        with runner.sole(session, [place.root], context.lock_wait_ms):
            session.execution.end_orphans(place.root)
            context.guard_pretended_clock(session.catalogue.moment())
            return _directly(context, session, schema, find_partitions(session, names), target, go=True)


def _directly(
    context: Context, session: Session, schema: str | None, place: Place, target: str, *, go: bool
) -> RedivisionResult:
    refuse_under_way(session, schema, place.root)
    facts = places_of(session, place, target)
    moved = tuple(leaf for leaf in facts.leaves if not leaf.is_at(target))
    steps = session.writer.relocating(RelocationPlan(place.root, moved, target))
    work = LongWork(kind="relocate", table=place.root, steps=steps)
    reports = tuple(StepReport(name=step.name, state=StepState.PROPOSED) for step in steps)
    if go and steps:
        reports = StepRunner(context, session, ledger_or_none(context, session, schema)).do(work)
    before = tuple(_piece(each, place, facts) for each in place.partitions)
    after = tuple(replace(each, places=(target,)) for each in before)
    notes = _notes(moved, facts, target)
    return uncopied(place.root, "relocate", work, reports, before, after, notes, is_done=go or not steps)


def move_leaves(
    context: Context, session: Session, ledger: LedgerStore | None, root: Name, leaves: Sequence[Name], target: str
) -> None:
    """As a part of upkeep, by a caller that has the table for itself.

    Raises Refusal for a tablespace that is not there, ServerError without the right to use it.
    """
    facts = session.partitions.places(leaves, target)
    try:
        _check_target(session, facts, target)
    except UsageError as error:
        raise Refusal(error.problem, found=error.found, fix=error.fix) from None
    moved = tuple(leaf for leaf in facts.leaves if not leaf.is_at(target))
    steps = session.writer.relocating(RelocationPlan(root, moved, target))
    # Upkeep may wait longer for other locks; behind these, readers queue.
    quick = replace(context, lock_wait_ms=min(context.lock_wait_ms, _LOCK_WAIT_MS))
    StepRunner(quick, session, ledger).do(LongWork(kind="relocate", table=root, steps=steps))


def places_of(session: Session, place: Place, target: str) -> PlaceFacts:
    """Where the leaves of some partitions lie. Raises UsageError when the target is none, ServerError without a right
    to use it.
    """
    leaves = [leaf.name for each in place.partitions for leaf in place.tree.leaves_of(each)]
    facts = session.partitions.places(leaves, target)
    _check_target(session, facts, target)
    return facts


def _check_target(session: Session, facts: PlaceFacts, target: str) -> None:
    if target not in facts.known:
        near = nearest(target, facts.known)
        raise UsageError(
            f"there is no tablespace {target}",
            found=f"there are {', '.join(facts.known)}",
            fix=f"did you mean {near}?" if near else "a superuser makes one: CREATE TABLESPACE … LOCATION '/a/folder'",
        )
    if not facts.may_use:
        role = session.catalogue.current_role()
        raise ServerError(
            f"this role may not put tables into the tablespace {target}",
            fix=f"ask for: GRANT CREATE ON TABLESPACE {session.writer.identifier(target)} "
            f"TO {session.writer.identifier(role)}",
        )


def live_plan(
    session: Session,
    layout: Layout | None,
    schema: str,
    store: ReshapingStore,
    name: Name,
    options: RedivisionOptions,
) -> tuple[RedivisionPlan, Place, tuple[Step, ...]]:
    """Of a move while the partition is in use, with the steps that come before it.

    Raises Refusal when it lies there already.
    """
    target = options.tablespace
    lies = session.partitions.far_tables(name).get(name)
    if options.elsewhere is not None:
        return moving.plan_out(session, layout, schema, store, name, options, lies)
    if target is None:
        raise UsageError(
            "nothing says where the partition is to lie", fix="name a tablespace or a server: --to-tablespace NAME"
        )
    place = find_partitions(session, [name])
    if lies is not None:
        _check_target(session, session.partitions.places([], target), target)
        plan, place = plan_elsewhere(session, layout, schema, store, name, lies)
        return replace(plan, tablespace=target, lay_in=(lies.server,)), place, ()
    facts = places_of(session, place, target)
    if all(leaf.is_at(target) for leaf in facts.leaves):
        raise Refusal(f"{name} lies in {target} already, with its indexes", fix="there is nothing to move")
    plan, place = plan_relocation(session, layout, schema, store, name, target)
    lay_in = dict.fromkeys(space for leaf in facts.leaves for space in leaf.places)
    return replace(plan, lay_in=tuple(lay_in)), place, ()


def _piece(partition: Partition, place: Place, facts: PlaceFacts) -> Piece:
    names = {leaf.name for leaf in place.tree.leaves_of(partition)}
    lying = [space for leaf in facts.leaves if leaf.name in names for space in leaf.places]
    return Piece(name=partition.name, bounds=partition.bounds, rows=partition.rows, places=tuple(dict.fromkeys(lying)))


def _notes(moved: Sequence[LeafPlace], facts: PlaceFacts, target: str) -> list[str]:
    """What a person should know before."""
    if not moved:
        names = ", ".join(str(leaf.name) for leaf in facts.leaves[:_MOST_NAMED])
        names += f" and {len(facts.leaves) - _MOST_NAMED} more" if len(facts.leaves) > _MOST_NAMED else ""
        return [f"{names} and all indexes lie in {target} already: nothing is touched."]
    total = sum(leaf.bytes_to_move(target) for leaf in moved)
    longest = max(moved, key=lambda leaf: leaf.bytes if leaf.place != target else 0)
    rows = longest.bytes if longest.place != target else 0
    notes = [f"{size(total)} are needed in {target}, and as much in the server's log."]
    if rows:
        notes.append(
            f"While the rows of a partition are copied, its readers and writers wait, at most about "
            f"{seconds_to_move(rows):.1f} s ({longest.name}, {size(rows)}; a slow disk takes longer). Others do not: "
            "only queries that need this partition. --way live copies it while it is used."
        )
    if facts.standbys:
        notes.append(
            f"{facts.standbys} standby{'s replay' if facts.standbys > 1 else ' replays'} it, and needs the same room "
            "in the same place."
        )
    return notes
