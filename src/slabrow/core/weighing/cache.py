"""Which blocks are found in memory: hit ratios of groups of blocks, from how often a workload touches each.

Independent references with a characteristic time: under LRU a block is found when it was touched within the last T, the
same T for all blocks, so that the blocks touched within T fill the cache (Che, Tung and Wang, "Hierarchical Web Caching
Systems", IEEE J. Sel. Areas Commun. 20(7), 2002; Fricker, Robert and Roberts, "A versatile and accurate approximation
for LRU cache performance", 2012). The server's clock sweep differs from it by a few percent.
"""

# An example. A cache of 100 blocks, a group of 50 blocks touched 10 times a second, one of 10,000 blocks touched once
# a second. Without the second, everything fits. With it, T is the time after which the 50 hot blocks and the cold ones
# of the last T make 100: about 51 s. A hot block is touched every 5 s and is nearly always found; a cold one every
# 10,000 s, and hardly ever.

from dataclasses import dataclass
from math import exp, inf, log

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

# Blocks of the server's catalogs, and left-overs, that were seen to stay in the cache beside those of tables.
_CATALOG_BLOCKS = 110
_MOST_CATALOG = 0.07  # of a small cache
RING_BLOCKS = 32  # of 8 kB (GetAccessStrategy, freelist.c)
_RING = 4  # tables above a fourth of the shared buffers are scanned through a ring (heapam.c, initscan)


@dataclass(frozen=True, slots=True)
class Memory:
    """What can be found without a disk.

    buffers_bytes  the server's own cache (shared_buffers)
    cached_bytes   that and what the operating system caches for it; the same where the server reads past it
    """

    buffers_bytes: int
    cached_bytes: int

    def ring_blocks(self, block_bytes: int) -> float:
        """A leaf above this is scanned through a ring; never where the system's cache takes what the ring lets go."""
        return self.buffers_bytes / block_bytes / _RING if self.cached_bytes <= self.buffers_bytes else inf

    def blocks(self, block_bytes: int, planned: float) -> float:
        """Blocks for tables. planned: leaves that statements plan, whose catalog rows are cached too."""
        whole = self.cached_bytes / block_bytes
        return max(8.0, whole - min(_CATALOG_BLOCKS + planned, _MOST_CATALOG * whole + planned, 0.5 * whole))


def hit_ratios(blocks: Floats, touched: Floats, cache: float, scanned: Floats | None = None) -> Floats:
    """The share of touches that find their block, for each group: from 0 to 1, in the shape of `blocks`.

    blocks    of each group, all alike within it
    touched   blocks of the group that are touched in a unit of time, one block counted each time
    cache     blocks that can be held
    scanned   for groups that are scanned through a ring, the blocks of one leaf; 0 for the others. Each scan leaves no
              more than RING_BLOCKS of what it had to read, but what is in the cache it finds: a leaf that is scanned
              often enough comes in bit by bit, and stays
    """
    live = (blocks > 0) & (touched > 0)
    found = np.ones_like(blocks, dtype=np.float64)
    if not live.any():
        return found
    size, rate = blocks[live], touched[live] / blocks[live]
    admitted = np.ones_like(rate)
    if scanned is not None:
        ring = scanned[live]
        admitted = np.where(ring > 0, np.minimum(1.0, RING_BLOCKS / np.maximum(ring, 1.0)), 1.0)
    if size.sum() <= cache:
        return found

    def held(moment: float) -> Floats:
        # Of those that a scan leaves out, as many come in as are lost until the next one.
        kept = np.minimum(1.0, admitted * np.exp(np.minimum(700.0, rate * moment)))
        return np.asarray(-np.expm1(-rate * moment) * kept)

    # T is searched for on a scale of logarithms: it may be a second or a year.
    low, high = log(cache / 10 / float(touched[live].sum())), log(1e3 * float(1 / rate.min()))
    for _ in range(60):
        middle = (low + high) / 2
        if float((size * held(exp(middle))).sum()) < cache:
            low = middle
        else:
            high = middle
    found[live] = held(exp(low))
    return found
