"""A database's tables at a glance: what each is like, and whether partitions are worth a thought (N60)."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from shlex import quote

from slabrow.core.statistics.row_growth import Growth
from slabrow.core.values.names import Name
from slabrow.core.values.wording import count, share, size

SMALL = 1 << 30  # bytes: below, memory and indexes serve most of what partitions would
_OF_MEMORY = 0.25  # a table above this share of memory crowds out the others
_STALE = 0.2  # of the rows, by which the statistics of the whole may differ from those of the partitions
_LEAST_AHEAD_DAYS = 1.0
_SEQUENTIAL = 0.5  # of the rows read


class Advice(StrEnum):
    """A first verdict."""

    LEAVE = "leave it"
    WEIGH = "worth weighing"
    FINE = "fine"
    LOOK = "look at it"


@dataclass(frozen=True, slots=True, kw_only=True)
class Parts:
    """How a partitioned table is doing.

    leaves          number
    by              as people write it: `range (taken_at)`
    oldest          where the first range begins; ends: where the last one ends; None where that is no time
    catch_all_rows  the planner's estimate
    statistics_rows those of the whole by its own statistics, None where it was never analysed
    unanalysed      leaves with rows that were never analysed
    """

    leaves: int
    by: str
    oldest: datetime | None
    ends: datetime | None
    catch_all_rows: int
    statistics_rows: int | None
    unanalysed: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Glance:
    """One table.

    rows          estimated; None when it was never analysed
    growth        along the column that its data ages by, where there is one
    scanned       rows read by sequential scans; fetched: by indexes; since the counters began; None: not counted
    written       rows inserted, updated and deleted since then; None: not counted
    parts         None for a table without partitions
    """

    name: Name
    spelling: str
    rows: int | None
    heap_bytes: int
    index_bytes: int
    ageing: str | None
    growth: Growth | None
    scanned: int | None
    fetched: int | None
    written: int | None
    parts: Parts | None

    @property
    def bytes(self) -> int:
        """With indexes."""
        return self.heap_bytes + self.index_bytes

    @property
    def scanned_share(self) -> float | None:
        """Of the rows read, those by whole scans, from 0 to 1. None when none was read, or none is counted."""
        read = (self.scanned or 0) + (self.fetched or 0)
        return (self.scanned or 0) / read if read else None

    @property
    def grows_a_year(self) -> float | None:
        """New rows in a year against those of today; None where it is not known."""
        if self.growth is None or not self.rows or self.growth.still_since is not None:
            return None
        return self.growth.rows_a_day * 365.25 / self.rows


@dataclass(frozen=True, slots=True)
class Verdict:
    """advice, why, and the command to type next (empty where there is none).

    A command for the shell has the table's name in shell quotes: whoever named the table must not run anything.
    """

    advice: Advice
    why: str
    command: str


def verdict(table: Glance, cache_bytes: int, now: datetime, analyse: str) -> Verdict:
    """What a first look says.

    cache_bytes   the memory that tables are found in
    analyse       the statement that takes statistics, with {} for the table
    """
    if table.parts is not None:
        return _of_parts(table, table.parts, now, analyse)
    if table.rows is None:
        if table.bytes < SMALL:
            return Verdict(Advice.LEAVE, f"it is small, {size(table.bytes)}, and was never analysed", "")
        return Verdict(
            Advice.LOOK, "it was never analysed: nothing is known of its rows", analyse.format(table.spelling)
        )
    grows = table.grows_a_year or 0.0
    then = table.bytes * (1 + grows)
    if then < SMALL:
        return Verdict(
            Advice.LEAVE, f"it is small: {size(table.bytes)} are found in memory and through its indexes", ""
        )
    command = f"slabrow weigh {quote(table.spelling)} --workload FILE"
    scanned = table.scanned_share
    often = scanned is not None and scanned >= _SEQUENTIAL and (table.scanned or 0) > 10 * table.rows
    scans = f", and {share(scanned or 0.0)} of the rows read come from whole scans" if often else ""
    if table.bytes > _OF_MEMORY * cache_bytes:
        what = f"its {size(table.bytes)} are {share(table.bytes / cache_bytes)} of the {size(cache_bytes)} of memory"
        return Verdict(Advice.WEIGH, what + scans, command)
    if then > _OF_MEMORY * cache_bytes:
        what = f"in a year it will have {size(then)}, {share(then / cache_bytes)} of memory, by the growth it has shown"
        return Verdict(Advice.WEIGH, what + scans, command + " --grown 10")
    if scans:
        return Verdict(Advice.WEIGH, f"{size(table.bytes)}{scans}", command)
    return Verdict(Advice.LEAVE, f"its {size(table.bytes)} fit into memory well, and indexes lead to its rows", "")


def _of_parts(table: Glance, parts: Parts, now: datetime, analyse: str) -> Verdict:
    census = f"slabrow census {quote(table.spelling)}"
    if parts.leaves == 0:
        return Verdict(Advice.LOOK, "it has no partition: every row is refused", census)
    faults: list[str] = []
    if parts.ends is not None and (parts.ends - now).total_seconds() < _LEAST_AHEAD_DAYS * 86_400:
        what = "has ended" if parts.ends <= now else "ends within a day"
        faults.append(f"the last partition {what} ({parts.ends:%Y-%m-%d}), and nothing lies ahead")
    if parts.catch_all_rows:
        faults.append(f"about {count(parts.catch_all_rows)} rows lie in the catch-all")
    stale: list[str] = []
    if parts.unanalysed:
        stale.append(f"{count(parts.unanalysed)} partitions were never analysed")
    if parts.statistics_rows is None:
        stale.append("the statistics of the whole were never taken")
    elif table.rows and abs(parts.statistics_rows - table.rows) > _STALE * table.rows:
        stale.append(f"the statistics of the whole say {count(parts.statistics_rows)} rows")
    if not faults and not stale:
        each = f"{count(parts.leaves)} partitions"
        until = f", until {parts.ends:%Y-%m-%d}" if parts.ends is not None else ""
        return Verdict(Advice.FINE, f"{each}{until}", "")
    return Verdict(Advice.LOOK, "; ".join([*faults, *stale]), census if faults else analyse.format(table.spelling))


@dataclass(frozen=True, slots=True)
class Overview:
    """tables, the largest first; hidden: those that the role may not read; since: when the counters began.

    analyse     the statement that takes a table's statistics, with {} for the table
    uncounted   a sentence where the server counts neither reads nor writes: how it would
    """

    database: str
    tables: tuple[Glance, ...]
    hidden: int
    cache_bytes: int
    since: datetime | None
    now: datetime
    analyse: str
    uncounted: str = ""

    def verdict(self, table: Glance) -> Verdict:
        """Of one of them."""
        return verdict(table, self.cache_bytes, self.now, self.analyse)
