"""Tries a layout over several servers: a private server takes the place of each other server (N48, N50)."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass, field

from slabrow.core.rehearsal.made_up_table import EnumerationFacts
from slabrow.core.rehearsal.outcome import ServerCounters
from slabrow.core.table.layout import HERE, Layout
from slabrow.core.upkeep.elsewhere import Elsewhere, FarTable
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name, fit
from slabrow.servers.families import FAMILIES, open_session
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.build import Source, build_in
from slabrow.work.context import Context

NOTE = "the other servers were private ones on this machine: what a network between them takes is not in the figures"
_NO_PARTS_ELSEWHERE = frozenset("fx")  # constraints that a table with parts on other servers cannot have


@dataclass(frozen=True, slots=True)
class StandIns:
    """Private servers, each in the place of another server. sessions: by the name of the other server."""

    sessions: Mapping[str, Session] = field(default_factory=dict)

    def counters(self, here: Session) -> ServerCounters:
        """Counters of all servers together."""
        found = here.rehearsing.counters()
        for each in self.sessions.values():
            found += each.rehearsing.counters()
        return found

    def _parts(self, here: Session, table: Name) -> Mapping[Name, FarTable]:
        return here.partitions.far_tables(table) if self.sessions else {}

    def vacuum(self, here: Session, table: Name) -> None:
        """Vacuums the parts of a table on these servers."""
        for far in self._parts(here, table).values():
            self.sessions[far.server].rehearsing.settle(far.table)

    def total_bytes(self, here: Session, table: Name) -> int:
        """Bytes of the parts of a table on these servers, with their indexes."""
        parts = list(self._parts(here, table))
        return sum(look.bytes for look in here.partitions.look_there(parts).values())

    def remove(self, context: Context, here: Session, table: Name) -> None:
        """Drops the parts of a table on these servers."""
        parts = self._parts(here, table).values()
        dropping = [Transaction(f"drop {far.table}", (here.writer.dropping_there(far),)) for far in parts]
        runner.run(here, dropping, context.lock_wait_ms)


@contextmanager
def standing_in(
    context: Context, session: Session, layouts: Sequence[Layout], memory: int | None, scratch: str | None
) -> Iterator[StandIns]:
    """Starts a private server for each other server of the layouts, and ends all of them afterwards.

    memory   of each, as in `Question`
    Raises UsageError where the rehearsal takes place on a server of the user's.
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
        others, sessions = [], dict[str, Session]()
        for number, name in enumerate(names):
            context.progress(0.02 * number / len(names), f"starting a private server for {name}")
            server = FAMILIES[0].private.start(memory)
            ending.callback(server.stop)
            others.append(Elsewhere(name, server.dsn))
            sessions[name] = ending.enter_context(closing(open_session(server.dsn)))
        session.rehearsing.know_servers(others)
        session.reach(lambda: others)
        yield StandIns(sessions)


def spread(
    context: Context, session: Session, layout: Layout, types: Sequence[EnumerationFacts], others: StandIns
) -> tuple[Name, int]:
    """Builds the layout, and copies the rows of the plain table. Returns the name that the plain table has now, and the
    number of parts.

    types   of the table's columns: the other servers need them too
    """
    for each in others.sessions.values():
        each.rehearsing.make_types(types)
    old = layout.table.sibling(fit(layout.table.table, "_before"))
    session.rehearsing.set_aside(layout.table, old)
    built = build_in(context, session, layout, Source(like=old, without=_NO_PARTS_ELSEWHERE), go=True)
    session.rehearsing.fill(layout.table, old)
    for each in others.sessions.values():
        each.rehearsing.settle_all()
    return old, len(built.partitions)
