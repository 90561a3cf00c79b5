"""Draws a weighing: rows read against planning cost, a disc for each candidate."""

from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.values.method import By
from slabrow.core.values.wording import count, size
from slabrow.core.weighing.weighed import Weighed
from slabrow.show.picture import INK, WARM, new_figure, save
from slabrow.show.weigh import describe
from slabrow.show.words import plural
from slabrow.work.weighing.weigh import Weighing

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_COLOURS = {None: "#6b6b6b", By.RANGE: INK, By.LIST: "#8a6d1f", By.HASH: "#7a4a78"}
_NAMES = {None: "as it is", By.RANGE: "range", By.LIST: "list", By.HASH: "hash"}
_NAMED = 8
_LEAST = 0.001  # on a scale of logarithms nothing reads nothing


def draw_weighing(weighing: Weighing, path: Path) -> None:
    """Left and low is best. Discs grow with the largest partition; the first ranks are named."""
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    ranked = weighing.verdict.ranked
    figure = new_figure(path)
    axes, beside = figure.subplots(1, 2, width_ratios=(3.4, 1))
    most = max(each.largest for each in ranked) or 1
    for by in (By.RANGE, By.LIST, By.HASH, None):
        some = [each for each in ranked if (each.layout.by if each.layout else None) is by]
        if some:
            axes.scatter(
                [each.planning_ms for each in some],
                [max(each.read_share, _LEAST) for each in some],
                s=[60 + 1_400 * each.largest / most for each in some],
                color=_COLOURS[by],
                alpha=0.5,
                edgecolors="white",
                label=_NAMES[by],
            )
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.margins(0.1, 0.12)
    axes.axhline(1.0, color="#999999", linewidth=0.8, linestyle=":")
    named = [*enumerate(ranked[:_NAMED], 1)]
    named += [(rank, each) for rank, each in enumerate(ranked, 1) if each.layout is None and rank > _NAMED]
    _number(axes, named)
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g} ms"))
    axes.xaxis.set_minor_formatter(NullFormatter())
    axes.yaxis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value * 100:.0f} %"))
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.set_xlabel("planning a query, on average")
    axes.set_ylabel("blocks read by a day's queries, against the table as it is")
    axes.grid(alpha=0.25)
    axes.spines[["top", "right"]].set_visible(False)
    _legend(beside, axes, named)
    facts = weighing.facts
    title = f"{facts.spelling}: {len(ranked)} ways to lay out {count(facts.rows)} rows, {size(facts.bytes)}"
    axes.set_title(
        title.replace("$", r"\$"),
        loc="left", fontsize=15, fontweight="bold", pad=26,
    )  # fmt: skip
    axes.text(
        0, 1.015, "left and low is best; a disc is as large as the layout's largest partition",
        transform=axes.transAxes, fontsize=11, color="#555555",
    )  # fmt: skip
    save(figure, path)


def _number(axes: "Axes", named: list[tuple[int, Weighed]]) -> None:
    """The rank beside each of the first discs; where discs lie close, the numbers are set off from each other."""
    axes.figure.canvas.draw()
    taken: list[tuple[float, float]] = []
    for rank, each in named:
        at = (each.planning_ms, max(each.read_share, _LEAST))
        x, y = axes.transData.transform(at)
        lift = 0.0
        while any(abs(x - other_x) < 22 and abs(y + lift - other_y) < 16 for other_x, other_y in taken):
            lift += 17
        taken.append((x, y + lift))
        arrow = {"arrowstyle": "-", "color": "#888888", "lw": 0.7} if lift else None
        colour = WARM if rank == 1 else "#222222"
        weight = "bold" if rank == 1 else "normal"
        axes.annotate(
            str(rank), at, xytext=(0, lift), textcoords="offset pixels", ha="center", va="center", fontsize=10,
            color=colour, fontweight=weight, arrowprops=arrow,
        )  # fmt: skip


def _legend(beside: "Axes", axes: "Axes", named: list[tuple[int, Weighed]]) -> None:
    """The first ranks by name, and what the colours mean."""
    from textwrap import wrap

    beside.axis("off")
    legend = axes.legend(title="divided by", frameon=False, loc="upper left")
    for handle in legend.legend_handles:
        if handle is not None and hasattr(handle, "set_sizes"):
            handle.set_sizes([90])
    lines: list[tuple[str, str, str]] = []
    for rank, each in named:
        lines += [
            (
                f"{rank}  {text}" if place == 0 else f"    {text}",
                WARM if rank == 1 else "#222222",
                "bold" if rank == 1 else "normal",
            )
            for place, text in enumerate(wrap(describe(each.layout), 32))
        ]
        lines.append(
            (f"    {each.ms / 1_000:,.1f} s a day, {plural(each.partitions, 'partition')}", "#777777", "normal")
        )
        lines.append(("", "#777777", "normal"))
    for place, (text, colour, weight) in enumerate(lines):
        beside.text(
            0, 1 - place * 0.028, text.replace("$", r"\$"), fontsize=9, color=colour, fontweight=weight, va="top"
        )
