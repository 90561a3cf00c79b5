"""Conditions on the columns of one table as a statement writes them, before their constants are worked out."""

from collections.abc import Callable
from dataclasses import dataclass, field

from sqlglot import exp

from slabrow.core.pruning.key_conditions import Anything, NamedLeaves, NullTest
from slabrow.core.table.tree import KeyColumn


@dataclass(frozen=True, slots=True)
class Test:
    """`column operator expression`, not yet worked out. value None: another table or a sub-query supplies it.

    operator   also `<=>` and `like`, where the family has them
    """

    column: KeyColumn
    operator: str
    value: exp.Expression | None
    fragment: str


@dataclass(frozen=True, slots=True)
class InList:
    """`column IN (…)`, `NOT IN (…)` or `column operator ANY (array)`; is_array: the one value is an array.

    is_negated      NOT IN, or `<> ALL`
    operator        as in Test
    is_every        ALL instead of ANY
    is_constructed  the values stand in ARRAY[…], which has a type of its own: of bare literals that is text
    """

    column: KeyColumn
    values: tuple[exp.Expression, ...]
    is_array: bool
    fragment: str
    is_negated: bool = False
    operator: str = "="
    is_every: bool = False
    is_constructed: bool = False


@dataclass(frozen=True, slots=True)
class Always:
    """A condition without columns. is_negated: NOT stands before it."""

    value: exp.Expression
    is_negated: bool = False


@dataclass(frozen=True, slots=True)
class Within:
    """`column <@ range`, of a range that is known while planning (range_contained_by_elem_support, rangetypes.c)."""

    column: KeyColumn
    value: exp.Expression
    fragment: str


@dataclass(frozen=True, slots=True)
class Agreeing:
    """These expressions are equal, as values of a column: see core/pruning/agreement.py."""

    column: KeyColumn
    values: tuple[exp.Expression, ...]


@dataclass(frozen=True, slots=True)
class Since:
    """What servers of this major version or a newer one can use; older ones keep every leaf."""

    version: int
    pattern: "Pattern"
    otherwise: Anything


@dataclass(frozen=True, slots=True)
class AllOf:
    """AND."""

    parts: tuple["Pattern", ...]


@dataclass(frozen=True, slots=True)
class AnyOf:
    """OR."""

    parts: tuple["Pattern", ...]
    fragment: str = field(default="", compare=False)


Pattern = Test | InList | NullTest | Always | Within | Agreeing | Since | AllOf | AnyOf | Anything | NamedLeaves
Resolver = Callable[[exp.Column], KeyColumn | None]  # the column of the table asked about; None: of another


def all_parts(pattern: Pattern) -> tuple[Pattern, ...]:
    """The conditions that AND joins, at any depth."""
    if not isinstance(pattern, AllOf):
        return (pattern,)
    return tuple(part for each in pattern.parts for part in all_parts(each))
