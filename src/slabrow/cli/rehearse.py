"""Options of `rehearse`."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, add_workload, context, parse_wait, progress
from slabrow.core.values.byte_sizes import parse_size
from slabrow.core.values.errors import UsageError

if TYPE_CHECKING:
    from slabrow.core.table.layout import Layout
    from slabrow.work.context import Context

_MOST_ROWS = 10_000_000_000
_LONGEST_MS = 24 * 3_600_000


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `rehearse`."""
    add_workload(parser)
    rows = parser.add_argument_group("the made-up rows")
    rows.add_argument(
        "--rows", metavar="N", type=int, help="rows of the made-up table (default: as the real one, up to 5,000,000)"
    )
    rows.add_argument("--with-values", action="store_true", help="take real values over from the statistics")
    day = parser.add_argument_group("the played day")
    day.add_argument("--for", dest="length", metavar="TIME", default="2min", help="how long the day is played (2min)")
    day.add_argument("--curve", metavar="FILE", help="the load of each hour: 24 numbers; else busy by day")
    day.add_argument(
        "--rate",
        metavar="N",
        type=float,
        help="statements a second (default: as on the real server, at least 20, at most 400)",
    )
    place = parser.add_argument_group("where it takes place")
    place.add_argument("--scratch", metavar="URL", help="a server for it; else a private one is started")
    place.add_argument("--here", action="store_true", help="--scratch may hold other tables, even the real one")
    place.add_argument(
        "--memory",
        metavar="SIZE",
        help="of the private server (default: the same share of the table as the real one's)",
    )
    place.add_argument(
        "--tables-only", action="store_true", help="make the tables on --scratch, play nothing, and leave them there"
    )
    add_common(parser, picture=True, many_layouts=True)


def run(options: argparse.Namespace) -> int:
    """Runs `rehearse` and shows its result. Returns the exit code."""
    asked = context(options)
    length_ms = parse_wait(options.length)
    _check(options, length_ms)
    from slabrow.core.rehearsal.played_day import BUILT_IN, Curve
    from slabrow.files.curve_file import read_curve
    from slabrow.show.output import show
    from slabrow.show.rehearse import SHOWN
    from slabrow.work.rehearsal.rehearse import Question, rehearse

    picture = None
    if options.picture is not None:
        from slabrow.show.picture import check_picture

        picture = check_picture(options.picture)
    layouts = _layouts(options, asked)
    table = asked.table_name() if asked.table is not None else layouts[0].table
    question = Question(
        layouts=layouts,
        workload=tuple(map(Path, options.workload)),
        statistics=options.statistics,
        rows=options.rows,
        seconds=length_ms / 1_000,
        curve=Curve(BUILT_IN if options.curve is None else read_curve(Path(options.curve))),
        rate=options.rate,
        scratch=options.scratch,
        here=options.here,
        with_values=options.with_values,
        memory_bytes=None if options.memory is None else parse_size(options.memory),
        leaves_tables=options.tables_only,
    )
    with progress(options, asked) as watched:
        result = rehearse(watched, table, question)
    if picture is not None and result.layouts:
        from slabrow.show.latency import draw_rehearsal

        draw_rehearsal(result, picture)
    show(SHOWN, result, options.format, options.save)
    return FINE


def _check(options: argparse.Namespace, length_ms: int) -> None:
    if not options.workload and not options.statistics:
        raise UsageError(
            "no workload is given", fix="give a query file or a server log with --workload FILE, or --statistics"
        )
    if options.rows is not None and not 1_000 <= options.rows <= _MOST_ROWS:
        raise UsageError(f"--rows {options.rows} is out of range", fix=f"give 1000 to {_MOST_ROWS}")
    if not 5_000 <= length_ms <= _LONGEST_MS:
        raise UsageError(f"--for {options.length} is no length of a day to play", fix="give 5s to 24h")
    if options.rate is not None and not 0.1 <= options.rate <= 100_000:
        raise UsageError(f"--rate {options.rate:g} is out of range", fix="give statements a second, such as 50")
    if options.tables_only and options.scratch is None:
        raise UsageError(
            "a private server ends with the rehearsal, and its tables with it",
            fix="say where the tables are to stay: --scratch URL",
        )
    if options.here and options.scratch is None:
        raise UsageError("--here is about --scratch", fix="say which server: --scratch URL --here")
    if options.memory is not None and options.scratch is not None:
        raise UsageError("--memory is of a private server", fix="leave --memory or --scratch out")


def _layouts(options: argparse.Namespace, asked: "Context") -> "tuple[Layout, ...]":
    """Those of the table in each file that is named. Raises UsageError without one."""
    from dataclasses import replace

    found: list[Layout] = []
    for name in options.layouts:
        found += replace(asked, layout_file=Path(name)).layouts()
    tables = {layout.table for layout in found}
    if len(tables) > 1:
        raise UsageError(
            "the layout files are about several tables",
            found=", ".join(sorted(map(str, tables))),
            fix="name one: slabrow rehearse TABLE",
        )
    if len({str(layout) for layout in found}) < len(found):
        raise UsageError("two of the layouts are the same", fix="name each once with --layout FILE")
    return tuple(found)
