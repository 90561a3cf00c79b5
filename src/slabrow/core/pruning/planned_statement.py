"""A statement as the planner sees it: every place at which it names a table, as plain data."""

from dataclasses import dataclass

from sqlglot import exp

from slabrow.core.pruning.patterns import Pattern
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class TableOccurrence:
    """One place at which a statement reads a table.

    pattern   the condition that holds for every row that is read there
    ordered   the columns that ORDER BY begins with, when the block reads this table alone
    limit     how many rows LIMIT asks for, as an expression, when nothing stands between it and the table
    partners  what it is joined with, with what holds there: where one has no rows at all, nothing is read
    wanted    the columns that are read, None for all
    is_counted  whether the block groups or aggregates its rows
    """

    table: Name
    alias: str
    pattern: Pattern
    ordered: tuple[str, ...] = ()
    limit: exp.Expression | None = None
    partners: tuple[tuple[Name, Pattern], ...] = ()
    wanted: frozenset[str] | None = None
    is_counted: bool = False


@dataclass(frozen=True, slots=True)
class PlannedStatement:
    """The tables that a statement reads. kind: `select`, `insert`, `update`, `delete`, `merge`.

    target    the table that INSERT writes into
    changed   the columns that UPDATE sets
    is_settled  whether it is known which constants its columns are compared with as it is planned
    """

    kind: str
    places: tuple[TableOccurrence, ...]
    target: Name | None = None
    changed: frozenset[str] = frozenset()
    is_settled: bool = True
