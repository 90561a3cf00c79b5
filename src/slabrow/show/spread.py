"""How a spread over hash parts looks: a table of the parts, and the curve over their number."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from slabrow.core.hashing.spread import POWERS, Spread, SpreadCounter
from slabrow.core.values.wording import count, share, size
from slabrow.show.output import Json, Shown, heading, note, plain, print_table, table
from slabrow.show.words import MOST_LINES, bar, ends, plural

if TYPE_CHECKING:
    from rich.console import Console

_BAR_WIDTH = 40


@dataclass(frozen=True, slots=True)
class SpreadOf:
    """The counted rows, and the number of parts. bytes: of all rows together, None where it is unknown."""

    title: str
    counter: SpreadCounter
    parts: int
    bytes: int | None = None


def _data(shown: SpreadOf) -> Json:
    spread = shown.counter.spread(shown.parts)
    return {
        "title": shown.title,
        "rows": shown.counter.total,
        "keys": shown.counter.keys,
        "commonest": shown.counter.giant,
        "parts": [
            {"remainder": remainder, "rows": rows, "bytes": _bytes(shown, rows)}
            for remainder, rows in enumerate(spread.rows if spread is not None else ())
        ],
        "largest_to_mean": None if spread is None else round(spread.largest_to_mean, 4),
        "variation": None if spread is None else round(spread.variation, 4),
    }


def _bytes(shown: SpreadOf, rows: int) -> int | None:
    return None if shown.bytes is None else round(shown.bytes * rows / max(1, shown.counter.total))


def _rows(shown: SpreadOf) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    parts = _data(shown)["parts"]
    return ("remainder", "rows", "bytes"), [list(each.values()) for each in parts]


def _text(shown: SpreadOf, out: "Console") -> None:
    """The parts with their rows, how even they are, and the same for other numbers of parts."""
    counter, spread = shown.counter, shown.counter.spread(shown.parts)
    heading(out, f"{shown.title}: {count(counter.total)} rows")
    if spread is not None:
        _print_parts(spread, shown.bytes, out)
    _print_giant(shown, out)
    numbers = ("parts", "largest part", "× mean", "variation", "empty")
    lines = table(*numbers, right=numbers)
    for other in (counter.spread(parts) for parts in POWERS):
        if other is not None:
            evenness = (f"{other.largest_to_mean:.2f}", f"{other.variation:.2f}")
            lines.add_row(str(other.parts), count(other.largest), *evenness, str(other.empty))
    out.print()
    print_table(out, lines, ("",))
    note(out, "`× mean`: the largest part against the mean. `variation`: standard deviation over mean; 0 is even.")


def _print_giant(shown: SpreadOf, out: "Console") -> None:
    counter = shown.counter
    if counter.keys is None:
        note(out, "More different keys than are told apart here: they spread evenly, and none stands out.")
    elif counter.giant and counter.total:
        part = counter.giant / counter.total
        text = f"{plural(counter.keys, 'different key')}; the commonest has {share(part)} of the rows"
        if part > 1 / shown.parts:
            text += f", more than an even part of {shown.parts}: no number of parts makes the largest smaller than that"
        out.print(plain(text + "."))


def _print_parts(spread: Spread, bytes_: int | None, out: "Console") -> None:
    known = () if bytes_ is None else ("bytes",)
    lines = table("remainder", "rows", *known, "", right=("remainder", "rows", "bytes"))
    total = sum(spread.rows) or 1
    for part in ends(tuple(enumerate(spread.rows))):
        if part is None:
            lines.add_row("…", f"{spread.parts - MOST_LINES} more")
            continue
        remainder, rows = part
        of_rows = () if bytes_ is None else (size(bytes_ * rows / total),)
        lines.add_row(str(remainder), count(rows), *of_rows, bar(rows / (spread.largest or 1), _BAR_WIDTH))
    print_table(out, lines, ("",))
    evenness = f"The largest part is {spread.largest_to_mean:.2f} × the mean, the coefficient of variation is "
    out.print(plain(f"{evenness}{spread.variation:.2f}; {plural(spread.empty, 'part')} empty."))


SHOWN: Shown[SpreadOf] = Shown("route", _data, _rows, _text)


def draw_spread(shown: SpreadOf, path: Path) -> None:
    """The share of the largest part against the number of parts, beside an even part and the commonest key."""
    from matplotlib.ticker import FuncFormatter, NullLocator, ScalarFormatter

    from slabrow.show.picture import INK, WARM, new_figure, save

    counter, curve = shown.counter, shown.counter.curve()
    figure = new_figure(path)
    axes = figure.subplots()
    parts = [spread.parts for spread in curve]
    axes.plot(
        parts, [spread.largest / max(1, counter.total) for spread in curve], color=INK, lw=2, label="largest part"
    )
    axes.plot(parts, [1 / each for each in parts], color="#8aa4ae", lw=1.2, ls="--", label="an even part")
    keys, giant = "very many different keys", ""
    if counter.keys is not None and counter.giant and counter.total:
        part = counter.giant / counter.total
        axes.axhline(part, color=WARM, lw=1.2, label="the commonest key")
        keys, giant = plural(counter.keys, "different key"), f"; the commonest has {share(part)}"
    axes.axvline(shown.parts, color="#999999", lw=0.8)
    axes.annotate(
        f" {shown.parts} parts", (shown.parts, 1), xycoords=("data", "axes fraction"), va="top", color="#555555"
    )
    axes.set_xscale("log", base=2)
    axes.set_yscale("log")
    axes.set_xticks(POWERS)
    axes.xaxis.set_major_formatter(ScalarFormatter())
    axes.set_yticks([0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0])
    axes.yaxis.set_minor_locator(NullLocator())
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value * 100:g} %"))
    axes.set_xlim(2, 256)
    axes.set_ylim(0.0035, 1.15)
    axes.set_xlabel("number of parts")
    axes.set_ylabel("share of all rows")
    axes.grid(color="#e4e4e4")
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(loc="lower left", frameon=False)
    axes.set_title(shown.title, loc="left", fontsize=15, fontweight="bold", pad=26)
    subtitle = f"{count(counter.total)} rows, {keys}{giant}"
    axes.text(0, 1.015, subtitle, transform=axes.transAxes, fontsize=11, color="#555555")
    save(figure, path)
