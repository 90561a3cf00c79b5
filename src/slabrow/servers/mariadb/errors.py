"""The driver's errors as Slabrow's: what was wrong, and what to do about it. Numbers are MariaDB's own."""

import re
from collections.abc import Iterator
from contextlib import contextmanager

from pymysql import err

from slabrow.core.values.errors import LockNotGot, ServerError, SlabrowError, Stopped

LOCK_WAIT, DEADLOCK, TIME_LIMIT, INTERRUPTED, CHANGED_SINCE = 1205, 1213, 1969, 1317, 1412
LOCK_ERRORS = (LOCK_WAIT, DEADLOCK, CHANGED_SINCE)
LOST = (2006, 2013, 2055, 1927, 4031)  # the connection is gone, or was killed
_DENIED = (1044, 1045, 1142, 1143, 1227, 1370, 1410, 1419)
_FULL = (1021, 1114)
_SHUTTING_DOWN = (1053, 1077)


def number_of(error: BaseException) -> int:
    """The server's or the driver's number of an error; 0 where it has none."""
    first = error.args[0] if error.args else 0
    return first if isinstance(first, int) else 0


def words_of(error: BaseException) -> str:
    """The server's own words, in one line, with the number that its manual lists them under."""
    text = " ".join(str(error.args[1] if len(error.args) > 1 else error).split())
    number = number_of(error)
    return f"{text} ({number})" if number else text


@contextmanager
def explained(doing: str) -> Iterator[None]:
    """Turns the driver's errors into Slabrow's. doing: what could not be done, as `read the catalogue`."""
    try:
        yield
    except err.MySQLError as error:
        raise translated(error, doing) from error


def translated(error: err.MySQLError, doing: str) -> SlabrowError:
    """An error of the driver in Slabrow's words."""
    number, words = number_of(error), words_of(error)
    problem = f"could not {doing}"
    if number in LOCK_ERRORS:
        return LockNotGot(problem, found=words, fix="run it again when the other session has ended")
    if number in LOST or isinstance(error, err.InterfaceError):
        return Stopped(problem, found=words, fix="the connection was lost: run the same command again")
    if number in _SHUTTING_DOWN:
        return Stopped(problem, found=words, fix="run the same command again when the server is back")
    if number in _DENIED:
        return ServerError(problem, found=words, fix=_grant_for(words))
    if number in _FULL:
        return ServerError(problem, found=words, fix="make room on the disk of the server")
    if number in (TIME_LIMIT, INTERRUPTED):
        return ServerError(problem, found=words, fix="give more time, or ask for less at once")
    return ServerError(problem, found=words)


def worded(error: Exception) -> SlabrowError | None:
    """An error of the driver that nobody has put into words yet; None for other errors."""
    return translated(error, "ask the server") if isinstance(error, err.MySQLError) else None


def _grant_for(words: str) -> str:
    if match := re.search(r"(\w+(?: \w+)?) command denied to user (\S+) for table [`'](.+?)[`'](?: |$)", words):
        right, user, table = match.groups()
        table = table.replace("`.`", ".")
        return f"ask for: GRANT {right.upper()} ON {table} TO {user}"
    if match := re.search(r"Access denied for user (\S+) to database '(.+?)'", words):
        return f"ask for: GRANT SELECT ON {match.group(2)}.* TO {match.group(1)}"
    if "using password" in words:
        return "check user and password: MYSQL_PWD, the option file, or the DSN"
    return "ask for the right that the server names"
