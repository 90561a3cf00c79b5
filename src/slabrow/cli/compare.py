"""Options of `compare`."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, add_only, add_prices, context, parse_wait, prices, progress
from slabrow.core.values.errors import UsageError

if TYPE_CHECKING:
    from slabrow.work.compare import Comparison, Question
    from slabrow.work.context import Context


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `compare`."""
    sides = parser.add_argument_group("the two sides")
    sides.add_argument(
        "--with",
        dest="before",
        metavar="TABLE",
        help="the other table: what it was before, or another layout of the same rows; without it, TABLE is measured "
        "alone, to be saved",
    )
    sides.add_argument("--with-dsn", metavar="URL", help="the server of the other table, where that is another one")
    sides.add_argument("--with-saved", metavar="FILE", help="what an earlier run has saved stands for the other table")
    sides.add_argument("--saved", metavar="FILE", help="what an earlier run has saved stands for TABLE, too")
    asking = parser.add_argument_group("the queries")
    asking.add_argument("--queries", metavar="FILE.sql", help="SQL statements ended by `;`")
    add_only(asking)
    asking.add_argument("--times", metavar="N", type=int, default=5, help="runs of each on each side (default 5)")
    asking.add_argument(
        "--timeout", metavar="TIME", default="60s", help="the longest that one query may take (default 60s)"
    )
    rows = parser.add_argument_group("the rows")
    rows.add_argument("--estimate-rows", action="store_true", help="trust the planner's estimates, count nothing")
    rows.add_argument(
        "--despite-rows", action="store_true", help="show each query although the tables hold other rows; no sums"
    )
    add_prices(parser)
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `compare` and shows its result. Returns the exit code."""
    asked = context(options)
    timeout_ms = parse_wait(options.timeout)
    if not 1 <= options.times <= 1_000:
        raise UsageError(f"--times {options.times} is no number of runs", fix="give 1 to 1000")
    from dataclasses import replace

    from slabrow.show.compare import SHOWN
    from slabrow.show.output import show
    from slabrow.work.compare import Question

    question = Question(
        times=options.times,
        timeout_ms=timeout_ms,
        trusts_estimates=options.estimate_rows,
        takes_other_rows=options.despite_rows,
    )
    priced = prices(options)
    result = _saved(options, asked, question) if options.saved is not None else _run(options, asked, question)
    show(SHOWN, replace(result, prices=priced), options.format, options.save)
    return FINE


def _run(options: argparse.Namespace, asked: "Context", question: "Question") -> "Comparison":
    from slabrow.core.values.names import parse_name
    from slabrow.files.query_file import chosen_queries, read_queries
    from slabrow.work.compare import compare, compare_measurements, measurement_of, read_measurement

    if options.queries is None:
        raise UsageError("--queries is missing", fix="name the file of the queries: --queries workload.sql")
    if options.with_saved is not None and (options.before is not None or options.with_dsn is not None):
        raise UsageError("--with-saved stands for the other table", fix="leave --with and --with-dsn out")
    if options.with_dsn is not None and options.before is None:
        raise UsageError("--with-dsn says where the other table is", fix="name it: --with TABLE")
    earlier = None if options.with_saved is None else read_measurement(Path(options.with_saved), "--with-saved")
    before = None if options.before is None else parse_name(options.before)
    queries = chosen_queries(read_queries(Path(options.queries)), options.only)
    with progress(options, asked) as watched:
        result = compare(watched, asked.table_name(), before, queries, question, before_dsn=options.with_dsn)
    return result if earlier is None else compare_measurements(earlier, measurement_of(result), question, result.left)


def _saved(options: argparse.Namespace, asked: "Context", question: "Question") -> "Comparison":
    from slabrow.work.compare import compare_measurements, read_measurement

    given = {
        "TABLE": asked.table,
        "--queries": options.queries,
        "--with": options.before,
        "--with-dsn": options.with_dsn,
    }
    for name, value in given.items():
        if value is not None:
            raise UsageError(f"--saved stands for {name} too", fix=f"leave {name} out")
    if options.with_saved is None:
        raise UsageError("--saved is one side", fix="name the other one: --with-saved FILE")
    before = read_measurement(Path(options.with_saved), "--with-saved")
    return compare_measurements(before, read_measurement(Path(options.saved), "--saved"), question)
