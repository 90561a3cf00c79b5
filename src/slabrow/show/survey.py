"""How a survey looks."""

import re
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from slabrow.core.statistics.row_growth import Growth
from slabrow.core.table.bounds import Listed, Range
from slabrow.core.values.key_values import Value, spell
from slabrow.core.values.wording import count, share, size
from slabrow.core.weighing.ages import Ages
from slabrow.show.bounds import held, key_data, value_data
from slabrow.show.output import Json, Shown, heading, note, plain, print_table, table
from slabrow.show.words import MOST_LINES, bar, ends, per_span, plural, rows_of
from slabrow.work.survey import Bucket, Counts, Survey, SurveyedColumn

if TYPE_CHECKING:
    from rich.console import Console

_BAR_WIDTH = 40


def _data(survey: Survey) -> Json:
    relation = survey.relation
    return {
        "table": relation.spelling,
        "kind": "partitioned table" if survey.partitions is not None else "table",
        "rows": survey.rows,
        "exact": survey.is_exact,
        "bytes": relation.bytes,
        "heap_bytes": relation.heap_bytes,
        "index_bytes": relation.index_bytes,
        "toast_bytes": relation.toast_bytes,
        "partitions": survey.partitions,
        "columns": [_column_data(column, survey.rows) for column in survey.columns],
        "indexes": [
            {
                "name": index.name,
                "definition": index.definition,
                "bytes": index.bytes,
                "unique": index.is_unique,
                "primary": index.is_primary,
                "valid": index.is_valid,
                "scans": index.scans,
            }
            for index in survey.indexes
        ],
        "foreign_keys": [
            {"name": key.name, "direction": key.direction, "other": key.other, "definition": key.definition}
            for key in survey.foreign_keys
        ],
        "counts": None if survey.counts is None else _counts_data(survey.counts),
        "growth": None if survey.growth is None else _growth_data(survey.growth),
        "ageing": [
            {"column": each.column, "score": each.score, "reasons": list(each.reasons)} for each in survey.ageing
        ],
        "ages": None if survey.ages is None else _ages_data(survey.ages),
        "later": [{"asked": each.asked, "rows": each.rows, "bytes": each.bytes} for each in survey.later],
        "notes": list(survey.notes),
    }


def _growth_data(growth: Growth) -> Json:
    return {
        "column": growth.column,
        "newest": growth.newest.isoformat(),
        "rows_a_day": round(growth.rows_a_day, 1),
        "rows_a_month": round(growth.rows_a_month, 1),
        "trend_rows_a_day_per_day": round(growth.trend, 4),
        "uncertainty_rows_a_day": round(growth.uncertainty, 1),
        "doubles_on": None if growth.doubles_on is None else growth.doubles_on.date().isoformat(),
    }


def _ages_data(ages: Ages) -> Json:
    within = {f"last_{name}": round(share, 4) for name, share in ages.within}
    return {"column": ages.column, **within, "older": round(ages.older, 4), "without_lower_bound": round(ages.all, 4)}


def _column_data(column: SurveyedColumn, rows: int | None) -> Json:
    statistics = column.statistics
    return {
        "name": column.column.name,
        "type": column.column.type_name,
        "not_null": column.column.not_null,
        "distinct": None if statistics is None or statistics.distinct is None else round(statistics.distinct),
        "nulls": None if statistics is None or rows is None else round(statistics.null_share * rows),
        "null_share": statistics and statistics.null_share,
        "low": None if statistics is None else value_data(statistics.low),
        "high": None if statistics is None else value_data(statistics.high),
        "commonest_share": statistics and statistics.commonest_share,
        "correlation": statistics and statistics.correlation,
    }


def _counts_data(counts: Counts) -> Json:
    return {
        "column": counts.column,
        "per": None if counts.span is None else str(counts.span),
        "zone": counts.zone,
        "exact": counts.is_exact,
        "nulls": counts.nulls,
        "outside": counts.outside,
        "buckets": [{**_bucket_data(bucket), "rows": bucket.rows} for bucket in counts.buckets],
    }


