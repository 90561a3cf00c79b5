"""`compare`: two tables, the same queries, side by side, in time and in money (N47)."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sqlglot import exp

from slabrow.core.pruning.plan_reading import Query
from slabrow.core.sql.mentions import retargeted
from slabrow.core.sql.parsed import parse
from slabrow.core.statistics.measured import Measured, Measurement, Side, measured_of, rows_apart
from slabrow.core.table.relation import Relation
from slabrow.core.values.errors import Refusal, ServerError, UsageError
from slabrow.core.values.names import Name
from slabrow.core.values.prices import Prices
from slabrow.core.weighing.money import Money, month_of
from slabrow.files.query_file import FileQuery
from slabrow.files.saved_result import read_saved
from slabrow.servers.asking import Fence
from slabrow.servers.protocols import Session
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """times         of each query on each table
    timeout_ms       for one query
    trusts_estimates whether the tables' rows are not counted
    takes_other_rows whether tables with other rows are compared all the same, without sums
    """

    times: int
    timeout_ms: int
    trusts_estimates: bool = False
    takes_other_rows: bool = False


@dataclass(frozen=True, slots=True)
class ComparedQuery:
    """One query on both tables; before is None where only one table was measured."""

    name: str
    sql: str
    weight: float
    before: Measured | None
    after: Measured

    @property
    def has_same_rows(self) -> bool:
        """Whether both tables return the same rows, in any order."""
        return self.before is not None and (self.before.rows, self.before.print) == (self.after.rows, self.after.print)


@dataclass(frozen=True, slots=True)
class Left:
    """A query that was not compared, and why."""

    name: str
    reason: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """before   None where only one table was measured"""

    before: Side | None
    after: Side
    compared: tuple[ComparedQuery, ...]
    left: tuple[Left, ...]
    times: int
    prices: Prices | None = None

    @property
    def rows_apart(self) -> int | None:
        """How many rows only one side has; None where the tables hold the same rows, as far as that is known."""
        return None if self.before is None else rows_apart(self.before, self.after)

    @property
    def equal(self) -> tuple[tuple[ComparedQuery, Measured], ...]:
        """The queries that may be summed up, with what they were before: they return the same rows from tables that
        hold the same rows.
        """
        if self.rows_apart is not None:
            return ()
        return tuple((each, each.before) for each in self.compared if each.before is not None and each.has_same_rows)

    @property
    def money(self) -> tuple[Money, Money] | None:
        """A month of the queries that may be summed up, before and after; None without prices or such queries."""
        equal = self.equal
        if self.prices is None or self.before is None or not equal:
            return None
        prices, before, after = self.prices, self.before.bytes, self.after.bytes
        then, now = [(each.weight, was) for each, was in equal], [(each.weight, each.after) for each, _ in equal]
        return _month(then, before, prices), _month(now, after, prices)


def _month(queries: Sequence[tuple[float, Measured]], table_bytes: int, prices: Prices) -> Money:
    reads = sum(weight * measured.reads for weight, measured in queries)
    return month_of(reads, sum(weight * measured.busy_ms for weight, measured in queries), table_bytes, prices)


@dataclass(frozen=True, slots=True)
class _Place:
    """A session, the table asked there, and whether its rows are counted."""

    session: Session
    table: Relation
    fence: Fence


def compare(
    context: Context,
    table: Name,
    before: Name | None,
    asked: Sequence[FileQuery],
    question: Question,
    *,
    before_dsn: str | None = None,
) -> Comparison:
    """Runs every query that reads `table` on it and on `before`, in turn, in read-only transactions.

    before       None: only `table` is measured, to be compared later
    before_dsn   of the server that `before` is on, where that is another one
    Each is run once to fill the caches and to fingerprint its rows, then measured `times` times, in turn on both
    sides. Raises Refusal when one side has rows that the other has not, unless the question takes that.
    """
    with context.connected() as session, _other(context, session, before_dsn) as other:
        now = _place(session, table)
        then = None if before is None else _place(other, before)
        for words in {place.session.planner.powers() for place in (now, then) if place is not None}:
            if words is not None:
                context.warn(words)
        sides = _sides(context, now, then, question)
        compared: list[ComparedQuery] = []
        left: list[Left] = []
        for place, query in enumerate(asked):
            context.progress(0.1 + 0.9 * place / len(asked), query.name)
            try:
                compared.append(_compared(now, then, query, question))
            except (ServerError, UsageError) as error:
                left.append(Left(query.name, error.found or error.problem))
                for each in (session, other):
                    with each.explained("go on after a query that failed"):
                        each.planner.forget()
        context.progress(1.0, "done")
    return Comparison(sides[1], sides[0], tuple(compared), tuple(left), question.times)


@contextmanager
def _other(context: Context, session: Session, dsn: str | None) -> Iterator[Session]:
    if dsn is None:
        yield session
        return
    with replace(context, dsn=dsn).connected() as other:
        yield other


def _place(session: Session, name: Name) -> _Place:
    with session.reading():
        found, _ = session.catalogue.whole(session.catalogue.relation(name))
    return _Place(session, found, session.fence())


def _sides(context: Context, now: _Place, then: _Place | None, question: Question) -> tuple[Side, Side | None]:
    if question.trusts_estimates:
        after, before = _side(now, None), None if then is None else _side(then, None)
    elif then is not None and then.session is now.session:
        with now.session.reading("count rows"):  # one view of both
            context.scanning(now.table.rows, now.table.heap_bytes, f"counting {now.table.spelling}")
            after = _side(now, now.session.counting.count_rows(now.table.name))
            context.progress(0.05, f"counting {then.table.spelling}")
            context.scanning(then.table.rows, then.table.heap_bytes, f"counting {then.table.spelling}")
            before = _side(then, then.session.counting.count_rows(then.table.name))
    else:
        counted: list[Side | None] = []
        for place in (now, then):
            context.progress(0.05 * len(counted), "counting rows")
            counted.append(None if place is None else _side(place, place.session.counting.count_rows(place.table.name)))
        after, before = counted[0] or _side(now, None), counted[1]
    if before is not None:
        guard_same_rows(before, after, takes_other_rows=question.takes_other_rows)
    return after, before


def _side(place: _Place, counted: int | None) -> Side:
    found = place.table
    size = found.heap_bytes + found.toast_bytes + found.index_bytes
    rows = found.rows if counted is None else counted
    return Side(found.spelling, rows, counted is not None, size, place.session.product)


def guard_same_rows(before: Side, after: Side, *, takes_other_rows: bool) -> None:
    """Raises Refusal when one side has rows that the other has not: less work would only mean fewer rows."""
    if takes_other_rows or (apart := rows_apart(before, after)) is None:
        return
    how = "counted" if before.is_counted and after.is_counted else "by the planner's estimates"
    raise Refusal(
        "the two tables do not hold the same rows, so less work may only mean fewer rows",
        found=f"{before.rows:,} in {before.table} and {after.rows:,} in {after.table} ({how}): {apart:,} apart",
        fix="compare before anything is retired or added, or see each query without sums: --despite-rows",
    )


def _compared(now: _Place, then: _Place | None, query: FileQuery, question: Question) -> ComparedQuery:
    if not query.sql.lstrip("( \n\t")[:6].upper().startswith(("SELECT", "WITH", "VALUES", "TABLE")):
        raise UsageError(f"{query.name} is left out", found="as it changes rows")
    if not isinstance(parse(query.sql), exp.Query):
        raise UsageError(f"{query.name} is left out", found="as its SQL is not understood here")
    statements = [(now, query.sql)]
    marked = retargeted(query.sql, now.table.name, "slabrow_other_table")
    if marked is None:
        raise UsageError(f"{query.name} is left out", found="as its SQL is not understood here")
    if marked == query.sql:
        raise UsageError(f"{query.name} is left out", found=f"as it does not read {now.table.spelling}")
    if then is not None:
        old = query.sql
        if then.table.name != now.table.name:
            old = retargeted(query.sql, now.table.name, then.session.writer.table(then.table.name)) or old
        statements.insert(0, (then, old))
    for place, sql in statements:
        plan = place.session.planner.explain(Query(sql, query.params), question.timeout_ms)
        if (why_not := place.fence.why_not(sql, plan, changes=False)) is not None:
            raise UsageError(f"{query.name} is left out", found=f"as {why_not}")
    measured = _measured(statements, query, question)
    return ComparedQuery(query.name, query.sql, query.weight, measured[0] if then is not None else None, measured[-1])


def _measured(statements: Sequence[tuple[_Place, str]], query: FileQuery, question: Question) -> list[Measured]:
    """In turn on both sides, each side first every other time: what disturbs one run does not fall on one side."""
    prints = [
        place.session.planner.result_print(Query(sql, query.params), question.timeout_ms) for place, sql in statements
    ]
    runs: list[list[Any]] = [[] for _ in statements]
    for turn in range(question.times):
        order = range(len(statements)) if turn % 2 == 0 else reversed(range(len(statements)))
        for side in order:
            place, sql = statements[side]
            runs[side].append(place.session.planner.run(Query(sql, query.params), question.timeout_ms))
    return [measured_of(each, rows, print_) for each, (rows, print_) in zip(runs, prints, strict=True)]


def compare_measurements(
    before: Measurement | None, after: Measurement, question: Question, left: tuple[Left, ...] = ()
) -> Comparison:
    """Two measurements that were made and saved at their own times."""
    if before is not None:
        guard_same_rows(before.side, after.side, takes_other_rows=question.takes_other_rows)
    compared: list[ComparedQuery] = []
    others: list[Left] = []
    for name, (sql, weight, measured) in after.queries.items():
        was = None if before is None else before.queries.get(name)
        if before is not None and was is None:
            others.append(Left(name, "as only one of the results has it"))
        elif was is not None and was[0] != sql:
            others.append(Left(name, "as it is another statement in the other result"))
        else:
            compared.append(ComparedQuery(name, sql, weight, None if was is None else was[2], measured))
    if before is not None:
        others += [Left(name, "as only one of the results has it") for name in before.queries.keys() - after.queries]
    return Comparison(
        None if before is None else before.side,
        after.side,
        tuple(compared),
        left + tuple(sorted(others, key=lambda each: each.name)),
        question.times,
    )


def measurement_of(comparison: Comparison) -> Measurement:
    """The table that was named first."""
    return Measurement(
        comparison.after, {each.name: (each.sql, each.weight, each.after) for each in comparison.compared}
    )


def read_measurement(path: Path, option: str) -> Measurement:
    """The table that was named first in a saved comparison. Raises UsageError for a file that holds none."""
    document = read_saved(path, option, ("compare",))
    try:
        side = document["sides"]["after"]
        return Measurement(
            Side(
                str(side["table"]),
                None if side["rows"] is None else int(side["rows"]),
                bool(side["counted"]),
                int(side["bytes"]),
                str(side["server"]),
            ),
            {str(each["name"]): _saved_query(each) for each in document["queries"]},
        )
    except (KeyError, TypeError, ValueError) as error:
        raise UsageError(
            f"{path} is not a comparison as this version saves it",
            found=f"{type(error).__name__}: {error}",
            fix="measure it again with --save",
        ) from None


def _saved_query(each: Mapping[str, Any]) -> tuple[str, float, Measured]:
    measured = each["after"]
    numbers = {
        name: float(measured[name]) for name in ("planning_ms", "execution_ms", "waiting_ms", "least_ms", "most_ms")
    }
    return (
        str(each["sql"]),
        float(each["weight"]),
        Measured(
            blocks=int(measured["blocks"]),
            reads=int(measured["reads"]),
            rows=int(measured["rows"]),
            print=str(measured["print"]),
            sent=int(measured.get("rows_sent", 0)),
            **numbers,
        ),
    )
