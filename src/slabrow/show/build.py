"""How a build looks."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.show.convert import key_change_data, print_key_changes
from slabrow.show.output import Json, Shown, heading, note, plain
from slabrow.show.statements import print_statements, transaction_data
from slabrow.show.words import listed, plural
from slabrow.work.build import BuildResult

if TYPE_CHECKING:
    from rich.console import Console

_MOST_SHOWN = 3


def _data(result: BuildResult) -> Json:
    return {
        "table": str(result.layout.table),
        "layout": str(result.layout),
        "key_changes": [key_change_data(change) for change in result.key_changes],
        "partitions": list(result.partitions),
        "transactions": transaction_data(result.transactions),
        "state": "done" if result.is_done else "proposed",
    }


def _rows(result: BuildResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("partition", "state"), [[name, "done" if result.is_done else "proposed"] for name in result.partitions]


def _text(result: BuildResult, out: "Console") -> None:
    if not result.transactions:
        out.print(plain(f"{result.layout.table} is there, with all its partitions: nothing to do."))
        return
    heading(
        out,
        f"{'Built' if result.is_done else 'To build'}: {result.layout.table} by {result.layout}, "
        f"{plural(len(result.partitions), 'partition')}",
    )
    print_key_changes(result.key_changes, out)
    out.print(plain(listed(result.partitions, 6)))
    if result.is_done:
        return
    for transaction in result.transactions[:_MOST_SHOWN]:
        out.print(plain(f"Transaction: {transaction.purpose}"))
        print_statements(transaction, out)
    if len(result.transactions) > _MOST_SHOWN:
        out.print(plain(f"… and {plural(len(result.transactions) - _MOST_SHOWN, 'transaction')} more like it"))
    note(out, "Nothing has been done. --go does it; --script FILE writes it as SQL.")


SHOWN: Shown[BuildResult] = Shown("build", _data, _rows, _text)
