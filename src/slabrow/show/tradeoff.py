"""Draws a weighing: the few layouts worth a thought, what a day's work consists of on each, and what it takes."""

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.values.wording import count, milliseconds, share, size
from slabrow.core.weighing.weighed import Ranking, Weighed
from slabrow.show.picture import INK, WARM, new_figure, save
from slabrow.show.weigh import describe
from slabrow.work.weighing.weigh import Weighing

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_FIRST = 4  # ranks that are shown in any case
_MOST = 8
_CUT = 2.0  # times the longer one of the first and the table as it is
_DAY = (
    ("reading from disk", WARM),
    ("running in memory", INK),
    ("planning", "#8fb3c2"),
    ("inserting", "#9a8f6a"),
    ("deleting and VACUUM", "#5d5d5d"),
)
_PANELS = ((0.02, 0.29), (0.325, 0.34), (0.68, 0.30))  # left end and width: names, bars, figures
_COLUMNS = (("a day", 0.0), ("from disk", 0.2), ("touched", 0.37), ("partitions", 0.58), ("largest", 0.84))


@dataclass(frozen=True, slots=True)
class _Line:
    """A layout of the picture. wins: by which other measures."""

    rank: int
    weighed: Weighed
    wins: str = ""


def draw_weighing(weighing: Weighing, path: Path) -> None:
    """A bar for each layout, as long as its day; its figures beside it."""
    verdict = weighing.verdict
    lines = _worth_a_thought(verdict)
    figure = new_figure(path)
    figure.set_layout_engine("none")
    names, axes, beside = (figure.add_axes((left, 0.13, width, 0.72)) for left, width in _PANELS)
    places = [float(-place) for place in range(len(lines))]
    _bars(axes, lines, places)
    _names(names, lines, places)
    _figures(beside, lines, places, verdict.now)
    top, bottom = 0.75, -max(5, len(lines)) + 0.3
    for each in (names, axes, beside):
        each.set_ylim(bottom, top)
    handles, labels = axes.get_legend_handles_labels()
    axes.legend(handles, labels, frameon=False, fontsize=9, ncols=3, loc="upper left", bbox_to_anchor=(-0.02, -0.06))
    facts = weighing.facts
    title = (
        f"{facts.spelling}, {count(facts.rows)} rows, {size(facts.bytes)}: a day's work on the layouts worth a thought"
    )
    names.text(0, 1.075, _safe(title), transform=names.transAxes, fontsize=15, fontweight="bold")
    answer = verdict.answer[0] if verdict.answer else ""
    names.text(0, 1.03, _safe(_cut(answer, 165)), transform=names.transAxes, fontsize=10, color="#444444")
    save(figure, path)


def _worth_a_thought(verdict: Ranking) -> list[_Line]:
    """The first ranks, those that win by another measure, and the table as it is."""
    wins = {id(each): words for words, each in verdict.others}
    lines = [
        _Line(rank, each, wins.get(id(each), ""))
        for rank, each in enumerate(verdict.ranked, 1)
        if rank <= _FIRST or id(each) in wins or each.layout is None
    ]
    kept = [line for line in lines if line.rank <= 2 or line.wins or line.weighed.layout is None]
    others = [line for line in lines if line not in kept]
    return sorted([*kept, *others][:_MOST], key=lambda line: line.rank)


def _parts(weighed: Weighed) -> tuple[float, ...]:
    """The milliseconds of a day, in the order of _DAY."""
    planning = sum(cost.paid.planning_ms * cost.read.shape.weight for cost in weighed.shapes)
    waiting = sum(cost.paid.waiting_ms * cost.read.shape.weight for cost in weighed.shapes)
    for_inserts = weighed.waiting_ms - waiting
    running = max(0.0, weighed.workload_ms - planning - waiting)
    return (weighed.waiting_ms, running, planning, max(0.0, weighed.insert_ms - for_inserts), weighed.retire_ms)


def _bars(axes: "Axes", lines: list[_Line], places: list[float]) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    longest = max((line.weighed.ms for line in lines), default=1.0) or 1.0
    # A bar that is very long would make all others short: it is cut, and its figure stands beside it.
    usual = max(line.weighed.ms for line in lines if line.rank == 1 or line.weighed.layout is None) or longest
    shown = min(longest, _CUT * usual)
    unit, word = (3_600_000, "hours") if shown > 7_200_000 else (60_000, "minutes")
    unit, word = (unit, word) if shown > 120_000 else (1_000, "seconds")
    begins = [0.0] * len(lines)
    for number, (name, colour) in enumerate(_DAY):
        widths = [_parts(line.weighed)[number] / unit for line in lines]
        if max(widths, default=0.0) * unit > shown / 500:
            axes.barh(places, widths, left=begins, height=0.56, color=colour, label=name)
        begins = [begin + width for begin, width in zip(begins, widths, strict=True)]
    axes.set_xlim(0, shown * 1.04 / unit)
    for line, place in zip(lines, places, strict=True):
        if line.weighed.ms > shown * 1.001:
            axes.text(shown * 1.035 / unit, place, "▸", ha="right", va="center", fontsize=13, color="white")
    now = next((line.weighed.ms / unit for line in lines if line.weighed.layout is None), None)
    if now is not None:
        axes.axvline(now, color="#777777", linewidth=1, linestyle=":")
    axes.set_yticks([])
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.xaxis.set_major_locator(MaxNLocator(5))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.3g}"))
    axes.set_xlabel(f"{word} of a day's work; the dotted line: the table as it is", fontsize=9, color="#444444")


def _names(axes: "Axes", lines: list[_Line], places: list[float]) -> None:
    from textwrap import wrap

    axes.axis("off")
    axes.set_xlim(0, 1)
    for line, place in zip(lines, places, strict=True):
        first = line.rank == 1
        words = wrap(f"{line.rank}  {describe(line.weighed.layout)}", 38, subsequent_indent="    ")[:3]
        below = wrap(line.wins, 42, initial_indent="    ", subsequent_indent="    ")[:2]
        height = 0.235 * len(words) + 0.17 * len(below)
        top = place + height / 2
        axes.text(
            0, top, _safe("\n".join(words)), va="top", fontsize=10.5, color=WARM if first else "#222222",
            fontweight="bold" if first else "normal", linespacing=1.15,
        )  # fmt: skip
        if below:
            axes.text(
                0, top - 0.235 * len(words), _safe("\n".join(below)), va="top", fontsize=8.5, color="#6b6b6b",
                linespacing=1.1,
            )  # fmt: skip


def _figures(axes: "Axes", lines: list[_Line], places: list[float], now: Weighed) -> None:
    axes.axis("off")
    axes.set_xlim(0, 1)
    is_read = now.all_reads >= 1
    heads = [("blocks" if name == "from disk" and not is_read else name, at) for name, at in _COLUMNS]
    for name, at in heads:
        axes.text(at + 0.14, 0.62, name, ha="right", va="center", fontsize=9, color="#6b6b6b")
    for line, place in zip(lines, places, strict=True):
        each = line.weighed
        cells = (
            milliseconds(each.ms),
            share(each.all_reads / now.all_reads if is_read else each.read_share),
            f"{each.touched_mean:.1f}",
            count(each.partitions),
            size(each.largest),
        )
        for (_, at), cell in zip(heads, cells, strict=True):
            axes.text(
                at + 0.14, place, cell, ha="right", va="center", fontsize=10,
                fontweight="bold" if line.rank == 1 else "normal",
            )  # fmt: skip


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def _safe(text: str) -> str:
    return text.replace("$", r"\$")
