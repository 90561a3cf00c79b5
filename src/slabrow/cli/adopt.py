"""Options of `adopt`."""

import argparse
from pathlib import Path

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, progress
from slabrow.core.values.errors import UsageError


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `adopt`."""
    add = parser.add_argument
    add("staged", metavar="TABLE", nargs="?", help="a table that becomes a partition, as schema.table")
    add("--into", metavar="PARENT", help="the partitioned table, or a partition that is divided itself")
    add("--from", dest="from_", metavar="VALUE", help="of a range: its least key (in)")
    add("--to", metavar="VALUE", help="of a range: the key above its greatest (out)")
    add("--values", metavar="VALUE", nargs="+", default=[], help="of a list: its values; NULL is no value")
    add("--part", metavar="R/M", help="of hash: the remainder and the modulus, such as 3/16")
    add("--catch-all", action="store_true", help="as the catch-all: everything that no other partition holds")
    add("--from-catch-all", action="store_true", help="move the rows of the catch-all that belong to it")
    add("--from-archive", metavar="FILE.json", help="instead of a table: the manifest of an archive that `tend` wrote")
    add_common(parser, table=False, changes=True, lock_wait="100ms")


def run(options: argparse.Namespace) -> int:
    """Runs `adopt` and shows its result. Returns the exit code."""
    asked = context(options)
    if options.script is not None and options.from_archive is not None:
        raise UsageError("the rows of an archive cannot be written as SQL", fix="load them with --go")
    if options.script is not None:
        raise UsageError("what `adopt` does cannot be written as a script", fix="do it with --go")
    if (options.from_archive is None) == (options.staged is None):
        raise UsageError(
            "either a table or an archive is brought in", fix="adopt TABLE --into PARENT, or --from-archive FILE"
        )
    if options.from_archive is not None:
        return _from_archive(options)
    if options.into is None:
        raise UsageError("nothing says where the table is to go", fix="add --into PARENT")
    from slabrow.cli.redividing import layout_named
    from slabrow.core.values.names import parse_name
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.membership import SHOWN
    from slabrow.show.output import show
    from slabrow.work.membership import BoundsAsked, adopt_table

    bounds = BoundsAsked(
        from_=options.from_,
        to=options.to,
        values=tuple(options.values),
        part=options.part,
        is_catch_all=options.catch_all,
    )
    parent = parse_name(options.into)
    with progress(options, asked) as watched:
        result = adopt_table(
            watched, layout_named(asked, parent), read_ledger_schema(asked.layout_file), parse_name(options.staged),
            parent, bounds, moves=options.from_catch_all, go=options.go,
        )  # fmt: skip
    show(SHOWN["adopt"], result, options.format, options.save)
    return FINE if result.is_done else FOUND


def _from_archive(options: argparse.Namespace) -> int:
    options.lock_wait = "2s" if options.lock_wait == "100ms" else options.lock_wait
    asked = context(options)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.adopt import SHOWN, Adoption
    from slabrow.show.output import show
    from slabrow.work.adopt import adopt

    schema = read_ledger_schema(asked.layout_file)
    with progress(options, asked) as watched:
        manifest, adopted = adopt(watched, Path(options.from_archive), schema, go=options.go)
    show(SHOWN, Adoption(manifest, adopted), options.format, options.save)
    return FINE if adopted is not None else FOUND
