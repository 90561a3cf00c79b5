"""Conditions of a statement on the columns of one table: read once from the parsed SQL, then bound to values.

Reading and binding are apart, because one shape of a statement runs with many values: `read` follows the structure
(AND, OR, NOT, IN, BETWEEN, rows), `bind` works out what the constants in it are worth (core/constants.py).
Which comparisons the server can use is said in the PostgreSQL manual, 5.12.4 Partition Pruning, and was measured.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from typing import Any, assert_never

from sqlglot import exp

from slabrow.core.constants import Constant, NotKnown, Null, Surroundings, Unread, as_key, evaluate
from slabrow.core.keys import Kind, Value, is_of, order
from slabrow.core.keysets import NOTHING, All, Among, Any_, Anything, Compared, Condition, NotAmong, NullTest, When
from slabrow.core.reasons import Reason
from slabrow.core.tree import KeyColumn

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
    """`column IN (…)`, `NOT IN (…)` or `column = ANY (array)`; is_array: the one value is an array."""

    column: KeyColumn
    values: tuple[exp.Expression, ...]
    is_array: bool
    fragment: str
    is_negated: bool = False


@dataclass(frozen=True, slots=True)
class Always:
    """A condition without columns. is_negated: NOT stands before it."""

    value: exp.Expression
    is_negated: bool = False


@dataclass(frozen=True, slots=True)
class AllOf:
    parts: tuple["Pattern", ...]


@dataclass(frozen=True, slots=True)
class AnyOf:
    parts: tuple["Pattern", ...]
    fragment: str = field(default="", compare=False)


Pattern = Test | InList | NullTest | Always | AllOf | AnyOf | Anything
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
            case exp.In():
                return self._in(node, negated)
            case exp.Is():
                return self._is(node, negated)
            case exp.EQ(expression=exp.Any() as any_) if not negated:
                return self._any_array(node, any_.this, False)
            case exp.NEQ(expression=exp.Anonymous() as all_) if not negated and _is_all(all_):
                return self._any_array(node, all_.expressions[0], True)
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

    def _in(self, node: exp.In, negated: bool) -> Pattern:
        if node.args.get("query") or not node.expressions:
            own = None if negated else self._own(node.this)
            return Test(own, "=", None, node.sql("postgres")) if own else self._unused(node, Reason.NOT_UNDERSTOOD)
        if len(node.expressions) == 1:
            return self._compared(node.this, "<>" if negated else "=", node.expressions[0], node)
        if isinstance(bare(node.this), exp.Tuple):
            rows = tuple(self._compared(node.this, "=", each, node) for each in node.expressions)
            return self._unused(node, Reason.NEGATION) if negated else _factored(rows)
        own = self._own(node.this)
        if own is None or any(map(self._has_columns, node.expressions)):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        return InList(own, tuple(node.expressions), False, node.sql("postgres"), negated)

    def _any_array(self, node: exp.Expression, array: Any, negated: bool) -> Pattern:
        """`= ANY (array)`, or `<> ALL (array)` as its negation."""
        own, array = self._own(node.this), bare(array)
        if own is None or self._has_columns(array):
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(array, exp.Select | exp.Subquery):
            if negated:
                return self._unused(node, Reason.NEGATION)
            return Test(own, "=", None, node.sql("postgres"))
        if isinstance(array, exp.Array):
            return InList(own, tuple(array.expressions), False, node.sql("postgres"), negated)
        return InList(own, (array,), True, node.sql("postgres"), negated)

    def _is(self, node: exp.Is, negated: bool) -> Pattern:
        own = self._own(node.this)
        negated = negated is not bool(node.args.get("negate"))
        if own is None:
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(node.expression, exp.Null) and self.may_be_unknown and own.kind is Kind.BOOL:
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        if isinstance(node.expression, exp.Null):
            return NullTest(own.name or "", not negated)
        # IS NOT TRUE also holds for NULL, which the server's versions treat differently: every home is kept.
        if isinstance(node.expression, exp.Boolean) and own.kind is Kind.BOOL and not negated:
            return Test(own, "=", node.expression, node.sql("postgres"))
        return self._unused(node, Reason.NEGATION)

    def _compared(self, left: Any, operator: str, right: Any, node: exp.Expression) -> Pattern:
        left, right = bare(left), bare(right)
        if isinstance(left, exp.Tuple) and isinstance(right, exp.Tuple):
            if operator == "=" and len(left.expressions) == len(right.expressions):
                pairs = zip(left.expressions, right.expressions, strict=True)
                return AllOf(tuple(self._compared(one, "=", other, node) for one, other in pairs))
            return self._unused(node, Reason.NOT_UNDERSTOOD)
        own, value = self._own(left), right
        if own is None:
            own, value, operator = self._own(right), left, _TURNED[operator]
        if own is None:
            if not self._has_columns(left) and not self._has_columns(right):
                return Anything()  # a condition on constants alone, which is not worked out here
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
        node = bare(node)
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


def _is_all(node: exp.Anonymous) -> bool:
    return str(node.this).upper() == "ALL" and len(node.expressions) == 1


def bare(node: Any) -> Any:
    """An expression without the parentheses around it."""
    while isinstance(node, exp.Paren):
        node = node.this
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


def _factored(arms: Sequence[Pattern], fragment: str = "") -> Pattern:
    """OR, with what all arms share taken out before it, as find_duplicate_ors does (prepqual.c).

    The server loses by it: (k = 1 AND l = 2) OR (k = 1 AND l = 3) finds no part of a hash of (k, l).
    """
    split = [arm.parts if isinstance(arm, AllOf) else (arm,) for arm in arms]
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
            if isinstance(value, exp.Null) or bool(value.this) is negated:
                return NOTHING
            return Anything()
        case NullTest() | Anything():
            return pattern
        case _:
            assert_never(pattern)


def _merged(parts: list[Condition]) -> list[Condition]:
    """Several equalities of one column stand in one equivalence class, and the server searches with one of them.

    It does not say with which when they are not all known while planning, so here any of them may be the one.
    """
    equal: dict[str, list[Compared]] = {}
    for part in parts:
        if isinstance(part, Compared) and part.operator == "=" and part.when is not When.RUN:
            equal.setdefault(part.column, []).append(part)
    doubtful = {
        column
        for column, tests in equal.items()
        if len(tests) > 1 and any(test.when is not When.PLAN for test in tests)
    }
    if not doubtful:
        return parts
    kept: list[Condition] = [
        part for part in parts if not (isinstance(part, Compared) and part.operator == "=" and part.column in doubtful)
    ]
    return [*kept, *(Any_(tuple(equal[column])) for column in sorted(doubtful))]


def _bound_test(test: Test, around: Surroundings) -> Condition:
    name = test.column.name or ""
    if test.value is None:
        return Compared(name, test.operator, None, When.RUN, test.fragment)
    try:
        value, when = as_key(evaluate(test.value, around), test.column.kind, test.column.type_name, around)
    except NotKnown as error:
        reason = Reason.VOLATILE_VALUE if error.is_volatile else Reason.TYPE_MISMATCH
        return Anything(reason, test.fragment, name)
    if isinstance(value, Null):
        return NOTHING
    if isinstance(value, bool) and test.operator == "<>" and when is When.PLAN:
        return Compared(name, "=", not value, when, test.fragment)  # made `NOT k`, or `k` (clauses.c)
    return Compared(name, test.operator, value, when, test.fragment)


def _bound_list(test: InList, around: Surroundings) -> Condition:
    name = test.column.name or ""
    values: list[Value] = []
    latest = When.PLAN
    try:
        if test.is_array:
            elements, latest = _elements(test.values[0], around)
        else:
            elements = [evaluate(each, around) for each in test.values]
        # A list has one type: a literal beside a date is read as a date, whatever the column is.
        if len({isinstance(element.value, Unread) for element in elements}) > 1:
            for element in elements:
                if not isinstance(element.value, Unread | Null) and not is_of(element.value, test.column.kind):
                    raise NotKnown
        for element in elements:
            value, when = as_key(element, test.column.kind, test.column.type_name, around)
            latest = max(latest, when)
            if isinstance(value, Null):
                if test.is_negated:
                    return NOTHING
                continue
            if value is None:
                return Anything(Reason.KNOWN_ONLY_RUNNING, test.fragment, name)
            values.append(value)
        if elements and not values and not test.is_negated:
            return Anything(Reason.TYPE_MISMATCH, test.fragment, name)  # nothing but NULLs, in one version or another
    except NotKnown as error:
        # One value that cannot be used spoils the list.
        return Anything(Reason.VOLATILE_VALUE if error.is_volatile else Reason.TYPE_MISMATCH, test.fragment, name)
    if test.is_negated:
        return NotAmong(name, tuple(values), latest, test.fragment)
    return Among(name, tuple(values), latest, test.fragment) if values else NOTHING


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


def is_contradiction(condition: Condition, not_null: frozenset[str]) -> bool:
    """Whether constants in a condition exclude each other, on the key or on any other column.

    The server sees it by refuting the clauses of a partition with themselves and with NOT NULL
    (relation_excluded_by_constraints, plancat.c; predicate_refuted_by_recurse, predtest.c).
    """
    clauses = conjuncts_of(condition)
    if any(isinstance(part, NullTest) and part.is_null and part.column in not_null for part in clauses):
        return True
    if any(part == NOTHING for part in clauses):
        return True
    usable = [part for part in clauses if _is_constant(part)]
    if sum(map(_size, usable)) > _MOST_REFUTED:
        usable = [part for part in usable if _size(part) <= _LONGEST_REFUTED][:_LONGEST_REFUTED]
    return any(_refutes(one, other) for one in usable for other in usable)


_LONGEST_REFUTED = 100  # MAX_SAOP_ARRAY_SIZE, predtest.c
_MOST_REFUTED = 400  # beyond that only the short ones are looked at


def _is_constant(condition: Condition) -> bool:
    """Whether all of it is known while planning: a clause with anything else in it is not looked at as a whole."""
    match condition:
        case All(parts) | Any_(parts):
            return all(map(_is_constant, parts))
        case Compared(when=when) | Among(when=when) | NotAmong(when=when):
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
            return "any", [Compared(column, "=", value) for value in values]
        case NotAmong(column, values, When.PLAN) if len(values) <= _LONGEST_REFUTED and not _has_bool(values):
            return "all", [Compared(column, "<>", value) for value in values]
        case _:
            return "one", (condition,)


def _has_bool(values: Sequence[Value]) -> bool:
    return any(isinstance(value, bool) for value in values)


def _refutes(clause: Condition, other: Condition) -> bool:
    """Whether one condition shows that the other does not hold, by the server's rules for AND and OR."""
    how, parts = _arms(clause)
    other_how, other_parts = _arms(other)
    if other_how == "any":
        return all(_refutes(clause, part) for part in other_parts)
    if how == "all":
        return any(_refutes(part, other) for part in parts) or (
            other_how == "all" and any(_refutes(clause, part) for part in other_parts)
        )
    if how == "any":
        return all(_refutes(part, other) for part in parts)
    if other_how == "all":
        return any(_refutes(clause, part) for part in other_parts)
    return _exclude(clause, other) or _exclude(other, clause)


