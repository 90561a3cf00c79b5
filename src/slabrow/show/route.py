"""How routes look."""

import csv
import json
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow import __version__
from slabrow.files.value_file import Columns
from slabrow.show.output import Json, Shown, bad, heading, plain, table
from slabrow.work.route import Hashing, Route, Routes

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text


def _data(routes: Routes) -> Json:
    return {
        "table": routes.table,
        "zone": routes.zone,
        "routes": [
            {"value": list(route.values), "partition": route.partition, "remainder": route.remainder, "why": route.why}
            for route in routes.routes
        ],
    }


def _rows(routes: Routes) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("value", "partition", "remainder", "why"), [
        [_spelled(route), route.partition, route.remainder, route.why] for route in routes.routes
    ]


def _spelled(route: Route) -> str:
    return ", ".join("NULL" if value is None else value for value in route.values)


def _home(route: Route) -> "Text":
    if route.partition is not None:
        return plain(route.partition)
    return bad("nowhere") if route.remainder is None else plain(f"remainder {route.remainder}")


def _text(routes: Routes, out: "Console") -> None:
    heading(out, routes.title)
    lines = table("value", "goes to", "because", folds=("because",))
    for route in routes.routes:
        lines.add_row(plain(_spelled(route)), _home(route), plain(route.why))
    out.print(lines)


SHOWN: Shown[Routes] = Shown("route", _data, _rows, _text)


def stream(batches: Iterable[Routes], format_: str) -> int:
    """Prints routes batch by batch, in constant memory: for millions of keys. Returns how many have no partition.

    csv and json are as for a few keys; text is a line a key, `value<TAB>partition`.
    """
    homeless, table_name, zone, separator = 0, None, "UTC", ""
    _open_json(format_)
    for routes in batches:
        table_name, zone = routes.table, routes.zone
        homeless += sum(route.partition is None for route in routes.routes)
        match format_:
            case "json":
                for entry in _data(routes)["routes"]:
                    sys.stdout.write(f"{separator}\n{json.dumps(entry, ensure_ascii=False)}")
                    separator = ","
            case "csv":
                header, rows = _rows(routes)
                writer = csv.writer(sys.stdout, lineterminator="\n")
                writer.writerows(rows if separator else [header, *rows])
                separator = ","
            case _:
                lines = (f"{_spelled(route)}\t{route.partition or 'nowhere'}\n" for route in routes.routes)
                sys.stdout.write("".join(lines))
    _close_json(format_, table_name, zone)
    return homeless


def stream_hashed(hashing: Hashing, batches: Iterable[tuple[Columns, list[int]]], format_: str) -> None:
    """The same for keys that are hashed here. What follows a key is made once for each remainder."""
    whys = [f"remainder {remainder} of {hashing.parts}" for remainder in range(hashing.parts)]
    is_json, separator = format_ == "json", ""
    ends = [f",,{place},{why}\n" for place, why in enumerate(whys)]
    if is_json:
        ends = [f', "partition": null, "remainder": {place}, "why": "{why}"}}' for place, why in enumerate(whys)]
    _open_json(format_)
    if not is_json:
        sys.stdout.write("value,partition,remainder,why\n")
    for columns, found in batches:
        keys = zip(*columns, strict=True)
        if is_json:
            entries = [f'\n{{"value": {json.dumps(key, ensure_ascii=False)}{ends[remainder]}'
                       for key, remainder in zip(keys, found, strict=True)]  # fmt: skip
            sys.stdout.write(separator + ",".join(entries))
            separator = ","
        else:
            cells = (_cell(", ".join(["NULL" if value is None else value for value in key])) for key in keys)
            sys.stdout.write("".join([cell + ends[place] for cell, place in zip(cells, found, strict=True)]))
    _close_json(format_, None, str(hashing.zone))


def _cell(text: str) -> str:
    """A cell of CSV, quoted where it must be."""
    if text.isalnum():
        return text
    return '"' + text.replace('"', '""') + '"' if any(letter in text for letter in '",\r\n') or not text else text


def _open_json(format_: str) -> None:
    if format_ == "json":
        sys.stdout.write(f'{{"slabrow": {json.dumps(__version__)}, "command": "route", "routes": [')


def _close_json(format_: str, table_name: str | None, zone: str) -> None:
    if format_ == "json":
        sys.stdout.write(f'\n], "table": {json.dumps(table_name)}, "zone": {json.dumps(zone)}}}\n')
