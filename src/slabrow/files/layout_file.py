"""Reads the layout file. All its faults are reported at once, each with its line and what to write instead."""

import json
import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Strict, StrictBool, StrictFloat, StrictInt, StrictStr, ValidationError

from slabrow.core.table.layout import HERE, Analyse, ArchiveForm, Coarsen, Group, Layout, PastKeep, PlaceRule, Wanted
from slabrow.core.table.spans import Span, Unit, parse_span
from slabrow.core.upkeep.elsewhere import Elsewhere
from slabrow.core.values.byte_sizes import parse_size, spelled_size
from slabrow.core.values.errors import LayoutError, SlabrowError, nearest
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, parse_name
from slabrow.core.values.one_line import one_line
from slabrow.core.values.zones import parse_zone
from slabrow.files.other_servers import Server, parse_elsewhere, parse_servers
from slabrow.files.places import hours_text, parse_hours, parse_place
from slabrow.files.prices_file import fault_of
from slabrow.files.reading import read_text, toml_document
from slabrow.files.wishes import parse_wanted, wanted_words


class _Entry(BaseModel):
    """One `[[layout]]` as TOML gives it, types checked and nothing else."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    table: StrictStr
    by: By
    key: list[StrictStr]
    span: StrictStr | StrictInt | None = None
    parts: StrictInt | None = None
    groups: dict[StrictStr, list[StrictStr | StrictInt]] | None = None
    zone: StrictStr = "UTC"
    # `from` is a word of Python's; TOML dates come as date and datetime objects, never as text.
    from_: StrictInt | Annotated[datetime, Strict()] | Annotated[date, Strict()] | None = None
    ahead: StrictStr | StrictInt | None = None
    keep: StrictStr | StrictInt | None = None
    past_keep: PastKeep = PastKeep.DETACH
    detach_to: StrictStr | None = None
    archive_to: StrictStr | None = None
    archive_as: ArchiveForm = ArchiveForm.PARQUET
    at_most_retired: StrictInt = 3
    at_most_share: StrictFloat | StrictInt = 0.5
    at_most_swept: StrictInt = 2_000_000
    analyse: StrictStr = "after change"
    coarsen: dict[StrictStr, StrictStr | StrictInt] | None = None
    place: list[dict[StrictStr, StrictStr | StrictInt]] | None = None
    at_most_moved: StrictStr | None = None
    place_hours: StrictStr | None = None
    wanted: dict[StrictStr, StrictStr | StrictInt | StrictFloat] | None = None
    servers: list[StrictStr] | None = None
    catch_all: StrictBool = False
    open_below: StrictBool = False
    partition_name: StrictStr = "{table}_{bound}"
    within: dict[str, Any] | None = None


KEYS = tuple("from" if name == "from_" else name for name in _Entry.model_fields)
_WITHIN = ("by", "key", "span", "parts", "groups", "from", "zone", "catch_all")  # what partitions of partitions may say


@dataclass(frozen=True, slots=True, order=True)
class _Fault:
    line: int
    text: str


def read_layouts(path: Path) -> tuple[Layout, ...]:
    """Every layout of a file, in its order. Raises LayoutError with all the faults, UsageError without a file."""
    return parse_layouts(read_text(path, "layout file", "--layout"), str(path))


def parse_layouts(text: str, name: str) -> tuple[Layout, ...]:
    """As `read_layouts`, from text; name is what messages call it."""
    return _parsed(text, name).layouts


@dataclass(frozen=True, slots=True)
class _Parsed:
    """All that a layout file says."""

    layouts: tuple[Layout, ...]
    ledger_schema: str | None
    servers: "tuple[Server, ...]"
    elsewhere: tuple[Elsewhere, ...]


@lru_cache(maxsize=4)
def _parsed(text: str, name: str) -> _Parsed:
    try:
        document = toml_document(text)
    except tomllib.TOMLDecodeError as error:
        raise LayoutError(
            f"{name} is not valid TOML", found=str(error), fix="correct that place; docs/layout.md has every key"
        ) from None
    lines = _Lines(text)
    faults: list[_Fault] = []
    layouts: list[Layout] = []
    ledger_schema = _ledger(document, lines, faults)
    servers = parse_servers(document, lambda text: faults.append(_Fault(lines.top("server"), text)))
    elsewhere = parse_elsewhere(document, lambda text: faults.append(_Fault(lines.top("elsewhere"), text)))
    if "prices" in document and (fault := fault_of(document["prices"])):
        faults.append(_Fault(lines.top("prices"), fault))
    for key in document:
        if key not in ("layout", "ledger", "server", "elsewhere", "prices"):
            near = (
                ": did you mean [[layout]]?" if nearest(key, ["layout"]) else ": a layout file holds [[layout]] tables"
            )
            faults.append(_Fault(lines.top(key), f"`{key}` is not known here{near}"))
    entries = document.get("layout", [])
    if not isinstance(entries, list):
        faults.append(_Fault(lines.top("layout"), "write [[layout]] with two brackets: a file may hold several"))
        entries = []
    for place, entry in enumerate(entries):
        layout = _layout(entry, lambda key, place=place: lines.of(place, key), faults)
        if layout is not None:
            layouts.append(layout)
    if not entries and not faults:
        faults.append(_Fault(1, "there is no [[layout]] in it"))
    faults += _doubles(layouts, lines)
    faults += _unknown_places(layouts, elsewhere, lines)
    if faults:
        listed = "\n".join(f"line {fault.line}: {fault.text}" for fault in sorted(faults))
        plural = "s" if len(faults) > 1 else ""
        raise LayoutError(
            f"{name} has {len(faults)} fault{plural}",
            found=listed,
            fix=f"correct the line{plural}; docs/layout.md has every key",
        )
    return _Parsed(tuple(layouts), ledger_schema, servers, elsewhere)


def read_ledger_schema(path: Path) -> str | None:
    """The schema of the ledger, from `[ledger]` of a layout file; None for none. Without a file the usual one."""
    if not path.exists():
        return LEDGER_SCHEMA
    return _parsed(read_text(path, "layout file", "--layout"), str(path)).ledger_schema


def read_servers(path: Path) -> tuple[Server, ...]:
    """The servers of a layout file, in its order. Raises as `read_layouts` does."""
    return _parsed(read_text(path, "layout file", "--layout"), str(path)).servers


def read_elsewhere(path: Path) -> tuple[Elsewhere, ...]:
    """The other servers that hold partitions, in the order of the file; without a file none."""
    return _parsed(read_text(path, "layout file", "--layout"), str(path)).elsewhere if path.exists() else ()


LEDGER_SCHEMA = "slabrow"


def _ledger(document: dict[str, Any], lines: "_Lines", faults: list[_Fault]) -> str | None:
    """`[ledger] schema = "name"`; `schema = ""` keeps none."""
    given = document.get("ledger", {})
    schema = given.get("schema", LEDGER_SCHEMA) if isinstance(given, dict) else None
    if not isinstance(schema, str) or (isinstance(given, dict) and set(given) - {"schema"}):
        faults.append(_Fault(lines.top("ledger"), '`[ledger]` has one key: schema = "name", or "" for no ledger'))
        return None
    return schema or None


def _holds_nul(value: object) -> bool:
    if isinstance(value, str):
        return "\0" in value
    if isinstance(value, dict):
        return any(_holds_nul(each) for pair in value.items() for each in pair)
    return isinstance(value, list) and any(map(_holds_nul, value))


def _layout(entry: dict[str, Any], line: "Any", faults: list[_Fault]) -> Layout | None:
    before = len(faults)
    for key, value in entry.items():
        if _holds_nul(value):
            faults.append(_Fault(line(key), f"`{key}` holds a NUL character, which no name or value on a server can"))
            return None
    try:
        read = _Entry.model_validate({"from_" if key == "from" else key: value for key, value in entry.items()})
    except ValidationError as error:
        for key, text in dict(_worded(detail) for detail in error.errors()).items():
            faults.append(_Fault(line(key), text))
        return None

    def converted(key: str, convert: Any, value: Any) -> Any:
        try:
            return None if value is None else convert(value)
        except SlabrowError as error:
            faults.append(_Fault(line(key), error.problem + (f": {error.fix}" if error.fix else "")))
            return None

    table: Name | None = converted("table", parse_name, read.table)
    span: Span | None = converted("span", parse_span, read.span)
    ahead: Span | None = converted("ahead", parse_span, read.ahead)
    keep: Span | None = converted("keep", parse_span, read.keep)
    coarsen: Coarsen | None = converted("coarsen", _coarsen, read.coarsen)
    place: tuple[PlaceRule, ...] | None = converted("place", parse_place, read.place)
    at_most_moved: int | None = converted("at_most_moved", parse_size, read.at_most_moved)
    place_hours: tuple[time, time] | None = converted("place_hours", parse_hours, read.place_hours)
    wanted: Wanted | None = converted("wanted", parse_wanted, read.wanted)
    analyse: Analyse | Span | None = converted("analyse", _analyse, read.analyse)
    converted("zone", parse_zone, read.zone)
    if not read.key:
        faults.append(_Fault(line("key"), "`key` names no column: name at least one"))
    within = _within(read, line, faults) if read.within is not None else None
    if len(faults) > before or table is None or analyse is None:
        return None
    layout = Layout(
        table=table,
        by=read.by,
        key=tuple(read.key),
        span=span,
        parts=read.parts,
        groups=tuple(Group(name, tuple(values)) for name, values in (read.groups or {}).items()),
        zone=read.zone,
        from_=read.from_,
        ahead=ahead,
        keep=keep,
        past_keep=read.past_keep,
        detach_to=read.detach_to,
        archive_to=read.archive_to,
        archive_as=read.archive_as,
        at_most_retired=read.at_most_retired,
        at_most_share=float(read.at_most_share),
        at_most_swept=read.at_most_swept,
        analyse=analyse,
        coarsen=coarsen,
        place=place or (),
        at_most_moved=at_most_moved,
        place_hours=place_hours,
        wanted=wanted,
        servers=tuple(read.servers or ()),
        catch_all=read.catch_all,
        open_below=read.open_below,
        partition_name=read.partition_name,
        within=within,
    )
    faults += [_Fault(line(key), text) for key, text in layout.faults()]
    return layout


def _coarsen(given: dict[str, str | int]) -> Coarsen:
    """`{ after = "3 months", span = "1 month" }`."""
    if set(given) != {"after", "span"}:
        raise LayoutError("`coarsen` has two keys", fix='write coarsen = { after = "3 months", span = "1 month" }')
    return Coarsen(parse_span(given["after"]), parse_span(given["span"]))


def _analyse(text: str) -> Analyse | Span:
    """`after change`, `never`, or how old statistics may be."""
    if text in tuple(Analyse):
        return Analyse(text)
    try:
        span = parse_span(text)
    except LayoutError as error:
        raise LayoutError(
            f"{text!r} says not when to analyse", fix='write "after change", "never", or "7 days"'
        ) from error
    if span.unit is Unit.NUMBER:
        raise LayoutError(f"{text!r} says not when to analyse", fix='write "after change", "never", or "7 days"')
    return span


def _within(read: _Entry, line: Any, faults: list[_Fault]) -> Layout | None:
    """The layout of partitions of partitions: as one of its own, for the same table and zone."""
    given = dict(read.within or {})
    for key in given:
        if key not in _WITHIN:
            near = nearest(key, _WITHIN)
            text = f"`{key}` is not a key of `within`"
            faults.append(_Fault(line("within"), text + (f": did you mean `{near}`?" if near else "")))
    if any(key not in _WITHIN for key in given):
        return None
    inner: list[_Fault] = []
    layout = _layout({"table": read.table, "zone": read.zone, **given}, lambda _: line("within"), inner)
    faults += [_Fault(fault.line, f"within: {fault.text.removeprefix('within: ')}") for fault in inner]
    return layout


def layout_text(layout: Layout, notes: Sequence[str] = ()) -> str:
    """A layout as the file holds it. `read_layouts` gives the same layout back. notes: comments above it."""
    return "".join(f"# {one_line(note)}\n" for note in notes) + _layout_lines(layout)


def _layout_lines(layout: Layout) -> str:
    lines = ["[[layout]]", f"table = {_toml(str(layout.table))}", *_division(layout)]
    if layout.ahead is not None:
        lines.append(f"ahead = {_toml(_span(layout.ahead))}")
    if layout.keep is not None:
        lines += [f"keep = {_toml(_span(layout.keep))}", f"past_keep = {_toml(str(layout.past_keep))}"]
    if layout.detach_to is not None:
        lines.append(f"detach_to = {_toml(layout.detach_to)}")
    if layout.archive_to is not None:
        lines += [f"archive_to = {_toml(layout.archive_to)}", f"archive_as = {_toml(str(layout.archive_as))}"]
    if layout.at_most_retired != _Entry.model_fields["at_most_retired"].default:
        lines.append(f"at_most_retired = {layout.at_most_retired}")
    if layout.at_most_share != _Entry.model_fields["at_most_share"].default:
        lines.append(f"at_most_share = {layout.at_most_share}")
    if layout.at_most_swept != _Entry.model_fields["at_most_swept"].default:
        lines.append(f"at_most_swept = {layout.at_most_swept}")
    if layout.coarsen is not None:
        after, span = _toml(_span(layout.coarsen.after)), _toml(_span(layout.coarsen.span))
        lines.append(f"coarsen = {{ after = {after}, span = {span} }}")
    if layout.place:
        said = ", ".join(
            f"{{ after = {_toml(_span(each.after))}, {'tablespace' if each.tablespace else 'elsewhere'} = "
            f"{_toml(each.target)} }}"
            for each in layout.place
        )
        lines.append(f"place = [{said}]")
    if layout.at_most_moved is not None:
        lines.append(f"at_most_moved = {_toml(spelled_size(layout.at_most_moved))}")
    if layout.place_hours is not None:
        lines.append(f"place_hours = {_toml(hours_text(layout.place_hours))}")
    if layout.wanted is not None:
        lines.append(f"wanted = {{ {', '.join(wanted_words(layout.wanted))} }}")
    if layout.servers:
        lines.append(f"servers = [{', '.join(map(_toml, layout.servers))}]")
    if layout.analyse != Analyse.AFTER_CHANGE:
        lines.append(f"analyse = {_toml(str(layout.analyse))}")
    if layout.partition_name != _Entry.model_fields["partition_name"].default:
        lines.append(f"partition_name = {_toml(layout.partition_name)}")
    if layout.within is not None:
        lines.append("within = { " + ", ".join(_division(layout.within, layout.zone)) + " }")
    width = max(line.find(" = ") for line in lines if not line.startswith("within"))
    return "\n".join(_aligned(line, width) for line in lines) + "\n"


def _aligned(line: str, width: int) -> str:
    name, equals, rest = line.partition(" = ")
    return f"{name.ljust(width)} = {rest}" if equals else line


def _division(layout: Layout, outer_zone: str = "UTC") -> list[str]:
    lines = [f"by = {_toml(layout.by)}", f"key = [{', '.join(map(_toml, layout.key))}]"]
    if layout.span is not None:
        lines.append(f"span = {_toml(_span(layout.span))}")
    if layout.parts is not None:
        lines.append(f"parts = {layout.parts}")
    if layout.groups:
        groups = (f"{_toml(group.name)} = [{', '.join(map(_toml, group.values))}]" for group in layout.groups)
        lines.append("groups = { " + ", ".join(groups) + " }")
    if layout.by is By.RANGE and layout.zone != outer_zone:
        lines.append(f"zone = {_toml(layout.zone)}")
    if layout.from_ is not None:
        lines.append(f"from = {layout.from_ if isinstance(layout.from_, int) else layout.from_.isoformat()}")
    if layout.open_below:
        lines.append("open_below = true")
    if layout.catch_all:
        lines.append("catch_all = true")
    return lines


def _span(span: Span) -> str | int:
    return span.count if span.unit is Unit.NUMBER else str(span)


def _toml(value: str | int) -> str:
    """A TOML value: a basic string as JSON writes it, which TOML reads alike."""
    return (
        str(value) if isinstance(value, int) else json.dumps(str(value), ensure_ascii=False).replace("\x7f", "\\u007f")
    )


def _worded(detail: Any) -> tuple[str, str]:
    """One of pydantic's findings as (key, what is wrong and what to do)."""
    key = "from" if detail["loc"][0] == "from_" else str(detail["loc"][0])
    match detail["type"]:
        case "extra_forbidden":
            near = nearest(key, KEYS)
            return key, f"`{key}` is not a key of a layout" + (f": did you mean `{near}`?" if near else "")
        case "missing":
            return key, f"`{key}` is missing"
        case "enum":
            return key, f"`{key}` is {detail['input']!r}: it is one of {detail['ctx']['expected']}"
        case _:
            return key, f"`{key}` cannot be {detail['input']!r}: {_EXPECTED.get(key, 'see docs/layout.md')}"


