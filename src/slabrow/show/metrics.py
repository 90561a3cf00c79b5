"""Upkeep as OpenMetrics text, for whatever collects it from a file (N44). See docs/guide/keeping.md for the names."""

from collections.abc import Iterator
from datetime import UTC, date, datetime, time
from typing import TYPE_CHECKING

from slabrow.core.actions import Archive, Create, Detach, Drop, Sweep
from slabrow.core.bounds import Range
from slabrow.work.upkeep import State, TableReport, TendResult

if TYPE_CHECKING:
    from prometheus_client import CollectorRegistry

_LABELS = ("table", "server")


def upkeep_metrics(result: TendResult) -> str:
    """As text, ended by `# EOF`."""
    from prometheus_client.openmetrics.exposition import generate_latest

    text: bytes = generate_latest(upkeep_registry(result))  # type: ignore[no-untyped-call]
    return text.decode()


def upkeep_registry(result: TendResult) -> "CollectorRegistry":
    """One family for each measure, with the table and the server as its labels."""
    from prometheus_client import CollectorRegistry, Gauge

    registry = CollectorRegistry()
    gauges = {name: Gauge(f"slabrow_{name}", text, _LABELS, registry=registry) for name, text in _MEASURES.items()}
    for report in result.reports:
        table = str(report.layout.table)
        for name, value in _measured(report, result.now):
            gauges[name].labels(table, report.server or "").set(value)
    last = Gauge("slabrow_last_run_timestamp_seconds", "When upkeep last ran", registry=registry)
    last.set(result.now.timestamp())
    return registry


_MEASURES = {
    "partitions": "Leaves of the table",
    "bytes": "Bytes of all leaves, indexes included",
    "missing_ahead": "Partitions that ahead asks for and that are not there",
    "days_ahead": "Days from now to the end of the last partition by time",
    "oldest_days": "Days from the beginning of the oldest partition by time to now",
    "catch_all_rows": "1 when a table by range has rows in its catch-all",
    "failures": "Actions that the server refused in this run",
    "lock_waits": "Tries in this run that got no lock",
    "refused": "1 when a guard or an error kept this table from being tended",
    "retired": "Partitions that left in this run",
    "success": "1 when nothing is left to do",
}


def _measured(report: TableReport, now: datetime) -> Iterator[tuple[str, float]]:
    done = [each for each in report.tended if each.state is State.DONE]
    left = [each for each in report.tended if each.state is not State.DONE]
    yield "failures", sum(each.state is State.FAILED for each in report.tended)
    yield "lock_waits", sum(each.lock_waits for each in report.tended)
    yield "refused", float(report.error is not None)
    yield "retired", sum(isinstance(each.action, Detach | Drop | Archive) for each in done)
    yield "missing_ahead", sum(isinstance(each.action, Create | Sweep) for each in left)
    yield "catch_all_rows", float(report.catch_all_rows)
    yield "success", float(report.error is None and not left)
    if report.tree is None:
        return
    gone = {each.action.partition for each in done if isinstance(each.action, Detach | Drop | Archive)}
    staying = [leaf for leaf in report.tree.leaves if leaf.name not in gone]
    made = [each.action.bounds for each in done if isinstance(each.action, Create | Sweep)]
    yield "partitions", float(len(staying) + len(made))
    yield "bytes", float(sum(leaf.bytes for leaf in staying))
    ranges = [child.bounds for child in report.tree.children if child.name not in gone] + made
    starts = [_instant(held.from_[0]) for held in ranges if isinstance(held, Range) and held.from_]
    ends = [_instant(held.to[0]) for held in ranges if isinstance(held, Range) and held.to]
    known_starts, known_ends = [each for each in starts if each], [each for each in ends if each]
    if known_ends:
        yield "days_ahead", (max(known_ends) - now).total_seconds() / 86_400
    if known_starts:
        yield "oldest_days", (now - min(known_starts)).total_seconds() / 86_400


def _instant(value: object) -> datetime | None:
    """A bound as an instant; a wall clock is taken for UTC. None for a number."""
    if isinstance(value, datetime):
        return value if value.tzinfo else value.replace(tzinfo=UTC)
    return datetime.combine(value, time(), UTC) if isinstance(value, date) else None
