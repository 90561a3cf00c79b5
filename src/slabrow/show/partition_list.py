"""The partitions of a layout as a table, with what each holds."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from slabrow.core.values.wording import count, size
from slabrow.show.bounds import held
from slabrow.show.output import plain, print_table, table
from slabrow.show.words import MOST_LINES, bar, ends
from slabrow.work.layout_preview import LayoutPreview

if TYPE_CHECKING:
    from rich.console import Console

_BAR_WIDTH = 30


def text_partitions(preview: LayoutPreview, out: "Console", places: Sequence[str | None] = ()) -> None:
    """The partitions as a table, with a bar for the rows of each. places: of each, where they are told."""
    most = max((sized.rows or 0 for sized in preview.sized), default=0) or 1
    told = ("lies in",) if places else ()
    lines = table("partition", "from (in)", "to (out)", "rows", "bytes", *told, "", right=("rows", "bytes"))
    lying = {each.planned.name: place or "" for each, place in zip(preview.sized, places, strict=False)}
    for sized in ends(preview.sized):
        if sized is None:
            lines.add_row(plain(f"… {len(preview.sized) - MOST_LINES:,} more, in csv and json"))
            continue
        cells = map(plain, (sized.planned.name, *held(sized.planned.bounds, preview.layout.zone)))
        where = [plain(lying.get(sized.planned.name, ""))] if places else []
        most_of = bar((sized.rows or 0) / most, _BAR_WIDTH)
        lines.add_row(*cells, count(sized.rows), size(sized.bytes), *where, most_of)
    print_table(out, lines, ("", "bytes"))
