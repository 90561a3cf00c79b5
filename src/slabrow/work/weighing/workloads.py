"""Reads the workload from wherever it is: query files, server logs, the server's statement statistics (N37)."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from slabrow.core.sql.mentions import tables_in
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.statement_shapes import filled
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.core.weighing.workload import Collector, Workload, merged
from slabrow.files.query_file import FileQuery, read_queries
from slabrow.files.server_log import looks_like_log, read_log
from slabrow.files.statement_log import is_statement_log, read_statement_log
from slabrow.servers.protocols import Session


def gathered(paths: Sequence[Path], session: Session | None, *, statistics: bool, jobs: int | None = None) -> Workload:
    """All sources as one workload. session: None offline; then logs are read for every database.

    statistics   also the server's statement statistics
    jobs         processes that read a log side by side; None: one for each core
    Raises UsageError when no source is given, or one cannot be read.
    """
    if not paths and not statistics:
        raise UsageError(
            "no workload is given",
            found="the best layout depends on the queries that run",
            fix="give a query file or a server log with --workload FILE, or --statistics for the server's own",
        )
    database = session.database if session is not None else None
    found = [_read(path, database, jobs) for path in paths]
    if statistics and session is not None:
        with session.reading("read the statement statistics"):
            found.append(session.planner.read_statistics())
    return merged(found)


def as_queries(workload: Workload) -> tuple[FileQuery, ...]:
    """Every shape as one of its runs, with its runs a day as the weight; those whose values are gone have none."""
    return tuple(
        FileQuery(
            name=shape.name,
            sql=filled(shape.marked, shape.runs[0].literals),
            line=0,
            limit=None,
            params=shape.runs[0].params or (),
            weight=shape.weight,
        )
        if shape.runs
        else FileQuery(shape.name, shape.marked, 0, weight=shape.weight)
        for shape in workload.shapes
    )


def named_tables(session: Session, workload: Workload, table: Name) -> Schema:
    """The columns of every table that the workload names; the search path is taken to lead to the table's schema."""
    names = {name for shape in workload.shapes for name in tables_in(shape.marked) or ()}
    schema = session.catalogue.schema({*names, table})
    path = schema.search_path if table.schema in schema.search_path else (*schema.search_path, table.schema or "public")
    return replace(schema, search_path=path)


def _read(path: Path, database: str | None, jobs: int | None) -> Workload:
    if path.suffix != ".sql" and is_statement_log(path):
        return read_statement_log(path, database)
    if path.suffix != ".sql" and looks_like_log(path):
        return read_log(path, database, jobs)
    collector = Collector()
    for query in read_queries(path, "--workload"):
        collector.add_named(query.name, query.sql, query.weight, query.params)
    return collector.workload(path.name)
