"""Made-up values in the binary form that each type of the server reads (its *_recv functions)."""

import re
from collections.abc import Callable

import numpy as np

from slabrow.core.rehearsal.made_up_column import DAY_US, Array
from slabrow.core.rehearsal.made_up_table import MadeValues
from slabrow.core.rehearsal.numbered import letters_of
from slabrow.servers.postgresql.write.binary_copy import Field

_NUMBERS = {"smallint": np.int16, "integer": np.int32, "bigint": np.int64, "oid": np.uint32, "real": np.float32,
            "double precision": np.float64}  # fmt: skip
_TEXTS = frozenset(["text", "character varying", "character", "name", "json", "bytea", "xml", '"char"'])
_FIRST_OWN_OID = 16_384  # types of a database's own; those below are the same everywhere (transam.h)
_NUMERIC_GROUPS = 5  # digits of base 10000 that hold any 63 bits
_USUAL_SCALE = 4


def _bare(type_name: str) -> str:
    return re.sub(r"\([^)]*\)", "", type_name).strip()


def can_encode(type_name: str, element: int) -> bool:
    """Whether values of a type can be made up. element: the type of an array's elements, 0 for others."""
    if element:
        return element < _FIRST_OWN_OID
    bare = _bare(type_name)
    return bare in _NUMBERS or bare in _TEXTS or bare in _OTHERS


def field(made: MadeValues) -> Field:
    """One column, ready for COPY."""
    type_name, values, nulls = made.column.facts.type_name, made.values, made.nulls
    if "#" in type_name:
        return Field(_same(len(values), _empty_array(int(type_name.rpartition("#")[2]))), nulls)
    bare = _bare(type_name)
    if made.column.facts.labels or bare in _TEXTS:
        return Field(_text(made), nulls)
    if (width := _NUMBERS.get(bare)) is not None:
        return Field(_fitting(values, width), nulls)
    return Field(_OTHERS[bare](values, type_name), nulls)


def _text(made: MadeValues) -> Array:
    values = made.values
    if made.column.facts.type_name == "json":
        return _same(len(values), b'{"made": "up"}')
    if values.dtype.kind != "S":
        values = values.astype("S20")
    most = letters_of(made.column.facts.type_name)
    return values.astype(f"S{most}") if most and most < values.dtype.itemsize else values


def _fitting(values: Array, width: type) -> Array:
    """Numbers within what the type holds."""
    if values.dtype.kind == "S":
        values = np.arange(len(values))
    if np.issubdtype(width, np.integer):
        limits = np.iinfo(width)
        return np.clip(values, limits.min, limits.max).astype(width)
    return values.astype(width)


def _same(rows: int, data: bytes) -> Array:
    return np.full(rows, np.void(data), f"V{len(data)}")


def _empty_array(element: int) -> bytes:
    return b"".join(number.to_bytes(4, "big") for number in (0, 0, element))


def _numeric(values: Array, type_name: str) -> Array:
    """numeric_recv: digits of base 10000, the weight of the first, the sign, how many decimals are shown."""
    inner = re.search(r"\((\d+)(?:,(-?\d+))?\)", type_name)
    scale = max(0, int(inner[2] or 0)) if inner else _USUAL_SCALE
    scale = min(scale, 12)
    filled = -scale % 4
    most = 10.0 ** (int(inner[1]) - int(inner[2] or 0)) - 1 if inner else 9e18 / 10.0 ** (scale + filled)
    bounded = np.clip(values.astype(float), -most, most)
    whole = np.round(np.abs(bounded) * 10.0**scale).astype(np.int64) * 10**filled
    layout = np.dtype([("groups", ">i2"), ("weight", ">i2"), ("sign", ">u2"), ("scale", ">i2"),
                       ("digits", ">i2", (_NUMERIC_GROUPS,))])  # fmt: skip
    packed = np.zeros(len(values), layout)
    packed["groups"] = _NUMERIC_GROUPS
    packed["weight"] = _NUMERIC_GROUPS - 1 - (scale + filled) // 4
    packed["sign"] = np.where(bounded < 0, 0x4000, 0)
    packed["scale"] = scale
    for place in range(_NUMERIC_GROUPS - 1, -1, -1):
        packed["digits"][:, place] = whole % 10_000
        whole = whole // 10_000
    return packed.view(f"V{layout.itemsize}").reshape(len(values))


def _interval(values: Array, _: str) -> Array:
    layout = np.dtype([("microseconds", ">i8"), ("days", ">i4"), ("months", ">i4")])
    packed = np.zeros(len(values), layout)
    packed["microseconds"] = np.arange(len(values)) % 3_600 * 1_000_000
    return packed.view(f"V{layout.itemsize}").reshape(len(values))


def _time(values: Array, _: str) -> Array:
    return np.arange(len(values), dtype=np.int64) * 1_000_000 % DAY_US


def _address(values: Array, _: str) -> Array:
    """inet_recv: family 2 is IPv4, then bits, whether it is a network, the length, the bytes."""
    packed = np.zeros((len(values), 8), np.uint8)
    packed[:, :4] = (2, 32, 0, 4)
    packed[:, 4] = 10
    numbers = np.arange(len(values))
    for place in range(3):
        packed[:, 7 - place] = numbers >> (8 * place) & 255
    return packed.view("V8").reshape(len(values))


_OTHERS: dict[str, Callable[[Array, str], Array]] = {
    "numeric": _numeric,
    "boolean": lambda values, _: values.astype(np.int8),
    "uuid": lambda values, _: values,
    "date": lambda values, _: values.astype(np.int32),
    "timestamp without time zone": lambda values, _: values.astype(np.int64),
    "timestamp with time zone": lambda values, _: values.astype(np.int64),
    "jsonb": lambda values, _: _same(len(values), b'\x01{"made": "up"}'),  # its version, then the text
    "interval": _interval,
    "time without time zone": _time,
    "inet": _address,
    "money": lambda values, _: np.arange(len(values), dtype=np.int64),
}
