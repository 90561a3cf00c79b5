"""Reads what `--save` has written: the JSON of one command."""

from collections.abc import Collection
from pathlib import Path
from typing import Any

from slabrow.core.values.errors import UsageError
from slabrow.files.reading import json_document

_FIX = "save it with: slabrow COMMAND … --save FILE"


def read_saved(path: Path, option: str, commands: Collection[str] = ()) -> dict[str, Any]:
    """The document. option: how the file was named, for messages; commands: those whose results are wanted, empty for
    all.

    Raises UsageError when it cannot be read, or is no result of such a command.
    """
    document = json_document(path, "saved result", option, _FIX)
    command = document.get("command")
    if not isinstance(document.get("slabrow"), str) or not isinstance(command, str):
        raise UsageError(f"{path} is no saved result", found="it has no `slabrow` and `command`", fix=_FIX)
    if commands and command not in commands:
        wanted = " or ".join(f"`{each}`" for each in commands)
        raise UsageError(f"{path} is the result of `{command}`", fix=f"name a saved result of {wanted}")
    return document
