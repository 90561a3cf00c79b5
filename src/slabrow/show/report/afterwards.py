"""What the page says of what was done and what it gave: convert, census, prove, compare, tend, history."""

from slabrow.core.values.wording import count, milliseconds, size
from slabrow.show.report.parts import Cell, PageTable, Section, bar, cells
from slabrow.show.report.pieces import MOST_ROWS, Document, bounds, caption, first_and_last, saved_at, sentence


def convert(document: Document, anchor: str) -> Section:
    """The conversion, with its counts."""
    if "layout" not in document:
        return Section(
            anchor=anchor,
            title="The old table let go",
            at=saved_at(document),
            lead=f"{document['old_table']}, {size(document['bytes'])}: {document['state']}.",
        )
    compared = document["compared"]
    same = [each for each in compared if each["same"]]
    rows = [
        cells(
            each["partition"],
            count(each["rows_before"]),
            count(each["rows_after"]),
            Cell("the same", "good") if each["same"] else Cell("differs", "bad"),
        )
        for each in first_and_last(compared)
    ]
    steps = [
        cells(
            each["name"],
            each["state"],
            "–" if each["rows"] is None else count(each["rows"]),
            "–" if each["duration_ms"] is None else milliseconds(each["duration_ms"]),
            "–" if each["longest_lock_ms"] is None else milliseconds(each["longest_lock_ms"]),
        )
        for each in document["steps"]
    ]
    tables = []
    if compared:
        heads: tuple[str, ...] = ("partition", "rows before", "rows after", "fingerprints")
        said = caption("Rows before and after, partition by partition", compared)
        tables.append(PageTable(said, heads, tuple(rows), frozenset([1, 2])))
    if steps:
        heads = ("step", "state", "rows", "time", "strong lock held")
        tables.append(PageTable("The steps", heads, tuple(steps), frozenset([2, 3, 4])))
    breaks = document.get("breaks", [])
    total = sum(each["rows_after"] for each in compared)
    summary = []
    if compared and len(same) == len(compared):
        summary.append(
            f"{document['table']} was converted with {count(total)} rows, the same as before in each of "
            f"{len(compared)} partitions; the longest strong lock was held for "
            f"{milliseconds(document['longest_lock_ms'])}."
        )
    keys = [
        f"The {each['what']} {each['name']} becomes {', '.join(each['after'])} (it was {', '.join(each['before'])})."
        for each in document["key_changes"]
    ]
    return Section(
        anchor=anchor,
        title="The conversion",
        at=saved_at(document),
        lead=f"{document['table']} to {document['layout']}: {document['phase']}.",
        facts=[
            ("way", document["way"]),
            ("rows copied", count(document["rows_copied"])),
            ("longest strong lock", milliseconds(document["longest_lock_ms"])),
            ("the old table stays as", document["old_table"]),
        ],
        texts=[*keys, *map(sentence, document.get("notes", []))],
        tables=tables,
        codes=[(f"{each['name']}: {each['text']} Instead: {each['instead']}", each["sql"]) for each in breaks[:10]],
        summary=summary,
        watch=[
            *(f"{each['partition']} differs from the old table." for each in compared if not each["same"]),
            *(f"The statement {each['name']} would fail: {each['text']}" for each in breaks if each["fails"]),
        ],
    )


def census(document: Document, anchor: str) -> Section | None:
    """Every partition; None for the first rows of one."""
    if "partitions" not in document:
        return None
    partitions = document["partitions"]
    most = max((each["bytes"] for each in partitions), default=0)
    rows = [
        cells(each["name"], bounds(each), count(each["rows"]), bar(each["bytes"], most, size(each["bytes"])))
        for each in first_and_last(partitions)
    ]
    against = document["against"]
    tables = [
        PageTable(
            caption("Every partition", partitions),
            ("partition", "holds", "rows", "size"),
            tuple(rows),
            frozenset([2, 3]),
        )
    ]
    if against:
        differing = [each for each in against if each["before"] != each["after"]]
        tables.append(
            PageTable(
                "Counts of before against those of now",
                ("bucket", "before", "now"),
                tuple(
                    cells(_short(each["bucket"]), count(each["before"]), Cell(count(each["after"]), _same(each)))
                    for each in first_and_last(against)
                ),
                frozenset([1, 2]),
            )
        )
    else:
        differing = []
    return Section(
        anchor=anchor,
        title="The count",
        at=saved_at(document),
        lead=f"{document['table']} has {len(partitions)} partitions, {document['by']} by {', '.join(document['key'])}.",
        texts=[sentence(text) for text in document["notes"]],
        tables=tables,
        watch=[
            *(sentence(each["text"]) for each in document["findings"]),
            *(
                f"{each['bucket']} holds {count(each['after'])} rows, {count(each['before'])} before."
                for each in differing
            ),
        ],
    )


