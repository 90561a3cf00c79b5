"""A statement as the planner sees it: every place at which it names a table, and the conditions that hold there.

Conditions reach a table from its own block, from the blocks around it (a sub-query or a CTE that is read once takes
the conditions on its output, where rows are not counted before: subquery_is_pushdown_safe, allpaths.c), and over equal
columns of a join (`a.k = b.j AND b.j = 5` gives a.k = 5: equivalence classes). What an outer join fills up with NULLs
keeps its conditions apart: those of ON hold for the rows that are read, those of WHERE only where NULL cannot pass.
"""

# How a statement is read. The planner does not prune statements, it prunes tables: it asks for every place in FROM at
# which a table stands, "which conditions hold for the rows read here?". This module and the three below it (blocks,
# from_clause, output_columns) walk through a statement and answer that for each place.
#
# The walk goes from the outermost query inwards, block by block. On its way it carries the conditions that come from
# outside, with columns named by the output column of the inner query. In each block it does what the planner does, in
# the planner's order:
# 1. Sub-queries that the planner dissolves are dissolved: EXISTS and IN become joins, simple queries in FROM become a
#    part of the block (prepjointree.c: pull_up_sublinks, pull_up_subqueries).
# 2. Outer joins whose added rows of NULLs cannot pass WHERE become inner joins (reduce_outer_joins).
# 3. Columns that a join makes equal share their constants (equivclass.c; equalities.py here).
# 4. Conditions on the output of a query that was not dissolved move into it, unless a LIMIT, a window or a grouping
#    forbids it (subquery_is_pushdown_safe, allpaths.c; pushdown.py here).
#
# The conditions below an outer join need care. A condition of ON holds for the rows that are read on the side that may
# be missing. A condition of WHERE holds there only if a row of NULLs cannot pass it.
#
# An example. `SELECT * FROM (SELECT k, count(*) AS n FROM t GROUP BY k) s WHERE k = 5 AND n > 2`: `k = 5` moves into
# the query, because `k` is a column of GROUP BY, and prunes t. `n > 2` is about an aggregate and stays outside.
#
# A part that the walk does not understand adds a place without conditions: every partition is kept there.

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, cast

from sqlglot import exp

from slabrow.core.pruning.agreement import Moments
from slabrow.core.pruning.blocks import Blocks
from slabrow.core.pruning.equalities import Equalities, equated
from slabrow.core.pruning.patterns import AllOf, Pattern
from slabrow.core.pruning.planned_statement import PlannedStatement, TableOccurrence
from slabrow.core.pruning.pushdown import moved_from_having, pushed_down, settled, without_columns
from slabrow.core.pruning.uncertain_constants import rivalry
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.clauses import (
    conjuncts,
    folded,
    simplified,
)
from slabrow.core.sql.constant_values import MARKED_NUMBER
from slabrow.core.sql.from_items import Cte, Ctes, FromItem
from slabrow.core.sql.parsed import parse, parse_anew
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.volatility import may_be_volatile
from slabrow.core.values.names import Name


def read_statement(
    sql: str, schema: Schema, literals: tuple[str, ...] = (), answers: Answers | None = None
) -> PlannedStatement | None:
    """The places of every known table in a statement; None when it is not understood.

    literals   of one run, where the statement is a marked shape: GROUP BY 1 means a column, and has to stay
    answers    what a server says of its constants
    A statement that is understood in part has its other places with a pattern that keeps everything.
    """
    parsed = parse_anew(sql) if literals else parse(sql)
    if parsed is None:
        return None
    try:
        may_be_unknown = any("unknown" in text.lower() for text in (sql, *schema.views.values()))
        return _statement(_with_places(parsed, literals), schema, may_be_unknown, Moments(literals, answers))
    except RecursionError:
        return None


def _with_places(parsed: exp.Expression, literals: tuple[str, ...]) -> exp.Expression:
    """With the numbers of GROUP BY 1 and ORDER BY 1 put back where they were marked."""
    for clause in parsed.find_all(exp.Group, exp.Order) if literals else ():
        for node in list(clause.find_all(exp.Literal)):
            number = int(node.this) - MARKED_NUMBER if str(node.this).isdecimal() and len(node.this) < 20 else -1
            if 0 <= number < len(literals):
                node.set("this", literals[number])
    return parsed


