"""Reads `[prices]`: what blocks read, bytes stored and processor time cost, in a layout file or a file of its own."""

import tomllib
from pathlib import Path
from typing import Any

from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.values.prices import Prices
from slabrow.files.reading import read_text, toml_document

_NUMBERS = ("million_blocks", "gb_month", "cpu_hour")


def read_prices(path: Path, option: str = "--prices") -> Prices | None:
    """None where the file has no `[prices]`. Raises UsageError for an unknown name or a value that is no price."""
    try:
        document = toml_document(read_text(path, "prices file", option))
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{path} is not valid TOML", found=str(error), fix="correct that place") from None
    given = document.get("prices")
    if given is None:
        return None
    if fault := fault_of(given):
        raise UsageError(f"{path}: {fault}", fix='write currency = "EUR", million_blocks = 0.2, gb_month = 0.11')
    return Prices(str(given.get("currency", "EUR")), **{name: float(given.get(name, 0.0)) for name in _NUMBERS})


def fault_of(given: Any) -> str | None:
    """What is wrong with a `[prices]` table; None where nothing is."""
    if not isinstance(given, dict):
        return "`[prices]` is a table of prices"
    for name, value in given.items():
        if name == "currency":
            if not isinstance(value, str) or not value.strip() or len(value) > 8:
                return "`currency` is a short text, such as EUR"
        elif name not in _NUMBERS:
            near = nearest(name, (*_NUMBERS, "currency"))
            return f"`{name}` is not a price" + (f": did you mean `{near}`?" if near else "")
        elif isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < 1e9:
            return f"`{name}` is {value!r}: a price is a number from 0 up"
    return None
