"""How an archive that is brought back looks."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from slabrow.core.values.wording import size
from slabrow.files.archive_file import Manifest
from slabrow.show.output import Json, Shown, good, note, plain
from slabrow.show.words import plural
from slabrow.work.adopt import Adopted

if TYPE_CHECKING:
    from rich.console import Console


@dataclass(frozen=True, slots=True)
class Adoption:
    """adopted: None when the archive was only checked."""

    manifest: Manifest
    adopted: Adopted | None


def _data(adoption: Adoption) -> Json:
    manifest, adopted = adoption.manifest, adoption.adopted
    attached = adopted.attached_to if adopted is not None else None
    return {
        "partition": manifest.partition,
        "table": manifest.table,
        "rows": manifest.rows,
        "fingerprint": manifest.fingerprint,
        "sha256": manifest.sha256,
        "state": "proposed" if adopted is None else "done",
        "attached_to": None if attached is None else str(attached),
        "held": adopted is not None and adopted.is_held,
    }


def _rows(adoption: Adoption) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    data = _data(adoption)
    return tuple(data), [list(data.values())]


def _text(adoption: Adoption, out: "Console") -> None:
    manifest, adopted = adoption.manifest, adoption.adopted
    what = f"{manifest.partition}: {plural(manifest.rows, 'row')} in {manifest.file} ({size(manifest.bytes)})"
    out.print(plain(f"{what}, written {manifest.written}; the file is the one that its manifest describes."))
    if adopted is None:
        note(out, "Nothing has been done. --go loads it, compares its fingerprint, and attaches it.")
        return
    where = f"attached to {adopted.attached_to}" if adopted.attached_to is not None else "a table of its own"
    out.print(good(f"{adopted.table} is back with {plural(adopted.rows, 'row')}, equal to the fingerprint; {where}."))
    if adopted.is_held:
        note(out, f"It is under hold: upkeep lets it stay until `slabrow tend --end-hold {adopted.table} --go`.")
    elif adopted.attached_to is not None:
        note(out, "There is no ledger for a hold: where it is past `keep`, the next upkeep lets it leave again.")


SHOWN: Shown[Adoption] = Shown("adopt", _data, _rows, _text)
