"""Connecting to PostgreSQL, and its errors as Slabrow's: what was wrong, and what to do about it."""

import os
import re
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from select import select as poll
from typing import Any

import psycopg
from psycopg import errors as sqlstate

from slabrow.core.values.errors import ServerError, SlabrowError, Stopped, UsageError
from slabrow.servers.postgresql.family import TRAITS

Connection = psycopg.Connection[tuple[Any, ...]]
READ_WAIT = "30s"
CONNECT_TIMEOUT_S = 10


def connect(dsn: str, given_by: str = "--dsn, SLABROW_DSN or the PG* variables") -> Connection:
    """A connection in autocommit mode. An empty DSN follows libpq's own conventions: PG* variables, service and
    password files.

    given_by   where a person corrects the DSN: for messages

    Raises UsageError when the DSN cannot be read, ServerError when no server answers, refuses, or is too old.
    """
    settings = dsn_settings(dsn)
    try:
        settings.setdefault("connect_timeout", os.environ.get("PGCONNECT_TIMEOUT") or CONNECT_TIMEOUT_S)
        # A server that has gone from the network ends a wait after a minute and a half, not after hours.
        for name, seconds in (("keepalives_idle", 30), ("keepalives_interval", 10), ("keepalives_count", 6)):
            settings.setdefault(name, seconds)
        settings.setdefault("application_name", "slabrow")
        # Whatever the database is encoded in; without conversion (SQL_ASCII) its texts would come as bytes.
        settings["client_encoding"] = "utf8"
        # prepare_threshold: automatic preparing would interfere with the statements that `prove` prepares by hand.
        connection: Connection = psycopg.connect(
            psycopg.conninfo.make_conninfo("", **settings), autocommit=True, prepare_threshold=None
        )
    except psycopg.ProgrammingError:
        raise _unreadable() from None
    except (psycopg.OperationalError, UnicodeError) as error:
        raise _unreachable(error, [str(settings[name]) for name in _SECRETS if settings.get(name)], given_by) from None
    _greet(connection)
    # After a lock was got, queries must see the rows of that moment, whatever isolation level the role has.
    connection.isolation_level = psycopg.IsolationLevel.READ_COMMITTED
    version = connection.info.server_version // 10_000
    if version < TRAITS.oldest:
        connection.close()
        raise ServerError(f"PostgreSQL {version} is too old", found=f"needed is {TRAITS.oldest} or newer")
    return connection


# Moments as this process reads them. The order in which statements may write day and month stays as the role has it.
# Between two statements this process may compute for a while, and a limit on idling is not meant for that.
# What is made without a word about its place lies in the database's own tablespace, whatever the role's setting is.
_GREETING = b"SET default_tablespace = ''; SET DateStyle = ISO; "
_GREETING += b"SET idle_in_transaction_session_timeout = 0; SET idle_session_timeout = 0"


def _greet(connection: Connection) -> None:
    """The first statement, with a limit: a server that lets a role in and then says nothing must end a wait too.

    Raises ServerError when there is no answer in time, or the server refuses.
    """
    pgconn = connection.pgconn
    until = time.monotonic() + CONNECT_TIMEOUT_S

    def wait() -> None:
        while pgconn.flush() or pgconn.is_busy():
            if (left := until - time.monotonic()) <= 0:
                raise TimeoutError
            poll([pgconn.socket], [], [], min(left, 0.5))
            pgconn.consume_input()

    try:
        pgconn.send_query(_GREETING)
        wait()
        while (result := pgconn.get_result()) is not None:
            if result.status != psycopg.pq.ExecStatus.COMMAND_OK:
                raise psycopg.errors.error_from_result(result, connection.info.encoding)
            wait()  # the next of the three may still be on its way
    except TimeoutError:
        connection.close()
        raise ServerError(
            "the server cannot be reached",
            found=f"it let the role in, and then did not answer within {CONNECT_TIMEOUT_S} s",
            fix="look at what the server, or the pooler before it, is busy with",
        ) from None
    except psycopg.Error as error:
        connection.close()
        raise translated(error, "begin a session") from error


_SECRETS = ("password", "sslpassword", "oauth_client_secret")


def _unreadable() -> UsageError:
    # The driver's own message is not shown: it quotes the text it could not read, perhaps with a password.
    return UsageError(
        "the DSN cannot be read",
        fix="write postgresql://USER@HOST:PORT/DATABASE, special characters %-encoded (an @ in a password is %40)",
    )


def dsn_settings(dsn: str) -> dict[str, Any]:
    """The parts of a DSN. Raises UsageError when it cannot be read, without showing it."""
    try:
        settings: dict[str, Any] = psycopg.conninfo.conninfo_to_dict(dsn)
    except (psycopg.Error, UnicodeError, ValueError):
        raise _unreadable() from None
    if any("@" in str(settings.get(name) or "") for name in ("host", "hostaddr", "port")):
        raise _unreadable()  # the rest of a password with an @ in it has become a part of the host
    return settings


def holds_secret(dsn: str) -> bool:
    """Whether a DSN holds a password of any kind. Raises UsageError when it cannot be read."""
    return any(dsn_settings(dsn).get(name) for name in _SECRETS)


_CONNECT_FIXES = (
    ("password authentication failed", "check user and password: PGPASSWORD, the password file, or the DSN"),
    ("no password supplied", "give a password: PGPASSWORD, the password file, or the DSN"),
    ("does not exist", "check the name of the database and of the role"),
    ("no pg_hba.conf entry", "the server does not let this role in from here: ask for a line in pg_hba.conf"),
    ("", "check that the server runs, and {given_by}"),
)


