"""Options of `convert`."""

import argparse

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, progress, write_script


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `convert`."""
    parser.add_argument(
        "--old-name", metavar="NAME", help="what the plain table is called afterwards; else NAME_before"
    )
    parser.add_argument(
        "--way",
        choices=("locked",),
        default="locked",
        help="locked: one transaction; readers go on, writers wait until its end (the only way so far)",
    )
    parser.add_argument("--drop-old", action="store_true", help="drop the plain table that an earlier conversion kept")
    add_common(parser, changes=True)


def run(options: argparse.Namespace) -> int:
    """Runs `convert` and shows its result. Returns the exit code."""
    return _drop_old(options) if options.drop_old else _convert(options)


def _convert(options: argparse.Namespace) -> int:
    asked = context(options)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.convert import SHOWN
    from slabrow.show.output import show
    from slabrow.work.convert import convert

    schema = read_ledger_schema(asked.layout_file)

    with progress(options, asked) as watched:
        result = convert(watched, asked.layout(), schema, go=options.go, old_name=options.old_name)
    if options.script is not None:
        return write_script(options, result.transactions, f"Convert {result.layout.table} to {result.layout}", asked)
    show(SHOWN, result, options.format)
    return FINE if result.is_done else FOUND


def _drop_old(options: argparse.Namespace) -> int:
    asked = context(options)
    from slabrow.show.convert import DROP_SHOWN
    from slabrow.show.output import show
    from slabrow.work.convert import drop_old

    result = drop_old(asked, asked.table_name(), go=options.go, old_name=options.old_name)
    if options.script is not None:
        return write_script(options, [result.transaction], f"Drop {result.old_name}", asked)
    show(DROP_SHOWN, result, options.format)
    return FINE if result.is_done else FOUND
