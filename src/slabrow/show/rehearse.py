"""How a rehearsal looks."""

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.rehearsal.outcome import Latencies, QueryOutcome
from slabrow.core.values.wording import count, milliseconds, share, size
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, print_table, table
from slabrow.work.rehearsal.result import Rehearsal, RehearsedLayout

if TYPE_CHECKING:
    from rich.console import Console

_SIDE_BY_SIDE = 3
_QUEUED = 0.5  # of the latency: from here on the queue is measured more than the server
_WELL = 0.8  # a correlation from here on says that the model was right about the order


def _data(result: Rehearsal) -> Json:
    return {
        "table": result.table,
        "rows": result.rows,
        "real_rows": result.real_rows,
        "real_values": result.has_real_values,
        "seconds": result.seconds,
        "times_as_fast": result.faster,
        "rate": result.rate,
        "insert_rate": result.insert_rate,
        "server": result.server,
        "memory_bytes": result.memory_bytes,
        "rank_correlation": result.correlation,
        "tables": [{"name": name, "rows": rows} for name, rows in result.tables],
        "left_tables": list(result.left_tables),
        "layouts": [_layout_data(each) for each in result.layouts],
        "left_out": [{"name": each.name, "reason": each.reason} for each in result.left_out],
        "notes": list(result.notes),
    }


def _layout_data(each: RehearsedLayout) -> Json:
    played, upkeep = each.played, each.upkeep
    return {
        "name": each.name,
        "rank": each.rank,
        "predicted_rank": each.predicted_rank,
        "day_ms": each.day_ms,
        "predicted_ms": each.predicted_ms,
        "bytes": each.bytes,
        "partitions": each.partitions,
        "build_ms": each.build_ms,
        "queries": [_query_data(query) for query in played.queries],
        "writes": {
            "per_second": played.writes.runs / _seconds(played.write_moments) if played.writes is not None else 0.0,
            **(_latency_data(played.writes) or {"runs": 0, "p50_ms": None, "p95_ms": None, "p99_ms": None}),
        },
        "throughput": {"asked": played.asked, "done": played.done, "failed": played.failed, "error": played.error},
        "planning_share": played.planning_share,
        "blocks": {"found": each.counters.found, "read": each.counters.read},
        "wal_bytes": each.counters.wal_bytes,
        "temporary": {"files": each.counters.temp_files, "bytes": each.counters.temp_bytes},
        "upkeep": None
        if upkeep is None
        else {
            "how": upkeep.how,
            "created": upkeep.created,
            "retired": upkeep.retired,
            "duration_ms": upkeep.duration_ms,
            "longest_lock_ms": upkeep.longest_lock_ms,
            "longest_stall_ms": upkeep.longest_stall_ms,
            "wal_bytes": upkeep.wal_bytes,
        },
        "day": [
            {"hour": hour.hour, "runs": hour.runs, "p50_ms": hour.p50_ms, "p95_ms": hour.p95_ms}
            for hour in played.hours
        ],
        "waiting_share": played.waiting_share,
        "client_cpu": played.client_cpu,
    }


def _seconds(moments: Sequence[tuple[float, float]]) -> float:
    return max((due for due, _ in moments), default=1.0) or 1.0


def _latency_data(found: Latencies | None) -> Json | None:
    if found is None:
        return None
    return {"runs": found.runs, "p50_ms": found.p50_ms, "p95_ms": found.p95_ms, "p99_ms": found.p99_ms}


def _query_data(query: QueryOutcome) -> Json:
    return {
        "name": query.name,
        "weight": query.weight,
        **(_latency_data(query.latency) or {"runs": 0, "p50_ms": None, "p95_ms": None, "p99_ms": None}),
        "blocks": query.blocks,
        "reads": query.reads,
        "touched": query.touched,
        "planning_ms": query.planning_ms,
        "execution_ms": query.execution_ms,
        "failed": query.failed,
        "error": query.error,
    }


