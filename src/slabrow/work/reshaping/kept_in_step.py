"""Conversions that are under way, or whose old table is kept in step, as the routine upkeep and the census see them."""

from dataclasses import replace

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.live_plan import Reshaping, ReshapingState
from slabrow.core.upkeep.steps import LongWork
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context, ignore_progress
from slabrow.work.pace import SPEEDS
from slabrow.work.reshaping.plan import plan_again
from slabrow.work.step_runner import StepRunner, ledger_or_none


def finding_of(session: Session, schema: str, record: Reshaping) -> Finding:
    """What a person should know of it."""
    store, begun = session.reshapings(schema), f"{record.began:%Y-%m-%d %H:%M}"
    command = f"slabrow {record.kind} {_named(record)}"
    noun = {"relocate": "move"}.get(record.kind, record.kind)
    what = f"the conversion to {record.layout}" if record.kind == "convert" else f"the {noun} of {record.layout}"
    if record.state == ReshapingState.SWAPPED:
        waiting = store.changes_waiting(record.job, "back")
        return Finding(
            "old_table_kept",
            f"{record.old_name} is kept in step since {what}, begun {begun}; {waiting:,} changes wait: let go of it "
            f"with `{command} --drop-old --go` when you are sure",
        )
    waiting = store.changes_waiting(record.job, "log")
    ends = {
        ReshapingState.GIVEN_UP: f"is being given up: finish that with `{command} --give-up --go`",
        ReshapingState.UNDONE: f"is being undone: finish that with `{command} --undo --go`",
    }
    usual = f"is under way: go on with `{command} --go`, or take it away with `--give-up --go`"
    return Finding(
        "conversion_under_way",
        f"{what}, begun {begun}, {ends.get(record.state, usual)}; its log holds {waiting:,} changes",
    )


def _named(record: Reshaping) -> str:
    """What the command names: the table, or the partitions as they were."""
    sources = record.details.get("sources")
    return str(record.table) if sources is None else " ".join(str(Name(*each["name"])) for each in sources)


def keep_in_step(context: Context, session: Session, layout: Layout, schema: str, record: Reshaping) -> None:
    """Brings over to what was there before what was written since the swap. Does nothing beside another run."""
    root = parse_name(record.root)
    try:
        with runner.sole(session, [root], context.lock_wait_ms):
            if record.kind == "convert":
                plan = plan_again(context, session, layout, schema, record, SPEEDS["normal"]).plan
                work = session.writer.live(plan, 1)
            else:
                from slabrow.work.reshaping.redivision_plan import plan_again as redivided_again

                work = session.writer.redivision(redivided_again(session, schema, record, root, SPEEDS["normal"]), 1)
            quiet = replace(context, progress=ignore_progress)
            steps = StepRunner(quiet, session, ledger_or_none(quiet, session, schema))
            steps.do(LongWork(kind=record.kind, table=record.table, steps=work.in_step()))
            runner.run(session, [work.floor(back=True)], context.lock_wait_ms)
    except Refusal:
        return
