"""SQL ready to be sent or written down: plain data between the servers that write it and the runner that runs it."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from slabrow.core.values.one_line import one_line


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


@dataclass(frozen=True, slots=True)
class Remote:
    """Statements for another server, in one transaction there. It commits before the transaction here does.

    After a crash between the two commits the statements run again: they must have the same effect then.

    server   its name among those the session reaches
    unless   a query there of one truth value: when it is true there is nothing to do
    """

    sql: str
    server: str
    unless: str = ""
    share: float = 0.0
    doing: str = ""


@dataclass(frozen=True, slots=True)
class Pipe:
    """Rows that go from one server to another, in one transaction on the server that receives them.

    sql       the COPY … TO STDOUT that sends the rows; into: the COPY … FROM STDIN that receives them
    source, target   names of the servers; empty: the server of the session. One of the two is empty
    number    a query here for the number of the piece; without a row of it nothing is sent
    arrivals  a table on the target that keeps the numbers of received pieces, so that no piece comes twice
    """

    sql: str
    into: str
    source: str = ""
    target: str = ""
    number: str = ""
    arrivals: str = ""
    share: float = 0.0
    doing: str = ""


Part = Statement | Check | Load | Remote | Pipe


@dataclass(frozen=True, slots=True)
class StrongLock:
    """How the lock of a transaction on a table in use is taken, so that nobody waits behind it for long.

    look     a query of (who,) for each session that would keep the lock waiting: it is asked for only when there is
             none
    cleaned  taken for a moment after a failed try: the gentle lock on the tables that the transaction locks later. The
             server's own cleaning leaves those tables then
    gentle   the lock that is taken first: it blocks neither readers nor writers, and sends the server's own cleaning
             away
    strong   the lock that is wanted; both None where the statements take their locks by themselves
    """

    look: str
    gentle: str | None = None
    strong: str | None = None
    cleaned: str | None = None


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
    """The SQL of a part, without the rows of a Load; with a line above it that says on which server it is done."""
    match part:
        case Check():
            return part.query
        case Remote():
            return f"-- on {one_line(part.server)}:\n{part.sql}"
        case Pipe():
            ends = (f"-- on {one_line(server)}:" if server else "-- here:" for server in (part.source, part.target))
            return "\n".join(f"{end}\n{sql};" for end, sql in zip(ends, (part.sql, part.into), strict=True))
        case _:
            return part.sql
