"""A layout whose parts lie on several servers, tried on private ones: each stands for one of them (N48, N50)."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass

from slabrow.core.rehearsal.made_up_table import EnumerationFacts
from slabrow.core.rehearsal.outcome import ServerCounters
from slabrow.core.table.layout import HERE, Layout
from slabrow.core.upkeep.elsewhere import Elsewhere
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name, fit
from slabrow.servers.families import FAMILIES, open_session
from slabrow.servers.protocols import Session
from slabrow.work.build import Source, build_in
from slabrow.work.context import Context

NOTE = "the other servers were private ones on this machine: what a network between them takes is not in the figures"
_NO_PARTS_ELSEWHERE = frozenset("fx")  # constraints that a table with parts on other servers cannot have


@dataclass(frozen=True, slots=True)
class StandIns:
    """A session on each server that stands for another one."""

    sessions: tuple[Session, ...] = ()

    def counters(self, here: Session) -> ServerCounters:
        """Of all servers together."""
        found = here.rehearsing.counters()
        for each in self.sessions:
            found += each.rehearsing.counters()
        return found

    def settle(self) -> None:
        """Brings the parts there into the state of vacuumed tables."""
        for each in self.sessions:
            each.rehearsing.settle_all()


@contextmanager
def standing_in(
    context: Context, session: Session, layouts: Sequence[Layout], memory: int | None, scratch: str | None
) -> Iterator[StandIns]:
    """Private servers for all that the layouts name, known to the database of the session; they end with it.

    memory   of each, as in `Question`. Raises UsageError where the rehearsal has a server of the user's.
    """
    names = dict.fromkeys(name for each in layouts for name in each.servers if name != HERE)
    if not names:
        yield StandIns()
        return
    if scratch is not None:
        raise UsageError(
            "parts on several servers are rehearsed on private servers",
            found=f"a layout names {', '.join(names)}",
            fix="leave --scratch out",
        )
    with ExitStack() as ending:
        others, sessions = [], []
        for number, name in enumerate(names):
            context.progress(0.02 * number / len(names), f"starting a private server for {name}")
            server = FAMILIES[0].private.start(memory)
            ending.callback(server.stop)
            others.append(Elsewhere(name, server.dsn))
            sessions.append(ending.enter_context(closing(open_session(server.dsn))))
        session.rehearsing.know_servers(others)
        session.reach(lambda: others)
        yield StandIns(tuple(sessions))


def spread(
    context: Context, session: Session, layout: Layout, types: Sequence[EnumerationFacts], others: StandIns
) -> tuple[Name, int]:
    """Builds the layout, and puts the rows of the plain table into it. The old name of that, and how many parts.

    types   that its columns may have, which the other servers need too
    """
    for each in others.sessions:
        each.rehearsing.make_types(types)
    old = layout.table.sibling(fit(layout.table.table, "_before"))
    session.rehearsing.set_aside(layout.table, old)
    built = build_in(context, session, layout, Source(like=old, without=_NO_PARTS_ELSEWHERE), go=True)
    session.rehearsing.fill(layout.table, old)
    others.settle()
    return old, len(built.partitions)


def bytes_there(session: Session, table: Name) -> int:
    """Of the parts on other servers, with their indexes."""
    there = session.partitions.far_tables(table)
    return sum(look.bytes for look in session.partitions.look_there(list(there)).values()) if there else 0


def remove_there(session: Session, table: Name) -> None:
    """Drops the parts on other servers."""
    for far in session.partitions.far_tables(table).values():
        session.execution.run_there(session.writer.dropping_there(far))
