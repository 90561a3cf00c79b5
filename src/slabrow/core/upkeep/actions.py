"""Actions: what is to be done about a table, as plain data, each with its reason. Deciding ends here; doing starts."""

from dataclasses import dataclass
from typing import ClassVar

from slabrow.core.table.bounds import Bounds
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class _OnPartition:
    """What every action names. reason is one sentence for people."""

    table: Name
    partition: Name
    bounds: Bounds
    reason: str


@dataclass(frozen=True, slots=True)
class Create(_OnPartition):
    """Make an empty partition. inner: its own partitions, where the layout has a `within`."""

    kind: ClassVar[str] = "create"
    inner: tuple[Planned, ...] = ()


@dataclass(frozen=True, slots=True)
class Sweep(_OnPartition):
    """Make a partition, and move its rows there out of the catch-all.

    rows        how many lie there
    low, high   the least and the greatest of them, as the server spells them
    """

    kind: ClassVar[str] = "sweep"
    catch_all: Name
    rows: int
    low: str
    high: str
    inner: tuple[Planned, ...] = ()


class Detach(_OnPartition):
    """Let a partition out: it stays as a table of its own."""

    __slots__ = ()
    kind: ClassVar[str] = "detach"


class Drop(_OnPartition):
    """Delete a partition with all its rows."""

    __slots__ = ()
    kind: ClassVar[str] = "drop"


class Archive(_OnPartition):
    """Write a partition to a file, then let it out."""

    __slots__ = ()
    kind: ClassVar[str] = "archive"


Action = Create | Sweep | Detach | Drop | Archive
