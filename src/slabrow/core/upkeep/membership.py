"""A table becomes a partition, or a partition a table: what has to be so before, and what is still to be made."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import (
    Bounds,
    CatchAll,
    Hashed,
    Listed,
    Range,
    overlap,
    range_order,
    spell_bounds,
    spell_key,
)
from slabrow.core.table.shape import Constraint, Index, Shape
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.upkeep_facts import UpkeepFacts
from slabrow.core.values.key_values import Edge
from slabrow.core.values.method import By
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True, kw_only=True)
class Staged:
    """A table that is to become a partition, as it was found.

    shape, indexes   of the table; `shape.indexes` are those that no constraint owns
    faults           what only a person can mend, each with the remedy
    rows             how many it has; outside: how many lie outside of the bounds, and some of them as text
    in_catch_all     rows of the catch-all that the bounds hold
    notes            what a person should know before it is done
    """

    shape: Shape
    faults: tuple[str, ...] = ()
    rows: int = 0
    outside: int = 0
    examples: tuple[str, ...] = ()
    in_catch_all: int = 0
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class JoiningPlan:
    """Everything that the statements depend on which make a table a partition.

    parent      whose partition it becomes: its shape is what the table must have
    catch_all   of the parent; None without one
    moves       whether rows of the catch-all that belong here are moved
    identities  columns whose identity must go first: of PostgreSQL 17 and later the parent's counts
    tree        the parent as it is
    is_empty    whether the table has no rows, or none any more
    """

    root: Name
    parent: Shape
    key: tuple[str, ...]
    table: Shape
    bounds: Bounds
    catch_all: Name | None
    moves: bool
    facts: UpkeepFacts
    identities: tuple[str, ...]
    parent_condition: str = ""
    tree: Tree | None = None
    is_empty: bool = False

    @property
    def nullable(self) -> tuple[str, ...]:
        """Columns that the parent keeps from being NULL and the table does not."""
        here = {column.name: column.not_null for column in self.table.columns}
        return tuple(column.name for column in self.parent.columns if column.not_null and not here[column.name])

    def missing(self, kinds: str) -> tuple[Constraint, ...]:
        """Constraints of the parent that the table has not, of these kinds. A check counts with its name."""
        here = {_print(each) for each in self.table.constraints}
        return tuple(each for each in self.parent.constraints if each.kind in kinds and _print(each) not in here)

    @property
    def missing_indexes(self) -> tuple[Index, ...]:
        """Indexes of the parent that the table has not."""
        here = {(each.definition, each.is_unique) for each in self.table.indexes}
        return tuple(each for each in self.parent.indexes if (each.definition, each.is_unique) not in here)


def _print(constraint: Constraint) -> tuple[str, str]:
    return (constraint.name if constraint.kind == "c" else constraint.kind, constraint.definition)


@dataclass(frozen=True, slots=True, kw_only=True)
class LeavingPlan:
    """Everything that the statements depend on which make a partition a table of its own.

    catch_all  of the parent, which may be the partition itself; None without one
    target     the schema it goes to; None: it stays in its own
    keeps      whether a check of its bounds stays
    condition  what the server demands of its rows, as SQL
    is_detaching   whether an earlier try was interrupted
    """

    parent: Name
    partition: Name
    bounds: Bounds
    catch_all: Name | None
    target: str | None
    keeps: bool
    condition: str
    is_detaching: bool

    @property
    def released(self) -> Name:
        """The table's name afterwards."""
        return self.partition if self.target is None else Name(self.target, self.partition.table)


def column_faults(parent: Shape, table: Shape) -> Iterator[str]:
    """Columns that keep a table from becoming a partition. Their order does not matter, and NOT NULL can be added."""
    here = {column.name: column for column in table.columns}
    for column in parent.columns:
        found = here.pop(column.name, None)
        if found is None:
            yield f"column {column.name} {column.type_name} is missing: add it"
        elif found.type_name != column.type_name:
            yield f"column {column.name} is {found.type_name}, and must be {column.type_name}: change its type"
        elif found.collation != column.collation:
            yield (
                f"column {column.name} has the collation {found.collation or 'of its type'}, and must have "
                f"{column.collation or 'that of its type'}: change it"
            )
        elif found.generated != column.generated:
            wanted = f"GENERATED ALWAYS AS {column.generated}" if column.generated else "not generated"
            yield f"column {column.name} must be {wanted}: change it"
    for name in here:
        yield f"column {name} is not one of {parent.name}: drop it, or add it there"


