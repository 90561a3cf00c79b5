"""What a layout of the corpus is: a partitioned table t with constants for its key, and statements of its own."""

import itertools
from dataclasses import dataclass


@dataclass(frozen=True)
class Layout:
    """key: the columns that conditions name; values: three constants of the first column in order, and one of no partition.

    extra: conditions of its own; shapes: whole statements of its own."""

    name: str
    columns: str
    by: str
    partitions: tuple[str, ...]
    key: tuple[str, ...]
    values: tuple[str, str, str, str]
    second: tuple[str, str] = ("1", "2")
    extra: tuple[str, ...] = ()
    shapes: tuple[str, ...] = ()


def ranges(name: str, *edges: str) -> tuple[str, ...]:
    return tuple(
        f"CREATE TABLE {name}_{number} PARTITION OF {name} FOR VALUES FROM ({low}) TO ({high})"
        for number, (low, high) in enumerate(itertools.pairwise(edges))
    )


def months(kind: str) -> tuple[str, ...]:
    return ranges("t", *(f"'{kind} 2026-0{month}-01'".replace(f"{kind} ", "") for month in range(1, 7)))
