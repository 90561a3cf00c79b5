"""The tree that a layout would make, as if it were on the server."""

from collections.abc import Sequence

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Division, KeyColumn, Partition, Tree
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.names import Name


def tree_of(facts: TableFacts, layout: Layout, planned: Sequence[Planned]) -> Tree:
    """The tree that a layout would make, as if it were on the server."""
    columns = tuple(facts.columns[name] for name in layout.key)
    inner = layout.within
    inner_columns: tuple[KeyColumn, ...] = tuple(facts.columns[name] for name in inner.key) if inner else ()
    partitions: list[Partition] = []
    for each in planned:
        name = Name(facts.name.schema, each.name)
        division = Division(inner.by, inner_columns) if inner is not None and each.inner else None
        partitions.append(Partition(name, each.name, facts.spelling, each.bounds, division is None, division=division))
        partitions += [
            Partition(Name(facts.name.schema, leaf.name), leaf.name, each.name, leaf.bounds) for leaf in each.inner
        ]
    return Tree(facts.name, facts.spelling, layout.by, columns, tuple(partitions))
