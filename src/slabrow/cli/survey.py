"""Options of `survey`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, context


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", nargs="?", metavar="TABLE", help="the table, as schema.table")
    parser.add_argument(
        "--exact", action="store_true", help="count the rows, in a few scans, instead of asking statistics"
    )
    parser.add_argument(
        "--by", metavar="COLUMN", help="count rows by this column; else the layout's key, else a time column"
    )
    parser.add_argument("--per", metavar="SPAN", help="the period to count by: '1 day', '1 month', 1000000")
    parser.add_argument("--save", metavar="FILE", help="also write the JSON to a file, for `census --against`")
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    asked = context(options, options.name)
    from slabrow.core.spans import parse_span  # here: what follows costs more than all of `slabrow --help`
    from slabrow.files.script import write_file
    from slabrow.show.output import as_json, show
    from slabrow.show.survey import SHOWN
    from slabrow.work.survey import Question, survey

    picture = _picture(options)
    question = Question(options.exact, options.by, parse_span(options.per) if options.per else None)
    result = survey(asked, asked.table_name(), question)
    if options.save:
        write_file(Path(options.save), as_json(SHOWN, result))
    if picture:
        from slabrow.show.picture import draw_survey

        draw_survey(result, picture)
    show(SHOWN, result, options.format)
    return FINE


def _picture(options: argparse.Namespace) -> Path | None:
    if options.picture is None:
        return None
    from slabrow.show.picture import check_picture

    return check_picture(options.picture)
