"""MariaDB's HASH and KEY partitions without a server: `hashing_protocols.MakesHashings`."""

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from slabrow.core.hashing.key_leaves import hash_leaves, key_leaves
from slabrow.core.hashing.stored_bytes import StoredType, parse_stored_type, stored, whole_numbers
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Kind, parse_value
from slabrow.servers.hashing_protocols import Columns, HashAsked

_WHOLE = ("tinyint", "smallint", "mediumint", "int", "bigint", "year")
_TIME = re.compile(r"(-?)(\d{1,3}):(\d{2}):(\d{2})(?:\.\d+)?")


@dataclass(frozen=True, slots=True)
class MariaHashing:
    """`hashing_protocols.OfflineHashing`. way: as in `HashAsked.by`"""

    way: str
    types: tuple[StoredType, ...]
    parts: int
    zone: ZoneInfo
    algorithm: int

    @property
    def title(self) -> str:
        """As `OfflineHashing.title`."""
        algorithm = f", algorithm {self.algorithm}" if self.way.endswith("key") else ""
        names = ", ".join(each.name for each in self.types)
        return f"{self.way.replace('-', ' ')} ({names}) in {self.parts} parts{algorithm}"

    @property
    def width(self) -> int:
        """As `OfflineHashing.width`."""
        return len(self.types)

    def hashes(self, columns: Columns) -> NDArray[Any]:
        """As `OfflineHashing.hashes`: the number of the leaf itself."""
        values = [
            [self._value(kind, text) for text in column] for kind, column in zip(self.types, columns, strict=True)
        ]
        is_linear = self.way.startswith("linear")
        if self.way.endswith("hash"):
            numbers, nulls = whole_numbers(values[0])
            found = hash_leaves(numbers, self.parts, linear=is_linear, nulls=nulls)
        else:
            try:
                bytes_ = [stored(kind, each, self.algorithm) for kind, each in zip(self.types, values, strict=True)]
            except (ValueError, OverflowError) as error:
                raise UsageError("a key does not fit its type", found=str(error)[:100]) from None
            found = key_leaves(bytes_, self.parts, linear=is_linear)
        return found.astype(np.uint64)

    def _value(self, kind: StoredType, text: str | None) -> Any:
        if text is None:
            return None
        try:
            return _READERS[kind.name](text, self.zone)
        except (ValueError, InvalidOperation, OverflowError):
            raise UsageError(f"{text[:80]!r} is not a value of type {kind.name}") from None


def _time(text: str, _: ZoneInfo) -> timedelta:
    match = _TIME.fullmatch(text.strip())
    if match is None:
        raise ValueError(text)
    sign, hours, minutes, seconds = match.groups()
    length = timedelta(hours=int(hours), minutes=int(minutes), seconds=int(seconds))
    return -length if sign else length


def _bytes(text: str, _: ZoneInfo) -> bytes:
    return bytes.fromhex(text[2:]) if text.startswith("0x") else text.encode()


def _instant(text: str, zone: ZoneInfo) -> Any:
    found: Any = parse_value(text, Kind.TIMESTAMPTZ, zone)
    return found.astimezone(UTC).replace(tzinfo=None)


_READERS: dict[str, Callable[[str, ZoneInfo], Any]] = {
    **dict.fromkeys((*_WHOLE, "enum", "set"), lambda text, _: int(text)),
    **dict.fromkeys(("float", "double"), lambda text, _: float(text)),
    "decimal": lambda text, _: Decimal(text),
    "date": lambda text, _: parse_value(text, Kind.DATE),
    "datetime": lambda text, _: parse_value(text, Kind.TIMESTAMP),
    "timestamp": _instant,
    "time": _time,
    **dict.fromkeys(("varchar", "char", "uuid", "inet6"), lambda text, _: text),
    **dict.fromkeys(("binary", "varbinary"), _bytes),
}


class MariaHashings:
    """`hashing_protocols.MakesHashings`."""

    ways = ("hash", "linear-hash", "linear-key", "key")

    def make(self, asked: HashAsked) -> MariaHashing:
        """As `MakesHashings.make`."""
        types = tuple(parse_stored_type(part) for part in re.split(r",(?![^(]*\))", asked.types))
        if asked.by.endswith("hash") and (len(types) != 1 or types[0].name not in _WHOLE):
            raise UsageError(
                f"--by {asked.by} is by one whole number",
                found=f"types {asked.types}",
                fix="give --types int, or --by key for other types",
            )
        if asked.by.endswith("hash") and asked.algorithm is not None:
            raise UsageError("--algorithm is for --by key", fix="leave it out")
        if asked.algorithm not in (None, 1, 2):
            raise UsageError(f"--algorithm {asked.algorithm} is not known", fix="give 1 or 2")
        return MariaHashing(asked.by, types, asked.parts, asked.zone, asked.algorithm or 2)
