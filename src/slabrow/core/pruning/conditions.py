"""Conditions of a statement on the columns of one table: read once from the parsed SQL, then bound to values.

Reading and binding are apart, because one shape of a statement runs with many values: `read` follows the structure
(AND, OR, NOT, IN, BETWEEN, rows), `bind` works out what the constants in it are worth (core/sql/constants.py).
Which comparisons the server can use is said in the PostgreSQL manual, 5.12.4 Partition Pruning, and was measured.
"""

# Two stages, because one shape of a statement runs with many values. *Reading* follows the structure of the SQL and
# finds which parts are comparisons of a column with something; it is done once for a shape. *Binding* works out what
# the something is worth in one run, and when the server knows it (binding.py).
#
# NOT never stays: it is pushed down to the comparisons while reading, as the planner does (negate_clause). `NOT (k < 5
# OR k IS NULL)` is read as `k >= 5 AND k IS NOT NULL`. So everything above the comparisons is AND and OR.
#
# A part that cannot be used becomes `Anything` with the reason. Under AND it does no harm; an OR that has such an arm
# keeps every leaf.

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from slabrow.core.pruning.agreement import Agree, column_of_type
from slabrow.core.pruning.key_conditions import Anything, NullTest
from slabrow.core.pruning.patterns import (
    Agreeing,
    AllOf,
    Always,
    AnyOf,
    InList,
    Pattern,
    Resolver,
    Since,
    Test,
    Within,
    all_parts,
)
from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.key_constants import is_collation_of
from slabrow.core.sql.operators import NEGATED, OPERATORS, TURNED
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind


@dataclass(frozen=True, slots=True)
class Reading:
    """Reads expressions for one place at which a statement names the table.

    is_own     the column of this place that a name means, or None
    may_be_own whether a name that is not `is_own` may still be of this place
    may_be_unknown  whether what is parsed as IS NULL may be written IS UNKNOWN, which prunes from PostgreSQL 18 on
    """

    is_own: Resolver
    may_be_own: Callable[[exp.Column], bool]
    may_be_unknown: bool = False

    def read(self, node: Any, negated: bool = False) -> Pattern:
        """A condition as written, or its negation (negate_clause: operators turn into their negators)."""
        while isinstance(node, exp.Paren):
            node = node.this
        if isinstance(node, Agree):
            agreeing = Agreeing(column_of_type(node.args["type_name"]), tuple(node.expressions))
            version = node.args.get("version")
            return agreeing if version is None else Since(version, agreeing, Anything())
        if not isinstance(node, exp.And | exp.Or | exp.Not) and not columns_in(node) and node.find(exp.Query) is None:
            return Always(node, negated)
        if node.args.get("negate") and not isinstance(node, exp.Is):
            return self._unused(node, Reason.NEGATION)
        match node:
            case exp.Not():
                return self.read(node.this, not negated)
            case exp.And() | exp.Or():
                parts = tuple(self.read(part, negated) for part in operands_of(node, type(node)))
                if isinstance(node, exp.And) is not negated:
                    return AllOf(parts)
                return factored(parts, node.sql("postgres"))
            case exp.Between():
                return self._between(node, negated)
            case exp.ArrayContainedBy() | exp.ArrayContainsAll() if not negated:
                return self._within(node)
            case exp.In():
                return self._in(node, negated)
            case exp.Is():
                return self._is(node, negated)
            case _ if type(node) in OPERATORS and (found := array_of(node.expression)) is not None:
                return self._any_array(node, *found, negated)
            case _ if type(node) in OPERATORS:
                operator = OPERATORS[type(node)]
                return self._compared(node.left, NEGATED[operator] if negated else operator, node.right, node)
            case exp.Column():
                own = self.is_own(node)
                if own is None or own.kind is not Kind.BOOL:
                    return self._unused(node, Reason.NOT_UNDERSTOOD)
                return Test(own, "=", exp.Boolean(this=not negated), node.sql("postgres"))
            case exp.Boolean() | exp.Null():
                return Always(node, negated)
            case exp.Like() | exp.ILike() | exp.RegexpLike() | exp.RegexpILike() | exp.SimilarTo():
                return self._unused(node, Reason.PATTERN_MATCH)
            case _:
                return self._unused(node, Reason.NOT_UNDERSTOOD)

    def _between(self, node: exp.Between, negated: bool) -> Pattern:
        def within(low: Any, high: Any) -> Pattern:
            one, other = ("<", ">") if negated else (">=", "<=")
            parts = (self._compared(node.this, one, low, node), self._compared(node.this, other, high, node))
            return AnyOf(parts) if negated else AllOf(parts)

        low, high = node.args["low"], node.args["high"]
        if not node.args.get("symmetric"):
            return within(low, high)
        both = (within(low, high), within(high, low))
        return AllOf(both) if negated else AnyOf(both)

    def _within(self, node: exp.Expression) -> Pattern:
        inner, outer = node.args["this"], node.args["expression"]
        if isinstance(node, exp.ArrayContainsAll):
            inner, outer = outer, inner
        own, unused = self._own(inner), self._unused(node, Reason.FUNCTION_ON_KEY)
        if own is None or self._has_columns(outer):
            return unused
        return Since(18, Within(own, outer, node.sql("postgres")), unused)

    def _in(self, node: exp.In, negated: bool) -> Pattern:
        if node.args.get("query") or not node.expressions:
            own = None if negated else self._own(node.this)
            return Test(own, "=", None, node.sql("postgres")) if own else self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(node.expressions[0], exp.Values):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if node.args.get("of_values"):
            own, unused = self._own(node.this), self._unused(node, Reason.NOT_UNDERSTOOD)
            if own is None:
                return unused
            return Since(18, InList(own, tuple(node.expressions), False, node.sql("postgres")), unused)
        if len(node.expressions) == 1:
            return self._compared(node.this, "<>" if negated else "=", node.expressions[0], node)
        if isinstance(bare(node.this), exp.Tuple):
            rows = tuple(self._compared(node.this, "=", each, node) for each in node.expressions)
            return self._unused(node, Reason.NEGATION) if negated else factored(rows)
        own = self._own(node.this)
        if own is None or any(map(self._has_columns, node.expressions)):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        operator = "<>" if negated else "="
        return InList(
            column=own,
            values=tuple(node.expressions),
            is_array=False,
            fragment=node.sql("postgres"),
            is_negated=negated,
            operator=operator,
            is_every=negated,
        )

    def _any_array(self, node: exp.Expression, array: Any, is_every: bool, negated: bool) -> Pattern:
        """`operator ANY (array)` and `operator ALL (array)`; NOT turns both."""
        own, array, operator = self._own(node.this), bare(array), OPERATORS[type(node)]
        if negated:
            operator, is_every = NEGATED[operator], not is_every
        if own is None or self._has_columns(array):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(array, exp.Select | exp.Subquery):
            if is_every or operator != "=":
                return self._unused(node, Reason.NEGATION)
            return Test(own, "=", None, node.sql("postgres"))
        is_negated = operator == "<>" and is_every
        if isinstance(array, exp.Array):
            return InList(
                column=own,
                values=tuple(array.expressions),
                is_array=False,
                fragment=node.sql("postgres"),
                is_negated=is_negated,
                operator=operator,
                is_every=is_every,
                is_constructed=True,
            )
        return InList(
            column=own,
            values=(array,),
            is_array=True,
            fragment=node.sql("postgres"),
            is_negated=is_negated,
            operator=operator,
            is_every=is_every,
        )

    def _is(self, node: exp.Is, negated: bool) -> Pattern:
        own = self._own(node.this)
        negated = negated is not bool(node.args.get("negate"))
        if own is None:
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(node.expression, exp.Null) and self.may_be_unknown and own.kind is Kind.BOOL:
            return Since(18, NullTest(own.name or "", not negated), self._unused(node, Reason.NOT_UNDERSTOOD))
        if isinstance(node.expression, exp.Null):
            return NullTest(own.name or "", not negated)
        # IS NOT TRUE also holds for NULL, which the server's versions treat differently: every home is kept.
        if isinstance(node.expression, exp.Boolean) and own.kind is Kind.BOOL and not negated:
            return Test(own, "=", node.expression, node.sql("postgres"))
        if isinstance(node.expression, exp.Boolean) and own.kind is Kind.BOOL:
            other = Test(own, "=", exp.Boolean(this=not node.expression.this), node.sql("postgres"))
            either = AnyOf((other, NullTest(own.name or "", True)))
            return Since(18, either, self._unused(node, Reason.NEGATION))
        return self._unused(node, Reason.NEGATION)

    def _compared(self, left: Any, operator: str, right: Any, node: exp.Expression) -> Pattern:
        left, right = as_tuple(bare(left)), as_tuple(bare(right))
        if isinstance(left, exp.Tuple) and isinstance(right, exp.Tuple):
            if operator == "=" and len(left.expressions) == len(right.expressions) and len(left.expressions):
                pairs = zip(left.expressions, right.expressions, strict=True)
                return AllOf(tuple(self._compared(one, "=", other, node) for one, other in pairs))
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        own, value = self._own(left), right
        if operator in ("=", "<>") and isinstance(left, exp.Boolean) is not isinstance(right, exp.Boolean):
            # `condition = true` is the condition itself (simplify_boolean_equality, clauses.c).
            truth, condition = (left, right) if isinstance(left, exp.Boolean) else (right, left)
            if isinstance(condition, exp.Condition) and not isinstance(condition, exp.Column | exp.Literal | exp.Cast):
                return self.read(condition, bool(truth.this) is (operator == "<>"))
        if own is None:
            own, value, operator = self._own(right), left, TURNED[operator]
        if own is None:
            if not self._has_columns(left) and not self._has_columns(right):
                return Always(node, False) if node.find(exp.Query) is None else Anything()
            return self._unused(node, self._why(left, right))
        if isinstance(value, exp.Select | exp.Subquery):
            return Test(own, operator, None, node.sql("postgres"))
        columns = columns_in(value)
        if columns:
            foreign = not any(self.is_own(each) or self.may_be_own(each) for each in columns)
            if foreign:
                return Test(own, operator, None, node.sql("postgres"))
            return self._unused(node, Reason.ARITHMETIC_ON_KEY, own)
        return Test(own, operator, value, node.sql("postgres"))

    def _own(self, node: Any) -> KeyColumn | None:
        """The column of this place that an expression is, also where it is cast to its own type or collation."""
        node = bare(node)
        if isinstance(node, exp.Cast) and isinstance(node.to, exp.DataType):
            own = self._own(node.this)
            return own if own is not None and _is_type_of(node.to, own) else None
        if isinstance(node, exp.Collate):
            own = self._own(node.this)
            return own if own is not None and is_collation_of(node, own) else None
        return self.is_own(node) if isinstance(node, exp.Column) else None

    @staticmethod
    def _has_columns(node: Any) -> bool:
        return isinstance(node, exp.Expression) and bool(columns_in(node))

    def _why(self, left: Any, right: Any) -> Reason:
        for side in (left, right):
            if isinstance(side, exp.Add | exp.Sub | exp.Mul | exp.Div) and any(map(self.is_own, columns_in(side))):
                return Reason.ARITHMETIC_ON_KEY
        return Reason.FUNCTION_ON_KEY

    def _unused(self, node: exp.Expression, reason: Reason, own: KeyColumn | None = None) -> Anything:
        found = own or next((each for each in map(self.is_own, columns_in(node)) if each is not None), None)
        return Anything(reason if found else None, node.sql("postgres"), found.name if found else None)


