"""How upkeep looks, proposed and done."""

from collections.abc import Iterable, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, Any

from slabrow.core.upkeep.actions import Sweep
from slabrow.core.upkeep.planned_partitions import describe_clock
from slabrow.show.bounds import bounds_data, held
from slabrow.show.findings import finding_data
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, print_table, table
from slabrow.show.statements import statement_texts
from slabrow.show.words import MOST_LINES, ends, plural
from slabrow.work.tending.upkeep_result import State, TableReport, Tended, TendResult

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text


def _data(result: TendResult) -> Json:
    return {
        "now": result.now.isoformat(),
        "actions": [
            {**_action_data(tended), "server": report.server} for report in result.reports for tended in report.tended
        ],
        "findings": [
            {**finding_data(finding), "table": str(report.layout.table), "server": report.server}
            for report in result.reports
            for finding in report.leftovers
        ],
        "analysed": [str(report.layout.table) for report in result.reports if report.is_analysed],
        "errors": [
            {
                "table": str(report.layout.table),
                "server": report.server,
                "problem": report.error.problem,
                "found": report.error.found,
                "fix": report.error.fix,
            }
            for report in result.reports
            if report.error is not None
        ],
    }


def _action_data(tended: Tended) -> Json:
    action = tended.action
    return {
        "kind": action.kind,
        "table": str(action.table),
        "partition": str(action.partition),
        **bounds_data(action.bounds),
        "reason": action.reason,
        "statements": statement_texts(tended.transactions),
        "state": str(tended.state),
        "text": tended.text,
        "rows": action.rows if tended.rows is None and isinstance(action, Sweep) else tended.rows,
        "duration_ms": tended.duration_ms,
        "lock_waits": tended.lock_waits,
    }


def _rows(result: TendResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("kind", "table", "partition", "state", "reason", "text", "server"), [
        [
            each.action.kind,
            each.action.table,
            each.action.partition,
            each.state,
            each.action.reason,
            each.text,
            report.server,
        ]
        for report in result.reports
        for each in report.tended
    ]


def _plain(result: TendResult) -> str | None:
    """A line for each table, when there is nothing to say of any of them."""
    if not all(report.says_nothing for report in result.reports):
        return None
    return "".join(_heading(report, result) + "\n" for report in result.reports)


_AS_MEANT = ("hold", "old_table_kept", "place_waits")  # said, and nothing is wrong


def _text(result: TendResult, out: "Console") -> None:
    for nothing_said, reports in groupby(result.reports, key=lambda each: each.says_nothing):
        if nothing_said and not out.is_terminal:
            out.out("\n".join(_heading(report, result) for report in reports))  # one by one, hundreds take their time
            continue
        for report in reports:
            _report(report, result, out)
    if result.error is not None or not any(tended.state is State.PROPOSED for tended in result.actions):
        return
    note(out, "Nothing has been done. --go does it; --script FILE writes it as SQL.")


def _heading(report: TableReport, result: TendResult) -> str:
    where = f" on {report.server}" if report.server else ""
    return f"{report.layout.table}{where} at {describe_clock(result.now)}: {_headline(report)}"


def _report(report: TableReport, result: TendResult, out: "Console") -> None:
    heading(out, _heading(report, result))
    if report.error is not None:
        out.print(bad(f"  {report.error.problem}"))
        for part in (report.error.found, report.error.fix):
            if part:
                out.print(plain(f"  {part}"))
    if report.tended:
        lines = table("", "partition", "from (in)", "to (out)", "state", "why", folds=("why",))
        for each in ends(report.tended):
            if each is None:
                lines.add_row("…", plain(f"{len(report.tended) - MOST_LINES:,} more, in csv and json"))
                continue
            lines.add_row(
                each.action.kind,
                plain(each.action.partition.table),
                *map(plain, held(each.action.bounds, report.layout.zone)),
                _state(each),
                plain(each.text or each.action.reason.split(" and no partition holds")[0]),
            )
        print_table(out, lines, ("to (out)", "from (in)"))
    if report.is_analysed:
        out.print(plain("  The statistics of the table as a whole were taken anew."))
    for finding in report.leftovers:
        words = f"  {finding.code}: {finding.text}."
        out.print(plain(words) if finding.code in _AS_MEANT else bad(words))


_DONE = {
    "create": "created",
    "sweep": "made with rows of the catch-all",
    "detach": "detached",
    "archive": "archived",
    "drop": "dropped",
    "merge": "made of several",
    "place": "moved to its place",
}


_INFINITIVES = {
    "sweep": "make with rows of the catch-all",
    "merge": "make of several",
    "place": "move to its place",
}


def _headline(report: TableReport) -> str:
    if report.error is not None and not any(each.state is State.DONE for each in report.tended):
        return "nothing was done"
    if not report.tended:
        return "nothing to do"
    words = []
    for kind, done in _DONE.items():
        infinitive = _INFINITIVES.get(kind, kind)
        open_ = sum(each.action.kind == kind and each.state is not State.DONE for each in report.tended)
        finished = sum(each.action.kind == kind and each.state is State.DONE for each in report.tended)
        words += [f"{plural(finished, 'partition')} {done}"] if finished else []
        words += [f"{plural(open_, 'partition')} to {infinitive}"] if open_ else []
    return ", ".join(words)


def _state(tended: Tended) -> "Text":
    match tended.state:
        case State.DONE:
            return good("done")
        case State.FAILED | State.SKIPPED:
            return bad(str(tended.state))
        case _:
            return plain(str(tended.state))


SHOWN: Shown[TendResult] = Shown("tend", _data, _rows, _text, _plain)
