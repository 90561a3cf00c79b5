"""Draws proofs: queries down, partitions across, what each query touches and when that was decided."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.pruning.verdicts import PrunedAt
from slabrow.core.values.errors import UsageError
from slabrow.core.values.wording import share
from slabrow.show.picture import INK, WARM, new_figure, save
from slabrow.show.words import plural
from slabrow.work.proving.proof import Proof, ProveResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_QUERIES = 60  # rows of a picture; of more, those that run most often
_MOST_LABELS = 24  # names below the partitions
_PALE = "#eceff1"
_COLOURS = {
    PrunedAt.PLAN: (INK, "decided while planning"),
    PrunedAt.START: ("#5aa9a3", "decided at start"),
    PrunedAt.RUN: ("#d9b44a", "decided while running"),
    PrunedAt.NEVER: (WARM, "never decided: every partition"),
}
_ORDER = tuple(_COLOURS)


def draw_touches(result: ProveResult, path: Path) -> None:
    """One block for each table. Raises UsageError when no query touches a partitioned table."""
    from matplotlib.patches import Patch

    shown = _shown(result)
    if not shown:
        raise UsageError("there is nothing to draw", found="no query touches a partitioned table")
    tables = sorted({proof.table for proof in shown})
    blocks = [[proof for proof in shown if proof.table == table] for table in tables]
    figure = new_figure(path)
    every = figure.subplots(len(tables), 1, height_ratios=[len(block) + 1.5 for block in blocks], squeeze=False)
    size = max(5.0, min(10.0, 300 / (len(shown) + 2 * len(tables))))
    for axes, table, block in zip(every[:, 0], tables, blocks, strict=True):
        _block(axes, table, block, result.leaves[table], size)
    used = [moment for moment in _ORDER if any(proof.pruned_at is moment for proof in shown)]
    patches = [Patch(color=_COLOURS[moment][0], label=_COLOURS[moment][1]) for moment in used]
    patches.append(Patch(facecolor=_PALE, edgecolor="#c5ccd0", label="not touched"))
    figure.legend(handles=patches, loc="outside lower left", ncols=len(patches), frameon=False, fontsize=10)
    left = "" if len(shown) == len(result.proofs) else f"; the {len(shown)} that run most often are shown"
    saved = "" if result.read_share is None else f", {share(result.read_share)} of the rows read by runs a day"
    figure.suptitle(
        f"What each query touches: {result.pruning} of {len(result.proofs)} prune{saved}{left}",
        x=0.01, ha="left", fontsize=14, fontweight="bold",
    )  # fmt: skip
    save(figure, path)


def _shown(result: ProveResult) -> list[Proof]:
    kept = sorted(result.proofs, key=lambda proof: -proof.query.weight)[:_MOST_QUERIES]
    return [proof for proof in result.proofs if any(proof is each for each in kept)]


def _block(axes: "Axes", table: str, proofs: Sequence[Proof], leaves: Sequence[str], size: float) -> None:
    from matplotlib.colors import ListedColormap

    colours = [_PALE, *(_COLOURS[moment][0] for moment in _ORDER)]
    cells = []
    for proof in proofs:
        touched, number = set(proof.leaves), _ORDER.index(proof.pruned_at) + 1
        cells.append([number if leaf in touched else 0 for leaf in leaves])
    axes.pcolormesh(
        cells,
        cmap=ListedColormap(colours),
        vmin=-0.5,
        vmax=len(colours) - 0.5,
        edgecolors="white",
        linewidth=0.6 if len(leaves) <= 120 else 0.0,
    )
    axes.invert_yaxis()
    axes.hlines(range(1, len(proofs)), 0, len(leaves), colors="white", linewidth=0.8)
    axes.set_yticks(
        [place + 0.5 for place in range(len(proofs))],
        [f"{_short(proof.query.name)}   {proof.touched} of {proof.total}".replace("$", r"\$") for proof in proofs],
        fontsize=size,
    )
    step = max(1, -(-len(leaves) // _MOST_LABELS))
    stem = _stem(leaves)
    axes.set_xticks(
        [place + 0.5 for place in range(0, len(leaves), step)],
        [leaf[len(stem) :].replace("$", r"\$") for leaf in leaves[::step]],
        rotation=45,
        ha="right",
        rotation_mode="anchor",
        fontsize=8,
    )
    axes.tick_params(length=0)
    axes.spines[:].set_visible(False)
    named = f", {stem}…" if stem else ""
    axes.set_title(
        f"{table}: {plural(len(leaves), 'partition')}{named}".replace("$", r"\$"),
        loc="left",
        fontsize=11,
        color="#333333",
    )


def _short(name: str) -> str:
    return name if len(name) <= 34 else name[:33] + "…"


def _stem(leaves: Sequence[str]) -> str:
    """The common beginning of all names, up to a `_` or a dot: repeated in each cell it would leave no room."""
    if len(leaves) < 2:
        return ""
    first, last = min(leaves), max(leaves)
    shared = next((place for place, (one, other) in enumerate(zip(first, last, strict=False)) if one != other), 0)
    cut = max(first.rfind("_", 0, shared), first.rfind(".", 0, shared))
    return first[: cut + 1]
