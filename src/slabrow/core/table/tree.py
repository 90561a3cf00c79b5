"""The tree: a partitioned table and its partitions as the server holds them now."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any, NamedTuple

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, range_order
from slabrow.core.values.key_values import Key, Kind
from slabrow.core.values.method import By
from slabrow.core.values.names import Name

_AS_LITERALS = {"character": "bpchar", "bit": '"bit"'}  # by these names a length of 1 is meant


@dataclass(frozen=True, slots=True)
class KeyColumn:
    """A column of the partition key. name is None for an expression, which `text` then spells.

    in_byte_order   of texts: whether their collation sorts them by code point, as "C" does
    collation       that of the key, as SQL; None where the type has none, or it is not known
    is_apart        whether the column itself has another: then only what names the key's is compared with the bounds
                    (PartCollMatchesExprColl, partprune.c)
    """

    name: str | None
    text: str
    kind: Kind
    type_name: str
    not_null: bool = False
    in_byte_order: bool = False
    collation: str | None = None
    is_apart: bool = False

    @property
    def bare_type(self) -> str:
        """The type without length, precision and scale: as which a literal is read that is compared with it."""
        bare = self.type_name
        if "(" in bare:
            bare = bare[: bare.index("(")] + bare[bare.index(")") + 1 :]
        return _AS_LITERALS.get(bare, bare)

    @property
    def is_ordered(self) -> bool:
        """Whether the order of its values is known here."""
        if self.kind is Kind.TEXT:  # trailing blanks of a `character` do not count: the server's own order knows that
            return self.name is not None and self.in_byte_order and not self.type_name.startswith("character(")
        return self.name is not None and self.kind is not Kind.OTHER


@dataclass(frozen=True, slots=True)
class KeyRule:
    """How the server works with the key, where its family has several ways of it.

    is_columns   bounds are compared as values of the columns; else as whole numbers
    function     of the one column, rising with it: the bounds are then written here as values of the column itself
    expression   of which the bounds are, as SQL, where it is neither a column nor such a function
    columns      those that decide where a row goes
    is_key       of hash: by a running hash of the columns' bytes, and not by a remainder of a whole number
    algorithm    of such a running hash
    """

    is_columns: bool = True
    function: str = ""
    expression: str = ""
    columns: tuple[KeyColumn, ...] = ()
    is_key: bool = False
    is_linear: bool = False
    algorithm: int = 2


@dataclass(frozen=True, slots=True)
class Division:
    """How a partition is divided itself."""

    by: By
    key: tuple[KeyColumn, ...]
    rule: KeyRule | None = None


class Partition(NamedTuple):
    """A child of the tree; a leaf when it is not divided itself. (A tuple, as ten thousand are made in a run.)

    spelling     its name as the server's regclass spells it
    rows         the planner's estimate, None when never analysed
    bytes        table, TOAST and indexes together
    is_empty     it has no block for rows yet
    division     how it is divided when it is no leaf
    low, high    the key's least and greatest value: from statistics, or exact after a count
    place        the tablespace that its rows lie in; None for what is divided, and where the server has none
    server       the other server that its rows lie on; None for this one
    """

    name: Name
    spelling: str
    parent: str
    bounds: Bounds
    is_leaf: bool = True
    rows: int | None = None
    bytes: int = 0
    is_empty: bool = False
    low: Key | None = None
    high: Key | None = None
    is_detaching: bool = False
    division: Division | None = None
    place: str | None = None
    server: str | None = None


@dataclass(frozen=True)
class Tree:
    """A partitioned table: how it is divided, and its partitions, each before its own, in the order of their bounds.

    rule   None where the family has one way only
    """

    table: Name
    spelling: str
    by: By
    key: tuple[KeyColumn, ...]
    partitions: tuple[Partition, ...] = field(default=())
    rule: KeyRule | None = None

    @property
    def kinds(self) -> tuple[Kind, ...]:
        """The kinds of the key's columns."""
        return tuple(column.kind for column in self.key)

    @property
    def routed_by(self) -> tuple[KeyColumn, ...]:
        """The columns whose values decide where a row goes: of the key, or of the expression that it is."""
        if self.rule is None:
            return self.key
        division = next((each.division for each in self.partitions if each.division is not None), None)
        inner = division.rule.columns if division is not None and division.rule is not None else ()
        return (*self.rule.columns, *(column for column in inner if column not in self.rule.columns))

    @cached_property
    def children(self) -> tuple[Partition, ...]:
        """The partitions of the table itself, without the partitions of partitions."""
        return tuple(partition for partition in self.partitions if partition.parent == self.spelling)

    @cached_property
    def leaves(self) -> tuple[Partition, ...]:
        """All partitions that hold rows, in the order of their bounds."""
        return tuple(partition for partition in self.partitions if partition.is_leaf)

    def leaves_of(self, partition: Partition) -> tuple[Partition, ...]:
        """The partition itself when it is a leaf, else its own partitions."""
        if partition.is_leaf:
            return (partition,)
        found: list[Partition] = []
        waiting = [partition.spelling]
        while waiting:
            parent = waiting.pop()
            for each in self.partitions:
                if each.parent == parent and each.is_leaf:
                    found.append(each)
                elif each.parent == parent:
                    waiting.append(each.spelling)
        return tuple(found)

    @property
    def catch_all(self) -> Partition | None:
        """The catch-all of the table itself; None without one."""
        return next((child for child in self.children if isinstance(child.bounds, CatchAll)), None)

    @cached_property
    def ranges(self) -> tuple[tuple[Partition, Range], ...]:
        """The range partitions whose bounds have a known order, lowest first."""
        return tuple(
            (child, child.bounds)
            for child in self.children
            if isinstance(child.bounds, Range) and not child.bounds.is_opaque
        )

    def home(self, key: Key | None) -> Partition | None:
        """The child that holds `key` (None: a key with a NULL). Returns None when no child holds it.

        Raises NotImplementedError for hash: only the server knows its hash functions.
        """
        if key is None and self.rule is not None and self.by is By.RANGE:
            return next(iter(self.children), None)  # with such a rule NULL lies below everything
        for child in self.children:
            match child.bounds:
                case Range():
                    if key is not None and not child.bounds.is_opaque and key in child.bounds:
                        return child
                case Listed(values=values):
                    if (key[0] if key else None) in values:
                        return child
                case Hashed():
                    raise NotImplementedError("hash partitions are the server's to choose")
                case CatchAll():
                    continue
        return self.catch_all


def in_order(root: str, partitions: Iterable[Partition]) -> tuple[Partition, ...]:
    """The partitions of a table in the order of their bounds, each followed by its own partitions.

    Bounds are compared below one parent only: another branch may be divided by another key.
    root   the table, as the server's regclass spells it
    """
    below: dict[str, list[Partition]] = {}
    for partition in partitions:
        below.setdefault(partition.parent, []).append(partition)
    found: list[Partition] = []
    waiting = sorted(below.get(root, ()), key=_order, reverse=True)
    while waiting:
        partition = waiting.pop()
        found.append(partition)
        waiting += sorted(below.get(partition.spelling, ()), key=_order, reverse=True)
    return tuple(found)


def _order(partition: Partition) -> tuple[Any, ...]:
    return (*_bound_order(partition.bounds), partition.spelling)


@lru_cache(maxsize=16_384)
def _bound_order(bounds: Bounds) -> tuple[Any, ...]:
    """Many tables have partitions of the same bounds."""
    match bounds:
        case Range() if not bounds.is_opaque:
            return (0, range_order(bounds))
        case Listed():
            return (1,)
        case _:
            return (2,)
