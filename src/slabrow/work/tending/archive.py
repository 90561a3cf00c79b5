"""Archives a partition: its rows to a file, compared with the table before it goes (N40)."""

from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from slabrow.core.table.bounds_data import bounds_as_data
from slabrow.core.table.layout import ArchiveForm, Layout
from slabrow.core.upkeep.actions import Action
from slabrow.core.upkeep.statements import Check, Statement
from slabrow.core.values.errors import Refusal, ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.files.archive_file import (
    Manifest,
    check_archive,
    write_archive,
    write_manifest,
)
from slabrow.files.archive_place import Place, cannot_write, claimed
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.quoting import literal
from slabrow.servers.postgresql.read import row_export
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class Archived:
    """path: of the manifest. guard: statements that, in the transaction of the DROP, compare the table once more."""

    path: Path
    manifest: Manifest
    guard: tuple[Statement | Check, ...]


def archive(connection: Connection, action: Action, layout: Layout, folder: Path, context: Context) -> Archived:
    """Writes a partition to a file with its manifest, or finds that an earlier run did; the partition stays as it is.

    Raises Refusal when the file does not hold what the table does, ServerError when it cannot be written.
    """
    table = action.partition
    name, relation = f"{table.schema}.{table.table}", row_export.relation_of(connection, table)
    with row_export.snapshot(connection), claimed(folder, name, relation) as place:
        columns = row_export.export_columns(connection, table)
        names = [column.name for column in columns]
        rows, found = row_export.fingerprint(connection, table, names)
        held = _unchanged(place, table, rows, found, layout.archive_as)
        if held is None:
            described = tuple((column.name, column.type_name, column.form) for column in columns)
            context.say(f"writing {rows:,} rows of {table} to {folder}")
            path = place.file(layout.archive_as)
            try:
                # Closed before anything else is asked of this session: a COPY that goes on would keep it waiting.
                with closing(row_export.stream(connection, table, columns)) as chunks:
                    digest, size, written = write_archive(place.partial, path, layout.archive_as, described, chunks)
            except OSError as error:
                raise cannot_write(folder, error) from None
            if written != rows:
                raise Refusal(
                    f"the archive of {table} does not hold its rows",
                    found=f"{rows:,} rows in the table, {written:,} in the file",
                    fix="please report this with the types of the columns",
                )
            ddl = f"CREATE TABLE {quoting.table(table)} ({', '.join(_column(column) for column in columns)})"
            held = Manifest(
                str(action.table), str(table), quoting.bounds(action.bounds, len(layout.key)), ddl, described, rows,
                found,
                path.name, str(layout.archive_as), digest, size, datetime.now(UTC).isoformat(timespec="seconds"),
                f"PostgreSQL {connection.info.server_version // 10_000}", relation=relation,
                held=bounds_as_data(action.bounds),
            )  # fmt: skip
            write_manifest(place.manifest, held)
            if place.earlier is not None and place.earlier.file != path.name:
                (folder / place.earlier.file).unlink(missing_ok=True)  # of the attempt before, in the other form
    return Archived(place.manifest, held, tuple(_guard(table, held)))


def has_left(archived: Archived) -> None:
    """Writes down that the table has let the rows go: from now on this archive is the only copy."""
    with suppress(ServerError):  # without this note it is as safe: its table is no more, and no other one is like it
        write_manifest(archived.path, replace(archived.manifest, left=datetime.now(UTC).isoformat(timespec="seconds")))


def _column(column: row_export.ExportColumn) -> str:
    return f"{quoting.identifier(column.name)} {column.type_name}"


def _unchanged(place: Place, table: Name, rows: int, found: str, form: ArchiveForm) -> Manifest | None:
    """The manifest of a run that was stopped after writing, when file and table are still what it says."""
    manifest = place.earlier
    if manifest is None:
        return None
    held = manifest.partition, manifest.rows, manifest.fingerprint, manifest.form
    if held != (str(table), rows, found, form):
        return None
    try:
        check_archive(manifest, place.file(form))
    except UsageError:
        return None
    return manifest


def _guard(table: Name, manifest: Manifest) -> Iterator[Statement | Check]:
    """Rows may have come since: under a lock that keeps writers out, the table is compared with what was written."""
    names = [name for name, _, _ in manifest.columns]
    yield Statement(f"LOCK TABLE {quoting.table(table)} IN SHARE MODE", is_lock=True)
    for name, value in row_export.STEADY.items():
        yield Statement(f"SET LOCAL {name} = {literal(value)}")
    yield Check(
        f"SELECT {literal(str(table))}, {manifest.rows}::bigint, f.count, "
        f"f.count <> {manifest.rows} OR f.fingerprint <> {literal(manifest.fingerprint)} "
        f"FROM ({row_export.fingerprint_sql(table, names)}) f (count, fingerprint)",
        f"{table} changed while it was archived",
        fix="run it again: it is then archived anew",
    )
