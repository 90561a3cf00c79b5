"""Options of `survey`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE
from slabrow.cli.common import (
    add_common,
    add_jobs,
    add_offline,
    check_grown,
    context,
    offline_source,
    parse_moment,
    progress,
)
from slabrow.core.values.errors import UsageError
from slabrow.work.context import Context


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `survey`."""
    parser.add_argument(
        "--exact", action="store_true", help="count the rows, in a few scans, instead of asking statistics"
    )
    parser.add_argument(
        "--by", metavar="COLUMN", help="count rows by this column; else the layout's key, else a time column"
    )
    parser.add_argument("--per", metavar="SPAN", help="the period to count by: '1 day', '1 month', 1000000")
    parser.add_argument(
        "--as-of", metavar="DAY", help="say also what it will hold on that day, by the growth it has shown"
    )
    parser.add_argument("--grown", metavar="TIMES", type=float, help="say also what it is with so many times the rows")
    parser.add_argument("--sample", metavar="PERCENT", type=float, help="read so many of a hundred blocks instead")
    source = parser.add_argument_group("the workload, to tell how data ages")
    source.add_argument("--workload", metavar="FILE", action="append", default=[], help="a query file or a server log")
    source.add_argument("--statistics", action="store_true", help="also the server's statement statistics")
    add_jobs(source)
    parser.add_argument(
        "--all", action="store_true", help="every table of the database at a glance, and what to do next"
    )
    add_offline(parser)
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    """Runs `survey` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.all or (asked.table is None and not asked.layout_file.exists() and options.schema is None):
        return _at_a_glance(options, asked)
    from slabrow.core.table.spans import parse_span  # here: what follows costs more than all of `slabrow --help`
    from slabrow.show.output import show
    from slabrow.show.survey import SHOWN
    from slabrow.work.survey import Question, survey

    picture = _picture(options)
    if options.sample is not None and (options.exact or not 0 < options.sample <= 100):
        raise UsageError(
            f"--sample {options.sample:g} cannot be taken",
            found="--exact counts every row" if options.exact else "it is a share of a hundred",
            fix="leave --exact out" if options.exact else "give more than 0 and at most 100",
        )
    check_grown(options.grown)
    question = Question(
        exact=options.exact,
        column=options.by,
        per=parse_span(options.per) if options.per else None,
        percent=options.sample,
        workload=tuple(map(Path, options.workload)),
        statistics=options.statistics,
        as_of=None if options.as_of is None else parse_moment(options.as_of, "--as-of"),
        times=options.grown,
    )
    offline = offline_source(options)
    if offline is None:
        with progress(options, asked) as watched:
            result = survey(watched, asked.table_name(), question)
    else:
        from slabrow.work.weighing.offline import survey_offline

        with progress(options, asked) as watched:
            result = survey_offline(watched, asked.table_name(), offline, question)
    if picture:
        from slabrow.show.picture import draw_survey

        draw_survey(result, picture)
    show(SHOWN, result, options.format, options.save)
    return FINE


def _at_a_glance(options: argparse.Namespace, asked: Context) -> int:
    """Every table of the database."""
    given = {"--by": options.by, "--per": options.per, "--sample": options.sample, "--exact": options.exact,
             "--picture": options.picture}  # fmt: skip
    wrong = [name for name, value in given.items() if value]
    if wrong or asked.table is not None:
        raise UsageError(
            f"{wrong[0] if wrong else '--all'} is about one table" if wrong else "--all is about all tables",
            fix="name a table: slabrow survey SCHEMA.TABLE" if wrong else "leave out the table or --all",
        )
    from slabrow.show.output import show
    from slabrow.show.overview import OVERVIEW
    from slabrow.work.overview import overview

    result = overview(asked)
    show(OVERVIEW, result, options.format, options.save)
    return FINE


def _picture(options: argparse.Namespace) -> Path | None:
    if options.picture is None:
        return None
    from slabrow.show.picture import check_picture

    return check_picture(options.picture)
