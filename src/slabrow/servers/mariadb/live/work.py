"""The steps of a live conversion and of its way back: all that is done to the database.

The order is the one that lost nothing when it was measured: triggers, then the copy by pieces of the unique key, then
the changes; the last of them behind LOCK TABLES, under which another connection's RENAME is already waiting: it goes
before everybody who queued behind the lock.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from slabrow.core.upkeep.live_plan import LivePlan, ReshapingState
from slabrow.core.upkeep.statements import Check, Part, Statement, StrongLock, Transaction
from slabrow.core.upkeep.steps import RepeatedStep, Step
from slabrow.core.values.names import Name, fit
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.live.comparing import comparison
from slabrow.servers.mariadb.live.following import Following, bare_definition
from slabrow.servers.mariadb.quoting import identifier, literal
from slabrow.servers.mariadb.read.belongings import digest
from slabrow.servers.mariadb.write.definitions import create_table
from slabrow.servers.mariadb.write.upkeep import NOBODY

INCOMING = "_incoming"
FEW = 100  # changes that may wait when a step counts as being in step
_MOST_AT_SWAP = 300  # and behind the last lock
_ALL = 1_000_000
_COMPARED_FOR_MIN = 15
_ROWS_A_BLOCK = 10  # a piece of so many blocks of 16 kB holds about so many rows for each


def incoming_name(table: Name) -> Name:
    """The new table, under its passing name."""
    return table.sibling(fit(table.table, INCOMING))


@dataclass(frozen=True, slots=True)
class MariaLive:
    """`step_protocols.LiveSteps` for one plan."""

    plan: LivePlan

    @property
    def _table(self) -> Name:
        return self.plan.shape.name

    @property
    def _incoming(self) -> Name:
        return incoming_name(self._table)

    @property
    def _schema(self) -> str:
        return identifier(self.plan.schema)

    def _following(self, log: str, source: Name, target: Name) -> Following:
        columns = {column.name: column for column in self.plan.shape.columns}
        key = [columns[name] for name in self.plan.followed]
        return Following(
            Name(self.plan.schema, f"{log}_{self.plan.job}"), self.plan.job, source, target, key, self.plan.copied
        )

    @property
    def _forward(self) -> Following:
        return self._following("log", self._table, self._incoming)

    @property
    def _back(self) -> Following:
        return self._following("back", self._table, self.plan.old_name)

    # Small parts

    def _mark(self, what: str) -> Statement:
        return Statement(
            f"INSERT IGNORE INTO {self._schema}.reshaping_mark (job, what) VALUES ({self.plan.job:d}, {literal(what)})"
        )

    def _is_marked(self, what: str) -> str:
        return (
            f"SELECT EXISTS (SELECT 1 FROM {self._schema}.reshaping_mark WHERE job = {self.plan.job:d} "
            f"AND what = {literal(what)})"
        )

    def _set(self, what: str) -> Statement:
        return Statement(f"UPDATE {self._schema}.reshaping SET {what} WHERE job = {self.plan.job:d}")

    def _defining(self, name: str, statements: Iterable[str], what: str, *, locks: bool = False) -> Step:
        """Statements that commit by themselves and may be run again, and the mark that they are done."""
        made = (*map(Statement, statements), self._mark(what))
        strong = NOBODY if locks else None
        return Step(
            name=name,
            transaction=Transaction(name, made, is_atomic=False, strong=strong),
            is_done=self._is_marked(what),
        )

    # Forward

    def forward(self) -> tuple[Step, ...]:
        """Up to the moment before the swap."""
        plan, forward = self.plan, self._forward
        new = create_table(replace(plan.shape, obstacles=()), plan.layout, plan.planned, self._incoming)
        return (
            self._defining(
                "make the new table",
                (_drop(self._incoming), new, forward.making(), self._place()),
                "made",
            ),
            Step(
                name="make its partitions",
                transaction=Transaction("note what the table is", (*self._noting(), self._mark("partitions"))),
                is_done=self._is_marked("partitions"),
            ),
            self._defining("record changes", forward.recording(), "watched", locks=True),
            RepeatedStep(
                name="copy rows",
                transaction=Transaction("copy rows", tuple(self._piece())),
                is_done=f"SELECT is_done FROM {self._at}",
                is_paced=True,
            ),
            self._defining("analyse", (f"ANALYZE TABLE {quoting.table(self._incoming)}",), "analysed"),
            self._defining("prepare the way back", (self._back.making(),), "way back"),
            self._bring("bring changes over", forward),
            self._compare(),
        )

    @property
    def _at(self) -> str:
        """Where the copy is: one row."""
        return f"{self._schema}.{identifier(f'at_{self.plan.job}')}"

    def _place(self) -> str:
        forward = self._forward
        columns = ", ".join(
            f"{identifier(each.name)} {definition}"
            for each, definition in zip(forward.key, _types(forward), strict=True)
        )
        return (
            f"CREATE TABLE IF NOT EXISTS {self._at} (one tinyint NOT NULL PRIMARY KEY, is_done tinyint NOT NULL, "
            f"row_count bigint NOT NULL, {columns}) ENGINE=InnoDB SELECT 1 AS one, 0 AS is_done, 0 AS row_count"
        )

    def _noting(self) -> tuple[Statement, ...]:
        return (
            self._set(
                f"made_at = ({_made_at(self._table)}), rows_total = (SELECT table_rows FROM information_schema.tables "
                f"WHERE {_is(self._table)})"
            ),
        )

    def _piece(self) -> list[Statement]:
        """The rows of the next keys, in the order of the unique key; the last piece has no end.

        REPLACE, because a row whose key was changed meanwhile may be met twice: the log has both keys, and in the end
        only the true one stays.
        """
        keys = self._forward.key
        names = ", ".join(identifier(each.name) for each in keys)
        low = [f"@slabrow_low{place}" for place in range(len(keys))]
        high = [f"@slabrow_high{place}" for place in range(len(keys))]
        columns = ", ".join(map(identifier, self.plan.copied))
        table = quoting.table(self._table)
        rows = max(500, self.plan.piece_blocks * _ROWS_A_BLOCK)
        beyond, within = _beyond(keys_of(keys), "@slabrow_low"), _up_to(keys_of(keys), "@slabrow_high")
        return [
            Statement(
                f"SELECT is_done, {names} INTO @slabrow_done, {', '.join(low)} FROM {self._at} WHERE one = 1 FOR UPDATE"
            ),
            Statement("SET " + ", ".join(f"{each} = NULL" for each in high)),
            Statement(
                f"SELECT {names} INTO {', '.join(high)} FROM {table} WHERE {low[0]} IS NULL OR {beyond} "
                f"ORDER BY {names} LIMIT 1 OFFSET {rows - 1:d}"
            ),
            Statement(
                f"REPLACE INTO {quoting.table(self._incoming)} ({columns}) SELECT {columns} FROM {table} "
                f"WHERE NOT @slabrow_done AND ({low[0]} IS NULL OR {beyond}) AND ({high[0]} IS NULL OR {within})"
            ),
            Statement(
                f"UPDATE {self._at} SET row_count = row_count + greatest(row_count(), 0), is_done = {high[0]} IS NULL, "
                + ", ".join(f"{identifier(each.name)} = {var}" for each, var in zip(keys, high, strict=True))
                + " WHERE NOT is_done"
            ),
        ]

    def _bring(self, name: str, following: Following) -> RepeatedStep:
        return RepeatedStep(
            name=name,
            transaction=Transaction("bring changes over", tuple(following.batch())),
            is_done=f"SELECT ({following.backlog}) <= {FEW}",
            backlog=following.backlog,
        )

    def floor(self, *, back: bool) -> Transaction:
        """Logs need no floor here: what was brought over is deleted by its number."""
        return Transaction("nothing", (Statement("DO 0"),))

    # Comparison

    def _compare(self) -> Step:
        """In one statement, and so in one view of both: rows whose keys wait in the log are left out on both sides."""
        compared = Check(
            comparison(self.plan, self._forward),
            f"the copy of {self._table} differs from the original",
            doing="comparing",
            fix="give up with --give-up --go and convert again; please report it",
        )
        record = f"{self._schema}.reshaping"
        return Step(
            name="compare",
            transaction=Transaction("compare the new table with the old one", (compared,)),
            is_done=f"SELECT coalesce(compared_at > utc_timestamp(6) - INTERVAL {_COMPARED_FOR_MIN} MINUTE, 0) "
            f"FROM {record} WHERE job = {self.plan.job:d}",
            keeps=f"UPDATE {record} SET compared = %s, compared_at = utc_timestamp(6) WHERE job = {self.plan.job:d}",
        )

    # The swap

    def _locking(self, tables: Iterable[Name], renames: str) -> StrongLock:
        locks = ", ".join(f"{quoting.table(each)} WRITE" for each in tables)
        return StrongLock(NOBODY.look, gentle=renames, strong=f"LOCK TABLES {locks}")

    def swap(self) -> tuple[Step, ...]:
        """Names are exchanged behind a short lock."""
        forward, back = self._forward, self._back
        table, incoming, old = (quoting.table(each) for each in (self._table, self._incoming, self.plan.old_name))
        on_new = replace(back, source=self._incoming)
        ready = self._defining(
            "get ready to swap", (*on_new.unhooking(), *on_new.recording(), *self._counter()), "ready"
        )
        statements: tuple[Part, ...] = (
            *self._unchanged(),
            self._few(forward),
            *forward.batch(_ALL),
            Check(
                f"SELECT 'changes', 0, count(*), count(*) > 0 FROM {quoting.table(forward.log)}",
                "the last changes did not come over",
                renews=True,
            ),
            self._all_there(forward, f"rows of {self._table} are missing in the copy"),
            # What the new table's triggers have recorded so far came from the old one, which has it.
            Statement(f"DELETE FROM {quoting.table(back.log)}"),
            Statement("COMMIT"),
            *map(Statement, self._counter()),
        )
        renames = f"RENAME TABLE {table} TO {old}, {incoming} TO {table}"
        held = (self._table, self._incoming, forward.log, back.log, self._marks)
        swap = Step(
            name="swap names",
            transaction=Transaction(
                f"swap {self._table}", statements, is_atomic=False, strong=self._locking(held, renames)
            ),
            is_done=self._are_swapped,
        )
        # Comparing took a while: what has come since need not be brought over behind the lock.
        return (ready, self._bring("bring the last changes over", forward), swap, *self.after_swap())

    def _counter(self) -> tuple[str, ...]:
        """New rows are numbered on from where the old table is, also where its last rows were deleted."""
        if not any(column.identity for column in self.plan.shape.columns):
            return ()
        old, new = (
            f"coalesce((SELECT auto_increment FROM information_schema.tables WHERE {_is(each)}), 1)"
            for each in (self._table, self._incoming)
        )
        change = literal(f"ALTER TABLE {quoting.table(self._incoming)} AUTO_INCREMENT = ")
        return (
            f"SELECT {old}, {new} INTO @slabrow_next, @slabrow_reached",
            f"EXECUTE IMMEDIATE IF(@slabrow_next <= @slabrow_reached, 'DO 0', concat({change}, @slabrow_next))",
        )

    @property
    def _are_swapped(self) -> str:
        return (
            f"SELECT EXISTS (SELECT 1 FROM information_schema.tables WHERE {_is(self.plan.old_name)}) AND NOT EXISTS "
            f"(SELECT 1 FROM information_schema.tables WHERE {_is(self._incoming)})"
        )

    def _few(self, following: Following) -> Check:
        return Check(
            f"SELECT 'changes', 0, count(*), count(*) > {_MOST_AT_SWAP} FROM {quoting.table(following.log)}",
            "more changes came than fit behind a short lock",
            renews=True,
        )

    @property
    def _marks(self) -> Name:
        return Name(self.plan.schema, "reshaping_mark")

    def _all_there(self, following: Following, text: str) -> Check:
        return Check(
            following.conflicts,
            text,
            fix="look for them by GROUP BY the old unique key HAVING count(*) > 1, and change or delete all but one",
        )

    def _unchanged(self) -> tuple[Check, ...]:
        """The table is the one that was copied, and defined as it was then."""
        return (
            Check(
                f"SELECT 'definition', 0, 0, ({digest(self._table)}) <> {literal(self.plan.belongings.digest)}",
                f"{self._table} was altered while it was converted: a column, an index or a trigger is another one",
                fix="take that back, or give up with --give-up --go and convert it as it is now",
            ),
            Check(
                f"SELECT 'triggers', 3, 0, NOT ({self._forward.is_recording})",
                f"changes of {self._table} are no longer recorded: a trigger of Slabrow was dropped",
                fix="give up with --give-up --go, and convert it again",
            ),
        )

    def after_swap(self) -> tuple[Step, ...]:
        """The record says so, and the triggers leave the old table."""
        old = replace(self._forward, source=self.plan.old_name)
        return (
            Step(
                name="say that it is swapped",
                transaction=Transaction(
                    "say that it is swapped",
                    (self._set(f"state = {literal(ReshapingState.SWAPPED)}"), self._mark("swapped")),
                ),
                is_done=self._is_marked("swapped"),
            ),
            self._defining("take the triggers off the old table", old.unhooking(), "unhooked old"),
        )

    # After the swap

    def in_step(self) -> tuple[Step, ...]:
        """The old table gets what was written since."""
        return (self._bring("keep the old table in step", self._back),)

    def undo(self) -> tuple[Step, ...]:
        """Back to the old table, with everything that was written since."""
        back = self._back
        table, incoming, old = (quoting.table(each) for each in (self._table, self._incoming, self.plan.old_name))
        statements: tuple[Part, ...] = (
            self._few(back),
            *back.batch(_ALL),
            Check(
                f"SELECT 'changes', 0, count(*), count(*) > 0 FROM {quoting.table(back.log)}",
                "the last changes did not come back",
                renews=True,
            ),
            self._all_there(
                back, f"rows of {self._table} share a key that only one row may have in {self.plan.old_name}"
            ),
            Statement("COMMIT"),
        )
        renames = f"RENAME TABLE {table} TO {incoming}, {old} TO {table}"
        held = (self._table, self.plan.old_name, back.log, self._marks)
        return (
            *self.after_swap()[1:],
            self._bring("bring changes back", back),
            Step(
                name="swap back",
                transaction=Transaction(
                    f"swap {self._table} back", statements, is_atomic=False, strong=self._locking(held, renames)
                ),
                is_done=f"SELECT NOT ({self._are_swapped})",
            ),
            *self.after_undo(),
        )

    def after_undo(self) -> tuple[Step, ...]:
        """The new table goes."""
        on_new = replace(self._back, source=self._incoming)
        return (
            Step(
                name="say that it is undone",
                transaction=Transaction(
                    "say that it is undone",
                    (self._set(f"state = {literal(ReshapingState.UNDONE)}"), self._mark("undone")),
                ),
                is_done=self._is_marked("undone"),
            ),
            self._defining(
                "remove the new table",
                (*on_new.unhooking(), _drop(self._incoming)),
                "new table removed",
            ),
            *self._end(ReshapingState.UNDONE),
        )

    def let_go(self) -> tuple[Step, ...]:
        """The old table is no longer kept in step, and dropped."""
        return (
            self._defining("stop keeping it in step", self._back.unhooking(), "let go", locks=True),
            self._defining(
                "drop the old table",
                (_drop(self.plan.old_name),),
                "old table dropped",
            ),
            *self._end(ReshapingState.DONE),
        )

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the swap."""
        return (
            Step(
                name="say that it is given up",
                transaction=Transaction(
                    "say that it is given up",
                    (self._set(f"state = {literal(ReshapingState.GIVEN_UP)}"), self._mark("given up")),
                ),
                is_done=self._is_marked("given up"),
            ),
            self._defining("take the triggers away", self._forward.unhooking(), "unhooked", locks=True),
            self._defining("remove the new table", (_drop(self._incoming),), "new table removed"),
            *self._end(ReshapingState.GIVEN_UP),
        )

    def _end(self, state: str) -> tuple[Step, ...]:
        """The logs go, and the record is closed."""
        logs = (self._forward.dropping(), self._back.dropping(), f"DROP TABLE IF EXISTS {self._at}")
        return (
            self._defining("remove the logs", logs, "logs removed"),
            Step(
                name="end",
                transaction=Transaction("end", (self._set(f"state = {literal(state)}, ended = utc_timestamp(6)"),)),
                is_done=f"SELECT ended IS NOT NULL FROM {self._schema}.reshaping WHERE job = {self.plan.job:d}",
            ),
        )


