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
    scanned       rows read by sequential scans; fetched: by indexes; since the counters began
    written       rows inserted, updated and deleted since then
    parts         None for a table without partitions
    """

    name: Name
    spelling: str
    rows: int | None
    heap_bytes: int
    index_bytes: int
    ageing: str | None
    growth: Growth | None
    scanned: int
    fetched: int
    written: int
    parts: Parts | None

    @property
    def bytes(self) -> int:
        """With indexes."""
        return self.heap_bytes + self.index_bytes

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


def verdict(table: Glance, cache_bytes: int, now: datetime) -> Verdict:
    """What a first look says. cache_bytes: the memory that tables are found in."""
    if table.parts is not None:
        return _of_parts(table, table.parts, now)
    if table.rows is None:
        if table.bytes < SMALL:
            return Verdict(Advice.LEAVE, f"it is small, {size(table.bytes)}, and was never analysed", "")
        return Verdict(Advice.LOOK, "it was never analysed: nothing is known of its rows", f"ANALYZE {table.spelling}")
    grows = table.grows_a_year or 0.0
    then = table.bytes * (1 + grows)
    if then < SMALL:
        return Verdict(
            Advice.LEAVE, f"it is small: {size(table.bytes)} are found in memory and through its indexes", ""
        )
    command = f"slabrow weigh {quote(table.spelling)} --workload FILE"
    reads = table.scanned + table.fetched
    scans = f", and {share(table.scanned / reads)} of the rows read come from whole scans" if _is_scanned(table) else ""
    if table.bytes > _OF_MEMORY * cache_bytes:
        what = f"its {size(table.bytes)} are {share(table.bytes / cache_bytes)} of the {size(cache_bytes)} of memory"
        return Verdict(Advice.WEIGH, what + scans, command)
    if then > _OF_MEMORY * cache_bytes:
        what = f"in a year it will have {size(then)}, {share(then / cache_bytes)} of memory, by the growth it has shown"
        return Verdict(Advice.WEIGH, what + scans, command + " --grown 10")
    if scans:
        return Verdict(Advice.WEIGH, f"{size(table.bytes)}{scans}", command)
    return Verdict(Advice.LEAVE, f"its {size(table.bytes)} fit into memory well, and indexes lead to its rows", "")


def _is_scanned(table: Glance) -> bool:
    reads = table.scanned + table.fetched
    return reads > 0 and table.scanned / reads >= _SEQUENTIAL and table.scanned > 10 * (table.rows or 0)


def _of_parts(table: Glance, parts: Parts, now: datetime) -> Verdict:
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
    return Verdict(Advice.LOOK, "; ".join([*faults, *stale]), census if faults else f"ANALYZE {table.spelling}")


@dataclass(frozen=True, slots=True)
class Overview:
    """tables, the largest first; hidden: those that the role may not read; since: when the counters began."""

    database: str
    tables: tuple[Glance, ...]
    hidden: int
    cache_bytes: int
    since: datetime | None
    now: datetime

    def verdict(self, table: Glance) -> Verdict:
        """Of one of them."""
        return verdict(table, self.cache_bytes, self.now)