def _rows(result: Rehearsal) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    header = ("layout", "rank", "predicted_rank", "query", "runs", "p50_ms", "p95_ms", "p99_ms", "blocks", "reads",
              "touched", "planning_ms", "execution_ms", "failed")  # fmt: skip
    return header, [
        [
            each.name,
            each.rank,
            each.predicted_rank,
            *(data[name] for name in ("name", "runs", "p50_ms", "p95_ms", "p99_ms", "blocks", "reads", "touched",
                                      "planning_ms", "execution_ms", "failed")),
        ]
        for each in result.layouts
        for data in map(_query_data, each.played.queries)
    ]  # fmt: skip


def _text(result: Rehearsal, out: "Console") -> None:
    heading(out, f"A rehearsal of {result.table}: {result.rows:,} made-up rows{_of_real(result)}")
    made = ", ".join(f"{name} {rows:,}" for name, rows in result.tables)
    whence = "from statistics, real values among them" if result.has_real_values else "from statistics alone"
    note(out, f"Made {whence}: {made}.")
    for each in result.notes:
        note(out, f"  {each}")
    if result.left_tables:
        out.print(plain(f"The tables stay on the server: {', '.join(result.left_tables)}."))
        return
    memory = f" with {size(result.memory_bytes)} of memory" if result.memory_bytes is not None else ""
    note(
        out,
        f"A day of the workload, played in {result.seconds:g} s on {result.server}{memory}: {result.rate:.3g} "
        f"statements and {result.insert_rate:.3g} new rows a second, {_faster(result.faster)}.",
    )
    out.print()
    _layouts_text(result, out)
    for text in _verdict(result):
        out.print(text)
    out.print()
    _queries_text(result, out)
    for left in result.left_out:
        note(out, f"Not played: {left.name}, {left.reason}.")


def _of_real(result: Rehearsal) -> str:
    if abs(result.rows - result.real_rows) <= 0.01 * result.real_rows:
        return ", as many as it has"
    if not result.real_rows:
        return "; the real one is empty"
    if result.rows > result.real_rows:
        return f", {result.rows / result.real_rows:.3g} times the {result.real_rows:,} it has"
    return f", {share(result.rows / result.real_rows)} of the {result.real_rows:,} it has"


def _faster(times: float) -> str:
    if times > 1.1:
        return f"{times:.3g} times as many as on the real server"
    if times < 0.9:
        return f"{share(times)} of those on the real server"
    return "as on the real server"


def _layouts_text(result: Rehearsal, out: "Console") -> None:
    numbers = (
        "measured",
        "weighed",
        "a day",
        "reads p50",
        "p95",
        "writes p95",
        "blocks read",
        "WAL",
        "size",
        "planning",
    )
    lines = table("layout", *numbers, right=numbers)
    for each in result.layouts:
        played = each.played
        middle = _overall(played.queries)
        lines.add_row(
            plain(each.name),
            str(each.rank),
            "–" if each.predicted_rank is None else str(each.predicted_rank),
            milliseconds(each.day_ms),
            milliseconds(middle[0]),
            milliseconds(middle[1]),
            milliseconds(played.writes.p95_ms) if played.writes is not None else "–",
            count(each.counters.read),
            size(each.counters.wal_bytes),
            size(each.bytes),
            share(played.planning_share) if played.planning_share is not None else "–",
        )
    print_table(out, lines, ("planning", "WAL", "size", "writes p95", "reads p50", "blocks read"))
    for each in result.layouts:
        note(out, f"{each.name}: {_upkeep_text(each)}{_temporary_text(each)}.")


def _overall(queries: Sequence[QueryOutcome]) -> tuple[float | None, float | None]:
    """The weighted means of the medians, and of the 95th percentiles."""
    known = [(each.weight, each.latency) for each in queries if each.latency is not None]
    total = sum(weight for weight, _ in known)
    if not total:
        return None, None
    return (
        sum(weight * found.p50_ms for weight, found in known) / total,
        sum(weight * found.p95_ms for weight, found in known) / total,
    )


