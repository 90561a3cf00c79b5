"""Options of `forecast`."""

import argparse

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, context, parse_moment


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `forecast`."""
    parser.add_argument(
        "--exact", action="store_true", help="count the rows instead of estimating them from statistics"
    )
    parser.add_argument("--until", metavar="DAY", help="a day to come: with the growth that the statistics show")
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    """Runs `forecast` and shows its result. Returns the exit code."""
    asked = context(options)
    from slabrow.show.forecast import SHOWN, shown
    from slabrow.show.output import show
    from slabrow.show.picture import check_picture, draw_forecast
    from slabrow.work.forecast import forecast

    picture = None if options.picture is None else check_picture(options.picture)
    until = None if options.until is None else parse_moment(options.until, "--until")
    result = forecast(asked, asked.layout(), exact=options.exact, until=until)
    if picture:
        draw_forecast(shown(result), picture, None if result.outlook is None else result.outlook.expected)
    show(SHOWN, result, options.format)
    return FINE
