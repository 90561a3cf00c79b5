"""Statements as a person reads them: the beginning of each, the many alike counted."""

from collections.abc import Iterable
from itertools import groupby
from typing import TYPE_CHECKING

from slabrow.core.upkeep.statements import Check, Transaction, sql_of
from slabrow.show.output import Json, plain

if TYPE_CHECKING:
    from rich.console import Console

_MOST_ALIKE = 2
_WIDTH = 110  # columns shown of a statement


def statement_texts(transactions: Iterable[Transaction]) -> list[str]:
    """Every statement as SQL, for JSON."""
    return [sql_of(statement) for transaction in transactions for statement in transaction.statements]


def transaction_data(transactions: Iterable[Transaction]) -> list[Json]:
    """Transactions as JSON."""
    return [
        {"purpose": transaction.purpose, "atomic": transaction.is_atomic, "statements": statement_texts([transaction])}
        for transaction in transactions
    ]


def print_statements(transaction: Transaction, out: "Console") -> None:
    """One line a statement; of a run of alike ones the first two, then how many more."""
    lines = [
        f"stop if {statement.text}" if isinstance(statement, Check) else " ".join(statement.sql.split())
        for statement in transaction.statements
    ]
    for _, alike in groupby(lines, key=_kind):
        some = list(alike)
        for line in some[:_MOST_ALIKE]:
            out.print(plain("  " + (line if len(line) <= _WIDTH else line[: _WIDTH - 1] + "…")), soft_wrap=True)
        if len(some) > _MOST_ALIKE:
            out.print(plain(f"  … and {len(some) - _MOST_ALIKE} more like it"))


def _kind(line: str) -> str:
    """The first words of a statement, by which alike statements are grouped."""
    return " ".join(line.split()[:3])
