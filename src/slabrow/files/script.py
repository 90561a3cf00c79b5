"""Writes transactions as a SQL script for a person to read and run with psql: the very statements that `--go` sends."""

import os
from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path

from slabrow import __version__
from slabrow.core.errors import UsageError
from slabrow.core.statements import Check, Transaction


def script(transactions: Iterable[Transaction], title: str, now: datetime) -> str:
    """The whole script. psql stops at the first error; a transaction that fails leaves nothing behind."""
    return "\n".join(_lines(transactions, title, now)) + "\n"


def _lines(transactions: Iterable[Transaction], title: str, now: datetime) -> Iterator[str]:
    yield f"-- {title}"
    yield f"-- Written by slabrow {__version__} at {now:%Y-%m-%d %H:%M:%S%z}. Run it with: psql -X -f THIS_FILE"
    yield "\\set ON_ERROR_STOP on"
    yield "SET client_min_messages = warning;"
    yield "SET statement_timeout = 0;"
    yield "SET row_security = off;"
    for transaction in transactions:
        yield ""
        yield "-- " + " ".join(transaction.purpose.split())
        if transaction.is_atomic:
            yield "BEGIN ISOLATION LEVEL READ COMMITTED;"
        for statement in transaction.statements:
            yield checked(statement) + ";" if isinstance(statement, Check) else statement.sql + ";"
        if transaction.is_atomic:
            yield "COMMIT;"


def checked(check: Check) -> str:
    """A check as a statement that raises when a row of its query differs."""
    tag = "$slabrow$"
    while tag in check.query or tag in check.text:
        tag = tag[:-1] + "_$"
    text = check.text.replace("'", "''").replace("%", "%%")
    differs = f"EXISTS (SELECT FROM (\n{check.query}\n) c WHERE c.differs)"
    return f"DO {tag}\nBEGIN\n  IF {differs} THEN\n    RAISE EXCEPTION '{text}';\n  END IF;\nEND\n{tag}"


def write_file(path: Path, text: str) -> None:
    """Writes a file whole or not at all: under another name, then renamed. Raises UsageError when it cannot be."""
    passing = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        passing.write_text(text, encoding="utf-8")
        passing.replace(path)
    except OSError as error:
        passing.unlink(missing_ok=True)
        raise UsageError(f"{path} cannot be written", found=error.strerror or str(error)) from None
