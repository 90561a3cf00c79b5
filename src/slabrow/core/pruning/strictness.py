"""Which conditions a row of NULLs cannot pass: they make an outer join an inner one (reduce_outer_joins)."""

from typing import Any, cast

from sqlglot import exp

from slabrow.core.sql.clauses import folded

_STRICT = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Like, exp.ILike, exp.Between, exp.In)


def rejects_null(condition: exp.Expression, alias: str) -> bool:
    """Whether a row whose columns of this entry are all NULL cannot pass. False where it is not certain."""
    while isinstance(condition, exp.Paren):
        condition = condition.this
    if isinstance(condition, exp.And):
        return any(rejects_null(cast(exp.Expression, each), alias) for each in (condition.left, condition.right))
    if isinstance(condition, exp.Or):
        return all(rejects_null(cast(exp.Expression, each), alias) for each in (condition.left, condition.right))
    sides: list[Any] = [condition.this]
    if isinstance(condition, exp.Not) and isinstance(condition.this, exp.Is):
        if not isinstance(condition.this.expression, exp.Null):
            return False
        sides = [condition.this.this]
    elif isinstance(condition, exp.Is):
        if not condition.args.get("negate") or not isinstance(condition.expression, exp.Null):
            return False
    elif isinstance(condition, _STRICT):
        if isinstance(condition, exp.Binary):
            if isinstance(condition.expression, exp.All | exp.Anonymous):
                return False  # of an empty set ALL holds for NULL too
            sides.append(condition.expression)
    else:
        return False
    return any(_is_strict_in(side, alias) for side in sides)


def _is_strict_in(node: Any, alias: str) -> bool:
    while isinstance(node, exp.Paren | exp.Cast | exp.Neg):
        node = node.this
    if isinstance(node, exp.Add | exp.Sub | exp.Mul):
        return _is_strict_in(node.left, alias) or _is_strict_in(node.right, alias)
    return isinstance(node, exp.Column) and node.args.get("table") is not None and folded(node.args["table"]) == alias
