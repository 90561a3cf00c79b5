"""How routes look."""

from collections.abc import Iterable, Sequence
from typing import Any

from rich.console import Console

from slabrow.show.output import Json, Shown, bad, heading, plain, table
from slabrow.work.route import Route, Routes


def _data(routes: Routes) -> Json:
    return {
        "table": routes.tree.spelling,
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


def _text(routes: Routes, out: Console) -> None:
    tree = routes.tree
    heading(out, f"{tree.spelling} by {tree.by} ({', '.join(column.text for column in tree.key)})")
    lines = table("value", "goes to", "because")
    for route in routes.routes:
        home = bad("nowhere") if route.partition is None else plain(route.partition)
        lines.add_row(plain(_spelled(route)), home, plain(route.why))
    out.print(lines)


SHOWN: Shown[Routes] = Shown("route", _data, _rows, _text)
