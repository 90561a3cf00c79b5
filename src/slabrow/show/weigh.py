"""How a weighing looks."""

from collections.abc import Iterable, Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import Span, Unit
from slabrow.core.values.method import By
from slabrow.core.values.wording import count, milliseconds, share, size
from slabrow.core.weighing.coarser import Coarser
from slabrow.core.weighing.money import monthly
from slabrow.core.weighing.weighed import Weighed
from slabrow.core.weighing.windows import WindowRule
from slabrow.core.weighing.workload import Workload
from slabrow.show.output import Json, Shown, heading, note, plain, print_table, table
from slabrow.show.words import plural
from slabrow.work.weighing.weigh import Weighing

if TYPE_CHECKING:
    from rich.console import Console

_SHOWN_LINES = 10
_SHOWN_LEFT_OUT = 3


def _data(weighing: Weighing) -> Json:
    verdict = weighing.verdict
    return {
        "table": weighing.facts.spelling,
        "rows": weighing.facts.rows,
        "bytes": weighing.facts.bytes,
        "workload": {
            "source": weighing.workload.source,
            "statements": weighing.workload.statements,
            "shapes": len(weighing.workload.shapes),
            "of_this_table": len(weighing.read.shapes),
            "runs_a_day": weighing.read.weight,
            "not_understood": len(weighing.read.unread),
            "guessed": sum(read.is_guessed for read in weighing.read.shapes),
            "broken_lines": weighing.workload.broken,
            "left_out": weighing.workload.left_out,
        },
        "ageing": [{"column": each.column, "score": each.score, "reasons": each.reasons} for each in weighing.ageing],
        "costs": {"measured": weighing.is_measured, **asdict(weighing.costs), "places": dict(weighing.costs.places)},
        "windows": None if verdict.windows is None else _window_data(verdict.windows, verdict.winner.layout),
        "coarsen": _coarsen_data(verdict.coarser),
        "answer": list(verdict.answer),
        "memory": {"cached_bytes": weighing.facts.cache_bytes, "buffers_bytes": weighing.facts.buffers_bytes},
        "limit": None
        if verdict.limit is None
        else {"bytes": verdict.limit.bytes, "reason": verdict.limit.reason, "asked": verdict.limit.is_asked},
        "alternatives": [
            {"measure": measure, "rank": verdict.ranked.index(weighed) + 1} for measure, weighed in verdict.others
        ],
        "not_weighed": [{"what": what, "why": why} for what, why in weighing.left_out],
        "money": _money_data(weighing),
        "tomorrow": _tomorrow_data(weighing),
        "price": list(verdict.price),
        "runner_up": verdict.runner_up,
        "candidates": [
            _candidate(rank, weighed, list(verdict.reasons) if rank == 1 else [])
            for rank, weighed in enumerate(verdict.ranked, 1)
        ],
    }


def _money_data(weighing: Weighing) -> Json | None:
    prices = weighing.prices
    if prices is None:
        return None
    before, after = (
        monthly(each, weighing.facts.bytes, prices) for each in (weighing.verdict.now, weighing.verdict.winner)
    )
    return {
        "currency": prices.currency,
        "period": "month",
        "before": {**asdict(before), "total": before.total},
        "after": {**asdict(after), "total": after.total},
        "prices": {name: value for name, value in asdict(prices).items() if name != "currency"},
    }


def _tomorrow_data(weighing: Weighing) -> Json | None:
    found = weighing.tomorrow
    if found is None:
        return None
    return {
        "asked": found.then.asked,
        "rows": found.then.facts.rows,
        "bytes": found.then.facts.bytes,
        "changes_at": None if found.changes_at is None else round(found.changes_at, 3),
        "changes_on": None if found.changes_on is None else f"{found.changes_on:%Y-%m-%d}",
        "candidates": [
            {
                "rank": rank,
                "layout": describe(each.layout),
                "partitions": each.partitions,
                "largest_bytes": each.largest,
                "ms_a_day": round(each.ms, 1),
                "reads_a_day": round(each.all_reads),
            }
            for rank, each in enumerate(found.ranking.ranked, 1)
        ],
    }


