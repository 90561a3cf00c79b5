"""Reads the entries of a layout file that name other servers: `[[server]]` and `[[elsewhere]]`."""

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from slabrow.core.table.layout import HERE
from slabrow.core.upkeep.elsewhere import Elsewhere

Told = Callable[[str], None]  # hears of each fault

_SERVER_NAME = re.compile(r"[\w-][\w.-]*")  # it is also the folder of the server's archives
_SERVER_NAME_WORDS = "write letters, digits, - and _, such as north"


@dataclass(frozen=True, slots=True)
class Server:
    """A `[[server]]`: what --on calls it, and how it is reached (a URL, or `service=name` of the client's file)."""

    name: str
    dsn: str


def parse_servers(document: dict[str, Any], told: Told) -> tuple[Server, ...]:
    """`[[server]]` with a name and a dsn each."""
    shape = 'a [[server]] has a name and a dsn: name = "north", dsn = "…"'
    return tuple(Server(entry["name"], entry["dsn"]) for entry in _entries(document, "server", (), shape, told))


def parse_elsewhere(document: dict[str, Any], told: Told) -> tuple[Elsewhere, ...]:
    """`[[elsewhere]]` with a name and a dsn each, and perhaps a schema."""
    shape = 'an [[elsewhere]] has a name and a dsn, and perhaps a schema: name = "attic", dsn = "…"'
    found = []
    for entry in _entries(document, "elsewhere", ("schema",), shape, told):
        name, schema = entry["name"], entry.get("schema")
        if name == HERE:
            told(f"{name!r} means the server that has the table: give the other server another name")
        if schema is not None and (not isinstance(schema, str) or not schema or "\0" in schema):
            told('`schema` is the name of a schema on that server: schema = "apiary"')
            schema = None
        found.append(Elsewhere(name, entry["dsn"], schema))
    return tuple(found)


def _entries(
    document: dict[str, Any], key: str, optional: tuple[str, ...], shape: str, told: Told
) -> Iterator[dict[str, Any]]:
    """The entries with a name and a dsn, both text; of those with the same name only the first.

    shape   told of an entry that has another form
    """
    given = document.get(key, [])
    entries: list[Any] = given if isinstance(given, list) else [None]
    seen: set[str] = set()
    for entry in entries:
        match entry:
            case {"name": str(name), "dsn": str(dsn)} if name and dsn and set(entry) <= {"name", "dsn", *optional}:
                if not _SERVER_NAME.fullmatch(name):
                    told(f"{name!r} is no name of a server: {_SERVER_NAME_WORDS}")
                if name in seen:
                    told(f"two [[{key}]] are called {name!r}: rename one")
                    continue
                seen.add(name)
                yield entry
            case _:
                told(shape)
