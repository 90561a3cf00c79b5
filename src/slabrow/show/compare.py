"""How a comparison looks."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.values.wording import count, milliseconds
from slabrow.show.output import Json, Shown, bad, heading, note, plain, print_table, table
from slabrow.work.compare import Comparison, MedianRun

if TYPE_CHECKING:
    from rich.console import Console


def _data(result: Comparison) -> Json:
    return {
        "before": result.before,
        "after": result.after,
        "rows_before": result.rows_before,
        "rows_after": result.rows_after,
        "queries": [
            {
                "name": each.query.name,
                "weight": each.query.weight,
                "same_rows": each.has_same_rows,
                "before": _measured_data(each.before),
                "after": _measured_data(each.after),
            }
            for each in result.compared
        ],
        "left_out": [{"name": each.query.name, "reason": each.reason} for each in result.left],
    }


def _measured_data(measured: MedianRun) -> Json:
    return {
        "blocks": measured.blocks,
        "planning_ms": measured.planning_ms,
        "execution_ms": measured.execution_ms,
        "rows": measured.rows,
    }


def _rows(result: Comparison) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    header = (
        "name",
        "same_rows",
        "blocks_before",
        "blocks_after",
        "planning_ms_before",
        "planning_ms_after",
        "execution_ms_before",
        "execution_ms_after",
    )
    return header, [
        [
            each.query.name,
            each.has_same_rows,
            each.before.blocks,
            each.after.blocks,
            each.before.planning_ms,
            each.after.planning_ms,
            each.before.execution_ms,
            each.after.execution_ms,
        ]
        for each in result.compared
    ]


def _text(result: Comparison, out: "Console") -> None:
    heading(out, f"The same queries: {result.before} (before) and {result.after} (after)")
    if not result.are_alike:
        rows = f"about {count(result.rows_before)} rows before, {count(result.rows_after)} after"
        out.print(bad(f"The tables do not hold the same rows: {rows}. Less time may only mean fewer rows."))
    numbers = ("blocks before", "blocks after", "time before", "time after", "factor")
    lines = table("query", *numbers, "rows", right=numbers)
    for each in result.compared:
        lines.add_row(
            plain(each.query.name),
            count(each.before.blocks),
            count(each.after.blocks),
            milliseconds(_total(each.before)),
            milliseconds(_total(each.after)),
            _factor(_total(each.before), _total(each.after)),
            "same" if each.has_same_rows else "differ",
        )
    print_table(out, lines, ("factor", "blocks before", "blocks after"))
    equal = result.equal
    if equal:
        before, after = (
            sum(_total(side) * each.query.weight for each, side in sides)
            for sides in ([(each, each.before) for each in equal], [(each, each.after) for each in equal])
        )
        blocks = [sum(getattr(each, side).blocks * each.query.weight for each in equal) for side in ("before", "after")]
        out.print(
            plain(
                f"A day of the {len(equal)} queries that return the same rows: {count(blocks[0])} blocks before, "
                f"{count(blocks[1])} after; {milliseconds(before)} before, {milliseconds(after)} after "
                f"(planning and execution, weighted by runs a day)."
            )
        )
    if len(equal) < len(result.compared):
        note(
            out,
            f"{len(result.compared) - len(equal)} return other rows than before, and are not in that sum: rows came "
            "or went since, or a LIMIT without ORDER BY chose others.",
        )
    if result.left:
        reasons: dict[str, list[str]] = {}
        for left in result.left:
            reasons.setdefault(left.reason, []).append(left.query.name)
        for reason, names in reasons.items():
            note(out, f"Left out, {reason}: {', '.join(names)}.")


def _total(measured: MedianRun) -> float:
    return measured.planning_ms + measured.execution_ms


def _factor(before: float, after: float) -> str:
    if not before or not after:
        return "–"
    if 0.95 < before / after < 1.05:
        return "the same"
    return f"{before / after:.1f} × faster" if before >= after else f"{after / before:.1f} × slower"


SHOWN: Shown[Comparison] = Shown("compare", _data, _rows, _text)
