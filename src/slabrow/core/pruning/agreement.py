"""Constants that one equivalence class brings together: what is known of them as the server plans, and if they agree.

The server compares the constants of a class with each other (generate_base_implied_equalities_const, equivclass.c):
where two differ, the whole block is empty.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import ClassVar
from zoneinfo import ZoneInfo

from sqlglot import exp

from slabrow.core.sql.answers import Answers
from slabrow.core.sql.constant_values import NotKnown, Null, Surroundings
from slabrow.core.sql.constants import evaluate
from slabrow.core.sql.key_constants import asked_sql, key_value
from slabrow.core.sql.when import When
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, kind_of


class Agree(exp.Expression):
    """A condition that no statement writes: these expressions are equal, as values of a column."""

    arg_types: ClassVar[dict[str, bool]] = {"expressions": True, "type_name": True, "version": False}


def agree(constants: Iterable[exp.Expression], type_name: str) -> Agree:
    """type_name: of the column, as format_type spells it; `integer` stands for every integer type."""
    return Agree(expressions=[each.copy() for each in constants], type_name=type_name)


def since(node: Agree, version: int) -> Agree:
    """The same condition, whose failure servers before this major version do not notice."""
    changed: Agree = node.copy()
    changed.set("version", version)
    return changed


def column_of_type(type_name: str) -> KeyColumn:
    """A column of a type, to compare constants with. `integer` stands for every integer type."""
    kind = kind_of(type_name)
    return KeyColumn("", "", kind, "bigint" if kind is Kind.INTEGER else type_name)


@dataclass(frozen=True, slots=True)
class Moments:
    """Tells which constants are known while planning, before the values of a run are put in.

    literals   of one run of a shape: when they are known does not depend on what they are
    """

    literals: tuple[str, ...] = ()
    answers: Answers | None = None

    def is_planned(self, node: exp.Expression, type_name: str) -> bool:
        """Whether the server compares it with a column of this type while it plans."""
        try:
            value, when = key_value(node, column_of_type(type_name), self._around)
        except NotKnown:
            return False
        return value is not None and not isinstance(value, Null) and when is When.PLAN

    def is_constant(self, node: exp.Expression, type_name: str) -> bool:
        """Whether it is a plain constant as the server plans, though it may be compared only as execution starts."""
        try:
            found = evaluate(node, self._around)
            if found.value is not None:
                return found.when is When.PLAN
        except NotKnown:
            pass
        sql = None if self.answers is None else asked_sql(node, column_of_type(type_name).bare_type, self._around)
        answer = None if sql is None or self.answers is None else self.answers.constant(sql)
        return answer is not None and answer.when is When.PLAN

    def is_apart(self, node: exp.Expression, type_name: str) -> bool:
        """Whether it is known, and of a type that makes no class with the column: `bigint = numeric`."""
        column = column_of_type(type_name)
        try:
            key_value(node, column, self._around)
            return False
        except NotKnown as error:
            if error.is_volatile:
                return False
        try:
            return evaluate(node, self._around).value is not None
        except NotKnown:
            sql = None if self.answers is None else asked_sql(node, column.bare_type, self._around)
            return sql is not None and self.answers is not None and self.answers.constant(sql) is not None

    @property
    def _around(self) -> Surroundings:
        return Surroundings(ZoneInfo("UTC"), None, (), self.literals, answers=self.answers)
