"""Brings an archive back: loaded, compared with what left, and attached again (N40)."""

import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from slabrow.core.sql.lexing import is_type
from slabrow.core.table.bounds import Hashed, Listed, Range
from slabrow.core.table.bounds_data import bounds_from_data
from slabrow.core.table.layout import ArchiveForm
from slabrow.core.values.errors import Refusal, ServerError, SlabrowError, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, parse_name
from slabrow.files.archive_file import Manifest, check_archive, read_manifest, rows_as_copy
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.ledger import Entry, Ledger
from slabrow.servers.postgresql.read import catalogue, row_export
from slabrow.servers.postgresql.read.bound_text import parse_bounds
from slabrow.work import runner
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class Adopted:
    """table    the partition as it is called
    attached_to  its parent, None when it stands alone
    is_held      whether upkeep lets it stay, though it may be past `keep`
    """

    table: Name
    rows: int
    attached_to: Name | None
    is_held: bool


def adopt(
    context: Context, manifest_path: Path, ledger_schema: str | None, *, go: bool
) -> tuple[Manifest, Adopted | None]:
    """Brings an archive back as a partition of its table, or as a table of its own when that is gone.

    A partition is put under hold, or the next upkeep would archive it again.
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
        has_parent = catalogue.exists(connection, parent)
        if catalogue.exists(connection, table):
            raise Refusal(f"there is a table {table} already", fix="rename it, or drop it, first")
        bounds = _bounds(connection, manifest, parent) if has_parent else None
        ledger = _ledger(connection, ledger_schema)
        with runner.sole(connection, [parent], context.lock_wait_ms), connection.transaction():
            connection.execute("SELECT set_config('lock_timeout', %s, true)", [str(context.lock_wait_ms)])
            row_export.steady(connection)
            types = _types(connection, manifest, parent if has_parent else None)
            statements = [_creation(manifest, types, table, parent if has_parent else None)]
            connection.execute(statements[0].encode())
            names = [name for name, _, _ in manifest.columns]
            _load(connection, manifest, types, table, names, file)
            rows, found = row_export.fingerprint(connection, table, names)
            if (rows, found) != (manifest.rows, manifest.fingerprint):
                raise Refusal(
                    f"what was loaded of {table} is not what was archived",
                    found=f"{manifest.rows:,} rows archived, {rows:,} loaded",
                    fix="nothing has been kept; compare the columns of the table with those of the manifest",
                )
            if bounds is not None:
                attach = f"ATTACH PARTITION {quoting.table(table)} {bounds}"
                statements.append(f"ALTER TABLE {quoting.table(parent)} {attach}")
                connection.execute(statements[-1].encode())
            if ledger is not None:
                for entry in _entries(context, manifest_path, manifest, table, statements, holds=has_parent):
                    connection.execute(ledger.insertion(entry).encode())
        return manifest, Adopted(table, rows, parent if has_parent else None, has_parent and ledger is not None)


def _bounds(connection: Connection, manifest: Manifest, parent: Name) -> str:
    """The bounds of the manifest, read as values of the parent's key and spelled anew.

    Raises Refusal when the parent is divided in another way.
    """
    tree = catalogue.tree(connection, parent)
    try:
        if manifest.held is not None:
            found = bounds_from_data(manifest.held, tree.kinds)
        else:
            found = parse_bounds(manifest.bounds.replace("MODULUS", "modulus").replace("REMAINDER", "remainder"),
                                 tree.kinds)  # fmt: skip
    except SlabrowError as error:
        raise Refusal(
            f"the archive does not fit {parent}",
            found=f"its bounds are no bounds of a key of {parent}: {error.line}",
            fix="adopt it where the table is divided as it was, or rename the table for the moment",
        ) from None
    kinds = {By.RANGE: Range, By.LIST: Listed, By.HASH: Hashed}
    if not isinstance(found, kinds[tree.by]):
        raise Refusal(
            f"the archive does not fit {parent}",
            found=f"{parent} is divided by {tree.by}, its partition was not",
            fix="adopt it where the table is divided as it was, or rename the table for the moment",
        )
    return quoting.bounds(found, len(tree.key))


def _types(connection: Connection, manifest: Manifest, parent: Name | None) -> dict[str, str]:
    """The type of each column as SQL: the parent's own, else the manifest's where the server knows it as a type.

    Raises Refusal when the parent has other columns, UsageError for what is no type.
    """
    described = {name: type_name for name, type_name, _ in manifest.columns}
    if parent is not None:
        columns = {each.name: each.type_name for each in row_export.stored_columns(connection, parent)}
        for name, type_name in described.items():
            if columns.get(name) != type_name:
                there = f"{columns[name]} there" if name in columns else "not there"
                raise Refusal(
                    f"the archive does not fit {parent}",
                    found=f"its column {name} is of type {type_name}, and is {there}",
                    fix="change the table as it was, or rename it for the moment: then it comes back on its own",
                )
        return columns
    for name, type_name in described.items():
        if not is_type(type_name) or not catalogue.is_type(connection, type_name):
            raise UsageError(
                f"the manifest names no type for {name}", found=type_name[:80], fix="create the type, if it is your own"
            )
    return described


def _creation(manifest: Manifest, types: dict[str, str], table: Name, parent: Name | None) -> str:
    if parent is None:
        columns = ", ".join(f"{quoting.identifier(name)} {types[name]}" for name, _, _ in manifest.columns)
        return f"CREATE TABLE {quoting.table(table)} ({columns})"
    like = "INCLUDING ALL EXCLUDING INDEXES EXCLUDING IDENTITY"
    return f"CREATE TABLE {quoting.table(table)} (LIKE {quoting.table(parent)} {like})"


def _ledger(connection: Connection, schema: str | None) -> Ledger | None:
    """None where there is none, and none can be made."""
    if schema is None:
        return None
    ledger = Ledger(connection, schema)
    is_there = ledger.version() > 0
    try:
        ledger.prepare()
    except ServerError:
        if is_there:
            raise
        return None
    return ledger


def _entries(
    context: Context, path: Path, manifest: Manifest, table: Name, statements: list[str], *, holds: bool
) -> Iterator[Entry]:
    shared = manifest.table, table.table, "done", context.now, context.is_machine_clock, str(uuid.uuid4())
    details = {"manifest": str(path), "sha256": manifest.sha256}
    yield Entry("adopt", *shared, tuple(statements), rows=manifest.rows, details=details)
    if holds:
        yield Entry("hold", *shared, duration_ms=0.0)


def _load(
    connection: Connection, manifest: Manifest, types: dict[str, str], table: Name, names: list[str], file: Path
) -> None:
    """By COPY; of a CSV archive, instants and days are numbers, and go through a passing table."""
    columns = quoting.columns(tuple(names))
    if manifest.form == ArchiveForm.PARQUET:
        _copy(connection, f"COPY {quoting.table(table)} ({columns}) FROM STDIN (FORMAT CSV)", manifest, file)
        return
    as_numbers = {"timestamp": "bigint", "timestamptz": "bigint", "date": "integer"}
    passing = ", ".join(
        f"{quoting.identifier(name)} {as_numbers.get(form, 'text' if form == 'text' else types[name])}"
        for name, _, form in manifest.columns
    )
    connection.execute(f"CREATE TEMPORARY TABLE slabrow_adopting ({passing}) ON COMMIT DROP".encode())
    _copy(connection, "COPY slabrow_adopting FROM STDIN (FORMAT CSV)", manifest, file)
    values = ", ".join(_value(quoting.identifier(name), types[name], form) for name, _, form in manifest.columns)
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
