"""PostgreSQL's hash partitions without a server: `hashing_protocols.MakesHashings`."""

from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from numpy.typing import NDArray

from slabrow.core.hashing.hash_encoding import HashType, keys_hash, parse_types
from slabrow.core.values.errors import UsageError
from slabrow.servers.hashing_protocols import Columns, HashAsked


@dataclass(frozen=True, slots=True)
class PostgresHashing:
    """`hashing_protocols.OfflineHashing`. zone: where a timestamptz without an offset is read"""

    types: tuple[HashType, ...]
    parts: int
    zone: ZoneInfo

    @property
    def title(self) -> str:
        """As `OfflineHashing.title`."""
        return f"hash ({', '.join(type_.name for type_ in self.types)}) in {self.parts} parts"

    @property
    def width(self) -> int:
        """As `OfflineHashing.width`."""
        return len(self.types)

    def hashes(self, columns: Columns) -> NDArray[Any]:
        """As `OfflineHashing.hashes`."""
        return keys_hash([list(column) for column in columns], self.types, self.zone)


class PostgresHashings:
    """`hashing_protocols.MakesHashings`."""

    ways = ("hash",)

    def make(self, asked: HashAsked) -> PostgresHashing:
        """As `MakesHashings.make`."""
        if asked.algorithm is not None:
            raise UsageError("--algorithm is for --by key", fix="leave it out")
        return PostgresHashing(parse_types(asked.types), asked.parts, asked.zone)
