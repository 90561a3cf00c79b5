"""The query-window rule (N09): how many range partitions a window of a given width can touch."""

from collections.abc import Sequence
from dataclasses import dataclass


def most_touched(window: int, span: int) -> int:
    """The most range partitions that a query window can touch, wherever it begins.

    window   its width, in steps of the key: microseconds for a timestamp, 1 for an integer
    span     the width of every partition, in the same steps
    Returns a count from 1 up, which some beginning of the window reaches; the catch-all is not counted.
    Raises ValueError when either width is below one step.

    >>> most_touched(window=7, span=1), most_touched(window=2, span=30)
    (7, 2)
    """
    if window < 1 or span < 1:
        raise ValueError(f"widths are whole steps from 1 up, not window={window}, span={span}")
    # The first step may be the last of its partition; each `span` steps after it need one partition more.
    return 1 + -(-(window - 1) // span)


@dataclass(frozen=True, slots=True)
class WindowRule:
    """The windows of a workload against the spans of a layout.

    usual        the width that 95 of 100 windowed queries stay within, in steps of the key
    widest       of all
    most_usual, most_widest   the partitions that such a window touches at most
    span_for_two the narrowest span with which the widest window touches two partitions
    share        of the workload's queries that have a window, 0 to 1
    """

    usual: int
    widest: int
    most_usual: int
    most_widest: int
    span_for_two: int
    share: float


def window_rule(windows: Sequence[tuple[int, float]], span: int, weight: float) -> WindowRule | None:
    """windows: width and weight of each; weight: of the whole workload. None without windows."""
    if not windows:
        return None
    ordered = sorted(windows)
    total = sum(each for _, each in ordered)
    passed = 0.0
    usual = ordered[-1][0]
    for width, each in ordered:
        passed += each
        if passed >= 0.95 * total:
            usual = width
            break
    widest = ordered[-1][0]
    return WindowRule(
        usual=usual,
        widest=widest,
        most_usual=most_touched(max(1, usual), span),
        most_widest=most_touched(max(1, widest), span),
        span_for_two=max(1, widest - 1),
        share=min(1.0, total / weight) if weight else 0.0,
    )
