"""Actions: what is to be done about a table, as plain data, each with its reason. Deciding ends here; doing starts."""

from dataclasses import dataclass
from typing import ClassVar

from slabrow.core.bounds import Bounds
from slabrow.core.names import Name


@dataclass(frozen=True, slots=True)
class Create:
    """Make an empty partition."""

    kind: ClassVar[str] = "create"
    table: Name
    partition: Name
    bounds: Bounds
    reason: str


@dataclass(frozen=True, slots=True)
class Detach:
    """Let a partition out: it stays as a table of its own."""

    kind: ClassVar[str] = "detach"
    table: Name
    partition: Name
    bounds: Bounds
    reason: str


@dataclass(frozen=True, slots=True)
class Drop:
    """Delete a partition with all its rows."""

    kind: ClassVar[str] = "drop"
    table: Name
    partition: Name
    bounds: Bounds
    reason: str


@dataclass(frozen=True, slots=True)
class Archive:
    """Write a partition to a file, then let it out."""

    kind: ClassVar[str] = "archive"
    table: Name
    partition: Name
    bounds: Bounds
    reason: str


Action = Create | Detach | Drop | Archive
