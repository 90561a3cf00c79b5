"""Options of `report`."""

import argparse
import sys
from pathlib import Path

from slabrow.cli.codes import FINE
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `report`."""
    parser.add_argument("saved", nargs="+", metavar="FILE.json", help="what commands have written with --save")
    parser.add_argument("--out", metavar="FILE.html", default="report.html", help="the page (default report.html)")
    parser.add_argument("--title", metavar="TEXT", help="its title; else it names the tables")
    parser.add_argument("--quiet", action="store_true", help="do not say where the page lies")
    parser.add_argument("--verbose", action="store_true", help="show where a fault is")


def run(options: argparse.Namespace) -> int:
    """Runs `report`: writes the page. Returns the exit code."""
    from slabrow.files.extras import require
    from slabrow.files.saved_result import read_saved
    from slabrow.files.writing import check_writable, write_file
    from slabrow.show.report.page import page_of

    require("report")
    out = check_writable(options.out, "--out")
    if out.suffix.lower() not in (".html", ".htm"):
        raise UsageError(f"--out {options.out} is no page", fix="end its name in .html")
    documents = [(name, read_saved(Path(name), "FILE.json")) for name in options.saved]
    write_file(out, page_of(documents, options.title))
    if not options.quiet:
        print(f"{out} is written, from {len(documents)} results. It needs nothing beside it.", file=sys.stdout)
    return FINE
