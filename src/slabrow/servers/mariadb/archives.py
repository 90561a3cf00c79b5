"""`asking.Archives`, answered by MariaDB."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass

from slabrow.core.table.export_column import ExportColumn, RowSource
from slabrow.core.table.tree import Tree
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.read import catalogue, row_counts, row_export
from slabrow.servers.mariadb.read.staged import firing_triggers


@dataclass(frozen=True, slots=True)
class MariaArchives:
    """`protocols.Archives`, on one connection."""

    connection: Connection

    def snapshot(self) -> AbstractContextManager[None]:
        """As `Archives.snapshot`."""
        return row_export.snapshot(self.connection)

    def title(self, source: RowSource) -> str:
        """As `Archives.title`: names of partitions are those of their table alone."""
        return f"{source.parent.schema}.{source.parent.table}.{source.partition.table}"

    def relation_of(self, source: RowSource) -> str:
        """As `Archives.relation_of`."""
        return row_export.relation_of(self.connection, source)

    def export_columns(self, source: RowSource) -> tuple[ExportColumn, ...]:
        """As `Archives.export_columns`."""
        return row_export.export_columns(self.connection, source)

    def fingerprint(self, source: RowSource, columns: Sequence[str]) -> tuple[int, str]:
        """As `Archives.fingerprint`."""
        return row_export.fingerprint(self.connection, source, columns)

    def stream(self, source: RowSource, columns: Sequence[ExportColumn]) -> Generator[bytes, None, None]:
        """As `Archives.stream`."""
        return row_export.stream(self.connection, source, columns)

    def left_behind(self, table: Name) -> tuple[RowSource, ...]:
        """As `Archives.left_behind`."""
        return row_export.left_behind(self.connection, table)

    def why_not_back(self, tree: Tree | None, partition: Name) -> str | None:
        """As `Archives.why_not_back`: an empty partition of that name is one that an earlier try has made."""
        if tree is None:
            return f"there is a table {partition} already" if catalogue.exists(self.connection, partition) else None
        same = [each for each in tree.children if each.name.table.lower() == partition.table.lower()]
        sources = [row_counts.leaf_source(tree.table, each) for each in same]
        if not row_counts.any_rows(self.connection, sources):
            return next(iter(firing_triggers(self.connection, tree.table)), None)
        return f"{tree.spelling} has a partition {partition.table} with rows already"
