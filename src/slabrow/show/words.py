"""Numbers as people read them aloud. JSON and CSV never pass through here."""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, TypeVar

from slabrow.core.table.spans import Span

if TYPE_CHECKING:
    from rich.text import Text

Item = TypeVar("Item")


def rows_of(number: int | None, is_exact: bool) -> str:
    """`1,234 rows` when counted, `about 1,234 rows` when estimated."""
    if number is None:
        return "rows not known"
    return f"{'' if is_exact else 'about '}{plural(number, 'row')}"


def plural(number: int, word: str, words: str | None = None) -> str:
    """`1 partition`, `3 partitions`."""
    return f"{number:,} {word if number == 1 else words or word + 's'}"


def per_span(span: Span | None) -> str:
    """`per month`, `per 7 days`; `per value` without a span."""
    if span is None:
        return "per value"
    return f"per {str(span).removeprefix('1 ')}"


def listed(words: Sequence[str], most: int = 4) -> str:
    """`a, b, c` — with the rest counted when there are more than `most`."""
    shown = ", ".join(words[:most])
    return shown + (f" and {len(words) - most} more" if len(words) > most else "")


def bar(part: float, width: int) -> "Text":
    """A line of up to `width` character cells for a share from 0 to 1, in halves of a cell; nothing only for zero."""
    from rich.text import Text

    halves = max(part > 0, round(max(0.0, min(1.0, part)) * width * 2))
    return Text("━" * (halves // 2) + "╸" * (halves % 2), style="cyan")


MOST_LINES = 400  # of a table shown as text; csv and json have them all


def ends(items: Sequence[Item]) -> Iterator[Item | None]:
    """The first and the last of very many items, with a None in between for those that are left out."""
    if len(items) <= MOST_LINES:
        yield from items
        return
    yield from items[: MOST_LINES // 2]
    yield None
    yield from items[-MOST_LINES // 2 :]
