"""Cuts a server log into segments that can be read side by side: each begins where a message begins.

In a csvlog a line that looks like a beginning may lie within a quoted statement, so quotes are counted up to the cut;
in a jsonlog every line is a message; in a stderr log the lines of a message that follow its first begin with a tab, and
a DETAIL belongs to the message before it.
"""

import gzip
import io
import re
from pathlib import Path
from typing import BinaryIO, TextIO, cast

_BLOCK = 4 << 20
_FAR = 8 << 20  # bytes: after so many without a line outside of quotes, a quote is taken to be left open
_CSV = re.compile(rb"\n(?=\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)")
_JSON = re.compile(rb"\n")
# A message of its own, not the DETAIL or the STATEMENT of the one before.
_STDERR = re.compile(rb"\n(?=[^\t\n][^\n]{0,500}?(?:LOG|ERROR|WARNING|FATAL|PANIC|NOTICE|INFO|DEBUG\d?):  )")
Segment = tuple[int, int | None]


def segments(path: Path, jobs: int, form: str, step: int) -> list[Segment]:
    """About equal stretches of a log, in bytes of its text: where each begins and ends (None: at the end).

    form   `csv`, `json` or `stderr`
    step   the least that is worth a stretch of its own
    """
    with opened_bytes(path) as file:
        cuts, size = _cuts(file, {"csv": _CSV, "json": _JSON, "stderr": _STDERR}[form], form == "csv", step)
    chosen = [0]
    for number in range(1, jobs):
        wanted = size * number / jobs
        near = min(cuts, key=lambda cut: abs(cut - wanted), default=0)
        if near > chosen[-1]:
            chosen.append(near)
    return [(begin, end) for begin, end in zip(chosen, [*chosen[1:], None], strict=True)]


def _cuts(file: BinaryIO, pattern: re.Pattern[bytes], counts_quotes: bool, step: int) -> tuple[list[int], int]:
    """Beginnings of messages, one after each step; and the size of all."""
    found: list[int] = []
    place, wanted, odd, held = 0, step, False, b""
    while block := file.read(_BLOCK):
        # The end of the last block is looked at again, for a beginning that lies across.
        base, counted, text = place, 0, block
        if place + len(block) > wanted:
            base, counted, text = place - len(held), len(held), held + block
        while base + len(text) > wanted:
            match = pattern.search(text, max(0, wanted - base))
            if match is None:
                break
            at = match.end()
            inside = False
            if counts_quotes and at >= counted:
                odd ^= bool(text.count(b'"', counted, at) & 1)
                inside, counted = odd, at
            elif counts_quotes:
                inside = odd ^ bool(text.count(b'"', at, counted) & 1)
            if inside and base + at <= _due(found, step) + _FAR:
                wanted = base + at
                continue
            odd ^= inside
            found.append(base + at)
            wanted = base + at + step
        if counts_quotes:
            odd ^= bool(text.count(b'"', counted) & 1)
        place += len(block)
        held = block[-1_024:]
    return found, place


def _due(found: list[int], step: int) -> int:
    """Where the next cut is due."""
    return (found[-1] if found else 0) + step


def opened_bytes(path: Path) -> BinaryIO:
    """The bytes of a log; `.gz` is unpacked on the way."""
    if path.suffix == ".gz":
        return cast(BinaryIO, gzip.open(path, "rb"))
    return open(path, "rb", buffering=_BLOCK)


class _Stretch(io.RawIOBase):
    """A file that ends at a place. Raises EOFError where the file ends before it."""

    def __init__(self, file: BinaryIO, left: int | None) -> None:
        self._file, self._left = file, left

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        view = memoryview(buffer).cast("B")  # type: ignore[arg-type]
        wanted = len(view) if self._left is None else min(len(view), self._left)
        text = self._file.read(wanted)
        view[: len(text)] = text
        if self._left is not None:
            self._left -= len(text)
        return len(text)

    def close(self) -> None:
        self._file.close()
        super().close()


def opened_segment(path: Path, segment: Segment) -> TextIO:
    """The text of one segment."""
    begin, end = segment
    file = opened_bytes(path)
    file.seek(begin)
    raw = _Stretch(file, None if end is None else end - begin)
    return io.TextIOWrapper(io.BufferedReader(raw, _BLOCK), encoding="utf-8", errors="replace", newline="")
