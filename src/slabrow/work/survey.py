"""`survey`: what is in this table (N01, N03)."""

from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from slabrow.core.statistics.estimates import ColumnStatistics, share_of, split_evenly
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.row_growth import Growth, growth
from slabrow.core.statistics.sample import column_statistics
from slabrow.core.statistics.sizes import estimated_rows
from slabrow.core.table.bounds import Bounds, Listed, Range, overlap
from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import ColumnFact, ForeignKeyFact, IndexFact, LeavesTotal, Relation
from slabrow.core.table.spans import Grid, Span, Unit, fits
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.planned_partitions import MOST_PARTITIONS, slots
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Far, Value, as_moment
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.weighing.ages import Ages, ages_read
from slabrow.core.weighing.candidates import Ageing, ageing
from slabrow.core.weighing.workload_reading import TableWorkload, read_workload, usage
from slabrow.servers.family_traits import FamilyTraits
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.weighing.workloads import gathered, named_tables

MOST_SAMPLED = 300_000  # rows: a larger sample says hardly more, and it is held in memory


@dataclass(frozen=True, slots=True)
class SurveyedColumn:
    """A column, and what statistics tell of it: None where they tell nothing. Shares are from 0 to 1."""

    column: ColumnFact
    statistics: ColumnStatistics | None


@dataclass(frozen=True, slots=True)
class Bucket:
    """Rows in one period, or of one value."""

    bounds: Bounds
    rows: int


@dataclass(frozen=True, slots=True)
class Counts:
    """Rows per period or per value of one column, to be compared with the partitions later (N03).

    span      None: per value
    outside   rows with a time that no calendar holds (infinite ones, zero dates); known only when `is_exact`
    """

    column: str
    span: Span | None
    zone: str
    buckets: tuple[Bucket, ...]
    nulls: int
    is_exact: bool
    outside: int = 0


@dataclass(frozen=True, slots=True)
class Later:
    """The table as it will be. asked: a day, or how many times the rows, in words."""

    asked: str
    rows: int
    bytes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Survey:
    """rows is exact when `is_exact`, else the planner's estimate; None when it is unknown."""

    relation: Relation
    rows: int | None
    is_exact: bool
    columns: tuple[SurveyedColumn, ...]
    indexes: tuple[IndexFact, ...]
    foreign_keys: tuple[ForeignKeyFact, ...]
    partitions: int | None
    counts: Counts | None
    notes: tuple[str, ...] = ()
    growth: Growth | None = None
    ageing: tuple[Ageing, ...] = ()
    ages: Ages | None = None
    later: tuple[Later, ...] = ()


@dataclass(frozen=True, slots=True)
class Question:
    """The column and span to count by. None: those of the layout, else months of the table's time column.

    percent     read so many blocks in a hundred, instead of the planner's statistics
    workload    query files and logs, to tell along which column data ages and how old what is read is
    as_of       a day to come; times: how many times the rows: what the table will be then
    """

    exact: bool = False
    column: str | None = None
    per: Span | None = None
    percent: float | None = None
    workload: tuple[Path, ...] = ()
    statistics: bool = False
    as_of: datetime | None = None
    times: float | None = None


def survey(context: Context, table: Name, question: Question) -> Survey:
    """Reads a table's statistics; with `exact` it counts its rows. Changes nothing."""
    layout = replace(context, table=str(table)).layout_or_none()
    with context.connected() as session, session.reading(f"survey {table}"):
        found = session.catalogue.relation(table)
        if not found.kind.holds_rows:
            raise UsageError(
                f"{found.spelling} cannot be surveyed",
                found=f"it is a {found.kind}",
                fix="name the table that holds the rows",
            )
        found, leaves = session.catalogue.whole(found)
        estimated = found.rows
        if question.exact:
            # Once for all rows, once for the rows of each month or value.
            context.scanning(2 * (found.rows or 0), 2 * found.bytes, f"counting the rows of {found.spelling}")
        rows = session.counting.count_rows(found.name) if question.exact else found.rows
        found = replace(found, rows=rows)
        facts = session.catalogue.columns(found)
        statistics = session.catalogue.column_statistics(found)
        if question.percent is not None:
            part = question.percent / 100
            context.scanning(
                round((found.rows or 0) * part), round(found.bytes * part), f"reading a sample of {found.spelling}"
            )
            statistics = _sampled(session, found, facts, question.percent)
        columns = tuple(SurveyedColumn(column, statistics.get(column.name)) for column in facts)
        counts = _counts(session, found, columns, question, layout)
        if leaves is not None and counts is not None and counts.span is not None and question.percent is None:
            counts = _counts_of_leaves(session.catalogue.tree(table), counts)
        seen = Survey(
            relation=found,
            rows=rows,
            is_exact=question.exact,
            columns=columns,
            indexes=session.catalogue.indexes(found),
            foreign_keys=session.catalogue.foreign_keys(found),
            partitions=None if leaves is None else leaves.leaves,
            counts=counts,
            notes=(
                *_notes(found, columns, question, session.traits),
                *_leaf_notes(leaves),
                *_parent_notes(session, table, leaves),
            ),
        )
        return with_later(_with_ageing(context, session, seen, question, estimated), question)


