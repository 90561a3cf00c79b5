"""Partitions divided anew, with the very same keys: one into several, or several into one. Pure."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import reduce
from itertools import pairwise
from math import gcd

from slabrow.core.table.bounds import (
    Bounds,
    CatchAll,
    Hashed,
    Listed,
    Range,
    overlap,
    range_order,
    spell_bounds,
    spell_key,
    uncovered_slots,
)
from slabrow.core.table.shape import Column, Index, Shape
from slabrow.core.table.spans import Grid
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.elsewhere import FarTable
from slabrow.core.upkeep.planned_partitions import MOST_PARTITIONS, Planned, slots
from slabrow.core.upkeep.upkeep_facts import UpkeepFacts
from slabrow.core.values.errors import Refusal, UsageError
from slabrow.core.values.key_values import Edge, Far, Key, Value, order, spell
from slabrow.core.values.names import NAME_LIMIT, Name, fit

INCOMING = "_incoming"  # how a new partition is called until the swap


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A partition that is divided, or merged.

    kept_as     its name afterwards, until it is let go of
    condition   what the server demands of its rows, as SQL; empty where it demands nothing
    """

    name: Name
    bounds: Bounds
    kept_as: Name
    condition: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class RedivisionPlan:
    """Everything that the statements of a split or a merge depend on.

    job, schema   the number of the record, and the ledger's schema
    kind          `split`, `merge` or `relocate`
    root          the partitioned table; parent: whose partitions these are, the table itself unless they lie deeper
    tree          of the parent, as it is
    divided_by    how the parent is divided, as SQL: `RANGE (taken_at)`
    parent_condition   what the server demands of the rows of the parent, when it is a partition itself
    key           the columns of the parent's key
    planned       the new partitions
    shape         of the parent, whose keys and indexes each new partition gets
    extra         indexes that every source has and the parent has not
    followed      the columns of the unique key by which a row is found again
    catch_all     the parent's, when it is not a source itself: it is locked, and looked through
    digest        of everything about the parent: another one means that it was altered meanwhile
    record_hash   whether every column has a hash function
    at_once       as in `PartitionFacts`
    tablespace    where the new partitions and their indexes are to lie; None: where upkeep would put them
    lay_in        where the old one lay, when it is moved
    far           the one that lies, or is to lie, on another server
    referred      the tables that foreign keys of the parent refer to
    """

    job: int
    schema: str
    kind: str
    root: Name
    parent: Name
    tree: Tree
    divided_by: str
    parent_condition: str
    key: tuple[str, ...]
    sources: tuple[Source, ...]
    planned: tuple[Planned, ...]
    shape: Shape
    extra: tuple[Index, ...]
    followed: tuple[str, ...]
    catch_all: Name | None
    facts: UpkeepFacts
    digest: str
    record_hash: bool
    version: int
    piece_blocks: int = 1024
    at_once: bool = False
    tablespace: str | None = None
    lay_in: tuple[str, ...] = ()
    far: FarTable | None = None

    @property
    def logged(self) -> tuple[Column, ...]:
        """The columns that a change is recorded with: those that find the row, then those of the parent's key."""
        names = (*self.followed, *(key for key in self.key if key not in self.followed))
        return tuple(column for name in names if (column := self.shape.column(name)) is not None)

    @property
    def lies_in(self) -> tuple[str, ...]:
        """Where the new partitions will lie, where that is said: the other server, or the tablespace."""
        if self.far is not None and self.far.comes:
            return (self.far.server,)
        return () if self.tablespace is None else (self.tablespace,)

    def incoming(self, planned: Planned) -> Name:
        """The name of a new partition until the swap."""
        return self.parent.sibling(fit(planned.name, INCOMING, NAME_LIMIT))

    @property
    def copied(self) -> tuple[str, ...]:
        """The columns that are copied: all but generated ones."""
        return tuple(column.name for column in self.shape.columns if column.generated is None)


def cut_at(held: Range, cuts: Iterable[Value], width: int) -> tuple[Range, ...]:
    """A range, cut before each of these values of the leading key column. width: how many columns the key has.

    Raises UsageError for a value that does not lie within the range, or twice.
    """
    ends = [_edge(cut, width) for cut in sorted(cuts, key=lambda cut: order((cut,)))]
    for one, other in pairwise(ends):
        if one == other:
            raise UsageError(f"{spell(one[0])} is named twice", fix="name each value once")
    for end in ends:
        if not _is_inside(end, held):
            raise UsageError(
                f"{spell(end[0])} does not lie within the partition",
                found=f"it holds keys {spell_bounds(held)}",
                fix="name a value above its lower end and below its upper end",
            )
    borders = [held.from_, *ends, held.to]
    return tuple(Range(low, high) for low, high in pairwise(borders))


def cut_by(held: Range, grid: Grid, width: int, low: Value | None, high: Value | None) -> tuple[Range, ...]:
    """A range, cut at every boundary of a grid. low, high: of its rows; they bound a range that is open.

    Raises UsageError when no boundary lies within it.
    """
    first = held.from_[0] if held.from_ is not None else low
    last = held.to[0] if held.to is not None else high
    if not _is_placed(first) or not _is_placed(last):
        raise UsageError(
            f"the partition holds keys {spell_bounds(held)}, and no row tells where that begins or ends",
            fix="name the values at which it is to be cut: --at",
        )
    assert first is not None and last is not None
    begin, end = grid.index(first), grid.index(last) + 1
    if end - begin > MOST_PARTITIONS:
        raise UsageError(
            f"spans of {grid.span} are {end - begin:,} partitions", fix=f"a wider span: at most {MOST_PARTITIONS:,}"
        )
    inside = [cut for slot in range(begin, end + 1) if _is_inside(_edge(cut := grid.start(slot), width), held)]
    if not inside:
        raise UsageError(
            f"no boundary of {grid.span} lies within the partition",
            found=f"it holds keys {spell_bounds(held)}",
            fix="name a narrower span, or the values: --at",
        )
    return cut_at(held, dict.fromkeys(inside), width)


