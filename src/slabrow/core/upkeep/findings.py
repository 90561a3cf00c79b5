"""Faults of a tree, and differences between a layout and a tree, that a person should know."""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from slabrow.core.table.bounds import CatchAll, Hashed, Range, overlap, range_order, spell_key
from slabrow.core.table.tree import Partition, Tree


@dataclass(frozen=True, slots=True)
class Finding:
    """code   stable, for scripts: `gap`, `overlap`, `catch_all_rows`, `missing_remainder`, `no_statistics`,
              `detach_unfinished`, `unknown_bound`, `counts_differ`, `drift`, `undeclared_partition`, `hold`,
              `growth`, `publication`, `policy`, `conversion_under_way`, `old_table_kept`, `old_table_behind`,
              `index_missing`, `parent_statistics`, `too_large`, `too_large_soon`, `too_many`, `too_many_soon`,
              `not_pruning`, `pruning_unknown`, `misplaced`, `place_waits`, `far_down`, `far_drift`,
              `far_uncounted`
    text      one sentence
    partition the partition it is about, as the server spells it, or None
    """

    code: str
    text: str
    partition: str | None = None


def findings(tree: Tree, *, is_counted: bool = False) -> tuple[Finding, ...]:
    """All findings from the catalogue and its statistics, or from rows that were counted."""
    families: dict[str, list[Partition]] = {}
    for partition in tree.partitions:
        families.setdefault(partition.parent, []).append(partition)
    between = [
        each for family in families.values() for each in (*_range_findings(family), *_missing_remainders(family))
    ]
    return (*between, *_partition_findings(tree, is_counted))


def _range_findings(siblings: list[Partition]) -> Iterator[Finding]:
    has_catch_all = any(isinstance(sibling.bounds, CatchAll) for sibling in siblings)
    ranges = [(sibling, sibling.bounds) for sibling in siblings if isinstance(sibling.bounds, Range)]
    ordered = sorted((pair for pair in ranges if not pair[1].is_opaque), key=lambda pair: range_order(pair[1]))
    for (one, lower), (other, upper) in pairwise(ordered):
        if overlap(lower, upper):
            yield Finding("overlap", f"{one.spelling} and {other.spelling} can hold the same keys", other.spelling)
        elif lower.to != upper.from_:
            where = f"from {spell_key(lower.to)} (in) to {spell_key(upper.from_)} (out)"
            fate = "such rows fall into the catch-all" if has_catch_all else "such rows are refused"
            yield Finding("gap", f"no partition holds keys {where}: {fate}", other.spelling)


def _missing_remainders(siblings: list[Partition]) -> Iterator[Finding]:
    hashed = [sibling.bounds for sibling in siblings if isinstance(sibling.bounds, Hashed)]
    if not hashed:
        return
    # Moduli may differ, and each divides the next larger one (CREATE TABLE, PARTITION BY HASH).
    largest = max(bounds.modulus for bounds in hashed)
    held = {slot for bounds in hashed for slot in range(bounds.remainder, largest, bounds.modulus)}
    missing = [str(slot) for slot in range(largest) if slot not in held]
    if missing:
        shown = ", ".join(missing[:8]) + (" …" if len(missing) > 8 else "")
        yield Finding(
            "missing_remainder",
            f"{len(missing)} of {largest} remainders have no partition ({shown}): rows there are refused",
        )


def _partition_findings(tree: Tree, is_counted: bool) -> Iterator[Finding]:
    for partition in tree.partitions:
        if partition.is_detaching:
            yield Finding(
                "detach_unfinished",
                f"{partition.spelling} was not detached completely, because the work was interrupted: "
                "finish it with ALTER TABLE … DETACH PARTITION … FINALIZE",
                partition.spelling,
            )
        if isinstance(partition.bounds, Range) and partition.bounds.is_opaque:
            yield Finding(
                "unknown_bound",
                f"{partition.spelling} has a bound whose order Slabrow does not know",
                partition.spelling,
            )
        if not partition.is_leaf:
            continue
        if isinstance(partition.bounds, CatchAll) and (partition.rows if is_counted else holds_rows(partition)):
            about = "" if is_counted else "about "
            count = (
                f"{about}{partition.rows:,} {'row' if partition.rows == 1 else 'rows'}" if partition.rows else "rows"
            )
            yield Finding(
                "catch_all_rows",
                f"{partition.spelling} is the catch-all and holds {count} that no other partition takes",
                partition.spelling,
            )
        if partition.rows is None and not partition.is_empty:
            yield Finding(
                "no_statistics",
                f"{partition.spelling} has never been analysed: the planner guesses its size",
                partition.spelling,
            )


def holds_rows(partition: Partition) -> bool:
    """Whether a leaf is known to hold rows, by count or by estimate."""
    return bool(partition.rows)
