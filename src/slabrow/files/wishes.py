"""`wanted` of a layout: what has to hold, as the layout file writes it."""

from collections.abc import Iterator, Mapping

from slabrow.core.table.layout import Wanted
from slabrow.core.values.byte_sizes import parse_size
from slabrow.core.values.errors import LayoutError, nearest

_KEYS = ("size", "partitions", "pruned")
_FIX = 'write wanted = { size = "20 GB", partitions = 400, pruned = "90 %" }, or some of it'


def parse_wanted(given: Mapping[str, str | int | float]) -> Wanted:
    """`{ size = "20 GB", partitions = 400, pruned = "90 %" }`. Raises LayoutError."""
    for key in given:
        if key not in _KEYS:
            near = nearest(key, _KEYS)
            raise LayoutError(f"`wanted` knows no {key}" + (f": did you mean {near}?" if near else ""), fix=_FIX)
    size, partitions, pruned = (given.get(key) for key in _KEYS)
    if partitions is not None and (not isinstance(partitions, int) or partitions < 1):
        raise LayoutError(f"wanted: {partitions!r} is no number of partitions", fix=_FIX)
    if size is not None and not isinstance(size, str):
        raise LayoutError(f"wanted: {size!r} is no size", fix=_FIX)
    return Wanted(
        size=None if size is None else parse_size(size),
        partitions=None if partitions is None else partitions,
        pruned=None if pruned is None else _share(pruned),
    )


def _share(given: str | int | float) -> float:
    """`90 %`, or 0.9."""
    text = str(given).strip()
    try:
        share = float(text.removesuffix("%")) / (100 if text.endswith("%") else 1)
    except ValueError:
        share = -1.0
    if not 0 < share <= 1:
        raise LayoutError(f"wanted: {given!r} is no share", fix=_FIX)
    return share


def wanted_words(wanted: Wanted) -> Iterator[str]:
    """The same as TOML."""
    if wanted.size is not None:
        yield f'size = "{_size(wanted.size)}"'
    if wanted.partitions is not None:
        yield f"partitions = {wanted.partitions}"
    if wanted.pruned is not None:
        yield f'pruned = "{wanted.pruned * 100:g} %"'


def _size(size: int) -> str:
    for power, unit in ((4, "TB"), (3, "GB"), (2, "MB"), (1, "kB")):
        if size % 1024**power == 0:
            return f"{size // 1024**power} {unit}"
    return str(size)