def _short(bucket: str) -> str:
    """A bucket's bounds without midnights in UTC."""
    return bucket.replace(" 00:00:00+00:00", "")


def _same(each: Document) -> str:
    return "good" if each["before"] == each["after"] else "bad"


def prove(document: Document, anchor: str) -> Section:
    """Which partitions the queries touch, and what does not prune."""
    queries = document["queries"]
    judged = [each for each in queries if each["ok"] is not None]
    broken = [each for each in judged if not each["ok"]]
    rows = [
        cells(
            each["name"],
            each["table"],
            f"{_touched(each)} of {each['total']}",
            Cell(each["verdict"], "bad" if each["verdict"] == "every" and each["total"] > 1 else ""),
            each["limit"] or "–",
            Cell("holds", "good") if each["ok"] else Cell("broken", "bad") if each["ok"] is not None else "–",
        )
        for each in queries
    ]
    columns = ("query", "table", "partitions touched", "verdict", "limit", "the limit")
    codes = []
    for each in queries:
        if each["verdict"] != "every" or each["total"] < 2:
            continue
        why = " ".join(reason["text"] for reason in each["reasons"])
        codes.append((f"{each['name']}: {why}".rstrip(": "), each["rewrite"] or each["sql"]))
    rewrites = sum(1 for each in queries if each["rewrite"])
    return Section(
        anchor=anchor,
        title="The proof",
        at=saved_at(document),
        lead=f"{document['pruning']} of {len(queries)} queries leave partitions out; {len(broken)} of {len(judged)} "
        f"limits are broken; {rewrites} have a form that prunes better.",
        texts=[f"{each['name']} was not proven: {each['reason']}." for each in document["unproven"]],
        tables=[PageTable("Partitions that each query touches", columns, tuple(rows), frozenset([2]))],
        codes=codes,
        summary=[
            f"{document['pruning']} of {len(queries)} queries read only the partitions they need"
            + (f"; {len(broken)} of {len(judged)} limits are broken." if judged else ".")
        ],
        watch=[
            *(
                f"{each['name']} touches {_touched(each)} of {each['total']} partitions, more than its limit."
                for each in broken
            ),
            *(sentence(f"{each['name']}: {warning['text']}") for each in queries for warning in each["warnings"]),
        ],
    )


def _touched(each: Document) -> int:
    known = each["executed"] if each["executed"] is not None else each["planned"]
    return len(known if known is not None else each["predicted"] or ())


