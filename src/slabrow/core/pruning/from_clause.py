"""The entries of FROM and what their joins say: the second part of the walk through a statement (queries.py)."""

from abc import abstractmethod
from collections.abc import Sequence

from sqlglot import exp

from slabrow.core.pruning.output_columns import OutputColumns, in_parentheses
from slabrow.core.sql.clauses import (
    aliases_in,
    column_of,
    conjuncts,
    folded,
    renamed_columns,
    simplified,
)
from slabrow.core.sql.from_items import Cte, Ctes, FromItem
from slabrow.core.sql.parsed import parse


class FromClause(OutputColumns):
    """Reads FROM. Sub-queries in it are read by `query`, which stands further up."""

    __slots__ = ()

    @abstractmethod
    def query(self, node: exp.Expression, names: Sequence[str], scope: Ctes, outer: Sequence[exp.Expression]) -> None:
        """A SELECT, a set operation or a query in parentheses.

        names   the names of its output columns where an alias gives them
        outer   conditions on the output, with columns named by output column and no table
        """

    def _items(self, node: exp.Select, scope: Ctes) -> tuple[list[FromItem], list[exp.Expression]]:
        above: list[exp.Expression] = []
        items: list[FromItem] = []
        from_ = node.args.get("from_") or node.args.get("from")
        within: list[exp.Expression] = []
        if from_ is not None:
            self._entry(from_.this, items, within, scope)
        self._joined(node.args.get("joins") or (), items, above, scope, within)
        for lateral in node.args.get("laterals") or ():
            items.append(self._item(lateral, scope))
        return items, above

    def _entry(self, node: exp.Expression, items: list[FromItem], above: list[exp.Expression], scope: Ctes) -> None:
        """One entry of FROM with what is joined to it, parentheses around joins taken off."""
        first = len(items)
        within: list[exp.Expression] = []
        inner = in_parentheses(node)
        if inner is None:
            items.append(self._item(node, scope))
        else:
            self._entry(inner, items, within, scope)
        self._joined(node.args.get("joins") or (), items, above, scope, within, first)

    def _joined(
        self,
        joins: Sequence[exp.Expression],
        items: list[FromItem],
        above: list[exp.Expression],
        scope: Ctes,
        within: list[exp.Expression] | None = None,
        first: int = 0,
    ) -> None:
        """Adds the entries of a chain of joins; `above` takes the conditions that hold for all that is not nullable.

        within   what holds already for the entries from `first` on, of joins in parentheses
        """
        within = within or []  # what holds since the last comma: JOIN binds more closely
        for join in joins:
            inner = in_parentheses(join.this)
            is_plain = not any(join.args.get(part) for part in ("side", "method", "using"))
            if inner is not None and is_plain and str(join.args.get("kind") or "").upper() in ("", "INNER", "CROSS"):
                self._entry(join.this, items, within, scope)
                within += conjuncts(simplified(join.args["on"])) if join.args.get("on") is not None else []
                continue
            if inner is not None and _is_left_on(join):
                self._filled_up(join, items, scope)
                continue
            item = self._item(join.this, scope)
            on = conjuncts(simplified(join.args["on"])) if join.args.get("on") is not None else []
            if not join.args.get("side"):  # sub-queries in it are dissolved before it is simplified
                on = conjuncts(join.args["on"]) if join.args.get("on") is not None else []
            merged = _merged_names(join, items[first:], item)
            on += _using(merged, items[first:], item, str(join.args.get("side") or "").upper())
            if not on and not any(join.args.get(part) for part in ("side", "kind", "method", "using")):
                above += within
                within = []
                first = len(items)
            before = items[first:]
            match str(join.args.get("side") or "").upper():
                case "LEFT":
                    item.nullable, item.own = True, on
                case "RIGHT" | "FULL" as side:
                    for each in before:
                        each.nullable = True
                        each.own += on if side == "RIGHT" else []
                    # Conditions above the earlier joins now stand below this join: they filter the tables they name.
                    for each in before:
                        each.own += [condition for condition in within if aliases_in(condition) <= {each.alias}]
                    within = []
                    item.nullable = side == "FULL"
                    if side == "FULL":
                        self.full.append((tuple(before), item, on))
                case _:
                    within += on
            if str(join.args.get("kind") or "").upper() == "SEMI" or join.args.get("method"):
                item.is_opaque = str(join.args.get("method") or "").upper() != "NATURAL" or merged is None
            items.append(item)
        above += within

    def _filled_up(self, join: exp.Expression, items: list[FromItem], scope: Ctes) -> None:
        """`LEFT JOIN (… JOIN …) ON …`: what holds within, and what ON says of one of them, holds for its rows there."""
        joined: list[FromItem] = []
        within: list[exp.Expression] = []
        self._entry(join.this, joined, within, scope)
        within += conjuncts(simplified(join.args["on"]))
        for each in joined:
            if not each.nullable:
                each.nullable = True
                each.own += [condition for condition in within if aliases_in(condition) <= {each.alias}]
        items += joined

    def _item(self, node: exp.Expression, scope: Ctes) -> FromItem:
        """One entry of FROM, with its output columns."""
        alias_node = node.args.get("alias")
        renamed = tuple(folded(part) for part in (alias_node.args.get("columns") or ())) if alias_node else ()
        alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
        if isinstance(node, exp.Lateral):
            return FromItem(
                node, alias, None, query=node.this if isinstance(node.this, exp.Subquery) else None, renamed=renamed
            )
        if isinstance(node, exp.Subquery):
            if isinstance(node.this, exp.Table):  # joins in parentheses: read without conditions from outside
                return FromItem(node, alias, None, is_opaque=True)
            names = self._output_names(node.this, scope)
            columns = renamed_columns(names, renamed)
            types = self._types(node.this, scope, renamed)
            return FromItem(node, alias, columns, query=node.this, renamed=renamed, types=types)
        if not isinstance(node, exp.Table) or not isinstance(node.this, exp.Identifier):
            columns = renamed or None
            return FromItem(node, alias, columns)
        self.seen.append(node)
        alias = alias or folded(node.this)
        bare = folded(node.this)
        if not node.args.get("db") and bare in scope:
            return self._cte_item(node, alias, renamed, scope[bare])
        name = self.table_name(node)
        if name is None:
            return FromItem(node, alias, None)
        if name in self.schema.views:
            query = parse(self.schema.views[name])
            names = self._output_names(query, {}) if query is not None else None
            types = {} if query is None else self._types(query, {}, renamed)
            return FromItem(
                node, alias, renamed_columns(names, renamed), query=query, renamed=renamed, scope={}, types=types
            )
        columns = tuple(self.schema.tables[name])
        return FromItem(node, alias, renamed_columns(columns, renamed), table=name, renamed=renamed)

    def _cte_item(self, node: exp.Expression, alias: str, renamed: tuple[str, ...], cte: Cte) -> FromItem:
        alias_columns = cte.node.args["alias"].args.get("columns") or ()
        renamed = renamed or tuple(map(folded, alias_columns))
        columns = renamed_columns(self._output_names(cte.node.this, cte.scope), renamed)
        if cte.is_taken:
            return FromItem(node, alias, columns)
        # A WITH query that is never materialized is read anew at each place that names it.
        cte.is_taken = cte.node.args.get("materialized") is not False
        return FromItem(
            node,
            alias,
            columns,
            query=cte.node.this,
            renamed=renamed or tuple(map(folded, alias_columns)),
            scope=cte.scope,
            types=self._types(cte.node.this, cte.scope, renamed),
        )


