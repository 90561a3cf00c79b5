"""One block (a SELECT with its FROM and WHERE): which conditions reach which of its tables.

The third part of the walk through a statement (queries.py)."""

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlglot import exp

from slabrow.core.pruning.agreement import Agree, since
from slabrow.core.pruning.conditions import Reading
from slabrow.core.pruning.from_clause import FromClause
from slabrow.core.pruning.patterns import AllOf, AnyOf, Pattern
from slabrow.core.pruning.planned_statement import TableOccurrence
from slabrow.core.pruning.pullup import (
    Link,
    Qualifier,
    Uncertain,
    constants_of,
    is_dissolved,
    link_of,
    simple_lateral,
    unfolded,
    where_of,
    with_constants,
)
from slabrow.core.pruning.strictness import rejects_null
from slabrow.core.sql.clauses import (
    column_of,
    conjuncts,
    folded,
    outputs,
    simplified,
)
from slabrow.core.sql.from_items import Ctes, FromItem, resolve, without_alias
from slabrow.core.sql.volatility import may_be_volatile
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.names import Name

_MOST_JOINED = 20  # tables in one block: beyond that sub-queries are read on their own


class Blocks(FromClause):
    """Puts the conditions of a block to the tables in it."""

    __slots__ = ()

    @abstractmethod
    def _sub_queries(self, node: exp.Expression, scope: Ctes, skip_self: bool = False) -> None:
        """Reads the sub-queries within an expression."""

    @abstractmethod
    def _sub_queries_of(self, part: Any, scope: Ctes) -> None:
        """Reads the sub-queries within a clause, which may not be there."""

    def _pulled_up(self, items: list[FromItem], above: Sequence[exp.Expression], scope: Ctes) -> list[exp.Expression]:
        """The conditions of a block once sub-queries are dissolved in it; their tables join the entries of FROM."""
        waiting, found = list(above), list[exp.Expression]()
        shown: dict[int, Mapping[str, exp.Expression]] = {}
        for item in [each for each in items if simple_lateral(each) is not None]:
            if (dissolved := self._dissolved_lateral(item, items, scope)) is not None:
                conditions, shown[id(item)] = dissolved
                waiting += conditions
        if shown:
            waiting = [with_constants(each, items, shown) for each in waiting]
            for item in items:
                item.own = [with_constants(each, items, shown) for each in item.own]
            items[:] = [item for item in items if id(item) not in shown]
        while waiting:
            condition = waiting.pop(0)
            if (plain := unfolded(condition)) is not None:
                waiting += plain
                continue
            link = link_of(condition)
            if link is not None and may_be_volatile(link.select, self.schema.volatile):
                link = None  # convert_EXISTS_sublink_to_join and its like leave it
            more = None if link is None or len(items) > _MOST_JOINED else self._dissolved(link, items, scope)
            if more is None:
                found += conjuncts(simplified(condition))
            else:
                waiting += more
        constants = {
            id(item): given
            for item in items
            if not item.nullable and item.table is None and (given := constants_of(item)) is not None
        }
        if not constants:
            return found
        for item in items:
            item.own = [with_constants(each, items, constants) for each in item.own]
        return [with_constants(each, items, constants) for each in found]

    def _dissolved_lateral(
        self, item: FromItem, items: list[FromItem], scope: Ctes
    ) -> tuple[list[exp.Expression], Mapping[str, exp.Expression]] | None:
        """The conditions of LATERAL (…), and what its output columns stand for; its tables join the entries."""
        select = simple_lateral(item)
        assert select is not None
        before = len(self.seen)
        inner, above = self._items(select, scope)
        above += where_of(select)
        given = outputs(select, [(each.alias, each.columns) for each in inner])
        names = Qualifier(inner)
        try:
            if given is None or any(each.is_opaque or each.nullable for each in inner):
                raise Uncertain
            shown = {name: names.qualified(expression) for name, expression in given}
            conditions = [names.qualified(each) for each in above]
            own = [[names.qualified(each) for each in entry.own] for entry in inner]
        except Uncertain:
            del self.seen[before:]
            return None
        names.rename()
        for entry, renamed in zip(inner, own, strict=True):
            entry.own, entry.block = renamed, select
        items += inner
        self.seen.append(select)
        self._sub_queries_of(select.args.get("expressions"), scope)
        return conditions, shown

    def _dissolved(self, link: Link, items: list[FromItem], scope: Ctes) -> list[exp.Expression] | None:
        """The conditions of a sub-query that becomes a join, its tables among the entries. None where it stays."""
        before = len(self.seen)
        inner, above = self._items(link.select, scope)
        above += where_of(link.select)
        names = Qualifier(inner)
        conditions: list[exp.Expression] | None = None
        try:
            outputs = [names.qualified(each.unalias()) for each in link.select.expressions] if link.pairs else []
            conditions = [names.qualified(each) for each in above]
            own = [[names.qualified(each) for each in item.own] for item in inner]
        except Uncertain:
            pass
        may_be_anti = len(inner) == 1 and inner[0].table is not None
        if conditions is None or (link.is_anti and not may_be_anti) or any(item.is_opaque for item in inner):
            del self.seen[before:]
            return None
        names.rename()
        for item, renamed in zip(inner, own, strict=True):
            item.own, item.block = renamed, link.select
        items += inner
        self.seen.append(link.select)
        self._sub_queries_of(link.select.args.get("expressions"), scope)
        if link.is_anti:
            inner[0].nullable, inner[0].is_anti = True, True
            inner[0].own += conditions
            return []
        return [
            *conditions,
            *(exp.EQ(this=one.copy(), expression=other) for one, other in zip(link.pairs, outputs, strict=True)),
        ]

    def _block(self, items: list[FromItem], above: list[exp.Expression], scope: Ctes, node: exp.Expression) -> None:
        """Hands every entry of FROM the conditions that hold for it."""
        for item in items:
            # An outer join whose rows with NULLs the block throws away is an inner one (reduce_outer_joins).
            if item.nullable and not item.is_anti and any(rejects_null(each, item.alias) for each in above):
                item.nullable = False
                above += [condition for condition in item.own if condition not in above]
        # So is a FULL JOIN that throws them away on both sides.
        for before, joined, on in self.full:
            if not any(joined is item for item in items):
                continue
            if not any(item.nullable for item in (*before, joined)):
                above += [condition for condition in on if condition not in above]
            elif not joined.nullable:  # a RIGHT JOIN by now, or a LEFT JOIN: ON filters the side that may be missing
                for each in before:
                    each.own += on
            elif not any(item.nullable for item in before):
                joined.own += on
        _state_on_both(above, items)
        derived = self.equalities.derived(above, items)
        self.equalities.note_rivals(above, items)
        partners: list[tuple[int, tuple[Name, Pattern]]] = []
        for item in items:
            # A condition that names no column holds for the whole block, also under an outer join.
            held = [condition for condition in above if not item.nullable or not condition.find(exp.Column)]
            stated = [each for each in (*item.own, *held) if not self.equalities.is_rival(each, items)]
            conditions = [*stated, *derived.get(id(item), ())]
            if item.is_opaque:
                self._opaque(item, scope)
            elif item.query is not None:
                outer = [
                    bare for condition in conditions if (bare := without_alias(condition, item, items)) is not None
                ]
                if not is_dissolved(item.query):
                    outer = [since(each, 18) if isinstance(each, Agree) else each for each in outer]
                self.query(item.query, item.renamed, scope if item.scope is None else item.scope, outer)
            elif item.table is not None:
                self._place(item, items, conditions, node)
                if not item.nullable:
                    partners.append((len(self.places) - 1, (item.table, self.places[-1].pattern)))
            else:
                self._sub_queries(item.node, scope, skip_self=True)
        for place, _ in partners if len(partners) > 1 else ():
            others = tuple(partner for other, partner in partners if other != place)
            self.places[place] = replace(self.places[place], partners=others)

    def _opaque(self, item: FromItem, scope: Ctes) -> None:
        for table in item.node.find_all(exp.Table):
            if isinstance(table.this, exp.Identifier):
                inner = self._item(table, scope)
                if inner.table is not None:
                    self.places.append(TableOccurrence(inner.table, inner.alias, AllOf(())))
                elif inner.query is not None:
                    self.query(inner.query, inner.renamed, scope, ())
        self._sub_queries(item.node, scope, skip_self=True)

    def _place(
        self, item: FromItem, items: list[FromItem], conditions: list[exp.Expression], node: exp.Expression
    ) -> None:
        assert item.table is not None
        columns = self.schema.tables[item.table]
        names = dict(zip(item.renamed, columns, strict=False)) if item.renamed else {name: name for name in columns}

        def is_own(column: exp.Column) -> KeyColumn | None:
            if not isinstance(column.this, exp.Identifier) or resolve(column, items) is not item:
                return None
            return columns.get(names.get(folded(column.this), ""))

        def may_be_own(column: exp.Column) -> bool:
            return not column.table and resolve(column, items) is None

        reading = Reading(is_own, may_be_own, self.may_be_unknown)
        pattern: Pattern = AllOf(tuple(reading.read(condition) for condition in conditions))
        if item.node.args.get("only"):
            pattern = AnyOf(())  # the table itself, which holds no rows, and none of its partitions
        if item.block is not None:
            self.places.append(TableOccurrence(item.table, item.alias, pattern))
            return
        ordered, limit = _order_and_limit(node, [each for each in items if each.block is None], is_own)
        self.places.append(
            TableOccurrence(
                table=item.table,
                alias=item.alias,
                pattern=pattern,
                ordered=ordered,
                limit=limit,
                partners=(),
                wanted=_wanted(node, is_own),
                is_counted=_is_counted(node),
            )
        )


