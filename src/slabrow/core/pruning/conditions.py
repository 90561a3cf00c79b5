"""Conditions of a statement on the columns of one table: read once from the parsed SQL, then bound to values.

Reading and binding are apart, because one shape of a statement runs with many values: `read` follows the structure
(AND, OR, NOT, IN, BETWEEN, rows), `bind` works out what the constants in it are worth (core/sql/constants.py).
Which comparisons the server can use is said in the PostgreSQL manual, 5.12.4 Partition Pruning, and was measured.
"""

import operator as operator_module
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any, assert_never

from sqlglot import exp

from slabrow.core.pruning.agreement import Agree, column_of_type
from slabrow.core.pruning.pruner import (
    NOTHING,
    All,
    Among,
    Any_,
    Anything,
    Condition,
    KeyComparison,
    NotAmong,
    NullTest,
)
from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.constants import (
    Constant,
    NotKnown,
    Null,
    Surroundings,
    Unread,
    answered_key,
    as_key,
    asked_sql,
    evaluate,
    is_collation_of,
    key_array,
    key_value,
)
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, Opaque, Value, is_of, order, spell

OPERATORS: dict[type[exp.Expression], str] = {exp.EQ: "=", exp.NEQ: "<>", exp.LT: "<", exp.LTE: "<=", exp.GT: ">",
                                             exp.GTE: ">="}  # fmt: skip
_TURNED = {"=": "=", "<>": "<>", "<": ">", "<=": ">=", ">": "<", ">=": "<="}
_NEGATED = {"=": "<>", "<>": "=", "<": ">=", "<=": ">", ">": "<=", ">=": "<"}


@dataclass(frozen=True, slots=True)
class Test:
    """`column operator expression`, not yet worked out. value None: another table or a sub-query supplies it."""

    column: KeyColumn
    operator: str
    value: exp.Expression | None
    fragment: str


@dataclass(frozen=True, slots=True)
class InList:
    """`column IN (…)`, `NOT IN (…)` or `column operator ANY (array)`; is_array: the one value is an array.

    is_negated      NOT IN, or `<> ALL`
    operator        as in Test
    is_every        ALL instead of ANY
    is_constructed  the values stand in ARRAY[…], which has a type of its own: of bare literals that is text
    """

    column: KeyColumn
    values: tuple[exp.Expression, ...]
    is_array: bool
    fragment: str
    is_negated: bool = False
    operator: str = "="
    is_every: bool = False
    is_constructed: bool = False


@dataclass(frozen=True, slots=True)
class Always:
    """A condition without columns. is_negated: NOT stands before it."""

    value: exp.Expression
    is_negated: bool = False


@dataclass(frozen=True, slots=True)
class Within:
    """`column <@ range`, of a range that is known while planning (range_contained_by_elem_support, rangetypes.c)."""

    column: KeyColumn
    value: exp.Expression
    fragment: str


@dataclass(frozen=True, slots=True)
class Agreeing:
    """These expressions are equal, as values of a column: see core/pruning/agreement.py."""

    column: KeyColumn
    values: tuple[exp.Expression, ...]


@dataclass(frozen=True, slots=True)
class Since:
    """What servers of this major version or a newer one can use; older ones keep every leaf."""

    version: int
    pattern: "Pattern"
    otherwise: Anything


@dataclass(frozen=True, slots=True)
class AllOf:
    parts: tuple["Pattern", ...]


@dataclass(frozen=True, slots=True)
class AnyOf:
    parts: tuple["Pattern", ...]
    fragment: str = field(default="", compare=False)


