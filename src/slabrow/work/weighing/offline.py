"""A table known from its DDL and a sample of its rows, without a server: `survey` and `weigh` offline."""

from dataclasses import dataclass, replace
from pathlib import Path
from zoneinfo import ZoneInfo

from slabrow.core.sql.definitions import Definition, find, read_definitions
from slabrow.core.sql.schema import Schema
from slabrow.core.statistics.estimates import share_of, split_evenly
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.sample import column_statistics
from slabrow.core.table.relation import ColumnFact, IndexFact, IndexShape, Relation, RelationKind
from slabrow.core.table.spans import Grid, Span, Unit, fits
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge
from slabrow.core.values.names import Name
from slabrow.core.weighing.candidates import Wishes
from slabrow.core.weighing.costs import Costs
from slabrow.core.weighing.workload_reading import read_workload
from slabrow.files.reading import read_text
from slabrow.files.row_file import RowSample, read_rows
from slabrow.work.context import Context
from slabrow.work.survey import Bucket, Counts, Question, Survey, SurveyedColumn, periods, with_ageing, with_later
from slabrow.work.weighing.weigh import Known, Sources, Weighing, weighed
from slabrow.work.weighing.workloads import gathered

# The bytes that the server adds to a row, its header and line pointer, and to an index entry (manual, 73.6, 73.4).
_ROW_OVERHEAD, _ENTRY_OVERHEAD = 28, 12
_FILL = 1.1  # space that pages leave free


@dataclass(frozen=True, slots=True)
class Offline:
    """schema: DDL; rows_from: CSV or Parquet; rows: of the whole table, None for those of the file."""

    schema: Path
    rows_from: Path
    rows: int | None


@dataclass(frozen=True, slots=True)
class _Known:
    facts: TableFacts
    schema: Schema
    sample: RowSample
    definition: Definition


def _known(context: Context, table: Name, offline: Offline) -> _Known:
    definitions = read_definitions(read_text(offline.schema, "schema file", "--schema"), str(offline.schema))
    definition = find(definitions, table, str(offline.schema))
    context.reading([offline.rows_from], f"reading {offline.rows_from.name}")
    sample = read_rows(offline.rows_from, tuple(definition.columns.values()))
    rows = offline.rows if offline.rows is not None else sample.rows
    if rows < sample.rows:
        raise UsageError(
            f"--rows {rows:,} is less than {offline.rows_from} has", found=f"{sample.rows:,} rows", fix="correct it"
        )
    if rows > sample.rows:
        context.warn(_doubt(offline, sample, rows))
    statistics = {name: column_statistics(name, values, rows) for name, values in sample.values.items()}
    widths = _widths(definition, sample)
    heap = round(rows * (_ROW_OVERHEAD + sum(widths.values())) * _FILL)
    indexes = tuple(_sized(index, rows, widths) for index in definition.indexes)
    facts = TableFacts(
        name=definition.name,
        spelling=str(definition.name),
        rows=rows,
        heap_bytes=heap,
        index_bytes=sum(index.bytes for index in indexes),
        columns=definition.columns,
        statistics=statistics,
        indexes=indexes,
        not_null=frozenset(name for name, column in definition.columns.items() if column.not_null),
    )
    schema = replace(definitions.schema(), search_path=("public", definition.name.schema or "public"))
    return _Known(facts, schema, sample, definition)


_DENSE = 1.2  # numbers that a random sample of a larger table would not stand this close together in


def _doubt(offline: Offline, sample: RowSample, rows: int) -> str:
    """The assumption about a file that holds a part of the rows, and the signs against it."""
    for name, values in sample.values.items():
        numbers = {value for value in values if isinstance(value, int) and not isinstance(value, bool)}
        if len(numbers) < max(100, 0.9 * len(values)) or rows < 2 * sample.rows:
            continue
        low, high = min(numbers), max(numbers)
        if high - low + 1 <= _DENSE * sample.rows:
            return (
                f"{offline.rows_from.name} looks like a stretch of the table, such as its first rows: {name} runs from "
                f"{low:,} to {high:,} almost without gaps. What is said of {rows:,} rows needs a random sample, "
                "as TABLESAMPLE SYSTEM takes it"
            )
    return f"the {sample.rows:,} rows of {offline.rows_from.name} are taken for a random sample of {rows:,}"


def _sized(index: IndexShape, rows: int, widths: dict[str, float]) -> IndexShape:
    entry = _ENTRY_OVERHEAD + sum(widths.get(name, 8) for name in index.columns)
    return replace(index, bytes=round(rows * entry * _FILL))