def _unreachable(error: Exception, secrets: list[str], given_by: str) -> ServerError:
    words = " ".join(str(error).split())
    for secret in secrets:
        words = words.replace(secret, "***")
    fix = next(fix for sign, fix in _CONNECT_FIXES if sign in words)
    what = "the server cannot be reached" if fix is _CONNECT_FIXES[-1][1] else "the server refuses"
    return ServerError(what, found=words, fix=fix.format(given_by=given_by))


def _table_right(statement: str) -> str:
    """The rights on a table that a statement needs."""
    upper = statement.upper()
    needed = [right for right in _RIGHTS if right in upper]
    if upper.startswith("WRITE ") or (upper.lstrip().startswith("COPY ") and " FROM STDIN" in upper):
        needed = ["INSERT"]
    if "SELECT" in upper or not needed:
        needed.insert(0, "SELECT")
    return ", ".join(needed)


@contextmanager
def explained(doing: str) -> Iterator[None]:
    """Turns the driver's errors into Slabrow's. doing: what could not be done, as `read the catalogue`."""
    try:
        yield
    except psycopg.Error as error:
        raise translated(error, doing) from error


@contextmanager
def reading(connection: Connection, doing: str = "read the catalogue") -> Iterator[None]:
    """A read-only transaction in which the server spells values so that they can be read back.

    What would be counted without the rows that a row-level policy hides is refused. Where another session holds a
    table wholly, even its size waits: for as long as the role's `lock_timeout` says, or READ_WAIT without one.
    """
    with explained(doing), connection.transaction():
        connection.execute("SET TRANSACTION READ ONLY")
        connection.execute(
            "SELECT set_config('TimeZone', 'UTC', true), set_config('DateStyle', 'ISO, YMD', true), "
            "set_config('row_security', 'off', true), set_config('lock_timeout', CASE current_setting('lock_timeout') "
            "WHEN '0' THEN %s ELSE current_setting('lock_timeout') END, true)",
            [READ_WAIT],
        )
        yield


def cancel(connection: Connection, patience_s: float) -> None:
    """Asks the server to end what this session does. A server that does not answer does not hear this either."""
    with suppress(psycopg.Error):
        connection.cancel_safe(timeout=patience_s)


def worded(error: Exception) -> SlabrowError | None:
    """An error of the driver that nobody has put into words yet, in Slabrow's; None for other errors."""
    return translated(error, "do what was asked") if isinstance(error, psycopg.Error) else None


def translated(error: psycopg.Error, doing: str, statement: str = "") -> SlabrowError:
    """A driver's error in three parts: what could not be done, the server's words, what to do.

    statement   what was sent, where it is known: it tells which right is missing
    """
    words = error.diag.message_primary or " ".join(str(error).split())
    detail = f" ({error.diag.message_detail})" if error.diag.message_detail else ""
    problem = f"could not {doing}"
    match error:
        case sqlstate.InsufficientPrivilege():
            return ServerError(problem, found=words, fix=_grant_for(words, statement or doing))
        case sqlstate.LockNotAvailable():
            return ServerError(
                problem,
                found=f"{words}: another session holds the table",
                fix="run it again when that session is done; a command that changes the table has --lock-wait",
            )
        case sqlstate.CheckViolation() if "no partition of relation" in words:
            fix = "no partition takes this row: the layout needs catch_all = true, or a partition for its key"
            return ServerError(problem, found=words + detail, fix=fix)
        case sqlstate.DeadlockDetected():
            return ServerError(problem, found=words + detail, fix="run it again: nothing has been changed")
        case sqlstate.OutOfMemory() if "shared memory" in words:
            return ServerError(problem, found=words, fix="raise max_locks_per_transaction on the server")
        case sqlstate.AdminShutdown() | sqlstate.CrashShutdown() | sqlstate.CannotConnectNow():
            return Stopped(problem, found=words, fix="run the same command again when the server is back")
        case sqlstate.DiskFull() | sqlstate.InsufficientResources() if "space" in words or "disk" in words:
            return ServerError(problem, found=words, fix="make room on the disk of the server")
        case sqlstate.QueryCanceled():
            return ServerError(problem, found=words, fix="give more time, or ask for less at once")
        case psycopg.OperationalError() if error.sqlstate is None:
            return Stopped(problem, found=words, fix="the connection was lost: run the same command again")
        case _:
            return ServerError(problem, found=words + detail)


_RIGHTS = ("INSERT", "UPDATE", "DELETE", "TRUNCATE")


def _grant_for(words: str, statement: str) -> str:
    """statement: what was sent, or in words what was being done."""
    if match := re.search(r"permission denied for (table|schema|relation|view|database|tablespace) (.+)", words):
        kind, name = match.groups()
        right = {"schema": "USAGE", "database": "CREATE", "tablespace": "CREATE"}.get(kind) or _table_right(statement)
        more = (
            "" if kind in ("schema", "database", "tablespace") else " (and USAGE on its schema, where that is missing)"
        )
        return f"ask the owner for: GRANT {right} ON {kind.upper()} {name} TO the role you use{more}"
    if match := re.search(r"must be owner of (\w+) (.+)", words):
        return f"run it as the owner of {match.group(2)}, or as a member of that role"
    if "row-level security" in words:
        return "a policy hides rows from this role: use one that sees them all (BYPASSRLS), or the owner without FORCE"
    return "ask for the right that the server names"
