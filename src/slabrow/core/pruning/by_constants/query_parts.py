"""Parts of statements: the names that a block knows, and small questions about queries and conditions."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sqlglot import exp

from slabrow.core.pruning.by_constants.conditions import UNKNOWN
from slabrow.core.pruning.by_constants.sources import Joined, Source
from slabrow.core.table.tree import KeyColumn

OUTPUT = "\x02"  # the table name of a column of a query's result, in a condition that is pushed into it


class NotUnderstood(Exception):
    """The statement is left: every leaf is kept for it."""


@dataclass(slots=True)
class Scope:
    """The names that a block knows. columns: of each alias, in lower case, what they are as resolved expressions."""

    outer: "Scope | None"
    aliases: dict[str, dict[str, exp.Expression]] = field(default_factory=dict)
    databases: dict[str, str] = field(default_factory=dict)
    merged: set[str] = field(default_factory=set)  # columns that USING or NATURAL has made one
    is_joined: bool = False  # with the block around it: its tables are then those of one join

    def find(self, column: exp.Column) -> exp.Expression | None:
        """None: not a name of this block."""
        name, table = column.name.lower(), column.table
        if table:
            known = self.aliases.get(table)
            return None if known is None else known.get(name)
        found = [known[name] for known in self.aliases.values() if name in known]
        return found[0] if len(found) == 1 or (found and name in self.merged) else None


@dataclass(frozen=True, slots=True)
class Cte:
    query: exp.Expression
    columns: tuple[str, ...]
    known: Mapping[str, "Cte"]


def ctes_of(with_: exp.Expression | None, known: Mapping[str, Cte]) -> Mapping[str, Cte]:
    if with_ is None:
        return known
    found = dict(known)
    if with_.args.get("recursive"):
        raise NotUnderstood  # its parts see each other
    for each in with_.expressions:
        found[each.alias] = Cte(each.this, alias_columns(each), dict(found))
    return found


def alias_columns(node: exp.Expression) -> tuple[str, ...]:
    alias = node.args.get("alias")
    return tuple(each.name for each in alias.args.get("columns") or ()) if alias is not None else ()


def named(outputs: dict[str, exp.Expression], names: Sequence[str]) -> dict[str, exp.Expression]:
    if not names:
        return outputs
    return {
        (names[place] if place < len(names) else name).lower(): value
        for place, (name, value) in enumerate(outputs.items())
    }


def typed(columns: Mapping[str, KeyColumn | None] | None, names: Sequence[str]) -> dict[str, KeyColumn]:
    found = {}
    for place, (name, column) in enumerate((columns or {}).items()):
        if column is not None:
            found[names[place] if place < len(names) else name] = column
    return found


def cross(one: Joined | None, other: Joined | None) -> Joined:
    if one is None or other is None:
        found = one or other
        assert found is not None
        return found
    return Joined(left=one, right=other)


def parts(joined: Joined) -> list[Joined]:
    found = [joined]
    for each in found:
        found += [side for side in (each.left, each.right) if side is not None]
    return found


def is_merged(query: exp.Select) -> bool:
    """Whether the server merges such a query in FROM into the block around it (mysql_derived_merge)."""
    if any(query.args.get(each) for each in ("group", "having", "limit", "distinct", "offset", "windows")):
        return False
    return (
        query.args.get("from_") is not None
        and not aggregates(query)
        and not any(item.find(exp.Window) for item in query.expressions)
    )


def only_value(query: object) -> exp.Expression | None:
    """The value of a sub-query without tables."""
    if not isinstance(query, exp.Select) or query.args.get("from_") is not None or query.args.get("where") is not None:
        return None
    only = query.expressions[0].unalias() if len(query.expressions) == 1 else None
    return only.copy() if isinstance(only, exp.Expression) else None


def gives_value(condition: exp.Expression) -> bool:
    """Whether a condition says what a column is equal to, or has no column at all."""
    if condition.find(exp.Anonymous) is not None and UNKNOWN in condition.sql():
        return False
    if condition.find(exp.Column) is None:
        return True
    sides = [condition.this, condition.expression] if isinstance(condition, exp.EQ) else []
    return [each.find(exp.Column) is not None for each in sides].count(True) == 1


def may_be_joined(query: exp.Select) -> bool:
    if any(query.args.get(each) for each in ("group", "having", "limit", "offset")):
        return False
    return query.args.get("from_") is not None and not aggregates(query)


def aggregates(select: exp.Select) -> bool:
    """Whether it makes one row of many. Aggregates of a sub-query or a window are not its own."""
    for item in select.expressions:
        for each in item.find_all(exp.AggFunc):
            if each.find_ancestor(exp.Select) is select and not isinstance(each.parent, exp.Window):
                return True
    return False


def split(node: exp.Expression) -> list[exp.Expression]:
    """The conditions that AND joins."""
    node = bare(node)
    if isinstance(node, exp.And):
        return [*split(node.this), *split(node.expression)]
    return [node]


def bare(node: exp.Expression) -> exp.Expression:
    while isinstance(node, exp.Paren):
        node = node.this
    return node


def outermost_queries(node: exp.Expression) -> list[exp.Expression]:
    if isinstance(node, exp.Query):
        return [node]
    found: list[exp.Expression] = []
    for each in node.iter_expressions():
        found += outermost_queries(each)
    return found


def output_names(query: exp.Expression) -> list[str]:
    while isinstance(query, exp.Subquery | exp.SetOperation):
        query = query.this
    return [each.alias_or_name for each in query.expressions] if isinstance(query, exp.Select) else []


def renamed(pushed: Sequence[exp.Expression], names: Sequence[str], others: Sequence[str]) -> list[exp.Expression]:
    """Conditions on the result of a union, as conditions on that of one side: columns are told by their place."""
    places = {name.lower(): place for place, name in enumerate(names)}
    found = []
    for each in pushed:
        moved = each.copy()
        if all(
            column.name.lower() in places and places[column.name.lower()] < len(others)
            for column in moved.find_all(exp.Column)
        ):
            for column in list(moved.find_all(exp.Column)):
                column.set("this", exp.to_identifier(others[places[column.name.lower()]]))
            found.append(moved)
    return found


def as_output(
    condition: exp.Expression, source: Source, columns: Sequence[str], names: Sequence[str]
) -> exp.Expression:
    moved = condition.copy()
    back = {name.lower(): columns[place] for place, name in enumerate(names) if place < len(columns)}
    for column in moved.find_all(exp.Column):
        column.set("this", exp.to_identifier(back.get(column.name.lower(), column.name)))
        column.set("table", exp.to_identifier(OUTPUT))
    return moved


def substituted(condition: exp.Expression, outputs: Mapping[str, exp.Expression]) -> exp.Expression | None:
    missing = False

    def swapped(node: exp.Expression) -> exp.Expression:
        nonlocal missing
        if isinstance(node, exp.Column) and node.table == OUTPUT:
            found = outputs.get(node.name.lower())
            missing = missing or found is None
            return node if found is None else found.copy()
        return node

    inner = condition.copy().transform(swapped)
    return None if missing else inner


def is_correlated_equality(node: exp.Expression, inner: Scope, outer: Scope) -> bool:
    if not isinstance(node, exp.EQ):
        return False
    sides = [each for each in (node.this, node.expression) if isinstance(each, exp.Column)]
    if len(sides) != 2:
        return False
    own = [inner.find(each) is not None for each in sides]
    return own.count(True) == 1 and any(
        outer.find(each) is not None for each, is_own in zip(sides, own, strict=True) if not is_own
    )


def on_groups(condition: exp.Expression, groups: frozenset[str]) -> list[exp.Expression]:
    """A condition, where it depends on the columns alone by which rows are grouped; else nothing."""
    columns = list(condition.find_all(exp.Column))
    if not columns or condition.find(exp.AggFunc) or not all(each.sql() in groups for each in columns):
        return []
    return [condition]


def pushed_into(
    select: exp.Select,
    pushed: Sequence[exp.Expression],
    outputs: Mapping[str, exp.Expression],
    groups: frozenset[str] | None,
) -> list[exp.Expression]:
    """The conditions from outside that a block takes into its WHERE: on what rows are grouped by, or windows parted by.

    groups   None where it does not group
    """
    allowed = groups
    if groups is None and aggregates(select):
        return []
    for window in (each for item in select.expressions for each in item.find_all(exp.Window)):
        parted = window.args.get("partition_by") or ()
        columns = frozenset(outputs.get(part.name.lower(), part).sql() for part in parted)
        allowed = columns if allowed is None else allowed & columns
    found = []
    for each in pushed:
        inner = substituted(each, outputs)
        if inner is not None and not inner.find(exp.AggFunc) and not inner.find(exp.Window):
            found += [inner] if allowed is None else on_groups(inner, allowed)
    return found
