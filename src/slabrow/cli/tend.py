"""Options of `tend`."""

import argparse
import json
import sys
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE, FOUND, NO_SERVER
from slabrow.cli.common import (
    add_common,
    context,
    parse_moment,
    parse_wait,
    progress,
    remark,
    write_script,
)
from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.values.one_line import one_line
from slabrow.work.context import Context, Event, ignore_event

if TYPE_CHECKING:
    from slabrow.files.metrics_server import MetricsServer
    from slabrow.work.tending.trees_ahead import TreesAhead
    from slabrow.work.tending.upkeep_result import TendResult


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `tend`."""
    parser.add_argument(
        "--check",
        action="store_true",
        help="change nothing; exit 1 when less lies ahead than `ahead` asks for, the catch-all holds rows, an index is "
        "not on every partition, or what is `wanted` no longer holds",
    )
    parser.add_argument(
        "--retiring",
        metavar="N",
        type=int,
        help="let exactly this many partitions leave, more than `at_most_retired` or `at_most_share` allow",
    )
    parser.add_argument(
        "--on",
        metavar="NAME",
        action="append",
        help="a [[server]] of the layout file, or `all` of them, side by side; may be given several times",
    )
    telling = parser.add_argument_group("telling")
    telling.add_argument("--metrics", metavar="FILE", help="also write what was found in the OpenMetrics text format")
    telling.add_argument("--webhook", metavar="URL", help="also post the result there as JSON")
    telling.add_argument("--serve", metavar="PORT", help="with --every: serve the same over HTTP; [HOST:]PORT")
    telling.add_argument("--log", choices=("text", "json"), help="a line on standard error for each thing done")
    holding = parser.add_argument_group("partitions that stay")
    holding.add_argument(
        "--hold", metavar="PARTITION", help="put a partition under hold, so that it does not leave; --go does it"
    )
    holding.add_argument("--until", metavar="DAY", help="with --hold: until then; without it, until --end-hold")
    holding.add_argument("--end-hold", metavar="PARTITION", help="end the hold of a partition; --go does it")
    again = parser.add_argument_group("again and again")
    again.add_argument("--every", metavar="TIME", help="stay running, and do it every 15min, 1h …")
    again.add_argument("--unit", choices=("cron", "systemd"), help="print the files that make a scheduler do it")
    add_common(parser, changes=True, deadline=True)


def run(options: argparse.Namespace) -> int:
    """Runs `tend` and shows its result. Returns the exit code."""
    _check(options)
    if options.unit is not None:
        from slabrow.cli.schedule import unit

        context(options).layouts()  # a file that cannot be read is not worth a schedule
        print(unit(options), end="")
        return FINE
    if options.every is not None:
        from slabrow.cli.schedule import again_and_again

        server = None
        if options.serve is not None:
            from slabrow.files.metrics_server import MetricsServer

            server = MetricsServer(options.serve)
        return again_and_again(options.every, lambda: _once(options, server))
    return _once(options)


def _once(options: argparse.Namespace, server: "MetricsServer | None" = None) -> int:
    deadline_ms = None if options.lock_deadline is None else parse_wait(options.lock_deadline)
    asked = replace(context(options), tell=_LOGS[options.log], lock_deadline_ms=deadline_ms)
    measured = options.metrics is not None or server is not None
    ahead = (
        None if options.on or options.hold or options.end_hold or asked.table else _ahead(asked, with_sizes=measured)
    )
    try:
        return _tended(options, asked, server, ahead)
    finally:
        if ahead is not None:
            ahead.end()


def _ahead(asked: Context, *, with_sizes: bool) -> "TreesAhead | None":
    """Asks for the trees before anything else is loaded. None where the layout file names no table."""
    from slabrow.files.layout_tables import tables_named
    from slabrow.work.tending.trees_ahead import TreesAhead

    names = tables_named(asked.layout_file)
    if not names:
        return None
    ahead = TreesAhead(asked.dsn, names, with_sizes=with_sizes)
    ahead.begin()
    return ahead


def _tended(
    options: argparse.Namespace, asked: Context, server: "MetricsServer | None", ahead: "TreesAhead | None"
) -> int:
    from slabrow.core.upkeep.actions import Archive, Place
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.work.tending.tend import TendOptions, tend, tend_on
    from slabrow.work.tending.upkeep_result import State

    schema = read_ledger_schema(asked.layout_file)
    if options.hold is not None or options.end_hold is not None:
        from slabrow.work.tending.holds import hold

        until = None if options.until is None else parse_moment(options.until, "--until")
        partition = options.hold if options.hold is not None else options.end_hold
        print(one_line(hold(asked, schema, partition, until, holds=options.hold is not None, go=options.go)))
        return FINE if options.go else FOUND
    with progress(options, asked) as watched:
        with_sizes = options.metrics is not None or server is not None
        how = TendOptions(options.go, options.retiring, schema, with_sizes, checks=options.check)
        if options.on:
            result = tend_on(watched, _servers(asked.layout_file, options.on), asked.layouts(), how)
        else:
            result = tend(watched, asked.layouts(), how, ahead)
    from slabrow.show.output import as_json, show
    from slabrow.show.tend import SHOWN

    if options.script is not None:
        if result.error is not None:
            raise result.error
        open_ = [each for each in result.actions if each.state is State.PROPOSED]
        if archived := [each.action.partition for each in open_ if isinstance(each.action, Archive)]:
            raise UsageError(
                "an archive cannot be written as SQL",
                found=f"{archived[0]} is to be archived before it is dropped",
                fix='do it with --go, or set past_keep to "detach" or "drop"',
            )
        if placed := [each.action.partition for each in open_ if isinstance(each.action, Place)]:
            raise UsageError(
                "moves to another tablespace are not written as SQL",
                found=f"{placed[0]} is to be moved, and its indexes first, beside readers and writers",
                fix="do it with --go: a run that is stopped goes on",
            )
        transactions = [transaction for each in open_ for transaction in each.transactions]
        reports = result.reports
        of = str(reports[0].layout.table) if len(reports) == 1 else f"{len(reports)} tables"
        return write_script(options, transactions, f"Upkeep of {of}", asked)
    if options.every is not None and options.format == "text":
        print(f"— {datetime.now(UTC):%Y-%m-%d %H:%M:%SZ}")
    show(SHOWN, result, options.format, options.save)
    if server is not None or options.metrics is not None:
        _measure(result, server, None if options.metrics is None else Path(options.metrics))
    if options.webhook is not None:
        from slabrow.files.webhook import post

        if (why := post(options.webhook, as_json(SHOWN, result))) is not None:
            remark(f"the webhook was not told: {why}")
    if result.note:
        remark(result.note)
    if options.format == "csv":
        _say_what_has_no_row(result)
    if result.error is not None:
        return result.error.exit_code
    if options.check:
        for report in result.reports:
            for words in report.thin:
                where = f" on {report.server}" if report.server else ""
                remark(f"{report.layout.table}{where} {words}")
        return FOUND if result.is_thin else FINE
    if result.has_failed:
        return NO_SERVER
    return FOUND if result.has_open else FINE


def _say_what_has_no_row(result: "TendResult") -> None:
    """Errors and findings, which are about no action, and so not in the rows of CSV."""
    for report in result.reports:
        where = f"{report.layout.table}{f' on {report.server}' if report.server else ''}"
        if report.error is not None:
            remark(f"{where}: {report.error.line}")
        for finding in report.leftovers:
            remark(f"{where}: {finding.code}: {finding.text}")


def _measure(result: "TendResult", server: "MetricsServer | None", file: Path | None) -> None:
    """Shows the measures; those of the run before say when a table that is not well now was so last."""
    from slabrow.show.metrics import successes_in, successes_of, upkeep_metrics, upkeep_registry

    earlier = {} if server is None else successes_of(server.collect())
    if file is not None and file.is_file():  # a device or a pipe holds no earlier figures
        with suppress(OSError, ValueError):  # something else stood there: it is overwritten
            earlier = {**successes_in(file.read_text(encoding="utf-8")), **earlier}
    registry = upkeep_registry(result, earlier)
    if server is not None:
        server.show(registry)
    if file is not None:
        from slabrow.files.writing import write_file

        write_file(file, upkeep_metrics(registry))


def _plain_line(event: Event) -> None:
    """`2026-06-15T03:00:02.120+00:00 done create apiary.reading_2026_09 duration_ms=8.2 lock_waits=0`"""
    more = " ".join(
        f"{name}={json.dumps(value, ensure_ascii=False) if isinstance(value, str) else value}"
        for name, value in event.items()
        if name in ("rows", "duration_ms", "lock_waits", "text", "server") and value is not None
    )
    line = f"{event['at']} {event['state']} {event['action']} {event['partition']} {more}"
    print(one_line(line), file=sys.stderr)


def _json_line(event: Event) -> None:
    print(json.dumps(event, ensure_ascii=False), file=sys.stderr)


_LOGS: dict[str | None, Callable[[Event], None]] = {None: ignore_event, "text": _plain_line, "json": _json_line}


def _servers(layout_file: Path, names: list[str]) -> list[tuple[str, str]]:
    """The servers named, as (name, DSN). Raises UsageError for one that the layout file does not have."""
    from slabrow.files.layout_file import read_servers

    known = {server.name: server.dsn for server in read_servers(layout_file)}
    wanted = list(known) if "all" in names else list(dict.fromkeys(names))
    for name in wanted:
        if name not in known:
            near = nearest(name, known)
            raise UsageError(
                f"{layout_file} has no server {name!r}",
                found=f"it has {', '.join(known)}" if known else "it has no [[server]]",
                fix=f"did you mean {near}?" if near else None,
            )
    if not wanted:
        raise UsageError(f"{layout_file} has no [[server]]", fix="add one: [[server]] with name and dsn")
    return [(name, known[name]) for name in wanted]


def _check(options: argparse.Namespace) -> None:
    if options.on and (options.dsn is not None or options.script is not None or options.hold or options.end_hold):
        raise UsageError(
            "--on names several servers; --dsn, --script, --hold and --end-hold are for one", fix="keep one of them"
        )
    holds = options.hold is not None or options.end_hold is not None
    if holds and (options.script is not None or options.check):
        raise UsageError("a hold is an entry of the ledger", fix="leave --script and --check out; --go writes it")
    if options.hold is not None and options.end_hold is not None:
        raise UsageError("--hold and --end-hold exclude each other", fix="keep one")
    if options.until is not None and options.hold is None:
        raise UsageError("--until belongs to --hold", fix="say which partition: --hold NAME --until DAY")
    if options.check and (options.go or options.script is not None):
        raise UsageError("--check changes nothing", fix="leave --go and --script out")
    if options.every is not None and (
        options.script is not None or options.unit or options.now or options.hold or options.end_hold
    ):
        raise UsageError("--every stays running with the machine's clock", fix="leave the other option out")
    if options.serve is not None and options.every is None:
        raise UsageError("--serve needs something that stays running", fix="add --every 15min, or write --metrics FILE")
    if options.metrics is not None:
        from slabrow.files.writing import check_writable

        check_writable(options.metrics, "--metrics")
    if options.webhook is not None:
        from slabrow.files.webhook import check_address

        check_address(options.webhook)
