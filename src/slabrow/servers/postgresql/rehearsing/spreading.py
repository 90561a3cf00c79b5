"""A table of a rehearsal whose parts lie on several private servers."""

from collections.abc import Sequence

from slabrow.core.upkeep.elsewhere import Elsewhere
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, dsn_settings, explained
from slabrow.servers.postgresql.far import FarServers
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.read.far_tables import WRAPPER, making_server


def know_servers(connection: Connection, others: Sequence[Elsewhere]) -> None:
    """As `Rehearsing.know_servers`."""
    far = FarServers()
    far.learn(lambda: others)
    with explained("make partitions on other servers possible"):
        # A private server has no other schema yet.
        connection.execute(f"CREATE EXTENSION IF NOT EXISTS {WRAPPER} SCHEMA pg_catalog".encode())
        for each in others:
            connection.execute(making_server(each.name, far).encode())
            user = literal(str(dsn_settings(each.dsn).get("user", "")))
            connection.execute(
                f"CREATE USER MAPPING FOR CURRENT_USER SERVER {identifier(each.name)} OPTIONS (user {user})".encode()
            )


def fill(connection: Connection, table: Name, old: Name) -> None:
    """As `Rehearsing.fill`."""
    spelled = quoting.table(table)
    with explained(f"copy the rows of {table}"):
        columns = connection.execute(
            """SELECT attname FROM pg_attribute WHERE attrelid = to_regclass(%s) AND attnum > 0 AND NOT attisdropped
               AND attgenerated = '' ORDER BY attnum""",
            [str(old)],
        ).fetchall()
        listed = quoting.columns(tuple(name for (name,) in columns))
        # Identity columns keep the numbers of the copied rows.
        rows = f"SELECT {listed} FROM {quoting.table(old)}"
        connection.execute(f"INSERT INTO {spelled} ({listed}) OVERRIDING SYSTEM VALUE {rows}".encode())
        connection.execute(f"ANALYZE {spelled}".encode())
