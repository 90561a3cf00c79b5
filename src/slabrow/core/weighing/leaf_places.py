"""What the place of a leaf costs: a slow tablespace for each block that is read, another server for each row sent."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from slabrow.core.table.bounds import Hashed
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.placing import place_of
from slabrow.core.values.key_values import Value
from slabrow.core.weighing.cache import Floats
from slabrow.core.weighing.costs import NOTHING_PAID, Costs, Leaves, Paid
from slabrow.core.weighing.leaf_groups import Places
from slabrow.core.weighing.workload_reading import AskedConditions


@dataclass(frozen=True, slots=True)
class LeafPlaces:
    """Where each leaf lies, in the order of the tree.

    names    of a tablespace or another server; None for the usual place
    there    a flag for each leaf: whether it lies on another server
    shares   of all rows, by leaf
    """

    names: tuple[str | None, ...]
    there: NDArray[np.bool_]
    shares: Floats

    @classmethod
    def as_it_is(cls, tree: Tree, shares: Floats) -> "LeafPlaces":
        """Of a table that is partitioned already."""
        names = tuple(leaf.server or leaf.place for leaf in tree.leaves)
        return cls(names, np.array([leaf.server is not None for leaf in tree.leaves]), shares)

    @classmethod
    def on_servers(cls, tree: Tree, shares: Floats, layout: Layout) -> "LeafPlaces":
        """Of a hash layout that spreads its parts over servers."""
        names = tuple(layout.server_of(leaf.bounds.remainder) if isinstance(leaf.bounds, Hashed) else None
                      for leaf in tree.leaves)  # fmt: skip
        return cls(names, np.array([name is not None for name in names]), shares)

    @classmethod
    def by_age(cls, tree: Tree, shares: Floats, rules: Layout, now: Value) -> "LeafPlaces":
        """Where `place` of a layout puts rows of their age. now: as a key."""
        tops = {child.spelling: place_of(rules, child.bounds, now) for child in tree.children}
        found = [tops.get(leaf.spelling) or tops.get(leaf.parent) for leaf in tree.leaves]
        names = tuple(None if rule is None else rule.target for rule in found)
        return cls(names, np.array([rule is not None and bool(rule.elsewhere) for rule in found]), shares)

    def slowness(self, costs: Costs) -> Floats | None:
        """For each leaf, how many times as long a block takes there. None where no place is slower."""
        return np.array([costs.slowness(name) for name in self.names]) if costs.places else None

    def sending(self, leaves: Leaves, asked: AskedConditions, rows: int, costs: Costs) -> Paid:
        """One message for each leaf on another server that is met, and the rows that the conditions leave.

        Aggregates and LIMIT mostly run here, on rows that were sent over (PostgreSQL manual, F.36, "Remote Query
        Optimization").
        """
        met = self.there if leaves.places is None else self.there[leaves.places]
        shares = self.shares if leaves.places is None else self.shares[leaves.places]
        messages = float(met.sum())
        if not leaves.touched or not messages:
            return NOTHING_PAID
        sent = rows * asked.access.shares.total * float(shares[met].sum()) / (float(shares.sum()) or 1.0)
        return Paid(0.0, 0.0, messages * costs.message + sent * costs.send, sent=sent)

    def insert_ms(self, newest: Places, costs: Costs) -> float:
        """What a new row pays on its way to another server. newest: the leaves that take new rows."""
        shares, there = self.shares[newest], self.there[newest]
        if not there.any():
            return 0.0
        total = float(shares.sum())
        return costs.message * (float(shares[there].sum()) / total if total else float(there.mean()))
