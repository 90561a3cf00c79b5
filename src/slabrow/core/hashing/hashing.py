"""PostgreSQL's hash partitioning, bit for bit and vectorised: which remainder a key has, without a server.

Sources: the server's hash functions are Bob Jenkins' lookup3 on little-endian bytes (src/common/hashfn.c,
hash_bytes_extended and hash_bytes_uint32_extended); the hash of a key combines those of its columns that are not NULL
(src/backend/partitioning/partbounds.c, compute_partition_hash_value; src/include/common/hashfn.h, hash_combine64).
A big-endian server hashes bytes in another order; PostgreSQL documents no such platform as current, and none is tested.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

U32 = NDArray[np.uint32]
U64 = NDArray[np.uint64]

PARTITION_SEED = 0x7A5B22367996DCFD  # HASH_PARTITION_SEED, partbounds.h
_START = 0x9E3779B9 + 3923095
_BLOCK = 1 << 15  # rows worked on at a time, so that the intermediate arrays stay in the processor's cache


@dataclass(frozen=True, slots=True)
class Words:
    """n keys that are hashed as one 32-bit word: int2, int4, date, bool."""

    values: NDArray[np.int32]


@dataclass(frozen=True, slots=True)
class LongWords:
    """n keys that are hashed as a 64-bit integer: int8, timestamp, timestamptz."""

    values: NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Texts:
    """n keys that are hashed as bytes: text, bytea, uuid; and the digits of numeric.

    mask   n numbers that the hash is XORed with, or None
    fixed  hashes that are known without hashing, by row
    """

    values: Sequence[bytes]
    mask: U64 | None = None
    fixed: dict[int, int] | None = None


@dataclass(frozen=True, slots=True)
class Records:
    """n keys of a composite type, column by column."""

    values: Sequence["HashColumn"]

    def __len__(self) -> int:
        return len(self.values[0])


@dataclass(frozen=True, slots=True)
class HashColumn:
    """A key column of n rows. nulls: n truth values, None when there is no NULL."""

    keys: Words | LongWords | Texts | Records
    nulls: NDArray[np.bool_] | None = None

    def __len__(self) -> int:
        return len(self.keys) if isinstance(self.keys, Records) else len(self.keys.values)


def partition_hash(columns: Sequence[HashColumn]) -> U64:
    """The 64-bit hash of n keys; its remainder by a modulus is the partition. NULL columns add nothing to it."""
    total: U64 | None = None
    for column in columns:
        hashes = _hashes(column.keys)
        if column.nulls is None:
            total = _combine(total, hashes)
        else:
            before = np.zeros(len(column), np.uint64) if total is None else total
            total = np.where(column.nulls, before, _combine(before, hashes))
    return np.zeros(0, np.uint64) if total is None else total


def remainders(columns: Sequence[HashColumn], modulus: int) -> NDArray[np.int64]:
    """The remainder of n keys by `modulus`, from 1 up."""
    hashes = partition_hash(columns)
    if modulus & (modulus - 1) == 0:
        hashes &= np.uint64(modulus - 1)  # several times faster than a division
    else:
        hashes %= np.uint64(modulus)
    return hashes.view(np.int64)


def homes(columns: Sequence[HashColumn], parts: Sequence[tuple[int, int]]) -> NDArray[np.int64]:
    """For n keys the place in `parts` of the partition that holds each; -1 where none does.

    parts   (modulus, remainder) of each partition; moduli may differ when each divides the next larger one
    """
    largest = max(modulus for modulus, _ in parts)
    table = np.full(largest, -1, np.int64)
    for place, (modulus, remainder) in enumerate(parts):
        table[remainder::modulus] = place
    return table[remainders(columns, largest)]


def _hashes(keys: Words | LongWords | Texts | Records) -> U64:
    match keys:
        case Words(values):
            return _in_blocks(values.view(np.uint32), _hash_words)
        case LongWords(values):
            return _in_blocks(values, _hash_long_words)
        case Texts():
            return _hash_texts(keys)
        case Records():
            return _hash_records(keys)


def _hash_records(records: Records) -> U64:
    """hash_record_extended: each column's hash is added to 31 times what came before; NULL counts as 0."""
    total = np.zeros(len(records), np.uint64)
    for column in records.values:
        hashes = _hashes(column.keys)
        if column.nulls is not None:
            hashes = np.where(column.nulls, np.uint64(0), hashes)
        total = (total << np.uint64(5)) - total + hashes
    return total