def _order_and_limit(
    node: exp.Expression, items: Sequence[FromItem], is_own: Any
) -> tuple[tuple[str, ...], exp.Expression | None]:
    """ORDER BY and LIMIT of a block that reads one table, without grouping."""
    if not isinstance(node, exp.Select) or len(items) != 1 or node.args.get("group") or node.args.get("distinct"):
        return (), None
    if any(True for each in node.expressions for _ in each.find_all(exp.AggFunc, exp.Window)):
        return (), None
    limit = node.args.get("limit")
    asked = limit.args.get("expression") or limit.args.get("count") if limit is not None else None
    order = node.args.get("order")
    names: list[str] = []
    for each in order.expressions if order is not None else ():
        own = is_own(each.this) if isinstance(each.this, exp.Column) else None
        if own is None:
            break
        names.append(own.name or "")
    if order is not None and len(names) < len(order.expressions):
        asked = None  # the rest must be sorted before rows can be counted
    return tuple(names), asked


def _is_counted(node: exp.Expression) -> bool:
    if not isinstance(node, exp.Select):
        return False
    return bool(node.args.get("group")) or any(True for each in node.expressions for _ in each.find_all(exp.AggFunc))


def _wanted(node: exp.Expression, is_own: Any) -> frozenset[str] | None:
    """The table's columns that a block reads; None for all."""
    for each in getattr(node, "expressions", ()):
        inner = each.this if isinstance(each, exp.Alias) else each
        if isinstance(inner, exp.Star) or (isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)):
            return None
    names = set()
    for column in node.find_all(exp.Column):
        own = is_own(column)
        if own is not None:
            names.add(own.name or "")
    return frozenset(names)


def _state_on_both(above: Sequence[exp.Expression], items: Sequence[FromItem]) -> None:
    """`merged = constant` above a FULL JOIN holds on both of its sides (reconsider_full_join_clause, equivclass.c)."""
    for condition in above:
        if not isinstance(condition, exp.EQ):
            continue
        for side, other in ((condition.left, condition.right), (condition.right, condition.left)):
            if (
                not isinstance(side, exp.Column)
                or side.args.get("table") is not None
                or other.find(exp.Column, exp.Query)
            ):
                continue
            name = folded(side.this) if isinstance(side.this, exp.Identifier) else ""
            for item in items:
                for each in (item, item.merged_with[name]) if name in item.merged_with else ():
                    part = exp.to_identifier(name, quoted=True)
                    each.own.append(exp.EQ(this=column_of(part, each.alias), expression=other.copy()))
