"""The tables that statements name: their columns, the views, and where names are looked for."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name

Columns = Mapping[str, KeyColumn]


@dataclass(frozen=True)
class Schema:
    """The columns of the tables that statements name, and the queries of the views.

    volatile      names of volatile functions beside the server's own
    search_path   the schemas in which a name without one is looked for
    """

    tables: Mapping[Name, Columns]
    search_path: tuple[str, ...] = ("public",)
    views: Mapping[Name, str] = field(default_factory=dict)
    volatile: frozenset[str] = frozenset()

    @cached_property
    def kept(self) -> dict[str, Any]:
        """Statements as they were read with this schema, by their text, for whoever reads them."""
        return {}

    @cached_property
    def types_by_name(self) -> dict[str, frozenset[str]]:
        """The types that columns of each name have, in lower case, over all tables."""
        found: dict[str, set[str]] = {}
        for columns in self.tables.values():
            for name, column in columns.items():
                kind = column.kind.value if column.kind is Kind.INTEGER else column.type_name
                found.setdefault(name.lower(), set()).add(kind)
        return {name: frozenset(types) for name, types in found.items()}

    def find(self, name: Name) -> Name | None:
        """The table that a name in a statement means; None when it is not known."""
        if name.schema is not None:
            return name if name in self.tables or name in self.views else None
        for schema in self.search_path:
            full = Name(schema, name.table)
            if full in self.tables or full in self.views:
                return full
        return None
