"""Options of `index`."""

import argparse

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, progress
from slabrow.core.values.errors import UsageError

_MOST_JOBS = 32


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `index`."""
    which = parser.add_argument_group("what is to be done").add_mutually_exclusive_group()
    which.add_argument("--mend", action="store_true", help="build what is missing or invalid, attach what is not")
    which.add_argument(
        "--create", metavar="SQL", help="a new index: 'CREATE INDEX name ON table (…)', 'PRIMARY KEY (…)', 'UNIQUE (…)'"
    )
    which.add_argument("--drop", metavar="NAME", help="take an index of the table away")
    parser.add_argument("--jobs", metavar="N", type=int, default=2, help="how many are built at a time (default 2)")
    add_common(parser, changes=True, picture=True, lock_wait="100ms")


def run(options: argparse.Namespace) -> int:
    """Runs `index` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.script is not None:
        raise UsageError("what `index` does is not written as a script", fix="--format json has every statement")
    if not 1 <= options.jobs <= _MOST_JOBS:
        raise UsageError(f"--jobs {options.jobs} is out of range", fix=f"give 1 to {_MOST_JOBS}")
    changes = options.mend or options.create is not None or options.drop is not None
    if options.go and not changes:
        raise UsageError("--go goes with --mend, --create or --drop", fix="say what is to be done")
    picture = None
    if options.picture is not None:
        from slabrow.show.picture import check_picture

        picture = check_picture(options.picture)
    from slabrow.show.indexes import SHOWN, draw_indexes
    from slabrow.show.output import show
    from slabrow.work.indexes import IndexOptions, change_indexes, look

    table = asked.table_name()
    if changes:
        from slabrow.files.layout_file import read_ledger_schema

        wanted = IndexOptions(mend=options.mend, create=options.create, drop=options.drop, jobs=options.jobs)
        with progress(options, asked) as watched:
            result = change_indexes(watched, table, read_ledger_schema(asked.layout_file), wanted, go=options.go)
    else:
        result = look(asked, table)
    if picture is not None:
        draw_indexes(result.matrix, picture)
    show(SHOWN, result, options.format, options.save)
    if not result.is_done:
        return FOUND
    return FOUND if result.doing == "look" and result.matrix.faults else FINE