Pattern = Test | InList | NullTest | Always | Within | Agreeing | Since | AllOf | AnyOf | Anything
Resolver = Callable[[exp.Column], KeyColumn | None]  # the column of the table asked about; None: of another


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
                parts = tuple(self.read(part, negated) for part in _operands(node, type(node)))
                if isinstance(node, exp.And) is not negated:
                    return AllOf(parts)
                return _factored(parts, node.sql("postgres"))
            case exp.Between():
                return self._between(node, negated)
            case exp.ArrayContainedBy() | exp.ArrayContainsAll() if not negated:
                return self._within(node)
            case exp.In():
                return self._in(node, negated)
            case exp.Is():
                return self._is(node, negated)
            case _ if type(node) in OPERATORS and (found := _array_of(node.expression)) is not None:
                return self._any_array(node, *found, negated)
            case _ if type(node) in OPERATORS:
                operator = OPERATORS[type(node)]
                return self._compared(node.left, _NEGATED[operator] if negated else operator, node.right, node)
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
            return self._unused(node, Reason.NEGATION) if negated else _factored(rows)
        own = self._own(node.this)
        if own is None or any(map(self._has_columns, node.expressions)):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        operator = "<>" if negated else "="
        return InList(own, tuple(node.expressions), False, node.sql("postgres"), negated, operator, negated)

    def _any_array(self, node: exp.Expression, array: Any, is_every: bool, negated: bool) -> Pattern:
        """`operator ANY (array)` and `operator ALL (array)`; NOT turns both."""
        own, array, operator = self._own(node.this), bare(array), OPERATORS[type(node)]
        if negated:
            operator, is_every = _NEGATED[operator], not is_every
        if own is None or self._has_columns(array):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(array, exp.Select | exp.Subquery):
            if is_every or operator != "=":
                return self._unused(node, Reason.NEGATION)
            return Test(own, "=", None, node.sql("postgres"))
        is_negated = operator == "<>" and is_every
        if isinstance(array, exp.Array):
            return InList(
                own, tuple(array.expressions), False, node.sql("postgres"), is_negated, operator, is_every, True
            )
        return InList(own, (array,), True, node.sql("postgres"), is_negated, operator, is_every)

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
        left, right = _as_tuple(bare(left)), _as_tuple(bare(right))
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
            own, value, operator = self._own(right), left, _TURNED[operator]
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


def _array_of(node: Any) -> tuple[Any, bool] | None:
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


def truth(node: Any, around: Surroundings) -> bool | Null | None:
    """What a condition without columns is worth while planning. None: not known then, or not here."""
    node = bare(node)
    match node:
        case exp.Boolean():
            return bool(node.this)
        case exp.Null():
            return Null()
        case exp.EQ() | exp.NEQ() | exp.LT() | exp.LTE() | exp.GT() | exp.GTE():
            found = _compared_constants(node, around)
            if found is not None:
                return found
    sql = None if around.answers is None else asked_sql(node, "boolean", around)
    answer = None if sql is None or around.answers is None else around.answers.constant(sql)
    if answer is None or answer.type_name != "boolean" or answer.when is not When.PLAN:
        return None
    return Null() if answer.text is None else answer.text in ("t", "true")


def _compared_constants(node: Any, around: Surroundings) -> bool | Null | None:
    try:
        one, other = evaluate(node.left, around), evaluate(node.right, around)
    except NotKnown:
        return None
    if one.when is not When.PLAN or other.when is not When.PLAN:
        return None
    if isinstance(one.value, Null) or isinstance(other.value, Null):
        return Null()
    values = [each.value.text if isinstance(each.value, Unread) else each.value for each in (one, other)]
    both_unread = isinstance(one.value, Unread) and isinstance(other.value, Unread)
    both_numbers = all(isinstance(value, int | Decimal) and not isinstance(value, bool) for value in values)
    if both_numbers:
        return _holds(values[0], OPERATORS[type(node)], values[1])
    if both_unread and isinstance(node, exp.EQ | exp.NEQ):
        return (values[0] == values[1]) is isinstance(node, exp.EQ)
    return None


def _as_tuple(node: Any) -> Any:
    """ROW(a, b) as (a, b)."""
    if isinstance(node, exp.Anonymous) and str(node.this).upper() == "ROW":
        return exp.Tuple(expressions=[each.copy() for each in node.expressions])
    return node


def _operands(node: Any, kind: type[exp.Expression]) -> list[Any]:
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


def _all_parts(pattern: Pattern) -> tuple[Pattern, ...]:
    """What AND joins, however nested."""
    if not isinstance(pattern, AllOf):
        return (pattern,)
    return tuple(part for each in pattern.parts for part in _all_parts(each))


