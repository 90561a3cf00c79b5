"""The rules of pruning of one server family, as functions. The algebra of conditions and partitions is shared.

A second family brings a `PruningRules` of its own: usually another way to read statements and to evaluate constants,
and the same pruner, or one with other steps.
"""

from dataclasses import dataclass
from typing import Protocol

from slabrow.core.pruning.binding import bind
from slabrow.core.pruning.contradictions import Ranks, is_contradiction, unranked
from slabrow.core.pruning.key_conditions import Condition
from slabrow.core.pruning.patterns import Pattern
from slabrow.core.pruning.planned_statement import PlannedStatement
from slabrow.core.pruning.pruner import Pruner, Touched
from slabrow.core.pruning.queries import read_statement
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.when import When
from slabrow.core.table.tree import Partition, Tree


class ReadsStatements(Protocol):
    """Reads a statement as the family's planner does, with the parameters of `queries.read_statement`."""

    def __call__(
        self, sql: str, schema: Schema, literals: tuple[str, ...] = (), answers: Answers | None = None
    ) -> PlannedStatement | None: ...


class Binds(Protocol):
    """Evaluates the constants of a pattern as the family's server does."""

    def __call__(self, pattern: Pattern, around: Surroundings) -> Condition: ...


class Prunes(Protocol):
    """The leaves of one tree that conditions leave over."""

    def touched(self, condition: Condition) -> Touched:
        """The leaves that are left when planning is over, and those that are left when execution has started."""

    def survivors(self, condition: Condition, until: When = When.START) -> tuple[Partition, ...]:
        """The leaves that rows satisfying `condition` can lie in, from the values known at `until`."""

    def waits(self, condition: Condition) -> bool:
        """Whether some of its values are known only once execution starts, or later."""


class MakesPruners(Protocol):
    """Makes a tree ready for many conditions."""

    def __call__(self, tree: Tree, answers: Answers | None = None) -> Prunes: ...


class Contradicts(Protocol):
    """Whether the family's planner sees that constants of a condition exclude each other."""

    def __call__(self, condition: Condition, not_null: frozenset[str], rank: Ranks = unranked) -> bool: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class PruningRules:
    """One family's rules. Whatever they do not understand must keep every leaf.

    ends_joins      whether a join is not executed at all of which one partitioned table has no leaf left
    shares_shapes   whether statements that differ in their literals alone can be read once
    """

    read_statement: ReadsStatements
    bind: Binds
    pruner: MakesPruners
    is_contradiction: Contradicts
    shares_shapes: bool = True
    ends_joins: bool = False


# PostgreSQL's: they are used where no server is asked, too.
USUAL_RULES = PruningRules(read_statement=read_statement, bind=bind, pruner=Pruner, is_contradiction=is_contradiction)
