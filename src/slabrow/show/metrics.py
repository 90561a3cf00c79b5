"""Upkeep as OpenMetrics text, for whatever collects it from a file (N44). See docs/guide/keeping.md for the names."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from datetime import UTC, date, datetime, time
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Range
from slabrow.core.upkeep.actions import Archive, Create, Detach, Drop, Sweep
from slabrow.core.upkeep.planned_partitions import ahead_of, as_key
from slabrow.core.values.method import By
from slabrow.work.tending.upkeep_result import State, TableReport, TendResult

if TYPE_CHECKING:
    from prometheus_client import CollectorRegistry
    from prometheus_client.metrics_core import Metric

_LABELS = ("table", "server")
_SUCCESS = "last_success_timestamp_seconds"

Successes = dict[tuple[str, str], float]  # when a table of a server was last as its layout says: seconds of Unix time


def successes_of(families: "Iterable[Metric]") -> Successes:
    """The times of the last success in the measures of an earlier run."""
    return {
        (sample.labels["table"], sample.labels["server"]): sample.value
        for family in families
        for sample in family.samples
        if sample.name == f"slabrow_{_SUCCESS}" and sample.labels.keys() >= set(_LABELS)
    }


def successes_in(text: str) -> Successes:
    """The same of an OpenMetrics text. Raises ValueError when it is none."""
    from prometheus_client.openmetrics.parser import text_string_to_metric_families

    return successes_of(text_string_to_metric_families(text))  # type: ignore[no-untyped-call]


def upkeep_metrics(registry: "CollectorRegistry") -> str:
    """As text, ended by `# EOF`."""
    from prometheus_client.openmetrics.exposition import generate_latest

    text: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return text.decode()


def upkeep_registry(result: TendResult, earlier: Mapping[tuple[str, str], float]) -> "CollectorRegistry":
    """One family for each measure, with the table and the server as its labels. earlier: successes before this run."""
    from prometheus_client import CollectorRegistry, Gauge

    registry = CollectorRegistry()
    gauges = {name: Gauge(f"slabrow_{name}", text, _LABELS, registry=registry) for name, text in _MEASURES.items()}
    for report in result.reports:
        labels = str(report.layout.table), report.server or ""
        measured = dict(_measured(report, result.now))
        if measured["success"]:
            measured[_SUCCESS] = result.now.timestamp()
        elif labels in earlier:
            measured[_SUCCESS] = earlier[labels]
        for name, value in measured.items():
            gauges[name].labels(*labels).set(value)
    last = Gauge("slabrow_last_run_timestamp_seconds", "When upkeep last ran", registry=registry)
    last.set(result.now.timestamp())
    return registry


_MEASURES = {
    "partitions": "Leaves of the table",
    "bytes": "Bytes of all leaves, indexes included",
    "partitions_ahead": "Partitions that begin beyond now, or beyond the greatest key of whole numbers",
    "missing_ahead": "Partitions that ahead asks for and that are not there",
    "days_ahead": "Days from now to the end of the last partition by time",
    "oldest_days": "Days from the beginning of the oldest partition by time to now",
    "catch_all_rows": "Rows in the catch-all that belong into a partition, or into none",
    "largest_bytes": "Bytes of the largest leaf, indexes included",
    "unmet": "Wishes of the layout (wanted) that do not hold; only with --check",
    "failures": "Actions that the server refused in this run",
    "lock_waits": "Tries in this run that got no lock",
    "refused": "1 when a guard or an error kept this table from being tended",
    "retired": "Partitions that left in this run",
    "success": "1 when nothing is left to do",
    _SUCCESS: "When nothing was left to do for the last time",
}


def _measured(report: TableReport, now: datetime) -> Iterator[tuple[str, float]]:
    done = [each for each in report.tended if each.state is State.DONE]
    left = [each for each in report.tended if each.state is not State.DONE]
    if report.layout.wanted is not None:
        yield "unmet", float(len(report.unmet))
    yield "failures", sum(each.state is State.FAILED for each in report.tended)
    yield "lock_waits", sum(each.lock_waits for each in report.tended)
    yield "refused", float(report.error is not None)
    yield "retired", sum(isinstance(each.action, Detach | Drop | Archive) for each in done)
    yield "missing_ahead", float(replace(report, tended=tuple(left)).ahead_missing)
    yield "catch_all_rows", float(report.catch_all_rows_left)
    yield "success", float(report.error is None and not left)
    if report.tree is None:
        return
    gone = {each.action.partition for each in done if isinstance(each.action, Detach | Drop | Archive)}
    staying = [leaf for leaf in report.tree.leaves if leaf.name not in gone]
    made = [each.action.bounds for each in done if isinstance(each.action, Create | Sweep)]
    yield "partitions", float(len(staying) + len(made))
    yield "bytes", float(sum(leaf.bytes for leaf in staying))
    yield "largest_bytes", float(max((leaf.bytes for leaf in staying), default=0))
    ranges = [child.bounds for child in report.tree.children if child.name not in gone] + made
    if report.here is not None and report.layout.by is By.RANGE:
        here = as_key(report.here, report.tree.kinds[0], ZoneInfo(report.layout.zone))
        known = [held for held in ranges if isinstance(held, Range) and not held.is_opaque]
        yield "partitions_ahead", float(ahead_of(here, known))
    starts = [_instant(held.from_[0]) for held in ranges if isinstance(held, Range) and held.from_]
    ends = [_instant(held.to[0]) for held in ranges if isinstance(held, Range) and held.to]
    known_starts, known_ends = [each for each in starts if each], [each for each in ends if each]
    if known_ends:
        yield "days_ahead", (max(known_ends) - now).total_seconds() / 86_400
    if known_starts:
        yield "oldest_days", (now - min(known_starts)).total_seconds() / 86_400


def _instant(value: object) -> datetime | None:
    """A bound as an instant; a time without a zone is read as UTC. None for a number."""
    if isinstance(value, datetime):
        return value if value.tzinfo else value.replace(tzinfo=UTC)
    return datetime.combine(value, time(), UTC) if isinstance(value, date) else None
