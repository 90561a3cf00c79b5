"""Archives a partition: its rows to a file, compared with the table before it goes (N40); and brings one back."""

from collections.abc import Iterator
from contextlib import ExitStack, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from slabrow.core.actions import Action
from slabrow.core.errors import Refusal, ServerError, UsageError
from slabrow.core.layout import ArchiveForm, Layout
from slabrow.core.names import Name, parse_name
from slabrow.core.statements import Check, Statement
from slabrow.files.archive_file import (
    Manifest,
    check_archive,
    read_manifest,
    rows_as_copy,
    write_archive,
    write_manifest,
)
from slabrow.files.archive_place import Place, cannot_write, claimed
from slabrow.servers.postgresql import export, quoting
from slabrow.servers.postgresql.connection import Connection, explained, whole_and_unhurried
from slabrow.servers.postgresql.quoting import literal
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
    with export.snapshot(connection), ExitStack() as claim:
        relation = export.relation_of(connection, table)
        place = claim.enter_context(claimed(folder, f"{table.schema}.{table.table}", relation))
        columns = export.export_columns(connection, table)
        names = [column.name for column in columns]
        rows, found = export.fingerprint(connection, table, names)
        held = _unchanged(place, table, rows, found, layout.archive_as)
        if held is None:
            described = tuple((column.name, column.type_name, column.form) for column in columns)
            context.say(f"writing {rows:,} rows of {table} to {folder}")
            chunks = export.stream(connection, table, columns)
            path = place.file(layout.archive_as)
            try:
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
            )  # fmt: skip
            write_manifest(place.manifest, held)
            if place.earlier is not None and place.earlier.file != path.name:
                (folder / place.earlier.file).unlink(missing_ok=True)  # of the attempt before, in the other form
    return Archived(place.manifest, held, tuple(_guard(table, held)))


def has_left(archived: Archived) -> None:
    """Writes down that the table has let the rows go: from now on this archive is the only copy."""
    with suppress(ServerError):  # without this note it is as safe: its table is no more, and no other one is like it
        write_manifest(archived.path, replace(archived.manifest, left=datetime.now(UTC).isoformat(timespec="seconds")))


def _column(column: export.ExportColumn) -> str:
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
    for name, value in export.STEADY.items():
        yield Statement(f"SET LOCAL {name} = {literal(value)}")
    yield Check(
        f"SELECT {literal(str(table))}, {manifest.rows}::bigint, f.count, "
        f"f.count <> {manifest.rows} OR f.fingerprint <> {literal(manifest.fingerprint)} "
        f"FROM ({export.fingerprint_sql(table, names)}) f (count, fingerprint)",
        f"{table} changed while it was archived",
        fix="run it again: it is then archived anew",
    )


@dataclass(frozen=True, slots=True)
class Adopted:
    """table: the partition as it is called; attached_to: its parent, None when it stands alone."""

    table: Name
    rows: int
    attached_to: Name | None


def adopt(context: Context, manifest_path: Path, *, go: bool) -> tuple[Manifest, Adopted | None]:
    """Brings an archive back as a partition of its table, or as a table of its own when that is gone.

    Without `go` the file is only checked. Raises UsageError when it is not what its manifest says, Refusal when the
    rows that were loaded are not those that were archived: then nothing stays.
    """
    manifest = read_manifest(manifest_path)
    file = manifest_path.parent / manifest.file
    check_archive(manifest, file)
    if not go:
        return manifest, None
    parent, table = parse_name(manifest.table), parse_name(manifest.partition)
    with context.connected() as connection, explained("bring the archive back"):
        whole_and_unhurried(connection)
        has_parent = connection.execute("SELECT to_regclass(%s)", [quoting.table(parent)]).fetchall()[0][0] is not None
        if connection.execute("SELECT to_regclass(%s)", [quoting.table(table)]).fetchall()[0][0] is not None:
            raise Refusal(f"there is a table {table} already", fix="rename it, or drop it, first")
        with connection.transaction():
            connection.execute("SELECT set_config('lock_timeout', %s, true)", [str(context.lock_wait_ms)])
            export.steady(connection)
            like = "INCLUDING ALL EXCLUDING INDEXES EXCLUDING IDENTITY"
            made = f"CREATE TABLE {quoting.table(table)} (LIKE {quoting.table(parent)} {like})"
            connection.execute((made if has_parent else manifest.ddl).encode())
            names = [name for name, _, _ in manifest.columns]
            _load(connection, manifest, table, names, file)
            rows, found = export.fingerprint(connection, table, names)
            if (rows, found) != (manifest.rows, manifest.fingerprint):
                raise Refusal(
                    f"what was loaded of {table} is not what was archived",
                    found=f"{manifest.rows:,} rows archived, {rows:,} loaded",
                    fix="nothing has been kept; compare the columns of the table with those of the manifest",
                )
            if has_parent:
                _attach(connection, parent, table, manifest)
        return manifest, Adopted(table, rows, parent if has_parent else None)


def _load(connection: Connection, manifest: Manifest, table: Name, names: list[str], file: Path) -> None:
    """By COPY; of a CSV archive, instants and days are numbers, and go through a passing table."""
    columns = quoting.columns(tuple(names))
    if manifest.form == ArchiveForm.PARQUET:
        _copy(connection, f"COPY {quoting.table(table)} ({columns}) FROM STDIN (FORMAT CSV)", manifest, file)
        return
    types = {"timestamp": "bigint", "timestamptz": "bigint", "date": "integer"}
    passing = ", ".join(
        f"{quoting.identifier(name)} {types.get(form, 'text' if form == 'text' else type_name)}"
        for name, type_name, form in manifest.columns
    )
    connection.execute(f"CREATE TEMPORARY TABLE slabrow_adopting ({passing}) ON COMMIT DROP".encode())
    _copy(connection, "COPY slabrow_adopting FROM STDIN (FORMAT CSV)", manifest, file)
    values = ", ".join(_value(quoting.identifier(name), type_name, form) for name, type_name, form in manifest.columns)
    sql = (
        f"INSERT INTO {quoting.table(table)} ({columns}) OVERRIDING SYSTEM VALUE SELECT {values} FROM slabrow_adopting"
    )
    connection.execute(sql.encode())


def _value(name: str, type_name: str, form: str) -> str:
    """From the stream's form back to the column's type; microseconds in two parts, as floating point loses some."""
    match form:
        case "timestamp" | "timestamptz":
            base = "timestamptz '1970-01-01 00:00+00'" if form == "timestamptz" else "timestamp '1970-01-01'"
            return f"{base} + ({name} / 1000000) * interval '1 second' + ({name} % 1000000) * interval '1 microsecond'"
        case "date":
            return f"date '1970-01-01' + {name}"
        case _:
            return f"{name}::{type_name}"


def _copy(connection: Connection, sql: str, manifest: Manifest, file: Path) -> None:
    with connection.cursor().copy(sql.encode()) as copy:
        for chunk in rows_as_copy(manifest, file):
            copy.write(chunk)


def _attach(connection: Connection, parent: Name, table: Name, manifest: Manifest) -> None:
    connection.execute(
        f"ALTER TABLE {quoting.table(parent)} ATTACH PARTITION {quoting.table(table)} {manifest.bounds}".encode()
    )
