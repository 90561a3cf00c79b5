"""Writes transactions as a SQL script for a person to read and run with psql: the very statements that `--go` sends."""

import re
from collections.abc import Iterable, Iterator
from datetime import datetime

from slabrow import __version__
from slabrow.core.upkeep.statements import Check, Load, Pipe, Remote, Statement, Transaction
from slabrow.core.values.errors import UsageError
from slabrow.core.values.one_line import one_line


def script(transactions: Iterable[Transaction], title: str, now: datetime) -> str:
    """The whole script. psql stops at the first error; a transaction that fails leaves nothing behind.

    Raises UsageError for statements that are done on another server.
    """
    return "\n".join(_lines(transactions, title, now)) + "\n"


def _lines(transactions: Iterable[Transaction], title: str, now: datetime) -> Iterator[str]:
    yield comment_line(title)
    yield f"-- Written by slabrow {__version__} at {now:%Y-%m-%d %H:%M:%S%z}. Run it with: psql -X -f THIS_FILE"
    yield "\\set ON_ERROR_STOP on"
    yield "SET client_encoding = 'UTF8';"
    yield "SET standard_conforming_strings = on;"
    yield "SET client_min_messages = warning;"
    yield "SET statement_timeout = 0;"
    yield "SET row_security = off;"
    for transaction in transactions:
        yield ""
        yield comment_line(transaction.purpose)
        if transaction.is_atomic:
            yield "BEGIN ISOLATION LEVEL READ COMMITTED;"
        for statement in transaction.statements:
            match statement:
                case Check():
                    yield checked(statement) + ";"
                case Load():
                    yield comment_line(f"here the rows of an archive are loaded: {statement.sql}")
                case Remote() | Pipe():
                    raise UsageError(
                        "statements for several servers cannot stand in one script",
                        found=transaction.purpose,
                        fix="do it with --go, or leave --script out to see every statement",
                    )
                case Statement():
                    yield quotes_on_one_line(statement.sql) + ";"
        if transaction.is_atomic:
            yield "COMMIT;"


def comment_line(text: str) -> str:
    """A line of a script that is only read. psql ends a comment where its line ends, whatever the text says."""
    return "-- " + one_line(text)


_QUOTED = re.compile(r"""(?<![\w$])[eE]'(?:[^'\\]|''|\\.)*'|'(?:[^']|'')*'|"(?:[^"]|"")*\"""", re.DOTALL)
_BREAKS = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]")


def quotes_on_one_line(sql: str) -> str:
    """The statement with line breaks and control characters within its quotes written as escapes.

    What a name holds then never begins a line of the script, where psql might take it for a command of its own. The
    spelling is that of the PostgreSQL manual, 4.1.1 (U&"…") and 4.1.2.2 (E'…').
    """
    return _QUOTED.sub(lambda found: _escaped(found.group()), sql)


def _escaped(quoted: str) -> str:
    if _BREAKS.search(quoted) is None:
        return quoted
    if quoted[0] == '"':
        inside = quoted[1:-1].replace("\\", "\\\\")
        return 'U&"' + _BREAKS.sub(lambda found: "\\" + f"{ord(found.group()):04x}", inside) + '"'
    inside = quoted[2:-1] if quoted[0] in "eE" else quoted[1:-1].replace("\\", "\\\\")
    return "E'" + _BREAKS.sub(lambda found: "\\u" + f"{ord(found.group()):04x}", inside) + "'"


BEGIN_ANEW = "SB001"  # the SQLSTATE of what no longer fits and is to be begun anew
DIFFERS = "SB002"  # of a check that found a difference


def checked(check: Check) -> str:
    """A check as a statement that raises when a row of its query differs."""
    query = quotes_on_one_line(check.query)
    text, fix = (one_line(words).replace("'", "''").replace("%", "%%") for words in (check.text, check.fix))
    tag = "$slabrow$"
    while tag in query or tag in text or tag in fix:
        tag = tag[:-1] + "_$"
    code = BEGIN_ANEW if check.renews else DIFFERS
    differs = f"EXISTS (SELECT FROM (\n{query}\n) c WHERE c.differs)"
    raised = f"RAISE EXCEPTION '{text}' USING ERRCODE = '{code}', HINT = '{fix.replace('%%', '%')}'"
    return f"DO {tag}\nBEGIN\n  IF {differs} THEN\n    {raised};\n  END IF;\nEND\n{tag}"