def bound_fault(bounds: Bounds, tree: Tree) -> str | None:
    """Why a partition with these bounds cannot come to the tree; None when it can."""
    kind = {"range": Range, "list": Listed, "hash": Hashed}[tree.by]
    if not isinstance(bounds, CatchAll | kind):
        return f"{tree.spelling} is divided by {tree.by}"
    for child in tree.children:
        if _overlaps(bounds, child.bounds):
            return _is_taken(child)
    return None


def _overlaps(one: Bounds, other: Bounds) -> bool:
    match one, other:
        case Range(), Range() if not one.is_opaque and not other.is_opaque:
            return overlap(one, other)
        case Listed(), Listed():
            return bool(set(one.values) & set(other.values))
        case Hashed(), Hashed():
            smaller = min(one.modulus, other.modulus)
            return one.remainder % smaller == other.remainder % smaller
        case _:
            return isinstance(one, CatchAll) and isinstance(other, CatchAll)


def newest(tree: Tree, names: Sequence[Name]) -> bool:
    """Whether the range that is the last to hold rows is among these: the data of today."""
    holding = [child for child, _ in tree.ranges if not child.is_empty and (child.rows is None or child.rows > 0)]
    return bool(holding) and holding[-1].name in names


@dataclass(frozen=True, slots=True)
class Room:
    """Where a partition comes in, in a table whose ranges have no gaps between them.

    host      the partition that holds such keys now, and is divided for it; None: nothing does
    is_made   whether the partition is there already, as an earlier run left it
    fault     why it cannot come; None when it can
    """

    host: Partition | None = None
    is_made: bool = False
    fault: str | None = None


def room_for(bounds: Bounds, tree: Tree, name: str) -> Room:
    """Where a partition of that name and these bounds comes in. Of a range only the end is written there: it begins
    where the one before it ends, and what left belongs to the next one.
    """
    same = next((each for each in tree.children if each.name.table.lower() == name.lower()), None)
    match bounds:
        case Range():
            room = _room_of_range(bounds, tree, same)
        case Listed():
            others = [each for each in tree.children if each is not same]
            taken = next((each for each in others if _overlaps(bounds, each.bounds)), None)
            is_made = same is not None and same.bounds == bounds
            room = Room(tree.catch_all, is_made, None if taken is None else _is_taken(taken))
        case CatchAll() if isinstance(tree.catch_all, Partition):
            room = Room(fault=_is_taken(tree.catch_all))
        case CatchAll() if tree.by is By.LIST:
            room = Room(
                fault="this server loses the DEFAULT of a list when a table comes in as it: make it empty first"
            )
        case CatchAll():
            room = Room()
        case _:
            room = Room(fault="the parts of a hash are all there: none can come in")
    if room.fault is None and same is not None and not room.is_made:
        return Room(fault=f"{tree.spelling} has another partition {name}: rename the table")
    return room


def _room_of_range(bounds: Range, tree: Tree, same: Partition | None) -> Room:
    if bounds.to is None:
        return Room(fault="a range needs its end: give --to")
    if any(isinstance(end, Edge) for end in bounds.to):
        return Room(fault="the end of a range over several columns is not written so on this server")
    low, host = None, tree.catch_all
    for child, held in tree.ranges:
        if held.to == bounds.to:
            is_made = child is same
            return Room(is_made=is_made, fault=None if is_made else _is_taken(child))
        if held.to is None or range_order(Range(None, bounds.to)) < range_order(Range(None, held.to)):
            host = child
            break
        low = held.to
    if low is None or bounds.from_ == low:
        return Room(host)
    begins = spell_key(low)
    return Room(fault=f"it would begin at {begins}, where the partition before it ends: give --from {begins}")


def _is_taken(child: Partition) -> str:
    return f"{child.spelling} already holds keys of it: {spell_bounds(child.bounds)}"
