"""Which index of a partitioned table is on which of its leaves. Pure."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

from slabrow.core.values.names import Name


class OnLeaf(StrEnum):
    """How an index of the table stands on one leaf.

    THERE      valid, and a part of the table's
    LOOSE      valid, and not attached to the table's
    INVALID    left by a build that was broken off
    OTHER      only another index on the same columns is there
    MISSING    nothing like it
    """

    THERE = "there"
    LOOSE = "not attached"
    INVALID = "invalid"
    OTHER = "other"
    MISSING = "missing"


@dataclass(frozen=True, slots=True, kw_only=True)
class IndexFound:
    """An index as the catalogue has it.

    table        whose index it is
    definition   what follows ON table; two indexes with the same one index the same
    columns      the key's; an expression stands as ""
    constraint   p or u when a constraint owns it, else empty
    attached_to  the index above it
    is_left      by REINDEX CONCURRENTLY that was broken off: its name is the server's
    """

    name: Name
    table: Name
    definition: str
    columns: tuple[str, ...]
    is_unique: bool
    is_valid: bool
    constraint: str
    attached_to: Name | None
    bytes: int
    is_left: bool = False

    def indexes_the_same(self, other: "IndexFound") -> bool:
        """Whether both index the same. One that a constraint owns is another thing than one that none does."""
        return (self.definition, self.is_unique) == (other.definition, other.is_unique) and (
            not other.constraint or self.constraint in ("", other.constraint)
        )


@dataclass(frozen=True, slots=True)
class TablePart:
    """The table itself, or one of its partitions. parent: None for the table; level: 0 for the table."""

    name: Name
    parent: Name | None
    is_leaf: bool
    level: int


@dataclass(frozen=True)
class IndexMatrix:
    """parts: the table first, each before its own partitions; indexes: all of all of them."""

    table: Name
    parts: tuple[TablePart, ...]
    indexes: tuple[IndexFound, ...]

    @cached_property
    def _by_table(self) -> dict[Name, list[IndexFound]]:
        found: dict[Name, list[IndexFound]] = {}
        for index in self.indexes:
            found.setdefault(index.table, []).append(index)
        return found

    @cached_property
    def leaves(self) -> tuple[TablePart, ...]:
        """The tables that hold rows."""
        return tuple(part for part in self.parts if part.is_leaf)

    @cached_property
    def inner(self) -> tuple[TablePart, ...]:
        """The partitions that are divided themselves, those above first."""
        return tuple(part for part in self.parts if not part.is_leaf and part.parent is not None)

    @property
    def of_table(self) -> tuple[IndexFound, ...]:
        """The table's own, in the order of their names."""
        return tuple(sorted(self._by_table.get(self.table, ()), key=lambda index: index.name.table))

    def on(self, table: Name) -> Sequence[IndexFound]:
        """The indexes of one table."""
        return self._by_table.get(table, [])

    def like(self, index: IndexFound, table: Name, above: Name | None) -> tuple[OnLeaf, IndexFound | None]:
        """How an index stands on a table, and by which index there. above: the index that it must be attached to."""
        same = [each for each in self.on(table) if each.indexes_the_same(index) and not each.is_left]
        for each in same:
            if above is not None and each.attached_to == above:
                return (OnLeaf.THERE if each.is_valid else OnLeaf.INVALID), each
        free = [each for each in same if each.attached_to is None]
        for is_valid, state in ((True, OnLeaf.LOOSE), (False, OnLeaf.INVALID)):
            for each in free:
                if each.is_valid is is_valid:
                    return state, each
        other = next((each for each in self.on(table) if each.columns == index.columns and not each.is_left), None)
        return (OnLeaf.OTHER, other) if other is not None else (OnLeaf.MISSING, None)

    def row(self, index: IndexFound) -> tuple[tuple[TablePart, OnLeaf, IndexFound | None], ...]:
        """How an index of the table stands on each leaf."""
        above: dict[Name | None, Name | None] = {self.table: index.name}
        for part in self.inner:
            state, found = self.like(index, part.name, above.get(part.parent))
            is_its = found is not None and state not in (OnLeaf.OTHER, OnLeaf.MISSING)
            above[part.name] = found.name if is_its and found is not None else None
        return tuple((leaf, *self.like(index, leaf.name, above.get(leaf.parent))) for leaf in self.leaves)

    def alone(self) -> Iterator[tuple[IndexFound, tuple[Name, ...]]]:
        """Indexes that leaves have and the table has not: one of each kind, and the leaves."""
        kinds: dict[tuple[str, bool], list[IndexFound]] = {}
        for leaf in self.leaves:
            for index in self.on(leaf.name):
                is_known = any(index.indexes_the_same(each) for each in self.of_table)
                if index.attached_to is None and not is_known and not index.is_left:
                    kinds.setdefault((index.definition, index.is_unique), []).append(index)
        for same in kinds.values():
            yield same[0], tuple(index.table for index in same)

    @property
    def left_over(self) -> tuple[IndexFound, ...]:
        """What REINDEX CONCURRENTLY has left when it was broken off."""
        return tuple(index for index in self.indexes if index.is_left)

    @property
    def faults(self) -> int:
        """How many indexes are not as they should be, the table's own among them."""
        above = sum(not index.is_valid for index in self.of_table)
        on_leaves = sum(state is not OnLeaf.THERE for index in self.of_table for _, state, _ in self.row(index))
        return above + on_leaves + len(self.left_over)
