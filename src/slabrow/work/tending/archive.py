"""Archives a partition: its rows to a file, compared with the table before it goes (N40)."""

from contextlib import closing, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from slabrow.core.table.bounds_data import bounds_as_data
from slabrow.core.table.export_column import RowSource
from slabrow.core.table.layout import ArchiveForm, Layout
from slabrow.core.upkeep.actions import Action
from slabrow.core.upkeep.statements import Part
from slabrow.core.values.errors import Refusal, ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.files.archive_file import (
    Manifest,
    check_archive,
    write_archive,
    write_manifest,
)
from slabrow.files.archive_place import ArchivePlace, cannot_write, claimed, earlier_of
from slabrow.servers.protocols import Session
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class Archived:
    """path: of the manifest. guard: statements that, in the transaction of the DROP, compare the table once more."""

    path: Path
    manifest: Manifest
    guard: tuple[Part, ...]


def archive(
    session: Session, action: Action, source: RowSource, layout: Layout, folder: Path, context: Context
) -> Archived:
    """Writes a partition to a file with its manifest, or finds that an earlier run did; the rows stay where they are.

    Raises Refusal when the file does not hold what the table does, or when rows that stand apart have never been
    written, ServerError when it cannot be written.
    """
    table, archives = action.partition, session.archives
    relation = archives.relation_of(source)
    with archives.snapshot(), claimed(folder, archives.title(source), relation) as place:
        if source.apart is not None and place.earlier is None:
            raise Refusal(
                f"the table {source.apart} is in the way of {table}",
                found=f"no archive in {folder} says that it was that partition",
                fix="rename it; or, when it holds rows that an earlier run let out, run this where their archive lies",
            )
        columns = archives.export_columns(source)
        names = [column.name for column in columns]
        rows, found = archives.fingerprint(source, names)
        held = _unchanged(place, table, rows, found, layout.archive_as)
        if held is None:
            described = tuple((column.name, column.type_name, column.form) for column in columns)
            context.say(f"writing {rows:,} rows of {table} to {folder}")
            path = place.file(layout.archive_as)
            try:
                # Closed before the next query of this session: a COPY that goes on would make it wait.
                with closing(archives.stream(source, columns)) as chunks:
                    digest, size, written = write_archive(place.partial, path, layout.archive_as, described, chunks)
            except OSError as error:
                raise cannot_write(folder, error) from None
            if written != rows:
                raise Refusal(
                    f"the archive of {table} does not hold its rows",
                    found=f"{rows:,} rows in the table, {written:,} in the file",
                    fix="please report this with the types of the columns",
                )
            held = Manifest(
                table=str(action.table),
                partition=str(table),
                bounds=session.writer.bounds(action.bounds, len(layout.key)),
                ddl=session.writer.creation_of(table, columns),
                columns=described,
                rows=rows,
                fingerprint=found,
                file=path.name,
                form=str(layout.archive_as),
                sha256=digest,
                bytes=size,
                written=datetime.now(UTC).isoformat(timespec="seconds"),
                server=session.product,
                relation=relation,
                held=bounds_as_data(action.bounds),
            )
            write_manifest(place.manifest, held)
            if place.earlier is not None and place.earlier.file != path.name:
                (folder / place.earlier.file).unlink(missing_ok=True)  # of the attempt before, in the other form
    return Archived(
        place.manifest,
        held,
        session.writer.unchanged_since(
            table,
            names,
            held.rows,
            held.fingerprint,
            is_far=bool(session.partitions.far_tables(table)),
        ),
    )


def has_left(archived: Archived) -> None:
    """Writes down that the table has let the rows go: from now on this archive is the only copy."""
    with suppress(ServerError):  # without this note it is as safe: its table is no more, and no other one is like it
        write_manifest(archived.path, replace(archived.manifest, left=datetime.now(UTC).isoformat(timespec="seconds")))


def begun(session: Session, source: RowSource, folder: Path) -> Manifest | None:
    """The manifest of rows that stand apart, written before they left their table; None where the folder has none."""
    return earlier_of(folder, session.archives.title(source), session.archives.relation_of(source))


def _unchanged(place: ArchivePlace, table: Name, rows: int, found: str, form: ArchiveForm) -> Manifest | None:
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
