"""How many of a table's leaves a query touches, in one word, and whether that is within its limit."""

from enum import StrEnum


class Verdict(StrEnum):
    """How many of its leaves a query touches, in one word."""

    NONE = "none"
    ONE = "one"
    FEW = "few"
    EVERY = "every"


class PrunedAt(StrEnum):
    """The last moment at which leaves were left out: while planning, as execution starts, while it runs."""

    PLAN = "plan"
    START = "start"
    RUN = "run"
    NEVER = "never"


def verdict(touched: int, total: int) -> Verdict:
    """One word for `touched` leaves out of `total`; the only leaf of a table is `every`."""
    if touched == 0:
        return Verdict.NONE
    if touched >= total:
        return Verdict.EVERY
    return Verdict.ONE if touched == 1 else Verdict.FEW


def pruned_at(total: int, removed: int, planned: int, executed: int | None) -> PrunedAt:
    """When the server last left leaves out.

    total     leaves of the table
    removed   leaves that were still in the plan and were left out as execution started
    planned   leaves left after that
    executed  leaves that were read in the end, None when the query did not run
    """
    if executed is not None and executed < planned:
        return PrunedAt.RUN
    if removed:
        return PrunedAt.START
    return PrunedAt.PLAN if planned < total else PrunedAt.NEVER