def _candidate(rank: int, weighed: Weighed, reasons: list[str]) -> Json:
    layout = weighed.layout
    return {
        "rank": rank,
        **_division(layout),
        "within": None if layout is None or layout.within is None else _division(layout.within),
        "catch_all": layout is not None and layout.catch_all,
        "coarsen": None
        if layout is None or layout.coarsen is None
        else {"after": str(layout.coarsen.after), "span": str(layout.coarsen.span)},
        "partitions": weighed.partitions,
        "partitions_kept": weighed.partitions_kept,
        "touched_mean": round(weighed.touched_mean, 3),
        "touched_p95": round(weighed.touched_p95, 3),
        "read_share": round(weighed.read_share, 4),
        "planning_ms": round(weighed.planning_ms, 4),
        "blocks_a_day": round(weighed.blocks),
        "workload_ms_a_day": round(weighed.workload_ms, 1),
        "reads_a_day": round(weighed.reads),
        "rows_sent_a_day": round(weighed.sent),
        "retire_ms_a_day": round(weighed.retire_ms, 1),
        "retire_wal_bytes_a_day": round(weighed.retiring.wal_bytes),
        "retire_blocks_written_a_day": round(weighed.retiring.written),
        "insert_ms_a_day": round(weighed.insert_ms, 1),
        "insert_reads_a_day": round(weighed.insert_reads),
        "first_statement_ms": round(weighed.first_ms, 1),
        "upkeep": {
            "read_ms": round(weighed.upkeep.read_ms),
            "vacuum_ms": round(weighed.upkeep.vacuum_ms),
            "rebuild_ms": round(weighed.upkeep.rebuild_ms),
            "dump_ms": round(weighed.upkeep.dump_ms),
        },
        "smallest_bytes": weighed.smallest,
        "median_bytes": weighed.median,
        "largest_bytes": weighed.largest,
        "skew": round(weighed.skew, 3),
        "obstacles": list(weighed.obstacles),
        "reasons": reasons,
        "queries": [
            {
                "name": cost.read.shape.name,
                "runs_a_day": round(cost.read.shape.weight, 3),
                "touched": round(cost.touched, 3),
                "blocks": round(cost.paid.blocks, 1),
                "reads": round(cost.paid.reads, 3),
                "planning_ms": round(cost.paid.planning_ms, 4),
                "running_ms": round(cost.paid.running_ms, 4),
            }
            for cost in weighed.shapes
        ],
    }


def _division(layout: Layout | None) -> Json:
    if layout is None:
        return {"by": "none", "key": [], "span": None, "parts": None, "groups": None}
    return {
        "by": str(layout.by),
        "key": list(layout.key),
        "span": None if layout.span is None else _span(layout.span),
        "parts": layout.parts,
        "groups": {group.name: list(group.values) for group in layout.groups} or None,
    }


def _span(span: Span) -> str | int:
    return span.count if span.unit is Unit.NUMBER else str(span)


def _window_data(rule: WindowRule, layout: Layout | None) -> Json:
    return {
        "share": round(rule.share, 4),
        "usual": _width(rule.usual, layout),
        "usual_touches": rule.most_usual,
        "widest": _width(rule.widest, layout),
        "widest_touches": rule.most_widest,
        "span_for_two": _width(rule.span_for_two, layout),
    }


def _rows(weighing: Weighing) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    header = ("rank", "layout", "partitions", "partitions_kept", "touched_mean", "touched_p95", "read_share",
              "planning_ms", "ms_a_day", "smallest_bytes", "median_bytes", "largest_bytes", "skew")  # fmt: skip
    return header, [
        [
            rank,
            describe(weighed.layout),
            weighed.partitions,
            weighed.partitions_kept,
            f"{weighed.touched_mean:.3f}",
            f"{weighed.touched_p95:.3f}",
            f"{weighed.read_share:.4f}",
            f"{weighed.planning_ms:.4f}",
            f"{weighed.ms:.1f}",
            weighed.smallest,
            weighed.median,
            weighed.largest,
            f"{weighed.skew:.3f}",
        ]
        for rank, weighed in enumerate(weighing.verdict.ranked, 1)
    ]


