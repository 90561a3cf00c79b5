"""Constants as values of a key column: what the server compares a column with, once it has converted them."""

import struct
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from sqlglot import exp

from slabrow.core.sql.answers import Answer
from slabrow.core.sql.constant_values import Constant, NotKnown, Null, Surroundings, Unread
from slabrow.core.sql.constants import (
    as_python_counts,
    convert,
    evaluate,
    instant,
    is_fold,
    read,
)
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Far, Kind, Opaque, Value, kind_of, parse_value


@as_python_counts
def as_key(constant: Constant, kind: Kind, type_name: str, around: Surroundings) -> tuple[Value | Null | None, When]:
    """A constant as a value that compares with a key column, and when the server makes the comparison.

    None: known at that time, but not here. Raises NotKnown when the server does not compare the two with its bounds.
    """
    value = constant.value
    if isinstance(value, Null) or value is None:
        return value, constant.when
    if isinstance(value, Unread):
        value, constant = _read_key(constant, kind, type_name, around)
        return value, constant.when
    if isinstance(value, Edge) and kind.is_time:
        return value, constant.when
    if isinstance(value, Far):
        raise NotKnown  # of another type than the key, perhaps
    match value, kind:
        case bool(), Kind.BOOL:
            return value, constant.when
        case bool(), _:
            raise NotKnown
        case int(), Kind.INTEGER if -(1 << 63) <= value < 1 << 63:
            return value, constant.when
        case int() | Decimal(), Kind.NUMERIC if type_name.startswith("numeric"):
            return Decimal(value), constant.when
        case int() | Decimal(), Kind.NUMERIC:
            return _as_floating(Decimal(value), type_name), constant.when
        case str(), Kind.TEXT if type_name == "text" or type_name.startswith("character varying"):
            return value, constant.when
        case datetime(), Kind.TIMESTAMPTZ | Kind.TIMESTAMP | Kind.DATE:
            return _moment_as_key(value, kind, constant.when, around)
        case date(), Kind.DATE:
            return value, constant.when
        case date(), Kind.TIMESTAMP | Kind.TIMESTAMPTZ:
            converted = convert(constant, kind, around)
            return converted.value, converted.when
    if type(value).__name__ == "UUID" and kind is Kind.UUID:
        return value, constant.when
    raise NotKnown


def _as_floating(value: Decimal, type_name: str) -> Decimal:
    """A number as the server has it beside a floating-point key. Raises NotKnown where it would be rounded.

    The bounds of a `real` are known only as the server prints them, which is rounded: only values that both
    types hold exactly have a certain place among them.
    """
    try:
        as_double = Decimal(repr(float(value)))
        if type_name == "double precision":
            return as_double
        if struct.unpack("f", struct.pack("f", float(value)))[0] == float(value) and as_double == value:
            return as_double
    except (OverflowError, struct.error, InvalidOperation):
        pass
    raise NotKnown


def key_value(node: Any, column: KeyColumn, around: Surroundings) -> tuple[Value | Null | None, When]:
    """The value of an expression without columns beside a key column, and when the server compares the two.

    By the rules of this module, else by the server's answer. None: known at that time, but not here.
    Raises NotKnown when the server does not compare it with its bounds, or nothing is known.
    """
    node = _without_collation(node, column)
    moment: When | None = None
    try:
        value, moment = as_key(evaluate(node, around), column.kind, column.type_name, around)
        if value is not None or around.answers is None:
            return value, moment
    except NotKnown as error:
        if error.is_volatile or around.answers is None:
            raise
    sql = asked_sql(node, column.bare_type, around)
    answer = None if sql is None else around.answers.constant(sql)
    if answer is not None:
        return answered_key(answer, column, around)
    if moment is None:
        raise NotKnown
    return None, moment


def answered_key(answer: Answer, column: KeyColumn, around: Surroundings) -> tuple[Value | Null, When]:
    """A server's answer beside a key column. Raises NotKnown where the two are not compared in the key's order."""
    if answer.collation not in (None, '"default"', column.collation):
        raise NotKnown
    return _answered(answer.text, answer.type_name, answer.when, column, around)


def key_array(node: Any, column: KeyColumn, around: Surroundings) -> tuple[Value | Null, ...]:
    """The elements of an array constant, as the server gives them. Raises NotKnown where it does not.

    Only of an array that is known while planning: others are not looked into (match_clause_to_partition_key,
    partprune.c).
    """
    sql = None if around.answers is None else asked_sql(node, f"{column.bare_type}[]", around)
    answer = None if sql is None or around.answers is None else around.answers.array(sql)
    if answer is None or answer.elements is None or answer.when is not When.PLAN:
        raise NotKnown
    found = [_answered(each, answer.type_name, answer.when, column, around) for each in answer.elements]
    if any(when is not When.PLAN for _, when in found):
        raise NotKnown
    return tuple(value for value, _ in found)


