"""Puts the sections on one page: HTML with its style and its drawings in it. No script, and nothing is fetched."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.resources import files

from slabrow import __version__
from slabrow.core.values.errors import UsageError
from slabrow.core.values.one_line import without_controls
from slabrow.core.values.wording import milliseconds
from slabrow.show.report.parts import Chart, Section
from slabrow.show.report.pieces import Document
from slabrow.show.report.sections import ORDER, section_of

_WIDTH, _HEIGHT = 400.0, 210.0  # of a chart, in its own units
_LEFT, _RIGHT, _TOP, _BOTTOM = 52.0, 8.0, 8.0, 24.0
_MOST_WATCHED = 30
_DASHES = ("none", "7 3", "2 3", "9 3 2 3")


@dataclass(frozen=True, slots=True)
class _DrawnLine:
    name: str
    path: str
    number: int
    dashes: str


@dataclass(frozen=True, slots=True)
class _Drawing:
    """A chart as paths: lines, and the marks of both axes as (place, words)."""

    lines: tuple[_DrawnLine, ...]
    upright: tuple[tuple[float, str], ...]
    level: tuple[tuple[float, str], ...]


def page_of(documents: Sequence[tuple[str, Document]], title: str | None = None) -> str:
    """The page. documents: with the name of the file that each came from.

    Raises UsageError when a document is not as this version saves it, or none of them has a section.
    """
    from jinja2 import Environment, StrictUndefined

    sections: list[Section] = []
    ordered = sorted(documents, key=lambda each: (_place(each[1]), str(each[1].get("at", ""))))
    for number, (name, document) in enumerate(ordered, 1):
        try:
            section = section_of(document, f"part-{number}")
        except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
            raise UsageError(
                f"{name} is not a result as this version saves it",
                found=f"{type(error).__name__}: {error}",
                fix="run the command again with --save",
            ) from None
        if section is not None:
            sections.append(section)
    if not sections:
        commands = ", ".join(sorted({str(document["command"]) for _, document in documents}))
        raise UsageError("there is nothing to report", found=f"results of: {commands}", fix=f"save one of {_names()}")
    template = files("slabrow.show.report").joinpath("page.html.j2").read_text(encoding="utf-8")
    made = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    made.filters["drawn"] = drawn
    moment = max((str(document["at"]) for _, document in documents if "at" in document), default="")
    watched = [(section, text) for section in sections for text in section.watch]
    text = made.from_string(template).render(
        title=title or _title(documents),
        sections=sections,
        summary=[text for section in sections for text in section.summary],
        watch=watched[:_MOST_WATCHED],
        unwatched=max(0, len(watched) - _MOST_WATCHED),
        version=__version__,
        made=_moment(moment),
        width=_WIDTH,
        height=_HEIGHT,
    )
    return without_controls(text)


def _place(document: Document) -> int:
    command = str(document["command"])
    return ORDER.index(command) if command in ORDER else len(ORDER)


def _names() -> str:
    return ", ".join(ORDER)


def _moment(text: str) -> str:
    try:
        return f"{datetime.fromisoformat(text).astimezone(UTC):%Y-%m-%d %H:%M} UTC"
    except ValueError:
        return ""


def _title(documents: Sequence[tuple[str, Document]]) -> str:
    tables = dict.fromkeys(_table(document) for _, document in documents)
    known = [table for table in tables if table]
    return f"Partitions of {', '.join(known[:3])}" if known else "Partitions"


def _table(document: Document) -> str:
    if document["command"] == "compare":
        return str(document["after"])
    return str(document.get("table") or "")


def drawn(chart: Chart) -> _Drawing:
    """A chart of 24 hours with a logarithmic upright axis."""
    values = [value for line in chart.lines for _, value in line.points]
    low = math.floor(math.log10(min(values))) if values else 0
    high = max(low + 1, math.ceil(math.log10(max(values)))) if values else 1

    def across(hour: float) -> float:
        return _LEFT + (_WIDTH - _LEFT - _RIGHT) * hour / 24

    def up(value: float) -> float:
        share = (math.log10(value) - low) / (high - low)
        return _HEIGHT - _BOTTOM - (_HEIGHT - _TOP - _BOTTOM) * share

    lines = tuple(
        _DrawnLine(
            line.name,
            "M" + "L".join(f"{across(hour):.1f} {up(value):.1f}" for hour, value in line.points),
            place % 6,
            _DASHES[place % len(_DASHES)],
        )
        for place, line in enumerate(chart.lines)
    )
    upright = tuple((up(10.0**power), milliseconds(10.0**power)) for power in range(low, high + 1))
    level = tuple((across(hour), f"{hour}:00") for hour in range(0, 25, 6))
    return _Drawing(lines, upright, level)
