"""Own connections to other servers that hold partitions of this one (N50)."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field

import psycopg
from psycopg import errors as sqlstate

from slabrow.core.upkeep.elsewhere import Elsewhere
from slabrow.core.upkeep.statements import Pipe, Remote
from slabrow.core.values.errors import LockNotGot, SlabrowError, UsageError, nearest
from slabrow.servers.postgresql.connection import Connection, connect, dsn_settings, translated

_LOCK_WAIT = "5s"  # for tables there that applications reach through this server only


@dataclass(slots=True)
class FarServers:
    """The servers that a session may reach, by their names; each is connected to when it is needed."""

    _read: Callable[[], Sequence[Elsewhere]] = tuple
    _open: dict[str, Connection] = field(default_factory=dict)

    def learn(self, read: Callable[[], Sequence[Elsewhere]]) -> None:
        """Those that it reads may be reached from now on."""
        self._read = read

    def known(self) -> dict[str, Elsewhere]:
        """By name. Raises what reading them raises."""
        return {entry.name: entry for entry in self._read()}

    def entry(self, name: str) -> Elsewhere:
        """Raises UsageError for a name that the layout file does not have."""
        known = self.known()
        if name not in known:
            near = nearest(name, known)
            raise UsageError(
                f"the layout file names no server {name}",
                found=f"it has {', '.join(known)}" if known else "it has no [[elsewhere]]",
                fix=f"did you mean {near}?" if near else f'add it: [[elsewhere]] name = "{name}", dsn = "…"',
            )
        return known[name]

    def options(self, name: str) -> dict[str, str]:
        """How a foreign server of that name reaches it: host, port and database, without a secret."""
        entry = self.entry(name)
        with self._named(name):
            settings = dsn_settings(entry.dsn)
        kept = ("host", "hostaddr", "port", "dbname", "sslmode", "sslrootcert")
        return {key: str(settings[key]) for key in kept if settings.get(key)}

    def connection(self, name: str) -> Connection:
        """An own connection, opened once. Raises ServerError, which names the server, when it cannot be reached."""
        held = self._open.get(name)
        if held is None or held.closed:
            entry = self.entry(name)
            with self._named(name):
                held = connect(entry.dsn, "its dsn under [[elsewhere]]")
            # Moments and numbers are spelled alike on both sides; nothing lies where a setting says.
            held.execute("SET TimeZone = 'UTC'; SET extra_float_digits = 1; SET statement_timeout = 0")
            held.execute(f"SET lock_timeout = '{_LOCK_WAIT}'")
            # What a killed run was doing there ends soon, and the next run need not wait for it. Not every system can.
            with suppress(psycopg.Error):
                held.execute("SET client_connection_check_interval = '500ms'")
            self._open[name] = held
        return held

    @staticmethod
    @contextmanager
    def _named(name: str) -> Iterator[None]:
        """Puts the server's name before what is wrong."""
        try:
            yield
        except SlabrowError as error:
            raise type(error)(f"{name}: {error.problem}", found=error.found, fix=error.fix) from error

    @contextmanager
    def errors(self, name: str, doing: str) -> Iterator[None]:
        """Turns the driver's errors there into Slabrow's, with the server's name."""
        try:
            yield
        except sqlstate.LockNotAvailable as error:
            raise LockNotGot(f"could not {doing} on {name}", found=error.diag.message_primary) from error
        except psycopg.Error as error:
            found = translated(error, doing)
            raise type(found)(f"{name}: {found.problem}", found=found.found, fix=found.fix) from error

    def run(self, part: Remote) -> None:
        """In one transaction there."""
        there = self.connection(part.server)
        with self.errors(part.server, part.doing or "run a statement"):
            if part.unless and there.execute(part.unless.encode()).fetchall()[0][0]:
                return
            with there.transaction():
                there.execute(part.sql.encode())

    def pipe(self, part: Pipe, here: Connection) -> None:
        """The rows go through this program as the bytes that they are, never more than a few at a time."""
        name = part.target or part.source
        number = None
        if part.number:
            found = here.execute(part.number.encode()).fetchall()
            if not found:
                return
            number = int(found[0][0])
        there = self.connection(name)
        source, target = (there, here) if part.source else (here, there)
        with self.errors(name, part.doing or "copy rows"), target.transaction():
            if part.arrivals:
                came = target.execute(
                    f"INSERT INTO {part.arrivals} (piece) VALUES ({number}) ON CONFLICT DO NOTHING".encode()
                )
                if not came.rowcount:
                    rows = target.execute(f"SELECT rows FROM {part.arrivals} WHERE piece = {number}".encode())
                    self._note(here, int(rows.fetchall()[0][0]))
                    return
            taking = target.cursor()
            with source.cursor().copy(part.sql.encode()) as given, taking.copy(part.into.encode()) as taken:
                for some in given:
                    taken.write(some)
            copied = max(0, taking.rowcount)
            if part.arrivals:
                target.execute(f"UPDATE {part.arrivals} SET rows = {copied} WHERE piece = {number}".encode())
        self._note(here, copied)

    @staticmethod
    def _note(here: Connection, rows: int) -> None:
        """Where the statements that follow find how many rows came."""
        here.execute("SELECT set_config('slabrow.piped', %s, true)", [str(rows)])

    def close(self) -> None:
        """Ends all connections."""
        for held in self._open.values():
            held.close()
