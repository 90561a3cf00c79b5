"""Puts a result on standard output, once and whole, in the format asked for."""

import csv
import io
import json
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from slabrow import __version__

Result = TypeVar("Result")
Json = dict[str, Any]
PLAIN_WIDTH = 150  # columns, where the output is no terminal
_GREY, _GOOD, _BAD = "bright_black", "green", "bold bright_red"


@dataclass(frozen=True, slots=True)
class Shown(Generic[Result]):
    """How one command's results look: as JSON, as rows for CSV, and as text."""

    command: str
    data: Callable[[Result], Json]
    rows: Callable[[Result], tuple[Sequence[str], Iterable[Sequence[Any]]]]
    text: Callable[[Result, Console], None]


def show(shown: Shown[Result], result: Result, format_: str) -> None:
    """format_: text, json or csv."""
    match format_:
        case "json":
            sys.stdout.write(as_json(shown, result))
        case "csv":
            buffer = io.StringIO()
            header, rows = shown.rows(result)
            writer = csv.writer(buffer, lineterminator="\n")
            writer.writerow(header)
            writer.writerows(rows)
            sys.stdout.write(buffer.getvalue())
        case _ if sys.stdout.isatty():
            shown.text(result, console())
        case _:
            out = console()
            with out.capture() as captured:
                shown.text(result, out)
            sys.stdout.write("".join(line.rstrip() + "\n" for line in captured.get().splitlines()))
    sys.stdout.flush()


def as_json(shown: Shown[Result], result: Result) -> str:
    """The JSON document of a result, as scripts get it."""
    document = {"slabrow": __version__, "command": shown.command, **shown.data(result)}
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def console() -> Console:
    """Standard output: colours and the terminal's width on a terminal, plain and wide elsewhere."""
    if sys.stdout.isatty():
        return Console(highlight=False, no_color="NO_COLOR" in os.environ)
    return Console(highlight=False, width=PLAIN_WIDTH, no_color=True, force_terminal=False, legacy_windows=False)


def table(*columns: str, right: Iterable[str] = ()) -> Table:
    """An empty table; columns named in `right` are numbers."""
    made = Table(box=box.SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
    for column in columns:
        numeric = column in tuple(right)
        made.add_column(column, justify="right" if numeric else "left", no_wrap=numeric, overflow="fold")
    return made


def heading(out: Console, text: str) -> None:
    out.print(Text(text, style="bold"))


def note(out: Console, text: str) -> None:
    out.print(Text(text, style=_GREY))


def good(text: str) -> Text:
    return Text(text, style=_GOOD)


def bad(text: str) -> Text:
    return Text(text, style=_BAD)


def plain(text: str) -> Text:
    """Text from outside: never read as markup."""
    return Text(text)
