"""How proofs look."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.pruning.reasons import Reason
from slabrow.core.pruning.verdicts import PrunedAt, Verdict
from slabrow.core.values.one_line import one_line
from slabrow.core.values.wording import count, milliseconds, share
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, print_table, table
from slabrow.show.words import bar, listed, plural
from slabrow.work.proving.proof import NOT_TOUCHED, Measured, Proof, ProveResult

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

_BAR_WIDTH = 12
_DECIDED = {
    PrunedAt.PLAN: "while planning",
    PrunedAt.START: "at start",
    PrunedAt.RUN: "while running",
    PrunedAt.NEVER: "–",
}


def _data(result: ProveResult) -> Json:
    return {
        "queries": [_proof_data(proof) for proof in result.proofs],
        "unproven": [
            {
                "name": each.query.name,
                "line": each.query.line,
                "reason": each.reason,
                "error": each.is_error,
                "limit": None if each.query.limit is None else str(each.query.limit),
                "ok": False if each.is_error or each.is_unchecked else None,
            }
            for each in result.unproven
        ],
        "pruning": result.pruning,
        "pruning_share": result.pruning_share,
        "crowded": [
            {
                "table": table,
                "partitions": each.total,
                "sensible_partitions": each.sensible,
                "queries": list(each.queries),
                "planning_ms": each.planning_ms,
                "execution_ms": each.execution_ms,
            }
            for table, each in result.crowded.items()
        ],
        "read_share": result.read_share,
        "broken": result.broken,
    }


def _proof_data(proof: Proof) -> Json:
    return {
        "name": proof.query.name,
        "sql": proof.query.sql,
        "table": proof.table,
        "total": proof.total,
        "predicted": None if proof.predicted is None else list(proof.predicted),
        "planned": None if proof.planned is None else list(proof.planned),
        "executed": None if proof.executed is None else list(proof.executed),
        "verdict": str(proof.verdict),
        "pruned_at": str(proof.pruned_at),
        "reasons": [{"code": str(each.reason), "text": each.text, "fragment": each.fragment} for each in proof.reasons],
        "rewrite": None if proof.rewrite is None else proof.rewrite.sql,
        "rewrite_notes": [] if proof.rewrite is None else list(proof.rewrite.notes),
        "rewrite_same_rows": proof.is_same,
        "not_offered": [{"fragment": each.fragment, "why": each.why} for each in proof.unequal],
        "warnings": [
            {
                "code": str(each.mistake.slip),
                "text": each.mistake.text,
                "fragment": each.mistake.fragment,
                "instead": each.mistake.instead,
                "rows": each.rows,
            }
            for each in proof.mistakes
        ],
        "parameter_types": None if proof.types is None else list(proof.types),
        "generic": None
        if proof.generic is None
        else {
            "leaves": list(proof.generic.leaves),
            "predicted": None if proof.generic.predicted is None else list(proof.generic.predicted),
            "pruned_at": str(proof.generic.pruned_at),
        },
        "planning_ms": proof.planning_ms if proof.measured is None else proof.measured.planning_ms,
        "execution_ms": proof.execution_ms,
        "blocks": None if proof.measured is None else proof.measured.blocks,
        "measured": _measured_data(proof.measured),
        "contrast": _measured_data(proof.contrast),
        "note": proof.note,
        "limit": None if proof.limit is None else str(proof.limit),
        "ok": proof.is_ok,
    }


def _measured_data(measured: Measured | None) -> Json | None:
    if measured is None:
        return None
    return {
        "leaves": measured.leaves,
        "rows_read": measured.read,
        "rows_sent": measured.sent,
        "rows_returned": measured.returned,
        "blocks_hit": measured.hit,
        "blocks_read": measured.missed,
        "planning_ms": measured.planning_ms,
        "execution_ms": measured.execution_ms,
    }


_HEADER = (
    "name",
    "table",
    "touched",
    "total",
    "verdict",
    "pruned_at",
    "planning_ms",
    "execution_ms",
    "blocks",
    "rows_read",
    "rows_returned",
    "limit",
    "ok",
)


def _rows(result: ProveResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return _HEADER, [
        [
            proof.query.name,
            proof.table,
            proof.touched,
            proof.total,
            proof.verdict,
            proof.pruned_at,
            proof.planning_ms,
            proof.execution_ms,
            None if proof.measured is None else proof.measured.blocks,
            None if proof.measured is None else proof.measured.read,
            None if proof.measured is None else proof.measured.returned,
            proof.limit,
            proof.is_ok,
        ]
        for proof in result.proofs
    ]


def _text(result: ProveResult, out: "Console") -> None:
    ran = any(proof.executed is not None for proof in result.proofs)
    asked = any(proof.planned is not None for proof in result.proofs)
    how = "as the server ran it" if ran else "as the server plans it"
    if not asked:
        how = "predicted, without asking a server"
    if not result.proofs:
        how = "none"
    heading(out, f"Partitions that each query touches, {how}")
    measured: tuple[str, ...] = ("planning",) if asked else ()
    if ran:
        measured = ("planning", "execution", "rows read", "returned", "blocks")
    lines = table(
        "query", "table", "touches", "", "verdict", "decided", *measured, "limit", right=("touches", *measured)
    )
    for proof in result.proofs:
        lines.add_row(
            plain(proof.query.name),
            plain(proof.table),
            f"{'up to ' if proof.types is not None else ''}{proof.touched} of {proof.total}",
            bar(proof.touched / max(1, proof.total), _BAR_WIDTH),
            _verdict(proof),
            "at start, by values" if proof.types and proof.pruned_at is PrunedAt.START else _DECIDED[proof.pruned_at],
            *(_measured(proof, ran) if asked else ()),
            _limit(proof),
        )
    if result.proofs:
        print_table(out, lines, ("", "returned", "blocks", "rows read", "planning", "table", "execution", "decided"))
    gone = [each for each in result.unproven if not each.is_error and each.reason != NOT_TOUCHED]
    for each in result.unproven:
        if each.is_error:
            out.print(bad(f"{each.query.name} (line {each.query.line}): {each.reason}"))
    if gone:
        out.print(plain(f"The server would not plan {len(gone)} of the workload, the first: {gone[0].reason}"))
    for each in result.unchecked:
        out.print(bad(f"{each.query.name} (line {each.query.line}): its limit was not checked, as it {each.reason}"))
    if elsewhere := [
        each.query.name for each in result.unproven if not each.is_error and each not in gone and not each.is_unchecked
    ]:
        out.print(plain(f"No partitioned table that was asked for is touched by: {listed(elsewhere, 12)}."))
    _contrasts(result, out)
    _prepared(result, out)
    _reasons(result, out)
    _unsent(result, out)
    _rewrites(result, out)
    _mistakes(result, out)
    _costliest(result, out)
    _crowded(result, out)
    for proof in result.proofs:
        if proof.note:
            out.print(plain(f"{proof.query.name}: {proof.note}"))
    _summary(result, out)


def _rows_read(found: Measured) -> str:
    """Of a parallel scan the server gives the mean of its workers, rounded: the sum is right to three digits."""
    if not found.is_mean or found.read < 1_000:
        return count(found.read)
    step = 10 ** (len(str(found.read)) - 3)
    return f"about {count(round(found.read / step) * step)}"


def _contrasts(result: ProveResult, out: "Console") -> None:
    """The same execution with pruning switched off, beside what it does with it."""
    found = [(proof, proof.measured, proof.contrast) for proof in result.proofs if proof.contrast is not None]
    if not found:
        return
    out.print()
    heading(out, "With pruning, and with pruning switched off")
    numbers = ("partitions", "rows read", "blocks", "planning", "execution")
    lines = table("query", "table", *numbers, right=numbers)
    for proof, on, off in found:
        if on is None or off is None:
            continue
        lines.add_row(
            plain(proof.query.name),
            plain(proof.table),
            f"{count(on.leaves)} / {count(off.leaves)}",
            f"{_rows_read(on)} / {_rows_read(off)}",
            f"{count(on.blocks)} / {count(off.blocks)}",
            f"{milliseconds(on.planning_ms)} / {milliseconds(off.planning_ms)}",
            f"{milliseconds(on.execution_ms)} / {milliseconds(off.execution_ms)}",
        )
    print_table(out, lines, ("planning", "table", "rows read"))


def _prepared(result: ProveResult, out: "Console") -> None:
    """Prepared statements whose generic plan touches other partitions than the one for these values."""
    found = [
        (proof, proof.generic)
        for proof in result.proofs
        if proof.generic is not None
        and (set(proof.generic.leaves) != set(proof.planned or proof.predicted or ()) or proof.types)
    ]
    if not found:
        return
    out.print()
    heading(out, "Prepared statements that touch more with the generic plan")
    lines = table("query", "table", "with its values", "with the generic plan", "decided")
    for proof, generic in found:
        own = len(proof.planned or proof.predicted or ())
        lines.add_row(
            plain(proof.query.name),
            plain(proof.table),
            f"{own} of {proof.total}",
            f"{len(generic.leaves)} of {proof.total}",
            _DECIDED[generic.pruned_at],
        )
    print_table(out, lines, ("table",))


def _mistakes(result: ProveResult, out: "Console") -> None:
    """Rows at the end of a day or a month that are lost or read twice."""
    found = [(proof, each) for proof in result.proofs for each in proof.mistakes]
    if not found:
        return
    out.print()
    heading(out, "Conditions that may select other rows than those intended")
    for proof, each in found[:_MOST_REWRITES]:
        out.print(plain(f"  {proof.query.name}   {_cut(each.mistake.fragment)}"))
        rows = "" if each.rows is None else f" ({plural(each.rows, 'row')} here)"
        out.print(bad(f"    {each.mistake.text}{rows}"))
        if each.mistake.instead is not None:
            out.print(good(f"    perhaps intended: {_cut(each.mistake.instead)}"))
    if len(found) > _MOST_REWRITES:
        note(out, f"  … {len(found) - _MOST_REWRITES} more, in json")


def _crowded(result: ProveResult, out: "Console") -> None:
    """Tables whose queries plan longer than they execute."""
    for name, each in result.crowded.items():
        out.print()
        heading(out, f"Planning takes longer than executing on {name}")
        times = f"planning {milliseconds(each.planning_ms)}, executing {milliseconds(each.execution_ms)}"
        out.print(plain(f"  {listed(each.queries, 8)}: together {times}."))
        if each.sensible is not None and each.gains:
            words = f"planning costs more than running: use {count(each.sensible)} partitions or fewer"
            out.print(bad(f"  Of {plural(each.total, 'partition')} {words}."))
        elif not each.gains:
            out.print(
                bad(
                    "  None of these queries reads less because of the partitions: keep only as many as retiring "
                    "old rows needs."
                )
            )
        else:
            out.print(plain("  For all queries together the number of partitions is not the cause."))


def _reasons(result: ProveResult, out: "Console") -> None:
    """Why the queries that read every partition do: each reason once, with its queries and what is written there."""
    found: dict[str, list[tuple[str, str]]] = {}
    for proof in result.proofs:
        if proof.verdict is Verdict.EVERY and proof.total > 1:
            for each in (each for each in proof.reasons if each.reason is not Reason.NOT_SENT):
                found.setdefault(each.text, []).append((proof.query.name, each.fragment))
    if not found:
        return
    out.print()
    heading(out, "Why every partition is read")
    for text, places in found.items():
        out.print(plain(f"  {text[0].upper()}{text[1:]}:"))
        for name, fragment in places[:_MOST_PLACES]:
            out.print(plain(f"    {name}   {_cut(fragment)}"))
        if len(places) > _MOST_PLACES:
            out.print(plain(f"    … {len(places) - _MOST_PLACES} more, in json"))


def _unsent(result: ProveResult, out: "Console") -> None:
    """Conditions for which another server sends whole leaves."""
    found = [proof for proof in result.proofs if proof.unsent]
    if not found:
        return
    out.print()
    heading(out, "What other servers are not sent")
    out.print(plain("  The leaf is read whole there and sent over, and the condition is worked out here:"))
    for proof in found[:_MOST_PLACES]:
        sent = "" if proof.measured is None else f"   {plural(proof.measured.sent, 'row')} sent"
        out.print(plain(f"    {proof.query.name}   {_cut(proof.unsent[0])}{sent}"))
    if len(found) > _MOST_PLACES:
        out.print(plain(f"    … {len(found) - _MOST_PLACES} more, in json"))


def _rewrites(result: ProveResult, out: "Console") -> None:
    """Better conditions, and whether both were run and returned the same rows."""
    found = [(proof, proof.rewrite) for proof in result.proofs if proof.rewrite is not None]
    unequal = [(proof, each) for proof in result.proofs for each in proof.unequal]
    if not found and not unequal:
        return
    out.print()
    heading(out, "What to write instead")
    for proof, rewrite in found[:_MOST_REWRITES]:
        for before, after in zip(rewrite.before, rewrite.after, strict=True):
            # In full: whoever takes it has to be able to copy it.
            out.print(plain(f"  {proof.query.name}   {one_line(before)}"), soft_wrap=True)
            out.print(good(f"    → {one_line(after)}"), soft_wrap=True)
        said = [*rewrite.notes, *(["both were run, and return the same rows"] if proof.is_same else [])]
        if said:
            note(out, f"      {'; '.join(said)}")
    if len(found) > _MOST_REWRITES:
        note(out, f"  … {len(found) - _MOST_REWRITES} more, in json")
    for proof, each in unequal[:_MOST_REWRITES]:
        out.print(plain(f"  {proof.query.name}   {_cut(each.fragment)}"))
        note(out, f"    not offered: {each.why}")


_MOST_REWRITES = 12
_MOST_PLACES = 6
_MOST_COSTLY = 10


def _costliest(result: ProveResult, out: "Console") -> None:
    """The queries that read every partition, the most rows a day first, where it is known how often each runs."""
    found = [proof for proof in result.proofs if proof.verdict is Verdict.EVERY and proof.total > 1]
    if not found or not _has_weights(result):
        return
    found.sort(key=lambda proof: -proof.query.weight * max(1, proof.all_rows))
    out.print()
    heading(out, "The most expensive queries that read every partition")
    lines = table(
        "", "runs a day", "partitions a day", "query", right=("runs a day", "partitions a day"), folds=("query",)
    )
    for proof in found[:_MOST_COSTLY]:
        a_day = count(round(proof.query.weight * proof.total))
        lines.add_row(plain(proof.query.name), count(round(proof.query.weight)), a_day, plain(_line(proof.query.sql)))
    print_table(out, lines, ("query",))


def _has_weights(result: ProveResult) -> bool:
    return any(proof.query.weight != 1 for proof in result.proofs)


def _line(sql: str) -> str:
    text = " ".join(sql.split())
    return text if len(text) <= 80 else text[:79] + "…"


def _cut(text: str) -> str:
    return text if len(text) <= 100 else text[:99] + "…"


def _verdict(proof: Proof) -> "Text":
    return bad("every") if proof.verdict is Verdict.EVERY else plain(proof.verdict)


def _measured(proof: Proof, ran: bool) -> list[str]:
    found = proof.measured
    planning = milliseconds(proof.planning_ms if found is None else found.planning_ms)
    if not ran:
        return [planning]
    if found is None:
        return [planning, "–", "–", "–", "–"]
    blocks = f"{count(found.hit)} + {count(found.missed)}" if found.missed else count(found.hit)
    return [planning, milliseconds(found.execution_ms), _rows_read(found), count(found.returned), blocks]


def _limit(proof: Proof) -> "Text":
    wanted = [str(proof.limit)] if proof.limit is not None else []
    wanted += [f"by {_MOMENTS[proof.query.decided]}"] if proof.query.decided is not None else []
    if not wanted:
        return plain("")
    text = ", ".join(wanted)
    return good(f"{text} holds") if proof.is_ok else bad(f"{text} broken")


_MOMENTS = {PrunedAt.PLAN: "planning", PrunedAt.START: "the start", PrunedAt.RUN: "running"}


def _summary(result: ProveResult, out: "Console") -> None:
    out.print()
    if not result.proofs:
        out.print(plain("No query touches a partitioned table."))
        if result.unchecked:
            out.print(bad(f"{plural(len(result.unchecked), 'limit')} could not be checked: that is a failure."))
        return
    limits = [proof for proof in result.proofs if proof.is_ok is not None]
    broken = sum(proof.is_ok is False for proof in limits)
    saved = (
        "how many rows this saves is not known."
        if result.read_share is None
        else f"weighted by runs a day, the workload reads partitions with {share(result.read_share)} of the rows "
        "that it would read without pruning."
    )
    by_weight = f", {share(result.pruning_share)} of the runs a day" if _has_weights(result) else ""
    out.print(plain(f"{result.pruning} of {len(result.proofs)} prune{by_weight}; {saved}"))
    if any(proof.measured is not None and proof.measured.missed for proof in result.proofs):
        note(out, "Blocks: found in memory + read into it.")
    same, more, fewer = result.predictions
    if any(proof.planned is not None for proof in result.proofs):
        out.print(
            plain(f"The prediction was exact for {plural(same, 'query', 'queries')}, too high for {count(more)}.")
        )
    if fewer:
        out.print(bad(f"For {fewer} the prediction was too low: that is a fault of Slabrow, please report it."))
    if result.unchecked:
        out.print(bad(f"{plural(len(result.unchecked), 'limit')} could not be checked: that is a failure."))
    if limits:
        verdict = (
            f"{plural(len(limits), 'limit')}, {broken} broken."
            if broken
            else f"{plural(len(limits), 'limit')}, all hold."
        )
        out.print((bad if broken else good)(verdict))


SHOWN: Shown[ProveResult] = Shown("prove", _data, _rows, _text)
