"""One session with MariaDB, as `servers/protocols.py` asks for it."""

from __future__ import annotations

from contextlib import AbstractContextManager, suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING

from slabrow.servers.mariadb.connection import Connection, cancel, reading
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.questions import MariaCatalogue, MariaCounting, MariaPlanner
from slabrow.servers.mariadb.unbuilt import unbuilt

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from slabrow.core.pruning.family_rules import PruningRules
    from slabrow.core.upkeep.elsewhere import Elsewhere
    from slabrow.servers.asking import Fence
    from slabrow.servers.family_traits import FamilyTraits
    from slabrow.servers.mariadb.archives import MariaArchives
    from slabrow.servers.mariadb.execution import MariaExecution
    from slabrow.servers.mariadb.ledger import MariaLedger
    from slabrow.servers.mariadb.partition_questions import MariaPartitions
    from slabrow.servers.mariadb.write.writer import MariaWriter
    from slabrow.servers.protocols import ReshapingStore
    from slabrow.servers.rehearsal_protocols import Rehearsing


@dataclass(frozen=True, slots=True)
class MariaSession:
    """`protocols.Session`."""

    connection: Connection

    @property
    def catalogue(self) -> MariaCatalogue:
        """As `Session.catalogue`."""
        return MariaCatalogue(self.connection)

    @property
    def counting(self) -> MariaCounting:
        """As `Session.counting`."""
        return MariaCounting(self.connection)

    @property
    def partitions(self) -> MariaPartitions:
        """As `Session.partitions`."""
        from slabrow.servers.mariadb.partition_questions import MariaPartitions

        return MariaPartitions(self.connection)

    @property
    def planner(self) -> MariaPlanner:
        """As `Session.planner`."""
        return MariaPlanner(self.connection)

    @property
    def archives(self) -> MariaArchives:
        """As `Session.archives`."""
        from slabrow.servers.mariadb.archives import MariaArchives

        return MariaArchives(self.connection)

    @property
    def execution(self) -> MariaExecution:
        """As `Session.execution`."""
        from slabrow.servers.mariadb.execution import MariaExecution

        return MariaExecution(self.connection)

    @property
    def rehearsing(self) -> Rehearsing:
        """As `Session.rehearsing`."""
        unbuilt("rehearse")

    @property
    def writer(self) -> MariaWriter:
        """As `Session.writer`."""
        from slabrow.servers.mariadb.write.writer import MariaWriter

        return MariaWriter()

    @property
    def traits(self) -> FamilyTraits:
        """As `Session.traits`."""
        from slabrow.servers.mariadb.family import TRAITS

        return TRAITS

    @property
    def rules(self) -> PruningRules:
        """As `Session.rules`."""
        from slabrow.core.pruning.by_constants.rules import RULES

        return RULES

    def reach(self, read: Callable[[], Sequence[Elsewhere]]) -> None:
        """As `Session.reach`: no partition lies on any of them."""

    def reached(self) -> Sequence[Elsewhere]:
        """As `Session.reached`."""
        return ()

    @property
    def closed(self) -> bool:
        """As `Session.closed`."""
        return self.connection.closed

    @property
    def version(self) -> int:
        """As `Session.version`."""
        return self.connection.version[0]

    @property
    def product(self) -> str:
        """As `Session.product`."""
        return f"{self.traits.name} {'.'.join(map(str, self.connection.version[:2]))}"

    @property
    def database(self) -> str:
        """As `Session.database`."""
        return self.connection.database

    def ledger(self, schema: str) -> MariaLedger:
        """As `Session.ledger`."""
        from slabrow.servers.mariadb.ledger import MariaLedger

        return MariaLedger(self.connection, schema)

    def reshapings(self, schema: str) -> ReshapingStore:
        """As `Session.reshapings`."""
        from slabrow.servers.mariadb.reshapings import MariaReshapings

        return MariaReshapings(self.connection, schema)

    def fence(self) -> Fence:
        """As `Session.fence`."""
        from slabrow.servers.mariadb.ask.fence import MariaFence

        return MariaFence(self.connection)

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
        with suppress(Exception):
            self.connection.driver.close()
