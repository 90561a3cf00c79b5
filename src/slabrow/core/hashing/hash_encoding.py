"""Key values as text, as the server prints or reads them, made ready for hashing: one encoder a type.

Sources: the hash support functions of each type's default hash operator class (src/backend/access/hash/hashfunc.c,
utils/adt/numeric.c hash_numeric_extended, utils/adt/date.c, timestamp.c, uuid.c, rowtypes.c hash_record_extended).
Text is hashed as its UTF-8 bytes: right for every deterministic collation in a UTF-8 database.
"""

# Why values are encoded first. The server hashes the bytes of its own internal form: an integer as a machine word, a
# text as its bytes, a timestamp as microseconds since 2000. The text that a person writes has to become exactly these
# bytes. Each type has one encoder, which takes a whole column at once (NumPy), and names its hash support function.

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation, localcontext
from uuid import UUID
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from slabrow.core.hashing.hashing import PARTITION_SEED, HashColumn, LongWords, Records, Texts, Words, partition_hash
from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.values.key_values import Edge, Far, Kind, Opaque, parse_value

_ASK = "ask the server: slabrow route TABLE VALUE"
_SERVER_EPOCH = datetime(2000, 1, 1)
_EPOCH_DAY = date(2000, 1, 1).toordinal()


@dataclass(frozen=True, slots=True)
class HashType:
    """A type that can be hashed here.

    name    the server's short one
    scale   digits behind the point that numeric or the seconds of a timestamp keep; None: all
    fields  the types of a composite's columns
    """

    name: str
    scale: int | None = None
    fields: tuple["HashType", ...] = ()


_ALIASES = {
    "int2": "int2", "smallint": "int2", "int4": "int4", "int": "int4", "integer": "int4", "int8": "int8",
    "bigint": "int8", "text": "text", "varchar": "text", "character varying": "text", "uuid": "uuid", "date": "date",
    "timestamp": "timestamp", "timestamp without time zone": "timestamp", "timestamptz": "timestamptz",
    "timestamp with time zone": "timestamptz", "bool": "bool", "boolean": "bool", "bytea": "bytea",
    "numeric": "numeric", "decimal": "numeric",
}  # fmt: skip
_TYPE = re.compile(r"([a-z0-9 ]+?)\s*(?:\(\s*(\d+)\s*(?:,\s*(-?\d+)\s*)?\))?( with(?:out)? time zone)?", re.IGNORECASE)


def parse_types(text: str) -> tuple[HashType, ...]:
    """`int8,text`, `numeric(10,2),timestamp with time zone`, or `row(int4,text)` for a composite type.

    Raises UsageError for a type that is not hashed here.
    """
    return tuple(_parse_type(part.strip()) for part in _split(text))


def _split(text: str) -> list[str]:
    """Splits at the commas outside of parentheses."""
    parts, depth = [""], 0
    for letter in text:
        depth += (letter == "(") - (letter == ")")
        if letter == "," and depth == 0:
            parts.append("")
        else:
            parts[-1] += letter
    return parts


def _parse_type(text: str) -> HashType:
    if (composite := re.fullmatch(r"(?:row)?\s*\((.+)\)", text, re.IGNORECASE)) is not None:
        return HashType("row", None, parse_types(composite.group(1)))
    match = _TYPE.fullmatch(text.lower())
    name = _ALIASES.get(match.group(1) + (match.group(4) or "")) if match else None
    if match is None or name is None:
        near = nearest(text.lower(), _ALIASES)
        raise UsageError(
            f"keys of type {text} are not hashed here",
            found=f"known are {', '.join(sorted(set(_ALIASES.values())))}",
            fix=f"did you mean {near}?" if near else _ASK,
        )
    scale = int(match.group(3) or 0) if name == "numeric" and match.group(2) else None
    if name.startswith("timestamp") and match.group(2):
        scale = int(match.group(2))
    return HashType(name, scale)


def encode(texts: Sequence[str | None], type_: HashType, zone: ZoneInfo | None = None) -> HashColumn:
    """A column of n keys; None is NULL. zone: where a timestamptz without an offset is read, UTC when None.

    Raises UsageError for a text that is no value of the type, or beyond its range.
    """
    if type_.fields:
        return _encode_records(texts, type_, zone)
    filler = _FILLERS[type_.name]
    keys = _ENCODERS[type_.name]([filler if text is None else text for text in texts], type_, zone)
    nulls = np.array([text is None for text in texts], np.bool_)
    return HashColumn(keys, nulls if nulls.any() else None)


