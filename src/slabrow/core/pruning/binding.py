"""Conditions with their constants worked out: what the pruner takes.

One shape of a statement runs with many values: it is read once into patterns (conditions.py), and bound for each
run."""

from decimal import Decimal
from typing import Any, assert_never

from sqlglot import exp

from slabrow.core.pruning.conditions import bare
from slabrow.core.pruning.contradictions import conjuncts_of
from slabrow.core.pruning.key_conditions import (
    NOTHING,
    All,
    Among,
    Any_,
    Anything,
    Condition,
    KeyComparison,
    NamedLeaves,
    NotAmong,
    NullTest,
)
from slabrow.core.pruning.patterns import Agreeing, AllOf, Always, AnyOf, InList, Pattern, Since, Test, Within
from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.constant_values import Constant, NotKnown, Null, Surroundings, Unread
from slabrow.core.sql.constants import evaluate
from slabrow.core.sql.key_constants import answered_key, as_key, asked_sql, key_array, key_value
from slabrow.core.sql.operators import OPERATORS, holds
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, Opaque, Value, is_of, midnight_of, order, spell


def truth(node: Any, around: Surroundings) -> bool | Null | None:
    """The truth of a condition without columns, as far as it is known while planning. None: not known then, or not
    here.
    """
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
        return holds(values[0], OPERATORS[type(node)], values[1])
    if both_unread and isinstance(node, exp.EQ | exp.NEQ):
        return (values[0] == values[1]) is isinstance(node, exp.EQ)
    return None


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
        case NullTest() | Anything() | NamedLeaves():
            return pattern
        case _:
            assert_never(pattern)


def _merged(parts: list[Condition]) -> list[Condition]:
    """Several equalities of one column form one equivalence class, and the server searches with only one of them.

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
    """A condition on a range type as the two comparisons into which the server turns it."""
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
        return bool(order((midnight_of(one),)) != order((midnight_of(other),)))
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
    """The values of the list, each with the moment at which the server knows it. Raises NotKnown where one of them is
    not.
    """
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
        return Anything(is_empty=bool(values) and when is When.PLAN)
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
