"""Where partitions lie, and what is moved when they are to lie elsewhere. Pure."""

from collections.abc import Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import Range
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.membership import newest
from slabrow.core.values.names import Name

MOVED_A_SECOND = 150_000_000  # bytes: 161 MB took 0.93 to 1.04 s beside a writer (PostgreSQL 15 and 18, a fast disk)


@dataclass(frozen=True, slots=True)
class IndexPlace:
    """An index of a partition. place: the tablespace it lies in; is_left: what a build that was killed has left."""

    name: Name
    place: str
    bytes: int
    is_left: bool = False
    is_exclusion: bool = False


@dataclass(frozen=True, slots=True)
class LeafPlace:
    """A partition that holds rows. bytes: of its rows, with what is stored out of line."""

    name: Name
    place: str
    bytes: int
    indexes: tuple[IndexPlace, ...] = ()

    def indexes_elsewhere(self, target: str) -> tuple[IndexPlace, ...]:
        """Those that are not there yet, and are whole."""
        return tuple(each for each in self.indexes if each.place != target and not each.is_left)

    def is_at(self, target: str) -> bool:
        """Whether nothing of it is to be moved."""
        return self.place == target and not self.indexes_elsewhere(target)

    def bytes_to_move(self, target: str) -> int:
        """Of its rows and indexes together."""
        rows = self.bytes if self.place != target else 0
        return rows + sum(each.bytes for each in self.indexes_elsewhere(target))

    @property
    def places(self) -> tuple[str, ...]:
        """The tablespaces that anything of it lies in."""
        return tuple(dict.fromkeys((self.place, *(each.place for each in self.indexes))))


@dataclass(frozen=True, slots=True)
class PlaceFacts:
    """What is known of some partitions and of the places.

    leaves      in the order that they were asked for
    known       the tablespaces that there are
    usual       the database's own
    may_use     whether the role may make tables in the target
    standbys    servers that replay everything that is written
    """

    leaves: tuple[LeafPlace, ...]
    known: tuple[str, ...]
    usual: str
    may_use: bool
    standbys: int


@dataclass(frozen=True, slots=True)
class RelocationPlan:
    """Leaves that are moved directly, one after the other. target: the tablespace."""

    root: Name
    leaves: tuple[LeafPlace, ...]
    target: str


def seconds_to_move(bytes_: int) -> float:
    """For how long readers of a partition wait while its rows are copied to another tablespace."""
    return bytes_ / MOVED_A_SECOND


def is_in_use(tree: Tree, partitions: Sequence[Partition]) -> bool:
    """Whether rows are still written to one of these, as far as bounds tell: to all but ranges that are not the last
    to hold rows.
    """
    names = [each.name for each in partitions]
    return any(not isinstance(each.bounds, Range) for each in partitions) or newest(tree, names)