def _sampled(
    session: Session, found: Relation, columns: tuple[ColumnFact, ...], percent: float
) -> dict[str, ColumnStatistics]:
    """Statistics from a block sample. Raises UsageError when so many blocks are more than a sample."""
    expected = (found.rows or 0) * percent / 100
    if expected > MOST_SAMPLED:
        most = 100 * MOST_SAMPLED / max(1, found.rows or 1)
        raise UsageError(
            f"{percent:g} % of {found.spelling} are about {expected:,.0f} rows",
            found=f"a sample holds at most {MOST_SAMPLED:,}",
            fix=f"ask for --sample {most:.2g}, or --exact for all of them",
        )
    values = session.counting.sample(found.name, columns, percent)
    total = found.rows if found.rows is not None else round(len(next(iter(values.values()), [])) * 100 / percent)
    return {name: column_statistics(name, column, total) for name, column in values.items()}


def _parent_notes(session: Session, table: Name, leaves: LeavesTotal | None) -> list[str]:
    """Statistics of the whole that are older than the partitions."""
    if leaves is None:
        return []
    fault = session.partitions.parent_statistics(session.catalogue.tree(table)).fault
    analyse = session.traits.analyse.format(table)
    return [f"the statistics of {table} as a whole {fault}: {analyse} takes them anew"] if fault else []


def _leaf_notes(leaves: LeavesTotal | None) -> list[str]:
    if leaves is None or not leaves.unanalysed:
        return []
    some = ", ".join(leaves.some_unanalysed) + (" and others" if leaves.unanalysed > 3 else "")
    return [f"{leaves.unanalysed} leaves were never analysed ({some}): their rows are estimated by their bytes"]


def _with_ageing(context: Context, session: Session, seen: Survey, question: Question, estimated: int | None) -> Survey:
    """Adds how the table grows, along which column its data ages, and how old what the workload reads is.

    estimated   the rows that the statistics were taken of: a histogram says nothing of rows that came since
    """
    if seen.rows is None or not any(column.statistics for column in seen.columns):
        return seen
    name = seen.relation.name
    facts = TableFacts(
        name=name,
        spelling=seen.relation.spelling,
        rows=seen.rows,
        heap_bytes=seen.relation.heap_bytes,
        index_bytes=seen.relation.index_bytes,
        columns={each.column.name: each.column.as_key() for each in seen.columns},
        statistics={each.column.name: each.statistics for each in seen.columns if each.statistics is not None},
    )
    read: TableWorkload | None = None
    if question.workload or question.statistics:
        context.reading(question.workload, "reading the workload")
        workload = gathered(question.workload, session, statistics=question.statistics, jobs=context.jobs)
        zone = session.catalogue.time_zone() or ZoneInfo("UTC")
        read = read_workload(
            workload, facts, named_tables(session, workload, name), zone, context.now, rules=session.rules
        )
    return with_ageing(seen, facts, read, context.now, estimated)


def with_ageing(
    seen: Survey, facts: TableFacts, read: TableWorkload | None, now: datetime, estimated: int | None = None
) -> Survey:
    """The same from facts, wherever they come from."""
    aged = ageing(facts, usage(read) if read else {}, read.weight if read else 0.0)
    times = [each for each in aged if facts.columns[each.column].kind.is_time]
    rows = facts.rows if estimated is None else estimated
    trend = growth(times[0].column, facts.statistics[times[0].column], rows, now) if times else None
    ages = ages_read(read, times[0].column, now) if read and times else None
    return replace(seen, growth=trend, ageing=aged, ages=ages)


