"""Actions: what is to be done about a table, as plain data, each with its reason. Deciding ends here; doing starts."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from slabrow.core.table.bounds import Bounds
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class _OnPartition:
    """The fields that every action has. reason is one sentence for people."""

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


@dataclass(frozen=True, slots=True)
class Merge(_OnPartition):
    """Make one partition of several that are old, while the table is in use. sources: these, in their order."""

    kind: ClassVar[str] = "merge"
    sources: tuple[Name, ...] = ()


@dataclass(frozen=True, slots=True)
class Place(_OnPartition):
    """Move a partition that is old enough to another tablespace, or to another server.

    target        its name; is_server: of which it is
    leaves        those of the partition that lie elsewhere
    """

    kind: ClassVar[str] = "place"
    target: str
    leaves: tuple[Name, ...]
    bytes: int
    is_server: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Adopt:
    """Bring rows back from an archive: a table is made, loaded, compared with what was archived, and attached.

    bounds       None: there is no parent any more, and the table stands alone
    columns      of the archive, in their order: name, type, and the form in which the file holds the values
    types        the type that each of these columns gets
    rows_in      gives the archive's rows as CSV without a header
    row_count, fingerprint   of the rows that were archived: what is loaded must have the same
    is_text      whether `rows_in` spells instants and days as the server does, not as numbers
    """

    table: Name
    partition: Name
    bounds: Bounds | None
    reason: str
    columns: tuple[tuple[str, str, str], ...]
    types: Mapping[str, str]
    rows_in: Callable[[], Iterator[bytes]]
    row_count: int
    fingerprint: str
    is_text: bool
    inner: tuple[Planned, ...] = ()
    kind: ClassVar[str] = "adopt"


Action = Create | Sweep | Detach | Drop | Archive | Merge | Place
