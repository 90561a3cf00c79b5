"""Brings an archive back: loaded, compared with what left, and attached again (N40)."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from slabrow.core.sql.lexing import is_type
from slabrow.core.table.bounds import Bounds, Hashed, Listed, Range
from slabrow.core.table.bounds_data import bounds_from_data
from slabrow.core.table.layout import ArchiveForm
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Adopt
from slabrow.core.upkeep.ledger_entries import LedgerEntry
from slabrow.core.upkeep.statements import Statement, Transaction, sql_of
from slabrow.core.values.errors import Refusal, SlabrowError, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, parse_name
from slabrow.files.archive_file import Manifest, check_archive, read_manifest, rows_as_copy
from slabrow.servers.protocols import LedgerStore, Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.step_runner import ledger_or_none


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
    with context.connected() as session, session.explained("bring the archive back"):
        has_parent = session.catalogue.exists(parent)
        ledger = ledger_or_none(context, session, ledger_schema)
        with runner.sole(session, [parent], context.lock_wait_ms):
            tree = session.catalogue.tree(parent) if has_parent else None
            if (obstacle := session.archives.why_not_back(tree, table)) is not None:
                raise Refusal(obstacle, fix="rename it, or drop it, first")
            action = _action(session, manifest, table, tree, file)
            known = None if tree is None else (tree, session.catalogue.upkeep_facts(tree))
            transactions = session.writer.adoption(action, known, context.lock_wait_ms)
            recorded = _recorded(context, ledger, manifest_path, manifest, transactions, holds=has_parent)
            runner.run(session, recorded, context.lock_wait_ms, context.progress, context.say)
        is_held = has_parent and ledger is not None
        return manifest, Adopted(table, manifest.rows, parent if has_parent else None, is_held)


def _action(session: Session, manifest: Manifest, table: Name, tree: Tree | None, file: Path) -> Adopt:
    return Adopt(
        table=parse_name(manifest.table),
        partition=table,
        bounds=None if tree is None else _bounds(session, manifest, tree),
        reason=f"it was archived to {manifest.file}",
        columns=manifest.columns,
        types=_types(session, manifest, tree),
        rows_in=partial(rows_as_copy, manifest, file),
        row_count=manifest.rows,
        fingerprint=manifest.fingerprint,
        is_text=manifest.form == ArchiveForm.PARQUET,
    )


def _bounds(session: Session, manifest: Manifest, tree: Tree) -> Bounds:
    """The bounds of the manifest, read as values of the parent's key.

    Raises Refusal when the parent is divided in another way.
    """
    parent = tree.table
    try:
        if manifest.held is not None:
            found = bounds_from_data(manifest.held, tree.kinds)
        else:
            found = session.writer.parse_bounds(manifest.bounds, tree.kinds)
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
    return found


def _types(session: Session, manifest: Manifest, tree: Tree | None) -> dict[str, str]:
    """The type of each column as SQL: the parent's own, else the manifest's where the server knows it as a type.

    Raises Refusal when the parent has other columns, UsageError for what is no type.
    """
    described = {name: type_name for name, type_name, _ in manifest.columns}
    if tree is not None:
        columns = {each.name: each.type_name for each in session.catalogue.stored_columns(tree.table)}
        for name, type_name in described.items():
            if columns.get(name) != type_name:
                there = f"{columns[name]} there" if name in columns else "not there"
                raise Refusal(
                    f"the archive does not fit {tree.table}",
                    found=f"its column {name} is of type {type_name}, and is {there}",
                    fix="change the table as it was, or rename it for the moment: then it comes back on its own",
                )
        return columns
    for name, type_name in described.items():
        if not is_type(type_name) or not session.catalogue.is_type(type_name):
            raise UsageError(
                f"the manifest names no type for {name}", found=type_name[:80], fix="create the type, if it is your own"
            )
    return described


def _recorded(
    context: Context,
    ledger: LedgerStore | None,
    path: Path,
    manifest: Manifest,
    transactions: Sequence[Transaction],
    *,
    holds: bool,
) -> list[Transaction]:
    """The transactions with their entries in the ledger: they stand there exactly when the rows are back."""
    if ledger is None:
        return [*transactions]
    adopted = LedgerEntry(
        kind="adopt",
        table=manifest.table,
        partition=parse_name(manifest.partition).table,
        state="done",
        clock=context.now,
        is_machine_clock=context.is_machine_clock,
        run=str(uuid.uuid4()),
        statements=tuple(sql_of(part) for transaction in transactions for part in transaction.statements),
        rows=manifest.rows,
        details={"manifest": str(path), "sha256": manifest.sha256},
    )
    held = replace(adopted, kind="hold", statements=(), rows=None, duration_ms=0.0, details=None)
    entries = [Statement(ledger.insertion(entry)) for entry in ((adopted, held) if holds else (adopted,))]
    last = max(place for place, transaction in enumerate(transactions) if transaction.is_atomic)
    return [
        replace(transaction, statements=(*transaction.statements, *entries)) if place == last else transaction
        for place, transaction in enumerate(transactions)
    ]