_EXPECTED = {
    "table": 'write table = "schema.table"',
    "key": 'write a list of column names, such as key = ["taken_at"]',
    "span": 'write span = "1 month", or a whole number for a numeric key',
    "parts": "write a whole number, such as parts = 16",
    "groups": 'write groups = { name = ["value", "value"] }',
    "from": "write a date without quotes, such as from = 2025-01-01, or a whole number for a numeric key",
    "ahead": 'write ahead = "3 months", or a whole number for a numeric key',
    "keep": 'write keep = "13 months", or a whole number for a numeric key',
    "place": 'write place = [{ after = "3 months", tablespace = "cold" }]',
    "catch_all": "write true or false",
    "open_below": "write true or false",
    "zone": 'write a name such as zone = "Europe/Berlin"',
    "within": 'write within = { by = "hash", key = ["column"], parts = 4 }',
    "partition_name": 'write a pattern such as partition_name = "{table}_{bound}"',
}


def _doubles(layouts: list[Layout], lines: "_Lines") -> list[_Fault]:
    seen: set[Name] = set()
    faults = []
    for place, layout in enumerate(layouts):
        if layout.table in seen:
            faults.append(_Fault(lines.of(place, "table"), f"{layout.table} has a layout already: keep one"))
        seen.add(layout.table)
    return faults


