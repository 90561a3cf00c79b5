"""Options of `weigh`."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE
from slabrow.cli.common import (
    add_common,
    add_offline,
    add_prices,
    add_workload,
    check_grown,
    context,
    offline_source,
    parse_moment,
    prices,
    progress,
    remark,
)
from slabrow.core.values.byte_sizes import parse_size
from slabrow.core.values.errors import UsageError

if TYPE_CHECKING:
    from slabrow.core.weighing.candidates import Wishes


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `weigh`."""
    add_workload(parser)
    wishes = parser.add_argument_group("what is weighed")
    wishes.add_argument("--key", metavar="COLUMN[,COLUMN]", action="append", default=[], help="weigh only these keys")
    wishes.add_argument("--not", dest="barred", metavar="COLUMN", action="append", default=[], help="never this column")
    wishes.add_argument("--by", choices=("range", "list", "hash"), action="append", default=[], help="only these ways")
    wishes.add_argument("--span", metavar="SPAN", action="append", default=[], help="spans to weigh, as `1 month`")
    wishes.add_argument("--parts", metavar="N", type=int, action="append", default=[], help="numbers of parts to weigh")
    wishes.add_argument("--keep", metavar="SPAN", help="how long rows are kept: retiring them is weighed too")
    wishes.add_argument(
        "--size",
        metavar="SIZE",
        help="the most that a partition should hold, as 20GB; else what memory holds and the disk rebuilds in time",
    )
    wishes.add_argument("--ceiling", metavar="N", type=int, default=1_000, help="the most partitions (default 1000)")
    wishes.add_argument("--zone", metavar="NAME", default="UTC", help="where days and months begin (default UTC)")
    later = parser.add_argument_group("the table as it will be")
    later.add_argument("--grown", metavar="TIMES", type=float, help="weigh it with so many times the rows, too")
    later.add_argument("--as-of", metavar="DAY", help="weigh it as it will be on that day, by the growth it has shown")
    model = parser.add_argument_group("the cost model")
    model.add_argument(
        "--memory",
        metavar="SIZE",
        help="what tables can be found in without a disk; else the server's settings, or 16GB without a server",
    )
    add_prices(model)
    model.add_argument("--calibrate", action="store_true", help="measure its constants on this server first")
    model.add_argument("--costs", metavar="FILE", help="read its constants from a file; with --calibrate, write them")
    add_offline(parser)
    result = parser.add_argument_group("the layout")
    result.add_argument("--write", metavar="FILE", help="write the best layout to a new layout file")
    result.add_argument("--choose", metavar="RANK", type=int, help="with --write: the layout of this rank instead")
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    """Runs `weigh` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.choose is not None and options.write is None:
        raise UsageError("--choose says which layout --write writes", fix="add --write FILE, or leave --choose out")
    from slabrow.files.costs_file import read_costs, write_costs
    from slabrow.files.writing import check_writable
    from slabrow.show.output import show
    from slabrow.show.weigh import SHOWN, written_notes
    from slabrow.work.weighing.weigh import Sources, chosen, weigh

    wishes = _wishes(options)
    target = _new_file(options.write)
    picture = None
    if options.picture is not None:
        from slabrow.show.picture import check_picture
        from slabrow.show.tradeoff import draw_weighing

        picture = check_picture(options.picture)
    if options.costs is not None and options.calibrate:
        check_writable(options.costs, "--costs")
    costs = read_costs(Path(options.costs)) if options.costs is not None and not options.calibrate else None
    sources = Sources(tuple(map(Path, options.workload)), options.statistics, options.calibrate, costs, prices(options))
    offline = offline_source(options)
    with progress(options, asked) as watched:
        if offline is None:
            result = weigh(watched, asked.table_name(), sources, wishes)
        else:
            from slabrow.work.weighing.offline import weigh_offline

            result = weigh_offline(watched, asked.table_name(), offline, sources, wishes)
    if options.costs is not None and options.calibrate:
        write_costs(Path(options.costs), result.costs, result.product)
    if picture is not None:
        draw_weighing(result, picture)
    show(SHOWN, result, options.format, options.save)
    if target is not None:
        from slabrow.files.layout_file import layout_text
        from slabrow.files.writing import write_file

        layout = chosen(result.verdict, options.choose)
        write_file(target, layout_text(layout, written_notes(layout, options.zone != "UTC")))
        remark(f"{target} is written: {layout}")
    return FINE


def _new_file(name: str | None) -> Path | None:
    from slabrow.files.writing import check_writable

    if name is None:
        return None
    path = check_writable(name, "--write")
    if path.exists():
        raise UsageError(f"{path} exists already", fix="name a new file: a layout file may hold other layouts too")
    return path


def _wishes(options: argparse.Namespace) -> "Wishes":
    from slabrow.core.table.spans import parse_span
    from slabrow.core.values.method import By
    from slabrow.core.values.zones import parse_zone
    from slabrow.core.weighing.candidates import Wishes

    parse_zone(options.zone)
    if options.ceiling < 2 or any(parts < 2 for parts in options.parts):
        raise UsageError("--parts must be at least 2", fix="give 2 or more")
    check_grown(options.grown)
    if options.grown is not None and options.as_of is not None:
        raise UsageError("--grown and --as-of say two things", fix="give one of them")
    return Wishes(
        keys=tuple(tuple(part.strip() for part in key.split(",")) for key in options.key),
        bys=tuple(By(by) for by in options.by),
        spans=tuple(parse_span(span) for span in options.span),
        parts=tuple(options.parts),
        barred=frozenset(options.barred),
        keep=None if options.keep is None else parse_span(options.keep),
        target_bytes=None if options.size is None else parse_size(options.size),
        memory_bytes=None if options.memory is None else parse_size(options.memory),
        grown=options.grown,
        as_of=None if options.as_of is None else parse_moment(options.as_of, "--as-of"),
        ceiling=options.ceiling,
        zone=options.zone,
    )