def _bucket_data(bucket: Bucket) -> Json:
    match bucket.bounds:
        case Range(from_=from_, to=to):
            return {"from": key_data(from_), "to": key_data(to)}
        case Listed(values=values):
            return {"value": value_data(values[0])}
        case _:
            return {}


_HEADER = (
    "column",
    "type",
    "not_null",
    "distinct",
    "nulls",
    "null_share",
    "low",
    "high",
    "commonest_share",
    "correlation",
)


def _rows(survey: Survey) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return _HEADER, [list(_column_data(column, survey.rows).values()) for column in survey.columns]


def _text(survey: Survey, out: "Console") -> None:
    relation = survey.relation
    divided = f", in {plural(survey.partitions, 'partition')}" if survey.partitions is not None else ""
    heading(out, f"{relation.spelling}: {rows_of(survey.rows, survey.is_exact)}, {size(relation.bytes)}{divided}")
    out.print(
        plain(
            f"table {size(relation.heap_bytes)}, indexes {size(relation.index_bytes)}"
            + (f", TOAST {size(relation.toast_bytes)}" if relation.toast_bytes > 8192 else "")
        )
    )
    out.print()
    columns = table(
        "column",
        "type",
        "distinct",
        "NULL",
        "low",
        "high",
        "commonest value has",
        right=("distinct", "NULL", "commonest value has"),
    )
    for column in survey.columns:
        columns.add_row(*map(plain, _cells(column)))
    print_table(out, columns, ("commonest value has", "NULL", "type", "high"))
    _keys(survey, out)
    if survey.counts is not None:
        out.print()
        _counts(survey.counts, out)
    _ageing(survey, out)
    for text in survey.notes:
        out.print()
        note(out, f"Note: {text}.")


def _ageing(survey: Survey, out: "Console") -> None:
    growth, ages = survey.growth, survey.ages
    if growth is not None or survey.ageing or survey.later:
        out.print()
        heading(out, "How it grows and ages")
    if growth is not None:
        out.print(plain(growth_text(growth)))
    for later in survey.later:
        out.print(plain(f"{later.asked[0].upper()}{later.asked[1:]}: {count(later.rows)} rows, {size(later.bytes)}."))
    for place, each in enumerate(survey.ageing[:3]):
        how = "Data ages along" if place == 0 else "It could also be"
        out.print(plain(f"{how} {each.column}: {' and '.join(each.reasons)}."))
    if ages is not None:
        lines = table("the workload reads", "of its runs", "", right=("of its runs",))
        before = -1.0
        for name, part in ages.within:
            if share(part) != share(before):  # a step that adds nothing needs no line
                lines.add_row(f"nothing older than a {name}", share(part), bar(part, _BAR_WIDTH))
            before = part
        if ages.older:
            lines.add_row("what is older", share(ages.older), bar(ages.older, _BAR_WIDTH))
        lines.add_row(plain(f"without a lower end of {ages.column}"), share(ages.all), bar(ages.all, _BAR_WIDTH))
        print_table(out, lines, ("",))


def growth_text(growth: Growth) -> str:
    """The rate, its trend and when the table will be twice as large, in one or two sentences."""
    error = f" ± {count(round(growth.uncertainty))}" if growth.uncertainty >= 1 else ""
    if growth.still_since is not None:
        return (
            f"No row has come since {growth.still_since:%Y-%m-%d %H:%M}; until then about "
            f"{count(round(growth.rows_a_day))}{error} came a day along {growth.column}."
        )
    text = (
        f"About {count(round(growth.rows_a_day))}{error} new rows a day along {growth.column}, "
        f"{count(round(growth.rows_a_month))} a month"
    )
    yearly = growth.share_a_year
    if yearly is not None and abs(yearly) >= 0.01:
        text += f", and {'more' if yearly > 0 else 'fewer'} from day to day ({yearly * 100:+.0f} % a year)"
    doubles = growth.doubles_on
    if doubles is not None:
        text += f". There will be twice as many rows by {doubles.date().isoformat()}"
    return text + "."


