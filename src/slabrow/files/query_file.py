"""Reads query files: plain SQL, statements ended by `;`, with comment lines that name them and say what is expected."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from slabrow.core.pruning.verdicts import PrunedAt
from slabrow.core.sql.lexing import statement_places
from slabrow.core.sql.parameters import read_literals
from slabrow.core.values.errors import UsageError, nearest
from slabrow.files.reading import read_text

_SETTING = re.compile(r"\s*--\s*([a-z_]+)\s*:(.*)")
_LIMIT = re.compile(r"(<=|=|<)?\s*([0-9]{1,9})")
_MOST_RUNS = 1e12  # a day
SETTINGS = ("name", "touches", "decided", "params", "weight")


@dataclass(frozen=True, slots=True)
class Limit:
    """How many leaves a query may touch: at most `most`, or exactly when `is_exact`."""

    most: int
    is_exact: bool = False

    def holds(self, touched: int) -> bool:
        """Whether so many touched partitions are within the limit."""
        return touched == self.most if self.is_exact else touched <= self.most

    def __str__(self) -> str:
        return f"{'=' if self.is_exact else '<='} {self.most}"


@dataclass(frozen=True, slots=True)
class FileQuery:
    """One statement of a query file.

    params   SQL constants for $1, $2, …: literals, nothing that computes
    weight   runs a day
    decided  the moment by which leaves must have been left out
    line     where the statement begins
    """

    name: str
    sql: str
    line: int
    limit: Limit | None = None
    params: tuple[str, ...] = ()
    weight: float = 1.0
    decided: PrunedAt | None = None


def chosen_queries(queries: tuple[FileQuery, ...], names: Sequence[str]) -> tuple[FileQuery, ...]:
    """Those of these names, or all where none is named. Raises UsageError for a name that none has."""
    known = {query.name for query in queries}
    for name in names:
        if name not in known:
            near = nearest(name, known)
            raise UsageError(
                f"there is no query {name}",
                found=f"{len(known)} queries: {', '.join(sorted(known)[:5])}{' …' if len(known) > 5 else ''}",
                fix=f"did you mean {near}?" if near else "name one of the file's",
            )
    return tuple(query for query in queries if query.name in names) if names else queries


def read_queries(path: Path, option: str = "--queries") -> tuple[FileQuery, ...]:
    """Every statement of a file. option: how another one is named, for messages.

    Raises UsageError with the line when something in it cannot be read.
    """
    return parse_queries(read_text(path, "query file", option), str(path))


def parse_queries(text: str, name: str) -> tuple[FileQuery, ...]:
    """As `read_queries`, from text. name: of the text, for messages."""
    if "\0" in text:
        raise UsageError(f"{name} holds a NUL character", fix="it is not a text file: name a file of SQL")
    queries: list[FileQuery] = []
    seen: set[str] = set()
    before = 0  # where the comments above the next statement begin
    begins = 1  # and their line
    for start, end in statement_places(text, name):
        settings = _settings(text[before:start], name, begins)
        line = begins + text.count("\n", before, start)
        settings.setdefault("name", f"query-{len(queries) + 1}")
        query = _query(text[start:end], settings, line, name)
        if query.name in seen:
            raise UsageError(
                f"{name}, line {line}: a query named {query.name!r} stands above already",
                fix="give each query its own name",
            )
        seen.add(query.name)
        queries.append(query)
        before, begins = end + 1, line + text.count("\n", start, end + 1)
    if not queries:
        raise UsageError(f"{name} holds no query", fix="write SQL statements, each ended by a semicolon")
    return tuple(queries)


def _settings(comments: str, name: str, line: int) -> dict[str, str]:
    settings: dict[str, str] = {}
    for at, comment in enumerate(comments.split("\n"), line):
        match = _SETTING.match(comment)
        if match is None:
            continue
        key, value = match.groups()
        if key in SETTINGS:
            settings[key] = value.strip()
        elif near := nearest(key, SETTINGS):
            raise UsageError(f"{name}, line {at}: `{key}:` is not known", fix=f"did you mean `{near}:`?")
    return settings


def _query(sql: str, settings: dict[str, str], line: int, name: str) -> FileQuery:
    def wrong(key: str, fix: str) -> UsageError:
        return UsageError(f"{name}, line {line}: `{key}: {settings[key]}` above this query cannot be read", fix=fix)

    limit = None
    if "touches" in settings:
        match = _LIMIT.fullmatch(settings["touches"])
        if match is None:
            raise wrong("touches", "write `-- touches: <= 2` or `-- touches: = 1`")
        sign, number = match.groups()
        limit = Limit(int(number) - (sign == "<"), sign == "=")
    try:
        weight = float(settings.get("weight", "1"))
        if not 0 <= weight <= _MOST_RUNS:
            raise ValueError
    except ValueError:
        raise wrong("weight", "write how often it runs a day, such as `-- weight: 4000`") from None
    decided = None
    if "decided" in settings:
        if settings["decided"] not in ("plan", "start", "run"):
            raise wrong("decided", "write `-- decided: plan`, start or run")
        decided = PrunedAt(settings["decided"])
    try:
        params = read_literals(settings.get("params", ""))
    except UsageError as error:
        raise UsageError(
            f"{name}, line {line}: `params:` above this query cannot be read", found=error.found, fix=error.fix
        ) from None
    return FileQuery(
        name=settings["name"], sql=sql.strip(), line=line, limit=limit, params=params, weight=weight, decided=decided
    )
