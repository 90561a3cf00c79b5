"""The hash part that each key goes to, as the server works it out. It loads NumPy: only hash layouts need it."""

from collections.abc import Sequence

import numpy as np

from slabrow.core.hashing.hash_encoding import HashType, keys_hash, parse_types


def hash_types(type_names: Sequence[str]) -> tuple[HashType, ...]:
    """Of the key's columns. Raises UsageError for a type whose hash is not known."""
    return tuple(parse_types(name)[0] for name in type_names)


def key_places(columns: Sequence[Sequence[str | None]], type_names: Sequence[str], parts: int) -> list[int]:
    """For each key its remainder. columns: the texts of each key column. Raises as `hash_types` and `keys_hash` do."""
    return [int(place) for place in keys_hash(columns, hash_types(type_names)) % np.uint64(parts)]
