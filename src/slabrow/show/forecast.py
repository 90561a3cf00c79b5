"""How a forecast looks."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from slabrow.core.statistics.future_sizes import Expected, Outlook
from slabrow.core.values.wording import count, size
from slabrow.show.bounds import BOUNDS_HEADER, bounds_data, bounds_row
from slabrow.show.output import Json, Shown, heading, note, plain
from slabrow.show.partition_list import text_partitions
from slabrow.show.survey import growth_text
from slabrow.show.words import plural
from slabrow.work.forecast import Forecast
from slabrow.work.layout_preview import LayoutPreview, Sized

if TYPE_CHECKING:
    from rich.console import Console


def _data(forecast: Forecast) -> Json:
    preview, outlook = forecast.preview, forecast.outlook
    return {
        "table": preview.relation.spelling,
        "layout": str(preview.layout),
        "exact": preview.is_exact,
        "homeless_rows": preview.homeless,
        "without_coarsen": preview.without_coarsen,
        "grown": forecast.times,
        "until": None if outlook is None else _outlook_data(forecast, outlook),
        "partitions": [
            {
                "name": sized.planned.name,
                "parent": sized.top.name if sized.top is not sized.planned else None,
                **bounds_data(sized.planned.bounds),
                "rows": rows,
                "bytes": bytes_,
                "rows_low": None if expected is None else expected.low,
                "rows_high": None if expected is None else expected.high,
                "tablespace": forecast.places[number] if forecast.places else None,
            }
            for number, (sized, rows, bytes_, expected) in enumerate(_each(forecast))
        ],
    }


def _outlook_data(forecast: Forecast, outlook: Outlook) -> Json:
    return {
        "day": outlook.until.date().isoformat(),
        "rows": outlook.rows,
        "rows_low": outlook.low,
        "rows_high": outlook.high,
        "bytes": round(outlook.rows * _bytes_a_row(forecast.preview)),
        "retired_partitions": outlook.retired,
        "rows_a_day": round(outlook.growth.rows_a_day, 1),
        "uncertainty_rows_a_day": round(outlook.growth.uncertainty, 1),
        "steady_rows": outlook.steady_rows,
        "steady_bytes": (
            None if outlook.steady_rows is None else round(outlook.steady_rows * _bytes_a_row(forecast.preview))
        ),
    }


def _each(forecast: Forecast) -> Iterator[tuple[Sized, int | None, int | None, Expected | None]]:
    """Every leaf with rows and bytes: those of now, or of the day to come."""
    preview, outlook = forecast.preview, forecast.outlook
    for place, sized in enumerate(preview.sized):
        if outlook is None:
            yield sized, sized.rows, sized.bytes, None
        else:
            expected = outlook.expected[place]
            yield sized, expected.rows, round(expected.rows * _bytes_a_row(preview)), expected


def _bytes_a_row(preview: LayoutPreview) -> float:
    rows = preview.relation.rows or sum(sized.rows or 0 for sized in preview.sized)
    return preview.relation.bytes / rows if rows else 0.0


def shown(forecast: Forecast) -> LayoutPreview:
    """The preview with the rows and bytes that are to be shown: of now, or of the day to come."""
    sized = tuple(replace(each, rows=rows, bytes=bytes_) for each, rows, bytes_, _ in _each(forecast))
    return replace(forecast.preview, sized=sized)


def _rows(forecast: Forecast) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("name", *BOUNDS_HEADER, "rows", "bytes", "tablespace"), [
        [sized.planned.name, *bounds_row(sized.planned.bounds), rows, bytes_,
         forecast.places[number] if forecast.places else None]
        for number, (sized, rows, bytes_, _) in enumerate(_each(forecast))
    ]  # fmt: skip


def _text(forecast: Forecast, out: "Console") -> None:
    preview = shown(forecast)
    layout = preview.layout
    outlook = forecast.outlook
    when = f" by {outlook.until.date()}" if outlook is not None else ""
    when += f", with {forecast.times:g} times the rows" if forecast.times is not None else ""
    heading(out, f"{preview.relation.spelling} by {layout}: {plural(len(preview.sized), 'partition')}{when}")
    text_partitions(preview, out, forecast.places)
    if forecast.places:
        _text_places(preview, forecast.places, out)
    if preview.homeless:
        out.print(
            plain(
                f"{count(preview.homeless)} rows would have no partition: the layout needs catch_all = true "
                "or more partitions"
            )
        )
    if any(sized.rows is None for sized in preview.sized):
        key = ", ".join(preview.layout.key)
        note(
            out,
            f"No statistics of {key} can be seen: `slabrow survey` says how to take them; --exact counts the rows.",
        )
        return
    empty = sum(not sized.rows for sized in preview.sized)
    filled = [sized.bytes for sized in preview.sized if sized.rows and sized.bytes]
    if filled:
        out.print(
            plain(
                f"{plural(len(filled), 'partition')} with rows, {empty} empty for now; "
                f"the largest {size(max(filled))}, the smallest {size(min(filled))}, indexes included."
            )
        )
    if preview.without_coarsen is not None:
        merged, narrow = plural(len(preview.planned), "partition"), count(preview.without_coarsen)
        out.print(plain(f"{merged}; without `coarsen` there would be {narrow}."))
    if outlook is not None:
        _outlook(forecast, outlook, out)
    note(
        out,
        "Bounds are half-open: `from` is in, `to` is out. "
        + ("Rows were counted." if preview.is_exact else "Rows are estimated from statistics; --exact counts them."),
    )


def _outlook(forecast: Forecast, outlook: Outlook, out: "Console") -> None:
    a_row = _bytes_a_row(forecast.preview)
    out.print(plain(f"{growth_text(outlook.growth)}"))
    spread = f"{count(outlook.low)} to {count(outlook.high)}"
    text = f"By {outlook.until.date()} about {count(outlook.rows)} rows ({spread}), {size(outlook.rows * a_row)}"
    if outlook.retired:
        text += f"; {plural(outlook.retired, 'partition')} will have been retired"
    out.print(plain(text + "."))
    if outlook.steady_rows is not None:
        steady = f"{count(outlook.steady_rows)} rows, {size(outlook.steady_rows * a_row)}"
        out.print(plain(f"With `keep` at {forecast.preview.layout.keep} it settles at about {steady}."))


def _text_places(preview: LayoutPreview, places: Sequence[str | None], out: "Console") -> None:
    held: dict[str, int] = {}
    for sized, place in zip(preview.sized, places, strict=True):
        held[place or _MADE] = held.get(place or _MADE, 0) + (sized.bytes or 0)
    said = (f"{size(many)} {name if name == _MADE else f'in {name}'}" for name, many in held.items())
    out.print(plain("By age: " + ", ".join(said) + "."))


_MADE = "where they are made"


SHOWN: Shown[Forecast] = Shown("forecast", _data, _rows, _text)
