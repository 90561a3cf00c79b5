"""Sub-queries that the planner dissolves into the block around them, as it does before it looks at joins.

A query without FROM that gives constants stands for them (pull_up_simple_subquery, pull_up_simple_values). EXISTS and
IN in WHERE become joins, and NOT EXISTS a join that keeps what finds nothing (pull_up_sublinks, prepjointree.c): then
a constant is carried over their equalities as over those of any join. A sub-query about which anything is uncertain
stays as it is written.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import count

from sqlglot import exp

from slabrow.core.sql.clauses import conjuncts, folded
from slabrow.core.sql.from_items import FromItem, resolve

_KEEPS_APART = ("group", "having", "limit", "offset", "distinct", "with_", "with", "qualify", "windows", "joins")
_names = count(1)


@dataclass(frozen=True, slots=True)
class Link:
    """A sub-query of WHERE that becomes a join.

    select    the query
    pairs     what IN compares with its output columns
    is_anti   NOT EXISTS
    """

    select: exp.Select
    pairs: tuple[exp.Expression, ...] = ()
    is_anti: bool = False


def unfolded(condition: exp.Expression) -> list[exp.Expression] | None:
    """`x IN (VALUES …)` as equalities of its one row, or as a list of constants; None for other conditions.

    One row is dissolved by every server (pull_up_simple_values), several become a list from PostgreSQL 18 on
    (convert_VALUES_to_ANY).
    """
    if not isinstance(condition, exp.In) or len(condition.expressions) != 1:
        return None
    values = condition.expressions[0]
    if not isinstance(values, exp.Values):
        return None
    sides = list(condition.this.expressions) if isinstance(condition.this, exp.Tuple) else [condition.this]
    rows = [list(row.expressions) if isinstance(row, exp.Tuple) else [row] for row in values.expressions]
    if any(len(row) != len(sides) or any(map(_reads, row)) for row in rows):
        return None
    if len(rows) == 1:
        return [
            exp.EQ(this=side.copy(), expression=_typed(value).copy())
            for side, value in zip(sides, rows[0], strict=True)
        ]
    if len(sides) > 1:
        return None
    listed = exp.In(this=sides[0].copy(), expressions=[row[0].copy() for row in rows])
    listed.set("of_values", True)
    return [listed]


def link_of(condition: exp.Expression) -> Link | None:
    """The join that a condition becomes; None when the condition stays a sub-query."""
    is_anti = isinstance(condition, exp.Not)
    inner = condition.this if is_anti else condition
    while isinstance(inner, exp.Paren):
        inner = inner.this
    match inner:
        case exp.Exists():
            select = _select_of(inner.this)
            if select is None or not _is_simple(select, ignored=("distinct",)):
                return None
            return Link(select, (), is_anti) if select.args.get("where") is not None else None
        case exp.In() if not is_anti and inner.args.get("query") is not None:
            return _compared(inner.this, inner.args["query"])
        case exp.EQ(expression=exp.Any() as any_) if not is_anti:
            return _compared(inner.this, any_.this)
        case _:
            return None


def _compared(left: exp.Expression, query: exp.Expression) -> Link | None:
    select = _select_of(query)
    if select is None or not _is_simple(select):
        return None
    sides = tuple(left.expressions) if isinstance(left, exp.Tuple) else (left,)
    outputs = [each.unalias() for each in select.expressions]
    if len(sides) != len(outputs) or any(isinstance(each, exp.Star) or each.is_star for each in outputs):
        return None
    if any(each.find(exp.Query) is not None for each in (*sides, *outputs)):
        return None
    return Link(select, sides)


def _select_of(node: object) -> exp.Select | None:
    while isinstance(node, exp.Subquery | exp.Paren):
        if isinstance(node, exp.Subquery) and (node.args.get("limit") or node.args.get("offset")):
            return None
        node = node.this
    return node if isinstance(node, exp.Select) else None


def _is_simple(select: exp.Select, ignored: Sequence[str] = ()) -> bool:
    kept = [part for part in _KEEPS_APART if part not in (*ignored, "joins")]
    if any(select.args.get(part) for part in kept) or select.args.get("laterals") or select.args.get("locks"):
        return False
    return not any(True for each in select.expressions for _ in each.find_all(exp.AggFunc, exp.Window, exp.UDTF))


def is_dissolved(query: exp.Expression) -> bool:
    """Whether a query in FROM becomes a part of its block: then what is false there is false in it."""
    select = _select_of(query)
    return select is not None and _is_simple(select)


def simple_lateral(item: FromItem) -> exp.Select | None:
    """The query of LATERAL (…) that is dissolved into its block; None for another entry of FROM."""
    if not isinstance(item.node, exp.Lateral) or item.nullable or item.renamed:
        return None
    select = _select_of(item.query)
    if select is None or not _is_simple(select) or not (select.args.get("from_") or select.args.get("from")):
        return None
    return select if sum(1 for _ in select.find_all(exp.Query)) == 1 else None  # sub-queries in it keep it apart


def constants_of(item: FromItem) -> Mapping[str, exp.Expression] | None:
    """The output columns of an entry of FROM that is one row of constants; None where it is something else."""
    query = item.query if item.query is not None else item.node
    if isinstance(query, exp.Values) and len(query.expressions) == 1:
        alias = query.args.get("alias") or item.node.args.get("alias")
        names = [folded(each) for each in (alias.args.get("columns") or ())] if alias is not None else []
        row = query.expressions[0]
        values = list(row.expressions) if isinstance(row, exp.Tuple) else [row]
        names += [f"column{place}" for place in range(len(names) + 1, len(values) + 1)]
    else:
        select = _select_of(query)
        if select is None or select.args.get("from_") or select.args.get("from") or not _is_simple(select):
            return None
        if select.args.get("where") is not None or not select.expressions:
            return None
        values = [each.unalias() for each in select.expressions]
        names = [each.alias_or_name for each in select.expressions]
        names[: len(item.renamed)] = item.renamed[: len(names)]
    if len(names) != len(values) or any(_reads(value) for value in values):
        return None
    return {name: _typed(value) for name, value in zip(names, values, strict=True) if name}


def _reads(value: exp.Expression) -> bool:
    return value.find(exp.Column, exp.Query, exp.AggFunc, exp.Window, exp.UDTF, exp.Parameter) is not None


def _typed(value: exp.Expression) -> exp.Expression:
    """An output column has a type: a bare literal in quotes becomes a text."""
    if isinstance(value, exp.Literal) and value.is_string:
        return exp.Cast(this=value.copy(), to=exp.DataType(this=exp.DataType.Type.TEXT))
    return value


def with_constants(
    condition: exp.Expression, items: Sequence[FromItem], constants: Mapping[int, Mapping[str, exp.Expression]]
) -> exp.Expression:
    """The condition with the columns of entries that are constants replaced. constants: by the id of the entry."""

    def replaced(node: exp.Expression) -> exp.Expression:
        if not isinstance(node, exp.Column) or not isinstance(node.this, exp.Identifier):
            return node
        item = resolve(node, items)
        value = None if item is None else constants.get(id(item), {}).get(folded(node.this))
        return node if value is None else exp.Paren(this=value.copy())

    if condition.find(exp.Column) is None:
        return condition
    changed: exp.Expression = condition.copy().transform(replaced)
    return changed


class Uncertain(Exception):
    """A name whose meaning is uncertain: the sub-query is then not dissolved."""


@dataclass(slots=True)
class Qualifier:
    """Gives the entries of a sub-query unique names, so that its conditions can move into the block around it."""

    items: Sequence[FromItem]
    names: list[str] = field(init=False)

    def __post_init__(self) -> None:
        self.names = [f"{item.alias} {next(_names)}" for item in self.items]

    def qualified(self, condition: exp.Expression) -> exp.Expression:
        """The condition with the new names. Raises Uncertain for a column that may be the sub-query's or another."""

        def renamed(node: exp.Expression) -> exp.Expression:
            if not isinstance(node, exp.Column) or not isinstance(node.this, exp.Identifier):
                return node
            item = resolve(node, self.items)
            if item is not None:
                unique = next(name for each, name in zip(self.items, self.names, strict=True) if each is item)
                return exp.Column(this=node.this.copy(), table=exp.to_identifier(unique, quoted=True))
            table = node.args.get("table")
            if table is None:
                may_be = any(each.columns is None or folded(node.this) in each.columns for each in self.items)
            else:
                may_be = any(each.alias == folded(table) for each in self.items)
            if may_be:
                raise Uncertain
            return node

        changed: exp.Expression = condition.copy().transform(renamed)
        return changed

    def rename(self) -> None:
        """From now on the entries have their new names."""
        for item, name in zip(self.items, self.names, strict=True):
            item.alias = name


def where_of(select: exp.Select) -> list[exp.Expression]:
    """The condition of WHERE; None without one."""
    where = select.args.get("where")
    return conjuncts(where.this) if where is not None else []
