"""How a live conversion looks: proposed, under way, and at its end."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.upkeep.steps import Phase, SpreadStep
from slabrow.core.values.wording import count, size
from slabrow.show.convert import key_change_data, print_key_changes
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, table
from slabrow.show.partition_list import text_partitions
from slabrow.show.statements import transaction_data
from slabrow.show.steps import step_data, step_transactions, text_standing, text_steps_done
from slabrow.show.words import plural
from slabrow.work.reshaping.live_result import LiveResult

if TYPE_CHECKING:
    from rich.console import Console

    from slabrow.core.upkeep.breaks import Break

_COST = "Until the swap each row written costs the server two to three times its usual work; commits cost as before."


def _data(result: LiveResult) -> Json:
    compared = {each.partition for each in result.compared}
    return {
        "table": str(result.table),
        "layout": str(result.layout),
        "way": result.way,
        "doing": result.doing,
        "old_table": str(result.old_name),
        "phase": str(result.phase),
        "state": "done" if result.is_done else "proposed",
        "rows_copied": result.rows_copied,
        "rows_total": result.rows_total,
        "changes_waiting": result.changes_waiting,
        "seconds_left": result.seconds_left,
        "longest_lock_ms": result.longest_lock_ms,
        "key_changes": [key_change_data(change) for change in result.key_changes],
        "partitions": [
            {
                "name": each.planned.name,
                "rows": each.rows,
                "bytes": each.bytes,
                "compared": each.planned.name in compared,
            }
            for each in (result.seen.sized if result.seen is not None else ())
        ],
        "steps": [step_data(step) for step in result.steps],
        "compared": [
            {"partition": each.partition, "rows_before": each.rows_before, "rows_after": each.rows_after, "same": True}
            for each in result.compared
        ],
        "breaks": [_break_data(each) for each in result.breaks],
        "notes": list(result.notes),
        "layout_lines": list(result.lines),
        "transactions": transaction_data(step_transactions(result.work.steps)),
    }


def _break_data(each: Break) -> Json:
    return {
        "code": each.code,
        "name": each.name,
        "sql": each.sql,
        "text": each.text,
        "instead": each.instead,
        "fails": each.fails,
        "tried": each.tried,
        "weight": each.weight,
    }


def _text_breaks(breaks: Sequence[Break], out: Console) -> None:
    """What fails first, then what goes on and means something else."""
    if not breaks:
        return
    heading(out, "What the new key breaks or changes")
    for each in sorted(breaks, key=lambda each: (not each.fails, -each.weight)):
        where = f"{each.name}: " if each.name else ""
        out.print(bad(f"{where}{each.text}") if each.fails else plain(f"{where}{each.text}"))
        if each.sql:
            sql = " ".join(each.sql.split())
            out.print(plain("    " + (sql if len(sql) <= 110 else sql[:109] + "…")), soft_wrap=True)
        if each.tried:
            out.print(plain(f"    tried, and the server said: {each.tried}"))
        out.print(plain(f"    instead: {each.instead}"))
    out.print()


def _rows(result: LiveResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("step", "state", "duration_ms", "lock_waits", "longest_lock_ms"), [
        [step.name, str(step.state), step.duration_ms, step.lock_waits, step.longest_lock_ms] for step in result.steps
    ]


_HEADS = {
    ("convert", False): "To convert while it is in use: {table}, then by {layout}",
    ("undo", False): "To take back: the conversion of {table}",
    ("drop", False): "To let go of: {old}, the old table of {table}",
    ("give up", False): "To give up: the conversion of {table}",
    ("convert", True): "Converted: {table}, now by {layout}",
    ("undo", True): "Taken back: {table} is as it was, with everything that was written since",
    ("drop", True): "Let go: {old} is dropped",
    ("give up", True): "Given up: {table} is as it was",
}


def _text(result: LiveResult, out: Console) -> None:
    if not result.work.steps:
        _text_status(result, out)
        return
    head = "Ready to swap: {table}" if result.is_paused else _HEADS[result.doing, result.is_done]
    heading(out, head.format(table=result.table, layout=result.layout, old=result.old_name))
    if result.is_done:
        _text_done(result, out)
    else:
        _text_proposed(result, out)


def _text_proposed(result: LiveResult, out: Console) -> None:
    if result.seen is not None:
        found = result.seen.relation
        out.print(
            plain(f"{count(found.rows)} rows (the planner's estimate), none of which is copied.")
            if result.way == "as-is"
            else plain(
                f"{count(found.rows)} rows (the planner's estimate). The copy needs about {size(found.bytes)} "
                "more on the "
                f"disk, and as much of the server's log. The old table stays as {result.old_name}."
            )
        )
        out.print()
        print_key_changes(result.key_changes, out)
        out.print()
        text_partitions(result.seen, out)
        out.print()
    elif result.doing == "convert":
        _text_status(result, out)
        out.print()
    _text_breaks(result.breaks, out)
    for text in result.notes:
        out.print(plain(text))
    out.print(
        plain("The steps, while the table is read and written. Each is recorded; a stop at any moment loses nothing:")
    )
    lines = table("", "step", "what happens", "lock on the table", right=("",), folds=("what happens",))
    for number, step in enumerate(result.work.steps, 1):
        happens, lock = _STEPS.get(step.name, ("", "none"))
        if not happens:
            happens = step.transaction.purpose
        if isinstance(step, SpreadStep) and len(step.pieces) > 1:
            happens += f" ({len(step.pieces)} parts)"
        lines.add_row(str(number), plain(step.name), plain(happens), plain(lock))
    out.print(lines)
    out.print()
    if result.doing == "convert" and result.way == "live":
        out.print(plain(_COST))
    note(out, "Nothing has been done. --go does it" + _more(result))


# What a step does, in words, and the strongest lock that it takes on the table in use.
_SHORT = "no writers, for milliseconds"
_SHORTEST = "nobody else, for milliseconds"
_READS = "as a reader"
_STEPS = {
    "make the new table": ("under a passing name, with the log of changes", "none"),
    "make its partitions": ("empty, without keys", "none"),
    "record changes": ("a trigger writes the keys of changed rows into the log", _SHORT),
    "divide the copy": ("the pieces are listed", _READS),
    "copy rows": ("piece by piece; rows that were changed since are left to the log", _READS),
    "note open transactions": ("those that began before the copy are waited for later", "none"),
    "build keys and indexes": ("partition by partition, then for the whole", "none"),
    "analyse": ("statistics of the whole", "none"),
    "prepare the way back": ("a log for what is written after the swap", "none"),
    "bring changes over": ("batches of the log, until few are left", _READS),
    "compare": ("count and fingerprint of each partition, in one snapshot", _READS),
    "bring the last changes over": ("those that came while rows were compared", _READS),
    "get ready to swap": ("triggers of the new table, for the way back", "none"),
    "say that it is swapped": ("in the record", "none"),
    "say that it is undone": ("in the record", "none"),
    "remove the logs": ("they are dropped", "none"),
    "allow cleaning again": ("the server's own cleaning was kept away from the copy", "none"),
    "wait for old transactions": ("they would find the new table empty", _READS),
    "swap names": ("the last changes come over, names and bindings are exchanged", _SHORTEST),
    "take the triggers off the old table": ("nobody uses the old table any more", "none"),
    "check foreign keys": ("those that were moved over", _READS),
    "keep the old table in step": ("what was written since the swap is brought over", _READS),
    "bring changes back": ("what was written since the swap", _READS),
    "swap back": ("the last changes come back, names and bindings are exchanged", _SHORTEST),
    "check foreign keys again": ("those that were moved back", _READS),
    "remove the new table": ("partition by partition", "none"),
    "stop keeping it in step": ("the trigger is switched off", _SHORT),
    "take the triggers away": ("they are dropped", _SHORTEST),
    "drop the old table": ("with its rows", "none"),
    "clear away": ("the logs are dropped", "none"),
    "say that it is given up": ("so that no other run goes on", "none"),
    "stop recording changes": ("the trigger is switched off", _SHORT),
    "complete it": ("keys and indexes of the new table", "none"),
    "bound the rows to come": ("a check that no row is looked at for", _SHORTEST),
    "check the rows there are": ("the check is validated beside writers", _READS),
    "take it in": ("the table becomes the first partition; no row is looked at", _SHORTEST),
    "check and analyse": ("foreign keys that point here; statistics of the whole", _READS),
    "take the bounds away": ("the check is dropped", _SHORTEST),
    "end": ("the record is closed", "none"),
}


def _more(result: LiveResult) -> str:
    if result.doing == "convert" and result.has_script:
        return "; --script FOLDER writes every statement as psql files, one for each phase."
    return "."


def _text_done(result: LiveResult, out: Console) -> None:
    if result.doing == "convert":
        print_key_changes(result.key_changes, out)
        if result.key_changes:
            out.print()
        if result.compared:
            lines = table("partition", "rows before", "rows after", "", right=("rows before", "rows after"))
            for each in result.compared:
                lines.add_row(plain(each.partition), count(each.rows_before), count(each.rows_after), good("same rows"))
            out.print(lines)
            out.print(
                plain("Both were compared in one snapshot, by count and fingerprint; changes came over after it too.")
            )
            out.print()
    text_steps_done(result.steps, result.longest_lock_ms, out)
    if result.is_paused:
        note(
            out,
            f"{plural(result.changes_waiting, 'change')} wait. Changes go on being recorded; the same command "
            "brings them "
            f"over, and without --pause-before-swap it swaps: slabrow convert {result.table} --go",
        )
    elif result.way == "as-is":
        note(
            out,
            f"{result.old_name} holds everything that was there. Say so in the layout file: {'; '.join(result.lines)}",
        )
    elif result.doing == "convert":
        note(
            out,
            f"The old table stays as {result.old_name} and is kept in step. To go back, with everything written since: "
            f"slabrow convert {result.table} --undo --go. When you are sure: slabrow convert {result.table} --drop-old "
            "--go. Until then the trigger that records changes doubles or triples the server's work for each row "
            "written.",
        )


_PHASES = {
    Phase.PROPOSED: "nothing has begun",
    Phase.COPYING: "rows are being copied",
    Phase.FOLLOWING: "the rows are copied, changes are brought over",
    Phase.SWAPPED: "swapped; the old table is kept in step",
    Phase.DONE: "done, the old table is gone",
    Phase.UNDONE: "taken back",
    Phase.GIVEN_UP: "given up",
}


def _text_status(result: LiveResult, out: Console) -> None:
    heading(out, f"{result.table}, to be by {result.layout}: {_PHASES[result.phase]}")
    text_standing(result, out)


LIVE_SHOWN: Shown[LiveResult] = Shown("convert", _data, _rows, _text)