def out_of_catch_all(
    siblings: Sequence[Bounds], wanted: Iterable[Range], low: Value | None, high: Value | None, *, all_of: bool
) -> tuple[Bounds, ...]:
    """The ranges that come out of a catch-all, and the catch-all that is left.

    siblings   the bounds of the other partitions
    all_of     each of the wanted ranges must be free; else what is free of those that may hold rows is taken
    Raises UsageError when a range that must be free is not, or nothing is left.
    """
    held = sorted((each for each in siblings if isinstance(each, Range) and not each.is_opaque), key=range_order)
    asked = list(wanted)
    if all_of:
        for each in asked:
            if (other := next((one for one in held if overlap(one, each)), None)) is not None:
                raise UsageError(
                    f"keys {spell_bounds(each)} do not lie in the catch-all alone",
                    found=f"another partition holds keys {spell_bounds(other)}",
                    fix="name values that no other partition holds",
                )
        return (*asked, CatchAll())
    free = [each for each in uncovered_slots(asked, held) if _may_hold(each, low, high)]
    if not free:
        raise UsageError("no row of the catch-all lies where a new partition could be", fix="name values: --at")
    return (*free, CatchAll())


def slots_of(grid: Grid, low: Value | None, high: Value | None, width: int) -> tuple[Range, ...]:
    """The slots of a grid that hold the values from `low` to `high`. Raises UsageError when they have no place."""
    if not _is_placed(low) or not _is_placed(high):
        raise UsageError("the catch-all holds no row with a key that has a place in time", fix="name values: --at")
    assert low is not None and high is not None
    return slots(grid, grid.index(low), grid.index(high), width)


def listed_apart(held: Listed, values: Sequence[Value | None]) -> tuple[Listed, Listed]:
    """The values in one list, the others in another. Raises UsageError for a value that is not there, or for all."""
    for value in values:
        if value not in held.values:
            raise UsageError(
                f"the partition does not hold {spell(value)}", found=f"it holds {spell_bounds(held)}", fix="name others"
            )
    rest = tuple(value for value in held.values if value not in values)
    if not rest:
        raise UsageError("these are all values of the partition", fix="leave at least one where it is")
    return Listed(tuple(dict.fromkeys(values))), Listed(rest)


def hashed_apart(held: Hashed) -> tuple[Hashed, Hashed]:
    """A hash part as two, with twice the modulus: a hash that leaves r by m leaves r or r + m by 2 m."""
    modulus = held.modulus * 2
    return Hashed(modulus, held.remainder), Hashed(modulus, held.remainder + held.modulus)


def merged(bounds: Sequence[Bounds]) -> Bounds:
    """The bounds of all these partitions together. Raises Refusal when no one partition can have them."""
    if len(bounds) < 2:
        raise UsageError("one partition alone cannot be merged", fix="name two or more")
    if all(isinstance(each, Range) for each in bounds):
        ranges = sorted((each for each in bounds if isinstance(each, Range)), key=range_order)
        for one, other in pairwise(ranges):
            if one.to != other.from_:
                raise Refusal(
                    "the partitions are no neighbours",
                    found=f"one ends with {spell_key(one.to)}, the next begins with {spell_key(other.from_)}",
                    fix="merge partitions without a gap between them",
                )
        return Range(ranges[0].from_, ranges[-1].to)
    if all(isinstance(each, Listed) for each in bounds):
        return Listed(tuple(value for each in bounds if isinstance(each, Listed) for value in each.values))
    hashed = [each for each in bounds if isinstance(each, Hashed)]
    if len(hashed) == len(bounds):
        return _merged_hashed(hashed)
    raise Refusal(
        "a catch-all is not merged with other partitions",
        fix="its rows go where they belong with `slabrow split`, or with `slabrow tend`",
    )


def _merged_hashed(parts: Sequence[Hashed]) -> Hashed:
    """Parts r, r + m, r + 2 m, … of the modulus n m are the part r of the modulus m."""
    modulus = reduce(lambda one, other: one * other // gcd(one, other), (each.modulus for each in parts))
    slots_held = sorted(slot for each in parts for slot in range(each.remainder, modulus, each.modulus))
    narrower = modulus // len(slots_held) if modulus % len(slots_held) == 0 else 0
    if not narrower or slots_held != list(range(slots_held[0] % narrower, modulus, narrower)):
        raise Refusal(
            "these hash parts together are no part",
            found=", ".join(f"remainder {each.remainder} of {each.modulus}" for each in parts),
            fix="merge remainders r and r + m of the modulus 2 m",
        )
    return Hashed(narrower, slots_held[0])


def _edge(value: Value, width: int) -> Key:
    return (value, *([Edge.MINVALUE] * (width - 1)))


def _is_inside(edge: Key, held: Range) -> bool:
    """Whether a range can be cut there: an end of its own is no cut."""
    is_above = held.from_ is None or order(held.from_) < order(edge)
    return is_above and (held.to is None or order(edge) < order(held.to))


def _is_placed(value: Value | None) -> bool:
    return value is not None and not isinstance(value, Edge | Far)


def _may_hold(range_: Range, low: Value | None, high: Value | None) -> bool:
    return (range_.from_ is None or high is None or order(range_.from_[:1]) <= order((high,))) and (
        range_.to is None or low is None or order((low,)) < order(range_.to[:1])
    )
