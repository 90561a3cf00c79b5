"""Unique indexes hold the partition key too, once a table is partitioned: their entries become longer."""

from collections.abc import Sequence
from dataclasses import replace

from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.relation import IndexShape
from slabrow.core.values.key_values import Kind

_ALIGNED = 8  # bytes: entries begin at multiples of them (MAXALIGN, PostgreSQL)
_FILLED = 0.9  # of a leaf block, when it is built (BTREE_DEFAULT_FILLFACTOR)
_SHORT = {"smallint": 2, "integer": 4, "date": 4, "boolean": 1}  # types of fewer than 8 bytes
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
    added = sum(_width(facts, name) for name in missing)
    entry = index.bytes * _FILLED / facts.rows
    longer = entry + _ALIGNED * -(-added // _ALIGNED)
    return replace(index, bytes=round(index.bytes * longer / entry))


def _width(facts: TableFacts, name: str) -> int:
    column = facts.columns[name]
    return 16 if column.kind is Kind.UUID else _SHORT.get(column.type_name, _USUAL)
