"""Why a condition does not leave out more partitions: a reason for each part of it that could not be used."""

from collections.abc import Iterator
from dataclasses import dataclass

from slabrow.core.pruning.key_conditions import (
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
from slabrow.core.pruning.reasons import SENTENCES, Reason
from slabrow.core.sql.when import When
from slabrow.core.table.tree import Tree
from slabrow.core.values.method import By


@dataclass(frozen=True, slots=True)
class Explanation:
    """fragment: the part of the statement that it is about, as the parser writes it; empty for what is not there."""

    reason: Reason
    fragment: str

    @property
    def text(self) -> str:
        """The reason as one sentence."""
        return SENTENCES[self.reason]


def explained(tree: Tree, condition: Condition) -> tuple[Explanation, ...]:
    """Reasons in the order of the statement, each once; none where everything was used."""
    key = [column.name or column.text for column in tree.key]
    found = list(dict.fromkeys(_parts(tree.by, key, condition)))
    pinned = _pinned(condition, key)
    if tree.by is By.HASH and pinned and not set(key) <= pinned:
        found.append(Explanation(Reason.HASH_NOT_FULL, ", ".join(name for name in key if name not in pinned)))
    if tree.by is By.RANGE and key[0] not in pinned and pinned:
        found.append(Explanation(Reason.LEADING_COLUMN_MISSING, key[0]))
    if not found and not pinned and not _names_key(condition, key):
        found.append(Explanation(Reason.NO_CONDITION, ", ".join(key)))
    return tuple(dict.fromkeys(found))


def _parts(by: By, key: list[str], condition: Condition) -> Iterator[Explanation]:
    match condition:
        case All(parts):
            for part in parts:
                yield from _parts(by, key, part)
        case Any_(parts, fragment):
            for part in parts:
                yield from _parts(by, key, part)
            if parts and any(not _names_key(part, key) for part in parts) and any(_names_key(p, key) for p in parts):
                yield Explanation(Reason.OR_WITHOUT_KEY, fragment)
        case Anything(reason, fragment, column) if reason is not None and column in key:
            yield Explanation(reason, fragment)
        case KeyComparison(column, "<>", _, _, fragment) | NotAmong(column, _, _, fragment):
            if column in key and by is not By.LIST:
                yield Explanation(Reason.NEGATION, fragment)
        case KeyComparison(column, operator, _, When.RUN, fragment) if column in key:
            if by is not By.HASH or operator == "=":
                yield Explanation(Reason.KNOWN_ONLY_RUNNING, fragment)
        case KeyComparison(column, operator, _, _, fragment) if column in key and by is By.HASH and operator != "=":
            yield Explanation(Reason.HASH_NOT_FULL, fragment)
        case _:
            return


def _pinned(condition: Condition, key: list[str]) -> set[str]:
    """Key columns that a value is given for, on every way through the condition."""
    match condition:
        case All(parts):
            return set().union(*(_pinned(part, key) for part in parts))
        case Any_(parts):
            each = [_pinned(part, key) for part in parts]
            return set.intersection(*each) if each else set(key)
        case KeyComparison(column, operator, _, when) if column in key and operator != "<>" and when is not When.RUN:
            return {column}
        case Among(column) if column in key:
            return {column}
        case NullTest(column, True) if column in key:
            return {column}
        case _:
            return set()


def _names_key(condition: Condition, key: list[str]) -> bool:
    match condition:
        case All(parts) | Any_(parts):
            return any(_names_key(part, key) for part in parts)
        case KeyComparison(column) | Among(column) | NotAmong(column) | NullTest(column):
            return column in key
        case Anything(_, _, column):
            return column in key
        case NamedLeaves():
            return False
