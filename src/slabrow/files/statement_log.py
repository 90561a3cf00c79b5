"""Reads MariaDB's slow log and general log, streamed (manual, Slow Query Log, General Query Log).

The slow log has the time that each statement took, `SET timestamp=` and `use` lines of its own; the general log has the
statements of each connection by its number, and no times. Both write the values of prepared statements into the text.
Lines that are no statement are ignored; a broken one is counted, never fatal.
"""

import gzip
import re
import zlib
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TextIO, cast

from slabrow.core.sql import backquoted
from slabrow.core.sql.pieces import Piece
from slabrow.core.values.errors import UsageError
from slabrow.core.weighing.workload import Collector, Workload
from slabrow.files.reading import LONGEST_LINE, bounded_lines, unreadable

_HEADER = re.compile(r"Time\s+Id\s+Command\s+Argument")
_USER = "# User@Host:"
_TOOK = re.compile(r"# Query_time: ([0-9.]+)")
_SCHEMA = re.compile(r"# Thread_id: \d+\s+Schema: (\S*)\s")
_AT = re.compile(r"SET timestamp=(\d+)(?:\.\d+)?;\s*$")
_USE = re.compile(r"use `?([^`;]+)`?;\s*$", re.IGNORECASE)
_GENERAL = re.compile(r"(?:(\d{6})\s+(\d{1,2}):(\d\d):(\d\d))?\t+\s*(\d+) (\w[\w ]*?)\t(.*)", re.DOTALL)
_ON = re.compile(r" on (\S*)(?: using|$)")
_WORK = re.compile(r"\s*\(*\s*(SELECT|WITH|INSERT|UPDATE|DELETE|REPLACE|VALUES)\b", re.IGNORECASE)
_ODD = re.compile(r"""["#\\]|--|/\*|`\d""")
_HEAD = 1 << 16


def is_statement_log(path: Path) -> bool:
    """Whether a file begins like one of these logs."""
    try:
        with _opened(path) as file:
            head = file.read(_HEAD)
    except (OSError, EOFError, ValueError, zlib.error):
        return False
    return _HEADER.search(head) is not None or head.lstrip().startswith(("# Time:", _USER))


def read_statement_log(path: Path, database: str | None = None) -> Workload:
    """The workload in such a log; `.gz` is unpacked on the way. database: statements of others are left out.

    Raises UsageError when the file cannot be read, or holds no statement.
    """
    log = _Log(database)
    try:
        with _opened(path) as file:
            lines = bounded_lines(file)
            first = [line for line, _ in zip(lines, range(200), strict=False)]
            is_slow = any(line.startswith(_USER) for line in first)
            (_read_slow if is_slow else _read_general)(log, _chained(first, lines))
    except (OSError, EOFError, ValueError, zlib.error) as error:
        raise unreadable(path, error, "log", "--workload") from None
    if not log.collector.statements:
        raise UsageError(
            f"{path} holds no statement",
            found=f"{log.lines:,} lines; {log.elsewhere:,} statements are of other databases",
            fix="set long_query_time = 0 and slow_query_log = 1 for a day",
        )
    return log.collector.workload(path.name, begins=_moment(log.first), ends=_moment(log.last), broken=log.broken)


def _chained(first: list[str], rest: Iterator[str]) -> Iterator[str]:
    yield from first
    yield from rest


def _opened(path: Path) -> TextIO:
    if path.suffix == ".gz":
        return cast(TextIO, gzip.open(path, "rt", encoding="utf-8", errors="replace", newline=""))
    return open(path, encoding="utf-8", errors="replace", newline="", buffering=1 << 20)


class _Log:
    def __init__(self, database: str | None) -> None:
        self.database = database
        self.collector = Collector(_moment)
        self.lines = self.broken = self.elsewhere = 0
        self.first: str | None = None
        self.last: str | None = None

    def add(self, sql: str, stamp: str, database: str | None, took_ms: float | None) -> None:
        """One statement."""
        if _WORK.match(sql) is None:
            return
        if self.database and database and database != self.database:
            self.elsewhere += 1
            return
        self.first = self.first or stamp
        self.last = stamp
        self.collector.add(_plain(sql), (), stamp, took_ms)


def _plain(sql: str) -> str:
    """With texts in single quotes and without comments, as statements are told apart by their literals."""
    sql = sql.strip().rstrip(";").strip()
    if _ODD.search(sql) is None:
        return sql
    parts = []
    for each in backquoted.lexemes(sql):
        if each.piece is Piece.COMMENT and not each.text.startswith(("/*!", "/*M!", "*/")):
            parts.append(" ")
        elif each.piece is Piece.TEXT and each.text[0] == '"' and "\\" not in each.text:
            parts.append("'" + each.text[1:-1].replace('""', '"').replace("'", "''") + "'")
        else:
            parts.append(each.text)
    return "".join(parts)


def _read_slow(log: _Log, lines: Iterator[str]) -> None:
    """An entry begins with `# User@Host`; its statement may have several lines, and ends with a semicolon."""
    took_ms: float | None = None
    stamp, database = "", None
    parts: list[str] = []
    length = 0
    for line in lines:
        log.lines += 1
        if line.startswith(("# ", "#\n")) or _HEADER.match(line):
            if parts:
                log.add("\n".join(parts), stamp, database, took_ms)
                parts, length = [], 0
            if (found := _TOOK.match(line)) is not None:
                took_ms = float(found.group(1)) * 1_000
            elif (found := _SCHEMA.match(line)) is not None:
                database = found.group(1) or None
            continue
        if not parts and (at := _AT.match(line)) is not None:
            stamp = at.group(1)
            continue
        if not parts and (use := _USE.match(line)) is not None:
            database = use.group(1)
            continue
        if took_ms is None or (not parts and not line.strip()):
            continue  # the lines that the server begins a file with
        length += len(line)
        if length > LONGEST_LINE:
            log.broken += 1
            parts, length = [], 0
            continue
        parts.append(line.rstrip("\r\n"))
    if parts:
        log.add("\n".join(parts), stamp, database, took_ms)


def _read_general(log: _Log, lines: Iterator[str]) -> None:
    """Each line has the connection's number; lines that go on a statement have none."""
    databases: dict[str, str] = {}
    stamp = ""
    held: tuple[str, list[str]] | None = None

    def end() -> None:
        if held is not None:
            log.add("\n".join(held[1]), stamp, databases.get(held[0]), None)

    for line in lines:
        log.lines += 1
        match = _GENERAL.match(line.rstrip("\r\n"))
        if match is None:
            if held is not None and sum(map(len, held[1])) < LONGEST_LINE:
                held[1].append(line.rstrip("\r\n"))
            continue
        end()
        held = None
        day, hour, minute, second, session, command, argument = match.groups()
        if day is not None:
            moment = datetime.strptime(f"{day} {hour:0>2}:{minute}:{second}", "%y%m%d %H:%M:%S").replace(tzinfo=UTC)
            stamp = str(int(moment.timestamp()))
        match command:
            case "Connect":
                if (on := _ON.search(argument)) is not None and on.group(1):
                    databases[session] = on.group(1)
            case "Init DB":
                databases[session] = argument
            case "Query" | "Execute":
                if (use := _USE.match(argument + ";")) is not None:
                    databases[session] = use.group(1)
                else:
                    held = (session, [argument])
            case "Quit":
                databases.pop(session, None)
    end()


def _moment(stamp: str | None) -> datetime | None:
    """Seconds since 1970."""
    return datetime.fromtimestamp(int(stamp), UTC) if stamp else None
