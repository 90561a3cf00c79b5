"""Options of `compare`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, context, parse_wait, progress


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `compare`."""
    parser.add_argument(
        "--with",
        dest="before",
        metavar="TABLE",
        required=True,
        help="the other table: what it was before, or another layout of the same rows",
    )
    parser.add_argument("--queries", metavar="FILE.sql", required=True, help="SQL statements ended by `;`")
    parser.add_argument(
        "--timeout", metavar="TIME", default="60s", help="the longest that one query may take (default 60s)"
    )
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `compare` and shows its result. Returns the exit code."""
    asked = context(options)
    timeout_ms = parse_wait(options.timeout)
    from slabrow.core.values.names import parse_name
    from slabrow.files.query_file import read_queries
    from slabrow.show.compare import SHOWN
    from slabrow.show.output import show
    from slabrow.work.compare import compare

    before = parse_name(options.before)
    queries = read_queries(Path(options.queries))
    with progress(options, asked) as watched:
        result = compare(watched, asked.table_name(), before, queries, timeout_ms=timeout_ms)
    show(SHOWN, result, options.format)
    return FINE