def _encode_records(texts: Sequence[str | None], type_: HashType, zone: ZoneInfo | None) -> HashColumn:
    """Composite values as the server prints them: `(17,"a, b",)`."""
    rows = [_record(text, len(type_.fields)) for text in texts]
    columns = [encode([row[place] for row in rows], field, zone) for place, field in enumerate(type_.fields)]
    nulls = np.array([text is None for text in texts], np.bool_)
    return HashColumn(Records(columns), nulls if nulls.any() else None)


def _record(text: str | None, width: int) -> list[str | None]:
    """The columns of a composite literal; an empty one without quotes is NULL (PostgreSQL manual, 8.16.6)."""
    if text is None:
        return [None] * width
    fields = _record_fields(text.strip())
    if fields is None or len(fields) != width:
        raise UsageError(
            f"{text!r} is not a composite value of {width} columns", fix='write it as the server does: (17,"a, b",)'
        )
    return fields


def _record_fields(text: str) -> list[str | None] | None:
    """None where the text is no composite literal."""
    if not (text.startswith("(") and text.endswith(")")):
        return None
    fields: list[str | None] = [None]
    quoted, at, end = False, 1, len(text) - 1
    while at < end:
        letter = text[at]
        if letter == "\\" and at + 1 < end:
            fields[-1] = (fields[-1] or "") + text[at + 1]
            at += 1
        elif letter == '"' and quoted and text[at + 1] == '"' and at + 1 < end:
            fields[-1] = (fields[-1] or "") + '"'
            at += 1
        elif letter == '"':
            quoted = not quoted
            fields[-1] = fields[-1] or ""
        elif letter == "," and not quoted:
            fields.append(None)
        else:
            fields[-1] = (fields[-1] or "") + letter
        at += 1
    return None if quoted else fields


_FILLERS = dict.fromkeys(("int2", "int4", "int8", "numeric"), "0") | {
    "text": "", "bytea": "", "bool": "f", "date": "2000-01-01", "timestamp": "2000-01-01", "timestamptz": "2000-01-01",
    "uuid": "00000000-0000-0000-0000-000000000000",
}  # fmt: skip
_RANGES = {"int2": 1 << 15, "int4": 1 << 31, "int8": 1 << 63}


def _encode_integers(texts: Sequence[str], type_: HashType, _: ZoneInfo | None) -> Words | LongWords:
    limit = _RANGES[type_.name]
    try:
        values = np.fromiter(map(int, texts), np.int64, len(texts))
        if type_.name == "int8":
            return LongWords(values)
        if not len(values) or (values.min() >= -limit and values.max() < limit):
            return Words(values.astype(np.int32))
    except (ValueError, OverflowError):
        pass
    wrong = next(text for text in texts if not _is_integer(text, limit))
    raise UsageError(
        f"{wrong!r} is not a value of type {type_.name}", fix=f"write a whole number from {-limit} to {limit - 1}"
    )


def _is_integer(text: str, limit: int) -> bool:
    try:
        return -limit <= int(text) < limit
    except ValueError:
        return False


def _encode_text(texts: Sequence[str], _: HashType, __: ZoneInfo | None) -> Texts:
    return Texts([text.encode() for text in texts])


def _encode_bytea(texts: Sequence[str], _: HashType, __: ZoneInfo | None) -> Texts:
    return Texts([_bytea(text) for text in texts])


def _bytea(text: str) -> bytes:
    """Hex (`\\x6162`) or the older escape format."""
    try:
        if text.startswith("\\x"):
            return bytes.fromhex(text[2:])
        if re.search(r"\\(?!\\|[0-3][0-7]{2})", text.replace("\\\\", "")):
            raise ValueError(text)
    except ValueError:
        raise UsageError(f"{text!r} is not a value of type bytea", fix=r"write it as \x6162") from None
    return re.sub(rb"\\(\\|[0-3][0-7]{2})", lambda m: b"\\" if m[1] == b"\\" else bytes([int(m[1], 8)]), text.encode())


def _encode_uuid(texts: Sequence[str], _: HashType, __: ZoneInfo | None) -> Texts:
    def parsed(text: str) -> bytes:
        value = parse_value(text, Kind.UUID)
        return value.bytes if isinstance(value, UUID) else b""

    return Texts([parsed(text) for text in texts])


def _encode_bool(texts: Sequence[str], _: HashType, __: ZoneInfo | None) -> Words:
    return Words(np.array([bool(parse_value(text, Kind.BOOL)) for text in texts], np.int32))


def _encode_date(texts: Sequence[str], _: HashType, __: ZoneInfo | None) -> Words:
    return Words(np.array([_days(text) for text in texts], np.int32))


