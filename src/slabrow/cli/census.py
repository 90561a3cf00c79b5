"""Options of `census`."""

import argparse
from dataclasses import replace
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, progress
from slabrow.core.values.errors import UsageError
from slabrow.work.context import Context

_MOST_ROWS = 10_000


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `census`."""
    parser.add_argument("--exact", action="store_true", help="count the rows of every partition")
    parser.add_argument(
        "--against", metavar="FILE", help="compare with the counts of an earlier `survey --exact --save FILE`"
    )
    parser.add_argument(
        "--first", metavar="N", type=int, help="instead: some rows of one partition, which is then named as TABLE"
    )
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `census` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.first is not None:
        return _first(options, asked)
    from slabrow.show.census import SHOWN
    from slabrow.show.output import show
    from slabrow.work.census import census

    against = Path(options.against) if options.against else None
    with progress(options, asked) as watched:
        table = asked.table_name()
        layout = replace(asked, table=str(table)).layout_or_none()
        result = census(watched, table, exact=options.exact, against=against, layout=layout)
    show(SHOWN, result, options.format, options.save)
    return FOUND if result.findings else FINE


def _first(options: argparse.Namespace, asked: Context) -> int:
    from slabrow.show.output import show
    from slabrow.show.where import FIRST_SHOWN
    from slabrow.work.find_rows import first_rows

    if options.exact or options.against:
        raise UsageError("--first shows rows and counts none", fix="leave --exact and --against out")
    if not 1 <= options.first <= _MOST_ROWS:
        raise UsageError(f"--first {options.first} is out of range", fix=f"give 1 to {_MOST_ROWS}")
    show(FIRST_SHOWN, first_rows(asked, asked.table_name(), options.first), options.format, options.save)
    return FINE
