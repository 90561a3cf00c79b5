"""The output columns of the queries and tables of a statement: the names and the types of their columns.

The lowest part of the walk through a statement (queries.py)."""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import cast

from sqlglot import exp

from slabrow.core.pruning.equalities import Equalities
from slabrow.core.pruning.planned_statement import TableOccurrence
from slabrow.core.sql.clauses import (
    Source,
    folded,
    outputs,
    renamed_columns,
)
from slabrow.core.sql.from_items import Ctes, FromItem
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.schema import Schema
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name


@dataclass(slots=True)
class OutputColumns(ABC):
    """The state of a walk: what it has found so far.

    equalities   of the whole statement
    may_be_unknown   whether a condition may be NULL, as in a CHECK, without being false
    places       where tables are read
    seen         names of tables that are accounted for, though nothing is read there
    full         FULL JOINs: what stands to their left, what to their right, and their conditions
    """

    schema: Schema
    equalities: Equalities
    may_be_unknown: bool = False
    places: list[TableOccurrence] = field(default_factory=list)
    seen: list[exp.Expression] = field(default_factory=list)
    full: list[tuple[tuple[FromItem, ...], FromItem, list[exp.Expression]]] = field(default_factory=list)  # FULL JOINs

    @abstractmethod
    def with_ctes(self, node: exp.Expression, scope: Ctes) -> Ctes:
        """The CTEs that a statement sees: those of the blocks around it and its own."""

    def table_name(self, node: exp.Table) -> Name | None:
        """The table that a name in FROM means; None for a function or a CTE, or when it is not known."""
        if not isinstance(node.this, exp.Identifier):
            return None
        schema = node.args.get("db")
        return self.schema.find(Name(folded(schema) if schema else None, folded(node.this)))

    def _types(self, node: exp.Expression, scope: Ctes, renamed: Sequence[str] = ()) -> dict[str, str]:
        """The types of a query's output columns, of those that are columns of a table."""
        while isinstance(node, exp.Subquery | exp.Paren):
            node = node.this
        if isinstance(node, exp.SetOperation):
            left, right = (self._types(cast(exp.Expression, side), scope) for side in (node.left, node.right))
            found = {name: kind for name, kind in left.items() if list(right.values()) == list(left.values())}
        elif isinstance(node, exp.Select):
            found = self._types_of_select(node, scope)
        else:
            found = {}
        names = [*renamed, *list(found)[len(renamed) :]] if len(renamed) <= len(found) else list(found)
        return dict(zip(names, found.values(), strict=True))

    def _types_of_select(self, node: exp.Select, scope: Ctes) -> dict[str, str]:
        shown = outputs(node, self._sources(node, scope))
        by_alias: dict[str, dict[str, str]] = {}
        for entry in entries_of(node):
            alias_node = entry.args.get("alias")
            alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
            if isinstance(entry, exp.Subquery) and not isinstance(entry.this, exp.Table):
                by_alias[alias] = self._types(entry.this, scope)
            elif isinstance(entry, exp.Table) and isinstance(entry.this, exp.Identifier):
                bare = folded(entry.this)
                cte = None if entry.args.get("db") else scope.get(bare)
                name = self.table_name(entry)
                if cte is not None:
                    by_alias[alias or bare] = self._types(cte.node.this, cte.scope)
                elif name is not None and name in self.schema.tables:
                    by_alias[alias or bare] = {
                        column: each.kind.value if each.kind is Kind.INTEGER else each.type_name
                        for column, each in self.schema.tables[name].items()
                    }
        found: dict[str, str] = {}
        for shown_name, expression in shown or ():
            found[shown_name] = ""
            if isinstance(expression, exp.Column) and isinstance(expression.this, exp.Identifier):
                table, column = expression.args.get("table"), folded(expression.this)
                kinds = [
                    types[column]
                    for alias, types in by_alias.items()
                    if column in types and (table is None or alias == folded(table))
                ]
                found[shown_name] = kinds[0] if len(set(kinds)) == 1 else ""
        return found

    def _output_names(self, node: exp.Expression, scope: Ctes) -> tuple[str, ...] | None:
        """The names of a query's output columns, `*` spelled out; None when one is not known."""
        while isinstance(node, exp.Subquery | exp.SetOperation | exp.Paren):
            node = node.this
        if not isinstance(node, exp.Select):
            return None
        shown = outputs(node, self._sources(node, scope))
        return tuple(name for name, _ in shown) if shown is not None else None

    def _sources(self, node: exp.Select, scope: Ctes) -> list["Source"]:
        """The output columns of the entries of FROM, before anything is read of them."""
        return [self._source(entry, scope) for entry in entries_of(node)]

    def _source(self, node: exp.Expression, scope: Ctes) -> "Source":
        alias_node = node.args.get("alias")
        renamed = tuple(folded(part) for part in (alias_node.args.get("columns") or ())) if alias_node else ()
        alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
        names: tuple[str, ...] | None = None
        if isinstance(node, exp.Subquery):
            names = None if isinstance(node.this, exp.Table) else self._output_names(node.this, scope)
        elif isinstance(node, exp.Table) and isinstance(node.this, exp.Identifier):
            bare = folded(node.this)
            alias = alias or bare
            cte = None if node.args.get("db") else scope.get(bare)
            name = self.table_name(node)
            if cte is not None:
                inner = tuple(map(folded, cte.node.args["alias"].args.get("columns") or ()))
                names = renamed_columns(self._output_names(cte.node.this, cte.scope), inner)
            elif name is not None and name in self.schema.tables:
                names = tuple(self.schema.tables[name])
            elif name is not None:
                view = parse(self.schema.views[name])
                names = self._output_names(view, {}) if view is not None else None
        return alias, renamed_columns(names, renamed)


def entries_of(node: exp.Select) -> list[exp.Expression]:
    """The entries of FROM in their order, those within parentheses too."""
    from_ = node.args.get("from_") or node.args.get("from")
    found: list[exp.Expression] = []
    waiting = [] if from_ is None else [from_.this]
    waiting += [join.this for join in node.args.get("joins") or ()]
    while waiting:
        each = waiting.pop(0)
        inner = in_parentheses(each)
        waiting = [join.this for join in each.args.get("joins") or ()] + waiting
        if inner is None:
            found.append(each)
        else:
            waiting.insert(0, inner)
    return found


def in_parentheses(node: exp.Expression) -> exp.Expression | None:
    """The first entry of joins that stand in parentheses without a name of their own."""
    if isinstance(node, exp.Subquery) and isinstance(node.this, exp.Table) and node.args.get("alias") is None:
        inner: exp.Expression = node.this
        return inner
    return None
