"""`index`: which index is on which partition, and what is done about it while writers go on (N25)."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

from slabrow.core.sql.index_statement import IndexAsked, parse_index
from slabrow.core.table.index_matrix import IndexFound, IndexMatrix
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.steps import LongWork, Step, StepReport, StepState
from slabrow.core.values.errors import Refusal, UsageError, nearest
from slabrow.core.values.names import Name
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.reshaping.under_way import refuse_under_way
from slabrow.work.step_runner import StepRunner, ledger_or_none


@dataclass(frozen=True, slots=True, kw_only=True)
class IndexOptions:
    """What is to be done: mend, create (the statement), or drop (the name). None of them: look only.

    jobs   how many sessions build side by side
    """

    mend: bool = False
    create: str | None = None
    drop: str | None = None
    jobs: int = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class IndexResult:
    """doing   `look`, `mend`, `create` or `drop`; matrix: as it is now, after what was done"""

    doing: str
    matrix: IndexMatrix
    work: LongWork
    steps: tuple[StepReport, ...]
    is_done: bool

    @property
    def longest_lock_ms(self) -> float:
        """The longest time for which a strong lock was held."""
        return max((step.longest_lock_ms or 0.0 for step in self.steps), default=0.0)


def look(context: Context, table: Name) -> IndexResult:
    """The indexes as they are."""
    with context.connected() as session:
        matrix = session.partitions.index_matrix(table)
    return IndexResult(
        doing="look", matrix=matrix, work=LongWork(kind="index", table=matrix.table, steps=()), steps=(), is_done=True
    )


def change_indexes(
    context: Context, table: Name, schema: str | None, options: IndexOptions, *, go: bool
) -> IndexResult:
    """Mends, creates or drops. Raises UsageError for a statement or a name that is none, Refusal for a key."""
    asked = parse_index(options.create) if options.create is not None else None
    with context.connected() as session:
        with session.reading():
            full = session.catalogue.relation(table).name
        if session.partitions.root_of(full) is not None:
            raise UsageError(f"{full} is a partition", fix="name the partitioned table")
        with _alone(context, session, full, go=go):
            refuse_under_way(session, schema, full)
            matrix = session.partitions.index_matrix(full)
            doing = "mend" if options.mend else "create" if asked is not None else "drop"
            steps = _steps(session, matrix, options, asked)
            if not go:
                return _result(doing, matrix, steps, _proposed(steps), is_done=not steps)
            run = StepRunner(context, session, ledger_or_none(context, session, schema), jobs=options.jobs)
            reports = run.do(LongWork(kind="index", table=full, steps=steps))
            return _result(doing, session.partitions.index_matrix(full), steps, reports, is_done=True)


def finding_of_indexes(session: Session, table: Name) -> Finding | None:
    """One finding for the census and the routine upkeep, when an index is not everywhere."""
    faults = session.partitions.index_faults(table)
    if not faults:
        return None
    named = ", ".join(list(faults)[:3]) + (f" and {len(faults) - 3} more" if len(faults) > 3 else "")
    return Finding(
        "index_missing",
        f"{sum(faults.values()):,} indexes are missing or invalid on partitions of {table} ({named}): "
        f"`slabrow index {table}` shows them, --mend --go builds them beside writers",
    )


def _steps(session: Session, matrix: IndexMatrix, options: IndexOptions, asked: IndexAsked | None) -> tuple[Step, ...]:
    taken = session.catalogue.names_in_schema(matrix.table.schema)
    if asked is not None:
        return _creation(session, matrix, asked, taken)
    if options.drop is not None:
        return session.writer.index_dropping(matrix, _to_drop(matrix, options.drop))
    return session.writer.index_mending(matrix, taken)


def _creation(session: Session, matrix: IndexMatrix, asked: IndexAsked, taken: frozenset[str]) -> tuple[Step, ...]:
    """A new one, or the one that an earlier run has begun: it is invalid until all leaves have it."""
    if asked.name is None and not asked.constraint:
        usual = "_".join((matrix.table.table, *(column or "expr" for column in asked.columns), "idx"))
        begun = next((each for each in matrix.of_table if each.name.table == usual and not each.is_valid), None)
        asked = replace(asked, name=usual) if begun is not None else asked
    there = next((index for index in matrix.of_table if index.name.table == asked.name), None)
    if there is not None and there.is_valid:
        raise Refusal(f"there is an index {there.name} already", fix="give the new one another name")
    if there is not None:
        return session.writer.index_mending(matrix, taken, there.name)
    if asked.name is not None and asked.name in taken:
        raise UsageError(f"the name {asked.name} is taken", fix="give the index another name")
    if asked.constraint == "p" and any(index.constraint == "p" for index in matrix.of_table):
        raise Refusal(f"{matrix.table} has a primary key already", fix="drop that first, or make a UNIQUE key")
    _, steps = session.writer.index_creating(matrix, asked, taken)
    return steps


def _to_drop(matrix: IndexMatrix, name: str) -> IndexFound:
    wanted = name.rsplit(".", 1)[-1].strip('"')
    found = next((index for index in matrix.of_table if index.name.table == wanted), None)
    if found is None:
        near = nearest(wanted, [index.name.table for index in matrix.of_table])
        raise UsageError(f"{matrix.table} has no index {name}", fix=f"did you mean {near}?" if near else None)
    if found.constraint:
        raise Refusal(
            f"{found.name} belongs to a key of {matrix.table}",
            fix=f"drop the key itself, if you mean it: ALTER TABLE {matrix.table} DROP CONSTRAINT {wanted}",
        )
    return found


def _result(
    doing: str, matrix: IndexMatrix, steps: tuple[Step, ...], reports: tuple[StepReport, ...], *, is_done: bool
) -> IndexResult:
    work = LongWork(kind="index", table=matrix.table, steps=steps)
    return IndexResult(doing=doing, matrix=matrix, work=work, steps=reports, is_done=is_done)


def _proposed(steps: tuple[Step, ...]) -> tuple[StepReport, ...]:
    return tuple(StepReport(name=step.name, state=StepState.PROPOSED) for step in steps)


@contextmanager
def _alone(context: Context, session: Session, table: Name, *, go: bool) -> Iterator[None]:
    if not go:
        yield
        return
    with runner.sole(session, [table], context.lock_wait_ms):
        session.execution.end_orphans(table)
        yield