def _factored(arms: Sequence[Pattern], fragment: str = "") -> Pattern:
    """OR, with what all arms share taken out before it, as find_duplicate_ors does (prepqual.c).

    The server loses by it: (k = 1 AND l = 2) OR (k = 1 AND l = 3) finds no part of a hash of (k, l).
    """
    split = [_all_parts(arm) for arm in arms]
    common = [part for part in split[0] if all(part in parts for parts in split[1:])] if len(split) > 1 else []
    if not common:
        return AnyOf(tuple(arms), fragment)
    rest = [tuple(part for part in parts if part not in common) for parts in split]
    if not all(rest):
        return AllOf(tuple(common))
    return AllOf((*common, AnyOf(tuple(parts[0] if len(parts) == 1 else AllOf(parts) for parts in rest), fragment)))


def bind(pattern: Pattern, around: Surroundings) -> Condition:
    """The condition with its constants worked out. What cannot be known becomes `Anything`, with the reason."""
    match pattern:
        case Test():
            return _bound_test(pattern, around)
        case InList():
            return _bound_list(pattern, around)
        case AllOf(parts):
            return All(tuple(_merged([each for part in parts for each in conjuncts_of(bind(part, around))])))
        case AnyOf(parts):
            arms = tuple(arm for arm in (bind(part, around) for part in parts) if arm != NOTHING)
            return Any_(arms, pattern.fragment)
        case Always(value, negated):
            match truth(value, around):
                case None:
                    return Anything()
                case Null():
                    return NOTHING
                case known:
                    return NOTHING if known is negated else Anything()
        case Within():
            return _bound_range(pattern, around)
        case Agreeing():
            return NOTHING if _disagree(pattern, around) else Anything()
        case Since(version, inner, otherwise):
            is_new = around.answers is not None and around.answers.version >= version
            return bind(inner, around) if is_new else otherwise
        case NullTest() | Anything():
            return pattern
        case _:
            assert_never(pattern)


def _merged(parts: list[Condition]) -> list[Condition]:
    """Several equalities of one column stand in one equivalence class, and the server searches with one of them.

    It does not say with which when they are not all known while planning, so here any of them may be the one.
    """
    equal: dict[str, list[KeyComparison]] = {}
    for part in parts:
        if isinstance(part, KeyComparison) and part.operator == "=" and part.when is not When.RUN:
            equal.setdefault(part.column, []).append(part)
    doubtful = {
        column
        for column, tests in equal.items()
        if len(tests) > 1 and any(test.when is not When.PLAN for test in tests)
    }
    if not doubtful:
        return parts
    kept: list[Condition] = [
        part
        for part in parts
        if not (isinstance(part, KeyComparison) and part.operator == "=" and part.column in doubtful)
    ]
    return [*kept, *(Any_(tuple(equal[column])) for column in sorted(doubtful))]


def _bound_test(test: Test, around: Surroundings) -> Condition:
    name = test.column.name or ""
    if test.value is None:
        return KeyComparison(name, test.operator, None, When.RUN, test.fragment)
    try:
        value, when = key_value(test.value, test.column, around)
    except NotKnown as error:
        reason = Reason.VOLATILE_VALUE if error.is_volatile else Reason.TYPE_MISMATCH
        return Anything(reason, test.fragment, name)
    if isinstance(value, Null):
        return NOTHING if when is When.PLAN else Anything(Reason.KNOWN_ONLY_RUNNING, test.fragment, name)
    if isinstance(value, bool) and test.operator == "<>" and when is When.PLAN:
        return KeyComparison(name, "=", not value, when, test.fragment)  # made `NOT k`, or `k` (clauses.c)
    return KeyComparison(name, test.operator, value, when, test.fragment)


def _bound_range(test: Within, around: Surroundings) -> Condition:
    """The two comparisons that the server makes of it."""
    name = test.column.name or ""
    unused = Anything(Reason.FUNCTION_ON_KEY, test.fragment, name)
    sql = asked_sql(test.value, "", around)
    if sql is None or around.answers is None or (isinstance(bare(test.value), exp.Literal)):
        return unused
    asked = [f"{function}({sql})" for function in ("isempty", "lower", "upper", "lower_inc", "upper_inc")]
    answers = [around.answers.constant(each) for each in asked]
    empty, low, high, low_in, high_in = answers
    if empty is None or low is None or high is None or low_in is None or high_in is None:
        return unused
    if any(each.when is not When.PLAN for each in (empty, low, high, low_in, high_in)):
        return unused
    if empty.text is None or empty.text.startswith("t"):
        return NOTHING
    tests: list[Condition] = []
    for end, answer, inclusive, exclusive, is_in in (
        ("lower", low, ">=", ">", low_in), ("upper", high, "<=", "<", high_in)
    ):  # fmt: skip
        if answer.text is None:
            continue
        try:
            value, when = answered_key(answer, test.column, around)
        except NotKnown:
            return unused
        if isinstance(value, Null):
            return unused
        is_included = (is_in.text or "").startswith("t")
        tests.append(
            KeyComparison(name, inclusive if is_included else exclusive, value, when, f"{end} of {test.fragment}")
        )
    return All(tuple(tests)) if tests else Anything()


