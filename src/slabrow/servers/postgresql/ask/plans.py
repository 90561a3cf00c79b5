"""Reads EXPLAIN (FORMAT JSON): which leaves a plan touches, what was left out when, and what it cost. Pure.

The nodes and their fields are those of PostgreSQL's explain.c. What they say of pruning: `Subplans Removed` counts what
an Append left out as execution started, and a member of an Append that never ran was left out while running, unless
something above stopped asking before its turn came.
"""

import re
from collections.abc import Mapping
from typing import Any

from slabrow.core.pruning.plan_reading import PlanReading, Scan

Node = Mapping[str, Any]


def read_plan(explained: Mapping[str, Any]) -> PlanReading:
    """explained: the single element of the array that EXPLAIN (FORMAT JSON) returns."""
    root = explained["Plan"]
    removed: dict[str, int] = {}
    unnamed = 0
    nodes = _walk(root)
    for node in nodes:
        if count := node.get("Subplans Removed", 0):
            # A member may be a join of the parts of several tables: each of them lost as many.
            named = {relation for each in _members(node)[:1] for below in _walk(each) for relation in _relations(below)}
            for relation in named:
                removed[relation] = removed.get(relation, 0) + count
            unnamed += 0 if named else count
    ran = root.get("Actual Loops") is not None
    scans: list[Scan] = []
    if ran:
        _gather_scans(root, False, False, scans)
    else:  # a node that was not executed tells its relations and no more
        scans += [Scan(relation, None, False, None, *_sent(node)) for node in nodes for relation in _relations(node)]
    changes = None
    if root["Node Type"] == "ModifyTable":
        changes = sum(each.get("Plan Rows", 0) for each in root.get("Plans", ()) if _is_fed_by(each))
    return PlanReading(
        scans=tuple(scans),
        removed=removed,
        removed_unnamed=unnamed,
        planning_ms=explained.get("Planning Time"),
        execution_ms=explained.get("Execution Time"),
        hit=root.get("Shared Hit Blocks") if ran else None,
        read=root.get("Shared Read Blocks") if ran else None,
        rows=_rows_out(root),
        changes=changes,
        # The field has two names: PostgreSQL 17 gave local blocks times of their own.
        waiting_ms=root.get("Shared I/O Read Time", root.get("I/O Read Time")) if ran else None,
    )


def _walk(node: Node) -> list[Node]:
    """A node and all below it, in any order."""
    found = [node]
    for each in found:
        found += each.get("Plans", ())
    return found


_NAME = r'(?:"(?:[^"]|"")+"|[^\W\d][\w$]*)'
_QUALIFIED = re.compile(rf"({_NAME})\.({_NAME})(?!\s*\()")  # no call of a function


def _relations(node: Node) -> list[str]:
    """The relations that a node itself reads. A ModifyTable names its target too; the rows of that target are read by
    its children.
    """
    if node["Node Type"] == "ModifyTable":
        return []
    if "Relation Name" in node:
        return [f"{node['Schema']}.{node['Relation Name']}"]
    # A foreign server that joins or aggregates by itself: `(public.a r) INNER JOIN (public.b s)`.
    pushed = node.get("Relations") if node["Node Type"] == "Foreign Scan" else None
    return [".".join(map(_unquoted, found)) for found in _QUALIFIED.findall(pushed or "")]


def _sent(node: Node) -> tuple[bool, str]:
    """Whether another server sends the rows, and the condition that is not sent there."""
    if node["Node Type"] != "Foreign Scan":
        return False, ""
    return True, node.get("Filter", "")


def _unquoted(name: str) -> str:
    return name[1:-1].replace('""', '"') if name.startswith('"') else name


def _loops(node: Node) -> int:
    return int(node.get("Actual Loops") or 0)


def _total(node: Node, *fields: str) -> int:
    """Of all loops: the server gives the mean of one."""
    mean: float = sum(node.get(each, 0) for each in fields)
    return round(mean * _loops(node))