def with_later(seen: Survey, question: Question) -> Survey:
    """Adds what the table will be. Raises UsageError when it shows no growth by which a day could be told."""
    if seen.rows is None:
        return seen
    found = []
    if question.times is not None:
        found.append(
            Later(
                f"with {question.times:g} times the rows",
                round(seen.rows * question.times),
                round(seen.relation.bytes * question.times),
            )
        )
    if question.as_of is not None:
        trend = seen.growth
        if trend is None or question.as_of <= trend.newest:
            raise UsageError(
                f"what {seen.relation.spelling} will be on {question.as_of:%Y-%m-%d} cannot be told",
                found="it shows no growth along a time column"
                if trend is None
                else f"its newest row is of {trend.newest:%Y-%m-%d}",
                fix="give a later day, or say how many times the rows with --grown",
            )
        rows = seen.rows + trend.rows_until(question.as_of)
        each = seen.relation.bytes / max(1, seen.rows)
        found.append(Later(f"on {question.as_of:%Y-%m-%d}", round(rows), round(rows * each)))
    return replace(seen, later=tuple(found))


def _notes(found: Relation, columns: tuple[SurveyedColumn, ...], question: Question, traits: FamilyTraits) -> list[str]:
    notes = []
    analyse = traits.analyse.format(found.spelling)
    if found.rows is None:
        notes.append(f"{found.spelling} has never been analysed: run {analyse}, or ask with --exact")
    elif all(column.statistics is None for column in columns) and found.rows:
        notes.append(f"there are no column statistics that this role may see: run {analyse}, or ask for SELECT on it")
    elif question.percent is not None:
        notes.append(f"values are those of a sample of {question.percent:g} % of the table")
    elif not question.exact:
        notes.append(f"{traits.estimates}; --exact counts the rows")
    elif found.rows:
        notes.append(f"rows are counted; distinct, NULL, low, high and commonest are from {traits.values_from}")
    return notes


def _counts(
    session: Session,
    found: Relation,
    columns: tuple[SurveyedColumn, ...],
    question: Question,
    layout: Layout | None,
) -> Counts | None:
    if question.column is None and question.per is None and layout is not None and layout.by is not By.RANGE:
        if layout.by is By.LIST:
            column = _named(columns, layout.key[0], found)
            return _by_value(session, found, column, question.exact)
        return None
    if question.column is not None and question.per is None:
        column = _named(columns, question.column, found)
        along = layout is not None and layout.by is By.RANGE and layout.key[0] == question.column
        if not column.column.kind.is_time and not along:
            return _by_value(session, found, column, question.exact)
    subject = _subject(columns, question, layout, found)
    if subject is None:
        return None
    column, grid = subject
    return _by_period(session, found, column, grid, question.exact)


def _subject(
    columns: tuple[SurveyedColumn, ...], question: Question, layout: Layout | None, found: Relation
) -> tuple[SurveyedColumn, Grid] | None:
    """The column and the grid to count by."""
    by_range = layout if layout is not None and layout.by is By.RANGE else None
    name = question.column or (by_range.key[0] if by_range else None)
    column = _named(columns, name, found) if name else _along_time(columns)
    if column is None:
        return None
    kind = column.column.kind
    if by_range is not None and question.per is None and name == by_range.key[0]:
        return column, by_range.grid(kind)
    span = question.per or Span(1, Unit.MONTH)
    if not fits(span, kind):
        if question.per is None and question.column is None:
            return None
        raise UsageError(
            f"rows of {column.column.name} cannot be counted per {span}",
            found=f"it is of type {column.column.type_name}",
            fix="give --per a whole number for a numeric column, a span such as '1 month' for a time",
        )
    return column, Grid(span, kind, ZoneInfo(by_range.zone if by_range else "UTC"))


def _named(columns: tuple[SurveyedColumn, ...], name: str, found: Relation) -> SurveyedColumn:
    for column in columns:
        if column.column.name == name:
            return column
    raise UsageError(
        f"{found.spelling} has no column {name}",
        found="its columns are " + ", ".join(column.column.name for column in columns),
    )


def _along_time(columns: tuple[SurveyedColumn, ...]) -> SurveyedColumn | None:
    """The time column whose values follow the order of the rows most closely: the one along which the table grew."""
    times = [column for column in columns if column.column.kind.is_time]
    return max(times, key=lambda each: abs((each.statistics and each.statistics.correlation) or 0.0), default=None)


