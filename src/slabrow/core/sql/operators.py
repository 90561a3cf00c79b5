"""The comparison operators: as the parser has them and as SQL writes them, turned round, negated, and applied."""

import operator
from typing import Any

from sqlglot import exp

OPERATORS: dict[type[exp.Expression], str] = {
    exp.EQ: "=",
    exp.NEQ: "<>",
    exp.LT: "<",
    exp.LTE: "<=",
    exp.GT: ">",
    exp.GTE: ">=",
}
# Those by which a range of values can be told: all but <>.
ORDERING: dict[type[exp.Expression], str] = {kind: sign for kind, sign in OPERATORS.items() if sign != "<>"}

TURNED = {"=": "=", "<>": "<>", "<": ">", "<=": ">=", ">": "<", ">=": "<="}  # a < b is b > a
NEGATED = {"=": "<>", "<>": "=", "<": ">=", "<=": ">", ">": "<=", ">=": "<"}  # NOT (a < b) is a >= b

_BY_SIGN = {sign: kind for kind, sign in OPERATORS.items()}
_FUNCTIONS = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def holds(one: Any, sign: str, other: Any) -> bool:
    """Whether `one sign other` is true, for two values that have an order.

    >>> holds(3, "<=", 3), holds(3, "<>", 3)
    (True, False)
    """
    return bool(_FUNCTIONS[sign](one, other))


def negated_comparison(node: exp.Expression) -> exp.Expression | None:
    """NOT of a comparison as another comparison; None for anything else."""
    sign = OPERATORS.get(type(node))
    if sign is None:
        return None
    return _BY_SIGN[NEGATED[sign]](this=node.args["this"].copy(), expression=node.args["expression"].copy())
