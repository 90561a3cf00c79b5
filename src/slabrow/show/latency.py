"""Draws a rehearsal: latency over the played day, one line a layout."""

from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.values.wording import milliseconds
from slabrow.show.picture import INK, WARM, new_figure, save
from slabrow.work.rehearsal.result import Rehearsal

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_COLOURS = (WARM, INK, "#6b8e4e", "#8a5a83", "#b08a2e", "#5d5d5d")
_NOON = 12
_STYLES = ("-", "--", "-.", ":")


def draw_rehearsal(result: Rehearsal, path: Path) -> None:
    """The 95th percentile of the statements' latencies, hour by hour of the played day."""
    figure = new_figure(path)
    axes, load = figure.subplots(2, 1, sharex=True, height_ratios=[5, 1])
    for place, each in enumerate(result.layouts):
        hours = [hour.hour + 0.5 for hour in each.played.hours]
        values = [max(hour.p95_ms, 0.01) for hour in each.played.hours]
        colour, style = _COLOURS[place % len(_COLOURS)], _STYLES[place // len(_COLOURS) % len(_STYLES)]
        label = f"{each.rank}. {each.name}".replace("$", r"\$")
        axes.plot(hours, values, style, color=colour, linewidth=2.4, label=label)
        before = [(hour, value) for hour, value in zip(hours, values, strict=True) if hour < _NOON][-1:]
        after = [(hour, value) for hour, value in zip(hours, values, strict=True) if hour > _NOON][:1]
        if each.upkeep is not None and before and after:
            here = (before[0][1] * after[0][1]) ** 0.5  # halfway on a logarithmic axis
            axes.plot([_NOON], [here], "o", color=colour, markersize=8)
    axes.set_yscale("log")
    axes.set_ylabel("95th percentile of a run's latency")
    axes.yaxis.set_major_formatter(lambda value, _: milliseconds(value))
    axes.grid(axis="y", color="#dddddd", linewidth=0.8)
    axes.set_axisbelow(True)
    axes.legend(loc="upper left", frameon=False, fontsize=11)
    axes.set_title(
        f"A day of the workload on {result.table}, played in {result.seconds:g} s".replace("$", r"\$"),
        loc="left",
        fontsize=15,
        fontweight="bold",
        pad=26,
    )
    axes.text(
        0,
        1.015,
        f"{result.rows:,} made-up rows; latency counts from when a run was due. A dot marks the upkeep at noon.",
        transform=axes.transAxes,
        fontsize=11,
        color="#555555",
    )
    _draw_load(result, load)
    for each_axes in (axes, load):
        for side in ("top", "right"):
            each_axes.spines[side].set_visible(False)
    save(figure, path)


def _draw_load(result: Rehearsal, axes: "Axes") -> None:
    """How many runs were due in each hour: the same for all layouts."""
    if result.layouts:
        hours = result.layouts[0].played.hours
        axes.bar([hour.hour + 0.5 for hour in hours], [hour.runs for hour in hours], width=0.9, color="#b9d3dc")
    axes.set_ylabel("runs")
    axes.set_xlim(0, 24)
    axes.set_xticks(range(0, 25, 3), [f"{hour}:00" for hour in range(0, 25, 3)])
    axes.set_xlabel("hour of the played day")
