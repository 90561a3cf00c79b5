"""A connection to MariaDB: opened, told apart from other servers, and with its settings pinned."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import Any

from slabrow.core.values.errors import MissingExtra, ServerError, UsageError
from slabrow.servers.mariadb.dsn import Place, complete, parse_dsn

try:
    import pymysql
    from pymysql.cursors import SSCursor
except ModuleNotFoundError:  # said in one sentence, and not as a trace
    raise MissingExtra("MariaDB needs pymysql, which is not installed", fix="pip install 'slabrow[mariadb]'") from None

from slabrow.servers.mariadb.errors import explained, words_of

Row = tuple[Any, ...]
_OLDEST = (10, 6)
READ_WAIT_S = 30
# As this process reads and writes values, whatever the server's defaults are: texts in either kind of quotes, names as
# SHOW CREATE prints them, and no value that is cut silently.
# A number that is 0 stays 0 when rows are copied, also in a column that counts by itself.
_MODE = "STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO"
_PINNED = (
    "SET SESSION time_zone = '+00:00', sql_mode = %s, sql_quote_show_create = 1, autocommit = 1, "
    "wait_timeout = 28800, lock_wait_timeout = %s, innodb_lock_wait_timeout = %s, max_statement_time = 0"
)


@dataclass(slots=True)
class Connection:
    """An open connection, its own settings before they were pinned, and what the server is.

    system_zone  what the zone SYSTEM stands for
    zone, mode   `time_zone` and `sql_mode` as the user's sessions have them: statements of users are planned by these
    version      (major, minor, patch)
    """

    driver: Any
    zone: str
    system_zone: str
    mode: str
    version: tuple[int, int, int]
    database: str
    number: int
    place: Place = field(repr=False)

    @property
    def closed(self) -> bool:
        """Whether it has ended, on this side or as far as is known on the server's."""
        return not self.driver.open

    def rows(self, sql: str, values: Sequence[Any] | None = None) -> list[Row]:
        """All rows of a query. values: for the %s in it; with None a percent sign is one."""
        with self.driver.cursor() as cursor:
            cursor.execute(sql, values)
            return list(cursor.fetchall())

    def row(self, sql: str, values: Sequence[Any] | None = None) -> Row | None:
        """The first row of a query."""
        found = self.rows(sql, values)
        return found[0] if found else None

    def run(self, sql: str, values: Sequence[Any] | None = None) -> int:
        """One statement. Returns how many rows it changed."""
        with self.driver.cursor() as cursor:
            return int(cursor.execute(sql, values))

    def streamed(self, sql: str, size: int) -> Iterator[list[Row]]:
        """The rows of a query in batches, without holding them all."""
        with SSCursor(self.driver) as cursor:
            cursor.execute(sql)
            while rows := cursor.fetchmany(size):
                yield list(rows)


def connect(dsn: str) -> Connection:
    """A connection in autocommit mode, with pinned settings.

    Raises UsageError when the DSN cannot be read, ServerError when no server answers, refuses, is another product, or
    is too old.
    """
    place = complete(parse_dsn(dsn))
    try:
        driver = pymysql.connect(**_settings(place))
    except (pymysql.err.MySQLError, OSError, UnicodeError, ValueError) as error:
        raise _unreachable(error, place) from None
    try:
        return _greeted(driver, place)
    except BaseException:
        with suppress(Exception):
            driver.close()
        raise


def _settings(place: Place) -> dict[str, Any]:
    settings: dict[str, Any] = {
        "user": place.user,
        "password": place.password,
        "database": place.database or None,
        "charset": "utf8mb4",
        "connect_timeout": place.connect_timeout,
        "program_name": "slabrow",
        "autocommit": True,
        "local_infile": False,
    }
    if place.socket and place.host in ("", "localhost"):
        settings["unix_socket"] = place.socket
    else:
        settings |= {"host": place.host or "localhost", "port": place.port}
    if place.wants_tls:
        verify = place.ssl_verify.lower() not in ("0", "false", "off", "no")
        settings |= {
            "ssl_ca": place.ssl_ca or None,
            "ssl_cert": place.ssl_cert or None,
            "ssl_key": place.ssl_key or None,
            "ssl_verify_cert": verify and bool(place.ssl_ca),
            "ssl_verify_identity": verify and bool(place.ssl_ca),
        }
        if not (place.ssl_ca or place.ssl_cert):
            settings["ssl"] = {"check_hostname": False, "verify_mode": "none"}
    return settings


