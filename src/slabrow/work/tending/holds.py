"""Puts a partition under hold, so that upkeep never takes it away, and ends that (N42). The ledger keeps both."""

import uuid
from datetime import datetime

from slabrow.core.upkeep.ledger_entries import LedgerEntry
from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.values.names import Name, parse_name
from slabrow.work.context import Context


def hold(
    context: Context, ledger_schema: str | None, partition: str, until: datetime | None, *, holds: bool, go: bool
) -> str:
    """Writes the hold, or with `holds` False its end, and says so in one sentence. Without `go` it only says it.

    Raises UsageError when no table of the layout file has that partition, or there is no ledger to keep it in.
    """
    if ledger_schema is None:
        raise UsageError(
            "a hold is kept in the ledger, and the layout file says that there is none", fix="name a schema"
        )
    wanted = parse_name(partition)
    known: list[str] = []
    with context.connected() as session:
        for layout in context.layouts():
            tree = session.catalogue.tree(layout.table)
            names = [child.name for child in tree.children]
            known += map(str, names)
            found = next(
                (name for name in names if name.table == wanted.table and wanted.schema in (None, name.schema)), None
            )
            if found is None:
                continue
            lasts = f" until {until:%Y-%m-%d %H:%M%z}" if until else ""
            if not go:
                would = f"would be put under hold{lasts}" if holds else "would no longer be under hold"
                return f"{found} {would}. Nothing has been done: --go does it."
            context.guard_pretended_clock(session.catalogue.moment())
            ledger = session.ledger(ledger_schema)
            ledger.prepare()
            ledger.write(_entry(context, tree.table, found.table, until, holds))
            if not holds:
                return f"{found} is no longer under hold."
            return f"{found} is under hold{lasts}: upkeep lets it stay."
    near = nearest(partition, known)
    raise UsageError(
        f"no table of the layout file has a partition {partition}", fix=f"did you mean {near}?" if near else None
    )


def _entry(context: Context, table: Name, partition: str, until: datetime | None, holds: bool) -> LedgerEntry:
    return LedgerEntry(
        kind="hold" if holds else "hold_ended",
        table=str(table),
        partition=partition,
        state="done",
        clock=context.now,
        is_machine_clock=context.is_machine_clock,
        run=str(uuid.uuid4()),
        duration_ms=0.0,
        details={"until": until.isoformat()} if until is not None else {},
    )