def _in_blocks(values: NDArray[Any], hashed: Callable[[NDArray[Any]], U64]) -> U64:
    result = np.empty(len(values), np.uint64)
    for first in range(0, len(values), _BLOCK):
        result[first : first + _BLOCK] = hashed(values[first : first + _BLOCK])
    return result


def _combine(total: U64 | None, other: U64) -> U64:
    """hash_combine64, into `other`; a total of None is 0, with which most of it falls away."""
    other += np.uint64(0x49A0F4DD15E5A8E3)
    if total is not None:
        other += total << np.uint64(54)
        other += total >> np.uint64(7)
        other ^= total
    return other


def _hash_words(words: U32) -> U64:
    """hash_bytes_uint32_extended. Only `a` depends on the key when the last mixing begins; b and c are of length 1."""
    a, b, c = _seeded(4)
    return _finished(words + a, b, c)


def _hash_long_words(values: NDArray[np.int64]) -> U64:
    """hashint8extended: the high half is XORed into the low one, inverted below zero, so that an int8 has the hash of
    an int4 of the same value.
    """
    folded = values >> 32
    folded ^= values
    folded ^= values >> 63
    return _hash_words(folded.astype(np.uint32))


def _hash_texts(texts: Texts) -> U64:
    """hash_bytes_extended, for all texts of one length at a time."""
    result = np.empty(len(texts.values), np.uint64)
    lengths = np.fromiter(map(len, texts.values), np.int64, len(texts.values))
    for length in np.unique(lengths):
        rows = np.flatnonzero(lengths == length)
        packed = b"".join([texts.values[row] for row in rows.tolist()])
        for first in range(0, len(rows), _BLOCK):
            some = rows[first : first + _BLOCK]
            data = np.frombuffer(packed, np.uint8, len(some) * length, first * length).reshape(len(some), length)
            result[some] = _hash_matrix(data)
    if texts.mask is not None:
        result ^= texts.mask
    for row, known in (texts.fixed or {}).items():
        result[row] = known
    return result


def _hash_matrix(data: NDArray[np.uint8]) -> U64:
    """N texts of one length: an n × length array of bytes."""
    rows, length = data.shape
    padded = np.zeros((rows, -(-max(length, 1) // 12) * 12), np.uint8)
    padded[:, :length] = data
    words = padded.view("<u4")
    a, b, c = (np.repeat(start, rows) for start in _seeded(length))
    whole = length // 12
    for place in range(0, 3 * whole, 3):
        a, b, c = _mixed(a + words[:, place], b + words[:, place + 1], c + words[:, place + 2])
    if length % 12:
        # The lowest byte of the last word is kept for the length, so what is left of it stands one byte higher.
        rest = words[:, 3 * whole :]
        a, b, c = a + rest[:, 0], b + rest[:, 1], c + (rest[:, 2] << np.uint32(8))
    return _finished(a, b, c)


def _seeded(length: int) -> tuple[U32, U32, U32]:
    """The state after the seed, each word as an array of length 1: the same for all keys of one length."""
    start = np.array([(_START + length) & 0xFFFFFFFF], np.uint32)
    high, low = np.uint32(PARTITION_SEED >> 32), np.uint32(PARTITION_SEED & 0xFFFFFFFF)
    return _mixed(start + high, start + low, start)


def _turned(x: U32, by: int) -> U32:
    turned = x << np.uint32(by)
    turned |= x >> np.uint32(32 - by)
    return turned


def _mixed(a: U32, b: U32, c: U32) -> tuple[U32, U32, U32]:
    for by in (4, 6, 8, 16, 19, 4):
        a = a - c
        a ^= _turned(c, by)
        c = c + b
        a, b, c = b, c, a  # each round does the same with the three moved on by one
    return a, b, c


def _finished(a: U32, b: U32, c: U32) -> U64:
    for by in (14, 11, 25, 16, 4, 14, 24):
        c = c ^ b
        c -= _turned(b, by)
        a, b, c = b, c, a
    # After seven rounds the words stand one place further than they began.
    result = a.astype(np.uint64)
    result <<= np.uint64(32)
    result |= b
    return result
