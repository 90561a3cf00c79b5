"""Rewrites conditions so that they are sent to another server: an expression becomes its present value.

A foreign data wrapper sends a condition only when it means the same on both servers. `now()`, days and intervals do
not, nor does a value whose type is not the column's (PostgreSQL manual, F.36, "Remote Query Optimization"). A constant
of the column's own type is sent. Only conditions on key columns that are joined by AND are rewritten.
"""

from collections.abc import Iterator, Mapping, Sequence

import sqlglot
from sqlglot import exp

from slabrow.core.rewriting.statement_rewrites import Rewrite, blocks
from slabrow.core.sql.clauses import conjuncts, folded
from slabrow.core.sql.dialect import spoken
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.names import Name

_COMPARISONS = (exp.EQ, exp.GT, exp.GTE, exp.LT, exp.LTE)
_SENT = "a constant of the column's own type is sent"
_OF_NOW = "the value is that of this moment: let the application work it out, and send it as a constant or a parameter"


def constants_to_send(sql: str, table: Name, schema: Schema, key: Sequence[KeyColumn]) -> tuple[str, ...]:
    """The expressions that a constant would replace, as SQL, each cast to the type of its column."""
    parsed = parse(sql)
    return () if parsed is None else tuple(asked for _, asked in _places(parsed.copy(), table, schema, key))


def with_constants(
    sql: str, table: Name, schema: Schema, key: Sequence[KeyColumn], values: Mapping[str, tuple[str, str]]
) -> Rewrite | None:
    """The statement with constants in place of expressions. None when no expression has a value.

    values   by expression, as `constants_to_send` gives it: the text of its value, and the name of its type
    """
    parsed = parse(sql)
    if parsed is None:
        return None
    rewritten = parsed.copy()
    before, after, note = [], [], _SENT
    for node, asked in list(_places(rewritten, table, schema, key)):
        if asked not in values:
            continue
        text, type_name = values[asked]
        before.append(node.sql(spoken()))
        if any(not isinstance(each, exp.Cast) for each in node.find_all(exp.Func)):
            note = _OF_NOW
        constant = sqlglot.parse_one(f"CAST({exp.Literal.string(text).sql(spoken())} AS {type_name})", read=spoken())
        after.append(constant.sql(spoken()))
        node.replace(constant)
    return Rewrite(rewritten.sql(spoken()), tuple(before), tuple(after), (note,)) if before else None


def _places(
    parsed: exp.Expression, table: Name, schema: Schema, key: Sequence[KeyColumn]
) -> Iterator[tuple[exp.Expression, str]]:
    """The sides of comparisons with a key column that are computed without columns, sub-queries and parameters."""
    types = {column.name: column.bare_type for column in key if column.name}
    for block, _ in blocks(parsed, table, schema):
        for condition in conjuncts(block.args["where"].this):
            if isinstance(condition, exp.Between):
                sides = [(condition.this, condition.args["low"]), (condition.this, condition.args["high"])]
            elif isinstance(condition, _COMPARISONS):
                sides = [(condition.this, condition.expression), (condition.expression, condition.this)]
            else:
                continue
            for column, value in sides:
                name = folded(column.this) if isinstance(column, exp.Column) else None
                if name in types and _is_worked_out(value):
                    yield value, f"CAST({value.sql(spoken())} AS {types[name]})"


def _is_worked_out(value: exp.Expression) -> bool:
    if isinstance(value, exp.Literal) or value.find(exp.Column, exp.Subquery, exp.Parameter, exp.Placeholder):
        return False
    return not isinstance(value, exp.Null)
