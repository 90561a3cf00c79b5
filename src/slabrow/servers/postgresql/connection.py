"""Connecting to PostgreSQL, and its errors as Slabrow's: what was wrong, and what to do about it."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import psycopg
from psycopg import errors as sqlstate

from slabrow.core.errors import ServerError, SlabrowError, Stopped, UsageError

Connection = psycopg.Connection[tuple[Any, ...]]
OLDEST = 15  # the oldest major version that is tested
CONNECT_TIMEOUT_S = 10


def connect(dsn: str) -> Connection:
    """A connection in autocommit mode. An empty DSN follows libpq's own conventions: PG* variables, service and
    password files.

    Raises UsageError when the DSN cannot be read, ServerError when no server answers, refuses, or is too old.
    """
    family = dsn.split(":", 1)[0] if "://" in dsn else "postgresql"
    if family not in ("postgresql", "postgres"):
        raise UsageError(f"no server family {family!r}", fix="give a DSN that begins with postgresql://")
    try:
        settings = psycopg.conninfo.conninfo_to_dict(dsn)
        settings.setdefault("connect_timeout", CONNECT_TIMEOUT_S)
        settings.setdefault("application_name", "slabrow")
        # Whatever the database is encoded in; without conversion (SQL_ASCII) its texts would come as bytes.
        settings["client_encoding"] = "utf8"
    except psycopg.ProgrammingError:
        # libpq quotes the text it could not read, and with it perhaps a password.
        raise UsageError(
            "the DSN cannot be read", fix="write postgresql://USER@HOST:PORT/DATABASE, special characters %-encoded"
        ) from None
    try:
        # prepare_threshold: automatic preparing would interfere with the statements that `prove` prepares by hand.
        connection: Connection = psycopg.connect(
            psycopg.conninfo.make_conninfo("", **settings), autocommit=True, prepare_threshold=None
        )
    except psycopg.OperationalError as error:
        raise _unreachable(error, str(settings.get("password") or "")) from None
    # As this process reads moments. The order in which statements may write day and month stays as the role has it.
    connection.execute("SET DateStyle = ISO")
    # What is looked at after a lock was got must be what is there then, whatever the role's default is.
    connection.isolation_level = psycopg.IsolationLevel.READ_COMMITTED
    version = connection.info.server_version // 10_000
    if version < OLDEST:
        connection.close()
        raise ServerError(f"PostgreSQL {version} is too old", found=f"needed is {OLDEST} or newer")
    return connection


def whole_and_unhurried(connection: Connection) -> None:
    """Sets a session up for moving, archiving and removing rows.

    All rows: where a row-level policy would hide some, the server refuses the statement (PostgreSQL manual, 5.9):
    what nobody saw would not be in an archive, and be lost with the partition.
    In any time: cut off by a limit of the role or the database, the work would begin anew each time. How long it may
    wait for a lock, and so keep others waiting, is limited by itself.
    """
    with explained("set this session up"):
        connection.execute(
            """SELECT set_config(name, CASE WHEN name = 'row_security' THEN 'off' ELSE '0' END, false) FROM pg_settings
               WHERE name IN ('row_security', 'statement_timeout', 'idle_in_transaction_session_timeout',
                              'idle_session_timeout', 'transaction_timeout')"""
        )


_CONNECT_FIXES = (
    ("password authentication failed", "check user and password: PGPASSWORD, the password file, or the DSN"),
    ("no password supplied", "give a password: PGPASSWORD, the password file, or the DSN"),
    ("does not exist", "check the name of the database and of the role"),
    ("no pg_hba.conf entry", "the server does not let this role in from here: ask for a line in pg_hba.conf"),
    ("", "check that the server runs, and --dsn, SLABROW_DSN or the PG* variables"),
)


def _unreachable(error: psycopg.Error, password: str) -> ServerError:
    words = " ".join(str(error).split())
    if password:
        words = words.replace(password, "***")
    fix = next(fix for sign, fix in _CONNECT_FIXES if sign in words)
    return ServerError(
        "the server cannot be reached" if fix is _CONNECT_FIXES[-1][1] else "the server refuses", found=words, fix=fix
    )


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

    What would be counted without the rows that a row-level policy hides is refused.
    """
    with explained(doing), connection.transaction():
        connection.execute("SET TRANSACTION READ ONLY")
        connection.execute(
            "SELECT set_config('TimeZone', 'UTC', true), set_config('DateStyle', 'ISO, YMD', true), "
            "set_config('row_security', 'off', true)"
        )
        yield


def translated(error: psycopg.Error, doing: str) -> SlabrowError:
    """A driver's error in three parts: what could not be done, the server's words, what to do."""
    words = error.diag.message_primary or " ".join(str(error).split())
    detail = f" ({error.diag.message_detail})" if error.diag.message_detail else ""
    problem = f"could not {doing}"
    match error:
        case sqlstate.InsufficientPrivilege():
            return ServerError(problem, found=words, fix=_grant_for(words))
        case sqlstate.LockNotAvailable():
            return ServerError(
                problem,
                found=f"{words}: another session holds the table",
                fix="run it again when that session is done, or give a longer --lock-wait",
            )
        case sqlstate.DeadlockDetected():
            return ServerError(problem, found=words + detail, fix="run it again: nothing has been changed")
        case sqlstate.OutOfMemory() if "shared memory" in words:
            return ServerError(problem, found=words, fix="raise max_locks_per_transaction on the server")
        case sqlstate.AdminShutdown() | sqlstate.CrashShutdown() | sqlstate.CannotConnectNow():
            return Stopped(problem, found=words, fix="run the same command again when the server is back")
        case sqlstate.QueryCanceled():
            return ServerError(problem, found=words, fix="give more time, or ask for less at once")
        case psycopg.OperationalError() if error.sqlstate is None:
            return Stopped(problem, found=words, fix="the connection was lost: run the same command again")
        case _:
            return ServerError(problem, found=words + detail)


def _grant_for(words: str) -> str:
    if match := re.search(r"permission denied for (table|schema|relation|view|database|tablespace) (.+)", words):
        kind, name = match.groups()
        right = {"schema": "USAGE", "database": "CREATE", "tablespace": "CREATE"}.get(kind, "SELECT")
        return f"ask the owner for: GRANT {right} ON {kind.upper()} {name} TO the role you use"
    if match := re.search(r"must be owner of (\w+) (.+)", words):
        return f"run it as the owner of {match.group(2)}, or as a member of that role"
    if "row-level security" in words:
        return "a policy hides rows from this role: use one that sees them all (BYPASSRLS), or the owner without FORCE"
    return "ask for the right that the server names"