def _by_period(session: Session, found: Relation, surveyed: SurveyedColumn, grid: Grid, exact: bool) -> Counts | None:
    column, statistics = surveyed.column, surveyed.statistics
    if exact:
        extent = session.counting.extent(found.name, column)
        low, high, nulls, outside = extent.low, extent.high, extent.nulls, extent.beyond
    elif statistics is not None:
        low, high, nulls = statistics.low, statistics.high, round(statistics.null_share * (found.rows or 0))
        outside = 0
    else:
        return None
    if low is None or high is None or isinstance(low, Edge | Far) or isinstance(high, Edge | Far):
        return Counts(
            column=column.name,
            span=grid.span,
            zone=str(grid.zone),
            buckets=(),
            nulls=nulls,
            is_exact=exact,
            outside=outside,
        )
    ranges = periods(grid, low, high, column.name)
    if exact:
        thresholds = [bounds.from_[0] for bounds in ranges if bounds.from_] + [end[0] for end in [ranges[-1].to] if end]
        rows = session.counting.count_buckets(found.name, column, thresholds).counts[1:-1]
    else:
        known = [share_of(bounds, statistics) or 0.0 for bounds in ranges] if statistics else []
        rows = tuple(split_evenly(found.rows or 0, known))
    return Counts(
        column=column.name,
        span=grid.span,
        zone=str(grid.zone),
        buckets=tuple(Bucket(bounds, count) for bounds, count in zip(ranges, rows, strict=True)),
        nulls=nulls,
        is_exact=exact,
        outside=outside,
    )


def periods(grid: Grid, low: Value, high: Value, column: str) -> list[Range]:
    """The periods of a grid from one value to another. Raises UsageError when they are too many."""
    first, last = grid.index(low), grid.index(high)
    if last - first >= MOST_PARTITIONS:
        raise UsageError(
            f"{column} reaches over {last - first + 1:,} periods of {grid.span}", fix="count per a wider span: --per"
        )
    return list(slots(grid, first, last, 1))


def _counts_of_leaves(tree: Tree, counts: Counts) -> Counts:
    """Estimated rows per period from the partitions that hold the periods: the parent's own statistics may be stale.

    A partition over several periods gives to each in proportion to the time that they share.
    """
    ends = [bounds for _, bounds in tree.ranges]
    if counts.is_exact or tree.key[0].name != counts.column or not tree.kinds[0].is_time:
        return counts
    if any(bounds.from_ is None or bounds.to is None for bounds in ends):
        return counts
    rows = estimated_rows(tree.leaves)
    found = [0.0] * len(counts.buckets)
    for child, bounds in tree.ranges:
        held = sum(rows[leaf.spelling] or 0 for leaf in tree.leaves_of(child))
        width = _overlap_s(bounds, bounds)
        for place, bucket in enumerate(counts.buckets):
            if held and width and isinstance(bucket.bounds, Range):
                found[place] += held * _overlap_s(bounds, bucket.bounds) / width
    buckets = tuple(replace(each, rows=round(count)) for each, count in zip(counts.buckets, found, strict=True))
    # Statistics that are older than the partitions still know of periods that have left.
    there = [
        place
        for place, each in enumerate(buckets)
        if each.rows or any(isinstance(each.bounds, Range) and overlap(each.bounds, bounds) for bounds in ends)
    ]
    return replace(counts, buckets=buckets[there[0] : there[-1] + 1] if there else buckets)


def _overlap_s(one: Range, other: Range) -> float:
    """The seconds that two ranges of time share; 0 where an end is no moment of the calendar."""
    starts = [as_moment(each.from_[0]) if each.from_ else None for each in (one, other)]
    ends = [as_moment(each.to[0]) if each.to else None for each in (one, other)]
    begins, stops = [each for each in starts if each], [each for each in ends if each]
    if len(begins) < 2 or len(stops) < 2:
        return 0.0
    return max(0.0, (min(stops) - max(begins)).total_seconds())


def _by_value(session: Session, found: Relation, surveyed: SurveyedColumn, exact: bool) -> Counts | None:
    column, statistics = surveyed.column, surveyed.statistics
    if exact:
        counted = session.counting.count_values(found.name, column)
        buckets = tuple(Bucket(Listed((value,)), rows) for value, rows in counted.items() if value is not None)
        return Counts(
            column=column.name, span=None, zone="UTC", buckets=buckets, nulls=counted.get(None, 0), is_exact=True
        )
    if statistics is None or found.rows is None:
        return None
    buckets = tuple(Bucket(Listed((value,)), round(share * found.rows)) for value, share in statistics.common)
    return Counts(
        column=column.name,
        span=None,
        zone="UTC",
        buckets=buckets,
        nulls=round(statistics.null_share * found.rows),
        is_exact=False,
    )
