"""Options of `adopt`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--from-archive", metavar="FILE.json", required=True, help="the manifest of an archive that `tend` wrote"
    )
    add_common(parser, table=False, changes=True)


def run(options: argparse.Namespace) -> int:
    asked = context(options)
    from slabrow.show.adopt import SHOWN, Adoption
    from slabrow.show.output import show
    from slabrow.work.archive import adopt

    path = Path(options.from_archive)
    manifest, adopted = adopt(asked, path, go=options.go)
    show(SHOWN, Adoption(manifest, adopted), options.format)
    return FINE if adopted is not None else FOUND
