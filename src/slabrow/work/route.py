"""`route`: where does this value go (N12)."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import numpy as np

from slabrow.core.hashing.spread import SpreadCounter
from slabrow.core.table.bounds import Hashed, Range, spell_bounds
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Key, Kind, parse_value, spell_local
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.files.value_file import Columns, read_keys, split_key
from slabrow.servers.families import family_named, family_that_hashes
from slabrow.servers.hashing_protocols import HashAsked, OfflineHashing
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.layout_preview import key_columns


@dataclass(frozen=True, slots=True)
class Route:
    """values are as they were asked, None for NULL. partition is None when the server would refuse such a row."""

    values: tuple[str | None, ...]
    partition: str | None
    remainder: int | None
    why: str


@dataclass(frozen=True, slots=True)
class Routes:
    """table is None where keys were hashed without one; title is what they were routed by."""

    title: str
    table: str | None
    zone: str
    routes: tuple[Route, ...]


@dataclass(frozen=True, slots=True)
class Hashing:
    """A hash layout that need not exist: how its family hashes, and how many parts it has."""

    own: OfflineHashing
    parts: int
    zone: ZoneInfo

    def __str__(self) -> str:
        return self.own.title

    @property
    def width(self) -> int:
        """How many columns a key has."""
        return self.own.width

    def remainders(self, columns: Columns) -> list[int]:
        """The remainder of n keys, given column by column. Raises UsageError when a value does not fit its type."""
        found: list[int] = (self.own.hashes(columns) % np.uint64(self.parts)).tolist()
        return found


def hashing_of(asked: HashAsked, family: str | None, dsn: str) -> Hashing:
    """Raises UsageError for a family, a way or a type that there is not."""
    own = family_that_hashes(asked.by, family, dsn).hashings.make(asked)
    return Hashing(own, asked.parts, asked.zone)


def route_offline(hashing: Hashing, values: Sequence[str]) -> Routes:
    """The remainder of each key, computed here: no server is asked. Raises UsageError when a value does not fit."""
    rows = [split_key(text, hashing.width) for text in values]
    found = hashing.remainders([list(column) for column in zip(*rows, strict=True)])
    routes = [
        Route(row, None, remainder, f"remainder {remainder} of {hashing.parts}")
        for row, remainder in zip(rows, found, strict=True)
    ]
    return Routes(str(hashing), None, str(hashing.zone), tuple(routes))


def hashed_batches(hashing: Hashing, batches: Iterable[Columns]) -> Iterator[tuple[Columns, list[int]]]:
    """Batches of keys, column by column, each with the remainders of its keys."""
    for columns in batches:
        yield columns, hashing.remainders(columns)


def count_spread(hashing: Hashing, batches: Iterable[Columns]) -> SpreadCounter:
    """How the keys spread over hash parts; in constant memory, whatever their number."""
    counter = SpreadCounter(hashing.parts)
    for columns in batches:
        counter.add(hashing.own.hashes(columns))
    return counter


def spread_of_table(context: Context, table: Name, key: tuple[str, ...], parts: int) -> tuple[str, SpreadCounter, int]:
    """How the rows of a table would spread by some of its columns: a title, the counts, and the table's bytes.

    The server counts the rows of each key, in one scan; they are hashed here.
    Raises UsageError for a column that is not there, or whose type is not hashed here.
    """
    layout = Layout(table, By.HASH, key, parts=parts)
    with context.connected() as session, session.reading(f"count the keys of {table}"):
        found, _ = session.catalogue.whole(session.catalogue.relation(table))
        columns = key_columns(layout, session.catalogue.columns(found), found.spelling)
        types = ",".join(column.type_name for column in columns)
        hashings = family_named(session.traits.name).hashings
        # By the way that suits the key: a hash of one whole number where the family has such a one.
        way = hashings.ways[0] if len(columns) == 1 and columns[0].kind is Kind.INTEGER else hashings.ways[-1]
        hashing = hashings.make(HashAsked(by=way, types=types, parts=parts, zone=ZoneInfo("UTC")))
        counter = SpreadCounter(parts)
        context.scanning(found.rows, found.bytes, f"counting the keys of {found.spelling}")
        for texts, rows in session.counting.count_keys(found.name, columns):
            counter.add(hashing.hashes(texts), np.array(rows, np.int64))
        return f"{found.spelling} by hash ({', '.join(key)}) in {parts} parts", counter, found.bytes


def route(context: Context, table: Name, values: Sequence[str]) -> Routes:
    """The partition of each key. Range and list are worked out from the bounds; hash is asked of the server.

    values   one text a key, its columns separated by commas with CSV quoting, an empty unquoted field for NULL
    Raises UsageError when a value does not fit the key.
    """
    zone = _zone(context)
    with context.connected() as session:
        tree = session.catalogue.tree(table)
        keys = [split_key(text, len(tree.routed_by)) for text in values]
        return _routes(session, tree, keys, zone)


def route_file(context: Context, table: Name, path: str) -> Iterator[Routes]:
    """The same for the keys of a file, batch by batch, in constant memory."""
    zone = _zone(context)
    with context.connected() as session:
        tree = session.catalogue.tree(table)
        for columns in read_keys(path, len(tree.routed_by)):
            keys = list(zip(*columns, strict=True))
            for first in range(0, len(keys), _ASKED_AT_ONCE):
                yield _routes(session, tree, keys[first : first + _ASKED_AT_ONCE], zone)


_ASKED_AT_ONCE = 5_000  # keys in one query to the server


def _zone(context: Context) -> ZoneInfo:
    layout = context.layout_or_none()
    return ZoneInfo(layout.zone if layout else "UTC")


def _routes(session: Session, tree: Tree, keys: Sequence[tuple[str | None, ...]], zone: ZoneInfo) -> Routes:
    with session.explained("ask the server for the partition"):
        homes = session.counting.routes(tree, keys, zone)
    if homes is None:
        routes = tuple(_placed(tree, key, zone) for key in keys)
    else:
        routes = tuple(_told(tree, key, home, zone) for key, home in zip(keys, homes, strict=True))
    return Routes(_title(tree), tree.spelling, str(zone), routes)


def _title(tree: Tree) -> str:
    return f"{tree.spelling} by {tree.by} ({', '.join(column.text for column in tree.key)})"


def _placed(tree: Tree, texts: tuple[str | None, ...], zone: ZoneInfo) -> Route:
    key: Key | None = None
    if None not in texts:
        key = tuple(parse_value(text or "", column.kind, zone) for text, column in zip(texts, tree.key, strict=True))
        _refuse_unordered(tree)
    home = tree.home(key)
    if home is None:
        why = "a NULL key fits no partition" if key is None else "no partition holds it"
        return Route(texts, None, None, f"{why} and there is no catch-all: the server would refuse such a row")
    return Route(texts, home.spelling, None, _why(home, key, zone))


def _refuse_unordered(tree: Tree) -> None:
    if tree.by is By.RANGE and any(kind in (Kind.OTHER, Kind.TEXT) for kind in tree.kinds):
        types = ", ".join(column.type_name for column in tree.key)
        raise UsageError(
            "values of this key cannot be put in order here",
            found=f"the key is of type {types}",
            fix="ask the server: INSERT in a transaction that is rolled back, RETURNING tableoid::regclass",
        )


def _why(home: Partition, key: Key | None, zone: ZoneInfo) -> str:
    match home.bounds:
        case Range(from_=from_, to=to):
            low = spell_local(from_[0], zone) if from_ else "below everything"
            high = spell_local(to[0], zone) if to else "without end"
            if from_ is not None and key is not None and key[0] == from_[0]:
                return f"it is the lower bound itself, which is in; {high} is out"
            return f"from {low} (in) to {high} (out)"
        case _ if key is None:
            return "a NULL key; " + spell_bounds(home.bounds)
        case _:
            return spell_bounds(home.bounds)


def _told(tree: Tree, key: tuple[str | None, ...], home: str | None, zone: ZoneInfo) -> Route:
    """As the server says it."""
    found = next((each for each in tree.partitions if each.spelling == home), None)
    if found is None:
        holds = "its remainder" if tree.by is By.HASH else "it"
        return Route(key, None, None, f"no partition holds {holds}: the server would refuse such a row")
    remainder = found.bounds.remainder if isinstance(found.bounds, Hashed) else None
    above = next((each for each in tree.partitions if each.spelling == found.parent), None)
    why = _why(found, None if None in key else _read(tree, key, zone), zone)
    if above is not None:
        why = f"{spell_bounds(above.bounds)}; within, {why}"
    return Route(key, home, remainder, why)


def _read(tree: Tree, key: tuple[str | None, ...], zone: ZoneInfo) -> Key | None:
    """The key's values, where they can be read here: only what is said of them depends on it."""
    try:
        return tuple(parse_value(text or "", each.kind, zone) for text, each in zip(key, tree.key, strict=False))
    except UsageError:
        return None
