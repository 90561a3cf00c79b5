"""What the page says of results from before anything is changed: survey, weigh, forecast, rehearse."""

from slabrow.core.values.wording import count, milliseconds, share, size
from slabrow.show.report.parts import Chart, Line, PageTable, Section, bar, cells
from slabrow.show.report.pieces import (
    MOST_ROWS,
    Document,
    bounds,
    caption,
    first_and_last,
    saved_at,
    sentence,
    value_text,
)

_MOST_CANDIDATES = 6


def survey(document: Document, anchor: str) -> Section | None:
    """The table as it is, or every table at a glance."""
    if "tables" in document:
        rows = [
            cells(
                each["table"],
                count(each["rows"]),
                size(each["bytes"]),
                str(each["partitions"]["leaves"]) if each["partitions"] else "–",
                each["verdict"],
                each["why"],
            )
            for each in document["tables"][:MOST_ROWS]
        ]
        columns = ("table", "rows", "size", "partitions", "verdict", "why")
        return Section(
            anchor=anchor,
            title=f"The tables of {document['database']}",
            at=saved_at(document),
            tables=[PageTable("Every table at a glance", columns, tuple(rows), frozenset([1, 2, 3]))],
        )
    growth = document.get("growth")
    facts = [
        ("rows", count(document["rows"])),
        ("size", size(document["bytes"])),
        ("rows without indexes", size(document["heap_bytes"])),
        ("indexes", size(document["index_bytes"])),
    ]
    if document.get("partitions"):
        facts.append(("partitions", count(document["partitions"])))
    if growth:
        facts += [("grows by", f"{count(round(growth['rows_a_day']))} rows a day")]
        if growth["doubles_on"]:
            facts.append(("doubles by", str(growth["doubles_on"])[:10]))
    rows = [
        cells(
            each["name"],
            each["type"],
            count(each["distinct"]),
            share(each["null_share"]) if each["null_share"] else "–",
            share(each["commonest_share"]) if each["commonest_share"] else "–",
            "–" if each["correlation"] is None else f"{each['correlation']:.2f}",
        )
        for each in document["columns"][:MOST_ROWS]
    ]
    columns = ("column", "type", "different values", "NULL", "commonest value", "follows the order of rows")
    tables = [PageTable("The columns", columns, tuple(rows), frozenset([2, 3, 4, 5]))]
    counts = document.get("counts")
    if counts and counts["buckets"]:
        most = max(each["rows"] for each in counts["buckets"]) or 1
        per = counts["per"] or "value"
        buckets = [
            cells(value_text(each.get("bucket", each.get("from"))), bar(each["rows"], most, count(each["rows"])))
            for each in counts["buckets"][:MOST_ROWS]
        ]
        tables.append(
            PageTable(f"Rows per {per} of {counts['column']}", (str(per), "rows"), tuple(buckets), frozenset([1]))
        )
    aged = [f"{each['column']}: {'; '.join(each['reasons'])}." for each in document["ageing"][:1] if each["reasons"]]
    return Section(
        anchor=anchor,
        title="The table as it is",
        at=saved_at(document),
        facts=facts,
        texts=[*(f"Data ages along {text}" for text in aged), *map(sentence, document["notes"])],
        tables=tables,
        summary=[f"{document['table']} holds {count(document['rows'])} rows in {size(document['bytes'])}."],
    )


def layout_words(each: Document) -> str:
    """A candidate as people name it."""
    if each["by"] == "none":
        return "as it is"
    words = f"{each['by']} by {', '.join(each['key'])}"
    if each["span"] is not None:
        words += f", {each['span']} each"
    if each["parts"] is not None:
        words += f", {each['parts']} parts"
    if each.get("groups"):
        words += f", {len(each['groups'])} groups"
    if each.get("within"):
        words += f"; within each {layout_words(each['within'])}"
    return words


def weigh(document: Document, anchor: str) -> Section:
    """The choice, with its reasons and its price."""
    candidates = document["candidates"]
    shown = list(candidates[:_MOST_CANDIDATES])
    shown += [each for each in candidates[_MOST_CANDIDATES:] if each["by"] == "none"]
    most = max((_day(each) for each in shown), default=0.0)
    rows = [
        cells(
            f"{each['rank']}. {layout_words(each)}",
            bar(_day(each), most, milliseconds(_day(each)), second=each["by"] == "none"),
            share(each["read_share"]),
            f"{each['touched_mean']:.3g}",
            count(each["partitions"]),
            size(each["largest_bytes"]),
        )
        for each in shown
    ]
    columns = ("layout", "a day's work", "blocks, of those now", "touched", "partitions", "largest")
    workload = document["workload"]
    winner = candidates[0]
    facts = [
        ("workload", f"{count(round(workload['runs_a_day']))} runs a day, from {workload['source']}"),
        ("weighed", f"{len(candidates)} layouts"),
        ("memory", size(document["memory"]["cached_bytes"])),
    ]
    money = document.get("money")
    if money:
        facts.append(
            (
                "in money, a month",
                f"{money['before']['total']:,.2f} {money['currency']} before, {money['after']['total']:,.2f} after",
            )
        )
    answer = [str(text) for text in document["answer"]]
    return Section(
        anchor=anchor,
        title="The choice",
        at=saved_at(document),
        lead=" ".join(answer),
        facts=facts,
        texts=[
            *(f"For it: {text}." for text in winner["reasons"]),
            *(f"What it takes: {text}." for text in document["price"]),
        ],
        tables=[PageTable("The first of the ranking", columns, tuple(rows), frozenset([1, 2, 3, 4, 5]))],
        summary=answer[:2],
    )


