"""Rows from NumPy arrays into PostgreSQL's binary COPY format, without a Python loop over rows.

Format: PostgreSQL manual, COPY, "Binary Format": a header, then for each row a 16-bit count of fields and each field as
a 32-bit length (-1 for NULL) with its bytes, then -1. Everything is big-endian.
"""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"


@dataclass(frozen=True, slots=True)
class Field:
    """A column of n values.

    values   integers and floats of the server's width in any byte order, or byte strings (dtype S) without NULs in them
    nulls    n truth values, True where the field is NULL; None when it never is
    """

    values: Array
    nulls: Array | None = None


def encode(fields: Sequence[Field]) -> bytes:
    """Rows in binary COPY format, without header and trailer. All fields have the same length n."""
    rows = len(fields[0].values)
    encoded = [_swapped(field.values) for field in fields]
    layout = np.dtype(
        [
            ("count", ">i2"),
            *(
                part
                for place, values in enumerate(encoded)
                for part in ((f"length{place}", ">i4"), (f"value{place}", values.dtype))
            ),
        ]
    )
    packed = np.zeros(rows, layout)
    packed["count"] = len(fields)
    kept = np.ones((rows, layout.itemsize), bool)
    for place, (field, values) in enumerate(zip(fields, encoded, strict=True)):
        lengths = _lengths(values)
        if field.nulls is not None:
            lengths = np.where(field.nulls, -1, lengths)
        packed[f"length{place}"] = lengths
        packed[f"value{place}"] = values
        offset, width = layout.fields[f"value{place}"][1], values.dtype.itemsize  # type: ignore[index]
        if field.nulls is not None or values.dtype.kind == "S":
            kept[:, offset : offset + width] = np.arange(width) < np.maximum(lengths, 0)[:, None]
    raw = packed.view(np.uint8).reshape(rows, layout.itemsize)
    return raw.tobytes() if kept.all() else raw[kept].tobytes()


def _swapped(values: Array) -> Array:
    return values if values.dtype.kind == "S" else values.astype(values.dtype.newbyteorder(">"), copy=False)


def _lengths(values: Array) -> Array:
    if values.dtype.kind == "S":
        return np.char.str_len(values).astype(np.int32)
    return np.full(len(values), values.dtype.itemsize, np.int32)


def one_ahead(chunks: Iterator[bytes]) -> Iterator[bytes]:
    """The same chunks, the next one made while this one is on its way: NumPy and the socket both let go of the GIL."""
    with ThreadPoolExecutor(1) as maker:
        coming = maker.submit(next, chunks, b"")
        while chunk := coming.result():
            coming = maker.submit(next, chunks, b"")
            yield chunk
