"""Works out the constants of a pattern, and fits each into the column that it is compared with.

As MariaDB does (Field::get_mm_leaf, sql/opt_range.cc): a value is stored into the column's type first, and where that
changes it, the sign is mended: `n < 99.5` of a whole number is `n <= 100`, `day = '2026-03-05 10:00'` is never true.
"""

import re
from datetime import UTC, date, datetime
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation
from typing import Any

from sqlglot import exp

from slabrow.core.pruning.by_constants.moments import moved, parse_moment
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
from slabrow.core.pruning.patterns import AllOf, Always, AnyOf, InList, Pattern, Test
from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.constant_values import NotKnown, Surroundings
from slabrow.core.sql.dialect import BACKQUOTED
from slabrow.core.sql.operators import OPERATORS, holds
from slabrow.core.sql.parsed import NUMBERED
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, Value

_NUMBER = re.compile(r"\s*[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d{1,3})?\s*")
_NUMBER_AHEAD = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d{1,2})?)")
_BITS = {"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "bigint": 64}
_NOW = ("NOW", "LOCALTIME", "LOCALTIMESTAMP")
VOLATILE = ("RAND", "SYSDATE", "UUID", "SLEEP", "LAST_INSERT_ID", "FOUND_ROWS", "GET_LOCK", "BENCHMARK", "NEXTVAL")


def bind(pattern: Pattern, around: Surroundings) -> Condition:
    """The condition with its constants worked out. What cannot be known becomes `Anything`, with the reason."""
    match pattern:
        case AllOf(parts):
            return All(tuple(bind(part, around) for part in parts))
        case AnyOf(parts):
            return Any_(
                tuple(arm for arm in (bind(part, around) for part in parts) if not is_nothing(arm)), pattern.fragment
            )
        case Test():
            return _bound_test(pattern, around)
        case InList():
            return _bound_list(pattern, around)
        case Always(value, negated):
            return _bound_always(value, negated, around)
        case NullTest() | Anything() | NamedLeaves():
            return pattern
    return Anything()


def is_nothing(condition: Condition) -> bool:
    """Whether no row can satisfy it, by its own words."""
    match condition:
        case Any_(parts):
            return not parts
        case All(parts):
            return any(map(is_nothing, parts))
        case _:
            return False


def _bound_always(node: exp.Expression, negated: bool, around: Surroundings) -> Condition:
    try:
        value = _truth(node, around)
    except NotKnown:
        return Anything()
    if value is None:
        return NOTHING
    return NOTHING if value is negated else Anything()


def _truth(node: exp.Expression, around: Surroundings) -> bool | None:
    sign = OPERATORS.get(type(node))
    if sign is not None:
        one, other = value_of(node.this, around), value_of(node.expression, around)
        if one is None or other is None:
            return None
        both_numbers = all(isinstance(each, int | Decimal) for each in (one, other))
        if both_numbers or (type(one) is type(other) and isinstance(one, date)):
            return holds(one, sign, other)
        raise NotKnown
    value = value_of(node, around)
    if value is None:
        return None
    if isinstance(value, int | Decimal):
        return value != 0
    raise NotKnown


def never(column: KeyColumn, fragment: str) -> Condition:
    """A condition that no row satisfies. The server prunes by it only where the column belongs to the key."""
    return Among(column.text, (), fragment=fragment)


def _bound_test(pattern: Test, around: Surroundings) -> Condition:
    column, sign = pattern.column, pattern.operator
    assert pattern.value is not None
    if sign == "like":
        return _bound_like(pattern, around)
    try:
        value = value_of(pattern.value, around)
    except NotKnown as unknown:
        if sign in _ORDERING and _is_missing(pattern.value, around):
            return KeyComparison(column.text, "=" if sign == "<=>" else sign, None, When.START, pattern.fragment)
        reason = Reason.VOLATILE_VALUE if unknown.is_volatile else Reason.NOT_UNDERSTOOD
        return Anything(reason, pattern.fragment, column.name)
    if value is None:
        if sign == "<=>" and not column.not_null:
            return NullTest(column.text, True)
        return never(column, pattern.fragment)
    return fitted(column, "=" if sign == "<=>" else sign, value, around, pattern.fragment)


_ORDERING = ("=", "<", "<=", ">", ">=", "<=>")


def _is_missing(node: exp.Expression, around: Surroundings) -> bool:
    """Whether it has a parameter of a statement that came without values: a workload puts some in their place."""
    return around.params is None and node.find(exp.Parameter) is not None


def _bound_like(pattern: Test, around: Surroundings) -> Condition:
    column = pattern.column
    unused = Anything(Reason.PATTERN_MATCH, pattern.fragment, column.name)
    assert pattern.value is not None
    try:
        value = value_of(pattern.value, around)
    except NotKnown:
        return unused
    if value is None:
        return never(column, pattern.fragment)
    if column.kind is not Kind.TEXT or not isinstance(value, str) or "\\" in value:
        return unused
    prefix = re.split(r"[%_]", value, maxsplit=1)[0]
    if not prefix:
        return unused
    return KeyComparison(column.text, "like" if prefix != value else "=", prefix, fragment=pattern.fragment)


def _bound_list(pattern: InList, around: Surroundings) -> Condition:
    column = pattern.column
    fragment = pattern.fragment
    arms: list[Condition] = []
    has_null = False
    classes = set()
    for each in pattern.values:
        try:
            value = value_of(each, around)
        except NotKnown:
            if not pattern.is_negated and _is_missing(each, around):
                return KeyComparison(column.text, "=", None, When.START, fragment)
            return Anything(Reason.NOT_UNDERSTOOD, fragment, column.name)
        if value is None:
            has_null = True
            continue
        classes.add(type(value))
        arms.append(fitted(column, "<>" if pattern.is_negated else "=", value, around, fragment))
    if len(classes) > 1 and column.kind in (Kind.INTEGER, Kind.NUMERIC):
        # Compared in several ways at once, the list is not searched by (Item_func_in).
        return Anything(Reason.TYPE_MISMATCH, fragment, column.name)
    if pattern.is_negated:
        if has_null:
            return Anything(None, fragment, column.name)
        values = [arm.value for arm in arms if isinstance(arm, KeyComparison) and arm.value is not None]
        return NotAmong(column.text, tuple(values), fragment=fragment) if values else Anything(None, fragment)
    arms = [arm for arm in arms if not isinstance(arm, Among) or arm.values]
    if all(isinstance(arm, KeyComparison) for arm in arms):
        values = [arm.value for arm in arms if isinstance(arm, KeyComparison) and arm.value is not None]
        return Among(column.text, tuple(values), fragment=fragment)
    return Any_(tuple(arms), fragment)


def value_of(node: exp.Expression, around: Surroundings) -> Any:
    """int, Decimal, str, date, datetime, or None for NULL. Raises NotKnown for what is not worked out here and of which
    no server has said the value.
    """
    try:
        return _own_value(node, around)
    except NotKnown as unknown:
        if around.answers is None or unknown.is_volatile or any(node.find_all(exp.Column, exp.Placeholder)):
            raise
        answer = around.answers.constant(str(node.sql(BACKQUOTED)))
        if answer is None:
            raise
        return _answered(answer.text, answer.type_name)


def _answered(text: str | None, type_name: str) -> Any:
    if text is None:
        return None
    match type_name:
        case "int":
            return int(text)
        case "decimal":
            return Decimal(text)
        case "date" | "datetime":
            found = parse_moment(text)
            if found is None:
                raise NotKnown
            return found
        case "text":
            return text
    raise NotKnown


def _own_value(node: exp.Expression, around: Surroundings) -> Any:
    match node:
        case exp.Paren():
            return _own_value(node.this, around)
        case exp.Null():
            return None
        case exp.Boolean():
            return int(node.this)
        case exp.Literal() if node.is_string:
            return around.literal(node)
        case exp.Literal():
            text = around.literal(node)
            return int(text) if text.isdecimal() else Decimal(text)
        case exp.Neg():
            value = _own_value(node.this, around)
            if not isinstance(value, int | Decimal):
                raise NotKnown
            return -value
        case exp.Parameter():
            return _parameter(node, around)
        case exp.CurrentTimestamp() if around.now is not None and node.this is None:
            return _now(around)
        case exp.Anonymous() if str(node.this).upper() in _NOW and not node.expressions and around.now is not None:
            return _now(around)
        case exp.CurrentDate() if around.now is not None:
            return around.now.astimezone(around.zone).date()
        case exp.Cast():
            return _cast(node, around)
        case exp.Timestamp() | exp.TsOrDsToTimestamp() if node.args.get("zone") is None:
            found = _own_value(node.this, around)
            return _as_moment(found, is_time=True)
        case exp.Date() | exp.TsOrDsToDate() if node.this is not None:
            return _as_day(_own_value(node.this, around))
        case exp.Add() | exp.Sub() if isinstance(node.expression, exp.Interval):
            unit = node.expression.args.get("unit")
            return _moved(node.this, node.expression.this, unit, isinstance(node, exp.Sub), around)
        case exp.DateAdd() | exp.DateSub() | exp.TsOrDsAdd():
            return _moved(node.this, node.expression, node.args.get("unit"), isinstance(node, exp.DateSub), around)
        case exp.Add() | exp.Sub() | exp.Mul():
            one, other = _own_value(node.this, around), _own_value(node.expression, around)
            if one is None or other is None:
                return None
            if not all(isinstance(each, int | Decimal) for each in (one, other)):
                raise NotKnown
            return (
                one + other if isinstance(node, exp.Add) else one - other if isinstance(node, exp.Sub) else one * other
            )
        case exp.Collate():
            if not str(node.expression.name).lower().endswith("_bin"):
                raise NotKnown
            return _own_value(node.this, around)
        case exp.Introducer():
            return _own_value(node.expression, around)
        case exp.Func() if _called(node) in VOLATILE:
            raise NotKnown(True)
    raise NotKnown


def _called(node: exp.Func) -> str:
    return str(node.this if isinstance(node, exp.Anonymous) else node.sql_name()).upper()


def _now(around: Surroundings) -> datetime:
    assert around.now is not None
    return around.now.astimezone(around.zone).replace(tzinfo=None, microsecond=0)


def _parameter(node: exp.Parameter, around: Surroundings) -> Any:
    name = str(node.this.name if isinstance(node.this, exp.Expression) else node.this)
    number = name.removeprefix(NUMBERED)
    if not name.startswith(NUMBERED) or not number.isdecimal():
        raise NotKnown
    given = around.parameter(exp.Parameter(this=exp.Literal.number(number)))
    if given is None:
        raise NotKnown(True)  # prepared without its values: nothing can be left out
    return _own_value(given, around)


def _cast(node: exp.Cast, around: Surroundings) -> Any:
    value = _own_value(node.this, around)
    kind = node.to.this.name if hasattr(node.to.this, "name") else str(node.to.this)
    match kind.upper():
        case "DATE" | "DATE32":
            return _as_day(value)
        case "DATETIME" | "TIMESTAMP" | "TIMESTAMPTZ":
            return _as_moment(value, is_time=True)
        case "CHAR" | "VARCHAR" | "TEXT" | "BINARY":
            if isinstance(value, str):
                return value
        case "BIGINT" | "INT" | "UBIGINT":
            if isinstance(value, int):
                return value
            if isinstance(value, str) and _NUMBER.fullmatch(value) and "." not in value:
                return int(Decimal(value))
    raise NotKnown


def _as_day(value: Any) -> Any:
    found = _as_moment(value)
    if isinstance(found, datetime):
        return found.date()
    return found


def _as_moment(value: Any, *, is_time: bool = False) -> Any:
    if value is None:
        return None
    found = parse_moment(str(value)) if isinstance(value, str | int) else value
    if not isinstance(found, date):
        raise NotKnown
    return datetime(found.year, found.month, found.day) if is_time and not isinstance(found, datetime) else found


def _moved(
    start: exp.Expression, count: exp.Expression, unit: exp.Expression | None, back: bool, around: Surroundings
) -> Any:
    if isinstance(count, exp.Interval):
        count, unit = count.this, count.args.get("unit") or unit
    begin, number = _as_moment(_own_value(start, around)), _own_value(count, around)
    if begin is None or number is None:
        return None
    if isinstance(number, str) and re.fullmatch(r"-?\d{1,9}", number.strip()):
        number = int(number)
    if not isinstance(number, int) or unit is None:
        raise NotKnown
    found = moved(begin, -number if back else number, str(unit.name).upper().removesuffix("S"))
    if found is None:
        raise NotKnown
    return found


def fitted(column: KeyColumn, sign: str, value: Any, around: Surroundings, fragment: str) -> Condition:
    """`column sign value` with the value in the column's own type. value: not NULL."""
    unused = Anything(Reason.TYPE_MISMATCH, fragment, column.name)
    match column.kind:
        case Kind.INTEGER:
            return _whole(column, sign, value, fragment, unused)
        case Kind.NUMERIC if isinstance(value, int | Decimal):
            return _kept(column, sign, Decimal(value), 0, fragment)
        case Kind.DATE | Kind.TIMESTAMP | Kind.TIMESTAMPTZ:
            return _moment(column, sign, value, around, fragment, unused)
        case Kind.TEXT | Kind.UUID | Kind.OTHER if isinstance(value, str):
            return KeyComparison(column.text, sign, value, fragment=fragment)
    return unused


def _kept(column: KeyColumn, sign: str, stored: Value, against: int, fragment: str) -> Condition:
    """against: whether the stored value is less than (-1), equal to, or greater than (1) the one that was written."""
    match sign:
        case "<" if against != 0:
            sign = "<="
        case ">":
            sign = ">" if against <= 0 else ">="
        case ">=" if against < 0:
            sign = ">"
        case "<>" if against != 0:
            return Anything(None, fragment, column.name)
    return KeyComparison(column.text, sign, stored, fragment=fragment)


def _whole(column: KeyColumn, sign: str, value: Any, fragment: str, unused: Anything) -> Condition:
    if isinstance(value, str):
        ahead = _NUMBER_AHEAD.match(value)
        value = Decimal(ahead.group(1)) if ahead else Decimal(0)  # what no number begins is zero
    if not isinstance(value, int | Decimal):
        return unused
    try:
        stored = int(Decimal(value).quantize(Decimal(1), ROUND_HALF_UP))
    except InvalidOperation:
        return unused
    low, high = _range_of(column.type_name)
    if not low <= stored <= high:
        if sign in ("=", "<>"):
            return never(column, fragment) if sign == "=" else unused
        stored = high if stored > high else low
    return _kept(column, sign, stored, (stored > value) - (stored < value), fragment)


def _range_of(type_name: str) -> tuple[int, int]:
    bare = re.split(r"[\s(]", type_name, maxsplit=1)[0]
    if bare == "year":
        return 1901, 2155
    bits = _BITS.get(bare, 64)
    return (0, (1 << bits) - 1) if "unsigned" in type_name else (-(1 << bits - 1), (1 << bits - 1) - 1)


def _moment(
    column: KeyColumn, sign: str, value: Any, around: Surroundings, fragment: str, unused: Anything
) -> Condition:
    if isinstance(value, str | int) and not isinstance(value, bool):
        value = parse_moment(str(value))
    if not isinstance(value, date):
        return unused
    moment = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day)
    if column.kind is Kind.DATE:
        stored: date | datetime = moment.date()
        cut = datetime(moment.year, moment.month, moment.day)
        if cut != moment and sign == "=":
            return never(column, fragment)
    else:
        digits = re.search(r"\((\d)\)", column.type_name)
        step = 10 ** (6 - int(digits.group(1) if digits else 0))
        cut = moment.replace(microsecond=moment.microsecond // step * step)
        stored = cut
        if column.kind is Kind.TIMESTAMPTZ:
            stored = cut.replace(tzinfo=around.zone).astimezone(UTC)
        if sign == "=":  # digits that the column has not are cut off before the leaf is looked for
            return _kept(column, sign, stored, 0, fragment)
    return _kept(column, sign, stored, 0 if cut == moment else -1, fragment)
