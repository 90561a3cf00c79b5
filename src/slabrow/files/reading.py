"""Reads a text file that a person named, or says what is wrong with it."""

import tomllib
from functools import lru_cache
from pathlib import Path
from typing import Any

from slabrow.core.errors import UsageError


@lru_cache(maxsize=4)
def toml_document(text: str) -> dict[str, Any]:
    """A TOML document, read once however often it is asked for: leave it as it is. Raises TOMLDecodeError."""
    return tomllib.loads(text)


def read_text(path: Path, what: str, option: str) -> str:
    """The whole file as UTF-8. what: as messages call it, `layout file`; option: how another one is named, `--layout`.

    Raises UsageError when it is not there, or cannot be read.
    """
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise unreadable(path, error, what, option) from None


def unreadable(path: Path, error: Exception, what: str, option: str) -> UsageError:
    """What to say of a file that could not be read."""
    if isinstance(error, FileNotFoundError):
        return UsageError(f"there is no {what} {path}", fix=f"name one with {option} FILE")
    return UsageError(f"the {what} {path} cannot be read", found=str(error))
