"""Options of `split`."""

import argparse

from slabrow.cli.redividing import add_shared, run_shared


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `split`."""
    add = parser.add_argument
    add("partition", metavar="PARTITION", help="the partition, as schema.name; a hash part becomes two")
    add("--at", metavar="VALUE", nargs="+", default=[], help="of a range: cut before each of these keys")
    add("--span", metavar="SPAN", help="of a range, or of the catch-all of ranges: cut by months, days, …: '7 days'")
    add(
        "--values",
        metavar="VALUE",
        nargs="+",
        default=[],
        help="of a list, or of the catch-all of lists: these values into a partition of their own; NULL is no value",
    )
    add_shared(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `split` and shows its result. Returns the exit code."""
    from slabrow.work.reshaping.redivision_plan import SplitOptions

    how = SplitOptions(at=tuple(options.at), span=options.span, values=tuple(options.values))
    return run_shared(options, [options.partition], how)
