"""Reads EXPLAIN FORMAT=JSON and ANALYZE FORMAT=JSON: which leaves a plan touches, and what it cost. Pure.

A plan names each table by its alias. What the alias stands for is read from the statement as the server has rewritten
it (the note of EXPLAIN EXTENDED), where every table stands with its database; see `tables_of`.
"""

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from slabrow.core.pruning.plan_reading import PlanReading, Scan
from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.pieces import Lexeme, Piece
from slabrow.core.values.names import Name

Node = Mapping[str, Any]
Tables = dict[str, list[Name]]  # by alias


def tables_of(rewritten: str) -> Tables:
    """The tables that a rewritten statement reads, by alias: `` `t`.`reading` `x` ``."""
    found: Tables = {}
    pieces = [each for each in lexemes(rewritten) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
    for place in range(len(pieces) - 2):
        if not _is_table(pieces, place):
            continue
        name = Name(pieces[place].value, pieces[place + 2].value)
        after = pieces[place + 3] if place + 3 < len(pieces) else None
        if after is not None and after.value == "partition" and after.piece is Piece.WORD:
            depth, at = 0, place + 4
            while at < len(pieces):
                depth += (pieces[at].text == "(") - (pieces[at].text == ")")
                at += 1
                if depth == 0:
                    break
            after = pieces[at] if at < len(pieces) else None
        alias = after.value if after is not None and after.piece is Piece.NAME else name.table
        if name not in found.setdefault(alias, []):
            found[alias].append(name)
    return found


def _is_table(pieces: Sequence[Lexeme], place: int) -> bool:
    """Whether `a`.`b` stands here where FROM has its items: not a column, which has three parts or another place."""
    one, dot, other = pieces[place : place + 3]
    if one.piece is not Piece.NAME or dot.text != "." or other.piece is not Piece.NAME:
        return False
    before = pieces[place - 1] if place else None
    after = pieces[place + 3] if place + 3 < len(pieces) else None
    if (after is not None and after.text == ".") or (before is not None and before.text == "."):
        return False
    return before is not None and (
        before.value in ("from", "join", "update", "into", "using", "straight_join") or before.text in ("(", ",")
    )


def read_plan(text: str) -> PlanReading:
    """text: as `queries.explain` gives it, with the leaves of each partitioned table, as plans spell them."""
    known = json.loads(text)
    leaves = {Name(schema, table): frozenset(held) for schema, table, held in known["leaves"]}
    tables = {alias: [Name(*each) for each in names] for alias, names in known["tables"].items()}
    plan = known["plan"]
    nodes = list(_tables(plan))
    ran = any("r_loops" in each or "r_total_time_ms" in each for each in _blocks(plan)) or "query_optimization" in plan
    scans = [scan for node in nodes for scan in _scans(node, tables, leaves, ran=ran)]
    planning = plan.get("query_optimization", {}).get("r_total_time_ms", known.get("planning_ms"))
    accessed = sum(_engine(node, "pages_accessed") for node in nodes)
    read = sum(_engine(node, "pages_read_count") for node in nodes)
    changes = next((int(node.get("rows", 0)) for node in nodes if node.get("update") or node.get("delete")), None)
    return PlanReading(
        scans=tuple(scans),
        removed={},
        removed_unnamed=0,
        planning_ms=planning,
        execution_ms=_execution_ms(plan) if ran else None,
        hit=max(0, accessed - read) if ran else None,
        read=read if ran else None,
        rows=known.get("rows") if ran else None,
        changes=changes,
    )


def _engine(node: Node, name: str) -> int:
    return int(node.get("r_engine_stats", {}).get(name, 0))


def _execution_ms(plan: Node) -> float:
    return sum(float(each.get("r_total_time_ms", 0.0)) for each in [plan.get("query_block", {})]) or sum(
        float(node.get("r_table_time_ms", 0.0)) + float(node.get("r_other_time_ms", 0.0)) for node in _tables(plan)
    )


def _blocks(node: Any) -> Iterator[Node]:
    if isinstance(node, dict):
        yield node
        for each in node.values():
            yield from _blocks(each)
    elif isinstance(node, list):
        for each in node:
            yield from _blocks(each)


def _tables(plan: Any) -> Iterator[Node]:
    """Every table of a plan, wherever it stands."""
    for block in _blocks(plan):
        table = block.get("table")
        if isinstance(table, dict) and "table_name" in table:
            yield table


def _scans(node: Node, tables: Tables, leaves: Mapping[Name, frozenset[str]], *, ran: bool) -> Iterator[Scan]:
    listed = node.get("partitions")
    if listed is None:
        return
    alias = str(node["table_name"])
    name = _meant(alias, frozenset(listed), tables, leaves)
    if name is None:
        return
    loops = node.get("r_loops", 1 if "r_rows" in node else 0) if ran else None
    rows = round(float(node.get("r_rows") or 0.0) * int(loops or 0)) if ran else None
    for place, leaf in enumerate(listed):
        # The server counts the rows of all leaves together.
        yield Scan(f"{name.schema}.{name.table}.{leaf}", loops, False, rows if place == 0 else (0 if ran else None))


def _meant(alias: str, listed: frozenset[str], tables: Tables, leaves: Mapping[Name, frozenset[str]]) -> Name | None:
    candidates = [name for name in tables.get(alias, []) if listed <= leaves.get(name, frozenset())]
    if candidates:
        return candidates[0]
    others = [name for name, known in leaves.items() if name.table == alias and listed <= known]
    return others[0] if len(others) == 1 else None
