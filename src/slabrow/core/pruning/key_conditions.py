"""Conditions on the columns of a key, with their values: what the pruner takes.

A condition is a tree of tests under AND (`All`) and OR (`Any_`). A part that cannot be used is `Anything`: it keeps
every leaf, and says why."""

from dataclasses import dataclass, field

from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.when import When
from slabrow.core.values.key_values import Value


@dataclass(frozen=True, slots=True)
class KeyComparison:
    """`column operator value`; operator is one of = <> < <= > >=. value is None where only a run supplies it."""

    column: str
    operator: str
    value: Value | None
    when: When = When.PLAN
    fragment: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class Among:
    """`column IN (…)`: the values are tried one by one, never together with what is known of other columns.

    values   without the NULLs, which match nothing
    """

    column: str
    values: tuple[Value, ...]
    when: When = When.PLAN
    fragment: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class NotAmong:
    """`column NOT IN (…)`, of several values: like `Among` the server takes them one by one.

    has_null   whether a NULL is among them: then no row satisfies it, which the server does not see everywhere
    """

    column: str
    values: tuple[Value, ...]
    when: When = When.PLAN
    fragment: str = field(default="", compare=False)
    has_null: bool = False


@dataclass(frozen=True, slots=True)
class NullTest:
    """`column IS NULL`, or with is_null False `column IS NOT NULL`."""

    column: str
    is_null: bool


@dataclass(frozen=True, slots=True)
class All:
    """Every one of these holds (AND)."""

    conditions: tuple["Condition", ...]


@dataclass(frozen=True, slots=True)
class Any_:
    """At least one of these holds (OR); of none, nothing holds. fragment: as written, where it was."""

    conditions: tuple["Condition", ...]
    fragment: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class Anything:
    """A part of a condition that is not understood, or cannot be used.

    column     the column that the part is about; None for several, or for none
    is_empty   whether no row satisfies it: the server sees that by refuting it, and not where it is an arm of OR
    """

    reason: Reason | None = None
    fragment: str = ""
    column: str | None = None
    is_empty: bool = False


@dataclass(frozen=True, slots=True)
class NamedLeaves:
    """The statement itself names the partitions that it reads: `FROM reading PARTITION (m01)`."""

    names: tuple[str, ...]


Condition = KeyComparison | Among | NotAmong | NullTest | All | Any_ | Anything | NamedLeaves


NOTHING = Any_(())