def _unknown_places(layouts: Sequence[Layout], known: Sequence[Elsewhere], lines: "_Lines") -> list[_Fault]:
    names = [entry.name for entry in known]
    faults = []
    for place, layout in enumerate(layouts):
        named = [("place", rule.elsewhere) for rule in layout.place if rule.elsewhere]
        named += [("servers", name) for name in layout.servers if name != HERE]
        for key, name in named:
            if name not in names:
                near = nearest(name, names)
                fix = f"did you mean {near}?" if near else f'add [[elsewhere]] name = "{name}", dsn = "…"'
                faults.append(_Fault(lines.of(place, key), f"{key}: no server is called {name!r}: {fix}"))
    return faults


class _Lines:
    """Where the keys of each `[[layout]]` stand. tomllib tells no positions; the grammar that matters here is small."""

    _HEADER = re.compile(r"\s*\[\[?\s*([\w.\"'-]+)\s*\]\]?")
    _KEY = re.compile(r"\s*[\"']?([\w-]+)[\"']?\s*[.=]")

    def __init__(self, text: str) -> None:
        self._found: dict[tuple[int, str], int] = {}
        self._tops: dict[str, int] = {}
        place = -1
        for number, line in enumerate(text.splitlines(), 1):
            if header := self._HEADER.match(line):
                name = header.group(1)
                self._tops.setdefault(name, number)
                if name == "layout":
                    place += 1
                    self._found[place, ""] = number
                elif name.startswith("layout."):
                    self._found[place, name.split(".")[1]] = number
            elif key := self._KEY.match(line):
                self._found.setdefault((place, key.group(1)), number)

    def of(self, place: int, key: str) -> int:
        """The line of a key of the layout at `place`; of its header when the key is not there."""
        return self._found.get((place, key), self._found.get((place, ""), 1))

    def top(self, key: str) -> int:
        return self._tops.get(key, self._found.get((-1, key), 1))
