"""Reads PostgreSQL server logs, streamed: csvlog, jsonlog and stderr with the usual prefixes (manual, 20.8.4).

Statements come from log_statement and from log_min_duration_statement; in the first case their times follow in lines
of their own. Plans of auto_explain, and lines that are not statements, are ignored. A broken line is counted, never
fatal.
"""

import csv
import gzip
import json
import os
import re
import signal
import zlib
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import replace
from datetime import datetime
from itertools import chain
from math import inf
from multiprocessing import active_children, get_context
from pathlib import Path
from typing import TextIO, cast

from slabrow.core.values.errors import UsageError
from slabrow.core.weighing.workload import Collector, Workload
from slabrow.files.log_segments import Segment, opened_segment, segments
from slabrow.files.reading import LONGEST_LINE, bounded_lines, unreadable

_STATEMENT = re.compile(r"(?:duration: ([0-9]+(?:\.[0-9]+)?) ms  )?(?:statement|execute [^:]*): ", re.DOTALL)
_TOOK = " ms  statement: "
_DURATION = re.compile(r"duration: ([0-9]+(?:\.[0-9]+)?) ms\s*$")
_PARAMETER = re.compile(r"\$[0-9]+ = (NULL|'(?:[^']|'')*')")
# The part before a message: somewhere a time, then the level. Both are looked for in the beginning of a line only,
# so that a long line costs no more than its length.
_LONGEST_PREFIX = 1_000
_TIME = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d")
_LEVEL = re.compile(r"([A-Z]{3,12}\d?):  ")
_STAMP = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)?(?: [A-Za-z+:0-9-]+)?")
_PROCESS = re.compile(r"\[([0-9]+)\]")
_DATABASE = re.compile(r"(?:^|[\s,=])[\w.-]+@([\w.-]+)|db=([\w.-]+)")
_BEGINNINGS = ("duration: ", "statement: ", "execute ")
_WIDTHS = (23, 24, 26)  # columns of a csvlog line before 13, in 13, and from 14 on


def read_log(path: Path, database: str | None = None, jobs: int | None = None) -> Workload:
    """The workload in a server log; `.gz` is unpacked on the way.

    database   statements of other databases are left out, where the log tells
    jobs       processes that read it side by side; None: one for each core
    Raises UsageError when the file cannot be read, or is no log of a form that is known.
    """
    try:
        with _opened(path) as file:
            form = _form(file, path)
        several = jobs if jobs is not None else len(os.sched_getaffinity(0))
        # A process takes a third of a second to start: a small log is read by the time it is there.
        stretches = segments(path, several, form, _STEP) if several > 1 and path.stat().st_size > _STEP else []
        if len(stretches) > 1:
            log = _read_side_by_side(path, stretches, form, database)
        else:
            log = _read_segment(path, (0, None), form, database)
    except (OSError, EOFError, ValueError, zlib.error) as error:
        raise unreadable(path, error, "log", "--workload") from None
    if not log.collector.statements:
        raise UsageError(
            f"{path} holds no statement",
            found=f"{log.lines:,} lines, {log.broken:,} of them broken; {log.elsewhere:,} are of other databases",
            fix="set log_min_duration_statement = 0, or log_statement = all, for a day",
        )
    workload = log.collector.workload(path.name, begins=_moment(log.first), ends=_moment(log.last), broken=log.broken)
    return workload if not log.elsewhere else _with_left_out(workload, log.elsewhere)


_STEP = 8 << 20  # bytes that are worth a process


def _read_side_by_side(path: Path, stretches: Sequence[Segment], form: str, database: str | None) -> "_Log":
    """Each stretch by a process of its own, and their findings in the order of the file."""
    # Spawned and not forked: this process may hold a connection and threads, which a copy must not have.
    context = get_context("spawn")
    with ProcessPoolExecutor(len(stretches), mp_context=context, initializer=_leave_interrupts) as pool:
        found = [pool.submit(_read_segment, path, stretch, form, database) for stretch in stretches]
        try:
            log = found[0].result()
            for other in found[1:]:
                log.absorb(other.result())
        except BrokenProcessPool:
            raise OSError("a process that read a part of it was ended: memory may be short, give --jobs 1") from None
        except BaseException:
            for process in active_children():
                process.terminate()
            raise
    return log


