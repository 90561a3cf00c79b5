"""Disadvantages of a layout: uniqueness, foreign keys, keys that are NULL or change, parts of very different size."""

from collections.abc import Iterator, Sequence

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import KeyChange, Shape
from slabrow.core.upkeep.breaks import Breaking
from slabrow.core.values.method import By
from slabrow.core.values.wording import share
from slabrow.core.weighing.workload_reading import TableWorkload


def _broken(facts: TableFacts, workload: TableWorkload, key: list[str]) -> Iterator[str]:
    """Statements that fail from then on, with how often they run."""
    changes = tuple(
        KeyChange(
            index.name,
            "primary key" if index.is_primary else "unique index",
            index.columns,
            (*index.columns, *(name for name in key if name not in index.columns)),
        )
        for index in facts.indexes
        if index.is_unique and not set(key) <= set(index.columns)
    )
    breaking = Breaking(Shape(facts.name, "", ()), tuple(key), changes)
    for read in workload.shapes:
        for found in breaking.of_statement(read.shape.name, read.shape.marked):
            if found.fails:
                yield f"{read.shape.name} fails, {read.shape.weight:,.0f} runs a day: {found.text}"


def obstacles(facts: TableFacts, workload: TableWorkload, layout: Layout, shares: Sequence[float]) -> Iterator[str]:
    """One sentence for each thing that a layout gives up or makes worse. shares: of the rows, by leaf."""
    key = list(dict.fromkeys((*layout.key, *(layout.within.key if layout.within else ()))))
    for index in facts.indexes:
        missing = [name for name in key if name not in index.columns]
        if index.is_unique and missing:
            what = "the primary key" if index.is_primary else f"the unique index {index.name}"
            old, new = ", ".join(index.columns), ", ".join((*index.columns, *missing))
            yield f"{what} ({old}) becomes ({new}): ({old}) alone is no longer kept unique"
    for other, columns in facts.referenced_by:
        if not set(key) <= set(columns):
            yield f"the foreign key of {other} refers to ({', '.join(columns)}), which cannot stay unique alone"
    yield from _broken(facts, workload, key)
    if layout.servers:
        yield (
            "with parts on other servers each part has keys and the table none; the table can have no foreign "
            "keys, ON CONFLICT with columns fails, and a transaction on two servers does not commit as one"
        )
    for name in key:
        seen = facts.statistics.get(name)
        if seen is not None and seen.null_share > 0:
            yield f"{share(seen.null_share)} of {name} is NULL, and lies in the catch-all"
    moved = sum(read.shape.weight for read in workload.shapes if read.changed & set(key))
    if moved:
        yield f"{moved:,.0f} updates a day set the key, and may move rows from partition to partition"
    mean = sum(shares) / len(shares) if shares else 0.0
    if layout.by is By.HASH and shares and max(shares) > 2 * mean:
        yield f"one part holds {share(max(shares))} of the rows: one key is that common"
