"""Options of `build`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, progress, write_script


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `build`."""
    parser.add_argument("--schema", metavar="FILE.sql", help="CREATE TABLE for the columns, keys and indexes")
    parser.add_argument("--like", metavar="TABLE", help="take columns, keys and indexes from this table")
    add_common(parser, changes=True)


def run(options: argparse.Namespace) -> int:
    """Runs `build` and shows its result. Returns the exit code."""
    asked = context(options)
    from slabrow.core.values.errors import UsageError
    from slabrow.core.values.names import parse_name
    from slabrow.show.build import SHOWN
    from slabrow.show.output import show
    from slabrow.work.build import Source, build

    if options.schema and options.like:
        raise UsageError("--schema and --like exclude each other", fix="give one of them")
    source = Source(
        Path(options.schema) if options.schema else None, parse_name(options.like) if options.like else None
    )
    with progress(options, asked) as watched:
        result = build(watched, asked.layout(), source, go=options.go)
    if options.script is not None:
        return write_script(options, result.transactions, f"Build {result.layout.table} by {result.layout}", asked)
    show(SHOWN, result, options.format, options.save)
    return FINE if result.is_done or not result.transactions else FOUND
