"""Reads a sample of rows from a file: CSV with a header, or Parquet. At most so many rows are kept, spread evenly."""

import csv
import random
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Value, parse_value
from slabrow.files.extras import require
from slabrow.files.reading import unreadable

MOST_ROWS = 200_000
_SEED = 20260302


class RowSample:
    """values: by column, of the rows kept, in their order; rows: how many the file has."""

    def __init__(self, values: dict[str, list[Value | None]], rows: int, bytes_: int) -> None:
        self.values = values
        self.rows = rows
        self.bytes = bytes_


def read_rows(path: Path, columns: Sequence[KeyColumn]) -> RowSample:
    """The columns that the file has, read as their types.

    Raises UsageError when the file cannot be read, has none of the columns, or a value does not fit its type.
    """
    try:
        if path.suffix.lower() == ".parquet":
            return _sampled(*_parquet(path, columns), path)
        with open(path, encoding="utf-8", newline="") as file:
            reader = csv.reader(file)
            header = next(reader, [])
            return _sampled(_chosen(header, columns, path), reader, path)
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise unreadable(path, error, "file of rows", "--rows-from") from None


def _chosen(header: Sequence[str], columns: Sequence[KeyColumn], path: Path) -> list[tuple[int, KeyColumn]]:
    by_name = {name.strip().lower(): place for place, name in enumerate(header)}
    found = [
        (by_name[(column.name or "").lower()], column) for column in columns if (column.name or "").lower() in by_name
    ]
    if not found:
        raise UsageError(
            f"{path} has none of the table's columns",
            found=f"its header is {', '.join(header[:8])}" if header else "it is empty",
            fix="give a CSV file whose first line names the columns",
        )
    return found


def _parquet(path: Path, columns: Sequence[KeyColumn]) -> tuple[list[tuple[int, KeyColumn]], Iterable[Sequence[Any]]]:
    require("parquet")
    import pyarrow.parquet as parquet  # here: it takes as long to import as all the rest
    from pyarrow.lib import ArrowException

    try:
        file = parquet.ParquetFile(path)
    except ArrowException as error:
        raise UsageError(f"{path} is not a Parquet file", found=str(error).splitlines()[0]) from None
    chosen = _chosen(file.schema_arrow.names, columns, path)
    names = [file.schema_arrow.names[place] for place, _ in chosen]

    def rows() -> Iterator[Sequence[Any]]:
        for batch in file.iter_batches(columns=names):
            yield from zip(*(batch.column(name).to_pylist() for name in names), strict=True)

    return [(place, column) for place, (_, column) in enumerate(chosen)], rows()


def _sampled(chosen: list[tuple[int, KeyColumn]], rows: Iterable[Sequence[Any]], path: Path) -> RowSample:
    """Every row has the same chance to be kept (reservoir sampling); the chosen rows keep their order."""
    chance = random.Random(_SEED)
    kept: list[tuple[int, Sequence[Any]]] = []
    count = 0
    for row in rows:
        count += 1
        if len(kept) < MOST_ROWS:
            kept.append((count, row))
        elif (place := int(chance.random() * count)) < MOST_ROWS:
            kept[place] = (count, row)
    kept.sort(key=lambda pair: pair[0])
    values: dict[str, list[Value | None]] = {column.name or "": [] for _, column in chosen}
    for number, row in kept:
        for place, column in chosen:
            try:
                values[column.name or ""].append(_value(row[place], column))
            except IndexError:
                raise UsageError(f"{path}, row {number}, has {len(row)} fields", fix="correct that row") from None
            except UsageError as error:
                raise UsageError(
                    f"{path}, row {number}, column {column.name}: {error.problem}", fix=error.fix
                ) from None
    return RowSample(values, count, path.stat().st_size)


def _value(field: Any, column: KeyColumn) -> Value | None:
    """An empty field is NULL."""
    if field is None or field == "":
        return None
    return parse_value(str(field), column.kind)
