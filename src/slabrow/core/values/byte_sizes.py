"""Sizes as people write them: `500MB`, `20 GB`, `1TB`, counted in 1024s."""

import re

from slabrow.core.values.errors import UsageError


def spelled_size(bytes_: int) -> str:
    """As `parse_size` reads it, in the largest unit that loses nothing.

    >>> spelled_size(3 * 1024**3), spelled_size(1500)
    ('3GB', '1500B')
    """
    for power, unit in ((4, "TB"), (3, "GB"), (2, "MB"), (1, "KB")):
        if bytes_ % 1024**power == 0:
            return f"{bytes_ // 1024**power}{unit}"
    return f"{bytes_}B"


def parse_size(text: str) -> int:
    """In bytes. Raises UsageError."""
    match = re.fullmatch(r"\s*([0-9]{1,15}(?:\.[0-9]{1,6})?)\s*(k|m|g|t)?i?b?\s*", text, re.IGNORECASE)
    power = {"": 0, "k": 1, "m": 2, "g": 3, "t": 4}[(match.group(2) or "").lower()] if match else 0
    size = round(float(match.group(1)) * 1024**power) if match else 0
    if size < 1:
        raise UsageError(f"{text!r} is not a size", fix="write it as 500MB or 20GB")
    return size
