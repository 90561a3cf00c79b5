"""`asking.Archives`, answered by PostgreSQL."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass

from slabrow.core.table.export_column import ExportColumn, RowSource
from slabrow.core.table.tree import Tree
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.read import catalogue, row_export


@dataclass(frozen=True, slots=True)
class PostgresArchives:
    """`protocols.Archives`, on one connection."""

    connection: Connection

    def snapshot(self) -> AbstractContextManager[None]:
        """As `Archives.snapshot`."""
        return row_export.snapshot(self.connection)

    def title(self, source: RowSource) -> str:
        """As `Archives.title`."""
        return f"{source.partition.schema}.{source.partition.table}"

    def relation_of(self, source: RowSource) -> str:
        """As `Archives.relation_of`."""
        return row_export.relation_of(self.connection, source.partition)

    def export_columns(self, source: RowSource) -> tuple[ExportColumn, ...]:
        """As `Archives.export_columns`."""
        return row_export.export_columns(self.connection, source.partition)

    def fingerprint(self, source: RowSource, columns: Sequence[str]) -> tuple[int, str]:
        """As `Archives.fingerprint`."""
        return row_export.fingerprint(self.connection, source.partition, columns)

    def stream(self, source: RowSource, columns: Sequence[ExportColumn]) -> Generator[bytes, None, None]:
        """As `Archives.stream`."""
        return row_export.stream(self.connection, source.partition, columns)

    def left_behind(self, table: Name) -> tuple[RowSource, ...]:
        """As `Archives.left_behind`: a partition leaves and is dropped in one transaction."""
        return ()

    def why_not_back(self, tree: Tree | None, partition: Name) -> str | None:
        """As `Archives.why_not_back`."""
        return f"there is a table {partition} already" if catalogue.exists(self.connection, partition) else None
