"""Conversions that are under way, or whose old table is kept in step, as the routine upkeep and the census see them."""

from dataclasses import replace

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.steps import LongWork
from slabrow.core.values.errors import Refusal
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context, ignore_progress
from slabrow.work.pace import SPEEDS
from slabrow.work.reshaping.plan import plan_again
from slabrow.work.step_runner import StepRunner, ledger_or_none


def finding_of(session: Session, schema: str, record: Reshaping) -> Finding:
    """What a person should know of it."""
    store = session.reshapings(schema)
    if record.state == ReshapingState.SWAPPED:
        waiting = store.changes_waiting(record.job, "back")
        return Finding(
            "old_table_kept",
            f"{record.old_name} is kept in step since the conversion of {record.began:%Y-%m-%d %H:%M}, "
            f"{waiting:,} changes "
            f"wait: let go of it with `slabrow convert {record.table} --drop-old --go` when you are sure",
        )
    waiting = store.changes_waiting(record.job, "log")
    what = {
        ReshapingState.GIVEN_UP: "is being given up: finish that with `slabrow convert {} --give-up --go`",
        ReshapingState.UNDONE: "is being undone: finish that with `slabrow convert {} --undo --go`",
    }.get(record.state, "is under way: go on with `slabrow convert {} --go`, or take it away with `--give-up --go`")
    return Finding(
        "conversion_under_way",
        f"the conversion to {record.layout}, begun {record.began:%Y-%m-%d %H:%M}, {what.format(record.table)}; its log "
        f"holds {waiting:,} changes",
    )


def keep_in_step(context: Context, session: Session, layout: Layout, schema: str, record: Reshaping) -> None:
    """Brings over to the old table what was written since the swap. Does nothing while another run is at work on it."""
    try:
        with runner.sole(session, [record.table], context.lock_wait_ms):
            planned = plan_again(context, session, layout, schema, record, SPEEDS["normal"])
            live = session.writer.live(planned.plan, 1)
            quiet = replace(context, progress=ignore_progress)
            steps = StepRunner(quiet, session, ledger_or_none(quiet, session, schema))
            steps.do(LongWork(kind="convert", table=record.table, steps=live.in_step()))
            runner.run(session, [live.floor(back=True)], context.lock_wait_ms)
    except Refusal:
        return
