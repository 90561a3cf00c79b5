"""MariaDB as a server family: its traits, and how a session is opened."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.servers.family_traits import FamilyTraits

if TYPE_CHECKING:
    from slabrow.core.pruning.offline_tables import OfflineTables
    from slabrow.core.values.errors import SlabrowError
    from slabrow.servers.mariadb.hashing import MariaHashings
    from slabrow.servers.mariadb.private.server import PrivateMaria
    from slabrow.servers.mariadb.session import MariaSession
    from slabrow.servers.mariadb.write.writer import MariaWriter

# Names may have 64 characters; partitions of a table have a name space of their own.
TRAITS = FamilyTraits(
    name="MariaDB",
    schemes=("mariadb", "mysql"),
    dialect="mysql",
    name_limit=64,
    oldest=10,
    estimates="rows are the engine's estimate, values those of some rows, or of ANALYZE … PERSISTENT where it was run",
    values_from="some rows, or from ANALYZE … PERSISTENT where it was run",
    analyse="ANALYZE TABLE {} PERSISTENT FOR ALL",
)


class MariaServers:
    """`protocols.PrivateServers`."""

    def start(self, memory_bytes: int | None = None) -> PrivateMaria:
        """As `PrivateServers.start`."""
        from slabrow.servers.mariadb.private.server import start

        return start(memory_bytes)

    def is_running(self, pid: int, folder: Path) -> bool:
        """As `PrivateServers.is_running`."""
        from slabrow.servers.mariadb.private.server import is_running

        return is_running(pid, folder)

    def stop_by_pid(self, pid: int, folder: Path) -> bool:
        """As `PrivateServers.stop_by_pid`."""
        from slabrow.servers.mariadb.private.server import stop_by_pid

        return stop_by_pid(pid, folder)


class Maria:
    """`protocols.Family`. The driver is loaded when the first session is opened."""

    traits = TRAITS
    private = MariaServers()

    @property
    def writer(self) -> MariaWriter:
        """As `Family.writer`."""
        from slabrow.servers.mariadb.write.writer import MariaWriter

        return MariaWriter()

    @property
    def hashings(self) -> MariaHashings:
        """As `Family.hashings`."""
        from slabrow.servers.mariadb.hashing import MariaHashings

        return MariaHashings()

    def read_tables(self, text: str, source: str) -> OfflineTables:
        """As `Family.read_tables`."""
        from slabrow.core.pruning.by_constants.tables_of_text import read_tables

        return read_tables(text, source)

    def load(self) -> None:
        """As `Family.load`."""
        from slabrow.servers.mariadb import session as _  # noqa: F401

    def open(self, dsn: str) -> MariaSession:
        """As `Family.open`."""
        from slabrow.servers.mariadb.connection import connect
        from slabrow.servers.mariadb.session import MariaSession

        return MariaSession(connect(dsn))

    def holds_secret(self, dsn: str) -> bool:
        """As `Family.holds_secret`."""
        from slabrow.servers.mariadb.dsn import parse_dsn

        return parse_dsn(dsn).has_secret

    def worded(self, error: Exception) -> SlabrowError | None:
        """As `Family.worded`."""
        import sys

        if "pymysql" not in sys.modules:  # then none of its errors can have been raised
            return None
        from slabrow.servers.mariadb.errors import worded

        return worded(error)
