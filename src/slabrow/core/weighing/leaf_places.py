"""What the place of a leaf costs: a slow tablespace for each block that is read, another server for each row sent."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.placing import place_of
from slabrow.core.values.key_values import Value
from slabrow.core.weighing.cache import Floats
from slabrow.core.weighing.costs import NOTHING_PAID, Costs, Leaves, Paid
from slabrow.core.weighing.workload_reading import AskedConditions


def slow_leaves(tree: Tree, costs: Costs) -> Floats | None:
    """For each leaf of a table as it is, how many times as long a block takes there. None where no place is slower."""
    return np.array([costs.slowness(leaf.server or leaf.place) for leaf in tree.leaves]) if costs.places else None


def slow_by_age(tree: Tree, rules: Layout, now: Value, costs: Costs) -> Floats | None:
    """As `slow_leaves` for a tree whose leaves lie where `place` of a layout puts rows of their age. now: as a key."""
    if not costs.places or not rules.place:
        return None
    tops = {child.spelling: place_of(rules, child.bounds, now) for child in tree.children}
    found = [tops.get(leaf.spelling) or tops.get(leaf.parent) for leaf in tree.leaves]
    return np.array([costs.slowness(None if rule is None else rule.target) for rule in found])


@dataclass(frozen=True, slots=True)
class FarLeaves:
    """The leaves whose rows lie on other servers. there: a flag for each leaf; shares: of all rows, by leaf."""

    there: NDArray[np.bool_]
    shares: Floats

    @classmethod
    def of(cls, tree: Tree, shares: Floats) -> "FarLeaves | None":
        """None where all rows lie here."""
        there = np.array([leaf.server is not None for leaf in tree.leaves])
        return cls(there, shares) if there.any() else None

    def paid(self, leaves: Leaves, asked: AskedConditions, rows: int, costs: Costs) -> Paid:
        """One message for each of these leaves that is met, and the rows that the conditions leave.

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
