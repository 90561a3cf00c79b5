"""The plan of a live conversion, before it is written as steps, and the record by which any machine goes on with it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from slabrow.core.table.belongings import Belongings
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Column, Shape
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.names import Name

BOUNDS_CHECK = "slabrow_bounds"  # the check that a table gets which is taken in as it is
BUILT = "_built"  # how the names of the keys end that are built for it


class ReshapingState:
    """The states of a record, as the database holds them."""

    BEGUN = "begun"
    SWAPPED = "swapped"
    DONE = "done"
    UNDONE = "undone"
    GIVEN_UP = "given up"


@dataclass(frozen=True, slots=True, kw_only=True)
class Reshaping:
    """The record of one table's long work, as the database holds it.

    job         its number
    kind        `convert`, `split` or `merge`
    table       whose work it is: the table that is converted, or the first partition that is divided anew
    way         `live` or `as-is`
    layout      as words, so that another layout is noticed
    old_name    of the table as it was, after the swap
    marks       what is done, and when
    compared    the rows of the comparison before the swap
    """

    job: int
    table: Name
    way: str
    state: str
    layout: str
    old_name: Name
    began: datetime
    marks: Mapping[str, datetime] = field(default_factory=dict)
    compared: tuple[tuple[str, int, int], ...] = ()
    longest_lock_ms: float = 0.0
    details: Mapping[str, Any] = field(default_factory=dict)
    kind: str = "convert"

    @property
    def root(self) -> str:
        """The partitioned table, as a message spells it."""
        return str(self.details.get("root", self.table))


@dataclass(frozen=True, slots=True, kw_only=True)
class LivePlan:
    """Everything that the statements of a live conversion depend on.

    job          the number of the record
    schema       the schema of the ledger, in which the state lies
    shape        of the table as it is
    belongings   what else belongs to it
    planned      the partitions of the new table
    followed     the columns of the unique key by which a row is found again
    leaves       the tables that hold the rows now: the table itself, or its leaves
    key_type     of the leading key column, as SQL
    record_hash  whether every column has a hash function
    role         that acts
    version      the server's major version
    piece_blocks how many blocks a piece of the copy has at most
    recorded     the columns of the log, of a conversion that is under way: the layout file may be another one since
    """

    job: int
    schema: str
    shape: Shape
    belongings: Belongings
    layout: Layout
    planned: tuple[Planned, ...]
    old_name: Name
    followed: tuple[str, ...]
    leaves: tuple[Name, ...]
    is_partitioned: bool
    key_type: str
    record_hash: bool
    role: str
    version: int
    lock_wait_ms: int
    piece_blocks: int = 1024
    recorded: tuple[str, ...] = ()

    @property
    def logged(self) -> tuple[Column, ...]:
        """The columns that a change is recorded with: those that find the row, then those of the partition key."""
        names = self.recorded or (*self.followed, *(key for key in self.layout.full_key if key not in self.followed))
        return tuple(column for name in names if (column := self.shape.column(name)) is not None)

    @property
    def copied(self) -> tuple[str, ...]:
        """The columns that are copied: all but generated ones."""
        return tuple(column.name for column in self.shape.columns if column.generated is None)
