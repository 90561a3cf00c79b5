"""Reads the load of a day: 24 numbers, one for each hour."""

import math
import re
from pathlib import Path

from slabrow.core.rehearsal.played_day import HOURS
from slabrow.core.values.errors import UsageError
from slabrow.files.reading import read_text


def read_curve(path: Path) -> tuple[float, ...]:
    """Numbers separated by white space, commas or semicolons; what follows a `#` is a remark. In any measure.

    Raises UsageError when there are not 24, or one is no load.
    """
    text = re.sub(r"#.*", "", read_text(path, "curve", "--curve"))
    words = re.findall(r"[^\s,;]+", text)
    loads = []
    for word in words:
        try:
            load = float(word)
        except ValueError:
            raise UsageError(
                f"{path}: {word[:40]!r} is no number", fix="write the load of each hour, 24 in all"
            ) from None
        if not math.isfinite(load) or load < 0:
            raise UsageError(f"{path}: {word[:40]} is no load", fix="write numbers from 0 up")
        loads.append(load)
    if len(loads) != HOURS or not any(loads):
        raise UsageError(
            f"{path} is no day",
            found=f"{len(loads)} numbers" if any(loads) else "no load at all",
            fix="write the load of each hour, 24 numbers in all",
        )
    return tuple(loads)
