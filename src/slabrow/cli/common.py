"""The options that all commands share, read and checked before any server is asked."""

import argparse
import os
import re
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.errors import UsageError
from slabrow.core.values.one_line import one_line, without_controls
from slabrow.work.context import Context, ignore_message

if TYPE_CHECKING:
    from slabrow.core.values.prices import Prices
    from slabrow.work.weighing.offline import Offline

LAYOUT_FILE = "slabrow.toml"
LONGEST_WAIT_MS = 2_147_483_647  # the largest value of the server's own limits


def add_common(
    parser: argparse.ArgumentParser,
    *,
    table: bool = True,
    changes: bool = False,
    deadline: bool = False,
    picture: bool = False,
    lock_wait: str | None = "2s",
    script: str | None = None,
    many_layouts: bool = False,
) -> None:
    """table: the command is about one table, its first argument; changes: has --go and --script; deadline: has
    --lock-deadline too; picture: has --picture; lock_wait: what --lock-wait is unless given, None where that depends;
    script: the help of --script; many_layouts: --layout may be given several times.
    """
    if table:
        parser.add_argument("table_named", nargs="?", metavar="TABLE", help="the table, as schema.table")
    group = parser.add_argument_group("common options")
    group.add_argument(
        "--dsn",
        metavar="URL",
        default=None,
        help="the server; else SLABROW_DSN, else the PG* variables, service and password files",
    )
    if many_layouts:
        group.add_argument(
            "--layout",
            dest="layouts",
            metavar="FILE",
            action="append",
            help=f"a layout file; may be given several times; else {LAYOUT_FILE}",
        )
    else:
        group.add_argument("--layout", metavar="FILE", default=LAYOUT_FILE, help=f"the layout file; else {LAYOUT_FILE}")
    if table:
        group.add_argument("--table", metavar="NAME", default=None, help="the same as TABLE")
    group.add_argument("--format", choices=("text", "json", "csv"), default="text", help="how the result is printed")
    group.add_argument(
        "--save",
        metavar="FILE",
        default=None,
        help="also write the result as JSON, for `report`, `compare` and `census --against`",
    )
    group.add_argument(
        "--now",
        metavar="TIMESTAMP",
        default=None,
        help="the clock, for rehearsal and tests: ISO 8601, UTC unless it has an offset",
    )
    if picture:
        group.add_argument("--picture", metavar="FILE.png|svg", default=None, help="also draw the result")
    group.add_argument("--quiet", action="store_true", help="no progress bar, no notes on standard error")
    group.add_argument("--verbose", action="store_true", help="say each statement and its time; show where a fault is")
    if changes:
        doing = parser.add_argument_group("doing it")
        doing.add_argument("--go", action="store_true", help="do it; without this, it is only shown")
        doing.add_argument(
            "--pretend",
            action="store_true",
            help="with --go and --now: another time than the server's is meant; for rehearsal, never on real data",
        )
        doing.add_argument(
            "--script", metavar="FILE", default=None, help=script or "write the statements as a SQL script instead"
        )
        doing.add_argument(
            "--lock-wait",
            metavar="TIME",
            default=lock_wait,
            help="the longest wait for a lock, such as 500ms or 5s; tried again a few times "
            f"(default {lock_wait or '100ms; 2s for --way locked'})",
        )
        if deadline:
            doing.add_argument(
                "--lock-deadline",
                metavar="TIME",
                help="how long a lock is tried for again and again; unless given six times"
                + ("" if lock_wait else ", or ten minutes where nobody waits behind it"),
            )


def add_jobs(group: "argparse._ArgumentGroup | argparse.ArgumentParser") -> None:
    """How many processes read a server log."""
    group.add_argument(
        "--jobs",
        dest="log_jobs",
        metavar="N",
        type=int,
        help="processes that read a server log side by side (default: one a core)",
    )


def add_prices(group: "argparse._ArgumentGroup | argparse.ArgumentParser") -> None:
    """Where prices stand."""
    group.add_argument(
        "--prices", metavar="FILE", help="[prices] of blocks, storage and processors; else the layout file's"
    )


