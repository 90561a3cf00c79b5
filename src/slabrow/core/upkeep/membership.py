"""A table becomes a partition, or a partition a table: what has to be so before, and what is still to be made."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, overlap, spell_bounds
from slabrow.core.table.shape import Constraint, Index, Shape
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.upkeep_facts import UpkeepFacts
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True, kw_only=True)
class Staged:
    """A table that is to become a partition, as it was found.

    shape, indexes   of the table; `shape.indexes` are those that no constraint owns
    faults           what only a person can mend, each with the remedy
    rows             how many it has; outside: how many lie outside of the bounds, and some of them as text
    in_catch_all     rows of the catch-all that the bounds hold
    """

    shape: Shape
    faults: tuple[str, ...] = ()
    rows: int = 0
    outside: int = 0
    examples: tuple[str, ...] = ()
    in_catch_all: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class JoiningPlan:
    """Everything that the statements depend on which make a table a partition.

    parent      whose partition it becomes: its shape is what the table must have
    catch_all   of the parent; None without one
    moves       whether rows of the catch-all that belong here are moved
    identities  columns whose identity must go first: of PostgreSQL 17 and later the parent's counts
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
            return f"{child.spelling} already holds keys of it: {spell_bounds(child.bounds)}"
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