def _leave_interrupts() -> None:
    """Ctrl-C reaches every process of a terminal: this one is ended by the one that began it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _read_segment(path: Path, stretch: Segment, form: str, database: str | None) -> "_Log":
    log = _Log(database)
    with opened_segment(path, stretch) as file:
        {"csv": _read_csv, "json": _read_json, "stderr": _read_stderr}[form](log, file)
    return log


def looks_like_log(path: Path) -> bool:
    """Whether a file begins like a server log, and not like SQL."""
    try:
        with _opened(path) as file:
            _form(file, path)
    except (UsageError, OSError, EOFError, ValueError, zlib.error, csv.Error):
        return False
    return True


def _with_left_out(workload: Workload, elsewhere: int) -> Workload:
    return replace(workload, left_out=workload.left_out + elsewhere)


def _opened(path: Path) -> TextIO:
    if path.suffix == ".gz":
        return cast(TextIO, gzip.open(path, "rt", encoding="utf-8", errors="replace", newline=""))
    return open(path, encoding="utf-8", errors="replace", newline="", buffering=1 << 20)


class _Log:
    """The reading that all three forms share."""

    def __init__(self, database: str | None) -> None:
        self.database = database
        self.collector = Collector(_moment)
        self._add = self.collector.add
        self.lines = self.broken = self.elsewhere = 0
        self.first: str | None = None
        self.last: str | None = None
        self.waiting: dict[str, str] = {}  # by session: the shape whose time is still to come
        # Of a stretch of a log: times of statements that stand before it, and the sessions that were seen in it.
        self.before: dict[str, float] = {}
        self.seen: set[str] = set()

    def entry(self, session: str, stamp: str, database: str | None, message: str, detail: str) -> None:
        """One message of level LOG."""
        took_ms: float | None = None
        at = message.find(_TOOK, 10, 40)
        if at > 0 and message[:10] == "duration: ":
            # The usual form, by hand: a regular expression takes twice as long.
            try:
                took_ms, sql = float(message[10:at]), message[at + len(_TOOK) :]
            except ValueError:
                return
            if not 0.0 <= took_ms < inf:
                return
        elif (match := _STATEMENT.match(message)) is not None:
            sql = message[match.end() :]
            took_ms = float(match.group(1)) if match.group(1) is not None else None
        else:
            self._time(session, message)
            return
        if self.database is not None and database and database != self.database:
            self.elsewhere += 1
            return
        if "\0" in sql:
            sql = sql.replace("\0", "")
        if sql[-1:] == ";":
            sql = sql[:-1]
        if sql[:7] != "SELECT " and not _is_work(sql):
            return
        params: tuple[str, ...] = ()
        if detail and detail[:11].lower() == "parameters:":
            params = tuple(_PARAMETER.findall(detail))
        if self.first is None:
            self.first = stamp
        self.last = stamp
        shape = self._add(sql, params, stamp, took_ms)
        if took_ms is None:
            if shape is not None:
                if len(self.waiting) > _MOST_SESSIONS:
                    self.waiting.clear()
                self.waiting[session] = shape
            if len(self.seen) < 10 * _MOST_SESSIONS:
                self.seen.add(session)

    def _time(self, session: str, message: str) -> None:
        """The time of the statement before, in a line of its own."""
        if session in self.waiting:
            if (took := _DURATION.match(message)) is not None:
                self.collector.took(self.waiting.pop(session), float(took.group(1)))
        elif session not in self.seen and (took := _DURATION.match(message)) is not None:
            self.seen.add(session)
            if len(self.before) < _MOST_SESSIONS:
                self.before[session] = float(took.group(1))

    def __getstate__(self) -> dict[str, object]:
        """For another process: a bound method does not travel."""
        return {name: value for name, value in self.__dict__.items() if name != "_add"}

    def absorb(self, later: "_Log") -> None:
        """Adds what was found in the stretch that follows."""
        for session, took_ms in later.before.items():
            if (first := self.waiting.pop(session, None)) is not None:
                self.collector.took(first, took_ms)
        self.waiting = {name: first for name, first in self.waiting.items() if name not in later.seen} | later.waiting
        self.collector.absorb(later.collector)
        self.lines, self.broken = self.lines + later.lines, self.broken + later.broken
        self.elsewhere += later.elsewhere
        self.first, self.last = self.first or later.first, later.last or self.last


_MOST_SESSIONS = 10_000
_LONGEST_FIELD = LONGEST_LINE  # a quote that is never closed swallows no more of the log than this
_WORDS = frozenset(("SELECT", "WITH", "INSERT", "UPDATE", "DELETE", "MERGE", "VALUES", "TABLE"))


def _is_work(sql: str) -> bool:
    """Whether a statement reads or writes rows; BEGIN, SET and DDL are no workload."""
    head = sql[:12].lstrip("( \n\t")
    word = head[:6].upper()
    if word in _WORDS or word[:4] == "WITH" or word[:5] in ("MERGE", "TABLE"):
        return True
    return head[:2] in ("--", "/*") and any(word in sql.upper() for word in ("SELECT", "UPDATE", "DELETE", "INSERT"))


def _moment(stamp: str | None) -> datetime | None:
    """`2026-03-01 12:00:00.123 UTC`. A zone that is only a name is read as UTC."""
    if stamp is None:
        return None
    day, _, zone = stamp.partition(" ")
    clock, _, zone = zone.partition(" ")
    offset = zone if zone[:1] in ("+", "-") else "+00:00"
    try:
        return datetime.fromisoformat(f"{day} {clock[:15]}{offset}")
    except ValueError:
        return None


def _form(file: TextIO, path: Path) -> str:
    """`csv`, `json` or `stderr`, from how a file begins."""
    head = file.read(1 << 16)
    file.seek(0)
    lines = head.splitlines()
    for line in lines[:50]:
        if line.startswith("{") and '"timestamp"' in line:
            return "json"
        row = _fields(line)
        if len(row) >= 11 and _STAMP.match(row[0]) and row[3].isdigit():
            return "csv"
        if _split(line) is not None:
            return "stderr"
    raise UsageError(
        f"{path} is not a server log in a known format",
        found=f"it begins with {lines[0][:60]!r}" if lines else "it is empty",
        fix="give a csvlog, a jsonlog, a stderr log whose prefix has the time (%m or %t), or a file of SQL",
    )


def _fields(line: str) -> list[str]:
    try:
        return next(csv.reader([line]), [])
    except csv.Error:
        return []


def _read_csv(log: _Log, file: TextIO) -> None:
    """Most lines are read by hand, which takes half as long; whatever is not of the usual form, by the csv reader."""
    entry, widths = log.entry, _WIDTHS
    csv.field_size_limit(_LONGEST_FIELD)
    lines = bounded_lines(file)
    for line in lines:
        if (found := _usual_csv(line)) is not None:
            log.lines += 1
            entry(*found)
            continue
        try:
            for row in csv.reader(chain((line,), lines)):
                log.lines += 1
                if len(row) not in widths:
                    log.broken += 1
                elif row[11] == "LOG" and row[13].startswith(_BEGINNINGS):
                    entry(row[5], row[0], row[2], row[13], row[14])
                break
        except csv.Error:
            log.broken += 1


# Before the message, and after a message without details, as the server writes them; a csv writer leaves quotes out.
_MESSAGE, _NO_DETAIL = ',LOG,00000,"duration: ', '",,'
_COMMAS = frozenset(width - 14 for width in _WIDTHS)  # after the message


def _usual_csv(line: str) -> tuple[str, str, str, str, str] | None:
    """Session, time, database and message of a line with a timed statement; None for a line of any other form."""
    at = line.find(_MESSAGE)
    if at < 0:
        return None
    start = at + 12
    end = line.find('"', start)
    # A quote within the message is doubled; a message of several lines has no end here.
    if end < 0 or line[end : end + 3] != _NO_DETAIL or line.count(",", end) not in _COMMAS:
        return None
    head = line[:at].split(",", 6)
    if len(head) < 7 or not head[3].isdigit() or line.count('"', end + 1) & 1:
        return None
    database = head[2]
    if database[:1] == '"':
        database = database[1:-1]
    if '"' in database or '"' in head[5] or head[1].count('"') & 1:
        return None
    return head[5], head[0], database, line[start:end], ""


def _read_json(log: _Log, file: TextIO) -> None:
    loads = json.loads
    for line in bounded_lines(file):
        log.lines += 1
        if (found := _usual_json(line)) is not None:
            log.entry(*found, "")
            continue
        # Most lines of a busy log are statements; the others are not worth parsing.
        if '"error_severity":"LOG"' not in line and '"error_severity": "LOG"' not in line:
            if not line.startswith("{"):
                log.broken += bool(line.strip())
            continue
        try:
            read = loads(line)
            message = read["message"]
            session = str(read.get("session_id") or read.get("pid"))
            log.entry(session, read["timestamp"], read.get("dbname"), message, read.get("detail") or "")
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
            log.broken += 1


def _usual_json(line: str) -> tuple[str, str, str | None, str] | None:
    """As `_usual_csv`, without details. A text without a backslash holds no quote: what looks like a key is one."""
    if "\\" in line or '"detail"' in line or line[:1] != "{" or line.rstrip()[-1:] != "}":
        return None
    message = _text_at(line, '"message":')
    if message is None or message[:10] != "duration: " or _text_at(line, '"error_severity":') != "LOG":
        return None
    stamp, session = _text_at(line, '"timestamp":'), _text_at(line, '"session_id":')
    return None if stamp is None or session is None else (session, stamp, _text_at(line, '"dbname":'), message)


def _text_at(line: str, key: str) -> str | None:
    """The text that is the value of a key, with or without a space before it."""
    at = line.find(key)
    if at < 0:
        return None
    at += len(key)
    if line[at : at + 1] == " ":
        at += 1
    end = line.find('"', at + 1)
    return line[at + 1 : end] if line[at : at + 1] == '"' and end > 0 else None


def _read_stderr(log: _Log, file: TextIO) -> None:
    """A message goes on in lines that begin with a tab; its DETAIL follows as a message of its own."""
    held: tuple[str, str, str | None, str] | None = None
    for prefix, level, message in _messages(log, bounded_lines(file)):
        if level == "DETAIL":
            if held is not None:
                log.entry(*held, message)
                held = None
            continue
        if held is not None:
            log.entry(*held, "")
            held = None
        if level == "LOG":
            stamp = _STAMP.search(prefix)
            process = _PROCESS.search(prefix)
            database = _DATABASE.search(prefix)
            name = next((part for part in database.groups() if part), None) if database else None
            held = (process.group(1) if process else "", stamp.group(0) if stamp else "", name, message)
    if held is not None:
        log.entry(*held, "")


def _split(line: str) -> tuple[str, str, str] | None:
    """A line of a stderr log as prefix, level and message; None when it begins no message."""
    time = _TIME.search(line, 0, _LONGEST_PREFIX)
    level = None if time is None else _LEVEL.search(line, time.end(), time.end() + _LONGEST_PREFIX)
    return None if level is None else (line[: level.start()], level.group(1), line[level.end() :])


def _messages(log: _Log, file: Iterable[str]) -> Iterator[tuple[str, str, str]]:
    prefix, level, parts, length = "", "", list[str](), 0
    for line in file:
        log.lines += 1
        line = line.rstrip("\r\n")
        if line.startswith("\t"):
            if parts and length <= LONGEST_LINE:
                parts.append(line[1:])
                length += len(line)
            else:
                log.broken += 1
            continue
        split = _split(line)
        if split is None:
            # A statement whose own lines are not set off by a tab (syslog, some collectors) goes on here.
            if parts and length <= LONGEST_LINE and line.strip():
                parts.append(line)
                length += len(line)
            elif line.strip():
                log.broken += 1
            continue
        if parts:
            yield prefix, level, "\n".join(parts)
        prefix, level, message = split
        parts, length = [message], len(message)
    if parts:
        yield prefix, level, "\n".join(parts)