def _statement(parsed: exp.Expression, schema: Schema, may_be_unknown: bool, moments: Moments) -> PlannedStatement:
    if (arms := _arms_of(parsed)) is not None:
        # The arms of UNION are planned apart: the constants of one arm say nothing about the others.
        read = [_statement(arm, schema, may_be_unknown, moments) for arm in arms]
        places = tuple(place for each in read for place in each.places)
        return PlannedStatement("select", places, None, frozenset(), all(each.is_settled for each in read))
    rivals = rivalry((parsed, *_reached_views(parsed, schema)), schema.types_by_name, moments)
    walk = _Walk(
        schema, Equalities(schema, equated(parsed), moments, rivals.contested, rivals.doubtful), may_be_unknown
    )
    kind = type(parsed).__name__.lower()
    target = None
    match parsed:
        case exp.Insert():
            into = parsed.this.this if isinstance(parsed.this, exp.Schema) else parsed.this
            target = walk.table_name(into) if isinstance(into, exp.Table) else None
            source = parsed.args.get("expression")
            scope = walk.with_ctes(parsed, {})
            if isinstance(source, exp.Expression):
                walk.query(source, (), scope, ())
        case exp.Update() | exp.Delete():
            walk.change(parsed)
        case exp.Merge():
            walk.merge(parsed)
        case _:
            kind = "select"
            walk.query(parsed, (), {}, ())
    seen = {id(node) for node in walk.seen}
    # A table that was not reached above keeps all its partitions: no table is forgotten.
    left = [
        node
        for node in parsed.find_all(exp.Table)
        if id(node) not in seen and isinstance(node.this, exp.Identifier) and not _is_target(node, parsed)
    ]
    given = {cte.alias for cte in parsed.find_all(exp.CTE)}
    for node in left:
        name = walk.table_name(node)
        if name is not None and (node.args.get("db") or node.name not in given):
            walk.places.append(TableOccurrence(name, node.alias_or_name, AllOf(())))
    sets = parsed.expressions if isinstance(parsed, exp.Update) else ()
    changed = frozenset(folded(each.left.this) for each in sets if isinstance(each.left, exp.Column))
    return PlannedStatement(kind, tuple(walk.places), target, changed, rivals.is_settled)


def _arms_of(parsed: exp.Expression) -> list[exp.Expression] | None:
    """The queries of a set operation; None for another statement, or where they share queries of WITH."""
    if not isinstance(parsed, exp.SetOperation):
        return None
    found: list[exp.Expression] = []
    waiting: list[Any] = [parsed]
    while waiting:
        each = waiting.pop()
        if each.args.get("with_") or each.args.get("with"):
            return None
        if isinstance(each, exp.SetOperation):
            waiting += [each.right, each.left]
        else:
            found.append(each)
    return found


def _reached_views(parsed: exp.Expression, schema: Schema) -> list[exp.Expression]:
    """The queries of the views that a statement names, and of those that they name."""
    found: dict[Name, exp.Expression] = {}
    waiting = [parsed] if schema.views else []
    while waiting:
        for table in waiting.pop().find_all(exp.Table):
            if not isinstance(table.this, exp.Identifier):
                continue
            db = table.args.get("db")
            name = schema.find(Name(folded(db) if db else None, folded(table.this)))
            if (
                name is not None
                and name in schema.views
                and name not in found
                and (view := parse(schema.views[name])) is not None
            ):
                found[name] = view
                waiting.append(view)
    return list(found.values())


def _is_target(node: exp.Table, parsed: exp.Expression) -> bool:
    if not isinstance(parsed, exp.Insert):
        return False
    return node is parsed.this or (isinstance(parsed.this, exp.Schema) and node is parsed.this.this)


