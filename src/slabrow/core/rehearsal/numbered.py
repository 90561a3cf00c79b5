"""A different value for each number: words, identifiers, and the numbers themselves in another order."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_LETTERS = b"abcdefghijklmnopqrstuvwxyz"
_LONGEST_TEXT = 4_000  # bytes


def letters_of(type_name: str) -> int | None:
    """The most letters that a type such as `character varying(20)` holds; None without a limit."""
    inner = type_name.partition("(")[2].partition(")")[0]
    return int(inner) if inner.isdigit() else None


def words(numbers: Array, width: int, most: int | None = None) -> Array:
    """A word for each number, different for different numbers and in their order where that fits into the width.

    width   bytes with the server's own byte for the length; most: letters that the type holds
    """
    greatest = int(numbers.max(initial=1))
    needed = 1
    while 26**needed <= greatest:
        needed += 1
    letters = max(needed, min(max(1, width - 1), _LONGEST_TEXT))
    letters = max(1, min(letters, most or letters))
    made = np.full((len(numbers), letters), _LETTERS[0], np.uint8)
    left = numbers.astype(np.int64)
    alphabet = np.frombuffer(_LETTERS, np.uint8)
    for place in range(min(needed, letters) - 1, -1, -1):
        made[:, place] = alphabet[left % 26]
        left = left // 26
    for place in range(needed, letters):  # what a reader would take for a word, and a compressor for no repetition
        made[:, place] = alphabet[(numbers * (2 * place + 7) + place * place) % 26]
    return made.view(f"S{letters}").reshape(len(numbers))


def shuffled_nearby(ranks: Array, rows: int, correlation: float) -> Array:
    """Each number below `rows` once, moved within stretches of the table.

    The correlation of the numbers with their places is 1 less the cubes of the stretches' shares of the table: 1 - w²
    with many of width w, 3 w (1 - w) with one of w and the rest.
    """
    lost = max(0.0, 1 - correlation)
    share = np.sqrt(lost) if lost < 0.25 else (1 + np.sqrt(max(0.0, 1 - 4 * correlation / 3))) / 2
    width = min(rows, round(rows * share))
    if width < 2:
        return ranks
    whole = rows // width * width
    begins = ranks // width * width
    moved = _shuffled(ranks - begins, width)
    if whole < rows:
        moved = np.where(ranks < whole, moved, _shuffled(ranks - begins, rows - whole))
    placed: Array = begins + moved
    return placed


def _shuffled(ranks: Array, rows: int) -> Array:
    """Each number below `rows` once, far from its neighbours: multiplied by a number without a common divisor."""
    if rows > 3_000_000_000:  # the product has to fit 63 bits
        return ranks
    factor = max(1, round(rows * 0.6180339887))
    while np.gcd(factor, rows) != 1:
        factor += 1
    shuffled: Array = (ranks * factor + 1) % rows
    return shuffled


def scattered(numbers: Array) -> Array:
    """16 bytes for each number, as if drawn at random: two rounds of SplitMix64 (Steele, Lea and Flood, 2014)."""
    halves = []
    for salt in (0x9E3779B97F4A7C15, 0xD1B54A32D192ED03):
        mixed = numbers.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(salt)
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        halves.append(mixed ^ (mixed >> np.uint64(31)))
    return np.stack(halves, axis=1).astype(">u8").view("V16").reshape(len(numbers))