def _day(each: Document) -> float:
    return float(each["workload_ms_a_day"] + each["retire_ms_a_day"] + each["insert_ms_a_day"])


def forecast(document: Document, anchor: str) -> Section:
    """The partitions that a layout gives."""
    partitions = document["partitions"]
    most = max((each["bytes"] or 0 for each in partitions), default=0)
    rows = [
        cells(
            each["name"],
            bounds(each),
            "–" if each["rows"] is None else count(each["rows"]),
            "–" if each["bytes"] is None else bar(each["bytes"], most, size(each["bytes"])),
        )
        for each in first_and_last(partitions)
    ]
    until = document["until"]
    texts = []
    if until:
        texts.append(
            f"By {until['day'][:10]} it will hold about {count(until['rows'])} rows in {size(until['bytes'])}."
        )
    columns = ("partition", "holds", "rows", "size")
    return Section(
        anchor=anchor,
        title="The partitions",
        at=saved_at(document),
        lead=f"{document['layout']}: {len(partitions)} partitions.",
        texts=texts,
        tables=[PageTable(caption("What each will hold", partitions), columns, tuple(rows), frozenset([2, 3]))],
        watch=[f"{count(document['homeless_rows'])} rows would have no partition."]
        if document["homeless_rows"]
        else [],
    )


def rehearse(document: Document, anchor: str) -> Section | None:
    """The layouts, as they were tried; None where only tables were made."""
    layouts = document["layouts"]
    if not layouts:
        return None
    most = max(each["day_ms"] for each in layouts)
    rows = [
        cells(
            f"{each['rank']}. {each['name']}",
            "–" if each["predicted_rank"] is None else str(each["predicted_rank"]),
            bar(each["day_ms"], most, milliseconds(each["day_ms"]), second=each["name"] == "as it is"),
            count(each["blocks"]["read"]),
            size(each["wal_bytes"]),
            size(each["bytes"]),
            milliseconds(each["upkeep"]["longest_stall_ms"]) if each["upkeep"] else "–",
        )
        for each in layouts
    ]
    columns = ("layout", "weighed", "a day's work", "blocks read", "WAL", "size", "longest write in upkeep")
    lines = tuple(
        Line(each["name"], tuple((hour["hour"] + 0.5, max(0.01, hour["p95_ms"])) for hour in each["day"]))
        for each in layouts
        if each["day"]
    )
    hourly = PageTable(
        "95th percentile of the latency, hour by hour",
        ("hour", *(line.name for line in lines)),
        tuple(cells(f"{hour}:00", *(_at_hour(each, hour) for each in layouts if each["day"])) for hour in range(24)),
        frozenset(range(1, len(lines) + 1)),
    )
    charts = [Chart("95th percentile of the latency over the played day", lines, hourly)] if lines else []
    first = layouts[0]["name"]
    correlation = document["rank_correlation"]
    return Section(
        anchor=anchor,
        title="The rehearsal",
        at=saved_at(document),
        lead=f"{document['rows']:,} made-up rows, shaped like the {document['real_rows']:,} real ones, under a day of "
        f"the workload played in {document['seconds']:g} s.",
        facts=[
            ("statements a second", f"{document['rate']:.3g}"),
            ("new rows a second", f"{document['insert_rate']:.3g}"),
            ("measured and weighed order", "–" if correlation is None else f"rank correlation {correlation:.2f}"),
        ],
        texts=[sentence(text) for text in document["notes"]],
        tables=[PageTable("The layouts, as they were tried", columns, tuple(rows), frozenset(range(1, 7)))],
        charts=charts,
        summary=[f"Rehearsed on {document['rows']:,} made-up rows, the least work was measured for: {first}."],
        watch=[
            f"{each['name']}: {each['throughput']['failed']:,} runs failed, {each['throughput']['error']}"
            for each in layouts
            if each["throughput"]["failed"]
        ],
    )


def _at_hour(each: Document, hour: int) -> str:
    return next((milliseconds(found["p95_ms"]) for found in each["day"] if found["hour"] == hour), "–")
