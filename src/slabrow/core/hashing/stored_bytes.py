"""Values of MariaDB's types as the bytes that KEY partitioning hashes: one encoder a type.

Sources: how rows hold each type (sql/field.cc Field_*::store; decimal2bin; my_datetime_packed_to_binary), compared with
the server's own answers. Texts are the weights of their characters in the column's collation.
"""

import re
import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal, localcontext
from ipaddress import IPv6Address
from typing import Any
from uuid import UUID

import numpy as np

from slabrow.core.hashing.collation_weights import BEYOND, general_ci
from slabrow.core.hashing.key_leaves import KeyBytes, as_text, key_bytes
from slabrow.core.values.errors import UsageError, nearest

USUAL_COLLATION = "utf8mb4_general_ci"
_WIDTHS = {"tinyint": 1, "smallint": 2, "mediumint": 3, "int": 4, "integer": 4, "bigint": 8}
_DIGIT_BYTES = (0, 1, 1, 2, 2, 3, 3, 4, 4, 4)  # that so many decimal digits take
_MOST_DIGITS = 80  # more than DECIMAL has
_GROUP = 9  # digits of a group of four bytes
_EPOCH = datetime(1970, 1, 1)
_NUMBERS = frozenset([*_WIDTHS, "float", "double", "year", "decimal"])
_MEMBERS = frozenset(["enum", "set"])
_TYPE = re.compile(
    r"(?P<name>[a-z0-9]+)\s*(?:\(\s*(?P<first>\d+)\s*(?:,\s*(?P<second>\d+)\s*)?\))?"
    r"(?P<unsigned>\s+unsigned)?(?:\s+collate\s+(?P<collation>\w+))?",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class StoredType:
    """A type of a key column.

    length      of texts and bytes; the digits of seconds of times; the digits of DECIMAL
    scale       of DECIMAL: digits behind the point
    collation   of texts
    """

    name: str
    length: int = 0
    scale: int = 0
    is_unsigned: bool = False
    collation: str = USUAL_COLLATION


def parse_stored_type(text: str) -> StoredType:
    """`int`, `bigint unsigned`, `decimal(9,2)`, `datetime(6)`, `varchar(20) collate utf8mb4_bin`.

    Raises UsageError for a type, or a collation, that is not hashed here.
    """
    match = _TYPE.fullmatch(text.strip())
    name = match["name"].lower() if match else ""
    name = {"integer": "int", "numeric": "decimal", "boolean": "tinyint", "bool": "tinyint"}.get(name, name)
    if match is None or name not in _ENCODERS:
        near = nearest(name, _ENCODERS)
        raise UsageError(
            f"keys of type {text[:60]!r} are not hashed here",
            fix=f"did you mean {near}?" if near else f"types: {', '.join(sorted(_ENCODERS))}",
        )
    collation = (match["collation"] or USUAL_COLLATION).lower()
    if name in ("varchar", "char") and collation not in _WEIGHTS:
        raise UsageError(
            f"texts in the collation {collation} are not hashed here",
            fix=f"ask the server; here are {', '.join(sorted(_WEIGHTS))}",
        )
    first, second = int(match["first"] or 0), int(match["second"] or 0)
    if name == "decimal" and match["first"] is None:
        first = 10
    return StoredType(name, first, second, match["unsigned"] is not None, collation)


def stored(kind: StoredType, values: Sequence[Any], algorithm: int = 2) -> KeyBytes:
    """The column as KEY hashes it. values: of the type, None for NULL; algorithm: 1 or 2, as in KEY ALGORITHM=2.

    Raises ValueError for a value that the type does not hold.
    """
    encode = _ENCODERS[kind.name]
    column = key_bytes([None if value is None else encode(kind, value) for value in values])
    weighed = kind.name in (_NUMBERS if algorithm == 2 else _MEMBERS)
    swedish = kind.name in ("varchar", "char") and kind.collation == "latin1_swedish_ci"
    return as_text(column) if weighed or swedish else column


def _whole(kind: StoredType, value: int) -> bytes:
    width = _WIDTHS[kind.name]
    bits = 8 * width
    low, high = (0, (1 << bits) - 1) if kind.is_unsigned else (-(1 << bits - 1), (1 << bits - 1) - 1)
    if not low <= value <= high:
        raise ValueError(f"{value} is out of range for {kind.name}")
    return (value & ((1 << bits) - 1)).to_bytes(width, "little")


def _decimal(kind: StoredType, value: Decimal | int | str) -> bytes:
    """Groups of nine digits from the point outwards, big-endian, the sign in the first bit, negatives inverted."""
    with localcontext() as exact:
        exact.prec = _MOST_DIGITS
        number = Decimal(value).quantize(Decimal(1).scaleb(-kind.scale), ROUND_HALF_UP)
        digits = str(int(number.copy_abs().scaleb(kind.scale))).rjust(kind.length, "0")
    whole = kind.length - kind.scale
    if len(digits) > kind.length:
        raise ValueError(f"{value} has too many digits for decimal({kind.length},{kind.scale})")
    head, tail = digits[:whole], digits[whole:]
    cut = whole % _GROUP
    groups = [head[:cut], *(head[at : at + _GROUP] for at in range(cut, whole, _GROUP))]
    groups += [tail[at : at + _GROUP] for at in range(0, kind.scale, _GROUP)]
    made = bytearray(b"".join(int(group).to_bytes(_DIGIT_BYTES[len(group)], "big") for group in groups if group))
    if number < 0:
        made = bytearray(byte ^ 0xFF for byte in made)
    made[0] ^= 0x80
    return bytes(made)


def _fraction(microseconds: int, digits: int) -> bytes:
    """Two digits a byte."""
    width = (digits + 1) // 2
    kept = microseconds // 10 ** (6 - digits) * 10 ** (6 - digits)
    return b"" if not width else (kept // 10 ** (6 - 2 * width)).to_bytes(width, "big")


def _date(_: StoredType, value: date) -> bytes:
    return (value.day + value.month * 32 + value.year * 512).to_bytes(3, "little")


def _datetime(kind: StoredType, value: datetime) -> bytes:
    month = value.year * 13 + value.month
    packed = (((month << 5) | value.day) << 17) | (value.hour << 12) | (value.minute << 6) | value.second
    return (packed + 0x8000000000).to_bytes(5, "big") + _fraction(value.microsecond, kind.length)


def _timestamp(kind: StoredType, value: datetime) -> bytes:
    """value: in UTC, without a zone."""
    seconds = (value - _EPOCH) // timedelta(seconds=1)
    return seconds.to_bytes(4, "big") + _fraction(value.microsecond, kind.length)


def _time(_: StoredType, value: timedelta) -> bytes:
    seconds = int(value.total_seconds())
    size = abs(seconds)
    packed = (size // 3600) << 12 | (size // 60 % 60) << 6 | size % 60
    return (0x800000 + (packed if seconds >= 0 else -packed)).to_bytes(3, "big")


def _text(kind: StoredType, value: str) -> bytes:
    return _WEIGHTS[kind.collation](value)


def _general(value: str) -> bytes:
    within = "".join(chr(BEYOND) if ord(letter) > 0xFFFF else letter for letter in value.rstrip(" "))
    return within.translate(general_ci()).encode("utf-16-le", "surrogatepass")


def _encoded(charset: str) -> Callable[[str], bytes]:
    return lambda value: value.rstrip(" ").encode(charset)


_WEIGHTS: dict[str, Callable[[str], bytes]] = {
    "utf8mb4_general_ci": _general,
    "utf8mb3_general_ci": _general,
    "utf8mb4_bin": _encoded("utf-8"),
    "utf8mb3_bin": _encoded("utf-8"),
    "latin1_bin": _encoded("cp1252"),
    "latin1_swedish_ci": lambda value: value.encode("cp1252"),
    "utf8mb4_nopad_bin": lambda value: value.encode("utf-8"),
}

_ENCODERS: dict[str, Callable[[StoredType, Any], bytes]] = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint"), _whole),
    "float": lambda _, value: struct.pack("<f", value),
    "double": lambda _, value: struct.pack("<d", value),
    "decimal": _decimal,
    "year": lambda _, value: bytes([value - 1900 if value else 0]),
    "date": _date,
    "datetime": _datetime,
    "timestamp": _timestamp,
    "time": _time,
    "varchar": _text,
    "char": _text,
    "binary": lambda kind, value: bytes(value).ljust(kind.length, b"\0"),
    "varbinary": lambda _, value: bytes(value),
    "uuid": lambda _, value: (value if isinstance(value, UUID) else UUID(str(value))).bytes,
    "inet6": lambda _, value: IPv6Address(value).packed,
    "enum": lambda _, value: bytes([value]),
    "set": lambda _, value: bytes([value]),
}


def whole_numbers(values: Sequence[int | None]) -> tuple["np.ndarray[Any, Any]", "np.ndarray[Any, Any]"]:
    """Numbers as HASH takes them, with the bits of those beyond 63 bits, and where NULL stands."""
    bits = np.array([(value or 0) & 0xFFFFFFFFFFFFFFFF for value in values], np.uint64)
    return bits.view(np.int64), np.array([value is None for value in values], np.bool_)
