"""How a comparison looks."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.statistics.measured import Measured, Side
from slabrow.core.values.prices import Prices
from slabrow.core.values.wording import count, milliseconds
from slabrow.core.weighing.money import DAYS_A_MONTH, Money
from slabrow.show.output import Json, Shown, bad, heading, note, plain, print_table, table
from slabrow.work.compare import Comparison

if TYPE_CHECKING:
    from rich.console import Console


def _data(result: Comparison) -> Json:
    return {
        "before": None if result.before is None else result.before.table,
        "after": result.after.table,
        "rows_before": None if result.before is None else result.before.rows,
        "rows_after": result.after.rows,
        "rows_apart": result.rows_apart,
        "sides": {
            "before": None if result.before is None else _side_data(result.before),
            "after": _side_data(result.after),
        },
        "times": result.times,
        "queries": [
            {
                "name": each.name,
                "sql": each.sql,
                "weight": each.weight,
                "same_rows": None if each.before is None else each.has_same_rows,
                "before": None if each.before is None else _measured_data(each.before),
                "after": _measured_data(each.after),
            }
            for each in result.compared
        ],
        "left_out": [{"name": each.name, "reason": each.reason} for each in result.left],
        "day": _day_data(result),
        "money": _money_data(result),
    }


def _side_data(side: Side) -> Json:
    return {
        "table": side.table,
        "rows": side.rows,
        "counted": side.is_counted,
        "bytes": side.bytes,
        "server": side.server,
    }


def _measured_data(measured: Measured) -> Json:
    return {
        "blocks": measured.blocks,
        "reads": measured.reads,
        "rows_sent": measured.sent,
        "planning_ms": measured.planning_ms,
        "execution_ms": measured.execution_ms,
        "waiting_ms": measured.waiting_ms,
        "least_ms": measured.least_ms,
        "most_ms": measured.most_ms,
        "rows": measured.rows,
        "print": measured.print,
    }


def _day_data(result: Comparison) -> Json | None:
    if not (equal := result.equal):
        return None
    then, now = [(each.weight, was) for each, was in equal], [(each.weight, each.after) for each, _ in equal]
    return {"queries": len(equal), "before": _sums(then), "after": _sums(now)}


def _sums(queries: Sequence[tuple[float, Measured]]) -> Json:
    return {
        "blocks": sum(weight * each.blocks for weight, each in queries),
        "reads": sum(weight * each.reads for weight, each in queries),
        "rows_sent": sum(weight * each.sent for weight, each in queries),
        "ms": sum(weight * each.total_ms for weight, each in queries),
    }


def _money_data(result: Comparison) -> Json | None:
    money = result.money
    if money is None or result.prices is None:
        return None
    before, after = money
    return {
        "currency": result.prices.currency,
        "period": "month",
        "before": before.total,
        "after": after.total,
        "parts": {
            part: {"before": getattr(before, part), "after": getattr(after, part)}
            for part in ("reads", "storage", "cpu")
        },
        "assumptions": assumptions(result.prices),
    }


def assumptions(prices: Prices) -> list[str]:
    """What the sums of money take for granted."""
    return [
        f"A month has {DAYS_A_MONTH:.1f} days, and each query runs as often a day as its weight says.",
        f"A million blocks that the server did not find in its own memory cost {prices.million_blocks:g} "
        f"{prices.currency}: as many as in these runs, one query after the other.",
        f"A gigabyte stored for a month, with indexes, costs {prices.gb_month:g} {prices.currency}.",
        f"An hour of a processor costs {prices.cpu_hour:g} {prices.currency}: the time of a query without its waiting "
        "for the disk.",
    ]


def _rows(result: Comparison) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    measures = ("blocks", "reads", "planning_ms", "execution_ms", "least_ms", "most_ms")
    header = ("name", "same_rows", *(f"{measure}_{side}" for measure in measures for side in ("before", "after")))
    return header, [
        [
            each.name,
            None if each.before is None else each.has_same_rows,
            *(
                None if side is None else getattr(side, measure)
                for measure in measures
                for side in (each.before, each.after)
            ),
        ]
        for each in result.compared
    ]


def _text(result: Comparison, out: "Console") -> None:
    if result.before is None:
        _measured_text(result, out)
        return
    heading(out, f"The same queries: {result.before.table} (before) and {result.after.table} (after)")
    if result.before.server != result.after.server:
        note(out, f"On two servers: {result.before.server} before, {result.after.server} after.")
    if (apart := result.rows_apart) is not None:
        rows = f"{count(result.before.rows)} rows before, {count(result.after.rows)} after, {count(apart)} apart"
        out.print(bad(f"The tables do not hold the same rows: {rows}. Less time may only mean fewer rows: no sums."))
    numbers = ("blocks before", "blocks after", "read before", "read after", "time before", "time after", "factor")
    lines = table("query", *numbers, "slowest to fastest", "rows", right=(*numbers, "slowest to fastest"))
    for each in result.compared:
        assert each.before is not None
        is_comparable = each.has_same_rows and apart is None
        lines.add_row(
            plain(each.name),
            count(each.before.blocks),
            count(each.after.blocks),
            count(each.before.reads),
            count(each.after.reads),
            milliseconds(each.before.total_ms),
            milliseconds(each.after.total_ms),
            _factor(each.before.total_ms, each.after.total_ms) if is_comparable else "–",
            f"{_spread(each.before)}, {_spread(each.after)}",
            "same" if each.has_same_rows else "differ",
        )
    print_table(
        out, lines, ("slowest to fastest", "read before", "read after", "factor", "blocks before", "blocks after")
    )
    times = "once" if result.times == 1 else f"{result.times} times"
    note(
        out,
        f"Each query ran {times} on each side, in turn; times are medians, planning and execution together. The spread "
        "is how many times longer the slowest run took than the fastest, before and after.",
    )
    _day_text(result, out)
    _money_text(result, out)
    _left_text(result, out)


def _measured_text(result: Comparison, out: "Console") -> None:
    heading(out, f"The queries on {result.after.table}, to be compared later")
    numbers = ("blocks", "read", "planning", "execution", "slowest to fastest", "rows returned")
    lines = table("query", *numbers, right=numbers)
    for each in result.compared:
        after = each.after
        lines.add_row(
            plain(each.name),
            count(after.blocks),
            count(after.reads),
            milliseconds(after.planning_ms),
            milliseconds(after.execution_ms),
            _spread(after),
            count(after.rows),
        )
    print_table(out, lines, ("slowest to fastest", "rows returned"))
    note(out, "Save it with --save FILE, and compare with it later: --with-saved FILE.")
    _left_text(result, out)


def _day_text(result: Comparison, out: "Console") -> None:
    assert result.before is not None
    day = _day_data(result)
    if day is not None:
        before, after = day["before"], day["after"]
        out.print(
            plain(
                f"A day of the {day['queries']} queries that return the same rows, weighted by runs a day: "
                f"{count(round(before['blocks']))} blocks before, {count(round(after['blocks']))} after; of them read "
                f"{count(round(before['reads']))} and {count(round(after['reads']))}; "
                f"{milliseconds(before['ms'])} before, {milliseconds(after['ms'])} after."
            )
        )
        if before["rows_sent"] or after["rows_sent"]:
            was, is_now = (count(round(side["rows_sent"])) for side in (before, after))
            out.print(plain(f"Of the rows, other servers sent {was} before and {is_now} after."))
    if result.rows_apart is None and len(result.equal) < len(result.compared):
        note(
            out,
            f"{len(result.compared) - len(result.equal)} return other rows than before, and are not in that sum: rows "
            "came or went since, or a LIMIT without ORDER BY chose others.",
        )


def _money_text(result: Comparison, out: "Console") -> None:
    money = result.money
    if money is None or result.prices is None:
        return
    currency = result.prices.currency
    (before, after), texts = money, []
    for word, of in (("before", before), ("after", after)):
        texts.append(f"{of.total:,.2f} {currency} {word} ({_parts(of)})")
    out.print(plain(f"In money, a month of these queries and of the storage: {'; '.join(texts)}."))
    for text in assumptions(result.prices):
        note(out, f"  {text}")


def _parts(money: Money) -> str:
    return f"reads {money.reads:,.2f}, storage {money.storage:,.2f}, processors {money.cpu:,.2f}"


def _left_text(result: Comparison, out: "Console") -> None:
    reasons: dict[str, list[str]] = {}
    for left in result.left:
        reasons.setdefault(left.reason, []).append(left.name)
    for reason, names in reasons.items():
        note(out, f"Left out, {reason}: {', '.join(names)}.")


def _spread(measured: Measured) -> str:
    return "–" if not measured.least_ms else f"{measured.most_ms / measured.least_ms:.1f} ×"


def _factor(before: float, after: float) -> str:
    if not before or not after:
        return "–"
    if 0.95 < before / after < 1.05:
        return "the same"
    return f"{before / after:.1f} × faster" if before >= after else f"{after / before:.1f} × slower"


SHOWN: Shown[Comparison] = Shown("compare", _data, _rows, _text)
