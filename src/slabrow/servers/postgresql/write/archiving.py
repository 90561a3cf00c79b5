"""Writes the statements around an archive: the table as it was, and the comparison before the table goes.

Pure: text out, nothing sent.
"""

from collections.abc import Sequence

from slabrow.core.table.export_column import ExportColumn
from slabrow.core.upkeep.statements import Check, Part, Statement
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.read.row_export import STEADY, fingerprint_sql


def creation_of(table: Name, columns: Sequence[ExportColumn]) -> str:
    """CREATE TABLE for the stored columns of a table, for readers of the manifest."""
    return f"CREATE TABLE {quoting.table(table)} ({', '.join(map(_column, columns))})"


def _column(column: ExportColumn) -> str:
    return f"{identifier(column.name)} {column.type_name}"


def unchanged_since(
    table: Name, columns: Sequence[str], rows: int, fingerprint: str, *, is_far: bool
) -> tuple[Part, ...]:
    """Compares a table with what was archived of it, under a lock that keeps writers out: rows may have come since."""
    # LOCK TABLE is refused for a foreign table; switching triggers off takes a lock that keeps its writers out, and in
    # this transaction it goes anyway.
    name = quoting.table(table)
    lock = f"ALTER TABLE {name} DISABLE TRIGGER USER" if is_far else f"LOCK TABLE {name} IN SHARE MODE"
    return (
        Statement(lock, is_lock=True),
        *(Statement(f"SET LOCAL {name} = {literal(value)}") for name, value in STEADY.items()),
        Check(
            f"SELECT {literal(str(table))}, {rows}::bigint, f.count, "
            f"f.count <> {rows} OR f.fingerprint <> {literal(fingerprint)} "
            f"FROM ({fingerprint_sql(table, columns)}) f (count, fingerprint)",
            f"{table} changed while it was archived",
            fix="run it again: it is then archived anew",
        ),
    )
