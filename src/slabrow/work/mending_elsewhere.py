"""Mends tables on other servers that lack columns or checks of their partitions here (N50)."""

from __future__ import annotations

from collections.abc import Sequence

from slabrow.core.upkeep.elsewhere import FarLook
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.statements import Remote
from slabrow.core.upkeep.steps import LongWork, Step, StepReport, StepState
from slabrow.core.values.errors import Refusal, ServerError
from slabrow.core.values.names import Name
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.reshaping.redivision_plan import Place, find_partitions
from slabrow.work.reshaping.redivision_result import Piece, RedivisionResult, uncopied
from slabrow.work.reshaping.under_way import refuse_under_way
from slabrow.work.step_runner import StepRunner, ledger_or_none


def mend_elsewhere(
    context: Context, schema: str | None, names: Sequence[Name], server: str, *, go: bool
) -> RedivisionResult | None:
    """Adds the columns and checks that tables on that server lack; without `go` says what would be done.

    names    of the partitions
    schema   of the ledger; None for none
    Returns None when a partition does not lie on that server, or no table there differs.
    Raises Refusal for what a person has to decide, ServerError when that server does not answer.
    """
    with context.connected() as session:
        place = find_partitions(session, names)
        looks = _looks(session, place, server)
        if looks is None:
            return None
        if not go:
            return _mended(context, session, schema, place, looks, go=False)
        with runner.sole(session, [place.root], context.lock_wait_ms):
            context.guard_pretended_clock(session.catalogue.moment())
            found = _looks(session, place, server)  # another run may have been at it
            return None if found is None else _mended(context, session, schema, place, found, go=True)


def _looks(session: Session, place: Place, server: str) -> list[FarLook] | None:
    names = [each.name for each in place.partitions]
    if any(each.server != server for each in place.partitions):
        return None
    found = session.partitions.look_there(names)
    for name in names:
        if found[name].error:
            raise ServerError(f"{server} could not be asked", found=found[name].error)
    looks = [found[name] for name in names]
    return looks if any(look.can_be_mended or look.faults for look in looks) else None


def _mended(
    context: Context, session: Session, schema: str | None, place: Place, looks: Sequence[FarLook], *, go: bool
) -> RedivisionResult:
    faults = [f"{look.table.table}: {fault}" for look in looks for fault in look.faults]
    if not any(look.can_be_mended for look in looks):
        raise Refusal(
            "Slabrow cannot mend these differences on the other server",
            found="\n".join(faults),
            fix="follow the step in each line",
        )
    refuse_under_way(session, schema, place.root)
    steps = _steps(session, place, looks)
    work = LongWork(kind="relocate", table=place.root, steps=steps)
    reports = tuple(StepReport(name=step.name, state=StepState.PROPOSED) for step in steps)
    if go:
        reports = StepRunner(context, session, ledger_or_none(context, session, schema)).do(work)
    pieces = tuple(
        Piece(name=each.name, bounds=each.bounds, rows=each.rows, places=(each.server or "",))
        for each in place.partitions
    )
    statements = [part.sql for step in steps for part in step.transaction.statements if isinstance(part, Remote)]
    notes = [f"{look.table.table}: {said}." for look in looks for said in look.said()]
    notes += [f"Left to you: {fault}." for fault in faults]
    notes += [] if go else [f"{sql};" for sql in statements]
    return uncopied(place.root, "mend", work, reports, pieces, pieces, notes, is_done=go)


def _steps(session: Session, place: Place, looks: Sequence[FarLook]) -> tuple[Step, ...]:
    tree = place.tree
    facts = session.partitions.facts(place.root, tree.table, [each.name for each in place.partitions])
    with session.reading():
        shape = session.catalogue.shape(tree.table)
    key = tuple(column.name or column.text for column in tree.key)
    return tuple(
        session.writer.mending_there(
            shape, look, Planned(each.name.table, each.bounds), key, facts.divided_by, condition
        )
        for each, look, condition in zip(place.partitions, looks, facts.conditions, strict=True)
        if look.can_be_mended
    )