def _days(text: str) -> int:
    match parse_value(text, Kind.DATE):
        case Edge.INFINITY:
            return (1 << 31) - 1
        case Edge.MINUS_INFINITY:
            return -(1 << 31)
        case date() as day:
            return day.toordinal() - _EPOCH_DAY
        case Far(days):
            return days
        case _:
            raise _beyond(text)


def _encode_timestamp(texts: Sequence[str], type_: HashType, zone: ZoneInfo | None) -> LongWords:
    kind = Kind(type_.name)
    step = 10 ** (6 - min(6, type_.scale if type_.scale is not None else 6))
    return LongWords(np.array([_rounded(_microseconds(text, kind, zone), step) for text in texts], np.int64))


def _rounded(microseconds: int, step: int) -> int:
    """To a whole step, halves away from zero, as AdjustTimestampForTypmod does; the infinities stay."""
    if step == 1 or abs(microseconds) >= (1 << 63) - 1:
        return microseconds
    whole = (abs(microseconds) + step // 2) // step * step
    return whole if microseconds >= 0 else -whole


def _microseconds(text: str, kind: Kind, zone: ZoneInfo | None) -> int:
    match parse_value(text, kind, zone):
        case Edge.INFINITY:
            return (1 << 63) - 1
        case Edge.MINUS_INFINITY:
            return -(1 << 63)
        case datetime() as moment:
            passed = (moment.astimezone(UTC).replace(tzinfo=None) if moment.tzinfo else moment) - _SERVER_EPOCH
            return (passed.days * 86_400 + passed.seconds) * 1_000_000 + passed.microseconds
        case Far(days, within):
            return days * 86_400_000_000 + within
        case _:
            raise _beyond(text)


def _beyond(text: str) -> UsageError:
    return UsageError(f"{text!r} lies beyond the years 1 to 9999", fix=_ASK)


def _encode_numeric(texts: Sequence[str], type_: HashType, _: ZoneInfo | None) -> Texts:
    digits: list[bytes] = []
    weights: list[int] = []
    fixed: dict[int, int] = {}
    for row, text in enumerate(texts):
        number = parse_value(text, Kind.NUMERIC)
        if isinstance(number, Edge | Opaque):  # NaN and the infinities all hash to the seed
            fixed[row] = PARTITION_SEED
            number = Decimal(0)
        data, weight = _base_10000(number if isinstance(number, Decimal) else Decimal(0), type_.scale)
        if not data:
            fixed.setdefault(row, PARTITION_SEED - 1)
        digits.append(data)
        weights.append(weight)
    return Texts(digits, np.array(weights, np.int64).view(np.uint64), fixed)


def _base_10000(number: Decimal, scale: int | None) -> tuple[bytes, int]:
    """The server's digits of a number without zeros at either end, as little-endian int16, and its weight: the power
    of 10000 of the first. The sign is not hashed.
    """
    if scale is not None:
        try:
            with localcontext(prec=2000):
                number = number.quantize(Decimal(1).scaleb(-scale), rounding=ROUND_HALF_UP)
        except InvalidOperation:
            raise UsageError(f"{number} is not a value of type numeric") from None
    _, plain, exponent = number.as_tuple()
    text = "".join(map(str, plain)).lstrip("0")
    if not text:
        return b"", 0
    exponent = int(exponent)
    text += "0" * (exponent % 4)  # so that the last group ends on a power of 10000
    groups_after = exponent // 4
    text = text.zfill(-(-len(text) // 4) * 4)
    groups = [int(text[place : place + 4]) for place in range(0, len(text), 4)]
    weight = len(groups) + groups_after - 1
    while groups and groups[-1] == 0:
        groups.pop()
    return np.array(groups, "<i2").tobytes(), weight


_Encoder = Callable[[Sequence[str], HashType, ZoneInfo | None], Words | LongWords | Texts]
_ENCODERS: dict[str, _Encoder] = {
    "int2": _encode_integers,
    "int4": _encode_integers,
    "int8": _encode_integers,
    "text": _encode_text,
    "bytea": _encode_bytea,
    "uuid": _encode_uuid,
    "bool": _encode_bool,
    "date": _encode_date,
    "timestamp": _encode_timestamp,
    "timestamptz": _encode_timestamp,
    "numeric": _encode_numeric,
}


def keys_hash(
    columns: Sequence[Sequence[str | None]], types: tuple[HashType, ...], zone: ZoneInfo | None = None
) -> NDArray[np.uint64]:
    """The partition hash of n keys, given column by column as n texts each; None is NULL."""
    return partition_hash([encode(column, type_, zone) for column, type_ in zip(columns, types, strict=True)])
