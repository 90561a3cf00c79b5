"""Options of `route`."""

import argparse

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "values", nargs="+", metavar="VALUE", help="a key; its columns are separated by commas, an empty one is NULL"
    )
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    asked = context(options)
    from slabrow.show.output import show
    from slabrow.show.route import SHOWN
    from slabrow.work.route import route

    result = route(asked, asked.table_name(), options.values)
    show(SHOWN, result, options.format)
    return FOUND if any(each.partition is None for each in result.routes) else FINE
