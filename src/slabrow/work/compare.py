"""`compare`: two tables, the same queries, side by side (N47)."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlglot import exp

from slabrow.core.pruning.plan_reading import Query
from slabrow.core.sql.mentions import retargeted
from slabrow.core.sql.parsed import parse
from slabrow.core.table.relation import Relation
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.files.query_file import FileQuery
from slabrow.servers.asking import Fence
from slabrow.servers.protocols import Session
from slabrow.work.context import Context

RUNS = 3  # of each query on each table; the median one is shown


@dataclass(frozen=True, slots=True)
class MedianRun:
    """One run: shared blocks found in memory or read, milliseconds, and the rows returned with their fingerprint."""

    blocks: int
    planning_ms: float
    execution_ms: float
    rows: int
    print: str


@dataclass(frozen=True, slots=True)
class ComparedQuery:
    """One query on both tables. has_same_rows compares contents, whatever their order."""

    query: FileQuery
    before: MedianRun
    after: MedianRun

    @property
    def has_same_rows(self) -> bool:
        """Whether both tables return the same rows, in any order."""
        return (self.before.rows, self.before.print) == (self.after.rows, self.after.print)


@dataclass(frozen=True, slots=True)
class Left:
    """A query that was not compared, and why."""

    query: FileQuery
    reason: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """before, after   the two tables as the server spells them

    rows_before, rows_after   of each, as the planner estimates them; None where nothing is known
    """

    before: str
    after: str
    rows_before: int | None
    rows_after: int | None
    compared: tuple[ComparedQuery, ...]
    left: tuple[Left, ...]

    @property
    def are_alike(self) -> bool:
        """Whether both tables hold about as many rows: else less work may only be fewer rows."""
        if self.rows_before is None or self.rows_after is None:
            return True
        return abs(self.rows_before - self.rows_after) <= 0.02 * max(self.rows_before, self.rows_after, 1)

    @property
    def equal(self) -> tuple[ComparedQuery, ...]:
        """The queries that return the same rows from both: only they may be summed up."""
        return tuple(each for each in self.compared if each.has_same_rows)


def compare(context: Context, table: Name, before: Name, asked: Sequence[FileQuery], *, timeout_ms: int) -> Comparison:
    """Runs every query that reads `table` on it and on `before`, in turn, in read-only transactions.

    Each is run once to fill the caches and to fingerprint its rows, then measured; the median run counts.
    """
    compared: list[ComparedQuery] = []
    left: list[Left] = []
    with context.connected() as session:
        with session.reading():
            now, _ = session.catalogue.whole(session.catalogue.relation(table))
            then, _ = session.catalogue.whole(session.catalogue.relation(before))
        fence = session.fence()
        if (words := session.planner.powers()) is not None:
            context.warn(words)
        for place, query in enumerate(asked):
            context.progress(place / len(asked), query.name)
            try:
                compared.append(_compare(session, fence, query, now, then, timeout_ms))
            except (ServerError, UsageError) as error:
                left.append(Left(query, error.found or error.problem))
                with session.explained("go on after a query that failed"):
                    session.planner.forget()
        context.progress(1.0, "done")
    return Comparison(
        before=then.spelling,
        after=now.spelling,
        rows_before=then.rows,
        rows_after=now.rows,
        compared=tuple(compared),
        left=tuple(left),
    )


def _compare(
    session: Session, fence: Fence, query: FileQuery, now: Relation, then: Relation, timeout_ms: int
) -> ComparedQuery:
    if not query.sql.lstrip("( \n\t")[:6].upper().startswith(("SELECT", "WITH", "VALUES", "TABLE")):
        raise UsageError(f"{query.name} is left out", found="as it changes rows")
    if not isinstance(parse(query.sql), exp.Query):
        raise UsageError(f"{query.name} is left out", found="as its SQL is not understood here")
    old_sql = retargeted(query.sql, now.name, session.writer.table(then.name))
    if old_sql is None:
        raise UsageError(f"{query.name} is left out", found="as its SQL is not understood here")
    if old_sql == query.sql:
        raise UsageError(f"{query.name} is left out", found=f"as it does not read {now.spelling}")
    for sql in (old_sql, query.sql):
        plan = session.planner.explain(Query(sql, query.params), timeout_ms)
        if (why_not := fence.why_not(sql, plan, changes=False)) is not None:
            raise UsageError(f"{query.name} is left out", found=f"as {why_not}")
    return ComparedQuery(
        query, _measure(session, old_sql, query, timeout_ms), _measure(session, query.sql, query, timeout_ms)
    )


def _measure(session: Session, sql: str, query: FileQuery, timeout_ms: int) -> MedianRun:
    rows, print_ = session.planner.result_print(Query(sql, query.params), timeout_ms)
    runs = [session.planner.run(Query(sql, query.params), timeout_ms) for _ in range(RUNS)]
    middle = sorted(runs, key=lambda run: run.execution_ms or 0.0)[RUNS // 2]
    return MedianRun(middle.blocks or 0, middle.planning_ms or 0.0, middle.execution_ms or 0.0, rows, print_)