def _is_type_of(to: exp.DataType, column: KeyColumn) -> bool:
    """Whether a cast to this type leaves a key of the column as it is, for the server too (RelabelType)."""
    if to.expressions:
        return False
    try:
        name = to.sql("postgres").lower()
    except ValueError:
        return False
    own = column.type_name.partition("(")[0] if column.type_name.startswith("character varying") else column.type_name
    spelled = _TYPE_NAMES.get(name, name)
    texts = ("text", "character varying")
    return spelled == own or (spelled in texts and own in texts)


_TYPE_NAMES = {
    "int": "integer", "int4": "integer", "int8": "bigint", "int2": "smallint", "decimal": "numeric",
    "timestamptz": "timestamp with time zone", "timestamp": "timestamp without time zone",
    "varchar": "character varying", "double precision": "double precision", "float8": "double precision",
    "real": "real", "bool": "boolean",
}  # fmt: skip


def array_of(node: Any) -> tuple[Any, bool] | None:
    """Of `ANY (array)`, `SOME (array)` and `ALL (array)` the array, and whether it is ALL; None for another operand."""
    if isinstance(node, exp.Any):
        return node.this, False
    if isinstance(node, exp.All):
        return node.this, True
    if isinstance(node, exp.Anonymous) and len(node.expressions) == 1:
        word = str(node.this).upper()
        return (node.expressions[0], word == "ALL") if word in ("ALL", "SOME", "ANY") else None
    return None


def bare(node: Any) -> Any:
    """An expression without the parentheses around it."""
    while isinstance(node, exp.Paren):
        node = node.this
    return node


def as_tuple(node: Any) -> Any:
    """ROW(a, b) as (a, b)."""
    if isinstance(node, exp.Anonymous) and str(node.this).upper() == "ROW":
        return exp.Tuple(expressions=[each.copy() for each in node.expressions])
    return node


def operands_of(node: Any, kind: type[exp.Expression]) -> list[Any]:
    """The operands of a chain of ANDs or of ORs, however deep: machines write chains of thousands."""
    found: list[Any] = []
    waiting = [node]
    while waiting:
        each = bare(waiting.pop())
        if type(each) is kind:
            waiting += [each.args["expression"], each.this]
        else:
            found.append(each)
    return found


def columns_in(node: exp.Expression) -> list[exp.Column]:
    """Every column that an expression names."""
    return [] if isinstance(node, exp.Literal) else list(node.find_all(exp.Column))


def factored(arms: Sequence[Pattern], fragment: str = "") -> Pattern:
    """OR, with what all arms share taken out before it, as find_duplicate_ors does (prepqual.c).

    The server loses by it: (k = 1 AND l = 2) OR (k = 1 AND l = 3) finds no part of a hash of (k, l).
    """
    split = [all_parts(arm) for arm in arms]
    common = [part for part in split[0] if all(part in parts for parts in split[1:])] if len(split) > 1 else []
    if not common:
        return AnyOf(tuple(arms), fragment)
    rest = [tuple(part for part in parts if part not in common) for parts in split]
    if not all(rest):
        return AllOf(tuple(common))
    return AllOf((*common, AnyOf(tuple(parts[0] if len(parts) == 1 else AllOf(parts) for parts in rest), fragment)))
