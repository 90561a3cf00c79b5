"""How a conversion looks, before and after, and the dropping of the old table."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.table.shape import KeyChange
from slabrow.core.upkeep.steps import StepReport
from slabrow.core.values.wording import count, size
from slabrow.show.output import Json, Shown, good, heading, note, plain, table
from slabrow.show.partition_list import text_partitions
from slabrow.show.statements import print_statements, transaction_data
from slabrow.show.words import plural
from slabrow.work.convert import ConvertResult, DropResult, catch_all_rows

if TYPE_CHECKING:
    from rich.console import Console


def key_change_data(change: KeyChange) -> Json:
    """A changed key as JSON."""
    return {"name": change.name, "what": change.what, "before": list(change.before), "after": list(change.after)}


def print_key_changes(changes: Sequence[KeyChange], out: "Console") -> None:
    """N15: which unique keys must take in the partition key, and what that gives up."""
    for change in changes:
        before, after = (
            ", ".join(column or "an expression" for column in columns) for columns in (change.before, change.after)
        )
        out.print(plain(f"The {change.what} {change.name} ({before}) becomes ({after})."))
    if changes:
        note(
            out,
            "A unique key of a partitioned table must contain the partition key, because uniqueness is checked inside "
            "one partition only. From now on the server accepts the same old key twice, with different partition keys.",
        )


def _data(result: ConvertResult) -> Json:
    compared = {each.partition: each for each in result.compared}
    return {
        "table": result.preview.relation.spelling,
        "layout": str(result.layout),
        "old_table": str(result.old_name),
        "key_changes": [key_change_data(change) for change in result.key_changes],
        "partitions": [
            {
                "name": sized.planned.name,
                "rows": sized.rows,
                "bytes": sized.bytes,
                "compared": sized.planned.name in compared,
            }
            for sized in result.preview.sized
        ],
        "catch_all_rows": catch_all_rows(result),
        "transactions": transaction_data(result.transactions),
        "steps": [_step_data(step) for step in result.steps],
        "state": "done" if result.is_done else "proposed",
        "way": "locked",
        "phase": "swapped" if result.is_done else "proposed",
        "rows_copied": sum(each.rows_after for each in result.compared),
        "rows_total": sum(each.rows or 0 for each in result.preview.sized),
        "changes_waiting": 0,
        "longest_lock_ms": max((step.duration_ms or 0.0 for step in result.steps), default=0.0),
        "compared": [
            {"partition": each.partition, "rows_before": each.rows_before, "rows_after": each.rows_after, "same": True}
            for each in result.compared
        ],
    }


def _step_data(step: StepReport) -> Json:
    return {
        "name": step.name,
        "state": str(step.state),
        "duration_ms": step.duration_ms,
        "lock_waits": step.lock_waits,
        "longest_lock_ms": step.duration_ms,
        "rows": None,
    }


def _rows(result: ConvertResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    after = {each.partition: each.rows_after for each in result.compared}
    return ("partition", "rows_before", "rows_after"), [
        [sized.planned.name, sized.rows, after.get(sized.planned.name, 0) if result.is_done else None]
        for sized in result.preview.sized
    ]


def _text(result: ConvertResult, out: "Console") -> None:
    name = result.preview.relation.spelling
    if result.is_done:
        _text_done(result, out)
        return
    heading(out, f"To convert: {name}, then by {result.layout}")
    out.print(
        plain(
            f"{count(result.preview.relation.rows)} rows (the planner's estimate), "
            f"{size(result.preview.relation.bytes)} to be copied; the old table stays as {result.old_name}."
        )
    )
    out.print()
    print_key_changes(result.key_changes, out)
    text_partitions(result.preview, out)
    out.print()
    out.print(plain("In one transaction; the table can be read meanwhile, writers wait until its end:"))
    for transaction in result.transactions:
        print_statements(transaction, out)
    out.print()
    note(out, "Nothing has been done. --go does it; --script FILE writes it as SQL.")


def _text_done(result: ConvertResult, out: "Console") -> None:
    heading(out, f"Converted: {result.layout.table}, now by {result.layout}")
    print_key_changes(result.key_changes, out)
    out.print()
    lines = table("partition", "rows before", "rows after", "", right=("rows before", "rows after"))
    for each in result.compared:
        lines.add_row(plain(each.partition), count(each.rows_before), count(each.rows_after), good("same rows"))
    out.print(lines)
    rows = sum(each.rows_after for each in result.compared)
    out.print(
        plain(
            f"{plural(rows, 'row')} in {plural(len(result.compared), 'partition')} with rows: counts and fingerprints "
            "are equal in each of them."
        )
    )
    if strays := catch_all_rows(result):
        out.print(plain(f"{count(strays)} of them lie in the catch-all."))
    note(
        out,
        f"The old table stays as {result.old_name}. When you are sure: "
        f"slabrow convert {result.layout.table} --drop-old --go",
    )


SHOWN: Shown[ConvertResult] = Shown("convert", _data, _rows, _text)


def _drop_data(result: DropResult) -> Json:
    return {
        "old_table": str(result.old_name),
        "rows": result.rows,
        "bytes": result.bytes,
        "transactions": transaction_data([result.transaction]),
        "state": "done" if result.is_done else "proposed",
    }


def _drop_rows(result: DropResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("old_table", "rows", "bytes", "state"), [
        [str(result.old_name), result.rows, result.bytes, "done" if result.is_done else "proposed"]
    ]


def _drop_text(result: DropResult, out: "Console") -> None:
    what = f"{result.old_name} with about {count(result.rows)} rows, {size(result.bytes)}"
    if result.is_done:
        out.print(plain(f"Dropped: {what}."))
        return
    out.print(plain(f"To drop: {what}."))
    note(out, "Nothing has been done, and it cannot be taken back. --go does it; --script FILE writes it as SQL.")


DROP_SHOWN: Shown[DropResult] = Shown("convert", _drop_data, _drop_rows, _drop_text)
