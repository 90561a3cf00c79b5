"""The pieces that the page is made of: plain data, before any HTML."""

from collections.abc import Sequence
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Cell:
    """mark: `good` or `bad`; bar: 0 to 100, the length of a bar that stands for the text; second: the bar's colour"""

    text: str
    mark: str = ""
    bar: float | None = None
    second: bool = False


@dataclass(frozen=True, slots=True)
class PageTable:
    """numbers: the places of columns that are set to the right; the first cell of a row is its heading"""

    caption: str
    columns: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]
    numbers: frozenset[int] = frozenset()


@dataclass(frozen=True, slots=True)
class Line:
    """A line of a chart: its name, and its points."""

    name: str
    points: tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class Chart:
    """A chart of lines over the hours of a day, the upright axis logarithmic. Its values stand in a table too."""

    caption: str
    lines: tuple[Line, ...]
    table: PageTable


@dataclass(frozen=True, slots=True, kw_only=True)
class Section:
    """One part of the page.

    lead     what it says in a sentence or two
    facts    names and their values
    texts    sentences, each a line of a list
    codes    statements, with what is said of each
    """

    anchor: str
    title: str
    at: str = ""
    lead: str = ""
    facts: Sequence[tuple[str, str]] = ()
    texts: Sequence[str] = ()
    tables: Sequence[PageTable] = ()
    charts: Sequence[Chart] = ()
    codes: Sequence[tuple[str, str]] = ()
    summary: Sequence[str] = field(default=())
    watch: Sequence[str] = field(default=())


def cells(*values: "str | Cell") -> tuple[Cell, ...]:
    """A row."""
    return tuple(value if isinstance(value, Cell) else Cell(value) for value in values)


def bar(value: float, most: float, text: str, *, second: bool = False) -> Cell:
    """A number with a bar as long as its share of the most."""
    return Cell(text, bar=100 * value / most if most > 0 else 0.0, second=second)