_FIXED = {
    "smallint": 2,
    "integer": 4,
    "bigint": 8,
    "real": 4,
    "double precision": 8,
    "boolean": 1,
    "date": 4,
    "uuid": 16,
}


def _widths(definition: Definition, sample: RowSample) -> dict[str, float]:
    """The bytes that a value of each column takes."""
    widths: dict[str, float] = {}
    for name, column in definition.columns.items():
        if (fixed := _FIXED.get(column.type_name)) is not None or column.type_name.startswith("timestamp"):
            widths[name] = fixed if fixed is not None else 8
            continue
        values = [str(value) for value in sample.values.get(name, ()) if value is not None]
        widths[name] = 1 + sum(map(len, values)) / len(values) if values else 8
    return widths


def survey_offline(context: Context, table: Name, offline: Offline, question: Question) -> Survey:
    """As `survey`, from files. Sizes are estimated from the widths of the values."""
    known = _known(context, table, offline)
    facts = known.facts
    relation = Relation(
        identity=0,
        name=facts.name,
        spelling=facts.spelling,
        kind=RelationKind.TABLE,
        is_partition=False,
        rows=facts.rows,
        heap_bytes=facts.heap_bytes,
        index_bytes=facts.index_bytes,
        toast_bytes=0,
    )
    columns = tuple(
        SurveyedColumn(ColumnFact(name, column.type_name, column.not_null), facts.statistics.get(name))
        for name, column in facts.columns.items()
    )
    indexes = tuple(
        IndexFact(
            name=index.name,
            definition=f"({', '.join(index.columns)})",
            bytes=index.bytes,
            is_unique=index.is_unique,
            is_primary=index.is_primary,
            is_valid=True,
            scans=0,
        )
        for index in facts.indexes
    )
    rows = f"{known.sample.rows:,} rows of {offline.rows_from.name}"
    note = f"known from {rows}; sizes are estimated from the widths of the values"
    seen = Survey(
        relation=relation,
        rows=facts.rows,
        is_exact=False,
        columns=columns,
        indexes=indexes,
        foreign_keys=(),
        partitions=None,
        counts=_counts(known, question),
        notes=(note,),
    )
    read = None
    if question.workload:
        context.reading(question.workload, "reading the workload")
        workload = gathered(question.workload, None, statistics=False, jobs=context.jobs)
        read = read_workload(workload, facts, known.schema, ZoneInfo("UTC"), context.now)
    return with_later(with_ageing(seen, facts, read, context.now), question)


def _counts(known: _Known, question: Question) -> Counts | None:
    """Rows per period of the column asked for, or of the time column that lies most in the rows' order."""
    facts = known.facts
    times = [name for name, column in facts.columns.items() if column.kind.is_time and name in facts.statistics]
    times.sort(key=lambda name: -abs(facts.statistics[name].correlation or 0.0))
    name = question.column or (times[0] if times else None)
    if name is None:
        return None
    if name not in facts.columns:
        raise UsageError(f"{facts.spelling} has no column {name}", found=f"its columns are {', '.join(facts.columns)}")
    statistics, kind = facts.statistics.get(name), facts.columns[name].kind
    span = question.per or Span(1, Unit.MONTH)
    if statistics is None or statistics.low is None or statistics.high is None or not fits(span, kind):
        return None
    if isinstance(statistics.low, Edge) or isinstance(statistics.high, Edge):
        return None
    grid = Grid(span, kind, ZoneInfo("UTC"))
    ranges = periods(grid, statistics.low, statistics.high, name)
    rows = split_evenly(facts.rows, [share_of(bounds, statistics) or 0.0 for bounds in ranges])
    buckets = tuple(Bucket(bounds, count) for bounds, count in zip(ranges, rows, strict=True))
    return Counts(
        column=name,
        span=span,
        zone="UTC",
        buckets=buckets,
        nulls=round(statistics.null_share * facts.rows),
        is_exact=False,
    )


def weigh_offline(context: Context, table: Name, offline: Offline, sources: Sources, wishes: Wishes) -> Weighing:
    """As `weigh`, from files. Raises UsageError for what only a server can tell."""
    if sources.calibrate or sources.statistics:
        what = "--calibrate" if sources.calibrate else "--statistics"
        raise UsageError(f"{what} asks a server, and --schema works without one", fix="leave one of them out")
    known = _known(context, table, offline)
    context.reading(sources.paths, "reading the workload")
    workload = gathered(sources.paths, None, statistics=False, jobs=context.jobs)
    costs = sources.costs or Costs()
    return weighed(
        context, Known(known.facts, known.schema, ZoneInfo("UTC")), workload, costs, wishes, False, sources.prices
    )