def _without_collation(node: Any, column: KeyColumn) -> Any:
    """Without COLLATE where it names the key's own. Raises NotKnown for another: then the two are not compared."""
    while isinstance(node, exp.Paren):
        node = node.this
    if isinstance(node, exp.Expression) and node.find(exp.Collate) is not None:
        if not isinstance(node, exp.Collate) or not is_collation_of(node, column):
            raise NotKnown
        return _without_collation(node.this, column)
    return node


def is_collation_of(node: exp.Collate, column: KeyColumn) -> bool:
    """Whether COLLATE names the collation that the column has already."""
    named = node.expression.sql("postgres").replace('"', "").removeprefix("pg_catalog.")
    return column.collation is not None and named == column.collation.replace('"', "").removeprefix("pg_catalog.")


def asked_sql(node: Any, literal_type: str, around: Surroundings) -> str | None:
    """An expression as a server is asked for it; a literal in quotes is read as the type that it is compared with.

    None for an expression that is not constant, or that uses parameters: their types belong to the whole statement.
    """
    if not isinstance(node, exp.Expression) or any(
        True for _ in node.find_all(exp.Column, exp.Query, exp.AggFunc, exp.Window, exp.Parameter, exp.Placeholder)
    ):
        return None

    def filled(each: exp.Expression) -> exp.Expression:
        if isinstance(each, exp.Literal) and around.literals:
            return exp.Literal(this=around.literal(each), is_string=each.is_string)
        return each

    text: str = node.copy().transform(filled).sql("postgres", comments=False)
    is_unread = isinstance(node, exp.UnicodeString | exp.ByteString | exp.National | exp.RawString)
    is_unread = is_unread or (isinstance(node, exp.Literal) and bool(node.is_string))
    return f"CAST({text} AS {literal_type})" if is_unread else text


def _answered(
    text: str | None, type_name: str, when: When, column: KeyColumn, around: Surroundings
) -> tuple[Value | Null, When]:
    """A value that a server gave, as a value of the key. Raises NotKnown where the two types have no common order."""
    if text is None:
        return Null(), when
    key, given = _bare(column.type_name), _bare(type_name)
    if column.kind is Kind.OTHER or key == "character":
        if given == key or (key == "name" and given in ("text", "character varying")):
            return Opaque(text), when
        raise NotKnown
    kind = kind_of(type_name)
    if kind is Kind.OTHER:
        raise NotKnown
    if kind is Kind.TEXT and given == "character":
        if key != "text":
            raise NotKnown
        text = text.rstrip(" ")
    if kind is Kind.NUMERIC and given != "numeric" and key not in ("real", "double precision"):
        raise NotKnown
    try:
        value = parse_value(text, kind)
    except UsageError:
        raise NotKnown from None
    if isinstance(value, Far) and given == key:
        return value, when
    if isinstance(value, Opaque):
        raise NotKnown
    found, moment = as_key(Constant(value, when, kind is Kind.INTEGER), column.kind, column.type_name, around)
    if found is None:
        raise NotKnown
    return found, moment


def _bare(type_name: str) -> str:
    if "(" not in type_name:
        return type_name
    return type_name[: type_name.index("(")] + type_name[type_name.index(")") + 1 :]


def _moment_as_key(value: datetime, kind: Kind, when: When, around: Surroundings) -> tuple[Value, When]:
    if (value.tzinfo is not None) == (kind is Kind.TIMESTAMPTZ):
        return value, when
    # An instant against a wall clock: the session's time zone decides, so the server waits for the start.
    if value.tzinfo is None:
        return instant(value, around.zone), max(when, When.START)
    wall = value.astimezone(around.zone).replace(tzinfo=None)
    if is_fold(wall, around.zone):
        raise NotKnown
    return wall, max(when, When.START)


def _read_key(constant: Constant, kind: Kind, type_name: str, around: Surroundings) -> tuple[Value, Constant]:
    if kind is Kind.OTHER or (kind is Kind.NUMERIC and not type_name.startswith("numeric")):
        raise NotKnown
    if kind is Kind.TEXT and type_name != "text" and not type_name.startswith("character varying"):
        raise NotKnown
    found = read(constant, kind, around)
    value: Value = found.value
    return value, found
