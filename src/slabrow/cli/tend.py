"""Options of `tend`."""

import argparse

from slabrow.cli.codes import FINE, FOUND, NO_SERVER
from slabrow.cli.common import add_common, context, progress, write_script


def add_options(parser: argparse.ArgumentParser) -> None:
    add_common(parser, changes=True)


def run(options: argparse.Namespace) -> int:
    asked = context(options)
    from slabrow.show.output import show
    from slabrow.show.tend import SHOWN
    from slabrow.work.tend import tend

    with progress(options, asked) as watched:
        result = tend(watched, asked.layouts(), go=options.go)
    if options.script:
        if result.error is not None:
            raise result.error
        transactions = [each.transaction for each in result.actions if each.transaction is not None]
        return write_script(options, transactions, f"Upkeep of {len(result.reports)} tables", asked)
    show(SHOWN, result, options.format)
    if result.error is not None:
        return result.error.exit_code
    if result.has_failed:
        return NO_SERVER
    return FOUND if result.has_open else FINE