def prices(options: argparse.Namespace) -> "Prices | None":
    """The prices that were named, else those of the layout file; None where it has none. Raises UsageError."""
    from slabrow.files.prices_file import read_prices

    if options.prices is not None:
        found = read_prices(Path(options.prices))
        if found is None:
            raise UsageError(
                f"{options.prices} has no [prices]", fix='write [prices] with currency = "EUR", gb_month …'
            )
        return found
    layout = Path(options.layout)
    return read_prices(layout, "--layout") if layout.is_file() else None


def add_workload(parser: argparse.ArgumentParser) -> None:
    """Where the workload comes from."""
    source = parser.add_argument_group("the workload")
    source.add_argument(
        "--workload",
        metavar="FILE",
        action="append",
        default=[],
        help="a query file, or a server log (csvlog, jsonlog, stderr; .gz too); may be given several times",
    )
    source.add_argument("--statistics", action="store_true", help="also the server's statement statistics")
    add_jobs(source)


def add_only(group: "argparse._ArgumentGroup | argparse.ArgumentParser") -> None:
    """Which of the queries."""
    group.add_argument(
        "--only",
        metavar="QUERY",
        action="append",
        default=[],
        help="a query, by its name; may be given several times",
    )


def check_grown(times: float | None) -> None:
    """Raises UsageError when --grown is no growth."""
    if times is not None and not 1 < times <= 1_000_000:
        raise UsageError(f"--grown {times:g} is no growth", fix="say how many times the rows, such as 10")


def add_family(group: "argparse._ArgumentGroup | argparse.ArgumentParser") -> None:
    """The server family that is meant where no server is named."""
    from slabrow.servers import FAMILY_NAMES

    group.add_argument(
        "--family",
        metavar="NAME",
        help="without a server: the family that is meant, " + " or ".join(name.lower() for name in FAMILY_NAMES),
    )


def add_offline(parser: argparse.ArgumentParser) -> None:
    """Options by which a table is known without a server."""
    group = parser.add_argument_group("without a server")
    group.add_argument("--schema", metavar="FILE.sql", help="the table's CREATE TABLE, and its indexes")
    group.add_argument("--rows-from", metavar="FILE", help="some of its rows: CSV with a header, or Parquet")
    group.add_argument(
        "--rows", metavar="N", type=int, help="how many rows the whole table has; else those of the file"
    )


def offline_source(options: argparse.Namespace) -> "Offline | None":
    """The source that the offline options name; None without any. Raises UsageError when they are incomplete."""
    if options.schema is None and options.rows_from is None and options.rows is None:
        return None
    if options.schema is None or options.rows_from is None:
        raise UsageError(
            "without a server both --schema and --rows-from are needed",
            fix="--schema FILE.sql gives the columns, --rows-from FILE.csv some of the rows",
        )
    if options.rows is not None and options.rows < 0:
        raise UsageError(f"--rows {options.rows} is not a number of rows")
    from slabrow.work.weighing.offline import Offline

    return Offline(Path(options.schema), Path(options.rows_from), options.rows)


def context(options: argparse.Namespace) -> Context:
    """The checked options."""
    import logging

    # What the parser takes for a command, and says so, is read or refused here in our own words.
    logging.getLogger("sqlglot").setLevel(logging.ERROR)
    dsn = options.dsn if options.dsn is not None else os.environ.get("SLABROW_DSN", "")
    _speak(dsn, getattr(options, "family", None))
    if hasattr(options, "layouts"):
        options.layouts = options.layouts or [LAYOUT_FILE]
        options.layout = options.layouts[0]
    table, named = getattr(options, "table_named", None), getattr(options, "table", None)
    if table is not None and named is not None and table != named:
        raise UsageError("two tables are named", found=f"{table} and --table {named}", fix="name one")
    if getattr(options, "go", False) and getattr(options, "script", None) is not None:
        raise UsageError("--go and --script exclude each other", fix="--go does it, --script only writes it")
    if getattr(options, "pretend", False) and options.now is None:
        raise UsageError("--pretend goes with --now", fix="say which time is pretended: --now 2026-06-15 --pretend")
    if getattr(options, "script", None) is not None and not getattr(options, "script_is_folder", False):
        from slabrow.files.writing import check_writable

        check_writable(options.script, "--script")
    if options.save is not None:
        from slabrow.files.writing import check_writable

        check_writable(options.save, "--save")
    jobs = getattr(options, "log_jobs", None)
    if jobs is not None and not 1 <= jobs <= 256:
        raise UsageError(f"--jobs {jobs} is no number of processes", fix="give 1 or more")
    return Context(
        jobs=jobs,
        dsn=dsn,
        layout_file=Path(options.layout),
        table=table or named,
        now=_now(options.now),
        lock_wait_ms=parse_wait(getattr(options, "lock_wait", None) or "2s"),
        is_machine_clock=options.now is None,
        pretends=getattr(options, "pretend", False),
        warn=ignore_message if options.quiet else remark,
        say=_say if options.verbose else ignore_message,
    )


