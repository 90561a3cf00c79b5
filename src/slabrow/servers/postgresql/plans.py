"""Reads EXPLAIN (FORMAT JSON): which leaves a plan touches, what was left out when, and what it cost. Pure."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

Node = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Scan:
    """A node that reads a relation. loops is how often it ran, None when the query was not executed.

    may_run_time_prune   it lies under an Append that did run while this node never did
    """

    relation: str  # schema.table as the catalogue holds them
    loops: int | None
    was_pruned_running: bool


@dataclass(frozen=True, slots=True)
class PlanReading:
    """What one plan says. Milliseconds; blocks are the shared ones, found in memory or read.

    removed    for each relation shown under an Append, how many of its siblings were left out as execution started
    """

    scans: tuple[Scan, ...]
    removed: Mapping[str, int]
    removed_unnamed: int
    planning_ms: float | None
    execution_ms: float | None
    blocks: int | None
    rows: int | None


def read_plan(explained: Mapping[str, Any]) -> PlanReading:
    """explained: the single element of the array that EXPLAIN (FORMAT JSON) returns."""
    root = explained["Plan"]
    removed: dict[str, int] = {}
    unnamed = 0
    for node in _walk(root):
        if count := node.get("Subplans Removed", 0):
            below = [_relation(each) for each in _walk(node) if _reads(each)]
            if below:
                removed[below[0]] = removed.get(below[0], 0) + count
            else:
                unnamed += count
    hit, read = root.get("Shared Hit Blocks"), root.get("Shared Read Blocks")
    loops = root.get("Actual Loops")
    return PlanReading(
        tuple(_scans(root, None)),
        removed,
        unnamed,
        explained.get("Planning Time"),
        explained.get("Execution Time"),
        None if hit is None or read is None or loops is None else hit + read,
        None if loops is None else round(root.get("Actual Rows", 0) * max(1, loops)),
    )


def _walk(node: Node) -> Iterator[Node]:
    yield node
    for child in node.get("Plans", ()):
        yield from _walk(child)


def _reads(node: Node) -> bool:
    """A ModifyTable names its target too; what it reads of that stands in its children."""
    return "Relation Name" in node and node["Node Type"] != "ModifyTable"


def _relation(node: Node) -> str:
    return f"{node['Schema']}.{node['Relation Name']}"


def _scans(node: Node, append: Node | None) -> Iterator[Scan]:
    if _reads(node):
        loops = node.get("Actual Loops")
        ran = append is not None and (append.get("Actual Loops") or 0) > 0
        yield Scan(_relation(node), loops, loops == 0 and ran)
    inner = node if node["Node Type"] in ("Append", "Merge Append") else append
    # A LIMIT that is satisfied early also leaves later children unread; that is no pruning.
    if node["Node Type"] == "Limit":
        inner = None
    for child in node.get("Plans", ()):
        yield from _scans(child, inner)
