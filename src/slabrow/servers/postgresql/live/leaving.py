"""The steps by which a conversion leaves: the old table is let go of, or everything is taken away before the swap."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from slabrow.core.upkeep.live_plan import LivePlan, ReshapingState
from slabrow.core.upkeep.statements import Part, Statement, Transaction
from slabrow.core.upkeep.steps import Piece, SpreadStep, Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import Following
from slabrow.servers.postgresql.live.guarding import Guard
from slabrow.servers.postgresql.live.locking import ALL_OUT, WRITERS_OUT, strong_lock
from slabrow.servers.postgresql.live.names import incoming_name
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.reshapings import is_marked, marked

LOG_TRIGGER, BACK_TRIGGER = "slabrow_log", "slabrow_back"


@dataclass(frozen=True, slots=True)
class Leaving:
    """forward, back: the logs of the two directions, with the tables in their places."""

    plan: LivePlan
    forward: Following
    back: Following

    @property
    def _table(self) -> Name:
        return self.plan.shape.name

    @property
    def _record(self) -> str:
        return f"{identifier(self.plan.schema)}.reshaping"

    @property
    def _guard(self) -> Guard:
        return Guard(self.plan.schema, self.plan.job, self._table, "swapped")

    def _mark(self, what: str) -> Statement:
        return Statement(marked(self.plan.schema, self.plan.job, what))

    def _is_marked(self, what: str) -> str:
        return is_marked(self.plan.schema, self.plan.job, what)

    def _set(self, what: str) -> Statement:
        return Statement(f"UPDATE {self._record} SET {what} WHERE job = {self.plan.job}")

    def _step(self, name: str, transaction: Transaction, is_done: str) -> Step:
        return Step(name=name, transaction=transaction, is_done=is_done)

    def _marked_step(
        self, name: str, statements: Iterable[Statement], what: str, purpose: str, **strong: object
    ) -> Step:
        parts: tuple[Part, ...] = (*statements, self._mark(what))
        made = Transaction(purpose, parts, **strong)  # type: ignore[arg-type]
        return self._step(name, made, self._is_marked(what))

    def let_go(self) -> tuple[Step, ...]:
        """The old table is no longer kept in step, and dropped."""
        back, tables = self.back, (self._table, *self.back.source_leaves)
        return (
            self._marked_step(
                "stop keeping it in step",
                back.silencing(),
                "silenced",
                f"switch off the triggers of {self._table}",
                strong=strong_lock(self._table, tables, WRITERS_OUT),
            ),
            self._marked_step(
                "take the triggers away",
                (*back.removing(), *self._guard.taking_down()),
                "unhooked",
                f"take the triggers of {self._table} away",
                strong=strong_lock(self._table, tables, ALL_OUT),
            ),
            *self.remove(
                "drop the old table",
                self.plan.old_name,
                self.plan.leaves if self.plan.is_partitioned else (),
                "old table removed",
            ),
            self.end(ReshapingState.DONE),
        )

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the swap."""
        forward, tables = self.forward, (self._table, *self.plan.leaves)
        name = literal(str(self._table))
        no_trigger = (
            f"SELECT NOT EXISTS (SELECT FROM pg_trigger WHERE tgrelid = {name}::regclass "
            f"AND tgname = {literal(LOG_TRIGGER)}"
        )
        return (
            self._step(
                "say that it is given up",
                Transaction("say that it is given up", (self._set(f"state = {literal(ReshapingState.GIVEN_UP)}"),)),
                f"SELECT state = {literal(ReshapingState.GIVEN_UP)} FROM {self._record} WHERE job = {self.plan.job}",
            ),
            self._step(
                "stop recording changes",
                Transaction(
                    f"switch off the triggers of {self._table}",
                    tuple(forward.silencing()),
                    strong=strong_lock(self._table, tables, WRITERS_OUT),
                ),
                no_trigger + " AND tgenabled <> 'D')",
            ),
            self._step(
                "take the triggers away",
                Transaction(
                    f"take the triggers of {self._table} away",
                    tuple(forward.removing()),
                    strong=strong_lock(self._table, tables, ALL_OUT),
                ),
                no_trigger + ")",
            ),
            *self.remove(
                "remove the new table", incoming_name(self._table), self.back.source_leaves, "new table removed"
            ),
            self.end(ReshapingState.GIVEN_UP),
        )

    def remove(self, name: str, table: Name, leaves: Sequence[Name], what: str) -> Iterator[SpreadStep]:
        """A table and its leaves, one a transaction, so that no lock table is exhausted."""

        def dropped(each: Name) -> Piece:
            sql = f"DROP TABLE IF EXISTS {quoting.table(each)}"
            gone = f"SELECT to_regclass({literal(str(each))}) IS NULL"
            return Piece(Transaction(f"drop {each}", (Statement(sql),)), gone)

        yield SpreadStep(
            name=name,
            pieces=tuple(map(dropped, leaves)),
            transaction=Transaction(f"drop {table}", (*dropped(table).transaction.statements, self._mark(what))),
            is_done=self._is_marked(what),
        )

    def end(self, state: str) -> Step:
        """The logs go, and the record says how it ended."""
        logs: Iterator[Statement] = (
            statement for following in (self.forward, self.back) for statement in following.dropping()
        )
        ended = self._set(f"state = {literal(state)}, ended = clock_timestamp()")
        return self._step(
            "clear away",
            Transaction("drop the logs", (*logs, *self._guard.dropping(), ended)),
            f"SELECT ended IS NOT NULL FROM {self._record} WHERE job = {self.plan.job}",
        )
