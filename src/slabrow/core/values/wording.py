"""Numbers in the words of messages: one format for counts, sizes, shares and durations. JSON and CSV never use it."""


def count(number: float | None) -> str:
    """1234567 → `1,234,567`; None → `–`."""
    return "–" if number is None else f"{number:,.0f}"


def rows_of(number: int) -> str:
    """1 → `1 row`, 2000 → `2,000 rows`."""
    return "1 row" if number == 1 else f"{number:,} rows"


_SIZES = ("bytes", "kB", "MB", "GB", "TB", "PB")


def size(bytes_: float | None) -> str:
    """Bytes in steps of 1024, with the server's own unit names: `8192 bytes`, `24 MB`."""
    if bytes_ is None:
        return "–"
    step = 0
    while bytes_ >= 10_240 and step < len(_SIZES) - 1:
        bytes_ /= 1024
        step += 1
    return f"{bytes_:,.0f} {_SIZES[step]}"


def share(part: float | None) -> str:
    """0.0123 → `1.2 %`; what is less than a tenth of a percent and not nothing stays visible."""
    if part is None:
        return "–"
    if 0 < part < 0.001:
        return "< 0.1 %"
    return f"{part * 100:.1f} %" if part < 0.0995 else f"{part * 100:.0f} %"


def milliseconds(duration: float | None) -> str:
    """A duration, from milliseconds up: `0.35 ms`, `12 ms`, `1.5 s`, `4 min`, `2.5 h`."""
    if duration is None:
        return "–"
    if duration < 1:
        return f"{duration:.2f} ms"
    if duration < 10:
        return f"{duration:.2g} ms"
    if duration < 1_000:
        return f"{duration:.0f} ms"
    if duration < 120_000:
        return f"{duration / 1_000:.1f} s"
    return f"{duration / 60_000:.0f} min" if duration < 7_200_000 else f"{duration / 3_600_000:.1f} h"
