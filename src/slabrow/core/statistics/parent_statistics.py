"""Whether the planner's statistics of a partitioned table still describe its partitions. Pure.

A server that analyses partitions by itself never does so for the table above them (PostgreSQL manual, 24.1.3): what it
estimates of the whole goes on describing the partitions of the last ANALYZE.
"""

from dataclasses import dataclass
from datetime import datetime

_WRONG_BY = 0.1  # rows that came or left since, as a share, from which estimates are called wrong


@dataclass(frozen=True, slots=True, kw_only=True)
class ParentStatistics:
    """rows          as the table's own statistics have them; None when it was never analysed

    leaf_rows     of all leaves together, as theirs have them
    analysed      when the table was analysed; leaves_analysed: when a leaf was, the last time
    came, left    partitions with rows that the statistics of the leading key do not reach; None where not known:
                  the statistics reach further than any partition
    """

    rows: int | None
    leaf_rows: int
    analysed: datetime | None
    leaves_analysed: datetime | None
    came: bool = False
    left: bool = False

    @property
    def wrong_by(self) -> float:
        """The share of rows that came or left since, of the greater number."""
        if self.rows is None:
            return 1.0 if self.leaf_rows else 0.0
        return abs(self.rows - self.leaf_rows) / max(self.rows, self.leaf_rows, 1)

    @property
    def fault(self) -> str | None:
        """What is wrong with them, in words; None when they still describe the partitions."""
        if self.leaf_rows == 0:
            return None
        if self.rows is None:
            return f"were never taken, and its leaves hold about {self.leaf_rows:,} rows"
        reasons = []
        if self.wrong_by > _WRONG_BY:
            reasons.append(f"say {self.rows:,} rows, and its leaves hold about {self.leaf_rows:,}")
        if self.came:
            reasons.append("end before the keys of partitions that have come since")
        if self.left:
            reasons.append("reach back to keys of partitions that have left")
        when = f" (of {self.analysed:%Y-%m-%d %H:%M})" if self.analysed is not None else ""
        return " and ".join(reasons) + when if reasons else None