def _disagree(pattern: Agreeing, around: Surroundings) -> bool:
    """Whether two of them differ, known as the server plans."""
    found: list[Value] = []
    for each in pattern.values:
        try:
            value, when = key_value(each, pattern.column, around)
        except NotKnown:
            continue
        if value is not None and not isinstance(value, Null) and when is When.PLAN:
            found.append(value)
    return any(_differ(one, other, pattern.column, around) for one in found for other in found)


def _differ(one: Value, other: Value, column: KeyColumn, around: Surroundings) -> bool:
    if isinstance(one, Opaque) or isinstance(other, Opaque):
        if around.answers is None:
            return False
        order_ = (column.bare_type, column.collation or "")
        places = [around.answers.rank(order_, spell(value)) for value in (one, other)]
        return None not in places and places[0] != places[1]
    try:
        return bool(order((_as_moment(one),)) != order((_as_moment(other),)))
    except TypeError:
        return False


def _bound_list(test: InList, around: Surroundings) -> Condition:
    name = test.column.name or ""
    values: list[Value] = []
    latest, has_null = When.PLAN, False
    try:
        for value, when in _listed(test, around):
            latest = max(latest, when)
            if isinstance(value, Null):
                has_null = True
                continue
            if value is None:
                return Anything(Reason.KNOWN_ONLY_RUNNING, test.fragment, name)
            values.append(value)
    except NotKnown as error:
        # One value that cannot be used spoils the list.
        return Anything(Reason.VOLATILE_VALUE if error.is_volatile else Reason.TYPE_MISMATCH, test.fragment, name)
    if test.operator not in ("=", "<>"):
        return _each_of(test, values, latest, has_null)
    if test.is_negated and not values and not has_null:
        return Anything(Reason.TYPE_MISMATCH, test.fragment, name)
    if test.is_negated:
        return NotAmong(name, tuple(values), latest, test.fragment, has_null)
    if test.operator == "<>" or test.is_every:
        return _each_of(test, values, latest, has_null)
    if not values and (latest is not When.PLAN or _holds_only_null(test, has_null)):
        return Anything(Reason.TYPE_MISMATCH, test.fragment, name)
    if not values:
        return Anything(is_empty=True) if test.is_array else NOTHING
    return Among(name, tuple(values), latest, test.fragment)


def _holds_only_null(test: InList, has_null: bool) -> bool:
    """The server then has no element to look for, and keeps all; but IN of one value is a comparison with it."""
    return has_null and (test.is_array or len(test.values) > 1)


def _listed(test: InList, around: Surroundings) -> list[tuple[Value | Null | None, When]]:
    """What the list holds, each with when it is known. Raises NotKnown where one of them is not."""
    column = test.column
    if test.is_array:
        try:
            elements, latest = _elements(test.values[0], around)
            found = [as_key(each, column.kind, column.type_name, around) for each in elements]
            return [(value, max(when, latest)) for value, when in found]
        except NotKnown:
            return [(value, When.PLAN) for value in key_array(bare(test.values[0]), column, around)]
    # A list has one type: a literal beside a date is read as a date, whatever the column is.
    is_mixed = len({_is_unread(each) for each in test.values if not isinstance(bare(each), exp.Null)}) > 1
    if test.is_constructed and not _may_be_text(column) and all(map(_is_unread, test.values)):
        raise NotKnown
    listed = []
    for each in test.values:
        value, when = key_value(each, column, around)
        is_typed = not _is_unread(each) and value is not None and not isinstance(value, Null)
        if is_mixed and is_typed and not is_of(value, column.kind):
            raise NotKnown
        listed.append((value, when))
    return listed


