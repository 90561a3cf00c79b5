"""Small questions about a parsed statement: what a name means, what AND joins, what a query gives out."""

from collections.abc import Sequence
from typing import Any

from sqlglot import exp

from slabrow.core.sql.dialect import spoken
from slabrow.core.sql.operators import negated_comparison

Source = tuple[str, tuple[str, ...] | None]  # an alias, and the names of its columns


def folded(part: exp.Identifier) -> str:
    """The name that an identifier means: in lower case unless it is quoted."""
    return part.name if part.args.get("quoted") else part.name.lower()


def conjuncts(node: exp.Expression) -> list[exp.Expression]:
    """The conditions that AND joins, however deep, in their order."""
    found: list[exp.Expression] = []
    waiting: list[Any] = [node]
    while waiting:
        each = waiting.pop()
        while isinstance(each, exp.Paren):
            each = each.this
        if isinstance(each, exp.And):
            waiting += [each.args["expression"], each.this]
        else:
            found.append(each)
    return found


def simplified(node: exp.Expression) -> exp.Expression:
    """A condition of WHERE or ON without what is NULL or false by itself, as the server has it before it plans.

    A comparison with NULL is NULL. There NULL counts as false: an arm of OR that is either falls away, and AND with
    either is false (eval_const_expressions, clauses.c; find_duplicate_ors, prepqual.c).
    """
    if node.find(exp.Null, exp.Boolean, exp.Not) is None:
        return node
    found = _folded(node, False)
    return exp.Boolean(this=found) if isinstance(found, bool) else found


def _folded(node: Any, negated: bool) -> "exp.Expression | bool":
    """The rest of a condition; False also means NULL."""
    while isinstance(node, exp.Paren):
        node = node.this
    match node:
        case exp.Not():
            return _folded(node.this, not negated)
        case exp.And() | exp.Or():
            parts = [_folded(each, negated) for each in _chain(node, type(node))]
            is_and = isinstance(node, exp.And) is not negated
            if any(part is not is_and for part in parts if isinstance(part, bool)):
                return not is_and
            kept = [part for part in parts if not isinstance(part, bool)]
            if not kept:
                return is_and
            joined: exp.Expression = kept[0]
            for part in kept[1:]:
                joined = exp.And(this=joined, expression=part) if is_and else exp.Or(this=joined, expression=part)
            return exp.Paren(this=joined) if len(kept) > 1 else joined
        case exp.Boolean():
            return bool(node.this) is not negated
        case exp.Null():
            return False
        case exp.EQ() | exp.NEQ() | exp.LT() | exp.LTE() | exp.GT() | exp.GTE():
            if _is_null(node.left) or _is_null(node.right):
                return False
            if negated and not isinstance(node.right, exp.Any | exp.All | exp.Anonymous):
                return negated_comparison(node) or node
    kept_node: exp.Expression = node.copy()
    return exp.Not(this=exp.Paren(this=kept_node)) if negated else kept_node


def _chain(node: Any, kind: type[exp.Expression]) -> list[Any]:
    """The operands of a chain of ANDs or of ORs, however deep."""
    found: list[Any] = []
    waiting = [node]
    while waiting:
        each = waiting.pop()
        while isinstance(each, exp.Paren):
            each = each.this
        if type(each) is kind:
            waiting += [each.args["expression"], each.this]
        else:
            found.append(each)
    return found


def _is_null(node: Any) -> bool:
    while isinstance(node, exp.Paren | exp.Cast):
        node = node.this
    return isinstance(node, exp.Null)


def column_of(part: exp.Identifier, alias: str) -> exp.Column:
    """A column by its name and the alias of its table."""
    return exp.Column(this=part.copy(), table=exp.to_identifier(alias, quoted=True))


def aliases_in(node: exp.Expression) -> set[str]:
    """The aliases that qualify columns; an empty one for a column without."""
    return {folded(column.args["table"]) if column.args.get("table") else "" for column in node.find_all(exp.Column)}


def renamed_columns(names: tuple[str, ...] | None, renamed: tuple[str, ...]) -> tuple[str, ...] | None:
    """Names with the first ones replaced, as `AS x (a, b)` does."""
    if names is None:
        return renamed or None
    return (*renamed, *names[len(renamed) :])


def outputs(node: exp.Select, sources: Sequence[Source]) -> list[tuple[str, exp.Expression]] | None:
    """The output columns with what gives them; None when `*` of something unknown is among them."""
    found: list[tuple[str, exp.Expression]] = []
    for each in node.expressions:
        inner = each.this if isinstance(each, exp.Alias) else each
        if isinstance(inner, exp.Star) or (isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)):
            wanted = folded(inner.args["table"]) if isinstance(inner, exp.Column) and inner.args.get("table") else None
            for alias, columns in sources:
                if wanted is not None and alias != wanted:
                    continue
                if columns is None:
                    return None
                found += [(name, column_of(exp.to_identifier(name, quoted=True), alias)) for name in columns]
            continue
        named = each.args.get("alias") if isinstance(each, exp.Alias) else getattr(inner, "this", None)
        found.append((folded(named) if isinstance(named, exp.Identifier) else each.alias_or_name, inner))
    return found


def as_written(node: exp.Expression) -> str:
    """SQL for people: functions that the parser turns into others have their own names again."""
    return node.transform(_with_own_name).sql(spoken())


def day_number_of(node: Any) -> Any:
    """What TO_DAYS() is taken of; None where a node is something else.

    The parser writes it as the days since the beginning of the year 0, and one more.
    """
    while isinstance(node, exp.Paren):
        node = node.this
    if not isinstance(node, exp.Add) or not isinstance(node.this, exp.DateDiff):
        return None
    begin = node.this.expression
    is_zero = isinstance(begin, exp.TsOrDsToDate) and begin.this.name == "0000-01-01"
    return node.this.this if is_zero and node.expression.name == "1" else None


def _with_own_name(node: exp.Expression) -> exp.Expression:
    inner = day_number_of(node) if isinstance(node, exp.Paren) else None
    if inner is None:
        return node
    # The parser also turns what it is taken of into a day.
    return exp.Anonymous(this="TO_DAYS", expressions=[inner.this if isinstance(inner, exp.TsOrDsToDate) else inner])
