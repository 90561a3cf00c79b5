"""Options of `adopt`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `adopt`."""
    parser.add_argument(
        "--from-archive", metavar="FILE.json", required=True, help="the manifest of an archive that `tend` wrote"
    )
    add_common(parser, table=False, changes=True)


def run(options: argparse.Namespace) -> int:
    """Runs `adopt` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.script is not None:
        raise UsageError("the rows of an archive cannot be written as SQL", fix="load them with --go")
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.adopt import SHOWN, Adoption
    from slabrow.show.output import show
    from slabrow.work.adopt import adopt

    schema = read_ledger_schema(asked.layout_file)
    manifest, adopted = adopt(asked, Path(options.from_archive), schema, go=options.go)
    show(SHOWN, Adoption(manifest, adopted), options.format)
    return FINE if adopted is not None else FOUND
