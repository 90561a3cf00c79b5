"""How a table looks that becomes a partition, and a partition that becomes a table."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.upkeep.steps import SpreadStep
from slabrow.core.values.wording import rows_of
from slabrow.show.bounds import BOUNDS_HEADER, bounds_data, bounds_row, held
from slabrow.show.output import Json, Shown, heading, note, plain, table
from slabrow.show.statements import transaction_data
from slabrow.show.steps import step_data, step_transactions, text_steps_done
from slabrow.work.membership import MembershipResult

if TYPE_CHECKING:
    from rich.console import Console


def _data(result: MembershipResult) -> Json:
    return {
        "doing": result.doing,
        "table": str(result.root),
        "parent": str(result.parent),
        "partition": str(result.table),
        **bounds_data(result.bounds),
        "rows": result.rows,
        "state": "done" if result.is_done else "proposed",
        "longest_lock_ms": result.longest_lock_ms,
        "steps": [step_data(step) for step in result.steps],
        "back": result.back,
        "notes": list(result.notes),
        "transactions": transaction_data(step_transactions(result.work.steps)),
    }


def _rows(result: MembershipResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("partition", *BOUNDS_HEADER, "rows", "state"), [
        [str(result.table), *bounds_row(result.bounds), result.rows, "done" if result.is_done else "proposed"]
    ]


_WIDEST = 400  # letters of a statement that are shown; JSON has all of it
_HEADS = {
    ("adopt", False): "To bring in: {table}, as a partition of {parent}",
    ("adopt", True): "Brought in: {table}, as a partition of {parent}",
    ("release", False): "To let out of {parent}: {table}",
    ("release", True): "Let out of {parent}: {table}, a table of its own",
}


def _text(result: MembershipResult, out: Console) -> None:
    heading(out, _HEADS[result.doing, result.is_done].format(table=result.table, parent=result.parent))
    low, high = held(result.bounds)
    rows = "" if result.rows is None else f"{rows_of(result.rows)}, "
    out.print(plain(f"{rows}keys from {low} (in) to {high} (out)" if high else f"{rows}keys: {low}"))
    for text in result.notes:
        out.print(plain(text))
    out.print()
    if result.is_done:
        text_steps_done(result.steps, result.longest_lock_ms, out)
        if result.back is not None:
            note(out, f"To take it back: {result.back}")
        return
    lines = table("", "step", "statements", right=("",), folds=("statements",))
    for number, step in enumerate(result.work.steps, 1):
        parts = [piece.transaction for piece in step.pieces] if isinstance(step, SpreadStep) else []
        sql = "; ".join(sql for made in transaction_data([*parts, step.transaction]) for sql in made["statements"])
        sql = " ".join(sql.split())
        lines.add_row(str(number), plain(step.name), plain(sql if len(sql) <= _WIDEST else sql[: _WIDEST - 1] + "…"))
    out.print(lines)
    note(out, "Nothing has been done. --go does it.")


SHOWN = {doing: Shown(doing, _data, _rows, _text) for doing in ("adopt", "release")}