def _upkeep_text(each: RehearsedLayout) -> str:
    upkeep = each.upkeep
    if upkeep is None:
        return "no upkeep, as nothing retires its rows"
    what = f"{upkeep.created} partitions created, {upkeep.retired} retired" if each.drops else upkeep.how
    said = (
        f"in the middle of the day {what}, in {milliseconds(upkeep.duration_ms)} with {size(upkeep.wal_bytes)} of WAL"
    )
    if each.played.writes is None:
        return said
    if not upkeep.longest_stall_ms:
        return f"{said}; no write was due meanwhile"
    return f"{said}; the longest write meanwhile took {milliseconds(upkeep.longest_stall_ms)}"


def _temporary_text(each: RehearsedLayout) -> str:
    if not each.counters.temp_files:
        return ""
    return f"; {each.counters.temp_files:,} temporary files, {size(each.counters.temp_bytes)}"


def _verdict(result: Rehearsal) -> Iterator[Any]:
    if result.correlation is not None:
        is_well = result.correlation >= _WELL
        is_same = all(each.predicted_rank in (each.rank, None) for each in result.layouts)
        said = "the order" if is_same else "nearly the order" if is_well else "another order than"
        said += " that weigh had predicted" if is_same or is_well else " weigh had predicted"
        text = f"Measured in {said} (rank correlation {result.correlation:.2f})."
        yield good(text) if is_well else bad(text)
    elif len(result.layouts) > 1:
        yield plain("The layouts took about the same, or are weighed as the same: there is no order to compare.")
    for each in result.layouts:
        if each.played.failed:
            yield bad(f"{each.name}: {each.played.failed:,} runs failed; the first one: {each.played.error}")
        if each.played.waiting_share > _QUEUED:
            yield bad(
                f"{each.name}: runs waited for their turn for {share(each.played.waiting_share)} of their latency. The "
                "load is more than it can serve here; ask for less with --rate"
            )
        if (late := each.played.asked - each.played.done - each.played.failed) > 0:
            yield bad(f"{each.name}: {late:,} of {each.played.asked:,} runs never had their turn: it was too slow")


def _queries_text(result: Rehearsal, out: "Console") -> None:
    """One line a statement, the layouts side by side: more than a few do not fit, and are in the JSON."""
    shown = result.layouts[:_SIDE_BY_SIDE]
    columns = [name for each in shown for name in (f"{each.rank}: p50, p95, p99", f"{each.rank}: blocks, read, in")]
    lines = table("query", "a day", *columns, right=("a day", *columns))
    queries = {query.name: query for query in shown[0].played.queries} if shown else {}
    for name in sorted(queries, key=lambda name: -max(_cost(_of(each, name)) for each in shown)):
        cells = [cell for each in shown for cell in (_times(_of(each, name)), _blocks(_of(each, name)))]
        lines.add_row(plain(name), count(queries[name].weight), *cells)
    print_table(out, lines, ("a day", *(name for name in reversed(columns) if "blocks" in name)))
    others = len(result.layouts) - len(shown)
    more = f" The other {others} layouts are in the JSON." if others else ""
    note(
        out,
        "p50, p95, p99: latency, from the moment at which a run was due. Blocks touched, those of them that were read, "
        f"and the partitions they are in: the medians of some runs of which the server was asked.{more}",
    )


def _of(each: RehearsedLayout, name: str) -> QueryOutcome:
    return next(query for query in each.played.queries if query.name == name)


def _times(query: QueryOutcome) -> str:
    found = query.latency
    if found is None:
        return "–"
    return f"{milliseconds(found.p50_ms)}, {milliseconds(found.p95_ms)}, {milliseconds(found.p99_ms)}"


def _blocks(query: QueryOutcome) -> str:
    if query.blocks is None:
        return "–"
    return f"{count(query.blocks)}, {count(query.reads)}, {count(query.touched)}"


def _cost(query: QueryOutcome) -> float:
    return query.weight * query.latency.mean_ms if query.latency is not None else 0.0


SHOWN: Shown[Rehearsal] = Shown("rehearse", _data, _rows, _text)