def _drop(table: Name) -> str:
    return f"DROP TABLE IF EXISTS {quoting.table(table)}"


def _is(table: Name) -> str:
    return f"table_schema = {literal(table.schema or '')} AND table_name = {literal(table.table)}"


def _made_at(table: Name) -> str:
    return f"SELECT create_time FROM information_schema.tables WHERE {_is(table)}"


def keys_of(keys: Iterable[object]) -> list[str]:
    """The names of key columns, as SQL."""
    return [identifier(str(getattr(each, "name", each))) for each in keys]


def _beyond(keys: list[str], variable: str) -> str:
    """`(a, b) > (…)`, written out: as rows the server would not search by it."""
    arms = []
    for place, key in enumerate(keys):
        equal = [f"{before} = {variable}{at}" for at, before in enumerate(keys[:place])]
        arms.append("(" + " AND ".join([*equal, f"{key} > {variable}{place}"]) + ")")
    return "(" + " OR ".join(arms) + ")"


def _up_to(keys: list[str], variable: str) -> str:
    arms = []
    for place, key in enumerate(keys):
        equal = [f"{before} = {variable}{at}" for at, before in enumerate(keys[:place])]
        sign = "<=" if place == len(keys) - 1 else "<"
        arms.append("(" + " AND ".join([*equal, f"{key} {sign} {variable}{place}"]) + ")")
    return "(" + " OR ".join(arms) + ")"


def _types(following: Following) -> list[str]:
    return [f"{bare_definition(each)} NULL" for each in following.key]
