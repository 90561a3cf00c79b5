"""Steps of long work: what is done as a whole, recorded as a whole, and taken up again after a kill.

Long work (a conversion, later a split or a move to another server) is a list of steps. Each step has the transaction
that does it, a question whose answer tells whether it is done already, and the transaction that undoes it. Whether a
step is done is read from the database itself, never only from the record of it: so a kill between two steps, or between
a step and its record, loses nothing, and the same command goes on from there.

Three kinds of step: one transaction; many independent pieces, which several sessions do side by side; and one
transaction that is run again and again until nothing is left for it.
"""

from dataclasses import dataclass
from enum import StrEnum

from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.names import Name

NOT_YET = ""


class StepState(StrEnum):
    """`already` is a step that an earlier run has done."""

    PROPOSED = "proposed"
    DONE = "done"
    ALREADY = "already"
    UNDONE = "undone"


class Phase(StrEnum):
    """How far long work is, in the words of the contract (DESIGN §4)."""

    PROPOSED = "proposed"
    COPYING = "copying"
    FOLLOWING = "following"
    SWAPPED = "swapped"
    DONE = "done"
    UNDONE = "undone"
    GIVEN_UP = "given-up"


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One step.

    name          what it is called in the ledger and on the screen; no two steps of one work have the same
    transaction   does it, wholly or not at all
    is_done       a query of one row with one truth value: whether nothing is left to do. It must not fail on a table
                  that is not there yet. NOT_YET where a plan that is made anew holds only what is left
    undo          takes it back; None for a step that leaves nothing to take back, or cannot be taken back
    keeps         a statement that stores the rows of the step's last Check, as its one parameter, a JSON text
    """

    name: str
    transaction: Transaction
    is_done: str
    undo: Transaction | None = None
    keeps: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class RepeatedStep(Step):
    """A step whose transaction is run again and again until `is_done`.

    is_wide    whether several sessions may do so at the same time
    is_paced   whether it gives way to the server's other work
    whole      run instead, once, when rows of two transactions are in each other's way: all that is left, at once
    backlog    a query of how much is left: when it never falls, the step ends instead of going on for ever
    waits_for  a query of (who,) for those it waits for; None for a step that works
    """

    is_wide: bool = False
    is_paced: bool = False
    whole: Transaction | None = None
    backlog: str | None = None
    waits_for: str | None = None


@dataclass(frozen=True, slots=True)
class Piece:
    """An independent part of a step. is_done: as of a step."""

    transaction: Transaction
    is_done: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SpreadStep(Step):
    """A step of independent pieces, which several sessions may do side by side, and then its transaction.

    is_serial   they would only be in each other's way: one session does them
    """

    pieces: tuple[Piece, ...]
    is_serial: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class LongWork:
    """Steps in their order. kind: as the ledger has it, such as `convert`; table: whose table it is."""

    kind: str
    table: Name
    steps: tuple[Step, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class StepReport:
    """The end of a step. duration_ms: None for a step that this run did not do.

    longest_lock_ms   how long its strongest lock was held, at most; None for a step without one
    checked   the rows of each Check in the step, in their order: (what, number before, number after, differs)
    """

    name: str
    state: StepState
    duration_ms: float | None = None
    lock_waits: int = 0
    rows: int | None = None
    longest_lock_ms: float | None = None
    checked: tuple[tuple[tuple[object, ...], ...], ...] = ()
