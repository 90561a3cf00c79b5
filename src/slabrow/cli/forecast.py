"""Options of `forecast`."""

import argparse

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, check_grown, context, parse_moment, progress
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `forecast`."""
    parser.add_argument(
        "--exact", action="store_true", help="count the rows instead of estimating them from statistics"
    )
    parser.add_argument(
        "--until", "--as-of", metavar="DAY", help="a day to come: with the growth that the statistics show"
    )
    parser.add_argument("--grown", metavar="TIMES", type=float, help="with so many times the rows in each partition")
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    """Runs `forecast` and shows its result. Returns the exit code."""
    asked = context(options)
    from slabrow.show.forecast import SHOWN, shown
    from slabrow.show.output import show
    from slabrow.show.picture import check_picture, draw_forecast
    from slabrow.work.forecast import forecast

    picture = None if options.picture is None else check_picture(options.picture)
    check_grown(options.grown)
    if options.grown is not None and options.until is not None:
        raise UsageError("--grown and --until say two things", fix="give one of them")
    until = None if options.until is None else parse_moment(options.until, "--until")
    with progress(options, asked) as watched:
        result = forecast(watched, asked.layout(), exact=options.exact, until=until, times=options.grown)
    if picture:
        draw_forecast(shown(result), picture, None if result.outlook is None else result.outlook.expected)
    show(SHOWN, result, options.format, options.save)
    return FINE