def describe(layout: Layout | None) -> str:
    """A candidate in one line."""
    return "leave it as it is" if layout is None else str(layout)


def _text(weighing: Weighing, out: "Console") -> None:
    facts, verdict = weighing.facts, weighing.verdict
    read, winner = weighing.read, verdict.winner
    heading(
        out,
        f"{facts.spelling}: {count(facts.rows)} rows, {size(facts.bytes)}; "
        f"{plural(len(read.shapes), 'shape')} of statement ask of it, {plural(round(read.weight), 'run')} a day",
    )
    for place, line in enumerate(verdict.answer):
        out.print(plain(line), style="bold" if place == 0 else "")
    for measure, weighed in verdict.others:
        rank = verdict.ranked.index(weighed) + 1
        note(
            out, f"By {measure} it would be {describe(weighed.layout)} (rank {rank}), {milliseconds(weighed.ms)} a day."
        )
    out.print()
    is_read = verdict.now.all_reads >= 1
    blocks = "from disk" if is_read else "blocks"
    lines = table(
        "", "layout", "partitions", "largest", "touched", "95 %", blocks, "planning", "a day",
        right=("", "partitions", "largest", "touched", "95 %", blocks, "planning", "a day"), folds=("layout",),
    )  # fmt: skip
    for rank, weighed in _to_show(verdict.ranked):
        lines.add_row(
            str(rank),
            plain(describe(weighed.layout)),
            _partitions(weighed),
            size(weighed.largest),
            f"{weighed.touched_mean:.1f}",
            f"{weighed.touched_p95:.0f}",
            share(weighed.all_reads / verdict.now.all_reads if is_read else weighed.read_share),
            milliseconds(weighed.planning_ms),
            milliseconds(weighed.ms),
        )
    print_table(out, lines, ("95 %", "planning", "largest"))
    if verdict.now.sent >= 1:
        out.print(plain(f"As it is, other servers send {count(round(verdict.now.sent))} rows a day."))
    left = len(verdict.ranked) - len(_to_show(verdict.ranked))
    if left > 0:
        note(out, f"… {left} more, in csv and json")
    for title, texts in _sections(weighing):
        if texts:
            heading(out, title)
            for text in texts:
                out.print(plain(f"  • {text}"))
    if winner.layout is not None and weighing.left_out:
        heading(out, "Not weighed")
        for what, why in weighing.left_out[:_SHOWN_LEFT_OUT]:
            out.print(plain(f"  • {what}: {why}"))
        if len(weighing.left_out) > _SHOWN_LEFT_OUT:
            note(out, f"… {len(weighing.left_out) - _SHOWN_LEFT_OUT} more, in json")
    for text in _notes(weighing):
        note(out, text)


def _sections(weighing: Weighing) -> Iterable[tuple[str, Sequence[str]]]:
    """What follows the table: a title and its lines."""
    verdict = weighing.verdict
    winner = verdict.winner
    yield "Why", verdict.reasons
    yield "The price", verdict.price
    yield "The runner-up", [verdict.runner_up] if verdict.runner_up else []
    yield "The window rule", [_window_text(verdict.windows, winner.layout)] if verdict.windows else []
    yield "Fewer partitions, later", [_coarser_text(verdict.coarser, winner)] if verdict.coarser else []
    yield "The largest partition", _upkeep_texts(weighing)
    yield "In money, a month", _money_texts(weighing)
    yield "As it will be", _tomorrow_texts(weighing)


