"""Options of `census`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `census`."""
    parser.add_argument("--exact", action="store_true", help="count the rows of every partition")
    parser.add_argument(
        "--against", metavar="FILE", help="compare with the counts of an earlier `survey --exact --save FILE`"
    )
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `census` and shows its result. Returns the exit code."""
    asked = context(options)
    from slabrow.show.census import SHOWN
    from slabrow.show.output import show
    from slabrow.work.census import census

    result = census(
        asked, asked.table_name(), exact=options.exact, against=Path(options.against) if options.against else None
    )
    show(SHOWN, result, options.format)
    return FOUND if result.findings else FINE