def _is_left_on(join: exp.Expression) -> bool:
    is_left = str(join.args.get("side") or "").upper() == "LEFT" and join.args.get("on") is not None
    return is_left and not join.args.get("method") and not join.args.get("using")


def _merged_names(join: exp.Expression, items: Sequence[FromItem], item: FromItem) -> list[str] | None:
    """The columns that USING or NATURAL merges. None where they are not all known."""
    if join.args.get("using"):
        return [folded(part) for part in join.args["using"]]
    if str(join.args.get("method") or "").upper() != "NATURAL":
        return []
    if item.columns is None or any(each.columns is None for each in items):
        return None
    shown = {name for each in items for name in each.columns or () if name not in each.hidden}
    return [name for name in item.columns if name in shown]


def _using(merged: Sequence[str] | None, items: Sequence[FromItem], item: FromItem, side: str) -> list[exp.Expression]:
    """USING (c) as equalities. A merged name then means the column of the side that always has rows.

    Of FULL JOIN it is the one or the other: neither entry's alone (and both, beside a constant: `_stated_on_both`).
    """
    found: list[exp.Expression] = []
    for name in merged or ():
        holders = [each for each in items if (each.columns is None or name in each.columns) and name not in each.hidden]
        if len(holders) != 1:
            for each in holders:
                each.hidden.add(name)
            item.hidden.add(name)
            continue
        part = exp.to_identifier(name, quoted=True)
        found.append(exp.EQ(this=column_of(part, holders[0].alias), expression=column_of(part, item.alias)))
        if side in ("RIGHT", "FULL"):
            holders[0].hidden.add(name)
        if side == "FULL":
            item.merged_with[name] = holders[0]
        if side != "RIGHT":
            item.hidden.add(name)
    return found
