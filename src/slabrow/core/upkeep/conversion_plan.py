"""The plan of converting a plain table, before it is written as statements."""

from dataclasses import dataclass

from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Shape
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True, kw_only=True)
class ConversionPlan:
    """Everything that the statements depend on.

    old_name        what the plain table is called afterwards
    blocks          its size in blocks when this was planned; rows that come later are in the last slice of the copy
    key_type        of the leading key column, as SQL
    record_hash     whether every column has a hash function, so that rows can be fingerprinted without printing them
    role            the role that acts
    is_compared     whether the copy is compared with the table; only made-up rows can do without
    """

    shape: Shape
    layout: Layout
    planned: tuple[Planned, ...]
    old_name: Name
    blocks: int
    key_type: str
    record_hash: bool
    role: str
    lock_wait_ms: int
    is_compared: bool = True
