"""Under which name an archive stands. An archive that may be the only copy of its rows is never overwritten."""

import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from slabrow.core.table.layout import ArchiveForm
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.files.archive_file import Manifest, read_manifest

_ENDINGS = {ArchiveForm.PARQUET: ".parquet", ArchiveForm.CSV: ".csv.gz"}
_LEFT_FOR_S = 3_600


@dataclass(frozen=True, slots=True)
class ArchivePlace:
    """The place where an archive is being written, and no other run writes.

    earlier   the manifest of the same table's last attempt, which ended before the table let its rows go
    """

    folder: Path
    stem: str
    earlier: Manifest | None

    @property
    def manifest(self) -> Path:
        """The path of the manifest."""
        return self.folder / f"{self.stem}.json"

    @property
    def partial(self) -> Path:
        """The passing name of the file while it is written."""
        return self.folder / f"{self.stem}.partial"

    def file(self, form: ArchiveForm) -> Path:
        """The path of the archive in this form."""
        return self.folder / f"{self.stem}{_ENDINGS[form]}"


@contextmanager
def claimed(folder: Path, name: str, relation: str) -> Iterator[ArchivePlace]:
    """The place for an archive, which is the caller's alone meanwhile: `name`, or the first number behind it.

    A place is taken when another run is at it, or when it holds an archive whose rows have left their table, of
    another table (a partition of the same name that was there before), or of another database.
    relation   what tells the table from every other one, also of that name
    Raises ServerError when the folder cannot be written to.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        _clear_up(folder)
        place, handle = _free(folder, name, relation)
    except OSError as error:
        raise cannot_write(folder, error) from None
    try:
        yield place
    finally:
        with suppress(OSError):
            if _is_at(handle, place.partial):
                place.partial.unlink()
        os.close(handle)


def earlier_of(folder: Path, name: str, relation: str) -> Manifest | None:
    """The manifest of this table's last attempt whose rows have not left yet, at whichever place; None for none."""
    number = 1
    while True:
        stem = _stem(name, number)
        path = folder / f"{stem}.json"
        if not path.exists():
            return None
        found = _earlier(path)
        if found is not None and found.relation == relation and found.left is None:
            return found
        number += 1


def _stem(name: str, number: int) -> str:
    plain = name.replace("%", "%25").replace("/", "%2F")
    return plain if number == 1 else f"{plain}.{number}"


def _clear_up(folder: Path) -> None:
    """Removes what a run has left that was killed while it wrote a manifest: the whole one stands beside it. No run
    writes at one for an hour.
    """
    for path in folder.glob("*.json.partial"):
        with suppress(OSError):
            if time.time() - path.stat().st_mtime > _LEFT_FOR_S:
                path.unlink()


def cannot_write(folder: Path, error: OSError) -> ServerError:
    """The error when an archive cannot be written."""
    return ServerError(
        f"the archive cannot be written to {folder}",
        found=error.strerror or str(error),
        fix="nothing has been detached: make room, or name another folder with archive_to",
    )


def _free(folder: Path, name: str, relation: str) -> tuple[ArchivePlace, int]:
    """The first place that is free, and the handle that keeps others off it."""
    number = 1
    while True:
        stem = _stem(name, number)
        place = ArchivePlace(folder, stem, _earlier(folder / f"{stem}.json"))
        handle = None if _is_taken(place, relation) else _claim(place)
        if handle is not None:
            if _earlier(place.manifest) == place.earlier:
                return place, handle
            os.close(handle)  # somebody was done with it just before
        number += 1


def _is_taken(place: ArchivePlace, relation: str) -> bool:
    if place.earlier is None:
        return place.manifest.exists()  # an archive that cannot be read may still be the only copy
    return place.earlier.left is not None or place.earlier.relation != relation


def _earlier(path: Path) -> Manifest | None:
    try:
        return read_manifest(path)
    except UsageError:
        return None


def _claim(place: ArchivePlace) -> int | None:
    """The open partial file, locked until it is closed, under whatever name; None when another run is at this place.

    Between its two renamings a run has its lock on the file that has its own name already, and no manifest.
    """
    for form in ArchiveForm:
        if place.file(form).exists():
            handle = _locked(place.file(form))
            if handle is None:
                return None
            os.close(handle)
    handle = _locked(place.partial)
    if handle is None or _is_at(handle, place.partial):
        return handle
    os.close(handle)
    return None


def _locked(path: Path) -> int | None:
    handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o666)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(handle)
        return None
    except OSError:
        pass  # a file system that knows no locks
    return handle


def _is_at(handle: int, path: Path) -> bool:
    """Whether an open file stands under this name."""
    with suppress(FileNotFoundError):
        return os.path.samestat(os.fstat(handle), path.stat())
    return False
