"""Draws a weighing: rows read against planning cost, a disc for each candidate."""

from pathlib import Path

from slabrow.core.layout import By
from slabrow.core.weighing import Weighed
from slabrow.show.picture import INK, WARM, new_figure, save
from slabrow.show.weigh import describe
from slabrow.show.words import count, size
from slabrow.work.weigh import Weighing

_COLOURS = {None: "#6b6b6b", By.RANGE: INK, By.LIST: "#8a6d1f", By.HASH: "#7a4a78"}
_NAMES = {None: "as it is", By.RANGE: "range", By.LIST: "list", By.HASH: "hash"}
_LABELLED = 6


def draw_weighing(weighing: Weighing, path: Path) -> None:
    """Left and low is best. Discs grow with the largest partition; the first ranks are named."""
    from matplotlib.ticker import FuncFormatter, PercentFormatter

    ranked = weighing.verdict.ranked
    figure = new_figure(path)
    axes = figure.add_subplot()
    most = max(each.largest for each in ranked) or 1
    for by in (By.RANGE, By.LIST, By.HASH, None):
        some = [each for each in ranked if (each.layout.by if each.layout else None) is by]
        if some:
            axes.scatter(
                [each.planning_ms for each in some],
                [each.read_share for each in some],
                s=[40 + 900 * each.largest / most for each in some],
                color=_COLOURS[by],
                alpha=0.55,
                edgecolors="white",
                label=_NAMES[by],
            )
    winner = ranked[0]
    axes.scatter([winner.planning_ms], [winner.read_share], s=[90], marker="x", color=WARM, linewidths=3, zorder=4)
    axes.set_xscale("log")
    axes.margins(0.12, 0.14)
    axes.axhline(1.0, color="#999999", linewidth=0.8, linestyle=":")
    _label(axes, [*ranked[:_LABELLED], *(each for each in ranked[_LABELLED:] if each.layout is None)])
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g} ms"))
    axes.yaxis.set_major_formatter(PercentFormatter(1.0, decimals=0))
    axes.set_xlabel("planning a query, on average")
    axes.set_ylabel("blocks read by a day's queries, against the table as it is")
    axes.grid(alpha=0.25)
    axes.spines[["top", "right"]].set_visible(False)
    legend = axes.legend(title="divided by", frameon=False, loc="upper right")
    for handle in legend.legend_handles:
        if handle is not None and hasattr(handle, "set_sizes"):
            handle.set_sizes([90])
    facts = weighing.facts
    figure.suptitle(
        f"{facts.spelling}: {len(ranked)} ways to lay out {count(facts.rows)} rows, {size(facts.bytes)}",
        x=0.01, ha="left", fontsize=14, fontweight="bold",
    )  # fmt: skip
    axes.set_title(
        f"left and low is best; a disc's size is the largest partition; × is the choice: {describe(winner.layout)}",
        loc="left", fontsize=10, color="#555555",
    )  # fmt: skip
    save(figure, path)


def _label(axes: "object", named: list[Weighed]) -> None:
    """Names the first ranks beside their discs, one below the other where discs lie close."""
    from matplotlib.axes import Axes

    assert isinstance(axes, Axes)
    axes.figure.canvas.draw()
    taken: list[tuple[float, float]] = []
    for rank, each in enumerate(named, 1):
        x, y = axes.transData.transform((each.planning_ms, each.read_share))
        offset = 14.0
        while any(abs(x - other_x) < 330 and abs(y + offset - other_y) < 13 for other_x, other_y in taken):
            offset -= 14
        taken.append((x, y + offset))
        right = x > 760
        axes.annotate(
            f"{rank if rank <= _LABELLED else ''} {describe(each.layout)}".strip(),
            (each.planning_ms, each.read_share),
            xytext=(-12 if right else 12, offset),
            textcoords="offset pixels",
            ha="right" if right else "left",
            va="center",
            fontsize=9,
        )
