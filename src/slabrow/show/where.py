"""How found rows look: the partitions that hold them, or the rows themselves."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.values.wording import count, rows_of
from slabrow.show.bounds import bounds_data, held
from slabrow.show.output import Json, Shown, heading, note, plain, table
from slabrow.show.words import plural
from slabrow.work.find_rows import FirstRows, RowsFound

if TYPE_CHECKING:
    from rich.console import Console


def _data(found: RowsFound) -> Json:
    return {
        "table": found.tree.spelling,
        "where": found.condition,
        "rows": found.rows,
        "leaves": len(found.tree.leaves),
        "leaves_read": found.read,
        "partitions": [
            {"partition": each.partition, "rows": each.rows, "low": each.low, "high": each.high} for each in found.found
        ],
    }


def _rows(found: RowsFound) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("partition", "rows", "low", "high"), [
        [each.partition, each.rows, each.low, each.high] for each in found.found
    ]


def _text(found: RowsFound, out: Console) -> None:
    heading(out, f"{found.tree.spelling} where {found.condition}: {rows_of(found.rows)}")
    if found.found:
        lines = table("partition", "rows", "lowest key", "highest key", right=("rows",))
        for each in found.found:
            lines.add_row(plain(each.partition), count(each.rows), plain(each.low or "–"), plain(each.high or "–"))
        out.print(lines)
    note(out, f"The server looked at {found.read:,} of {plural(len(found.tree.leaves), 'leaf', 'leaves')}.")


SHOWN: Shown[RowsFound] = Shown("route", _data, _rows, _text)


def _first_data(first: FirstRows) -> Json:
    return {
        "partition": str(first.name),
        **(bounds_data(first.bounds) if first.bounds is not None else {}),
        "columns": list(first.columns),
        "rows": [list(row) for row in first.rows],
    }


def _first_rows(first: FirstRows) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return first.columns, [[_cell(value) for value in row] for row in first.rows]


def _cell(value: Any) -> Any:
    return json.dumps(value, ensure_ascii=False) if isinstance(value, dict | list) else value


def _first_text(first: FirstRows, out: Console) -> None:
    low, high = held(first.bounds) if first.bounds is not None else ("", "")
    where = f", keys from {low} (in) to {high} (out)" if high else f", {low}" if low else ""
    heading(out, f"{first.name}{where}: {plural(len(first.rows), 'row')} of it")
    lines = table(*first.columns)
    for row in first.rows:
        lines.add_row(*(plain("–" if value is None else str(_cell(value))) for value in row))
    out.print(lines)


FIRST_SHOWN: Shown[FirstRows] = Shown("census", _first_data, _first_rows, _first_text)
