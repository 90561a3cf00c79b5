"""How proofs look."""

from collections.abc import Iterable, Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from slabrow.core.touch import PrunedAt, Verdict
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, print_table, table
from slabrow.show.words import bar, count, listed, milliseconds, plural, share
from slabrow.work.prove import Proof, ProveResult

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
            {"name": each.query.name, "line": each.query.line, "reason": each.reason, "error": each.is_error}
            for each in result.unproven
        ],
        "pruning": result.pruning,
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
        "planning_ms": proof.planning_ms,
        "execution_ms": proof.execution_ms,
        "blocks": proof.blocks,
        "limit": None if proof.limit is None else str(proof.limit),
        "ok": proof.is_ok,
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
            proof.blocks,
            proof.limit,
            proof.is_ok,
        ]
        for proof in result.proofs
    ]


def _text(result: ProveResult, out: Console) -> None:
    ran = any(proof.executed is not None for proof in result.proofs)
    asked = any(proof.planned is not None for proof in result.proofs)
    how = "as the server ran it" if ran else "as the server plans it" if asked else "predicted, without asking a server"
    heading(out, f"Partitions that each query touches, {how}")
    measured = ("planning", "execution", "blocks") if ran else ("planning",) if asked else ()
    lines = table(
        "query", "table", "touches", "", "verdict", "decided", *measured, "limit", right=("touches", *measured)
    )
    for proof in result.proofs:
        lines.add_row(
            plain(proof.query.name),
            plain(proof.table),
            f"{proof.touched} of {proof.total}",
            bar(proof.touched / max(1, proof.total), _BAR_WIDTH),
            _verdict(proof),
            _DECIDED[proof.pruned_at],
            *(_measured(proof, ran) if asked else ()),
            _limit(proof),
        )
    print_table(out, lines, ("", "blocks", "planning", "decided", "table", "execution"))
    for each in result.unproven:
        if each.is_error:
            out.print(bad(f"{each.query.name} (line {each.query.line}): {each.reason}"))
    if elsewhere := [each.query.name for each in result.unproven if not each.is_error]:
        out.print(plain(f"No partitioned table that was asked for is touched by: {listed(elsewhere, 12)}."))
    _reasons(result, out)
    _rewrites(result, out)
    _costliest(result, out)
    for proof in result.proofs:
        if proof.note:
            out.print(plain(f"{proof.query.name}: {proof.note}"))
    _summary(result, out)


def _reasons(result: ProveResult, out: Console) -> None:
    """Why the queries that read every partition do: each reason once, with its queries and what is written there."""
    found: dict[str, list[tuple[str, str]]] = {}
    for proof in result.proofs:
        if proof.verdict is Verdict.EVERY and proof.total > 1:
            for each in proof.reasons:
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


def _rewrites(result: ProveResult, out: Console) -> None:
    """What to write instead, with whether both were run and returned the same rows."""
    found = [(proof, proof.rewrite) for proof in result.proofs if proof.rewrite is not None]
    if not found:
        return
    out.print()
    heading(out, "What to write instead")
    for proof, rewrite in found[:_MOST_REWRITES]:
        for before, after in zip(rewrite.before, rewrite.after, strict=True):
            out.print(plain(f"  {proof.query.name}   {_cut(before)}"))
            out.print(good(f"    → {_cut(after)}"))
        said = [*rewrite.notes, *(["both were run, and return the same rows"] if proof.is_same else [])]
        if said:
            note(out, f"      {'; '.join(said)}")
    if len(found) > _MOST_REWRITES:
        note(out, f"  … {len(found) - _MOST_REWRITES} more, in json")


_MOST_REWRITES = 12
_MOST_PLACES = 6
_MOST_COSTLY = 10


def _costliest(result: ProveResult, out: Console) -> None:
    """Those that read every partition, the most rows a day first, where it is known how often each runs."""
    found = [proof for proof in result.proofs if proof.verdict is Verdict.EVERY and proof.total > 1]
    if not found or all(proof.query.weight == 1 for proof in found):
        return
    found.sort(key=lambda proof: -proof.query.weight * max(1, proof.all_rows))
    out.print()
    heading(out, "What costs most of what reads every partition")
    lines = table("", "runs a day", "partitions a day", "query", right=("runs a day", "partitions a day"))
    for proof in found[:_MOST_COSTLY]:
        a_day = count(round(proof.query.weight * proof.total))
        lines.add_row(plain(proof.query.name), count(round(proof.query.weight)), a_day, plain(_line(proof.query.sql)))
    print_table(out, lines, ("query",))


def _line(sql: str) -> str:
    text = " ".join(sql.split())
    return text if len(text) <= 80 else text[:79] + "…"


def _cut(text: str) -> str:
    return text if len(text) <= 100 else text[:99] + "…"


def _verdict(proof: Proof) -> Text:
    return bad("every") if proof.verdict is Verdict.EVERY else plain(proof.verdict)


def _measured(proof: Proof, ran: bool) -> list[str]:
    planning = milliseconds(proof.planning_ms)
    return [planning, milliseconds(proof.execution_ms), count(proof.blocks)] if ran else [planning]


def _limit(proof: Proof) -> Text:
    wanted = [str(proof.limit)] if proof.limit is not None else []
    wanted += [f"by {_MOMENTS[proof.query.decided]}"] if proof.query.decided is not None else []
    if not wanted:
        return plain("")
    text = ", ".join(wanted)
    return good(f"{text} holds") if proof.is_ok else bad(f"{text} broken")


_MOMENTS = {PrunedAt.PLAN: "planning", PrunedAt.START: "the start", PrunedAt.RUN: "running"}


def _summary(result: ProveResult, out: Console) -> None:
    out.print()
    if not result.proofs:
        out.print(plain("No query touches a partitioned table."))
        return
    limits = [proof for proof in result.proofs if proof.is_ok is not None]
    broken = sum(proof.is_ok is False for proof in limits)
    saved = (
        "how many rows that saves is not known here."
        if result.read_share is None
        else f"weighted by runs a day, the workload reads partitions with {share(result.read_share)} of the rows "
        "that it would read without pruning."
    )
    out.print(plain(f"{result.pruning} of {len(result.proofs)} prune; {saved}"))
    same, more, fewer = result.predictions
    if any(proof.planned is not None for proof in result.proofs):
        out.print(plain(f"Predicted from the SQL and the bounds alone: the plan's leaves for {same}, more for {more}."))
    if fewer:
        out.print(bad(f"For {fewer} fewer were predicted than the server plans: that is a fault, please report it."))
    if limits:
        verdict = (
            f"{plural(len(limits), 'limit')}, {broken} broken."
            if broken
            else f"{plural(len(limits), 'limit')}, all hold."
        )
        out.print((bad if broken else good)(verdict))


SHOWN: Shown[ProveResult] = Shown("prove", _data, _rows, _text)
