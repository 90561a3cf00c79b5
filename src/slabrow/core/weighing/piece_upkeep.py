"""The upkeep of one piece: how long VACUUM, an index rebuild, a dump and a reading take, and how large is too large.

Ratios to one sequential reading, measured on pieces of 21, 25 and 332 MB: docs/costs.md.
"""

from dataclasses import dataclass

from slabrow.core.values.wording import size
from slabrow.core.weighing.costs import Costs

_VACUUM, _DUMP, _REBUILD = 1.05, 3.8, 4.5  # the last for each index, beside writers
_LONGEST_REBUILD_MS = 30 * 60_000.0
_LEAST_BYTES = 1 << 30  # below a gigabyte nothing is too large


@dataclass(frozen=True, slots=True)
class PieceUpkeep:
    """Milliseconds, with nothing of the piece in memory.

    read      every row once
    vacuum    of every page
    rebuild   of all indexes, beside writers
    dump      its rows as text
    """

    read_ms: float
    vacuum_ms: float
    rebuild_ms: float
    dump_ms: float


def piece_upkeep(heap_bytes: float, index_bytes: float, rows: float, indexes: int, costs: Costs) -> PieceUpkeep:
    """Of a table or partition of this size."""
    read = heap_bytes / 8_192 * costs.read_in_order + rows * costs.row
    walked = index_bytes / 8_192 * costs.read_in_order
    return PieceUpkeep(read, read * _VACUUM + walked, read * _REBUILD * indexes, read * _DUMP)


@dataclass(frozen=True, slots=True)
class SizeLimit:
    """The most that a partition should hold, with the reason. is_asked: whether a person gave it."""

    bytes: int
    reason: str
    is_asked: bool


def size_limit(asked: int | None, cached_bytes: int, heap_share: float, indexes: int, costs: Costs) -> SizeLimit:
    """heap_share: of the rows in a table's bytes. Without a wish: what memory holds, and what is rebuilt in time."""
    if asked is not None:
        return SizeLimit(asked, "as --size asks", True)
    per_byte = costs.read_in_order / 8_192 * _REBUILD * max(1, indexes) * max(heap_share, 0.05)
    rebuilt = _LONGEST_REBUILD_MS / max(per_byte, 1e-15)
    if rebuilt < cached_bytes:
        found, why = rebuilt, f"in half an hour the disk rebuilds the indexes of {size(int(rebuilt))}"
    else:
        found, why = float(cached_bytes), f"a partition with its indexes fits into the {size(cached_bytes)} of memory"
    if found < _LEAST_BYTES:
        return SizeLimit(_LEAST_BYTES, "below a gigabyte nothing is too large", False)
    return SizeLimit(int(found), why, False)
