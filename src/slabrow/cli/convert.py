"""Options of `convert`."""

import argparse
from dataclasses import replace
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, parse_wait, progress, write_script, write_scripts
from slabrow.cli.redividing import add_live
from slabrow.core.values.errors import UsageError
from slabrow.work.context import Context

WAYS = ("live", "locked", "as-is")
LIVE_LOCK_WAIT = "100ms"


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `convert`."""
    parser.add_argument("--old-name", metavar="NAME", help="what the old table is called afterwards; else NAME_before")
    parser.add_argument(
        "--way",
        choices=WAYS,
        default="live",
        help="live: copied while it is read and written (the default); locked: one transaction, writers wait until its "
        "end; as-is: nothing is copied, the table becomes the first partition",
    )
    parser.add_argument(
        "--workload",
        metavar="FILE",
        action="append",
        default=[],
        help="queries or a server log: which statements would break; may be given again",
    )
    parser.add_argument("--statistics", action="store_true", help="the same from the server's statement statistics")
    live = parser.add_argument_group("live")
    add_live(live)
    live.add_argument(
        "--to", metavar="VALUE", help="as-is: where the first partition ends; else computed from the rows"
    )
    which = parser.add_argument_group("a conversion that is under way, or done").add_mutually_exclusive_group()
    which.add_argument("--status", action="store_true", help="say where it stands")
    which.add_argument("--undo", action="store_true", help="bring the old table back, with all that was written since")
    which.add_argument("--give-up", action="store_true", help="take everything away again, before the swap")
    which.add_argument("--drop-old", action="store_true", help="drop the old table that is kept")
    add_common(
        parser,
        changes=True,
        deadline=True,
        lock_wait=None,
        script="write it as SQL instead: a folder of psql files, one for each phase; for --way locked one file",
    )


def run(options: argparse.Namespace) -> int:
    """Runs `convert` and shows its result. Returns the exit code."""
    if options.lock_wait is None:
        options.lock_wait = LIVE_LOCK_WAIT if options.way != "locked" and not options.drop_old else "2s"
    others = options.status or options.undo or options.give_up or options.drop_old
    options.script_is_folder = options.way != "locked" and not others
    if options.to is not None and options.way != "as-is":
        raise UsageError("--to says where the first partition ends", fix="it belongs to --way as-is")
    if options.drop_old and not _has_record(options):
        return _drop_old(options)
    if options.way == "locked" and not others:
        return _locked(options)
    return _live(options)


def _context(options: argparse.Namespace) -> Context:
    deadline = None if options.lock_deadline is None else parse_wait(options.lock_deadline)
    return replace(context(options), lock_deadline_ms=deadline)


def _live(options: argparse.Namespace) -> int:
    asked = _context(options)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.live import LIVE_SHOWN
    from slabrow.show.output import show
    from slabrow.work.pace import parse_speed
    from slabrow.work.reshaping.live import LiveConversion, opened
    from slabrow.work.reshaping.live_result import LiveOptions, LiveResult

    schema = read_ledger_schema(asked.layout_file)
    wait = 0.0 if options.wait_for_snapshots in ("0", "0s") else parse_wait(options.wait_for_snapshots) / 1_000
    settings = LiveOptions(
        speed=parse_speed(options.speed),
        wait_for_snapshots_s=wait,
        pause_before_swap=options.pause_before_swap,
        old_name=options.old_name,
        way=options.way,
        to=options.to,
        workload=tuple(map(Path, options.workload)),
        statistics=options.statistics,
    )

    def ask(conversion: LiveConversion) -> LiveResult:
        if options.status:
            return conversion.status()
        if options.undo:
            return conversion.undo(go=options.go)
        if options.give_up:
            return conversion.give_up(go=options.go)
        if options.drop_old:
            return conversion.let_go(go=options.go)
        return conversion.convert(go=options.go)

    layout = asked.layout()
    if options.script is not None and not options.script_is_folder:
        raise UsageError(
            "--script writes a conversion from its beginning to its end",
            fix="write it before it begins: the way back, letting go and giving up are among its files",
        )
    if options.script is not None:
        with opened(asked, layout, schema, settings, alone=False) as conversion:
            return write_scripts(Path(options.script), conversion.scripts())
    with (
        progress(options, asked) as watched,
        opened(watched, layout, schema, settings, alone=options.go) as conversion,
    ):
        result = ask(conversion)
    show(LIVE_SHOWN, result, options.format, options.save)
    if options.status:
        return FINE
    return FINE if result.is_done else FOUND


def _locked(options: argparse.Namespace) -> int:
    asked = _context(options)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.convert import SHOWN
    from slabrow.show.output import show
    from slabrow.work.convert import convert

    schema = read_ledger_schema(asked.layout_file)

    with progress(options, asked) as watched:
        result = convert(watched, asked.layout(), schema, go=options.go, old_name=options.old_name)
    if options.script is not None:
        return write_script(options, result.transactions, f"Convert {result.layout.table} to {result.layout}", asked)
    show(SHOWN, result, options.format, options.save)
    return FINE if result.is_done else FOUND


def _has_record(options: argparse.Namespace) -> bool:
    """Whether a live conversion of the table is known: then its old table is kept in step, and let go of."""
    asked = _context(options)
    from slabrow.files.layout_file import read_ledger_schema

    if not Path(options.layout).exists():
        return False
    schema = read_ledger_schema(asked.layout_file)
    if schema is None:
        return False
    from slabrow.work.reshaping.live import is_known

    return is_known(asked, asked.table_name(), schema)


def _drop_old(options: argparse.Namespace) -> int:
    asked = _context(options)
    from slabrow.show.convert import DROP_SHOWN
    from slabrow.show.output import show
    from slabrow.work.convert import drop_old

    result = drop_old(asked, asked.table_name(), go=options.go, old_name=options.old_name)
    if options.script is not None:
        return write_script(options, [result.transaction], f"Drop {result.old_name}", asked)
    show(DROP_SHOWN, result, options.format, options.save)
    return FINE if result.is_done else FOUND
