"""Options of `forecast`."""

import argparse

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, context


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--exact", action="store_true", help="count the rows instead of estimating them from statistics"
    )
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    asked = context(options)
    from slabrow.show.forecast import SHOWN
    from slabrow.show.output import show
    from slabrow.show.picture import check_picture, draw_forecast
    from slabrow.work.forecast import forecast

    picture = None if options.picture is None else check_picture(options.picture)
    result = forecast(asked, asked.layout(), exact=options.exact)
    if picture:
        draw_forecast(result, picture)
    show(SHOWN, result, options.format)
    return FINE
