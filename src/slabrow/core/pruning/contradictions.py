"""Conditions that no row can satisfy, as the server proves it (predtest.c): then it reads nothing at all."""

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any

from slabrow.core.pruning.key_conditions import (
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
from slabrow.core.sql.operators import holds
from slabrow.core.sql.when import When
from slabrow.core.values.key_values import Opaque, Value, midnight_of, order

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
    # A list with a value that is known later is no constant, and its NULL is not looked for.
    lists = [part for part in clauses if isinstance(part, NotAmong) and part.has_null and part.values]
    if any(part.when is When.PLAN for part in lists):
        return True
    usable = [part for part in clauses if _is_constant(part)]
    if sum(map(_size, usable)) > _MOST_REFUTED:
        usable = [part for part in usable if _size(part) <= _LONGEST_REFUTED][:_LONGEST_REFUTED]
    together = All(tuple(usable))
    return any(_refutes(together, each, rank) for each in usable)


_LONGEST_REFUTED = 100  # MAX_SAOP_ARRAY_SIZE, predtest.c


_MOST_REFUTED = 400  # beyond that only the short ones are looked at


def _is_constant(condition: Condition) -> bool:
    """Whether the whole condition is known while planning: a clause with anything else in it is not looked at as a
    whole.
    """
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


def _arms(condition: Condition) -> tuple[str, Sequence[Condition]]:
    """The parts of a condition: all of its parts hold, any does, or it is one comparison."""
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
    low_value, high_value = midnight_of(one.value), midnight_of(other.value)
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
            return not holds(value, other_operator, other_value)
        case ">" | ">=", "<" | "<=":
            return bool(other_value < value or (other_value == value and (operator, other_operator) != (">=", "<=")))
    return False


def conjuncts_of(condition: Condition) -> list[Condition]:
    """The conditions that all have to hold, taken out of each other."""
    if isinstance(condition, All):
        return [part for each in condition.conditions for part in conjuncts_of(each)]
    return [condition]
