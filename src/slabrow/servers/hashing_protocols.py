"""Hash partitions worked out without a server, as each family's server would."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol
from zoneinfo import ZoneInfo

if TYPE_CHECKING:
    from numpy.typing import NDArray

Columns = Sequence[Sequence[str | None]]  # one list of n texts for each column; None is NULL


@dataclass(frozen=True, slots=True, kw_only=True)
class HashAsked:
    """A hash layout that need not exist.

    by         `hash`, or another way that the family has: `key`, `linear-hash`, `linear-key`
    types      of the key's columns, as the family spells them, separated by commas
    zone       where an instant without an offset is read
    algorithm  of `key`, where there are several
    """

    by: str
    types: str
    parts: int
    zone: ZoneInfo
    algorithm: int | None = None


class OfflineHashing(Protocol):
    """Works out the remainders of keys."""

    @property
    def title(self) -> str:
        """What keys are routed by, for people."""

    @property
    def width(self) -> int:
        """How many columns a key has."""

    def hashes(self, columns: Columns) -> NDArray[Any]:
        """A number for each of n keys, whose remainder by the number of parts is the partition.

        Raises UsageError when a value does not fit its type.
        """


class MakesHashings(Protocol):
    """The ways of hashing that a family has."""

    @property
    def ways(self) -> tuple[str, ...]:
        """Names for `HashAsked.by`, the usual one first."""

    def make(self, asked: HashAsked) -> OfflineHashing:
        """Raises UsageError for a way or a type that the family does not have."""
