"""SQL ready to be sent or written down: plain data between the servers that write it and the runner that runs it."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Statement:
    """One statement.

    share     how much of the whole work it is, for the progress bar
    doing     the text beside the progress bar; empty: the transaction's purpose
    is_lock   it only takes a lock: when it must wait too long it is tried again by itself, and what the transaction
              has done so far is kept
    """

    sql: str
    share: float = 0.0
    doing: str = ""
    is_lock: bool = False


@dataclass(frozen=True, slots=True)
class Check:
    """A query of (what, number before, number after, differs); a row that differs ends the transaction.

    text    what is then said
    fix     what to do then
    renews  whether a difference means that it is to be begun anew
    """

    query: str
    text: str
    share: float = 0.0
    doing: str = ""
    fix: str = "please report this with the layout and the column types"
    renews: bool = False


@dataclass(frozen=True, slots=True)
class Load:
    """Rows from a file that go into a table.

    sql     the statement that takes them
    rows    gives them anew each time it is called, as the statement wants them
    """

    sql: str
    rows: Callable[[], Iterator[bytes]]
    share: float = 0.0
    doing: str = ""


Part = Statement | Check | Load


@dataclass(frozen=True, slots=True)
class StrongLock:
    """How the lock of a transaction on a table in use is taken, so that nobody waits behind it for long.

    look     a query of (who,) for each session that would keep the lock waiting: it is asked for only when there is
             none
    gentle   the lock that is taken first: it blocks neither readers nor writers, and sends the server's own cleaning
             away
    strong   the lock that is wanted; both None where the statements take their locks by themselves
    """

    look: str
    gentle: str | None = None
    strong: str | None = None


@dataclass(frozen=True, slots=True)
class Transaction:
    """Statements that happen together or not at all.

    purpose     one line for people: it heads them in a script and names them in messages
    is_atomic   False for a statement that the server refuses inside a transaction block
    locks       the most locks it holds at once, for the guard of the server's lock table
    strong      a lock on a table in use, taken before the statements; these then go to the server in one message
    is_patient  of one that is not atomic: it may wait for locks without a limit, as nobody waits behind it
    """

    purpose: str
    statements: tuple[Part, ...]
    is_atomic: bool = True
    locks: int = 0
    strong: StrongLock | None = None
    is_patient: bool = False


def sql_of(part: Part) -> str:
    """The SQL of a part, without the rows of a Load."""
    return part.query if isinstance(part, Check) else part.sql
