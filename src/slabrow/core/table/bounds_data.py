"""Bounds as plain data for a file, and back: values as texts, so that no text of the file is ever used as SQL."""

from typing import Any

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, normal_end
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Key, Kind, Value, parse_value, spell

_EDGES = (Edge.MINVALUE, Edge.MAXVALUE)


def bounds_as_data(bounds: Bounds) -> dict[str, Any]:
    """`{"from": ["2026-03-01"], "to": ["2026-04-01"]}`, `{"values": ["A1", null]}`, `{"modulus": 4, "remainder": 1}`.

    An open end is null; MINVALUE and MAXVALUE within a key of several columns are `{"edge": "MINVALUE"}`.
    """
    match bounds:
        case Range(from_=from_, to=to):
            return {"from": _key_data(from_), "to": _key_data(to)}
        case Listed(values=values):
            return {"values": [None if value is None else spell(value) for value in values]}
        case Hashed(modulus=modulus, remainder=remainder):
            return {"modulus": modulus, "remainder": remainder}
        case CatchAll():
            return {"catch_all": True}


def bounds_from_data(data: object, kinds: tuple[Kind, ...]) -> Bounds:
    """Reads what `bounds_as_data` gives, for a key of these kinds.

    Raises UsageError for everything else, and for the catch-all: a partition that is brought back has bounds.
    """
    match data:
        case {"from": from_, "to": to, **more} if not more:
            return Range(_key(from_, kinds), _key(to, kinds))
        case {"values": [*values], **more} if not more and values and len(kinds) == 1:
            return Listed(tuple(None if value is None else _value(value, kinds[0]) for value in values))
        case {"modulus": int(modulus), "remainder": int(remainder), **more} if not more and 0 <= remainder < modulus:
            return Hashed(modulus, remainder)
        case _:
            raise UsageError("these are not the bounds of a partition", found=repr(data)[:80])


def _key_data(key: Key | None) -> list[Any] | None:
    if key is None:
        return None
    return [{"edge": value.name} if isinstance(value, Edge) and value in _EDGES else spell(value) for value in key]


def _key(data: object, kinds: tuple[Kind, ...]) -> Key | None:
    if data is None:
        return None
    if not isinstance(data, list) or len(data) != len(kinds):
        raise UsageError("the key of a bound has another number of columns", found=repr(data)[:80])
    return normal_end(tuple(_end(each, kind) for each, kind in zip(data, kinds, strict=True)))


def _end(data: object, kind: Kind) -> Value:
    match data:
        case {"edge": "MINVALUE" | "MAXVALUE" as name}:
            return Edge[name]
        case _:
            return _value(data, kind)


def _value(data: object, kind: Kind) -> Value:
    if not isinstance(data, str):
        raise UsageError("a value of a bound is not text", found=repr(data)[:80])
    return parse_value(data, kind)
