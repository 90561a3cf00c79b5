"""Archive files: Parquet with zstd, or CSV with gzip, with a manifest in JSON beside each. Streamed in constant memory.

A file is written under a passing name, synced, read back and compared, and only then gets its own name; the manifest
comes last, so that a file with a manifest is whole. Which names those are: see archive_place.py.
"""

import gzip
import hashlib
import io
import json
import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from slabrow.core.table.layout import ArchiveForm
from slabrow.core.values.errors import Refusal, ServerError, UsageError
from slabrow.files.extras import require
from slabrow.files.reading import json_document

if TYPE_CHECKING:
    import pyarrow as pa

FORMAT_VERSION = 2  # 1 had no digest, and bounds as SQL only
_FORMS = ("integer", "real", "boolean", "timestamp", "timestamptz", "date", "text")
_BATCH_BYTES = 8 << 20


@dataclass(frozen=True, slots=True)
class Manifest:
    """The contents of an archive: written beside it as JSON, under these names.

    partition, table   with their schemas
    bounds, ddl        for people: as SQL. Nobody runs them
    held               the bounds as core/table/bounds_data writes them; None in files of version 1
    columns            [name, type, form] each; see servers/postgresql/read/row_export.py
    fingerprint        the server's: the sum of hashtextextended over the text of every row, under fixed settings
    sha256             of the file
    relation           what tells the table from every other one; see servers/postgresql/read/row_export.py
    left               when the table let these rows go; None before that, or when it is not known

    The file also has `digest`, the SHA-256 of everything else in it: a manifest that was changed is refused.
    """

    table: str
    partition: str
    bounds: str
    ddl: str
    columns: tuple[tuple[str, str, str], ...]
    rows: int
    fingerprint: str
    file: str
    form: str
    sha256: str
    bytes: int
    written: str
    server: str
    version: int = FORMAT_VERSION
    relation: str = ""
    left: str | None = None
    held: dict[str, Any] | None = None


def write_archive(
    partial: Path, path: Path, form: ArchiveForm, columns: tuple[tuple[str, str, str], ...], chunks: Iterable[bytes]
) -> tuple[str, int, int]:
    """Writes the stream, reads it back and compares. Returns the file's SHA-256, its bytes and its rows.

    partial   where it is written; path: its name once it is complete
    columns   name, type and form of each
    chunks    the rows as `export.stream` gives them
    Raises MissingExtra for Parquet without pyarrow, Refusal when what was read back is not what was written, and
    OSError when it cannot be written.
    """
    if form is ArchiveForm.PARQUET:
        require("parquet")
    write = _write_parquet if form is ArchiveForm.PARQUET else _write_csv
    rows, written = write(partial, columns, chunks)
    _sync(partial)
    read = _read_parquet_print(partial) if form is ArchiveForm.PARQUET else _read_csv_print(partial)
    if read != (rows, written):
        raise Refusal(
            f"the archive {path} does not hold what was written to it",
            found=f"{rows:,} rows written, {read[0]:,} read back",
            fix="nothing has been detached; look at the disk, then run this again",
        )
    digest = sha256_of(partial)
    size = partial.stat().st_size
    os.replace(partial, path)
    _sync(path.parent)
    return digest, size, rows


def write_manifest(path: Path, manifest: Manifest) -> None:
    """Beside the archive, whole or not at all."""
    passing = path.with_name(path.name + ".partial")
    try:
        document = asdict(manifest)
        document["digest"] = _digest(document)
        passing.write_text(json.dumps(document, ensure_ascii=False, indent=1) + "\n", encoding="utf-8")
        _sync(passing)
        os.replace(passing, path)
        _sync(path.parent)
    except OSError as error:
        with suppress(OSError):
            passing.unlink()
        raise ServerError(f"the manifest {path} cannot be written", found=error.strerror, fix="make room") from None