def _upkeep_texts(weighing: Weighing) -> list[str]:
    verdict, now = weighing.verdict, weighing.verdict.now
    winner = verdict.winner
    # What is done in a few seconds needs no thought.
    if now.upkeep.rebuild_ms < 10_000:
        return []
    shown = [("of the table as it is", now)] if winner is now else [("of it", winner), ("of the table as it is", now)]
    texts = []
    for what, each in shown:
        upkeep = each.upkeep
        texts.append(
            f"{what}, {size(each.largest)}: reading it once {milliseconds(upkeep.read_ms)}, VACUUM of every page "
            f"{milliseconds(upkeep.vacuum_ms)}, rebuilding its indexes {milliseconds(upkeep.rebuild_ms)}, "
            f"a dump {milliseconds(upkeep.dump_ms)}"
        )
    if verdict.limit is not None:
        texts.append(f"a partition should hold at most {size(verdict.limit.bytes)}: {verdict.limit.reason}")
    return texts


def _money_texts(weighing: Weighing) -> list[str]:
    prices, verdict = weighing.prices, weighing.verdict
    if prices is None:
        return []
    texts = []
    for weighed in [verdict.now] if verdict.winner is verdict.now else [verdict.now, verdict.winner]:
        money = monthly(weighed, weighing.facts.bytes, prices)
        texts.append(
            f"{describe(weighed.layout)}: {money.total:,.2f} {prices.currency} (blocks {money.reads:,.2f}, storage "
            f"{money.storage:,.2f}, processors {money.cpu:,.2f})"
        )
    texts.append(
        f"at {prices.million_blocks:g} for a million blocks read, {prices.gb_month:g} for a GB and month, "
        f"{prices.cpu_hour:g} for an hour of a processor"
    )
    return texts


def _tomorrow_texts(weighing: Weighing) -> list[str]:
    found, today = weighing.tomorrow, weighing.verdict.winner
    if found is None:
        return []
    facts, first, now = found.then.facts, found.ranking.winner, found.ranking.now
    when = found.then.asked if weighing.wishes.as_of is None else f"on {found.then.asked}"
    texts = [
        f"{when}: {count(facts.rows)} rows, {size(facts.bytes)}; first comes {describe(first.layout)}, "
        f"{milliseconds(first.ms)} a day for {milliseconds(now.ms)} as it is, the largest "
        f"partition {size(first.largest)}"
    ]
    if first.layout == today.layout:
        texts.append("the first place stays the same until then")
        return texts
    kept = next((each for each in found.ranking.ranked if each.layout == today.layout), None)
    if kept is not None:
        rank = found.ranking.ranked.index(kept) + 1
        texts.append(f"today's first, {describe(today.layout)}, is {rank}. then: {milliseconds(kept.ms)} a day")
    if found.changes_at is not None:
        day = f", about {found.changes_on:%Y-%m-%d} by the growth it has shown" if found.changes_on else ""
        texts.append(f"the first place changes at about {found.changes_at:.2g} times the rows of today{day}")
    return texts


def _partitions(weighed: Weighed) -> str:
    """Now, and once `keep` is reached where that is another number."""
    if weighed.partitions_kept == weighed.partitions:
        return count(weighed.partitions)
    return f"{count(weighed.partitions)} now, {count(weighed.partitions_kept)} later"


def _to_show(ranked: Sequence[Weighed]) -> list[tuple[int, Weighed]]:
    """The best ones, and the table as it is wherever it stands."""
    numbered = list(enumerate(ranked, 1))
    return [each for each in numbered if each[0] <= _SHOWN_LINES or each[1].layout is None]


def _window_text(rule: WindowRule, layout: Layout | None) -> str:
    span = layout.span if layout is not None else None
    usual, widest = _width(rule.usual, layout), _width(rule.widest, layout)
    text = (
        f"{share(rule.share)} of the queries ask for a window; 95 % of these are no wider than {usual} and touch "
        f"at most {plural(rule.most_usual, 'partition')} of {span}"
    )
    if rule.widest != rule.usual:
        text += f"; the widest, {widest}, at most {rule.most_widest}"
    if rule.most_widest > 2:
        text += f". A span of {_width(rule.span_for_two, layout)} would keep it at two"
    return text


def _coarsen_data(found: Coarser | None) -> Json | None:
    if found is None:
        return None
    return {
        "after": str(found.coarsen.after),
        "span": str(found.coarsen.span),
        "partitions": found.partitions,
        "widest_touches": found.most_widest,
    }


