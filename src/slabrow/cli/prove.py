"""Options of `prove`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, parse_wait, progress


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--queries",
        metavar="FILE.sql",
        required=True,
        help="SQL statements ended by `;`, with `-- name:`, `-- touches: <= 2`, `-- params:`, `-- weight:` above",
    )
    parser.add_argument(
        "--run",
        dest="execute",
        action="store_true",
        help="also run the queries that only read, in read-only transactions that are rolled back",
    )
    parser.add_argument("--at-most", metavar="N", type=int, help="a limit for the queries that bring none of their own")
    parser.add_argument(
        "--timeout", metavar="TIME", default="30s", help="the longest that one query may take (default 30s)"
    )
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    asked = context(options)
    timeout_ms = parse_wait(options.timeout)
    from slabrow.files.query_file import read_queries
    from slabrow.show.output import show
    from slabrow.show.prove import SHOWN
    from slabrow.work.prove import prove

    queries = read_queries(Path(options.queries))
    with progress(options, asked) as watched:
        result = prove(watched, queries, execute=options.execute, at_most=options.at_most, timeout_ms=timeout_ms)
    show(SHOWN, result, options.format)
    return FOUND if result.broken else FINE
