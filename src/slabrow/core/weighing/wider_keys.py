"""Unique indexes hold the partition key too, once a table is partitioned: their entries become longer."""

from collections.abc import Sequence
from dataclasses import replace

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.relation import IndexShape
from slabrow.core.values.key_values import Kind

_ALIGNED = 8  # bytes: entries begin at multiples of them (MAXALIGN, and fetch_att's rules for columns, PostgreSQL)
_FILLED = 0.9  # of a leaf block, when it is built (BTREE_DEFAULT_FILLFACTOR)
# Bytes of types of one length, each of which begins at a multiple of them; a UUID begins anywhere.
_LENGTHS = {"smallint": 2, "integer": 4, "date": 4, "real": 4, "boolean": 1, "bigint": 8, "double precision": 8}
_USUAL = 8  # bytes of other types: of most keys


def with_wider_keys(facts: TableFacts, key: Sequence[str]) -> TableFacts:
    """The facts with the bytes that unique indexes have once they hold all columns of the key. Others stay as they are.

    key   the columns of the partition key
    """
    return replace(facts, indexes=tuple(_widened(facts, index, key) for index in facts.indexes))


def _widened(facts: TableFacts, index: IndexShape, key: Sequence[str]) -> IndexShape:
    missing = [name for name in key if name not in index.columns]
    if not index.is_unique or not missing or not index.bytes or not facts.rows:
        return index
    own = [_length(facts, name) for name in index.columns]
    # Behind columns of any length the new ones are taken to begin where an entry may.
    before = _end([(length, start) for length, start in own if length]) if all(length for length, _ in own) else 0
    after = _end([_length(facts, name) for name in missing], before)
    added = _padded(after) - _padded(before)
    entry = index.bytes * _FILLED / facts.rows
    return replace(index, bytes=round(index.bytes * (entry + added) / entry))


def _end(columns: Sequence[tuple[int, int]], begin: int = 0) -> int:
    """Where the last of the columns ends, with the gaps that let each begin at a multiple of its own."""
    for length, start in columns:
        begin = -(-begin // start) * start + (length or _USUAL)
    return begin


def _padded(length: int) -> int:
    return -(-length // _ALIGNED) * _ALIGNED


def _length(facts: TableFacts, name: str) -> tuple[int, int]:
    """The bytes of a column, and at multiples of which it begins; 0 bytes for any length, and for an expression."""
    column = facts.columns.get(name)
    if column is None:
        return 0, 4
    if column.kind is Kind.UUID:
        return 16, 1
    if column.kind in (Kind.TIMESTAMP, Kind.TIMESTAMPTZ):
        return 8, 8
    length = _LENGTHS.get(column.type_name, 0)
    return length, length or 4
