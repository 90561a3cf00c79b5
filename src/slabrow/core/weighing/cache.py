"""Which blocks are found in memory: hit ratios of groups of blocks, from how often a workload touches each.

Independent references, and the server's clock sweep (freelist.c, StrategyGetBuffer) in its mean field: a hand goes
round all buffers and takes 1 from the count of each; the first without any left gives way. The time of a round is the
same for all blocks, and such that those held fill the cache. For blocks that are touched a few times a round this holds
them longer than a least-recently-used list would (Che, Tung and Wang, "Hierarchical Web Caching Systems", IEEE J. Sel.
Areas Commun. 20(7), 2002, whose frame this is); for cold ones both are the same.
"""

# An example. A cache of 100 blocks, a group of 50 blocks touched 10 times a second, one of 10,000 blocks touched once
# a second. Without the second, everything fits. With it, a round takes the time in which the 50 hot blocks and the cold
# blocks of the last two rounds make 100: about 25 s. A hot block is touched five times in a round and stays. A cold
# block comes every 10,000 s, stays for two rounds, and is hardly ever found.

from dataclasses import dataclass
from math import exp, factorial, inf, log

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

    def held(round_: float) -> Floats:
        # Of what a scan leaves out, a part comes in with each scan.
        came = admitted * rate * round_ * _rounds(rate * round_)
        return np.asarray(came / (1 + came))

    # The time of a round is searched for on a scale of logarithms: it may be a second or a year.
    low, high = log(cache / 100 / float(touched[live].sum())), log(1e3 * float(1 / rate.min()))
    for _ in range(60):
        middle = (low + high) / 2
        if float((size * held(exp(middle))).sum()) < cache:
            low = middle
        else:
            high = middle
    found[live] = held(exp(low))
    return found


_MOST_USED = 5  # BM_MAX_USAGE_COUNT, buf_internals.h
_OFTEN = 4.0  # touches a round: above, a block stays for good


def _rounds(touches: Floats) -> Floats:
    """How many rounds of the hand a block stays, on average, that is touched so often in each (at random moments).

    A block comes in with a count of 1. Each touch adds 1 up to the most; each time that the hand passes takes 1 away,
    and takes the block that has none left. So the count behind the hand is a Markov chain of five states, and the
    rounds until the block is taken are five linear equations.
    """
    often = np.minimum(touches, _OFTEN)
    states = _MOST_USED
    chances = np.stack([np.exp(-often) * often**n / factorial(n) for n in range(states)], axis=-1)
    steps = np.zeros((len(often), states, states))
    for count in range(states):  # what is left when the hand has passed
        for come in range(states - count):
            if count + come:
                steps[:, count, count + come - 1] += chances[:, come]
        steps[:, count, states - 1] += 1 - chances[:, : states - count].sum(axis=-1)
    rounds = np.linalg.solve(np.eye(states) - steps, np.ones((len(often), states, 1)))
    return np.asarray(rounds[:, 1, 0])
