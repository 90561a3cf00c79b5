"""The start of every command: the server, the layouts, the clock, and the display of progress."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.values.errors import Refusal, UsageError, nearest
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.families import open_session
from slabrow.servers.protocols import Session

if TYPE_CHECKING:
    from slabrow.core.table.layout import Layout
    from slabrow.core.upkeep.elsewhere import Elsewhere

# What one scan that counts or groups rows does, roughly: only what is said of the time left depends on it.
_ROWS_A_SECOND, _BYTES_A_SECOND = 4e6, 300e6
_FILE_BYTES_A_SECOND = 40e6  # logs and rows, read and understood
MOST_APART = timedelta(minutes=1)  # that two clocks may be without being called different
Progress = Callable[[float, str], None]  # the share of the work that is done, 0 to 1, and the name of the present step


Event = Mapping[str, str | int | float | None]


def ignore_event(_: Event) -> None:
    """Events are not reported."""


def ignore_message(_: str) -> None:
    """Messages are switched off."""


def ignore_progress(_: float, __: str) -> None:
    """Progress is not shown."""


@dataclass(frozen=True, slots=True)
class Context:
    """The options that all commands share, read and checked.

    dsn           empty for the server's own client conventions
    layout_file   the file named, or the usual one; it may not exist
    table         the table named, or None
    now           the clock, with its zone
    is_machine_clock  whether that is this machine's own, and not one given with --now
    pretends      whether another clock than the server's is meant, though data are changed
    server        what --on calls it; None for the one server of the options
    lock_deadline_ms  how long a lock is tried for; None: six times
    jobs          processes that read a log side by side; None: one for each core
    expect        hears about how many seconds the step that begins will take, and its name
    tell          hears what upkeep did to each partition, as it happens
    warn          hears what a person should know before the work begins
    say           hears each statement that changes something, and how long it took
    """

    dsn: str
    layout_file: Path
    table: str | None
    now: datetime
    lock_wait_ms: int = 2_000
    is_machine_clock: bool = True
    pretends: bool = False
    server: str | None = None
    lock_deadline_ms: int | None = None
    jobs: int | None = None
    progress: Progress = ignore_progress
    expect: Progress = ignore_progress
    tell: Callable[[Event], None] = ignore_event
    warn: Callable[[str], None] = ignore_message
    say: Callable[[str], None] = ignore_message

    def scanning(self, rows: int | None, bytes_: int, doing: str) -> None:
        """Says that rows are about to be read one by one, and so about how long that will take."""
        self.expect(max((rows or 0) / _ROWS_A_SECOND, bytes_ / _BYTES_A_SECOND), doing)

    def reading(self, paths: Iterable[Path], doing: str) -> None:
        """Says that files are about to be read, and so about how long that will take."""
        self.expect(sum(path.stat().st_size for path in paths if path.is_file()) / _FILE_BYTES_A_SECOND, doing)

    def guard_pretended_clock(self, server: datetime) -> None:
        """Raises Refusal when a clock given with --now is far from the server's, and --pretend does not confirm it.

        What is retired by a pretended clock is gone as any other data. server: its clock
        """
        if self.is_machine_clock or self.pretends or abs(self.now - server) <= MOST_APART:
            return
        raise Refusal(
            "--now is not the time of the server, and --go changes real data",
            found=f"{self.now:%Y-%m-%d %H:%M:%S%z} was given, it is {server:%Y-%m-%d %H:%M:%S%z} there",
            fix="leave --now out, or add --pretend when this is a rehearsal on data that may be lost",
        )

    def open_session(self) -> Session:
        """A session that reaches the other servers too. The caller closes it."""
        session = open_session(self.dsn)
        session.reach(self.elsewhere)
        return session

    def elsewhere(self) -> "tuple[Elsewhere, ...]":
        """The other servers that hold partitions, as the layout file names them."""
        from slabrow.files.layout_file import read_elsewhere  # with Pydantic, which is slow to load

        return read_elsewhere(self.layout_file)

    @contextmanager
    def connected(self) -> Iterator[Session]:
        """A session that is closed at the end."""
        session = self.open_session()
        try:
            yield session
        finally:
            session.close()

    def layouts(self) -> "tuple[Layout, ...]":
        """The layouts asked for: of the table named, else all of the file."""
        from slabrow.files.layout_file import read_layouts  # with Pydantic, which is slow to load

        layouts = read_layouts(self.layout_file)
        if self.table is None:
            return layouts
        name = parse_name(self.table)
        chosen = tuple(layout for layout in layouts if _same(layout.table, name))
        if not chosen:
            known = [str(layout.table) for layout in layouts]
            near = nearest(str(name), known)
            raise UsageError(
                f"{self.layout_file} has no layout for {name}",
                found=f"it has layouts for {', '.join(known)}",
                fix=f"did you mean {near}?" if near else "add a [[layout]] for it",
            )
        return chosen

    def layout(self) -> "Layout":
        """The one layout asked for. Raises UsageError when the file has several and no table was named."""
        layouts = self.layouts()
        if len(layouts) > 1:
            raise UsageError(
                f"{self.layout_file} has {len(layouts)} layouts",
                fix="name one of them: " + ", ".join(str(layout.table) for layout in layouts),
            )
        return layouts[0]

    def layout_or_none(self) -> "Layout | None":
        """The layout of the table named, when there is a file and it has one."""
        if self.table is None or not self.layout_file.exists():
            return None
        from slabrow.files.layout_file import read_layouts

        name = parse_name(self.table)
        return next((layout for layout in read_layouts(self.layout_file) if _same(layout.table, name)), None)

    def table_name(self) -> Name:
        """The table named, else that of the only layout."""
        return parse_name(self.table) if self.table is not None else self.layout().table


def _same(one: Name, other: Name) -> bool:
    return one.table == other.table and (one.schema == other.schema or None in (one.schema, other.schema))
