"""How a forecast looks."""

from collections.abc import Iterable, Sequence
from typing import Any

from rich.console import Console

from slabrow.show.bounds import BOUNDS_HEADER, bounds_data, bounds_row, held
from slabrow.show.output import Json, Shown, heading, note, plain, print_table, table
from slabrow.show.words import MOST_LINES, bar, count, ends, plural, size
from slabrow.work.prospect import Prospect

_BAR_WIDTH = 30


def _data(prospect: Prospect) -> Json:
    return {
        "table": prospect.relation.spelling,
        "layout": str(prospect.layout),
        "exact": prospect.is_exact,
        "homeless_rows": prospect.homeless,
        "partitions": [
            {"name": sized.planned.name, **bounds_data(sized.planned.bounds), "rows": sized.rows, "bytes": sized.bytes}
            for sized in prospect.sized
        ],
    }


def _rows(prospect: Prospect) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("name", *BOUNDS_HEADER, "rows", "bytes"), [
        [sized.planned.name, *bounds_row(sized.planned.bounds), sized.rows, sized.bytes] for sized in prospect.sized
    ]


def _text(prospect: Prospect, out: Console) -> None:
    layout = prospect.layout
    heading(out, f"{prospect.relation.spelling} by {layout}: {plural(len(prospect.sized), 'partition')}")
    text_partitions(prospect, out)
    if prospect.homeless:
        out.print(
            plain(
                f"{count(prospect.homeless)} rows would have no partition: the layout needs catch_all = true "
                "or more partitions"
            )
        )
    if any(sized.rows is None for sized in prospect.sized):
        key = ", ".join(prospect.layout.key)
        note(out, f"There are no statistics of {key} that this role may see: ANALYZE the table, or ask with --exact.")
        return
    empty = sum(not sized.rows for sized in prospect.sized)
    filled = [sized.bytes for sized in prospect.sized if sized.rows and sized.bytes]
    if filled:
        out.print(
            plain(
                f"{plural(len(filled), 'partition')} with rows, {empty} empty for now; "
                f"the largest {size(max(filled))}, the smallest {size(min(filled))}, indexes included."
            )
        )
    note(
        out,
        "Bounds are half-open: `from` is in, `to` is out. "
        + ("Rows were counted." if prospect.is_exact else "Rows are estimated from statistics; --exact counts them."),
    )


def text_partitions(prospect: Prospect, out: Console) -> None:
    """The partitions as a table, with a bar for the rows of each."""
    most = max((sized.rows or 0 for sized in prospect.sized), default=0) or 1
    lines = table("partition", "from (in)", "to (out)", "rows", "bytes", "", right=("rows", "bytes"))
    for sized in ends(prospect.sized):
        if sized is None:
            lines.add_row(plain(f"… {len(prospect.sized) - MOST_LINES:,} more, in csv and json"))
            continue
        cells = map(plain, (sized.planned.name, *held(sized.planned.bounds, prospect.layout.zone)))
        lines.add_row(*cells, count(sized.rows), size(sized.bytes), bar((sized.rows or 0) / most, _BAR_WIDTH))
    print_table(out, lines, ("", "bytes"))


SHOWN: Shown[Prospect] = Shown("forecast", _data, _rows, _text)