def _greeted(driver: Any, place: Place) -> Connection:
    with explained("begin a session"), driver.cursor() as cursor:
        cursor.execute(
            "SELECT version(), @@version_comment, @@session.time_zone, @@session.sql_mode, coalesce(database(), ''), "
            "connection_id(), @@system_time_zone"
        )
        text, comment, zone, mode, database, number, system = cursor.fetchone()
    match = re.match(r"(?:5\.5\.5-)?(\d+)\.(\d+)\.(\d+)", str(text))
    version = tuple(map(int, match.groups())) if match else (0, 0, 0)
    if "mariadb" not in f"{text} {comment}".lower():
        raise ServerError(
            "this server is not MariaDB",
            found=f"it calls itself {comment or 'MySQL'} {text}",
            fix="name a MariaDB server: MySQL partitions and explains in another way, and nothing is guessed here",
        )
    if version[:2] < _OLDEST:
        raise ServerError(
            f"MariaDB {version[0]}.{version[1]} is too old", found="needed is 10.6 or newer", fix="upgrade the server"
        )
    found = Connection(
        driver=driver,
        zone=str(zone),
        system_zone=str(system),
        mode=str(mode),
        version=version,  # type: ignore[arg-type]
        database=str(database),
        number=int(number),
        place=place,
    )
    with explained("set this session up"):
        pin(found)
    return found


def again(connection: Connection) -> Connection:
    """Another connection of the same user to the same server."""
    with explained("open a second session"):
        return _greeted(pymysql.connect(**_settings(connection.place)), connection.place)


def pin(connection: Connection) -> None:
    """The settings under which this process reads and writes."""
    connection.run(_PINNED, (_MODE, READ_WAIT_S, READ_WAIT_S))


@contextmanager
def as_users(connection: Connection, timeout_ms: int, lock_wait_s: int = 2) -> Iterator[None]:
    """Within, statements are read and planned as in the sessions of users, and never last longer than the timeout."""
    connection.run(
        "SET SESSION time_zone = %s, sql_mode = %s, max_statement_time = %s, lock_wait_timeout = %s, "
        "innodb_lock_wait_timeout = %s",
        (connection.zone, connection.mode, timeout_ms / 1_000, lock_wait_s, lock_wait_s),
    )
    try:
        yield
    finally:
        if not connection.closed:
            pin(connection)


@contextmanager
def reading(connection: Connection, doing: str = "read the catalogue") -> Iterator[None]:
    """A read-only transaction with one view of all rows (REPEATABLE READ); within another one it adds nothing."""
    with explained(doing):
        if connection.driver.server_status & 1:  # SERVER_STATUS_IN_TRANS
            yield
            return
        connection.run("START TRANSACTION READ ONLY, WITH CONSISTENT SNAPSHOT")
        try:
            yield
        finally:
            if not connection.closed:
                connection.run("ROLLBACK")


def cancel(connection: Connection, patience_s: float) -> None:
    """Asks the server to end what this connection does, by another connection of the same user."""
    with suppress(Exception):
        other = pymysql.connect(**{**_settings(connection.place), "connect_timeout": max(1, int(patience_s))})
        try:
            with other.cursor() as cursor:
                cursor.execute(f"KILL QUERY {connection.number:d}")
        finally:
            other.close()


def _unreachable(error: Exception, place: Place) -> ServerError | UsageError:
    words = words_of(error)
    if place.password:
        words = words.replace(place.password, "***")
    if "1045" in words:
        return ServerError(
            "the server refuses", found=words, fix="check user and password: MYSQL_PWD, the option file, or the DSN"
        )
    if "(1049)" in words or "(1044)" in words:
        return ServerError(
            "the server refuses", found=words, fix="check the name of the database, and the rights on it"
        )
    where = place.socket if place.socket and place.host in ("", "localhost") else f"{place.host}:{place.port}"
    return ServerError(
        "the server cannot be reached",
        found=f"{where}: {words}",
        fix="check that the server runs, and --dsn, SLABROW_DSN, the option file or the MYSQL_* variables",
    )
