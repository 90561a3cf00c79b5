"""The bounds of a partition: which keys it holds. Half-open everywhere: `from` is in, `to` is out."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import assert_never

from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Edge, Key, Opaque, Value, order, spell


@dataclass(frozen=True, slots=True)
class Range:
    """Keys from `from_` (in) up to `to` (out), compared column by column."""

    from_: Key | None  # in;  None: open below (the underscore only because Python keeps the word)
    to: Key | None  # out; None: open above

    def __post_init__(self) -> None:
        if self.from_ is None or self.to is None or self.is_opaque:
            return
        if not order(self.from_) < order(self.to):
            raise LayoutError(
                f"bounds from {spell_key(self.from_)} to {spell_key(self.to)} hold no key",
                fix="`from` must be below `to`",
            )

    @property
    def is_opaque(self) -> bool:
        """True when an end is a value that Slabrow cannot place in an order."""
        for end in (self.from_, self.to):
            for value in end or ():
                if isinstance(value, Opaque):
                    return True
        return False

    def __contains__(self, key: Key) -> bool:
        place = order(key)
        return (self.from_ is None or order(self.from_) <= place) and (self.to is None or place < order(self.to))


@dataclass(frozen=True, slots=True)
class Listed:
    """Keys of one column that are among `values`; None among them is SQL's NULL."""

    values: tuple[Value | None, ...]


@dataclass(frozen=True, slots=True)
class Hashed:
    """Keys whose hash leaves `remainder` when divided by `modulus`."""

    modulus: int
    remainder: int


@dataclass(frozen=True, slots=True)
class CatchAll:
    """Every key that no other partition of the same parent holds (SQL: DEFAULT)."""


Bounds = Range | Listed | Hashed | CatchAll


def normal_end(end: Key) -> Key | None:
    """None for an end that begins with MINVALUE or MAXVALUE: nothing lies beyond it."""
    return None if isinstance(end[0], Edge) and end[0] in (Edge.MINVALUE, Edge.MAXVALUE) else end


def spell_key(key: Key | None) -> str:
    """A key as one text: its value, or `(a, b)` for several columns."""
    if key is None:
        return "open"
    return spell(key[0]) if len(key) == 1 else "(" + ", ".join(map(spell, key)) + ")"


def spell_bounds(bounds: Bounds) -> str:
    """Bounds in words that say what is in and what is out."""
    match bounds:
        case Range():
            below = f"from {spell_key(bounds.from_)} (in)" if bounds.from_ else "from below everything"
            above = f"to {spell_key(bounds.to)} (out)" if bounds.to else "without end"
            return f"{below} {above}"
        case Listed():
            return "one of " + ", ".join(map(spell, bounds.values))
        case Hashed():
            return f"remainder {bounds.remainder} of {bounds.modulus}"
        case CatchAll():
            return "all that no other partition holds"
        case _:
            assert_never(bounds)


def range_order(bounds: Range) -> tuple[tuple[tuple[float, object], ...], tuple[tuple[float, object], ...]]:
    """Sorts ranges by where they begin, then by where they end; open ends lie outermost."""
    return (order(bounds.from_) if bounds.from_ else ((-2, 0),), order(bounds.to) if bounds.to else ((2, 0),))


def uncovered(wanted: Range, held: Sequence[Range]) -> list[Range]:
    """The pieces of `wanted` that none of `held` (in `range_order`, without overlaps) covers."""
    pieces: list[Range] = []
    start = wanted.from_
    for range_ in held:
        if not overlap(Range(start, wanted.to), range_):
            continue
        if range_.from_ is not None and (start is None or order(start) < order(range_.from_)):
            pieces.append(Range(start, range_.from_))
        if range_.to is None or (wanted.to is not None and order(wanted.to) <= order(range_.to)):
            return pieces
        start = range_.to
    return [*pieces, Range(start, wanted.to)]


def uncovered_slots(wanted: Iterable[Range], held: Sequence[Range]) -> Iterator[Range]:
    """The pieces of all `wanted` ranges that none of `held` covers; both in `range_order`, each without overlaps.

    One pass over both: thousands of slots against thousands of partitions take no time.
    """
    first = 0
    for slot in wanted:
        if first < len(held) and held[first] == slot:  # nearly always, and much cheaper to tell
            first += 1
            continue
        while first < len(held) and _ends_before(held[first], slot):
            first += 1
        last = first
        while last < len(held) and overlap(held[last], slot):
            last += 1
        yield from uncovered(slot, held[first:last])


def _ends_before(range_: Range, slot: Range) -> bool:
    return range_.to is not None and slot.from_ is not None and order(range_.to) <= order(slot.from_)


def beyond_all(held: Iterable[Range], made: Iterable[Bounds]) -> tuple[Range | None, Range | None]:
    """The ranges below the lowest and above the highest of these; None where that end is open, or no range is given.

    made   bounds of any kind, of which only ranges count
    """
    ranges = [*held, *(each for each in made if isinstance(each, Range) and not each.is_opaque)]
    starts, ends = [each.from_ for each in ranges], [each.to for each in ranges]
    known_starts, known_ends = [each for each in starts if each], [each for each in ends if each]
    below = Range(None, min(known_starts, key=order)) if known_starts and len(known_starts) == len(starts) else None
    above = Range(max(known_ends, key=order), None) if known_ends and len(known_ends) == len(ends) else None
    return below, above


def overlap(one: Range, other: Range) -> bool:
    """True when some key would lie in both."""

    def begins_before_end(first: Range, second: Range) -> bool:
        return first.from_ is None or second.to is None or order(first.from_) < order(second.to)

    return begins_before_end(one, other) and begins_before_end(other, one)
