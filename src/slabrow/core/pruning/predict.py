"""Which leaves of one partitioned table a statement reads: its conditions meet the bounds of the partitions."""

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

from slabrow.core.pruning.explain import Explanation, explained
from slabrow.core.pruning.family_rules import USUAL_RULES, Prunes, PruningRules
from slabrow.core.pruning.key_conditions import NOTHING, All, Condition
from slabrow.core.pruning.planned_statement import PlannedStatement, TableOccurrence
from slabrow.core.pruning.pruner import Touched
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.statement_shapes import can_be_marked, exact_shape_of, literals_and_repeats, marked
from slabrow.core.table.tree import Tree
from slabrow.core.values.key_values import Value, spell
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class Settings:
    """The server's settings that change what prunes (PostgreSQL manual, 20.7.1 Planner Method Configuration).

    prunes    enable_partition_pruning
    partwise  enable_partitionwise_join or enable_partitionwise_aggregate: what is joined or grouped part by part is
              not pruned once execution has started
    """

    prunes: bool = True
    partwise: bool = False


USUAL = Settings()
_BY_PLACE = re.compile(r"\b(?:group|order|distinct)\b", re.IGNORECASE)  # where a literal may stand for a column
_MOST_KEPT = 10_000  # statements read, and shapes; then they are read anew
NO_LEAF = Touched(frozenset(), frozenset(), False)


@dataclass(slots=True)
class Predictor:
    """Predicts for many statements on one tree; each text is read once.

    answers   what a server says of values; predictions note there what they would have to ask
    rules     of the server's family
    others    finds the predictor of another partitioned table, where there is one
    """

    tree: Tree
    schema: Schema
    settings: Settings = USUAL
    answers: Answers | None = None
    rules: PruningRules = USUAL_RULES
    others: "Callable[[Name], Predictor | None] | None" = None
    _pruner: Prunes = field(init=False)
    _statements: dict[str, PlannedStatement | None] = field(default_factory=dict)
    _shapes: dict[tuple[str, tuple[int, ...]], PlannedStatement | None] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Uses the answers that the server has given since the last prediction."""
        self._pruner = self.rules.pruner(self.tree, self.answers)
        self._statements.clear()
        self._shapes.clear()

    def touched(self, sql: str, around: Surroundings) -> Touched | None:
        """None when the statement is not understood, or does not read the table."""
        statement, around = self._read(sql, around)
        if statement is None:
            return None
        found = [
            NO_LEAF if self._is_empty_join(place, around) else self.at(place, condition)
            for place, condition in self._conditions(statement, around)
        ]
        if not found:
            return None
        planned = frozenset().union(*(each.planned for each in found))
        started = frozenset().union(*(each.started for each in found))
        if not statement.is_settled:
            return Touched(planned, planned, any(each.may_prune_running for each in found))
        if self.settings.partwise and (len(statement.places) > 1 or any(each.is_counted for each in statement.places)):
            return Touched(planned, planned, False)
        return Touched(planned, started, any(each.may_prune_running for each in found))

    def reads(self, sql: str) -> bool:
        """Whether a statement names the table at all, as far as it is understood."""
        statement = self._statement(sql)
        return statement is not None and any(place.table == self.tree.table for place in statement.places)

    def reasons(self, sql: str, around: Surroundings) -> tuple[Explanation, ...]:
        """Why not fewer; for a statement that names the table at several places, of all of them."""
        statement = self._statement(sql)
        if statement is None:
            return ()
        found = [
            each for _, condition in self._conditions(statement, around) for each in explained(self.tree, condition)
        ]
        return tuple(dict.fromkeys(found))

    def at(self, place: TableOccurrence, condition: Condition) -> Touched:
        """The leaves that are touched by one place at which the table is named."""
        if self.rules.is_contradiction(condition, self._not_null(place.table), self._rank):
            return NO_LEAF
        if not self.settings.prunes:
            every = frozenset(leaf.spelling for leaf in self.tree.leaves)
            return Touched(every, every, False)
        return self._pruner.touched(condition)

    def _read(self, sql: str, around: Surroundings) -> tuple[PlannedStatement | None, Surroundings]:
        """The statement, read once for all of its shape where that can be, and the values of its literals."""
        around = around if self.answers is None else replace(around, answers=self.answers)
        if not self.rules.shares_shapes or sql in self._statements or _BY_PLACE.search(sql) or not can_be_marked(sql):
            return self._statement(sql), around
        literals, repeats = literals_and_repeats(sql)
        # Which literals are equal belongs to the shape: of OR, the server takes out the condition that all arms share.
        shape = exact_shape_of(sql), repeats
        if shape not in self._shapes:
            if len(self._shapes) >= _MOST_KEPT:
                self._shapes.clear()
            self._shapes[shape] = self.rules.read_statement(marked(sql, repeats), self.schema, literals, self.answers)
        found = self._shapes[shape]
        return (self._statement(sql), around) if found is None else (found, replace(around, literals=literals))

    def _statement(self, sql: str) -> PlannedStatement | None:
        if sql not in self._statements:
            if len(self._statements) >= _MOST_KEPT:
                self._statements.clear()
            self._statements[sql] = self.rules.read_statement(sql, self.schema, answers=self.answers)
        return self._statements[sql]

    def _is_empty_join(self, place: TableOccurrence, around: Surroundings) -> bool:
        """Whether a table that it is joined with has no rows for these constants.

        Of tables without partitions the server sees it only of a condition that is false by itself (the setting
        constraint_exclusion); of other partitioned tables it is not looked at here.
        """
        for table, pattern in place.partners:
            condition = self.rules.bind(pattern, around)
            if table == self.tree.table and self.rules.is_contradiction(condition, self._not_null(table), self._rank):
                return True
            if condition in (NOTHING, All((NOTHING,))):
                return True
            if self.rules.ends_joins and self._has_no_leaf(table, condition):
                return True
        return False

    def _has_no_leaf(self, table: Name, condition: Condition) -> bool:
        if self.rules.is_contradiction(condition, frozenset()):
            return True
        other = self if table == self.tree.table else self.others(table) if self.others is not None else None
        return other is not None and not other._pruner.survivors(condition)

    def _rank(self, name: str, value: Value) -> int | str | None:
        """The place of a value of a key column in the server's order. None where it is not known."""
        column = next((each for each in self.tree.key if each.name == name), None)
        if column is not None and column.is_ordered and isinstance(value, str):
            return value  # by code point
        if column is None or self.answers is None or column.is_ordered:
            return None
        return self.answers.rank((column.bare_type, column.collation or ""), spell(value))

    def _not_null(self, table: Name) -> frozenset[str]:
        return frozenset(name for name, column in self.schema.tables.get(table, {}).items() if column.not_null)

    def _conditions(
        self, statement: PlannedStatement, around: Surroundings
    ) -> Iterator[tuple[TableOccurrence, Condition]]:
        for place in statement.places:
            if place.table == self.tree.table:
                yield place, self.rules.bind(place.pattern, around)