def compare(document: Document, anchor: str) -> Section:
    """The same queries before and after."""
    queries = document["queries"]
    is_pair = document["before"] is not None
    most = max((side["blocks"] for each in queries for side in (each["before"], each["after"]) if side), default=0)
    rows = []
    for each in queries:
        then, now = each["before"], each["after"]
        head = [bar(then["blocks"], most, count(then["blocks"]), second=True)] if then else []
        times = [milliseconds(then["planning_ms"] + then["execution_ms"])] if then else []
        after = milliseconds(now["planning_ms"] + now["execution_ms"])
        end = [("same" if each["same_rows"] else Cell("differ", "bad"))] if then else []
        rows.append(cells(each["name"], *head, bar(now["blocks"], most, count(now["blocks"])), *times, after, *end))
    columns = ("query", "blocks before", "blocks after", "time before", "time after", "rows") if is_pair else (
        "query", "blocks", "time")  # fmt: skip
    facts, summary = [], []
    if (day := document["day"]) is not None:
        facts += [
            (
                "blocks a day",
                f"{count(round(day['before']['blocks']))} before, {count(round(day['after']['blocks']))} after",
            ),
            (
                "of them read",
                f"{count(round(day['before']['reads']))} before, {count(round(day['after']['reads']))} after",
            ),
            ("time a day", f"{milliseconds(day['before']['ms'])} before, {milliseconds(day['after']['ms'])} after"),
        ]
        summary.append(
            f"A day of {day['queries']} queries with the same results read {count(round(day['before']['reads']))} "
            f"blocks before and {count(round(day['after']['reads']))} after, in {milliseconds(day['before']['ms'])} "
            f"and {milliseconds(day['after']['ms'])}."
        )
    texts: list[str] = []
    if (money := document["money"]) is not None:
        sums = f"{money['before']:,.2f} {money['currency']} before, {money['after']:,.2f} after"
        facts.append(("in money, a month", sums))
        summary.append(f"In money, a month: {sums}.")
        texts += money["assumptions"]
    texts += [f"{each['name']} is left out, {each['reason']}." for each in document["left_out"][:10]]
    title = "Before and after" if is_pair else "As measured"
    return Section(
        anchor=anchor,
        title=title,
        at=saved_at(document),
        lead=f"The same queries on {document['before']} and on {document['after']}, {document['times']} times each."
        if is_pair
        else f"The queries on {document['after']}.",
        facts=facts,
        texts=texts,
        tables=[PageTable("Each query", columns, tuple(rows), frozenset(range(1, len(columns))))],
        summary=summary,
        watch=["The tables did not hold the same rows: nothing is summed up."] if document["rows_apart"] else [],
    )


def tend(document: Document, anchor: str) -> Section:
    """What upkeep did."""
    actions = document["actions"]
    rows = [
        cells(
            each["partition"],
            each["kind"],
            Cell(each["state"], {"done": "good", "failed": "bad"}.get(each["state"], "")),
            "–" if each["rows"] is None else count(each["rows"]),
            "–" if each["duration_ms"] is None else milliseconds(each["duration_ms"]),
            each["text"] or each["reason"],
        )
        for each in first_and_last(actions)
    ]
    done = sum(each["state"] == "done" for each in actions)
    columns = ("partition", "action", "state", "rows", "time", "why")
    said = caption("What upkeep did", actions)
    return Section(
        anchor=anchor,
        title="Upkeep",
        at=saved_at(document),
        lead=f"As of {document['now'][:10]}: {done} of {len(actions)} actions done."
        if actions
        else "Nothing was to do.",
        tables=[PageTable(said, columns, tuple(rows), frozenset([3, 4]))] if actions else [],
        summary=[
            f"Upkeep as of {document['now'][:10]}: {', '.join(_with_time(each) for each in finished)}."
            for finished in [[each for each in actions if each["state"] == "done"]]
            if 0 < len(finished) <= _FEW
        ],
        watch=[
            *(sentence(f"{each['table']}: {each['text']}") for each in document["findings"]),
            *(f"{each['table']}: {each['problem']}" for each in document["errors"]),
            *(
                f"{each['partition']} could not be {each['kind']}ed: {each['text']}"
                for each in actions
                if each["state"] == "failed"
            ),
        ],
    )


_FEW = 4


def _with_time(each: Document) -> str:
    done = {"create": "created", "detach": "detached", "drop": "dropped", "archive": "archived", "merge": "merged",
            "sweep": "swept", "place": "moved"}[each["kind"]]  # fmt: skip
    took = "" if each["duration_ms"] is None else f" in {milliseconds(each['duration_ms'])}"
    return f"{each['partition']} {done}{took}"


def history(document: Document, anchor: str) -> Section:
    """The ledger."""
    rows = [
        cells(each["clock"][:19].replace("T", " "), each["kind"], each["partition"] or each["table"],
              Cell(each["state"], {"done": "good", "failed": "bad"}.get(each["state"], "")),
              "–" if each["duration_ms"] is None else milliseconds(each["duration_ms"]), each["role"])
        for each in document["entries"][:MOST_ROWS]
    ]  # fmt: skip
    columns = ("when", "what", "of", "state", "time", "by")
    return Section(
        anchor=anchor,
        title="The ledger",
        at=saved_at(document),
        tables=[PageTable("What was done, the newest first", columns, tuple(rows), frozenset([4]))],
    )
