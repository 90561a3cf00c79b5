"""The price of new rows and of retired ones: time, and what is written for it.

Rows that are deleted leave entries in every index, and VACUUM has to walk through all of them (PostgreSQL manual,
24.1.2); a partition that is dropped leaves nothing. Figures and laws: docs/costs.md.
"""

from dataclasses import dataclass
from math import expm1

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.weighing.costs import Costs
from slabrow.core.weighing.ways import Ways

_BYPASS = 0.02  # of the blocks: below, VACUUM leaves the indexes alone (BYPASS_THRESHOLD_PAGES, vacuumlazy.c)
_IMAGE_BYTES = 7_400  # of a page that is written whole to the WAL for the first time after a checkpoint, measured
_DELETED_BYTES = 55  # of WAL for each deleted row, measured
_DROPPED_BYTES = 100_000  # of WAL for a dropped partition: rows of the catalog


@dataclass(frozen=True, slots=True)
class Retiring:
    """A day's retiring.

    is_dropping   whether whole partitions leave; else rows are deleted
    ms            DELETE and its VACUUM, or the drop
    wal_bytes     that are written to the log
    written       blocks that are written to tables and indexes
    """

    is_dropping: bool
    ms: float = 0.0
    wal_bytes: float = 0.0
    written: float = 0.0


NO_RETIRING = Retiring(False)


def dropped(partitions_a_day: float, costs: Costs) -> Retiring:
    """Whole partitions."""
    return Retiring(True, partitions_a_day * costs.drop, wal_bytes=partitions_a_day * _DROPPED_BYTES)


def deleted(facts: TableFacts, costs: Costs, ageing: str | None, rows: float, leaves: int) -> Retiring:
    """DELETE of so many rows, the way to them, and a share of the VACUUM that follows: it is due once dead rows lie on
    2 % of the blocks, and then goes through all indexes.

    leaves   that the rows are spread over
    """
    if rows <= 0 or facts.rows <= 0:
        return NO_RETIRING
    ways = Ways(facts, costs)
    seen = facts.statistics.get(ageing or "")
    lie_together = seen is not None and abs(seen.correlation or 0.0) >= 0.9
    in_order = rows / facts.rows * facts.blocks + leaves
    at_random = -facts.blocks * expm1(-rows / facts.blocks)
    pages = min(float(facts.blocks), in_order if lie_together else at_random)
    finding = _finding_ms(facts, costs, ageing, ways)
    deleting = rows * costs.delete + pages * (costs.read_in_order if lie_together else costs.read)
    days = max(1.0, _BYPASS * facts.blocks / max(pages, 1e-9))
    dead = rows * days
    spread = sum(
        -hot * expm1(-dead / hot) for index in facts.indexes if (hot := _hot_blocks(facts, ways, index.columns[0])) > 0
    )
    index_blocks = facts.index_bytes / facts.block_bytes
    full = index_blocks * costs.read_in_order + spread * costs.read + pages * days * costs.read_in_order
    images = pages + (spread + pages * days) / days
    return Retiring(
        False,
        finding + deleting + full / days,
        images * _IMAGE_BYTES + rows * _DELETED_BYTES,
        pages + spread / days,
    )


def _finding_ms(facts: TableFacts, costs: Costs, ageing: str | None, ways: Ways) -> float:
    """The way to the oldest rows: nothing with an index that leads there; else a scan, or a skip through an index."""
    scan = facts.blocks * costs.read_in_order + facts.rows * costs.row
    for index in facts.indexes:
        if ageing is not None and index.columns[0] == ageing:
            return 0.0
        if facts.can_skip and ageing is not None and ageing in index.columns[1:2]:
            values = getattr(facts.statistics.get(index.columns[0]), "distinct", None) or facts.rows
            scan = min(scan, min(float(values), ways.index_blocks(index)) * costs.read)
    return scan


def _hot_blocks(facts: TableFacts, ways: Ways, leading: str) -> float:
    """Leaf blocks of an index that entries of one age lie in: one after the other where it follows the order."""
    index = next(each for each in facts.indexes if each.columns[0] == leading)
    blocks = ways.index_blocks(index)
    seen = facts.statistics.get(leading)
    if seen is None:
        return blocks
    if abs(seen.correlation or 0.0) >= 0.9:
        return 1.0
    return min(blocks, seen.distinct or blocks)
