"""Reads keys from a file: CSV without a header, as the server's own COPY writes it. Constant memory."""

import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import TextIO

from slabrow.core.values.errors import UsageError

BATCH = 100_000  # lines
Columns = list[list[str | None]]  # one list of n texts for each column; None is NULL
_FIELD = re.compile(r'(?:"((?:[^"]|"")*)"|([^",]*))(,|$)', re.DOTALL)


def split_key(text: str, width: int) -> tuple[str | None, ...]:
    """One key of `width` columns: an empty unquoted field is NULL, `""` the empty text.

    A key of one column without quotes is the text as it is, commas included. Raises UsageError for another width.
    """
    if width == 1 and not text.startswith('"'):
        return (text or None,)
    fields: list[str | None] = []
    at, more = 0, True
    while more:
        match = _FIELD.match(text, at)
        if match is None:
            raise UsageError(f"{text!r} is not CSV", fix='put "double quotes" around a field with commas or quotes')
        quoted, plain, comma = match.groups()
        fields.append(quoted.replace('""', '"') if quoted is not None else plain or None)
        at, more = match.end(), comma == ","
    if len(fields) != width:
        raise UsageError(
            f"{text!r} has {len(fields)} columns",
            found=f"the key has {width}",
            fix="write a key of several columns as one argument: 17,2026-03-01",
        )
    return tuple(fields)


def read_keys(path: str, width: int) -> Iterator[Columns]:
    """Keys in batches, column by column. path: a file, or `-` for standard input.

    Raises UsageError when the file cannot be read, or a line in it is not a key of `width` columns.
    """
    with _opened(path) as lines:
        number = 0
        while batch := list(islice(lines, BATCH)):
            if width == 1 and not any('"' in line for line in batch):
                yield [[line.rstrip("\r\n") or None for line in batch]]
            else:
                rows = []
                for place, record in enumerate(_records(batch, lines), number + 1):
                    try:
                        rows.append(split_key(record, width))
                    except UsageError as error:
                        raise UsageError(f"{path}, key {place}: {error.problem}", found=error.found) from None
                yield [list(column) for column in zip(*rows, strict=True)]
            number += len(batch)


def _records(batch: list[str], rest: TextIO) -> Iterator[str]:
    """Lines, joined where a quoted field holds a line break."""
    record = ""
    for line in batch:
        record += line
        if record.count('"') % 2 == 0:
            yield record.rstrip("\r\n")
            record = ""
    while record:
        line = rest.readline()
        record += line
        if record.count('"') % 2 == 0 or not line:
            yield record.rstrip("\r\n")
            record = ""


@contextmanager
def _opened(path: str) -> Iterator[TextIO]:
    if path == "-":
        yield sys.stdin
        return
    try:
        with Path(path).open(encoding="utf-8", newline="\n") as lines:
            yield lines
    except FileNotFoundError:
        raise UsageError(f"there is no file {path}", fix="name one with --values FILE, or - for stdin") from None
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} cannot be read", found=str(error)) from None
