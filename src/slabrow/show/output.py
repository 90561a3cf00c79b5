"""Puts a result on standard output, once and whole, in the format asked for."""

import csv
import io
import json
import os
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from slabrow import __version__
from slabrow.core.values.one_line import one_line, without_controls

if TYPE_CHECKING:  # rich takes a tenth of a second to load: JSON, CSV and runs that found nothing do without it
    from rich.console import Console, JustifyMethod
    from rich.table import Table
    from rich.text import Text

    Cell = str | Text

Result = TypeVar("Result")
Json = dict[str, Any]
PLAIN_WIDTH = 150  # columns, where the output is no terminal
_GREY, _GOOD, _BAD = "bright_black", "green", "bold bright_red"


@dataclass(frozen=True, slots=True)
class Shown(Generic[Result]):
    """How one command's results look: as JSON, as rows for CSV, and as text.

    plain   the text for a file or a pipe, of results that need no console to be laid out; None for the others
    """

    command: str
    data: Callable[[Result], Json]
    rows: Callable[[Result], tuple[Sequence[str], Iterable[Sequence[Any]]]]
    text: "Callable[[Result, Console], None]"
    plain: Callable[[Result], str | None] = lambda _: None


def show(shown: Shown[Result], result: Result, format_: str, save: str | None = None) -> None:
    """format_: text, json or csv; save: a file that gets the JSON besides, with the moment in it."""
    if save is not None:
        from slabrow.files.writing import write_file

        write_file(Path(save), as_json(shown, result, datetime.now(UTC)))
    match format_:
        case "json":
            sys.stdout.write(as_json(shown, result))
        case "csv":
            buffer = io.StringIO()
            header, rows = shown.rows(result)
            writer = csv.writer(buffer, lineterminator="\n")
            writer.writerow(header)
            writer.writerows([_csv_cell(cell) for cell in row] for row in rows)
            sys.stdout.write(buffer.getvalue())
        case _ if sys.stdout.isatty():
            shown.text(result, console())
        case _ if (text := shown.plain(result)) is not None:
            sys.stdout.write(text)
        case _:
            out = console()
            with out.capture() as captured:
                shown.text(result, out)
            sys.stdout.write("".join(line.rstrip() + "\n" for line in captured.get().splitlines()))
    sys.stdout.flush()


def _csv_cell(cell: Any) -> Any:
    """Truth values as JSON and SQL spell them."""
    return str(cell).lower() if isinstance(cell, bool) else cell


def as_json(shown: Shown[Result], result: Result, at: datetime | None = None) -> str:
    """The JSON document of a result, as scripts get it. at: when it was saved, which only a saved one says."""
    moment = {} if at is None else {"at": at.isoformat(timespec="seconds")}
    document = {"slabrow": __version__, "command": shown.command, **moment, **shown.data(result)}
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def load_console() -> None:
    """Loads what text is laid out with, for who has time for it before there is a text."""
    import rich.console
    import rich.measure
    import rich.table  # noqa: F401


def console() -> "Console":
    """Standard output: colours and the terminal's width on a terminal, plain and wide elsewhere.

    Control characters of what is printed are shown as escapes: a name must not steer a terminal.
    """
    from rich.console import Console
    from rich.segment import Segment

    class Steady(Console):
        def render(self, renderable: Any, options: Any = None) -> "Iterable[Segment]":
            for segment in super().render(renderable, options):
                text = segment.text
                yield segment if segment.control else Segment(without_controls(text), segment.style)

    if sys.stdout.isatty():
        return Steady(highlight=False, no_color="NO_COLOR" in os.environ)
    return Steady(highlight=False, width=PLAIN_WIDTH, no_color=True, force_terminal=False, legacy_windows=False)


