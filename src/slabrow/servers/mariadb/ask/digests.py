"""The server's statistics of statements as a workload: `performance_schema`, where it is switched on.

Source: MariaDB's documentation of events_statements_summary_by_digest. A statement is kept there as its words, with ?
in the place of each value; lists are shortened to `(...)`, and what is longer than 1,024 characters is cut off.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime

from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.pieces import Piece
from slabrow.core.values.errors import ServerError
from slabrow.core.weighing.workload import Collector, Workload
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained

_WORDS = ("select", "with", "insert", "replace", "update", "delete", "values")
_PICOSECONDS = 1e9  # in a millisecond
_UNIT = re.compile(r"\bSQL_TSI_(\w+)\b")
_SHORTENED = re.compile(r"\(\s*\.\.\.\s*\)(?:\s*/\*\s*,\s*\.\.\.\s*\*/)?")
_CUT = "..."


def read_statistics(connection: Connection) -> Workload:
    """The workload of this database since the server's statistics were last emptied.

    Raises ServerError where there are none, or none that can be read.
    """
    with explained("read the statement statistics"):
        row = connection.row("SELECT @@performance_schema, database()")
        if row is None or not row[0]:
            raise ServerError(
                "there are no statement statistics",
                found="performance_schema is off, and only a restart of the server switches it on",
                fix="give a slow log or a general log as --workload",
            )
        found = connection.rows(
            "SELECT digest_text, count_star, sum_timer_wait, first_seen, utc_timestamp() "
            "FROM performance_schema.events_statements_summary_by_digest "
            "WHERE schema_name = database() AND count_star > 0 AND digest_text IS NOT NULL"
        )
    collector = Collector()
    begins = min((first for *_, first, _ in found), default=None)
    now = found[0][4] if found else None
    days = max((now - begins).total_seconds() / 86_400, 1 / 24) if begins and now else 1.0
    for text, calls, waited, _, _ in found:
        sql = readable(str(text))
        if sql is None:
            collector.left_out += int(calls)
            continue
        first = next((each.value for each in lexemes(sql) if each.piece is Piece.WORD), "")
        if first in _WORDS and "performance_schema" not in sql and "information_schema" not in sql.lower():
            collector.add_normalised(sql, int(calls), int(calls) / days, float(waited) / _PICOSECONDS, 0.0)
    if not collector.statements:
        raise ServerError(
            "the statement statistics hold nothing that can be weighed",
            found=f"no SELECT, INSERT, UPDATE or DELETE in {row[1]}",
            fix="let the server work for a day, or name the database in the DSN",
        )
    return collector.workload("statement statistics", begins=_utc(begins), ends=_utc(now))


def readable(text: str) -> str | None:
    """The words of a digest as a statement with ? for its values; None for one that was cut off or has unknown words.

    >>> readable("SELECT COUNT ( * ) FROM `r` WHERE `d` > NOW ( ) - INTERVAL ? SQL_TSI_DAY AND `v` IN (...)")
    'SELECT COUNT( * ) FROM `r` WHERE `d` > NOW( ) - INTERVAL ? DAY AND `v` IN (?)'
    """
    whole = _SHORTENED.sub("(?)", _UNIT.sub(r"\1", text))
    if whole.rstrip().endswith(_CUT) or "(unknown)" in whole or "`...`" in whole:
        return None
    whole = re.sub(r"\?\s*,\s*\.\.\.", "?", whole)
    # Names of functions stand right before their bracket: with a blank the server would not know them.
    return re.sub(r"\b([A-Z_]+) \(", lambda match: _called(match.group(1)), whole)


_NO_FUNCTIONS = re.compile(
    "IN|AND|OR|NOT|VALUES?|SELECT|FROM|WHERE|ON|USING|AS|BY|HAVING|SET|INTO|PARTITION|EXISTS|ANY|ALL|SOME|OVER|INDEX|KEY|"
    "WITH|UNION|LIMIT|BETWEEN|LIKE|CASE|WHEN|THEN|ELSE|JOIN|INTERVAL|DISTINCT|RETURNING"
)


def _called(word: str) -> str:
    return f"{word} (" if _NO_FUNCTIONS.fullmatch(word) else f"{word}("


def _utc(moment: datetime | None) -> datetime | None:
    return None if moment is None else moment.replace(tzinfo=UTC)