def _names_cte(table: exp.Table, name: str) -> bool:
    return isinstance(table.this, exp.Identifier) and folded(table.this) == name and not table.args.get("db")


@dataclass(slots=True)
class _Walk(Blocks):
    """Through one statement, from the outermost query to the innermost."""

    def with_ctes(self, node: exp.Expression, scope: Ctes) -> Ctes:
        """The CTEs that a statement sees: those of the blocks around it and its own."""
        with_ = node.args.get("with_") or node.args.get("with")
        if with_ is None:
            return scope
        inner = dict(scope)
        for cte in with_.expressions:
            name = folded(cte.args["alias"].this)
            # Within its own query, unless it is recursive, and in those before it the name means something else.
            uses = sum(_names_cte(table, name) for table in node.find_all(exp.Table))
            uses -= sum(
                _names_cte(table, name)
                for earlier in with_.expressions[: with_.expressions.index(cte) + 1]
                for table in earlier.find_all(exp.Table)
            )
            is_volatile = may_be_volatile(cte.this, self.schema.volatile)
            inner[name] = Cte(cte, dict(inner), 99 if with_.args.get("recursive") else uses, is_volatile=is_volatile)
        for name, cte in inner.items():
            if name not in scope or scope[name] is not cte:
                changes = not isinstance(cte.node.this, exp.Query)
                if not changes and cte.uses == 0:
                    self.seen += cte.node.find_all(exp.Table)  # the server drops a WITH query that is never read
                elif changes or not cte.may_be_inlined or not self._is_plain(cte.node.this):
                    cte.uses = max(cte.uses, 2)
                    cte.is_taken = True
                    self._body(cte)
        return inner

    @staticmethod
    def _is_plain(query: exp.Expression) -> bool:
        return not query.args.get("locks")

    def _body(self, cte: Cte) -> None:
        body = cte.node.this
        if isinstance(body, exp.Update | exp.Delete):
            self.change(body, cte.scope)
        elif isinstance(body, exp.Query):
            self.query(cast(exp.Expression, body), (), cte.scope, ())

    def query(self, node: exp.Expression, names: Sequence[str], scope: Ctes, outer: Sequence[exp.Expression]) -> None:
        """A SELECT, a set operation or a query in parentheses.

        names   the names of its output columns where an alias gives them
        outer   conditions on the output, with columns named by output column and no table
        """
        scope = self.with_ctes(node, scope)
        match node:
            case exp.Subquery() | exp.Paren():
                inner_limit = node.args.get("limit") or node.args.get("offset")
                self.query(node.this, names, scope, without_columns(outer) if inner_limit else outer)
            case exp.SetOperation():
                blocked = isinstance(node, exp.Except) or node.args.get("limit") or node.args.get("offset")
                names = names or self._output_names(node, scope) or ()
                for side in (node.left, node.right):
                    passed = without_columns(outer) if blocked or not names else settled(outer)
                    self.query(cast(exp.Expression, side), names, scope, passed)
            case exp.Select():
                self.select(node, names, scope, outer)
            case exp.Table():
                self.select(exp.select("*").from_(node, copy=False), names, scope, outer)
            case _:
                self._sub_queries(node, scope)

    def select(self, node: exp.Select, names: Sequence[str], scope: Ctes, outer: Sequence[exp.Expression]) -> None:
        items, above = self._items(node, scope)
        where = node.args.get("where")
        having = node.args.get("having")
        stated = conjuncts(where.this) if where is not None else []
        grouped = conjuncts(having.this) if having is not None else []
        moved = moved_from_having(node)
        if stated and grouped:
            # WHERE and HAVING are worked out separately: up to PostgreSQL 17, a condition that is false as a whole does
            # not reach the queries below when the other one stands beside it. Which conditions reach a query below,
            # which may be grouped itself, is then not known.
            is_deep = any(item.table is None or item.query is not None for item in items)
            moved = [] if is_deep or any(map(_is_constant, grouped)) else moved
            stated = [] if is_deep or any(map(_is_constant, stated)) else stated
        above += [*stated, *moved]
        above += pushed_down(node, names, outer, [(item.alias, item.columns) for item in items])
        above = self._pulled_up(items, above, scope)
        first = len(self.places)
        self._block(items, above, scope, node)
        holders = self._holders(first, items)
        for part in ("expressions", "having", "qualify", "order", "limit", "group"):
            self._sub_queries_of(node.args.get(part), scope)
        self._sub_queries_of_where(where, scope, holders)
        for item in items:
            for condition in item.own:
                self._sub_queries(condition, scope)
        for join in node.args.get("joins") or ():
            if join.args.get("on") is not None:
                self._sub_queries(join.args["on"], scope)

    def _holders(self, first: int, items: Sequence[FromItem]) -> tuple[tuple[Name, Pattern], ...]:
        """The tables of a block, with what holds there, that no outer join fills up. first: the block's first place."""
        nullable = {item.alias for item in items if item.nullable}
        found = [(each.table, each.pattern) for each in self.places[first:] if each.alias not in nullable]
        return tuple(found) if len(found) <= len(items) else ()

    def _sub_queries_of_where(self, where: Any, scope: Ctes, holders: tuple[tuple[Name, Pattern], ...]) -> None:
        """Those of NOT IN and the like are plans below their block: without a row there, they are not read."""
        if where is None:
            return
        below = [
            cast(exp.Expression, query)
            for each in where.find_all(exp.In, exp.Any, exp.All)
            for query in [cast(exp.Expression, each.args.get("query") or each.this)]
            if isinstance(query, exp.Query)
        ]
        for query in below:
            first = len(self.places)
            self._sub_queries(query, scope)
            for place in range(first, len(self.places)):
                self.places[place] = replace(self.places[place], partners=(*self.places[place].partners, *holders))
        self._sub_queries(where, scope)

    def change(self, node: exp.Expression, scope: Ctes | None = None) -> None:
        """UPDATE … FROM and DELETE … USING: the target is read too."""
        scope = self.with_ctes(node, scope or {})
        items: list[FromItem] = []
        above: list[exp.Expression] = []
        if isinstance(node.this, exp.Table):
            items.append(self._item(node.this, scope))
        from_ = node.args.get("from_") or node.args.get("from")
        others = [from_.this] if from_ is not None else list(node.args.get("using") or ())
        for other in others:
            items.append(self._item(other, scope))
            self._joined(other.args.get("joins") or (), items, above, scope)
        where = node.args.get("where")
        above += conjuncts(where.this) if where is not None else []
        above = self._pulled_up(items, above, scope)
        self._block(items, above, scope, node)
        for part in ("expressions", "where"):
            self._sub_queries_of(node.args.get(part), scope)

    def merge(self, node: exp.Merge) -> None:
        scope = self.with_ctes(node, {})
        target = self._item(node.this, scope)
        source = self._item(node.args["using"], scope)
        whens = node.args.get("whens")
        by_source = any(when.args.get("source") for when in (whens.expressions if whens is not None else ()))
        if not by_source:
            target.own = conjuncts(node.args["on"])
        target.nullable = True
        source.nullable = True
        self._block([target, source], [], scope, node)

    def _sub_queries_of(self, part: Any, scope: Ctes) -> None:
        for node in part if isinstance(part, list) else [part]:
            if isinstance(node, exp.Expression):
                self._sub_queries(node, scope)

    def _sub_queries(self, node: exp.Expression, scope: Ctes, skip_self: bool = False) -> None:
        """Queries within expressions, each read on its own: what comes from outside is known only while it runs."""
        waiting: list[Any] = [node] if not skip_self else list(node.iter_expressions())
        while waiting:
            each = waiting.pop()
            if isinstance(each, exp.Select | exp.SetOperation):
                if not any(each is done for done in self.seen):
                    self.seen.append(each)
                    self.query(each, (), scope, ())
            else:
                waiting += list(each.iter_expressions())


def _is_constant(node: exp.Expression) -> bool:
    """Whether a condition has the same truth for every row."""
    return isinstance(simplified(node), exp.Boolean) or node.find(exp.Column, exp.Query) is None
