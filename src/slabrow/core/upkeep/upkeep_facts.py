"""The facts about a table that are needed to write its upkeep as statements."""

from dataclasses import dataclass

from slabrow.core.table.shape import Constraint, Index, Traits
from slabrow.core.values.names import Name

USUAL = Traits()  # the first partition has no sibling to take anything from
COPIED_ABOVE = 20_000  # rows: fewer move in the time that a lock costs anyway


@dataclass(frozen=True, slots=True, kw_only=True)
class UpkeepFacts:
    """Of one partitioned table.

    owner, role   its owner, and the role that acts
    taken         every name in its schema: what a new partition cannot be called
    columns       those that an INSERT may name: all but the generated ones
    traits        what new partitions take from their youngest sibling, because the parent does not hand it down
    """

    owner: str
    role: str
    taken: frozenset[str] = frozenset()
    columns: tuple[str, ...] = ()
    traits: Traits = USUAL


@dataclass(frozen=True, slots=True)
class Copying:
    """The facts that a sweep needs which copies its rows before it takes the lock.

    leaves          the tables that hold the catch-all's rows, and the blocks of each
    keys, indexes   of the parent: built while nobody waits, where attaching would build them under the lock
    """

    leaves: tuple[tuple[Name, int], ...]
    keys: tuple[Constraint, ...] = ()
    indexes: tuple[Index, ...] = ()
