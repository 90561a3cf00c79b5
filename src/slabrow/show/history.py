"""How the ledger looks."""

from collections.abc import Iterable, Sequence
from datetime import UTC
from typing import TYPE_CHECKING, Any

from slabrow.core.upkeep.ledger_entries import LedgerEntry, WrittenEntry
from slabrow.core.values.wording import count, milliseconds
from slabrow.show.output import Json, Shown, bad, good, heading, plain, print_table, table
from slabrow.show.words import plural
from slabrow.work.history import History

if TYPE_CHECKING:
    from rich.console import Console


def _data(history: History) -> Json:
    return {"schema": history.schema, "entries": [_entry(each) for each in history.entries]}


def _entry(written: WrittenEntry) -> Json:
    entry = written.entry
    return {
        "entry": written.number,
        "at": written.at.isoformat(),
        "clock": entry.clock.isoformat(),
        "machine_clock": entry.is_machine_clock,
        "run": entry.run,
        "role": written.role,
        "host": written.host,
        "version": written.version,
        "kind": entry.kind,
        "table": entry.table,
        "partition": entry.partition,
        "state": entry.state,
        "statements": list(entry.statements),
        "duration_ms": entry.duration_ms,
        "rows": entry.rows,
        "lock_waits": entry.lock_waits,
        "note": entry.note,
        "details": entry.details or {},
    }


_COLUMNS = (
    "entry",
    "at",
    "clock",
    "machine_clock",
    "role",
    "host",
    "kind",
    "table",
    "partition",
    "state",
    "rows",
    "duration_ms",
    "lock_waits",
)


def _rows(history: History) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return (*_COLUMNS, "note"), [[data[name] for name in (*_COLUMNS, "note")] for data in map(_entry, history.entries)]


def _text(history: History, out: "Console") -> None:
    if not history.exists:
        out.print(
            plain(f"There is no ledger in the schema {history.schema} yet: the first `slabrow tend --go` makes it.")
        )
        return
    heading(
        out, f"The ledger in {history.schema}: {plural(len(history.entries), 'entry', 'entries')}, the newest first"
    )
    lines = table("when (UTC)", "what", "table", "partition", "rows", "took", "lock waits", "by", "state",
                  right=("rows", "took", "lock waits"), folds=("state",))  # fmt: skip
    for written in history.entries:
        entry = written.entry
        until, step = ((entry.details or {}).get(name) for name in ("until", "step"))
        state = entry.state + _pretended(entry) + (f": {entry.note}" if entry.note else "")
        lines.add_row(
            f"{written.at.astimezone(UTC):%Y-%m-%d %H:%M:%S}",
            plain(entry.kind + (f" until {until[:10]}" if until else "") + (f": {step}" if step else "")),
            plain(entry.table),
            plain(entry.partition),
            count(entry.rows),
            milliseconds(entry.duration_ms),
            str(entry.lock_waits) if entry.lock_waits else "",
            plain(f"{written.role}@{written.host}"),
            good(state) if entry.state == "done" else bad(state),
        )
    print_table(out, lines, ("lock waits", "by", "took", "rows"))


def _pretended(entry: LedgerEntry) -> str:
    """The other clock, where one was given: what was done followed it."""
    return "" if entry.is_machine_clock else f", with --now {entry.clock.astimezone(UTC):%Y-%m-%d %H:%M}"


SHOWN: Shown[History] = Shown("history", _data, _rows, _text)
