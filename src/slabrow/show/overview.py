"""How a database at a glance looks."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.statistics.glance import Advice, Glance, Overview
from slabrow.core.values.wording import count, share, size
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, print_table, table
from slabrow.show.words import plural

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

_MOST_SHOWN = 40


def _data(seen: Overview) -> Json:
    return {
        "database": seen.database,
        "memory_bytes": seen.cache_bytes,
        "counted_since": None if seen.since is None else seen.since.isoformat(),
        "hidden": seen.hidden,
        "tables": [_table_data(seen, each) for each in seen.tables],
    }


def _table_data(seen: Overview, each: Glance) -> Json:
    found, parts = seen.verdict(each), each.parts
    return {
        "table": str(each.name),
        "rows": each.rows,
        "heap_bytes": each.heap_bytes,
        "index_bytes": each.index_bytes,
        "bytes": each.bytes,
        "ageing": each.ageing,
        "rows_a_day": None if each.growth is None else round(each.growth.rows_a_day, 1),
        "grows_a_year": None if each.grows_a_year is None else round(each.grows_a_year, 4),
        "rows_scanned": each.scanned,
        "rows_fetched": each.fetched,
        "rows_written": each.written,
        "partitions": None
        if parts is None
        else {
            "leaves": parts.leaves,
            "by": parts.by,
            "oldest": None if parts.oldest is None else parts.oldest.isoformat(),
            "ends": None if parts.ends is None else parts.ends.isoformat(),
            "catch_all_rows": parts.catch_all_rows,
            "statistics_rows": parts.statistics_rows,
            "unanalysed": parts.unanalysed,
        },
        "verdict": str(found.advice),
        "why": found.why,
        "command": found.command or None,
    }


def _rows(seen: Overview) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    header = ("table", "rows", "bytes", "index_bytes", "grows_a_year", "ageing", "rows_scanned", "rows_fetched",
              "rows_written", "partitions", "verdict", "why", "command")  # fmt: skip
    return header, [
        [
            each.name,
            each.rows,
            each.bytes,
            each.index_bytes,
            each.grows_a_year,
            each.ageing,
            each.scanned,
            each.fetched,
            each.written,
            0 if each.parts is None else each.parts.leaves,
            seen.verdict(each).advice,
            seen.verdict(each).why,
            seen.verdict(each).command,
        ]
        for each in seen.tables
    ]


def _text(seen: Overview, out: "Console") -> None:
    total = sum(each.bytes for each in seen.tables)
    heading(out, f"{seen.database}: {plural(len(seen.tables), 'table')}, {size(total)}")
    lines = table(
        "table", "rows", "bytes", "indexes", "a year", "ages along", "scanned", "by index", "written", "partitions", "",
        right=("rows", "bytes", "indexes", "a year", "scanned", "by index", "written", "partitions"), folds=("table",),
    )  # fmt: skip
    for each in seen.tables[:_MOST_SHOWN]:
        grows = each.grows_a_year
        lines.add_row(
            plain(str(each.name)),
            count(each.rows),
            size(each.bytes),
            size(each.index_bytes),
            "–" if grows is None else f"+{share(grows)}",
            plain(each.ageing or "–"),
            _short(each.scanned),
            _short(each.fetched),
            _short(each.written),
            "–" if each.parts is None else count(each.parts.leaves),
            _advice(seen.verdict(each).advice),
        )
    print_table(out, lines, ("indexes", "by index", "written", "scanned"))
    if len(seen.tables) > _MOST_SHOWN:
        note(out, f"… {len(seen.tables) - _MOST_SHOWN} smaller ones more, in csv and json")
    found = [(each, seen.verdict(each)) for each in seen.tables]
    told = [(each, what) for each, what in found if what.advice in (Advice.WEIGH, Advice.LOOK)]
    if told:
        heading(out, "Where to begin")
    for each, what in told[:_MOST_SHOWN]:
        out.print(plain(f"  {each.name}, {what.advice}: {what.why}"))
        if what.command:
            out.print(plain(f"      {what.command}"), style="bold")
    if not told:
        heading(out, "Nothing asks for a change")
    if seen.hidden:
        note(out, f"{plural(seen.hidden, 'table')} more that this role may not read.")
    since = "" if seen.since is None else f" since {seen.since:%Y-%m-%d}"
    counted = seen.uncounted or f"`scanned`, `by index`, `written`: rows{since}, by the server's counters."
    note(out, f"Rows and bytes are the catalogue's. {counted}")
    note(out, f"Memory: {size(seen.cache_bytes)}, as the server's settings say.")


def _short(number: int | None) -> str:
    """12345678 → `12.3 M`; None → `–`."""
    if number is None:
        return "–"
    for power, unit in ((1e12, "T"), (1e9, "G"), (1e6, "M"), (1e3, "k")):
        if number >= power and number >= 10_000:
            return f"{number / power:.0f} {unit}" if number >= 100 * power else f"{number / power:.1f} {unit}"
    return count(number)


def _advice(advice: Advice) -> "Text":
    match advice:
        case Advice.LOOK:
            return bad(str(advice))
        case Advice.FINE:
            return good(str(advice))
        case _:
            return plain(str(advice))


OVERVIEW: Shown[Overview] = Shown("survey", _data, _rows, _text)