def _cells(surveyed: SurveyedColumn) -> list[str]:
    column, statistics = surveyed.column, surveyed.statistics
    if statistics is None:
        return [column.name, _type(column.type_name), "–", "never" if column.not_null else "–", "–", "–", "–"]
    nulls = "never" if column.not_null else share(statistics.null_share)
    return [
        column.name,
        _type(column.type_name),
        count(statistics.distinct),
        nulls,
        _short(statistics.low),
        _short(statistics.high),
        share(statistics.commonest_share) if statistics.common else "no common value",
    ]


def _type(name: str) -> str:
    """A type as people write it: the server's own short names for the long ones."""
    for long, short in _SHORT_TYPES:
        if re.fullmatch(long, name):
            return re.sub(long, short, name)
    return name


_SHORT_TYPES = (
    (r"timestamp(\(\d\))? with time zone(\[\])?", r"timestamptz\1\2"),
    (r"timestamp(\(\d\))? without time zone(\[\])?", r"timestamp\1\2"),
    (r"character varying(.*)", r"varchar\1"),
    (r"double precision(.*)", r"float8\1"),
)


def _short(value: Value | None) -> str:
    """A value for the eye: moments to the minute, UTC."""
    if isinstance(value, datetime):
        return f"{value:%Y-%m-%d %H:%M}"
    text = "–" if value is None else spell(value)
    return text[:31] + "…" if len(text) > 32 else text


def _keys(survey: Survey, out: "Console") -> None:
    out.print()
    keys = table("index or key", "bytes", "scans", "definition", right=("bytes", "scans"), folds=("definition",))
    for index in survey.indexes:
        kind = "primary key" if index.is_primary else "unique" if index.is_unique else "index"
        definition = index.definition.split(" USING ", 1)[-1]
        keys.add_row(
            plain(index.name.split(".")[-1]),
            size(index.bytes),
            count(index.scans),
            plain(f"{kind}: {definition}" + ("" if index.is_valid else ", invalid")),
        )
    for key in survey.foreign_keys:
        direction = f"to {key.other}" if key.direction == "out" else f"from {key.other}"
        keys.add_row(plain(key.name), "", "", plain(f"foreign key {direction}: {key.definition}"))
    if keys.rows:
        print_table(out, keys, ("scans", "bytes"))
    else:
        out.print(plain("no index, no key"))


def _counts(counts: Counts, out: "Console") -> None:
    per = per_span(counts.span)
    zone = f", days begin in {counts.zone}" if counts.zone != "UTC" else ""
    heading(out, f"Rows {per} of {counts.column}{zone}, {'counted' if counts.is_exact else 'estimated'}")
    most = max((bucket.rows for bucket in counts.buckets), default=0) or 1
    lines = table(*(("from (in)", "to (out)") if counts.span else ("value",)), "rows", "", right=("rows",))
    for bucket in ends(counts.buckets):
        if bucket is None:
            lines.add_row(plain(f"… {len(counts.buckets) - MOST_LINES:,} more, in json"))
            continue
        first, second = held(bucket.bounds, counts.zone)
        cells = (first, second) if counts.span else (first.removeprefix("in "),)
        lines.add_row(*map(plain, cells), count(bucket.rows), bar(bucket.rows / most, _BAR_WIDTH))
    if lines.rows:
        print_table(out, lines, ("", "to (out)"))
    elif not counts.is_exact:
        out.print(
            plain("The statistics know no lowest and highest value that a calendar holds; --exact counts the rows.")
        )
    if counts.nulls:
        out.print(plain(f"and {plural(counts.nulls, 'row')} without a value"))
    if counts.outside:
        out.print(plain(f"and {plural(counts.outside, 'row')} with a time that no calendar holds"))


SHOWN: Shown[Survey] = Shown("survey", _data, _rows, _text)