def _speak(dsn: str, family: str | None) -> None:
    """From now on statements are read in the dialect of the server's family, or of the one that --family names."""
    from slabrow.core.sql.dialect import speak
    from slabrow.servers.families import family_named, family_of

    speak((family_named(family) if family is not None else family_of(dsn)).traits.dialect)


def remark(text: str) -> None:
    """A line on standard error, whatever the names in it hold."""
    print(f"slabrow: {one_line(text)}", file=sys.stderr)


def _say(text: str) -> None:
    print(f"slabrow: {without_controls(text)}", file=sys.stderr)


def _now(text: str | None) -> datetime:
    return datetime.now(UTC) if text is None else parse_moment(text, "--now")


def parse_moment(text: str, option: str) -> datetime:
    """A timestamp in ISO 8601, UTC unless it has an offset. Raises UsageError."""
    try:
        moment = datetime.fromisoformat(text)
        moment = (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)
    except (ValueError, OverflowError):
        raise UsageError(
            f"{option} {text} is not a timestamp", fix="write it as 2026-03-01T00:00:00+00:00, or as 2026-03-01"
        ) from None
    if not 2 <= moment.year <= 9998:  # so that a day around it is a day of the calendar too
        raise UsageError(f"{option} {text} lies at the end of the calendar", fix="give a year from 2 to 9998")
    return moment


def parse_wait(text: str) -> int:
    """A duration such as `500ms`, `2s`, `1min` or `1h`, in milliseconds."""
    match = re.fullmatch(r"([0-9]{1,12}(?:\.[0-9]{1,9})?)\s*(ms|s|min|h)?", text.strip())
    wait = (
        0
        if match is None
        else round(float(match.group(1)) * {"ms": 1, "s": 1_000, "min": 60_000, "h": 3_600_000}[match.group(2) or "s"])
    )
    if wait < 1:
        raise UsageError(f"{text[:40]!r} is not a duration", fix="write it as 500ms, 2s or 1min")
    if wait > LONGEST_WAIT_MS:
        raise UsageError(f"{text[:40]!r} is too long", fix=f"give at most {LONGEST_WAIT_MS // 3_600_000}h")
    return wait


@contextmanager
def progress(options: argparse.Namespace, asked: Context) -> Iterator[Context]:
    """The context with a progress bar on standard error, where that is a terminal and --quiet was not given."""
    if options.quiet or not sys.stderr.isatty():
        yield asked
        return
    from slabrow.cli.progress_bar import ProgressBar

    with ProgressBar() as bar:
        yield replace(asked, progress=bar.tell, expect=bar.expect)


def write_script(options: argparse.Namespace, transactions: Iterable[Transaction], title: str, asked: Context) -> int:
    """Writes the statements to the file of --script and says so. Returns the exit code."""
    from slabrow.files.writing import write_file
    from slabrow.servers.families import family_of

    path = Path(options.script)
    write_file(path, family_of(asked.dsn).writer.script(tuple(transactions), title, asked.now))
    remark(f"{path} is written; nothing has been done")
    return 0


def write_scripts(folder: Path, scripts: dict[str, str]) -> int:
    """One file for each phase, in a folder."""
    from slabrow.files.writing import write_file

    if folder.exists() and not folder.is_dir():
        raise UsageError(f"--script {folder} is a file", fix="it is written as several files: name a folder for them")
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in scripts.items():
        write_file(folder / name, text)
    remark(f"{folder} holds {', '.join(scripts)}; nothing has been done")
    return 0
