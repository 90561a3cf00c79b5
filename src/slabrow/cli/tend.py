"""Options of `tend`."""

import argparse
import sys
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND, NO_SERVER
from slabrow.cli.common import add_common, context, parse_moment, progress, write_script
from slabrow.core.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--check",
        action="store_true",
        help="change nothing; exit 1 when less lies ahead than `ahead` asks for, or the catch-all holds rows",
    )
    parser.add_argument(
        "--retiring",
        metavar="N",
        type=int,
        help="let exactly this many partitions leave, more than `at_most_retired` or `at_most_share` allow",
    )
    parser.add_argument("--metrics", metavar="FILE", help="also write what was found in the OpenMetrics text format")
    holding = parser.add_argument_group("partitions that stay")
    holding.add_argument("--hold", metavar="PARTITION", help="put a partition under hold: it does not leave")
    holding.add_argument("--until", metavar="DAY", help="with --hold: until then; without it, until --unhold")
    holding.add_argument("--unhold", metavar="PARTITION", help="end the hold of a partition")
    add_common(parser, changes=True)


def run(options: argparse.Namespace) -> int:
    asked = context(options)
    _check(options)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.output import show
    from slabrow.show.tend import SHOWN
    from slabrow.work.tend import Asked, tend

    schema = read_ledger_schema(asked.layout_file)
    if options.hold is not None or options.unhold is not None:
        from slabrow.work.holds import hold

        until = None if options.until is None else parse_moment(options.until, "--until")
        print(hold(asked, schema, options.hold or options.unhold, until, holds=options.hold is not None))
        return FINE
    with progress(options, asked) as watched:
        result = tend(watched, asked.layouts(), Asked(options.go, options.retiring, schema))
    if options.metrics is not None:
        from slabrow.files.script import write_file
        from slabrow.show.metrics import upkeep_metrics

        write_file(Path(options.metrics), upkeep_metrics(result))
    if options.script:
        if result.error is not None:
            raise result.error
        transactions = [each.transaction for each in result.actions if each.transaction is not None]
        return write_script(options, transactions, f"Upkeep of {len(result.reports)} tables", asked)
    show(SHOWN, result, options.format)
    if result.note:
        print(f"slabrow: {result.note}", file=sys.stderr)
    if result.error is not None:
        return result.error.exit_code
    if options.check:
        return FOUND if result.is_thin else FINE
    if result.has_failed:
        return NO_SERVER
    return FOUND if result.has_open else FINE


def _check(options: argparse.Namespace) -> None:
    if options.hold is not None and options.unhold is not None:
        raise UsageError("--hold and --unhold exclude each other", fix="keep one")
    if options.until is not None and options.hold is None:
        raise UsageError("--until belongs to --hold", fix="say which partition: --hold NAME --until DAY")
    if options.check and (options.go or options.script):
        raise UsageError("--check changes nothing", fix="leave --go and --script out")
