"""Names of tables, and the names that partitions get. How a name is quoted in SQL belongs to the servers."""

import hashlib
import re
from collections.abc import Container
from dataclasses import dataclass

from slabrow.core.values.errors import UsageError

# The strictest limit of the families that are known: 63 bytes of UTF-8 on PostgreSQL (manual, 4.1.1), where 64
# characters fit on MariaDB. A name that keeps to it fits everywhere.
NAME_LIMIT = 63
_PLAIN = re.compile(r"[a-z_][a-z0-9_$]*")
_PART = re.compile(r'\s*(?:"((?:[^"]|"")+)"|([^\s".]+))\s*(\.|$)')


@dataclass(frozen=True, slots=True, order=True)
class Name:
    """A table by schema and name, both as the catalogue holds them: unquoted, in their true case.

    schema is None where the search path decides.
    """

    schema: str | None
    table: str

    def __str__(self) -> str:
        spelled = [_spelled(part) for part in (self.schema, self.table) if part is not None]
        return ".".join(spelled)

    def sibling(self, table: str) -> "Name":
        """Another table in the same schema."""
        return Name(self.schema, table)


def _spelled(part: str) -> str:
    return part if _PLAIN.fullmatch(part) else '"' + part.replace('"', '""') + '"'


def parse_name(text: str) -> Name:
    """`apiary.reading`, `reading`, or quoted: `"Old Hives"."Log"`. Unquoted parts fold to lower case, as SQL has it.

    Raises UsageError when it is not one or two identifiers.
    """
    parts: list[str] = []
    at, more = 0, True
    while more:
        match = _PART.match(text, at)
        if match is None or len(parts) == 2:
            raise UsageError(
                f"{text!r} is not the name of a table",
                fix='write schema.table, with "double quotes" around a part that has capitals, spaces or dots',
            )
        quoted, plain, dot = match.groups()
        parts.append(quoted.replace('""', '"') if quoted is not None else plain.lower())
        at, more = match.end(), dot == "."
    return Name(parts[0] if len(parts) == 2 else None, parts[-1])


def fit(stem: str, suffix: str, limit: int = NAME_LIMIT) -> str:
    """`stem` + `suffix` within `limit` bytes of UTF-8, the suffix always whole.

    A stem that must be cut ends in eight hex digits of its SHA-256, so that two long names which begin alike stay
    different. PostgreSQL would cut silently at 63 bytes (manual, 4.1.1 Identifiers and Key Words).

    >>> fit("reading", "_2026_03", 63)
    'reading_2026_03'
    """
    whole = stem + suffix
    if len(whole.encode()) <= limit:
        return whole
    digest = "_" + hashlib.sha256(stem.encode()).hexdigest()[:8]
    room = limit - len((digest + suffix).encode())
    if room < 1:
        # A suffix that leaves no room (a list value of 200 letters) is cut in the same way.
        return fit(stem, "_" + hashlib.sha256(suffix.encode()).hexdigest()[:12], limit)
    return stem.encode()[:room].decode(errors="ignore") + digest + suffix


def slug(text: str) -> str:
    """A list value or group as part of a name: lower case, anything but letters and digits as one underscore.

    >>> slug("São Paulo / 1")
    'são_paulo_1'
    """
    return re.sub(r"[\W_]+", "_", text.casefold()).strip("_") or "value"


def unused(name: str, what: str, taken: Container[str], limit: int) -> str:
    """`name`, or when it is taken, the same with a digest of `what`: stable from run to run."""
    if name not in taken:
        return name
    digest = hashlib.sha256(what.encode()).hexdigest()
    for length in range(6, len(digest)):
        candidate = fit(name, f"_{digest[:length]}", limit)
        if candidate not in taken:
            return candidate
    raise ValueError(f"no name left for {what}")  # 58 digests would all have to be taken
