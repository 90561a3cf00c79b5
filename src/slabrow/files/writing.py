"""Writes the files that a person named: ordinary ones whole or not at all, devices and pipes as they are."""

import os
import re
import secrets
import stat
from contextlib import suppress
from pathlib import Path

from slabrow.core.values.errors import UsageError

# Open files of this process by number, as Linux names them (proc(5)).
_DESCRIPTOR = re.compile(r"/(?:dev/fd|proc/(?:self|\d+)/fd)/(\d+)")
_STREAMS = {"/dev/stdin": 0, "/dev/stdout": 1, "/dev/stderr": 2}


def write_file(path: Path, content: str | bytes) -> None:
    """Writes a file. A link is followed; the file that it leads to keeps its owner and mode.

    An ordinary file is written under another name beside it, and renamed: no reader ever sees half of the file. A
    device or a pipe is written to and stays one. Raises UsageError when it cannot be written, or is a folder.
    """
    data = content if isinstance(content, bytes) else content.encode("utf-8", errors="surrogateescape")
    try:
        _write(path, data)
    except (OSError, ValueError) as error:  # ValueError: a NUL in the path
        found = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
        raise UsageError(f"{str(path)!r} cannot be written", found=found, fix=_fix(error)) from None


def check_writable(path: str, option: str) -> Path:
    """The path of a file to write, looked at before long work. Raises UsageError for a path that can never be written
    to.
    """
    if not path or "\0" in path:
        raise UsageError(f"{option} names no file", fix=f"give {option} FILE")
    target = Path(path)
    if target.is_dir():
        raise UsageError(f"{option} {path} is a folder", fix="name a file in it")
    if not target.parent.is_dir():
        raise UsageError(f"{option} {path} cannot be written", found=f"there is no folder {target.parent}")
    return target


def _fix(error: Exception) -> str:
    match error:
        case IsADirectoryError():
            return "name a file in it"
        case OSError(errno=28):
            return "make room on the disk"
        case OSError(errno=6):
            return "start whoever reads the pipe first"
        case _:
            return "name a file that you may write"


def _write(path: Path, data: bytes) -> None:
    if (number := _descriptor(path)) is not None:
        _write_all(os.dup(number), data)
        return
    target = Path(os.path.realpath(path))
    try:
        found = target.stat()
    except FileNotFoundError:
        found = None
    if found is not None and stat.S_ISDIR(found.st_mode):
        raise IsADirectoryError(21, "it is a folder")
    if found is not None and not stat.S_ISREG(found.st_mode):
        # Without waiting: a pipe without a reader would block for ever.
        handle = os.open(target, os.O_WRONLY | os.O_NONBLOCK | os.O_NOCTTY)
        os.set_blocking(handle, True)
        _write_all(handle, data)
        return
    passing = target.with_name(f".slabrow-{os.getpid()}-{secrets.token_hex(4)}")
    try:
        handle = os.open(passing, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o666)
        if found is not None:
            with suppress(OSError):  # only root may give files away
                os.fchown(handle, found.st_uid, found.st_gid)
            os.fchmod(handle, stat.S_IMODE(found.st_mode))
        _write_all(handle, data)
        os.replace(passing, target)
    except BaseException:
        with suppress(OSError):
            passing.unlink()
        raise


def _descriptor(path: Path) -> int | None:
    """The number of the open file that a path means: to open it anew would begin at its start again."""
    absolute = os.path.abspath(path)
    if absolute in _STREAMS:
        return _STREAMS[absolute]
    match = _DESCRIPTOR.fullmatch(absolute)
    return int(match.group(1)) if match else None


def _write_all(handle: int, data: bytes) -> None:
    with os.fdopen(handle, "wb") as file:
        file.write(data)