def _each_of(test: InList, values: list[Value], when: When, has_null: bool) -> Condition:
    """`operator ANY (…)` or `operator ALL (…)`: each value is compared by itself (match_clause_to_partition_key)."""
    name = test.column.name or ""
    if test.is_every and has_null:
        return Anything(is_empty=bool(values))
    tests = tuple(KeyComparison(name, test.operator, value, when, test.fragment) for value in values)
    if not tests:  # of an empty array: ANY never holds, ALL always
        return Anything(is_empty=not test.is_every and not has_null)
    return Any_((All(tests),), test.fragment) if test.is_every else Any_(tests, test.fragment)


def _may_be_text(column: KeyColumn) -> bool:
    """Whether a key of this type is compared with a text as it is."""
    is_padded = column.type_name.startswith("character(") or column.type_name == "character"
    return (column.kind is Kind.TEXT and not is_padded) or column.type_name == "name"


def _is_unread(node: exp.Expression) -> bool:
    inner = bare(node)
    return isinstance(inner, exp.Literal) and bool(inner.is_string)


def _elements(node: exp.Expression, around: Surroundings) -> tuple[list[Constant], When]:
    """The elements of an array constant such as `'{1,2}'::int[]`, or of a parameter that is given one."""
    node = bare(node)
    if isinstance(node, exp.Cast):
        if node.to.this != exp.DataType.Type.ARRAY:
            raise NotKnown
        return _elements(node.this, around)
    if isinstance(node, exp.Array):
        return [evaluate(each, around) for each in node.expressions], When.PLAN
    if isinstance(node, exp.Parameter | exp.Placeholder):
        given = around.parameter(node)
        if given is None or around.is_generic:
            raise NotKnown  # in a generic plan an array is not looked into
        return _elements(given, around)
    if not isinstance(node, exp.Literal) or not node.is_string:
        raise NotKnown
    text = around.literal(node).strip()
    if not (text.startswith("{") and text.endswith("}")) or any(sign in text[1:-1] for sign in '{}"\\'):
        raise NotKnown
    inside = text[1:-1].split(",") if text[1:-1].strip() else []
    return [Constant(Null() if each.strip().upper() == "NULL" else Unread(each.strip())) for each in inside], When.PLAN


Ranks = Callable[[str, Value], int | str | None]  # the place of a value of a column among its other values


def unranked(_: str, __: Value) -> None:
    """No place is known but that of values whose order needs no server."""


def is_contradiction(condition: Condition, not_null: frozenset[str], rank: Ranks = unranked) -> bool:
    """Whether constants in a condition exclude each other, on the key or on any other column.

    The server sees it by refuting the clauses of a partition with themselves and with NOT NULL
    (relation_excluded_by_constraints, plancat.c; predicate_refuted_by_recurse, predtest.c).
    """
    clauses = conjuncts_of(condition)
    if any(isinstance(part, NullTest) and part.is_null and part.column in not_null for part in clauses):
        return True
    if any(part == NOTHING or (isinstance(part, Anything) and part.is_empty) for part in clauses):
        return True
    if any(isinstance(part, NotAmong) and part.has_null and part.values for part in clauses):
        return True
    usable = [part for part in clauses if _is_constant(part)]
    if sum(map(_size, usable)) > _MOST_REFUTED:
        usable = [part for part in usable if _size(part) <= _LONGEST_REFUTED][:_LONGEST_REFUTED]
    together = All(tuple(usable))
    return any(_refutes(together, each, rank) for each in usable)


_LONGEST_REFUTED = 100  # MAX_SAOP_ARRAY_SIZE, predtest.c
_MOST_REFUTED = 400  # beyond that only the short ones are looked at


def _is_constant(condition: Condition) -> bool:
    """Whether all of it is known while planning: a clause with anything else in it is not looked at as a whole."""
    match condition:
        case All(parts) | Any_(parts):
            return all(map(_is_constant, parts))
        case KeyComparison(when=when) | Among(when=when) | NotAmong(when=when):
            return when is When.PLAN
        case _:
            return isinstance(condition, NullTest)


def _size(condition: Condition) -> int:
    match condition:
        case All(parts) | Any_(parts):
            return sum(map(_size, parts))
        case Among(values=values) | NotAmong(values=values):
            return len(values)
        case _:
            return 1


def conjuncts_of(condition: Condition) -> list[Condition]:
    """The conditions that all have to hold, taken out of each other."""
    if isinstance(condition, All):
        return [part for each in condition.conditions for part in conjuncts_of(each)]
    return [condition]