def _coarser_text(found: Coarser, winner: Weighed) -> str:
    coarsen = found.coarsen
    text = (
        f'coarsen = {{ after = "{coarsen.after}", span = "{coarsen.span}" }} keeps it at about '
        f"{plural(found.partitions, 'partition')} instead of {count(winner.partitions_kept)}: `tend` merges what is "
        "older, beside writers"
    )
    if found.most_widest is not None:
        text += f". The widest window then touches at most {plural(found.most_widest, 'partition')} of what is old"
    return text


def _width(steps: int, layout: Layout | None) -> str:
    """A width of the key in words."""
    if layout is None or layout.span is None or layout.span.unit is Unit.NUMBER:
        return count(steps)
    hours = steps / 3_600_000_000
    if hours < 48:
        return f"{hours:.3g} hours" if hours != 1 else "1 hour"
    return f"{hours / 24:.3g} days"


def _notes(weighing: Weighing) -> Iterable[str]:
    workload, read = weighing.workload, weighing.read
    how = f"measured on this {weighing.product}" if weighing.is_measured else "with its default constants"
    more = "" if weighing.is_measured else "; --calibrate measures this server's"
    facts = weighing.facts
    yield f"`a day`: planning, running, inserting and, with --keep, retiring, as the cost model has it ({how}{more})."
    yield (
        "`touched`: the partitions that a query reads, on average; `95 %`: what 95 of 100 queries do not exceed; "
        "`blocks`, `from disk`: against the table as it is."
    )
    whose = (
        "as --memory says"
        if weighing.wishes.memory_bytes is not None
        else ("as the server's settings say" if weighing.product else "a guess: --memory says how much the server has")
    )
    yield f"Tables are found in {size(facts.cache_bytes)} of memory, {whose}."
    if any(each.partitions_kept != each.partitions for each in weighing.verdict.ranked):
        yield "`partitions`: with the rows of today, and later, once `keep` is reached and old ones have left."
    if read.unread:
        first = read.unread[0].text[:60]
        yield f"{plural(len(read.unread), 'shape')} could not be understood, and count for nothing: {first}"
    guessed = sum(each.is_guessed for each in read.shapes)
    if guessed:
        yield f"{plural(guessed, 'shape')} came without values; some of the table's own stood in for them."
    if (short := _short_log(workload)) is not None:
        yield short
    if workload.broken:
        yield f"{plural(workload.broken, 'line')} of the log could not be read."
    if workload.left_out:
        yield f"{plural(workload.left_out, 'statement')} of other databases or roles, or beyond the limit, left out."
    if weighing.wishes.keep is None and weighing.ageing:
        yield f"Data ages along {weighing.ageing[0].column}: give --keep to weigh how old rows are retired."


def _short_log(workload: Workload) -> str | None:
    """The note that runs a day were computed from a part of a day."""
    if workload.begins is None or workload.ends is None:
        return None
    hours = (workload.ends - workload.begins).total_seconds() / 3_600
    if hours >= 24:
        return None
    taken = "an hour" if hours < 1 else f"{hours:.3g} hours"
    return (
        f"The workload covers {hours * 60:.0f} minutes, and was taken for {taken} of a day: runs a day are "
        f"{24 / max(1.0, hours):.3g} times what it holds. A log of a whole day tells more."
    )


def written_notes(layout: Layout, zone_given: bool) -> list[str]:
    """The reasons for the values in a written layout that were not asked for, as comments."""
    notes = []
    if layout.from_ is not None:
        notes.append(f"from = {layout.from_}: where the rows of today begin")
    if layout.by is By.RANGE and layout.zone != "UTC" and zone_given:
        notes.append(f"zone = {layout.zone}: as --zone says; days and months begin there")
    if layout.catch_all:
        notes.append("catch_all = true: rows that no partition takes are kept there, instead of being refused")
    return notes


SHOWN: Shown[Weighing] = Shown("weigh", _data, _rows, _text)
