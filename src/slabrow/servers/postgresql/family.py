"""PostgreSQL as a server family: its traits, and how a session is opened."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.values.names import NAME_LIMIT
from slabrow.servers.family_traits import FamilyTraits

if TYPE_CHECKING:
    from slabrow.core.pruning.offline_tables import OfflineTables
    from slabrow.core.values.errors import SlabrowError
    from slabrow.servers.postgresql.hashing import PostgresHashings
    from slabrow.servers.postgresql.private.server import PrivatePostgres
    from slabrow.servers.postgresql.session import PostgresSession
    from slabrow.servers.postgresql.write.writer import PostgresWriter

TRAITS = FamilyTraits(
    name="PostgreSQL",
    schemes=("postgresql", "postgres"),
    dialect="postgres",
    name_limit=NAME_LIMIT,
    oldest=15,
    estimates="rows and values are the planner's estimates",
    values_from="the planner's statistics",
    analyse="ANALYZE {}",
)


class PostgresServers:
    """`protocols.PrivateServers`."""

    def start(self, memory_bytes: int | None = None) -> PrivatePostgres:
        """As `PrivateServers.start`."""
        from slabrow.servers.postgresql.private.server import start, with_memory

        return start() if memory_bytes is None else with_memory(memory_bytes)

    def is_running(self, pid: int, folder: Path) -> bool:
        """As `PrivateServers.is_running`."""
        from slabrow.servers.postgresql.private.server import is_running

        return is_running(pid, folder)

    def stop_by_pid(self, pid: int, folder: Path) -> bool:
        """As `PrivateServers.stop_by_pid`."""
        from slabrow.servers.postgresql.private.server import stop_by_pid

        return stop_by_pid(pid, folder)


class Postgres:
    """`protocols.Family`. The driver is loaded when the first session is opened."""

    traits = TRAITS
    private = PostgresServers()

    @property
    def writer(self) -> PostgresWriter:
        """As `Family.writer`."""
        from slabrow.servers.postgresql.write.writer import PostgresWriter

        return PostgresWriter()

    @property
    def hashings(self) -> PostgresHashings:
        """As `Family.hashings`."""
        from slabrow.servers.postgresql.hashing import PostgresHashings

        return PostgresHashings()

    def read_tables(self, text: str, source: str) -> OfflineTables:
        """As `Family.read_tables`."""
        from slabrow.core.pruning.family_rules import USUAL_RULES
        from slabrow.core.pruning.offline_tables import OfflineTables
        from slabrow.core.sql.definitions import read_definitions

        found = read_definitions(text, source)
        trees = tuple(found.tree(root) for root in found.roots())
        return OfflineTables(tuple(found.tables), trees, found.schema(), found.zone, USUAL_RULES)

    def load(self) -> None:
        """As `Family.load`."""
        from slabrow.servers.postgresql import session as _  # noqa: F401

    def open(self, dsn: str) -> PostgresSession:
        """As `Family.open`."""
        from slabrow.servers.postgresql.connection import connect
        from slabrow.servers.postgresql.session import PostgresSession

        return PostgresSession(connect(dsn))

    def holds_secret(self, dsn: str) -> bool:
        """As `Family.holds_secret`."""
        from slabrow.servers.postgresql.connection import holds_secret

        return holds_secret(dsn)

    def worded(self, error: Exception) -> SlabrowError | None:
        """As `Family.worded`."""
        from slabrow.servers.postgresql.connection import worded

        return worded(error)