def _arms(condition: Condition) -> tuple[str, Sequence[Condition]]:
    """What a condition consists of: all of its parts hold, any does, or it is one comparison."""
    match condition:
        case All(parts):
            return "all", parts
        case Any_(parts):
            return "any", parts
        case Among(column, values, When.PLAN) if len(values) <= _LONGEST_REFUTED and not _has_bool(values):
            return "any", [KeyComparison(column, "=", value) for value in values]
        case NotAmong(column, values, When.PLAN) if len(values) <= _LONGEST_REFUTED and not _has_bool(values):
            return "all", [KeyComparison(column, "<>", value) for value in values]
        case _:
            return "one", (condition,)


def _has_bool(values: Sequence[Value]) -> bool:
    return any(isinstance(value, bool) for value in values)


def _refutes(clause: Condition, other: Condition, rank: Ranks) -> bool:
    """Whether one condition shows that the other does not hold, by the server's rules for AND and OR."""
    how, parts = _arms(clause)
    other_how, other_parts = _arms(other)
    if other_how == "any":
        return all(_refutes(clause, part, rank) for part in other_parts)
    if how == "all":
        return any(_refutes(part, other, rank) for part in parts) or (
            other_how == "all" and any(_refutes(clause, part, rank) for part in other_parts)
        )
    if how == "any":
        return all(_refutes(part, other, rank) for part in parts)
    if other_how == "all":
        return any(_refutes(clause, part, rank) for part in other_parts)
    return _exclude(clause, other, rank) or _exclude(other, clause, rank)


def _exclude(one: Condition, other: Condition, rank: Ranks) -> bool:
    """Of two comparisons of one column. A comparison is strict: it does not hold for NULL."""
    if isinstance(other, NullTest) and other.is_null:
        match one:
            case NullTest(column, False):
                return column == other.column
            case KeyComparison(column, _, value, When.PLAN):
                return column == other.column and value is not None
            case Among(column, _, When.PLAN) | NotAmong(column, _, When.PLAN):
                return column == other.column
        return False
    if not isinstance(one, KeyComparison) or not isinstance(other, KeyComparison) or one.column != other.column:
        return False
    if one.when is not When.PLAN or other.when is not When.PLAN or one.value is None or other.value is None:
        return False
    # `k = true` is made `k`: an expression of its own, which only NOT k refutes.
    is_bool = isinstance(one.value, bool) and "=" in (one.operator, other.operator)
    if isinstance(one.value, str | Opaque) or is_bool:
        places = rank(one.column, one.value), rank(other.column, other.value)
        if None not in places and not is_bool:
            return _never_both(one.operator, places[0], other.operator, places[1])
        return one.operator == "=" == other.operator and one.value != other.value and not isinstance(one.value, Opaque)
    low_value, high_value = _as_moment(one.value), _as_moment(other.value)
    if isinstance(low_value, datetime) and isinstance(high_value, datetime):
        if (low_value.tzinfo is None) is not (high_value.tzinfo is None):
            return False  # the session's time zone decides, as execution starts
    elif type(low_value) is not type(high_value) and isinstance(low_value, str) is not isinstance(high_value, str):
        return False
    try:
        return _never_both(one.operator, order((low_value,)), other.operator, order((high_value,)))
    except TypeError:
        return False


def _never_both(operator: str, value: Any, other_operator: str, other_value: Any) -> bool:
    """Whether no value satisfies both comparisons."""
    match operator, other_operator:
        case "=", "=":
            return bool(value != other_value)
        case "=", "<" | ">=" | "<=" | ">" | "<>":
            return not _holds(value, other_operator, other_value)
        case ">" | ">=", "<" | "<=":
            return bool(other_value < value or (other_value == value and (operator, other_operator) != (">=", "<=")))
    return False


def _as_moment(value: Value) -> Value:
    """A day as its midnight, so that it compares with an hour."""
    return datetime.combine(value, time()) if type(value) is date else value


def _holds(one: Any, operator: str, other: Any) -> bool:
    return bool(_COMPARISONS[operator](one, other))


_COMPARISONS = {
    "=": operator_module.eq, "<>": operator_module.ne, "<": operator_module.lt, "<=": operator_module.le,
    ">": operator_module.gt, ">=": operator_module.ge,
}  # fmt: skip
