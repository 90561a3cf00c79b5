"""Options of `prove`."""

import argparse
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import (
    LAYOUT_FILE,
    add_common,
    add_family,
    add_jobs,
    add_only,
    context,
    parse_wait,
    progress,
    remark,
)
from slabrow.core.values.errors import UsageError
from slabrow.work.context import Context

if TYPE_CHECKING:
    from slabrow.files.query_file import FileQuery
    from slabrow.servers.protocols import Family
    from slabrow.work.proving.proof import ProveResult


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `prove`."""
    parser.add_argument(
        "--queries",
        metavar="FILE.sql",
        help="SQL statements ended by `;`, with `-- name:`, `-- touches: <= 2`, `-- params:`, `-- weight:` above",
    )
    parser.add_argument(
        "--run",
        dest="execute",
        action="store_true",
        help="also run them: reads in read-only transactions, UPDATE and DELETE in transactions that are rolled back",
    )
    parser.add_argument(
        "--contrast",
        action="store_true",
        help="with --run: run each query once more with pruning switched off, and show the difference",
    )
    parser.add_argument(
        "--statistics", action="store_true", help="also the statements of the server's statement statistics"
    )
    parser.add_argument(
        "--workload", metavar="FILE", action="append", default=[], help="also the statements of a server log"
    )
    add_only(parser)
    add_jobs(parser)
    before = parser.add_argument_group("before there is anything to ask")
    before.add_argument("--offline", action="store_true", help="predict from the DDL of --schema alone, with no server")
    before.add_argument("--schema", metavar="FILE.sql", help="with --offline: tables, partitions and views")
    add_family(before)
    before.add_argument("--laid-out", action="store_true", help="predict as if the tables were as the layout file says")
    parser.add_argument("--junit", metavar="FILE.xml", help="also write the limits as JUnit XML, for a build server")
    parser.add_argument(
        "--watch-for", metavar="FILE.json", help="an earlier result: only what got worse since is broken"
    )
    parser.add_argument("--at-most", metavar="N", type=int, help="a limit for the queries that bring none of their own")
    parser.add_argument(
        "--timeout", metavar="TIME", default="30s", help="the longest that one query may take (default 30s)"
    )
    add_common(parser, picture=True)


def run(options: argparse.Namespace) -> int:
    """Runs `prove` and shows its result. Returns the exit code."""
    asked = context(options)
    timeout_ms = parse_wait(options.timeout)
    from slabrow.files.query_file import chosen_queries, read_queries

    _check(options)
    picture = None if options.picture is None else _picture(options.picture)
    report = None
    if options.junit is not None:
        from slabrow.files.writing import check_writable

        report = check_writable(options.junit, "--junit")
    _check_layout_file(options, asked)
    queries = read_queries(Path(options.queries)) if options.queries is not None else ()
    if options.workload:
        from slabrow.work.weighing.workloads import as_queries, gathered

        paths = tuple(map(Path, options.workload))
        with progress(options, asked) as watched:
            watched.reading(paths, "reading the workload")
            queries += as_queries(gathered(paths, None, statistics=False, jobs=asked.jobs))
    queries = chosen_queries(queries, options.only)
    earlier = None if options.watch_for is None else _earlier(options.watch_for)
    with progress(options, asked) as watched:
        if options.offline or options.laid_out:
            from slabrow.work.proving.predicted import prove_laid_out, prove_offline
        if options.offline:
            result = prove_offline(
                watched, _family(options, asked), queries, Path(options.schema), at_most=options.at_most
            )
        elif options.laid_out:
            result = prove_laid_out(watched, queries, at_most=options.at_most)
        else:
            result = _proven(options, watched, queries, timeout_ms)
    from slabrow.show.output import show
    from slabrow.show.prove import SHOWN

    if picture is not None:
        from slabrow.show.touches import draw_touches

        draw_touches(result, picture)
    if report is not None:
        from slabrow.files.writing import write_file
        from slabrow.show.junit import junit

        write_file(report, junit(result))
    show(SHOWN, result, options.format, options.save)
    if earlier is not None:
        from slabrow.work.proving.regressions import worsened

        worse = list(worsened(result, earlier))
        for text in worse:
            remark(text)
        return FOUND if worse else FINE
    return FOUND if result.broken else FINE


def _family(options: argparse.Namespace, asked: Context) -> "Family":
    """The family that --family names, else that of the DSN."""
    from slabrow.servers.families import family_named, family_of

    return family_named(options.family) if options.family is not None else family_of(asked.dsn)


def _check_layout_file(options: argparse.Namespace, asked: Context) -> None:
    """A layout file that was named has to be right, though only --laid-out needs it; a fault of the usual file is only
    a remark.
    """
    if options.laid_out:
        return  # it is read anyway
    if options.layout != LAYOUT_FILE:
        asked.layouts()
    elif asked.layout_file.exists():
        import tomllib

        from slabrow.files.reading import read_text, toml_document

        try:
            toml_document(read_text(asked.layout_file, "layout file", "--layout"))
        except tomllib.TOMLDecodeError as error:
            remark(f"{asked.layout_file} is not valid TOML, and is not needed here: {error}")


def _proven(
    options: argparse.Namespace, watched: Context, queries: "Sequence[FileQuery]", timeout_ms: int
) -> "ProveResult":
    from slabrow.work.proving.plans_ahead import PlansAhead

    with (
        watched.connected() as connection,  # first: a role may have no more than one
        PlansAhead(watched.dsn, () if options.execute else queries, timeout_ms) as ahead,
    ):
        # The modules that are slow to load are loaded while the server plans.
        from slabrow.show import prove as _  # noqa: F401
        from slabrow.show.output import load_console
        from slabrow.work.proving.prove import Asking, prove

        if options.format == "text":
            load_console()

        asking = Asking(options.execute, options.contrast, options.at_most, timeout_ms)
        return prove(watched, connection, queries, asking, ahead, statistics=options.statistics)


def _earlier(path: str) -> "Mapping[tuple[str, str], Mapping[str, Any]]":
    from slabrow.work.proving.regressions import read_result

    return read_result(Path(path))


def _picture(path: str) -> Path:
    from slabrow.show.picture import check_picture

    return check_picture(path)


def _check(options: argparse.Namespace) -> None:
    """Options that contradict each other, or are missing."""
    if options.queries is None and not options.workload and not options.statistics:
        raise UsageError(
            "there is nothing to prove", fix="give --queries FILE.sql, a server log with --workload, or --statistics"
        )
    if options.contrast and not options.execute:
        raise UsageError("there is nothing to contrast", found="--contrast without --run", fix="add --run")
    if options.offline != (options.schema is not None):
        raise UsageError("--offline and --schema belong together", fix="give both: --offline --schema FILE.sql")
    if options.offline and options.laid_out:
        raise UsageError("--offline and --laid-out exclude each other", fix="keep one")
    if (options.offline or options.laid_out) and options.execute:
        raise UsageError("--run needs a server on which the tables exist", found="--run", fix="leave --run out")
    if (options.offline or options.laid_out) and options.statistics:
        raise UsageError("--statistics asks the server", fix="leave it out with --offline and --laid-out")
