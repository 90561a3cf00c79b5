"""Reads the entries of a layout file that name other servers: `[[server]]` and `[[elsewhere]]`."""

import re
from collections.abc import Callable
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
    given = document.get("server", [])
    entries: list[Any] = given if isinstance(given, list) else [None]
    found: dict[str, Server] = {}
    for entry in entries:
        match entry:
            case {"name": str(name), "dsn": str(dsn)} if name and dsn and set(entry) == {"name", "dsn"}:
                if not _SERVER_NAME.fullmatch(name):
                    told(f"{name!r} is no name of a server: {_SERVER_NAME_WORDS}")
                if name in found:
                    told(f"two servers are called {name!r}: rename one")
                found[name] = Server(name, dsn)
            case _:
                wanted = 'a [[server]] has a name and a dsn: name = "north", dsn = "…"'
                told(wanted)
    return tuple(found.values())


def parse_elsewhere(document: dict[str, Any], told: Told) -> tuple[Elsewhere, ...]:
    """`[[elsewhere]]` with a name and a dsn each, and perhaps a schema."""
    given = document.get("elsewhere", [])
    entries: list[Any] = given if isinstance(given, list) else [None]
    found: dict[str, Elsewhere] = {}
    for entry in entries:
        match entry:
            case {"name": str(name), "dsn": str(dsn)} if name and dsn and set(entry) <= {"name", "dsn", "schema"}:
                schema = entry.get("schema")
                if not _SERVER_NAME.fullmatch(name):
                    told(f"{name!r} is no name of a server: {_SERVER_NAME_WORDS}")
                if name == HERE:
                    told(f"{name!r} means the server that has the table: call the other one otherwise")
                if name in found:
                    told(f"two entries are called {name!r}: rename one")
                if schema is not None and (not isinstance(schema, str) or not schema or "\0" in schema):
                    told('`schema` is the name of a schema there: schema = "apiary"')
                    schema = None
                found[name] = Elsewhere(name, dsn, schema)
            case _:
                wanted = 'an [[elsewhere]] has a name and a dsn, and perhaps a schema: name = "attic", dsn = "…"'
                told(wanted)
    return tuple(found.values())
