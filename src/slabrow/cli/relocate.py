"""Options of `relocate`."""

import argparse
from dataclasses import replace
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import context, parse_wait, progress
from slabrow.cli.redividing import Relocating, add_shared, run_shared
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `relocate`."""
    add = parser.add_argument
    add("partitions", metavar="PARTITION", nargs="+", help="partitions of one table, as schema.name")
    add("--to-tablespace", metavar="NAME", help="where their rows and indexes are to lie")
    add(
        "--elsewhere", metavar="NAME", help="the server that is to hold their rows: an [[elsewhere]] of the layout file"
    )
    add(
        "--give-up-key",
        action="store_true",
        help="with --elsewhere: the table may lose its keys, which it cannot keep; each partition gets one of its own",
    )
    add(
        "--still-written",
        action="store_true",
        help="with --elsewhere: move a partition that rows are written to, though commits on two servers are not one",
    )
    add(
        "--workload",
        metavar="FILE",
        action="append",
        help="with --elsewhere: say which statements of a query file or a server log will fail; may be given again",
    )
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
    targets = [name for name in ("to_tablespace", "elsewhere") if getattr(options, name) is not None]
    if others and targets:
        raise UsageError(f"--{targets[0].replace('_', '-')} begins a move, and one that has begun knows where to",
                         fix="leave it out")  # fmt: skip
    if others:
        return run_shared(options, options.partitions, None, Relocating())
    if not targets:
        raise UsageError(
            "nothing says where to", fix="name a tablespace: --to-tablespace NAME; or a server: --elsewhere NAME"
        )
    if len(targets) > 1:
        raise UsageError("--to-tablespace and --elsewhere exclude each other", fix="give one of them")
    if options.elsewhere is None and (options.give_up_key or options.still_written or options.workload):
        raise UsageError("--give-up-key, --still-written and --workload go with --elsewhere", fix="leave them out")
    if options.elsewhere is not None:
        if options.way == "direct":
            raise UsageError("a partition goes to another server while it is used", fix="leave --way out")
        if options.script is not None:
            raise UsageError(
                "a move to another server is not written as a script",
                found="rows go from connection to connection, which psql cannot do",
                fix="do it with --go; without --go every statement is shown",
            )
        if (mended := _mended(options)) is not None:
            return mended
        if len(options.partitions) > 1:
            raise UsageError("partitions go to another server one at a time", fix="name one")
        files = tuple(map(Path, options.workload or ()))
        moved = Relocating(None, options.elsewhere, options.give_up_key, options.still_written, files)
        return run_shared(options, options.partitions, None, moved)
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
        return run_shared(options, options.partitions, None, Relocating(options.to_tablespace))
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


def _mended(options: argparse.Namespace) -> int | None:
    """Mends the tables of partitions that lie on that server already. None when no table there differs."""
    from slabrow.core.values.names import parse_name
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.output import show
    from slabrow.show.redivision import SHOWN
    from slabrow.work.mending_elsewhere import mend_elsewhere

    asked = context(options)
    names, schema = [parse_name(name) for name in options.partitions], read_ledger_schema(asked.layout_file)
    with progress(options, asked) as watched:
        result = mend_elsewhere(watched, schema, names, options.elsewhere, go=options.go)
    if result is None:
        return None
    show(SHOWN["relocate"], result, options.format, options.save)
    return FINE if result.is_done else FOUND
