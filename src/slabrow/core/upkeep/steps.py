"""Steps of long work: what is done as a whole, recorded as a whole, and taken up again after a kill.

Long work (a conversion, later a split or a move to another server) is a list of steps. Each step has the transaction
that does it, a question whose answer tells whether it is done already, and the transaction that undoes it. Whether a
step is done is read from the database itself, never only from the record of it: so a kill between two steps, or between
a step and its record, loses nothing, and the same command goes on from there.
"""

from dataclasses import dataclass
from enum import StrEnum

from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.names import Name


class StepState(StrEnum):
    """`already` is a step that an earlier run has done."""

    PROPOSED = "proposed"
    DONE = "done"
    ALREADY = "already"
    UNDONE = "undone"


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One step.

    name          what it is called in the ledger and on the screen; no two steps of one work have the same
    transaction   does it, wholly or not at all
    is_done       a query of one row with one truth value: whether nothing is left to do. It must not fail on a table
                  that is not there yet
    undo          takes it back; None for a step that leaves nothing to take back, or cannot be taken back
    """

    name: str
    transaction: Transaction
    is_done: str
    undo: Transaction | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class LongWork:
    """Steps in their order. kind: as the ledger has it, such as `convert`; table: whose table it is."""

    kind: str
    table: Name
    steps: tuple[Step, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class StepReport:
    """The end of a step. duration_ms: None for a step that this run did not do.

    checked   the rows of each Check in the step, in their order: (what, number before, number after, differs)
    """

    name: str
    state: StepState
    duration_ms: float | None = None
    lock_waits: int = 0
    checked: tuple[tuple[tuple[object, ...], ...], ...] = ()
