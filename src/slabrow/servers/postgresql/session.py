"""One session with PostgreSQL, as `servers/protocols.py` asks for it."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from slabrow.servers.postgresql.connection import Connection, cancel, explained, reading
from slabrow.servers.postgresql.far import FarServers
from slabrow.servers.postgresql.questions import PostgresCatalogue, PostgresCounting, PostgresPlanner

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from slabrow.core.pruning.family_rules import PruningRules
    from slabrow.core.upkeep.elsewhere import Elsewhere
    from slabrow.servers.asking import Fence
    from slabrow.servers.family_traits import FamilyTraits
    from slabrow.servers.postgresql.archives import PostgresArchives
    from slabrow.servers.postgresql.execution import PostgresExecution
    from slabrow.servers.postgresql.ledger import Ledger
    from slabrow.servers.postgresql.partition_questions import PostgresPartitions
    from slabrow.servers.postgresql.rehearsing.rehearsing import PostgresRehearsing
    from slabrow.servers.postgresql.reshapings import Reshapings
    from slabrow.servers.postgresql.write.writer import PostgresWriter


@dataclass(frozen=True, slots=True)
class PostgresSession:
    """`protocols.Session`."""

    connection: Connection
    far: FarServers = field(default_factory=FarServers)

    @property
    def catalogue(self) -> PostgresCatalogue:
        """As `Session.catalogue`."""
        return PostgresCatalogue(self.connection)

    @property
    def counting(self) -> PostgresCounting:
        """As `Session.counting`."""
        return PostgresCounting(self.connection)

    @property
    def partitions(self) -> PostgresPartitions:
        """As `Session.partitions`."""
        from slabrow.servers.postgresql.partition_questions import PostgresPartitions

        return PostgresPartitions(self.connection, self.far)

    @property
    def planner(self) -> PostgresPlanner:
        """As `Session.planner`."""
        return PostgresPlanner(self.connection)

    @property
    def archives(self) -> PostgresArchives:
        """As `Session.archives`."""
        from slabrow.servers.postgresql.archives import PostgresArchives

        return PostgresArchives(self.connection)

    @property
    def execution(self) -> PostgresExecution:
        """As `Session.execution`."""
        from slabrow.servers.postgresql.execution import PostgresExecution

        return PostgresExecution(self.connection, self.far)

    @property
    def rehearsing(self) -> PostgresRehearsing:
        """As `Session.rehearsing`."""
        from slabrow.servers.postgresql.rehearsing.rehearsing import PostgresRehearsing

        return PostgresRehearsing(self.connection)

    @property
    def writer(self) -> PostgresWriter:
        """As `Session.writer`."""
        from slabrow.servers.postgresql.write.writer import PostgresWriter

        return PostgresWriter()

    @property
    def traits(self) -> FamilyTraits:
        """As `Session.traits`."""
        from slabrow.servers.postgresql.family import TRAITS

        return TRAITS

    @property
    def rules(self) -> PruningRules:
        """As `Session.rules`."""
        from slabrow.core.pruning.family_rules import USUAL_RULES

        return USUAL_RULES

    def reach(self, read: Callable[[], Sequence[Elsewhere]]) -> None:
        """As `Session.reach`."""
        self.far.learn(read)

    def reached(self) -> Sequence[Elsewhere]:
        """As `Session.reached`."""
        return tuple(self.far.known().values())

    @property
    def closed(self) -> bool:
        """As `Session.closed`."""
        return self.connection.closed

    @property
    def version(self) -> int:
        """As `Session.version`."""
        return self.connection.info.server_version // 10_000

    @property
    def product(self) -> str:
        """As `Session.product`."""
        return f"{self.traits.name} {self.version}"

    @property
    def database(self) -> str:
        """As `Session.database`."""
        return self.connection.info.dbname

    def ledger(self, schema: str) -> Ledger:
        """As `Session.ledger`."""
        from slabrow.servers.postgresql.ledger import Ledger

        return Ledger(self.connection, schema)

    def reshapings(self, schema: str) -> Reshapings:
        """As `Session.reshapings`."""
        from slabrow.servers.postgresql.reshapings import Reshapings

        return Reshapings(self.connection, schema)

    def fence(self) -> Fence:
        """As `Session.fence`."""
        from slabrow.servers.postgresql.ask.side_effects import PostgresFence

        return PostgresFence(self.connection)

    def reading(self, doing: str = "read the catalogue") -> AbstractContextManager[None]:
        """As `Session.reading`."""
        return reading(self.connection, doing)

    def explained(self, doing: str) -> AbstractContextManager[None]:
        """As `Session.explained`."""
        return explained(doing)

    def cancel(self, patience_s: float) -> None:
        """As `Session.cancel`."""
        cancel(self.connection, patience_s)

    def close(self) -> None:
        """As `Session.close`."""
        self.far.close()
        self.connection.close()