def read_manifest(path: Path) -> Manifest:
    """Raises UsageError when the file is no manifest, or was changed since it was written."""
    fix = "name the .json beside the archive"
    document = json_document(path, "manifest", "--from-archive", fix)
    version, digest = document.get("version"), document.pop("digest", None)
    if not isinstance(version, int) or isinstance(version, bool):
        raise UsageError(f"{path} is not the manifest of an archive", fix=fix)
    if version > FORMAT_VERSION:
        raise UsageError(f"{path} was written by a newer Slabrow", found=f"version {version}", fix="use the newer one")
    if version > 1 and digest != _digest(document):
        raise UsageError(
            f"the manifest {path} was changed since it was written",
            found="its digest is another one",
            fix="take it from a copy",
        )
    try:
        _check(document)
        document["columns"] = tuple(tuple(column) for column in document["columns"])
        return Manifest(**document)
    except (ValueError, KeyError, TypeError) as error:
        raise UsageError(f"{path} is not the manifest of an archive", found=str(error), fix=fix) from None


def _check(document: dict[str, Any]) -> None:
    """Raises ValueError or TypeError for a field with another type or form than expected: a file is never trusted."""
    for name in ("table", "partition", "bounds", "ddl", "fingerprint", "file", "form", "sha256", "written", "server"):
        if not isinstance(document[name], str) or "\0" in document[name]:
            raise TypeError(f"{name} is no text")
    for name in ("rows", "bytes"):
        if not isinstance(document[name], int) or isinstance(document[name], bool) or document[name] < 0:
            raise TypeError(f"{name} is no number")
    if document["file"] != Path(document["file"]).name or document["file"] in ("", ".", ".."):
        raise ValueError("file is more than the name of a file beside it")
    ArchiveForm(document["form"])
    columns = document["columns"]
    if not isinstance(columns, list) or not columns:
        raise TypeError("columns are missing")
    for column in columns:
        if not (isinstance(column, list) and len(column) == 3 and all(isinstance(each, str) for each in column)):
            raise TypeError("a column is not its name, type and form")
        if column[2] not in _FORMS or "\0" in column[0]:
            raise ValueError(f"a column has the form {column[2][:40]!r}")


def _digest(document: dict[str, Any]) -> str:
    """The SHA-256 of a manifest without its digest, in a spelling that does not depend on how the file is laid out."""
    text = json.dumps(document, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode("utf-8", errors="surrogatepass")).hexdigest()


