"""Options of `route`."""

import argparse
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, add_family, context, progress

if TYPE_CHECKING:
    from slabrow.files.value_file import Columns
    from slabrow.work.context import Context
    from slabrow.work.route import Hashing


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `route`."""
    add = parser.add_argument
    add(
        "values",
        nargs="*",
        metavar="TABLE VALUE",
        help="the table, and keys whose columns are separated by commas; an empty column is NULL. No table with --by",
    )
    add("--values", dest="file", metavar="FILE", help="keys from a CSV file without a header; - for standard input")
    add("--where", metavar="CONDITION", help="which partitions hold the rows of TABLE that satisfy it, and how many")
    offline = parser.add_argument_group("without a server")
    offline.add_argument(
        "--by",
        choices=("hash", "key", "linear-hash", "linear-key"),
        help="hash the keys here: by the family's usual way, or by another that it has",
    )
    add_family(offline)
    offline.add_argument("--algorithm", metavar="N", type=int, help="of --by key: 1 or 2 (default: 2)")
    offline.add_argument("--types", metavar="TYPES", help="the types of the key's columns, such as int8,text")
    offline.add_argument("--parts", metavar="N", type=int, help="how many hash partitions")
    offline.add_argument("--zone", metavar="NAME", help="where a timestamptz without an offset is read, else UTC")
    add("--key", metavar="COLUMN[,COLUMN]", help="with --by hash: how the rows of TABLE would spread by these columns")
    add_common(parser, table=False, picture=True)
    add("--table", metavar="NAME", help="the same as TABLE")


def run(options: argparse.Namespace) -> int:
    """Runs `route` and shows its result. Returns the exit code."""
    from slabrow.core.values.errors import UsageError

    if options.by is None and options.key is None:
        for name in ("types", "parts", "zone", "picture", "family", "algorithm"):
            if getattr(options, name) is not None:
                raise UsageError(f"--{name} is for routing without a server", fix="add --by hash")
    if options.table is None and options.values and (options.by is None or options.key is not None):
        options.table, *options.values = options.values  # as with every command, the table comes first
    asked = context(options)
    if options.where is not None:
        return _where(options, asked)
    if options.key is not None:
        return _spread_of_table(options, asked)
    if bool(options.values) == bool(options.file):
        found = "both VALUE … and --values" if options.file else "neither VALUE … nor --values"
        raise UsageError("the values to route must be given once", found=found, fix="give one of them")
    if options.by is None:
        return _with_table(options, asked)
    hashing = _hashing(options, asked.dsn)
    return _spread(options, hashing) if options.file and options.format == "text" else _offline(options, hashing)


def _where(options: argparse.Namespace, asked: "Context") -> int:
    from slabrow.core.values.errors import UsageError
    from slabrow.show.output import show
    from slabrow.show.where import SHOWN
    from slabrow.work.find_rows import find_rows

    if options.values or options.file or options.by is not None or options.key is not None:
        raise UsageError("--where asks for rows, not for keys", fix="give TABLE --where CONDITION and nothing else")
    found = find_rows(asked, asked.table_name(), options.where)
    show(SHOWN, found, options.format, options.save)
    return FINE if found.rows else FOUND


def _hashing(options: argparse.Namespace, dsn: str) -> "Hashing":
    from slabrow.core.values.errors import UsageError
    from slabrow.core.values.zones import parse_zone
    from slabrow.servers.hashing_protocols import HashAsked
    from slabrow.work.route import hashing_of

    if not options.types or options.parts is None:
        raise UsageError(
            "--by hash needs the types of the key and the number of parts",
            fix="give --types int8,text and --parts 16, for example",
        )
    if options.table is not None:
        raise UsageError("--by hash needs no table", fix="leave out --table, or leave out --by, --types and --parts")
    if not 1 <= options.parts <= 1 << 20:
        raise UsageError(f"--parts {options.parts} is out of range", fix="give 1 to 1048576")
    asked = HashAsked(
        by=options.by,
        types=options.types,
        parts=options.parts,
        zone=parse_zone(options.zone or "UTC"),
        algorithm=options.algorithm,
    )
    return hashing_of(asked, options.family, dsn)


def _offline(options: argparse.Namespace, hashing: "Hashing") -> int:
    from slabrow.core.values.errors import UsageError
    from slabrow.show.output import show
    from slabrow.show.route import SHOWN, stream_hashed
    from slabrow.work.route import hashed_batches, route_offline

    if options.picture is not None:
        raise UsageError("--picture draws the spread of --values FILE as text", fix="leave --format out")
    if options.values:
        show(SHOWN, route_offline(hashing, options.values), options.format, options.save)
    else:
        stream_hashed(hashing, hashed_batches(hashing, _columns(options, hashing)), options.format)
    return FINE


def _spread(options: argparse.Namespace, hashing: "Hashing") -> int:
    from slabrow.show.output import show
    from slabrow.show.picture import check_picture
    from slabrow.show.spread import SHOWN, SpreadOf, draw_spread
    from slabrow.work.route import count_spread

    picture: Path | None = None if options.picture is None else check_picture(options.picture)
    shown = SpreadOf(str(hashing), count_spread(hashing, _columns(options, hashing)), hashing.parts)
    if picture:
        draw_spread(shown, picture)
    show(SHOWN, shown, options.format, options.save)
    return FINE


def _spread_of_table(options: argparse.Namespace, asked: "Context") -> int:
    from slabrow.core.values.errors import UsageError
    from slabrow.show.output import show
    from slabrow.show.picture import check_picture
    from slabrow.show.spread import SHOWN, SpreadOf, draw_spread
    from slabrow.work.route import spread_of_table

    if options.by is None or options.parts is None or options.types or options.values or options.file:
        raise UsageError(
            "--key spreads the rows of a table over hash partitions",
            fix="give TABLE --by hash --key COLUMN --parts N, and no values or types",
        )
    if not 2 <= options.parts <= 1 << 20:
        raise UsageError(f"--parts {options.parts} is out of range", fix="give 2 to 1048576")
    picture: Path | None = None if options.picture is None else check_picture(options.picture)
    key = tuple(part.strip() for part in options.key.split(","))
    with progress(options, asked) as watched:
        title, counter, bytes_ = spread_of_table(watched, asked.table_name(), key, options.parts)
    shown = SpreadOf(title, counter, options.parts, bytes_)
    if picture:
        draw_spread(shown, picture)
    show(SHOWN, shown, options.format, options.save)
    return FINE


def _columns(options: argparse.Namespace, hashing: "Hashing") -> Iterable["Columns"]:
    from slabrow.files.value_file import read_keys

    return read_keys(options.file, hashing.width)


def _with_table(options: argparse.Namespace, asked: "Context") -> int:
    from slabrow.show.output import show
    from slabrow.show.route import SHOWN, stream
    from slabrow.work.route import route, route_file

    name = asked.table_name()
    if not options.file:
        result = route(asked, name, options.values)
        show(SHOWN, result, options.format, options.save)
        return FOUND if any(each.partition is None for each in result.routes) else FINE
    homeless = stream(route_file(asked, name, options.file), options.format)
    return FOUND if homeless else FINE
