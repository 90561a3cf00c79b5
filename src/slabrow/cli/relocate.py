"""Options of `relocate`."""

import argparse
from dataclasses import replace

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import context, parse_wait, progress
from slabrow.cli.redividing import add_shared, run_shared
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `relocate`."""
    add = parser.add_argument
    add("partitions", metavar="PARTITION", nargs="+", help="partitions of one table, as schema.name")
    add("--to-tablespace", metavar="NAME", help="where their rows and indexes are to lie")
    add(
        "--way",
        choices=("direct", "live"),
        help="direct: the server moves it, and whoever needs the partition waits for the copy of its rows; live: it is "
        "copied while it is used (default: direct for ranges that are no longer written to, else live)",
    )
    add_shared(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `relocate` and shows its result. Returns the exit code."""
    others = options.status or options.undo or options.give_up or options.drop_old
    if others and options.to_tablespace is not None:
        raise UsageError("--to-tablespace begins a move, and one that has begun knows where to", fix="leave it out")
    if others:
        return run_shared(options, options.partitions, None, relocates=True)
    if options.to_tablespace is None:
        raise UsageError("nothing says where to", fix="name a tablespace: --to-tablespace NAME")
    from slabrow.core.values.names import parse_name
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.output import show
    from slabrow.show.redivision import SHOWN
    from slabrow.work.relocate import relocate_directly, usual_way

    options.script_is_folder = True
    deadline = None if options.lock_deadline is None else parse_wait(options.lock_deadline)
    asked = replace(context(options), lock_deadline_ms=deadline)
    names = [parse_name(name) for name in options.partitions]
    way = options.way or usual_way(asked, names)
    if way == "live":
        if len(names) > 1:
            raise UsageError(
                "partitions in use are moved one at a time", fix="name one; or --way direct, which makes readers wait"
            )
        return run_shared(options, options.partitions, None, relocates=True, tablespace=options.to_tablespace)
    if options.script is not None:
        raise UsageError(
            "a direct move is not written as a script",
            fix="--format json lists its statements; or write the other way: --way live",
        )
    with progress(options, asked) as watched:
        result = relocate_directly(
            watched, read_ledger_schema(asked.layout_file), names, options.to_tablespace, go=options.go
        )
    show(SHOWN["relocate"], result, options.format, options.save)
    return FINE if result.is_done else FOUND
