"""Reads what predictions need: the tables that statements name, the views among them, and settings."""

from __future__ import annotations

from collections.abc import Iterable

from slabrow.core.pruning.predict import Settings
from slabrow.core.sql.dialect import BACKQUOTED, speaking
from slabrow.core.sql.mentions import tables_in
from slabrow.core.sql.schema import Schema
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.read import catalogue

_DEEPEST = 20  # views that read views


def schema(connection: Connection, names: Iterable[Name]) -> Schema:
    """The columns of the tables that statements name, and what the views among them are."""
    path = (connection.database,) if connection.database else ()
    wanted = {name if name.schema else Name(connection.database, name.table) for name in names}
    views: dict[Name, str] = {}
    for _ in range(_DEEPEST):
        fresh = wanted - views.keys()
        if not fresh:
            break
        rows = connection.rows(
            "SELECT table_schema, table_name, view_definition FROM information_schema.views "
            "WHERE (table_schema, table_name) IN %s",
            (tuple((each.schema, each.table) for each in fresh),),
        )
        found = {Name(schema, view): str(text) for schema, view, text in rows}
        views |= found
        with speaking(BACKQUOTED):
            inner = {name for text in found.values() for name in tables_in(text) or ()}
        if not inner - wanted:
            break
        wanted |= inner
    tables = catalogue.columns_of(connection, sorted(wanted - views.keys(), key=str)) if wanted else {}
    return Schema(tables, path, views)


def settings(connection: Connection) -> Settings:
    """Pruning cannot be switched off here, and joins are never made part by part."""
    return Settings()
