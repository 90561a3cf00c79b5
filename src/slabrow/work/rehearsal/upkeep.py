"""The upkeep in the middle of a rehearsed day: partitions created and retired, or the same rows deleted."""

import time
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

from slabrow.core.rehearsal.outcome import Upkeep
from slabrow.core.table.bounds import Range
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import Stopped
from slabrow.core.values.key_values import Value
from slabrow.core.values.names import Name
from slabrow.servers.families import open_session
from slabrow.work.context import Context
from slabrow.work.rehearsal.spread_layout import StandIns
from slabrow.work.tending.tend import TendOptions, tend
from slabrow.work.tending.upkeep_result import State, Tended

_ALL = 1_000_000  # partitions that may leave at once: nothing here is anybody's data


@dataclass(frozen=True, slots=True)
class Retired:
    """Rows whose `column` is below `before` have left; they were those of so many days."""

    column: str
    before: Value
    days: float


def tended(context: Context, layout: Layout) -> tuple[Upkeep, Retired | None]:
    """`tend`, as it runs on a real table. context: with the clock at which it runs."""
    with closing(open_session(context.dsn)) as session:
        tree = session.catalogue.tree(layout.table)
        before = session.rehearsing.counters()
    began = time.monotonic()
    quiet = Context(
        dsn=context.dsn,
        layout_file=context.layout_file,
        table=None,
        now=context.now,
        lock_wait_ms=context.lock_wait_ms,
        is_machine_clock=False,
        pretends=True,
    )
    unbounded = replace(layout, at_most_retired=_ALL, at_most_share=1.0)
    result = tend(quiet, [unbounded], TendOptions(go=True))
    duration_ms = (time.monotonic() - began) * 1_000
    if (error := result.error) is not None:
        raise error
    if failed := [each for each in result.actions if each.state is State.FAILED]:
        raise Stopped("upkeep failed", found=failed[0].text)
    with closing(open_session(context.dsn)) as session:
        counted = session.rehearsing.counters().since(before)
    done = [each for each in result.actions if each.state is State.DONE]
    created = [each for each in done if each.action.kind == "create"]
    leaving = [each for each in done if each.action.kind in ("detach", "drop", "archive")]
    upkeep = Upkeep(
        how="partitions created and retired",
        created=len(created),
        retired=len(leaving),
        duration_ms=duration_ms,
        longest_lock_ms=max((each.duration_ms or 0.0 for each in done), default=None),
        longest_stall_ms=0.0,
        wal_bytes=counted.wal_bytes,
    )
    return upkeep, _retired(layout, tree, leaving)


def _retired(layout: Layout, tree: Tree, leaving: Sequence[Tended]) -> Retired | None:
    names = {each.action.partition for each in leaving}
    ranges = [each.bounds for each in tree.partitions if each.name in names and isinstance(each.bounds, Range)]
    if not ranges:
        return None
    ends = [each.to[0] for each in ranges if each.to is not None]
    begins = [each.from_[0] for each in ranges if each.from_ is not None]
    last = max((end for end in ends if isinstance(end, int | date)), default=None, key=_as_number)
    if last is None:
        return None
    days = 30.0 * len(ranges)
    known = [value for value in begins if isinstance(value, date)]
    if isinstance(last, date) and known:
        days = max(1.0, (_as_number(last) - min(map(_as_number, known))) / 86_400)
    return Retired(layout.key[0], last, days)


def _as_number(value: Value) -> float:
    match value:
        case datetime():
            return value.timestamp()
        case date():
            return datetime(value.year, value.month, value.day).timestamp()
        case int():
            return float(value)
        case _:
            return float(timedelta.min.days)


def tidied(context: Context, table: Name, others: StandIns, retired: Retired | None) -> Upkeep | None:
    """The rows that another layout drops are deleted here, and the space is vacuumed. None where none retires any.

    others   the servers that parts of the table may lie on
    """
    if retired is None:
        return None
    with closing(open_session(context.dsn)) as session:
        before = others.counters(session)
        began = time.monotonic()
        for sql in session.rehearsing.removal(table, retired.column, retired.before):
            with session.explained("delete old rows"):
                session.execution.run(sql)
        others.vacuum(session, table)
        duration_ms = (time.monotonic() - began) * 1_000
        counted = others.counters(session).since(before)
    return Upkeep(
        how="old rows deleted, and vacuumed",
        created=0,
        retired=0,
        duration_ms=duration_ms,
        longest_lock_ms=None,
        longest_stall_ms=0.0,
        wal_bytes=counted.wal_bytes,
    )
