"""Reads a text file that a person named, or says what is wrong with it."""

import json
import tomllib
from collections.abc import Iterator
from functools import lru_cache, partial
from pathlib import Path
from typing import Any, TextIO

from slabrow.core.values.errors import UsageError


@lru_cache(maxsize=4)
def toml_document(text: str) -> dict[str, Any]:
    """A TOML document, read once however often it is asked for: leave it as it is. Raises TOMLDecodeError."""
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        raise
    except RecursionError:
        raise tomllib.TOMLDecodeError("brackets are nested too deeply") from None
    except ValueError as error:  # a number with more digits than Python reads
        raise tomllib.TOMLDecodeError(str(error).partition(";")[0]) from None


def json_document(path: Path, what: str, option: str, fix: str) -> dict[str, Any]:
    """A JSON object from a file. what, option: as of `read_text`; fix: how such a file is made.

    Raises UsageError when the file cannot be read, or holds something else.
    """
    text = read_text(path, what, option)
    try:
        document = json.loads(text)
    except (ValueError, RecursionError) as error:
        found = "brackets are nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise UsageError(f"the {what} {path} is not JSON", found=found, fix=fix) from None
    if not isinstance(document, dict):
        raise UsageError(f"the {what} {path} is not a JSON object", found=f"{text[:40]!r}", fix=fix)
    return document


LONGEST_LINE = 1 << 20  # characters: a longer line belongs to no log and is no key


def bounded_lines(file: TextIO) -> Iterator[str]:
    """The lines of a file; a line beyond the longest comes in pieces, so that memory is bounded whatever it holds."""
    return iter(partial(file.readline, LONGEST_LINE), "")


def read_text(path: Path, what: str, option: str) -> str:
    """The whole file as UTF-8. what: as messages call it, `layout file`; option: how another one is named, `--layout`.

    Raises UsageError when it is not there, or cannot be read.
    """
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, ValueError) as error:  # ValueError: not UTF-8, or a NUL in the path
        raise unreadable(path, error, what, option) from None


def unreadable(path: Path, error: Exception, what: str, option: str) -> UsageError:
    """The error for a file that could not be read."""
    if isinstance(error, FileNotFoundError):
        if option == "--layout":
            return UsageError(
                f"there is no {what} {path}",
                fix="`slabrow survey` shows which tables are worth one, `slabrow weigh TABLE --workload FILE --write "
                f"{path.name}` writes it; or name another with --layout FILE",
            )
        return UsageError(f"there is no {what} {path}", fix=f"name one with {option} FILE")
    found, fix = str(error), f"name another one with {option} FILE"
    if isinstance(error, OSError) and error.strerror:
        found = error.strerror
    elif isinstance(error, UnicodeDecodeError):
        found, fix = f"byte {error.start} is no UTF-8", "write it in UTF-8"
    return UsageError(f"the {what} {path} cannot be read", found=found, fix=fix)