@dataclass(slots=True)
class Lines:
    """A table being filled: a cell for each column in every row.

    right   the columns that are numbers
    folds   the columns of sentences and definitions: they may take several lines, where all others keep to one
    """

    columns: tuple[str, ...]
    right: tuple[str, ...]
    folds: tuple[str, ...] = ()
    rows: "list[tuple[Cell, ...]]" = field(default_factory=list)

    def add_row(self, *cells: "Cell") -> None:
        """Cells that are missing at the end stay empty."""
        shown = tuple(_on_one_line(cell) for cell in cells)
        self.rows.append(shown + ("",) * (len(self.columns) - len(shown)))

    def widths(self) -> list[int]:
        """The width that each column needs without folding."""
        every = (self.columns, *self.rows)
        return [max(_cells(row[place]) for row in every) for place in range(len(self.columns))]

    def plain(self) -> str | None:
        """The text that `drawn` gives without colours, made a hundred times faster; None where a cell has lines."""
        widths = self.widths()
        lines = [_plain_line(self.columns, widths, self._are_right), "─" * (sum(widths) + _BETWEEN * (len(widths) - 1))]
        for row in self.rows:
            texts = [cell if isinstance(cell, str) else cell.plain for cell in row]
            if any(not text.isprintable() for text in texts):
                return None
            lines.append(_plain_line(texts, widths, self._are_right))
        return "\n".join(lines)

    @property
    def _are_right(self) -> list[bool]:
        return [column in self.right for column in self.columns]

    def __rich__(self) -> "Table":
        return self.drawn(())

    def drawn(self, left_out: Sequence[str]) -> "Table":
        """The table without the columns that are left out."""
        from rich import box
        from rich.table import Table

        kept = [place for place, column in enumerate(self.columns) if column not in left_out]
        made = Table(box=box.SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
        for place in kept:
            name = self.columns[place]
            justify: JustifyMethod = "right" if name in self.right else "left"
            made.add_column(name, justify=justify, no_wrap=name not in self.folds, overflow="fold")
        for row in self.rows:
            made.add_row(*(row[place] for place in kept))
        return made


def _on_one_line(cell: "Cell") -> "Cell":
    if isinstance(cell, str):
        return cell if cell.isprintable() else one_line(cell)
    if cell.plain.isprintable():
        return cell
    from rich.text import Text

    return Text(one_line(cell.plain), style=cell.style)


def _plain_line(texts: Sequence[str], widths: Sequence[int], are_right: Sequence[bool]) -> str:
    from rich.cells import cell_len

    cells = []
    for text, width, is_right in zip(texts, widths, are_right, strict=True):
        blanks = " " * (width - cell_len(text))
        cells.append(blanks + text if is_right else text + blanks)
    return (" " * _BETWEEN).join(cells)


_BETWEEN = 3  # blanks between two columns


def _cells(cell: "Cell") -> int:
    """Columns of the terminal."""
    from rich.cells import cell_len

    return cell_len(cell) if isinstance(cell, str) else cell.cell_len


def table(*columns: str, right: Iterable[str] = (), folds: Iterable[str] = ()) -> Lines:
    """An empty table. right, folds: as of Lines."""
    return Lines(columns, tuple(right), tuple(folds))


def print_table(out: "Console", lines: Lines, least_needed: Sequence[str] = ()) -> None:
    """Prints a table. On a terminal too narrow for it, the columns that are `least_needed` are left out, in that order.

    A column that folds needs only a part of its width, and is left out only when even that is not there.
    """
    text = None if out.is_terminal else lines.plain()
    if text is not None:  # a file or a pipe has no width
        out.out(text)
        return
    widths = dict(zip(lines.columns, lines.widths(), strict=True))
    droppable = [name for name in least_needed if name in widths]
    left_out: list[str] = []
    while _needed(lines, widths, left_out) > out.width and len(left_out) < len(droppable):
        left_out.append(droppable[len(left_out)])
    out.print(lines.drawn(left_out))
    if named := [name for name in left_out if name]:
        note(out, f"(The terminal is too narrow for: {', '.join(named)}.)")


_FOLDED = 28  # columns of the terminal that a sentence or a definition can be read in


def _needed(lines: Lines, widths: Mapping[str, int], left_out: Sequence[str]) -> int:
    """The width of the table, with what folds as narrow as it may get."""
    kept = [name for name in lines.columns if name not in left_out]
    shown = [min(widths[name], _FOLDED) if name in lines.folds else widths[name] for name in kept]
    return sum(shown) + _BETWEEN * (len(kept) - 1)


def heading(out: "Console", text: str) -> None:
    """A line in bold."""
    text = one_line(text)
    from rich.cells import cell_len
    from rich.text import Text

    if out.is_terminal or cell_len(text) > out.width:
        out.print(Text(text, style="bold"))
    else:
        out.out(text)


def note(out: "Console", text: str) -> None:
    """A line in grey."""
    out.print(_styled(text, _GREY))


def good(text: str) -> "Text":
    """Text for what is well."""
    return _styled(text, _GOOD)


def bad(text: str) -> "Text":
    """Text for what is wrong."""
    return _styled(text, _BAD)


def plain(text: str) -> "Text":
    """Text from outside: never read as markup."""
    return _styled(text, "")


def _styled(text: str, style: str) -> "Text":
    from rich.text import Text

    return Text(text, style=style)
