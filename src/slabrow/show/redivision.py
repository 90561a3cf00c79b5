"""How a split or a merge looks: proposed, under way, and at its end."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.upkeep.statements import Pipe, Remote
from slabrow.core.upkeep.steps import Phase, SpreadStep
from slabrow.core.values.wording import count
from slabrow.show.bounds import BOUNDS_HEADER, bounds_data, bounds_row, held
from slabrow.show.output import Json, Shown, heading, note, plain, table
from slabrow.show.statements import transaction_data
from slabrow.show.steps import step_data, step_transactions, text_standing, text_steps_done
from slabrow.show.words import plural
from slabrow.work.reshaping.redivision_result import Piece, RedivisionResult

if TYPE_CHECKING:
    from rich.console import Console


_FORWARD = ("split", "merge", "relocate")


def _data(result: RedivisionResult) -> Json:
    return {
        "kind": result.kind,
        "table": str(result.root),
        "doing": result.doing,
        "phase": str(result.phase),
        "state": "done" if result.is_done else "proposed",
        "before": [
            {**_piece_data(each), "kept_as": None if kept is None else str(kept)}
            for each, kept in zip(result.before, result.kept_as, strict=True)
        ],
        "after": [_piece_data(each) for each in result.after],
        "rows_copied": result.rows_copied,
        "rows_total": result.rows_total,
        "changes_waiting": result.changes_waiting,
        "seconds_left": result.seconds_left,
        "longest_lock_ms": result.longest_lock_ms,
        "steps": [step_data(step) for step in result.steps],
        "compared": [
            {"partition": each.partition, "rows_before": each.rows_before, "rows_after": each.rows_after, "same": True}
            for each in result.compared
        ],
        "notes": list(result.notes),
        "transactions": transaction_data(step_transactions(result.work.steps)),
    }


def _piece_data(piece: Piece) -> Json:
    places = {"tablespaces": list(piece.places)} if piece.places else {}
    return {"name": str(piece.name), **bounds_data(piece.bounds), "rows": piece.rows, **places}


def _rows(result: RedivisionResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("when", "partition", *BOUNDS_HEADER, "rows"), [
        [when, str(each.name), *bounds_row(each.bounds), each.rows]
        for when, pieces in (("before", result.before), ("after", result.after))
        for each in pieces
    ]


_HEADS = {
    ("relocate", False): "To move while it is in use: {old}",
    ("relocate", True): "Moved: {old}",
    ("mend", False): "To mend where it lies: {old}",
    ("mend", True): "Mended where it lies: {old}",
    ("split", False): "To split while it is in use: {old}",
    ("merge", False): "To merge while they are in use: {old}",
    ("undo", False): "To take back: the {kind} of {old}",
    ("drop", False): "To let go of: {kept}",
    ("give up", False): "To give up: the {kind} of {old}",
    ("split", True): "Split: {old}",
    ("merge", True): "Merged: {old}",
    ("undo", True): "Taken back: {old}, with everything that was written since",
    ("drop", True): "Let go: {kept}",
    ("give up", True): "Given up: {old} as before",
}


def _text(result: RedivisionResult, out: Console) -> None:
    if not result.work.steps and result.doing == "relocate" and result.is_done and None in result.kept_as:
        for text in result.notes:
            out.print(plain(text))
        return
    if not result.work.steps:
        _text_status(result, out)
        return
    head = "Ready to swap: {old}" if result.is_paused else _HEADS[result.doing, result.is_done]
    if None in result.kept_as:
        head = head.replace(" while it is in use", "").replace(" while they are in use", "")
    heading(out, head.format(old=_few(result.before), kept=_few_names(result.kept_as), kind=result.kind))
    if result.doing in _FORWARD:
        _text_pieces(result, out)
    if result.is_done:
        _text_done(result, out)
    else:
        _text_proposed(result, out)


def _few(pieces: Sequence[Piece]) -> str:
    return _few_names([piece.name for piece in pieces])


def _few_names(names: Sequence[object]) -> str:
    shown = ", ".join(map(str, names[:3]))
    return shown if len(names) <= 3 else f"{shown} and {len(names) - 3} more"


def _text_pieces(result: RedivisionResult, out: Console) -> None:
    places = ("lies in",) if any(each.places for each in (*result.before, *result.after)) else ()
    heads = ("", "partition", "from (in)", "to (out)", "rows", *places)
    lines = table(*heads, right=("rows",), folds=("from (in)",))
    for when, pieces in (("old", result.before), ("new", result.after)):
        for each in pieces:
            rows = "" if each.rows is None else count(each.rows)
            where = [plain(", ".join(each.places))] if places else []
            lines.add_row(when, *map(plain, (str(each.name), *held(each.bounds))), rows, *where)
    out.print(lines)
    out.print()


# What a step does, in words, and the strongest lock that it takes on what is in use.
_SHORT = "no writers, for milliseconds"
_SHORTEST = "nobody else, for milliseconds"
_READS = "as a reader"
_STEPS = {
    "make the stage": ("a table of Slabrow's own, and the log of changes", "none"),
    "make the new partitions": ("empty, under passing names, on the stage", "none"),
    "record changes": ("a trigger on each old partition writes the keys of changed rows into the log", _SHORT),
    "divide the copy": ("the pieces are listed", _READS),
    "copy rows": ("piece by piece; rows that were changed since are left to the log", _READS),
    "note open transactions": ("those that began before the copy are waited for later", "none"),
    "build keys and indexes": ("new partition by new partition", "none"),
    "prepare the way back": ("a log for what is written after the swap", "none"),
    "bring changes over": ("batches of the log, until few are left", _READS),
    "compare": ("count and fingerprint of all rows, in one snapshot", _READS),
    "add foreign keys": ("not checked yet, on the new partitions", "none; no writers of the table referred to"),
    "check foreign keys": ("so that the swap need not look at rows", _READS),
    "allow cleaning again": ("the server's own cleaning was kept away from the copy", "none"),
    "wait for old transactions": ("they would find the new partitions empty", _READS),
    "swap": ("the last changes come over, old partitions leave and new ones come", _SHORTEST),
    "take the triggers off the old partitions": ("nobody uses them any more", "none"),
    "keep the old partitions at hand": ("with a check of their bounds, on the stage", "none"),
    "keep the old partitions in step": ("what was written since the swap is brought over", _READS),
    "bring changes back": ("what was written since the swap", _READS),
    "add foreign keys again": ("on the old partitions", "none; no writers of the table referred to"),
    "check foreign keys again": ("so that the swap need not look at rows", _READS),
    "bring the last changes back": ("those that came meanwhile", _READS),
    "swap back": ("the last changes come back, new partitions leave and old ones come", _SHORTEST),
    "note open transactions again": ("a guard stays until they have ended", "none"),
    "remove the new partitions": ("one by one", "none"),
    "wait for transactions from before": ("they would miss rows without the guard", "none"),
    "take the guard away": ("a trigger of the table", _SHORTEST),
    "stop keeping them in step": ("the triggers are switched off", _SHORT),
    "take the triggers away": ("they are dropped", _SHORTEST),
    "drop the old partitions": ("with their rows", "none"),
    "say that it is given up": ("so that no other run goes on", "none"),
    "stop recording changes": ("the triggers are switched off", _SHORT),
    "divide": ("the server copies the rows of these partitions, wholly or not at all", "no writers, meanwhile"),
    "end": ("the record is closed", "none"),
    "clear away": ("the logs are dropped", "none"),
    "see that the other server answers": ("so that nobody waits for it behind a lock", "none"),
    "give each partition a key of its own": ("a unique index is built beside writers", "none"),
    "give up the keys of the table": ("they are dropped; each partition has its own by now", _SHORTEST),
}


# Of steps that are named after a partition.
_OF_ONE = {
    "clear up ": ("what a build that was stopped has left is dropped", "none"),
    "move indexes of ": ("each is built anew in the other place, beside readers and writers", "none"),
    "mend ": ("columns and checks that are missing there are added", "none here"),
    "move rows of ": ("the server copies them", "nobody else on this partition, for the copy"),
}


def _of_one(name: str) -> tuple[str, str] | None:
    return next((words for begin, words in _OF_ONE.items() if name.startswith(begin)), None)


def _text_proposed(result: RedivisionResult, out: Console) -> None:
    for text in result.notes:
        out.print(plain(text))
    out.print(
        plain("The steps, while the table is read and written. Each is recorded; a stop at any moment loses nothing:")
    )
    lines = table("", "step", "what happens", "lock on what is in use", right=("",), folds=("what happens",))
    for number, step in enumerate(result.work.steps, 1):
        happens, lock = _STEPS.get(step.name) or _of_one(step.name) or (step.transaction.purpose, "none")
        if isinstance(step, SpreadStep) and len(step.pieces) > 1:
            happens += f" ({len(step.pieces)} parts)"
        lines.add_row(str(number), plain(step.name), plain(happens), plain(lock))
    out.print(lines)
    out.print()
    parts = (part for step in result.work.steps for part in step.transaction.statements)
    is_far = any(isinstance(part, Remote | Pipe) for part in parts)
    has_script = result.doing in _FORWARD and None not in result.kept_as and not is_far
    more = "; --script FOLDER writes every statement as psql files." if has_script else "."
    note(out, "Nothing has been done. --go does it" + more)


def _text_done(result: RedivisionResult, out: Console) -> None:
    for each in result.compared if result.doing in _FORWARD else ():
        out.print(
            plain(
                f"{count(each.rows_before)} rows before and {count(each.rows_after)} after were the same in one "
                "snapshot, by count and fingerprint; changes came over after it too."
            )
        )
    text_steps_done(result.steps, result.longest_lock_ms, out)
    names = " ".join(str(each.name) for each in result.before)
    if result.is_paused:
        note(
            out,
            f"{plural(result.changes_waiting, 'change')} wait. Changes go on being recorded; the same command brings "
            "them over, and without --pause-before-swap it swaps.",
        )
    elif result.doing in _FORWARD and None not in result.kept_as:
        note(
            out,
            f"What was there before stays as {_few_names(result.kept_as)} and is kept in step. To go back, with "
            f"everything written since: slabrow {result.kind} {names} --undo --go. When you are sure: slabrow "
            f"{result.kind} {names} --drop-old --go.",
        )


_PHASES = {
    Phase.PROPOSED: "nothing has begun",
    Phase.COPYING: "rows are being copied",
    Phase.FOLLOWING: "the rows are copied, changes are brought over",
    Phase.SWAPPED: "swapped; the old partitions are kept in step",
    Phase.DONE: "done, the old partitions are gone",
    Phase.UNDONE: "taken back",
    Phase.GIVEN_UP: "given up",
}


def _text_status(result: RedivisionResult, out: Console) -> None:
    heading(out, f"{result.kind} of {_few(result.before)}: {_PHASES[result.phase]}")
    text_standing(result, out)


SHOWN = {kind: Shown(kind, _data, _rows, _text) for kind in _FORWARD}
