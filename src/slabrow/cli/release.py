"""Options of `release`."""

import argparse

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `release`."""
    add = parser.add_argument
    add("partition", metavar="PARTITION", help="the partition, as schema.name")
    add("--to", metavar="SCHEMA", help="the schema it goes to; else it stays where it is")
    add("--keep-check", action="store_true", help="keep a check of its bounds: it can come back in an instant")
    add("--even-the-newest", action="store_true", help="also the partition with the newest rows")
    add_common(parser, table=False, changes=True, lock_wait="100ms")


def run(options: argparse.Namespace) -> int:
    """Runs `release` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.script is not None:
        raise UsageError("what `release` does is not written as a script", fix="do it with --go")
    from slabrow.core.values.names import parse_name
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.membership import SHOWN
    from slabrow.show.output import show
    from slabrow.work.membership import release

    result = release(
        asked, read_ledger_schema(asked.layout_file), parse_name(options.partition), target=options.to,
        keeps=options.keep_check, also_newest=options.even_the_newest, go=options.go,
    )  # fmt: skip
    show(SHOWN["release"], result, options.format, options.save)
    return FINE if result.is_done else FOUND
