"""What a layout costs a month in money: blocks read, bytes stored, and processor time, at given prices (N47)."""

from dataclasses import dataclass

from slabrow.core.values.prices import Prices
from slabrow.core.weighing.weighed import Weighed

DAYS_A_MONTH = 365.25 / 12


@dataclass(frozen=True, slots=True)
class Money:
    """A month."""

    reads: float
    storage: float
    cpu: float

    @property
    def total(self) -> float:
        """All of it."""
        return self.reads + self.storage + self.cpu


def monthly(weighed: Weighed, table_bytes: int, prices: Prices) -> Money:
    """A month of a candidate: its queries, new rows and retiring. Waiting for the disk is no processor time."""
    return month_of(weighed.all_reads, max(0.0, weighed.ms - weighed.waiting_ms), table_bytes, prices)


def month_of(reads: float, busy_ms: float, table_bytes: int, prices: Prices) -> Money:
    """reads, busy_ms: of a day, blocks read from the disk and milliseconds of a processor."""
    return Money(
        reads * DAYS_A_MONTH / 1e6 * prices.million_blocks,
        table_bytes / 2**30 * prices.gb_month,
        busy_ms * DAYS_A_MONTH / 3_600_000 * prices.cpu_hour,
    )
