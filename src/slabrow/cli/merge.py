"""Options of `merge`."""

import argparse

from slabrow.cli.redividing import add_shared, run_shared


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `merge`."""
    parser.add_argument(
        "partitions",
        metavar="PARTITION",
        nargs="+",
        help="neighbouring ranges, lists, or hash parts that are one part of a smaller modulus",
    )
    add_shared(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `merge` and shows its result. Returns the exit code."""
    return run_shared(options, options.partitions, None)
