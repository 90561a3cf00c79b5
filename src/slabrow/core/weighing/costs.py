"""The constants of the cost model, and what a query is made of: what it asks, the leaves it meets, what it pays.

The model is written down in docs/costs.md, with where each constant comes from. It follows the shape of the server's
own cost model (PostgreSQL manual, 20.7.2; Mackert and Lohman for repeated blocks), in time instead of page units.
"""

# The idea of the model. A query on a partitioned table pays three times: for planning (once for each leaf that is
# left), for finding its rows (a descent into an index of each leaf that is touched), and for reading blocks. Partitions
# make the third part smaller and the first two larger. The model adds all three in milliseconds, so that a day of
# queries can be summed, and a layout be compared with the table as it is.
#
# Two cost models meet here, and must not be mixed up:
# - The *planner's* units decide which way the server would take (sequential, index, bitmap; with workers or without).
#   They follow costsize.c with the server's own settings, for the choice is the server's.
# - The *milliseconds* say what that way takes. Their constants are measured (`weigh --calibrate`), since a page unit is
#   no unit of time.
#
# What a block costs depends on whether it is found in memory. That is worked out for all queries of a layout together:
# `block_touches` says which groups of blocks each of them touches, `cache` how many of those touches find their block.
#
# Blocks of repeated look-ups follow Mackert and Lohman ("Index Scans Using a Finite LRU Buffer", ACM TODS 14(3), 1989),
# as in the server. Between rows that lie in the order of the index and rows that lie at random, the cost is
# interpolated by the square of the correlation (cost_index, costsize.c).
#
# An example with the default constants. A look-up by the primary key on one table: planning 0.07 ms, one descent. On
# 100 monthly partitions, when the key is not in the condition: planning 0.07 + 100 × 0.048 = 4.9 ms, and 100 descents.
# The same look-up with the month in the condition: 0.07 + 0.048 ms, and one descent.

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from slabrow.core.weighing.selectivity import Shares


@dataclass(frozen=True, slots=True)
class Costs:
    """The constants, in milliseconds. Defaults are medians measured on PostgreSQL 18 with two cores; see docs/costs.md.

    planning          of any statement on an ordinary table
    planning_leaf     for each leaf that is left in the plan
    planning_start    for each leaf that is planned and then left out as execution starts
    planning_rest     for each leaf that planning leaves out
    running_leaf      for each leaf that is opened when the statement runs
    first_leaf        for each leaf in the plan of a new connection's first statement, besides
    block             a block that is found in memory
    read              a block that has to be read from where it lies
    read_in_order     a block of many that are read one after the other
    row               a row that is looked at in a sequential scan
    emit              a row that satisfies the conditions, and is sorted, grouped or sent
    append            a row that is handed on from one of several leaves
    parallel_setup    starting the workers of a parallel scan
    parallel_gain     how much faster the first worker makes it; each further one adds a third of that
    fetch             a row that is fetched by an index
    descent           finding the first entry in an index
    insert            a row that is inserted, for each index and for the table
    route             a row that is routed to its partition
    delete            a row that is deleted, once it is found
    drop              a partition that is detached and dropped
    message           a question to another server, for each leaf that lies there
    send              a row that another server sends
    places            of tablespaces and other servers: how many times as long a block takes that is read there
    """

    planning: float = 0.07
    planning_leaf: float = 0.048
    planning_start: float = 0.052
    planning_rest: float = 0.0001
    running_leaf: float = 0.021
    first_leaf: float = 0.4
    block: float = 0.0007
    read: float = 0.08
    read_in_order: float = 0.02
    row: float = 0.000083
    emit: float = 0.0001
    append: float = 0.000044
    parallel_setup: float = 3.0
    parallel_gain: float = 0.6
    fetch: float = 0.000083
    descent: float = 0.0012
    insert: float = 0.0009
    route: float = 0.0006
    delete: float = 0.002
    drop: float = 25.0
    message: float = 0.16
    send: float = 0.00033
    places: tuple[tuple[str, float], ...] = ()

    def slowness(self, place: str | None) -> float:
        """How many times as long a block takes that is read in a place; 1 where nothing is said of it."""
        return dict(self.places).get(place or "", 1.0)


@dataclass(frozen=True, slots=True)
class Leaves:
    """The leaves that a query meets.

    total     of the table
    planned   in the plan
    touched   read
    share     of all rows in the touched ones, 0 to 1
    places    of the touched ones among all leaves; None: all of them
    """

    total: int
    planned: int
    touched: int
    share: float
    places: NDArray[np.intp] | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Paid:
    """blocks are visits, of the heap and of indexes; reads those of them that are not found in memory; milliseconds.

    waiting_ms   of the running, for blocks that are read
    sent         rows that other servers send
    """

    blocks: float
    planning_ms: float
    running_ms: float
    reads: float = 0.0
    waiting_ms: float = 0.0
    sent: float = 0.0

    @property
    def ms(self) -> float:
        """Planning and running together."""
        return self.planning_ms + self.running_ms

    def __add__(self, other: "Paid") -> "Paid":
        return Paid(
            self.blocks + other.blocks,
            self.planning_ms + other.planning_ms,
            self.running_ms + other.running_ms,
            self.reads + other.reads,
            self.waiting_ms + other.waiting_ms,
            self.sent + other.sent,
        )

    def times(self, factor: float) -> "Paid":
        """The same, so many times."""
        return Paid(
            self.blocks * factor,
            self.planning_ms * factor,
            self.running_ms * factor,
            self.reads * factor,
            self.waiting_ms * factor,
            self.sent * factor,
        )


NOTHING_PAID = Paid(0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Access:
    """How one place of a query reads the table.

    shares    what its conditions leave
    ordered   the columns of its ORDER BY
    limit     rows that LIMIT asks for, None without
    wanted    the columns that are read, None for all
    is_counted  whether its rows are aggregated, so that few are handed on
    """

    shares: Shares
    ordered: tuple[str, ...] = ()
    limit: float | None = None
    wanted: frozenset[str] | None = None
    is_counted: bool = False
