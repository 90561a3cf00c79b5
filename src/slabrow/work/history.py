"""`history`: what the ledger holds (N45)."""

from dataclasses import dataclass
from datetime import datetime

from slabrow.core.upkeep.ledger_entries import WrittenEntry
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class History:
    """Entries, the newest first; exists: whether there is a ledger at all."""

    entries: tuple[WrittenEntry, ...]
    schema: str
    exists: bool


def history(
    context: Context, schema: str, *, kinds: tuple[str, ...], state: str | None, since: datetime | None, most: int
) -> History:
    """Reads the ledger of the database. Raises ServerError when it may not be read, or is a newer one."""
    with context.connected() as session:
        ledger = session.ledger(schema)
        entries = ledger.read(table=context.table, kinds=kinds, state=state, since=since, most=most)
        return History(entries, schema, ledger.version() > 0)
