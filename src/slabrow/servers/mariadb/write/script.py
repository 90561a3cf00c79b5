"""Writes transactions as a SQL script for a person to read and run with the `mariadb` client."""

from collections.abc import Iterable, Iterator
from datetime import datetime

from slabrow import __version__
from slabrow.core.upkeep.statements import Check, Load, Statement, Transaction
from slabrow.core.values.one_line import one_line
from slabrow.servers.mariadb.write.upkeep import WAIT

_WAITS_S = 2


def script(transactions: Iterable[Transaction], title: str, now: datetime) -> str:
    """The whole script. The client stops at the first error; every statement commits by itself."""
    return "\n".join(_lines(transactions, title, now)) + "\n"


def _lines(transactions: Iterable[Transaction], title: str, now: datetime) -> Iterator[str]:
    yield _comment(title)
    yield f"-- Written by slabrow {__version__} at {now:%Y-%m-%d %H:%M:%S%z}. Run it with: mariadb DATABASE < THIS_FILE"
    yield "-- Each statement commits by itself, and is done wholly or not at all."
    yield "SET NAMES utf8mb4;"
    yield "SET time_zone = '+00:00', sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION';"
    yield f"SET lock_wait_timeout = {_WAITS_S}, max_statement_time = 0;"
    for transaction in transactions:
        yield ""
        yield _comment(transaction.purpose)
        for statement in transaction.statements:
            match statement:
                case Statement():
                    yield statement.sql.replace(WAIT, f"WAIT {_WAITS_S} ") + ";"
                case Check():
                    yield _comment(f"this must return no row that differs: {statement.text}")
                    yield statement.query + ";"
                case Load():
                    yield _comment(f"here the rows of an archive are loaded: {statement.sql}")


def _comment(text: str) -> str:
    return "-- " + one_line(text)
