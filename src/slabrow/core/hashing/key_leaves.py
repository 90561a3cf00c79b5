"""MariaDB's HASH and KEY partitioning, bit for bit and vectorised: which leaf a key has, without a server.

Sources: the server's own answers (`SELECT … PARTITION (pN)`, MariaDB 10.11) for every type, both algorithms, linear or
not; the running hash is the one of its hash indexes (my_hash_sort, strings/ctype-*.c), the linear rule that of Litwin
("Linear hashing", VLDB 1980). Numbers are hashed as their stored little-endian bytes; no big-endian server was tried.
"""

# HASH takes the remainder of a whole number, without its sign. KEY puts the bytes of all columns through one running
# hash, one after the other. ALGORITHM=2, which is the usual one, sends the bytes of numbers through the weights of
# latin1_swedish_ci as if they were text, and cuts blanks off their end; ALGORITHM=1 does that to ENUM and SET instead.

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from slabrow.core.hashing.collation_weights import swedish_ci

Bytes = NDArray[np.uint8]
U64 = NDArray[np.uint64]
Leaves = NDArray[np.int64]

_NULL = -(1 << 63)  # what HASH takes a NULL for
_BLANK = 0x20


@dataclass(frozen=True, slots=True)
class KeyBytes:
    """A key column of n rows, as the bytes that are hashed.

    data     n rows of as many bytes as the longest has
    lengths  how many of them each row has
    nulls    n truth values; None when there is no NULL
    """

    data: Bytes
    lengths: NDArray[np.int64]
    nulls: NDArray[np.bool_] | None = None

    def __len__(self) -> int:
        return len(self.data)


def key_bytes(texts: Sequence[bytes | None]) -> KeyBytes:
    """Rows of different lengths; None is NULL."""
    lengths = np.array([len(text or b"") for text in texts], np.int64)
    width = int(lengths.max(initial=0))
    joined = b"".join((text or b"").ljust(width, b"\0") for text in texts)
    nulls = np.array([text is None for text in texts], np.bool_)
    data = np.frombuffer(joined, np.uint8).reshape(len(texts), width)
    return KeyBytes(data, lengths, nulls if nulls.any() else None)


def as_text(column: KeyBytes) -> KeyBytes:
    """The bytes as latin1_swedish_ci weighs them, blanks at the end cut off."""
    lengths = column.lengths.copy()
    for place in range(column.data.shape[1] - 1, -1, -1):
        lengths[(lengths == place + 1) & (column.data[:, place] == _BLANK)] = place
    return KeyBytes(np.frombuffer(swedish_ci(), np.uint8)[column.data], lengths, column.nulls)


def running_hash(columns: Sequence[KeyBytes]) -> U64:
    """The 64-bit running hash of n keys over all their columns."""
    rows = len(columns[0])
    total = np.full(rows, 1, np.uint64)
    step = np.full(rows, 4, np.uint64)
    low, eight, three, one = (np.uint64(number) for number in (63, 8, 3, 1))
    with np.errstate(over="ignore"):  # 64 bits, and what goes beyond is lost: so the server counts
        for column in columns:
            there = np.ones(rows, np.bool_) if column.nulls is None else ~column.nulls
            for place in range(column.data.shape[1]):
                now = there & (column.lengths > place)
                byte = column.data[:, place].astype(np.uint64)
                mixed = total ^ (((total & low) + step) * byte + (total << eight))
                total = np.where(now, mixed, total)
                step = np.where(now, step + three, step)
            if column.nulls is not None:
                total = np.where(column.nulls, total ^ ((total << one) | one), total)
    return total


def key_leaves(columns: Sequence[KeyBytes], parts: int, *, linear: bool = False) -> Leaves:
    """PARTITION BY [LINEAR] KEY: the number of the leaf of n keys, from 0."""
    hashes = (running_hash(columns) & np.uint64(0xFFFFFFFF)).astype(np.int64)
    return _linear(hashes, parts) if linear else hashes % parts


def hash_leaves(
    values: NDArray[Any], parts: int, *, linear: bool = False, nulls: NDArray[np.bool_] | None = None
) -> Leaves:
    """PARTITION BY [LINEAR] HASH: the number of the leaf of n whole numbers, from 0.

    values   int64; a number of BIGINT UNSIGNED beyond its end is taken for the negative one with the same bits
    """
    numbers = values.astype(np.uint64).view(np.int64) if values.dtype == np.uint64 else values.astype(np.int64)
    if linear:
        return _linear(numbers if nulls is None else np.where(nulls, 0, numbers), parts)
    if nulls is not None:
        numbers = np.where(nulls, _NULL, numbers)
    # The remainder without its sign; the least number has no positive one in 64 bits.
    return np.abs(np.fmod(numbers, parts))


def _linear(numbers: NDArray[np.int64], parts: int) -> Leaves:
    """The low bits of a number, one bit less where they name a leaf that is not there yet."""
    mask = (1 << (parts - 1).bit_length()) - 1
    found = numbers & mask
    return np.where(found >= parts, found & (mask >> 1), found)
