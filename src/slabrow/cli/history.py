"""Options of `history`."""

import argparse

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_common, context, parse_moment
from slabrow.core.values.errors import UsageError

KINDS = (
    "create", "sweep", "detach", "archive", "drop", "adopt", "release", "convert", "split", "merge",
    "relocate", "index", "analyse", "hold", "hold_ended",
)  # fmt: skip


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `history`."""
    parser.add_argument("--kind", action="append", choices=KINDS, default=[], help="only what was done in this way")
    parser.add_argument("--state", choices=("done", "failed", "begun"), help="only what came to this end")
    parser.add_argument("--since", metavar="DAY", help="only what was done from then on")
    parser.add_argument("--most", metavar="N", type=int, default=100, help="the newest so many entries (default 100)")
    add_common(parser)


def run(options: argparse.Namespace) -> int:
    """Runs `history` and shows its result. Returns the exit code."""
    asked = context(options)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.history import SHOWN
    from slabrow.show.output import show
    from slabrow.work.history import history

    schema = read_ledger_schema(asked.layout_file)
    if schema is None:
        raise UsageError("the layout file says that there is no ledger", fix="name its schema under [ledger]")
    if options.most < 1:
        raise UsageError(f"--most {options.most} shows nothing", fix="ask for one entry or more")
    since = None if options.since is None else parse_moment(options.since, "--since")
    kinds = tuple(options.kind)
    show(
        SHOWN,
        history(asked, schema, kinds=kinds, state=options.state, since=since, most=options.most),
        options.format,
        options.save,
    )
    return FINE
