"""Bounds as columns of a table, and as the keys that JSON has for them."""

from typing import Any
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range
from slabrow.core.values.key_values import Key, Value, spell, spell_local
from slabrow.show.words import listed


def value_data(value: Value | None) -> Any:
    """A value for JSON: numbers and truth values as such, everything else as the server's text."""
    return value if value is None or isinstance(value, int) else spell(value)


def key_data(key: Key | None) -> Any:
    """A key for JSON: its value, or a list for several columns; None where it is open or not known."""
    if key is None:
        return None
    return value_data(key[0]) if len(key) == 1 else [value_data(value) for value in key]


def bounds_data(bounds: Bounds) -> dict[str, Any]:
    """The keys `from`, `to`, `values`, `modulus`, `remainder`, `catch_all` of a partition in JSON."""
    data: dict[str, Any] = dict.fromkeys(("from", "to", "values", "modulus", "remainder"))
    data["catch_all"] = isinstance(bounds, CatchAll)
    match bounds:
        case Range(from_=from_, to=to):
            data |= {"from": key_data(from_), "to": key_data(to)}
        case Listed(values=values):
            data["values"] = [value_data(value) for value in values]
        case Hashed(modulus=modulus, remainder=remainder):
            data |= {"modulus": modulus, "remainder": remainder}
        case CatchAll():
            pass
    return data


BOUNDS_HEADER = ("from", "to", "values", "modulus", "remainder", "catch_all")


def bounds_row(bounds: Bounds) -> list[Any]:
    """The same for CSV, in the order of BOUNDS_HEADER."""
    data = bounds_data(bounds)
    return ["|".join(map(str, data[name])) if isinstance(data[name], list) else data[name] for name in BOUNDS_HEADER]


def held(bounds: Bounds, zone: str = "UTC") -> tuple[str, str]:
    """The keys of a partition as two cells, `from (in)` and `to (out)`; words in the first for lists and hash."""
    match bounds:
        case Range(from_=from_, to=to):
            return _end(from_, zone, "−∞"), _end(to, zone, "+∞")
        case Listed(values=values):
            return "in " + listed([spell(value) for value in values], 8), ""
        case Hashed(modulus=modulus, remainder=remainder):
            return f"remainder {remainder} of {modulus}", ""
        case CatchAll():
            return "everything else", ""


def _end(key: Key | None, zone: str, if_open: str) -> str:
    if key is None:
        return if_open
    words = [spell_local(value, ZoneInfo(zone)) for value in key]
    shown = [word for word in words if word not in ("MINVALUE", "MAXVALUE")]
    return ", ".join(shown or words)


def key_text(key: Key | None, zone: str = "UTC") -> str:
    """A key as people read it; `–` when there is none."""
    return "–" if key is None else ", ".join(spell_local(value, ZoneInfo(zone)) for value in key)
