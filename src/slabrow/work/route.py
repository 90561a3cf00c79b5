"""`route`: where does this value go (N12)."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from slabrow.core.bounds import Hashed, Range, spell_bounds
from slabrow.core.errors import UsageError
from slabrow.core.keys import Key, Kind, parse_value, spell_local
from slabrow.core.layout import By
from slabrow.core.names import Name
from slabrow.core.tree import Partition, Tree
from slabrow.servers.postgresql import catalogue, measure
from slabrow.servers.postgresql.connection import explained
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class Route:
    """values are as they were asked, None for NULL. partition is None when the server would refuse such a row."""

    values: tuple[str | None, ...]
    partition: str | None
    remainder: int | None
    why: str


@dataclass(frozen=True, slots=True)
class Routes:
    tree: Tree
    zone: str
    routes: tuple[Route, ...]


def route(context: Context, table: Name, values: Sequence[str]) -> Routes:
    """The partition of each key. Range and list are worked out from the bounds; hash is asked of the server.

    values   one text a key, its columns separated by commas with CSV quoting, an empty unquoted field for NULL
    Raises UsageError when a value does not fit the key.
    """
    layout = context.layout_or_none()
    zone = ZoneInfo(layout.zone if layout else "UTC")
    with context.connected() as connection:
        tree = catalogue.tree(connection, table)
        keys = [_split(text, len(tree.key)) for text in values]
        if tree.by is By.HASH:
            with explained("ask the server for the hash partition"):
                homes = measure.hash_routes(connection, tree, keys)
            return Routes(
                tree, str(zone), tuple(_hashed(tree, key, home) for key, home in zip(keys, homes, strict=True))
            )
    return Routes(tree, str(zone), tuple(_placed(tree, key, zone) for key in keys))


_FIELD = re.compile(r'(?:"((?:[^"]|"")*)"|([^",]*))(,|$)')


def _split(text: str, width: int) -> tuple[str | None, ...]:
    """The columns of a key: CSV as the server's COPY reads it, an empty unquoted field is NULL, `""` the empty text."""
    if width == 1 and not text.startswith('"'):
        return (text or None,)
    fields: list[str | None] = []
    at, more = 0, True
    while more:
        match = _FIELD.match(text, at)
        if match is None:
            raise UsageError(f"{text!r} is not CSV", fix='put "double quotes" around a field with commas or quotes')
        quoted, plain, comma = match.groups()
        fields.append(quoted.replace('""', '"') if quoted is not None else plain or None)
        at, more = match.end(), comma == ","
    if len(fields) != width:
        raise UsageError(
            f"{text!r} has {len(fields)} columns",
            found=f"the key has {width}",
            fix="write a key of several columns as one argument: 17,2026-03-01",
        )
    return tuple(fields)


def _placed(tree: Tree, texts: tuple[str | None, ...], zone: ZoneInfo) -> Route:
    key: Key | None = None
    if None not in texts:
        key = tuple(parse_value(text or "", column.kind, zone) for text, column in zip(texts, tree.key, strict=True))
        _refuse_unordered(tree)
    home = tree.home(key)
    if home is None:
        why = "a NULL key fits no partition" if key is None else "no partition holds it"
        return Route(texts, None, None, f"{why} and there is no catch-all: the server would refuse such a row")
    return Route(texts, home.spelling, None, _why(home, key, zone))


def _refuse_unordered(tree: Tree) -> None:
    if tree.by is By.RANGE and any(kind in (Kind.OTHER, Kind.TEXT) for kind in tree.kinds):
        types = ", ".join(column.type_name for column in tree.key)
        raise UsageError(
            "values of this key cannot be put in order here",
            found=f"the key is of type {types}",
            fix="ask the server: INSERT in a transaction that is rolled back, RETURNING tableoid::regclass",
        )


def _why(home: Partition, key: Key | None, zone: ZoneInfo) -> str:
    match home.bounds:
        case Range(from_=from_, to=to):
            low = spell_local(from_[0], zone) if from_ else "below everything"
            high = spell_local(to[0], zone) if to else "without end"
            if from_ is not None and key is not None and key[0] == from_[0]:
                return f"it is the lower bound itself, which is in; {high} is out"
            return f"from {low} (in) to {high} (out)"
        case _ if key is None:
            return "a NULL key; " + spell_bounds(home.bounds)
        case _:
            return spell_bounds(home.bounds)


def _hashed(tree: Tree, key: tuple[str | None, ...], home: str | None) -> Route:
    child = next((child for child in tree.children if child.spelling == home), None)
    if child is None or not isinstance(child.bounds, Hashed):
        return Route(key, None, None, "no partition holds its remainder: the server would refuse such a row")
    return Route(key, home, child.bounds.remainder, spell_bounds(child.bounds))