def _exclude(one: Condition, other: Condition) -> bool:
    """Of two comparisons of one column. A comparison is strict: it does not hold for NULL."""
    if isinstance(other, NullTest) and other.is_null:
        match one:
            case NullTest(column, False):
                return column == other.column
            case Compared(column, _, value, When.PLAN):
                return column == other.column and value is not None
            case Among(column, _, When.PLAN) | NotAmong(column, _, When.PLAN):
                return column == other.column
        return False
    if not isinstance(one, Compared) or not isinstance(other, Compared) or one.column != other.column:
        return False
    if one.when is not When.PLAN or other.when is not When.PLAN or one.value is None or other.value is None:
        return False
    # `k = true` is made `k`: an expression of its own, which only NOT k refutes.
    is_bool = isinstance(one.value, bool) and "=" in (one.operator, other.operator)
    if isinstance(one.value, str) or is_bool:
        return one.operator == "=" == other.operator and one.value != other.value
    low_value, high_value = _as_moment(one.value), _as_moment(other.value)
    if isinstance(low_value, datetime) and isinstance(high_value, datetime):
        if (low_value.tzinfo is None) is not (high_value.tzinfo is None):
            return False  # the session's time zone decides, as execution starts
    elif type(low_value) is not type(high_value) and isinstance(low_value, str) is not isinstance(high_value, str):
        return False
    try:
        low, high = order((low_value,)), order((high_value,))
        match one.operator, other.operator:
            case "=", "=":
                return low != high
            case "=", "<" | ">=" | "<=" | ">" | "<>":
                return not _holds(low, other.operator, high)
            case ">" | ">=", "<" | "<=":
                return high < low or (high == low and (one.operator, other.operator) != (">=", "<="))
    except TypeError:
        pass
    return False


def _as_moment(value: Value) -> Value:
    """A day as its midnight, so that it compares with an hour."""
    return datetime.combine(value, time()) if type(value) is date else value


def _holds(one: Any, operator: str, other: Any) -> bool:
    return bool(
        {"<": one < other, "<=": one <= other, ">": one > other, ">=": one >= other, "<>": one != other}[operator]
    )
