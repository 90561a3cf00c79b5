"""`[prices]`: what reading, storing and computing cost (N47)."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Prices:
    """Each is in the currency.

    million_blocks   a million blocks that are read from the disk
    gb_month         a gigabyte (2^30 bytes) stored for a month
    cpu_hour         an hour of one processor
    """

    currency: str
    million_blocks: float = 0.0
    gb_month: float = 0.0
    cpu_hour: float = 0.0