def _rows_out(root: Node) -> int | None:
    if root.get("Actual Loops") is None:
        return None
    if root["Node Type"] == "ModifyTable" and root.get("Plans"):
        returned = _total(root, "Actual Rows")
        return returned or sum(_total(each, "Actual Rows") for each in root["Plans"] if _is_fed_by(each))
    return _total(root, "Actual Rows")


def _is_fed_by(child: Node) -> bool:
    return child.get("Parent Relationship") not in ("InitPlan", "SubPlan")


def _gather_scans(node: Node, may_stop: bool, is_pruned: bool, found: list[Scan]) -> None:
    """may_stop: something above may ask for fewer rows than there are; is_pruned: this was left out while running."""
    loops = _loops(node)
    read = _total(node, "Actual Rows", "Rows Removed by Filter", "Rows Removed by Index Recheck")
    found += [Scan(relation, loops, is_pruned, read, *_sent(node)) for relation in _relations(node)]
    children = node.get("Plans")
    if not children:
        return
    members = _members(node)
    last_run = max((place for place, each in enumerate(members) if _loops(each)), default=-1)
    place = -1
    for child in children:
        is_member = bool(members) and _is_fed_by(child)
        place += is_member
        pruned = is_pruned or (is_member and _was_left_out(node, child, place < last_run, may_stop))
        _gather_scans(child, _may_stop(node, child, may_stop), pruned, found)


def _members(node: Node) -> list[Node]:
    if node["Node Type"] not in ("Append", "Merge Append"):
        return []
    return [child for child in node.get("Plans", ()) if _is_fed_by(child)]


def _was_left_out(append: Node, member: Node, later_ran: bool, may_stop: bool) -> bool:
    """Whether a member that never ran was pruned, and not only out of reach. later_ran: one after it did run.

    A Merge Append begins with a row of every member, an Append takes them in their order: only those after the last
    one that ran may have been out of reach, and of these a value that is known only while running tells.
    """
    if _loops(member) or not _loops(append):
        return False
    if append["Node Type"] == "Merge Append" or not may_stop:
        return True
    if later_ran and not append.get("Parallel Aware"):
        return True
    return any(_waits_for_value(each) for each in _walk(member))


_BLOCKING = ("Sort", "Hash")
_STOPS_INSIDE = ("Semi", "Anti")


def _may_stop(node: Node, child: Node, may_stop: bool) -> bool:
    """Whether a child may be asked for fewer rows than it has."""
    kind = node["Node Type"]
    if not _is_fed_by(child) or kind in ("Limit", "Merge Join"):
        return True  # EXISTS stops at the first row, and a CTE gives as many as its readers take
    if kind in _BLOCKING or (kind == "Aggregate" and node.get("Strategy") in ("Plain", "Hashed")):
        return False
    is_inner = child.get("Parent Relationship") == "Inner"
    if kind == "Nested Loop" and is_inner:
        return may_stop or bool(node.get("Inner Unique")) or node.get("Join Type") in _STOPS_INSIDE
    if kind == "Hash Join" and not is_inner:
        return may_stop or any(
            _loops(each) and not each.get("Actual Rows")
            for each in node["Plans"]
            if each.get("Parent Relationship") == "Inner"
        )
    return may_stop


_CONDITIONS = ("Index Cond", "Recheck Cond", "Filter", "TID Cond")
_PARAMETER = re.compile(r"\$\d+|\((?:InitPlan|SubPlan) \d+\)")


def _waits_for_value(node: Node) -> bool:
    """Whether a condition of a scan compares with what a sub-query or another table supplies."""
    own = node.get("Alias")
    for text in (node[each] for each in _CONDITIONS if each in node):
        bare = re.sub(r"'(?:[^']|'')*'", "''", text)
        if _PARAMETER.search(bare):
            return True
        if own is not None and any(_unquoted(table) != own for table, _ in _QUALIFIED.findall(bare)):
            return True
    return False
