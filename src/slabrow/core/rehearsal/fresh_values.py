"""The statements of a workload with fresh values: as many as a load needs, as if other rows were asked for (N48).

A value that a column is compared with by `=` or `IN` is drawn anew, as a row chosen at random has it. Windows of time
stay where they are: how old what is read is belongs to the statement.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from sqlglot import exp

from slabrow.core.rehearsal.made_up_column import Form, MadeUpColumn
from slabrow.core.rehearsal.made_up_table import MadeUpTable
from slabrow.core.sql.constant_values import MARK, MARKED_NUMBER
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.statement_shapes import filled
from slabrow.core.values.names import Name
from slabrow.core.weighing.workload import StatementShape

_TIMES = (Form.DAYS, Form.MOMENTS)


@dataclass(frozen=True, slots=True)
class PlayedRun:
    """A statement as it is sent. params: SQL constants for $1, $2, …"""

    sql: str
    params: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _Drawn:
    """What is drawn: the place of a literal, or the number of a parameter; and of which column."""

    literal: int | None
    parameter: int | None
    table: MadeUpTable
    column: MadeUpColumn


def fresh_runs(
    shape: StatementShape, tables: Mapping[Name, MadeUpTable], number: int, chance: np.random.Generator
) -> tuple[PlayedRun, ...]:
    """So many runs of a shape. Empty for a shape whose values are not known."""
    if not shape.runs:
        return ()
    drawn = _drawn(shape.marked, tables)
    texts = [each.table.drawn(each.column.facts.name, number, chance) for each in drawn]
    found = []
    for place in range(number):
        run = shape.runs[place % len(shape.runs)]
        literals, params = list(run.literals), list(run.params or ())
        for each, values in zip(drawn, texts, strict=True):
            if values and each.literal is not None and each.literal < len(literals):
                literals[each.literal] = values[place]
            elif values and each.parameter is not None and each.parameter <= len(params):
                params[each.parameter - 1] = _spelled(values[place], each.column.form)
        found.append(PlayedRun(filled(shape.marked, tuple(literals)), tuple(params)))
    return tuple(found)


def _spelled(text: str, form: Form) -> str:
    return text if form in (Form.WHOLE, Form.NUMBER) else "'" + text.replace("'", "''") + "'"


def _drawn(marked: str, tables: Mapping[Name, MadeUpTable]) -> Sequence[_Drawn]:
    tree = parse(marked)
    if tree is None:
        return ()
    named = _aliases(tree, tables)
    found: list[_Drawn] = []
    for test in tree.find_all(exp.EQ, exp.In):
        sides = [(test.this, [test.expression])] if isinstance(test, exp.EQ) else [(test.this, test.expressions)]
        if isinstance(test, exp.EQ):
            sides.append((test.expression, [test.this]))
        for column, values in sides:
            if isinstance(column, exp.Column) and (owner := _owner(column, named)) is not None:
                found += [each for value in values if (each := _place(value, *owner)) is not None]
    return found


def _aliases(tree: exp.Expression, tables: Mapping[Name, MadeUpTable]) -> dict[str, MadeUpTable]:
    found: dict[str, MadeUpTable] = {}
    for table in tree.find_all(exp.Table):
        for name, made in tables.items():
            if table.name == name.table and table.db in ("", name.schema):
                found[table.alias_or_name] = made
    return found


def _owner(column: exp.Column, named: Mapping[str, MadeUpTable]) -> tuple[MadeUpTable, MadeUpColumn] | None:
    candidates = [named[column.table]] if column.table in named else [] if column.table else list(named.values())
    for table in candidates:
        if (made := table.column(column.name)) is not None and made.form not in _TIMES:
            return table, made
    return None


def _place(value: exp.Expression, table: MadeUpTable, column: MadeUpColumn) -> _Drawn | None:
    inner = value.this if isinstance(value, exp.Cast | exp.Paren) else value
    if isinstance(inner, exp.Parameter) and isinstance(inner.this, exp.Literal):
        return _Drawn(None, int(inner.this.name), table, column)
    if not isinstance(inner, exp.Literal):
        return None
    if inner.is_string and inner.name.startswith(MARK):
        return _Drawn(int(inner.name[len(MARK) :]), None, table, column)
    if not inner.is_string and inner.name.isdigit() and int(inner.name) >= MARKED_NUMBER:
        return _Drawn(int(inner.name) - MARKED_NUMBER, None, table, column)
    return None
