"""Steps that leave a mark in the work's record, in the transaction that does them: a kill leaves both or none."""

from collections.abc import Iterable
from dataclasses import dataclass

from slabrow.core.upkeep.statements import Part, Statement, StrongLock, Transaction
from slabrow.core.upkeep.steps import Piece, Step
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.reshapings import is_marked, marked

_COMPARED_FOR = "15 minutes"


@dataclass(frozen=True, slots=True)
class Record:
    """Of the work with the number `job`, in the ledger's schema."""

    schema: str
    job: int

    @property
    def table(self) -> str:
        """The table of the records as SQL."""
        return f"{identifier(self.schema)}.reshaping"

    def mark(self, what: str) -> Statement:
        """The statement that says that something is done."""
        return Statement(marked(self.schema, self.job, what))

    def is_marked(self, what: str) -> str:
        """The query for that."""
        return is_marked(self.schema, self.job, what)

    def set(self, what: str) -> Statement:
        """Changes the record. what: as after SET."""
        return Statement(f"UPDATE {self.table} SET {what} WHERE job = {self.job:d}")

    def comparing(self, transaction: Transaction) -> Step:
        """The step that compares, and keeps what it found. After a long pause both are compared again."""
        of_job = f"WHERE job = {self.job:d}"
        return Step(
            name="compare",
            transaction=transaction,
            is_done="SELECT compared IS NOT NULL AND clock_timestamp() - (details->>'compared_at')::timestamptz < "
            f"'{_COMPARED_FOR}' FROM {self.table} {of_job}",
            keeps=f"UPDATE {self.table} SET compared = $1::text::jsonb, "
            f"details = details || jsonb_build_object('compared_at', clock_timestamp()) {of_job}",
        )

    def step(self, name: str, parts: Iterable[Part], what: str, purpose: str, strong: StrongLock | None = None) -> Step:
        """A step that leaves the mark `what`."""
        made = Transaction(purpose, (*parts, self.mark(what)), strong=strong)
        return Step(name=name, transaction=made, is_done=self.is_marked(what))

    def piece(self, parts: Iterable[Part], what: str, purpose: str, strong: StrongLock | None = None) -> Piece:
        """A piece that leaves the mark `what`."""
        made = Transaction(purpose, (*parts, self.mark(what)), strong=strong)
        return Piece(made, self.is_marked(what))