def sha256_of(path: Path) -> str:
    """The SHA-256 of a file's bytes, in hexadecimal."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
    return digest.hexdigest()


def check_archive(manifest: Manifest, path: Path) -> None:
    """Raises UsageError when the manifest belongs to another file."""
    try:
        found = sha256_of(path)
    except OSError as error:
        raise UsageError(f"the archive {path} cannot be read", found=error.strerror) from None
    if found != manifest.sha256:
        raise UsageError(
            f"{path} is not the file that its manifest describes",
            found=f"SHA-256 {found[:16]}…, written was {manifest.sha256[:16]}…",
            fix="take it from a copy: it was changed or cut off",
        )


def rows_as_copy(manifest: Manifest, path: Path) -> Iterator[bytes]:
    """The rows as CSV for COPY … FROM STDIN (FORMAT CSV), every value as the server reads it."""
    if manifest.form == ArchiveForm.CSV:
        with gzip.open(path, "rb") as file:
            while block := file.read(1 << 20):
                yield block
        return
    require("parquet")
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.csv
    import pyarrow.parquet

    options = pyarrow.csv.WriteOptions(include_header=False, quoting_style="all_valid")
    with pyarrow.parquet.ParquetFile(path) as file:
        for batch in file.iter_batches(batch_size=65_536):
            texts = [pc.cast(column, pa.string()) for column in batch.columns]
            buffer = io.BytesIO()
            pyarrow.csv.write_csv(pa.RecordBatch.from_arrays(texts, names=batch.schema.names), buffer, options)
            yield buffer.getvalue()


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


class _Stream(io.RawIOBase):
    """An iterator of bytes as a file that can only be read."""

    def __init__(self, chunks: Iterable[bytes]) -> None:
        self._chunks = iter(chunks)
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._rest:
            chunk = next(self._chunks, None)
            if chunk is None:
                return 0
            self._rest = chunk
        count = min(len(buffer), len(self._rest))
        buffer[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count


def _arrow_types() -> dict[str, "pa.DataType"]:
    """As the stream gives them, by form: instants are numbers there."""
    import pyarrow as pa

    return {
        "integer": pa.int64(), "real": pa.float64(), "boolean": pa.bool_(), "timestamp": pa.int64(),
        "timestamptz": pa.int64(), "date": pa.int32(), "text": pa.string(),
    }  # fmt: skip


def _final(column: "pa.Array", form: str) -> "pa.Array":
    import pyarrow as pa

    match form:
        case "timestamp":
            return column.cast(pa.timestamp("us"))
        case "timestamptz":
            return column.cast(pa.timestamp("us", tz="UTC"))
        case "date":
            return column.cast(pa.date32())
        case _:
            return column


def _write_parquet(path: Path, columns: tuple[tuple[str, str, str], ...], chunks: Iterable[bytes]) -> tuple[int, str]:
    import pyarrow as pa
    import pyarrow.csv
    import pyarrow.parquet

    types = _arrow_types()
    places = [f"c{place}" for place in range(len(columns))]
    schema = pa.schema(
        [pa.field(name, _final(pa.array([], types[form]), form).type) for name, _, form in columns],
        metadata={"slabrow": json.dumps({"columns": columns})},
    )
    rows, digest = 0, hashlib.sha256()
    with pyarrow.parquet.ParquetWriter(path, schema, compression="zstd") as writer:
        for batch in _batches(
            chunks, places, {place: types[form] for place, (_, _, form) in zip(places, columns, strict=True)}
        ):
            arrays = [_final(column, form) for column, (_, _, form) in zip(batch.columns, columns, strict=True)]
            made = pa.RecordBatch.from_arrays(arrays, schema=schema)
            writer.write_batch(made)
            rows += made.num_rows
            _update(digest, made)
    return rows, digest.hexdigest()


def _batches(chunks: Iterable[bytes], places: list[str], types: dict[str, "pa.DataType"]) -> Iterator["pa.RecordBatch"]:
    import pyarrow as pa
    import pyarrow.csv

    source = io.BufferedReader(_Stream(chunks), 1 << 20)
    if not source.peek(1):
        return  # an empty table: the reader wants a first row
    reader = pyarrow.csv.open_csv(
        pa.PythonFile(source, mode="r"),
        read_options=pyarrow.csv.ReadOptions(column_names=places, block_size=_BATCH_BYTES),
        parse_options=pyarrow.csv.ParseOptions(newlines_in_values=True),
        convert_options=pyarrow.csv.ConvertOptions(
            column_types=types, null_values=[""], strings_can_be_null=True, quoted_strings_can_be_null=False,
            true_values=["t"], false_values=["f"],
        ),
    )  # fmt: skip
    yield from reader


def _update(digest: Any, batch: "pa.RecordBatch") -> None:
    """Digests values row by row in their order, however they were cut into batches: column texts, joined."""
    import pyarrow as pa
    import pyarrow.compute as pc

    texts = [pc.fill_null(pc.cast(column, pa.string()), "\0") for column in batch.columns]
    joined = pc.binary_join_element_wise(*texts, "\x1f") if texts else pa.array([], pa.string())
    digest.update("\x1e".join(joined.to_pylist()).encode() + b"\x1e" if len(joined) else b"")


def _read_parquet_print(path: Path) -> tuple[int, str]:
    import pyarrow.parquet

    rows, digest = 0, hashlib.sha256()
    with pyarrow.parquet.ParquetFile(path) as file:
        for batch in file.iter_batches(batch_size=65_536):
            rows += batch.num_rows
            _update(digest, batch)
    return rows, digest.hexdigest()


def _write_csv(path: Path, columns: tuple[tuple[str, str, str], ...], chunks: Iterable[bytes]) -> tuple[int, str]:
    digest, counter = hashlib.sha256(), _RowCounter()
    with gzip.open(path, "wb", compresslevel=6) as file:
        for chunk in chunks:
            file.write(chunk)
            digest.update(chunk)
            counter.take(chunk)
    return counter.rows, digest.hexdigest()


def _read_csv_print(path: Path) -> tuple[int, str]:
    digest, counter = hashlib.sha256(), _RowCounter()
    with gzip.open(path, "rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
            counter.take(block)
    return counter.rows, digest.hexdigest()


class _RowCounter:
    """Counts the rows of a CSV stream: line ends outside of quotes."""

    def __init__(self) -> None:
        self.rows = 0
        self._is_quoted = False

    def take(self, chunk: bytes) -> None:
        parts = chunk.split(b'"')
        for place, part in enumerate(parts):
            if place:
                self._is_quoted = not self._is_quoted
            if not self._is_quoted:
                self.rows += part.count(b"\n")
