"""Draws results as PNG or SVG with Matplotlib, which is imported only when a picture is asked for."""

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.statistics.future_sizes import Expected
from slabrow.core.table.bounds import CatchAll
from slabrow.core.values.errors import UsageError
from slabrow.core.values.wording import count, size
from slabrow.files.extras import require
from slabrow.files.writing import check_writable, write_file
from slabrow.show.bounds import held
from slabrow.show.words import per_span, plural
from slabrow.work.layout_preview import LayoutPreview
from slabrow.work.survey import Counts, Survey

if TYPE_CHECKING:
    from matplotlib.figure import Figure

INK, _PALE, WARM = "#23556b", "#b9d3dc", "#c8772e"
_MOST_LABELS = 40
_MOST_LEVEL = 20  # bars whose notes have room side by side


def check_picture(path: str) -> Path:
    """The path of a picture to write. Raises UsageError for an ending other than .png or .svg, MissingExtra without
    Matplotlib."""
    require("pictures")
    picture = check_writable(path, "--picture")
    if picture.suffix.lower() not in (".png", ".svg"):
        raise UsageError(f"a picture cannot be written as {path}", fix="end its name in .png or .svg")
    return picture


def draw_forecast(preview: LayoutPreview, path: Path, expected: Sequence[Expected] | None = None) -> None:
    """Rows of each partition as bars, with its bytes; partitions without rows yet are outlined.

    expected   of a day to come: their uncertainty is drawn as whiskers
    """
    labels = [sized.planned.name for sized in preview.sized]
    colours = [WARM if isinstance(sized.planned.bounds, CatchAll) else INK for sized in preview.sized]
    filled = [sized.bytes for sized in preview.sized if sized.rows and sized.bytes]
    how = "counted" if preview.is_exact else "estimated from statistics"
    title = f"{preview.relation.spelling} by {preview.layout}"
    subtitle = f"{plural(len(labels), 'partition')}, rows {how}"
    if filled:
        subtitle += f"; the largest {size(max(filled))}, indexes included"
    notes = [size(sized.bytes) if sized.rows else "empty" for sized in preview.sized]
    rows = [sized.rows or 0 for sized in preview.sized]
    whiskers = None if expected is None else [(each.low, each.high) for each in expected]
    _bars(labels, rows, colours, notes, title, subtitle, path, whiskers)


def draw_survey(survey: Survey, path: Path) -> None:
    """Rows per period or value as bars. Raises UsageError when the survey has no counts to draw."""
    counts = survey.counts
    if counts is None or not counts.buckets:
        raise UsageError("there are no counts to draw", fix="name a column with --by and a period with --per")
    labels = [_bucket_label(counts, place) for place in range(len(counts.buckets))]
    rows = [bucket.rows for bucket in counts.buckets]
    per = per_span(counts.span)
    how = "counted" if counts.is_exact else "estimated from statistics"
    _bars(
        labels,
        rows,
        [INK] * len(rows),
        [count(row) for row in rows],
        f"{survey.relation.spelling}: rows {per} of {counts.column}",
        how,
        path,
    )


def _bucket_label(counts: Counts, place: int) -> str:
    first, _ = held(counts.buckets[place].bounds, counts.zone)
    return first.removeprefix("in ").removesuffix(" 00:00+00")


def _bars(
    labels: Sequence[str],
    rows: Sequence[int],
    colours: Sequence[str],
    notes: Sequence[str],
    title: str,
    subtitle: str,
    path: Path,
    whiskers: Sequence[tuple[int, int]] | None = None,
) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    figure = new_figure(path)
    axes = figure.subplots()
    places = range(len(labels))
    most = max(rows, default=0) or 1
    # An empty partition still shows that it is there: an outline of a hair's height.
    axes.bar(
        places,
        [max(row, most * 0.004) for row in rows],
        color=[colour if row else _PALE for colour, row in zip(colours, rows, strict=True)],
        width=0.8,
    )
    if whiskers is not None:
        below = [max(0, row - low) for row, (low, _) in zip(rows, whiskers, strict=True)]
        above = [max(0, high - row) for row, (_, high) in zip(rows, whiskers, strict=True)]
        axes.errorbar(places, rows, yerr=[below, above], fmt="none", ecolor="#333333", elinewidth=1, capsize=2)
    step = max(1, -(-len(labels) // _MOST_LABELS))
    axes.set_xticks(
        list(places)[::step],
        [labels[place].replace("$", r"\$") for place in places][::step],
        rotation=60,
        ha="right",
        rotation_mode="anchor",
        fontsize=9,
    )
    if len(labels) <= _MOST_LABELS:
        angle = 0 if len(labels) <= _MOST_LEVEL else 90
        for place, row, text in zip(places, rows, notes, strict=True):
            axes.text(
                place, row + most * 0.012, text, ha="center", va="bottom", fontsize=8, rotation=angle, color="#333333"
            )
    axes.set_xlim(-0.7, len(labels) - 0.3)
    axes.set_ylim(0, most * 1.18)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_ylabel("rows")
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(axis="y", color="#e4e4e4")
    axes.set_axisbelow(True)
    figure.get_layout_engine().set(h_pad=0.15, w_pad=0.15)  # type: ignore[union-attr, call-arg]
    axes.set_title(title.replace("$", r"\$"), loc="left", fontsize=15, fontweight="bold", pad=26)
    axes.text(0, 1.015, subtitle, transform=axes.transAxes, fontsize=11, color="#555555")
    save(figure, path)


def new_figure(path: Path) -> "Figure":
    """An empty figure of 1280 × 800 dots, for a PNG or an SVG by the ending of path."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    (FigureCanvasSVG if path.suffix.lower() == ".svg" else FigureCanvasAgg)(figure)
    figure.get_layout_engine().set(h_pad=0.15, w_pad=0.15)  # type: ignore[union-attr, call-arg]
    return figure


def save(figure: "Figure", path: Path) -> None:
    """Writes the figure. Raises UsageError when it cannot be."""
    try:
        drawn = io.BytesIO()
        figure.savefig(drawn, format=path.suffix[1:].lower())
    except ValueError as error:  # a text that the library takes for mathematics and cannot read
        raise UsageError(f"the picture {path} cannot be drawn", found=str(error)[:200]) from None
    write_file(path, drawn.getvalue())
