"""The steps of a live conversion and of its way back: all that is done to the database."""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from slabrow.core.upkeep.live_plan import LivePlan, ReshapingState
from slabrow.core.upkeep.statements import Check, Part, Statement, Transaction
from slabrow.core.upkeep.steps import Piece, RepeatedStep, SpreadStep, Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.cleaning import STEP
from slabrow.servers.postgresql.live.exchanging import Exchange
from slabrow.servers.postgresql.live.following import Following
from slabrow.servers.postgresql.live.guarding import Guard
from slabrow.servers.postgresql.live.leaving import BACK_TRIGGER, LOG_TRIGGER, Leaving
from slabrow.servers.postgresql.live.locking import ALL_OUT, WRITERS_OUT, look_only, strong_lock
from slabrow.servers.postgresql.live.making import Making
from slabrow.servers.postgresql.live.names import BEFORE, INCOMING, incoming_name
from slabrow.servers.postgresql.live.old_transactions import OldTransactions
from slabrow.servers.postgresql.live.records import Record
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.read.belongings import digest
from slabrow.servers.postgresql.reshapings import is_marked, marked
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.comparison import Comparison

FEW = 100  # changes that may wait when a step counts as being in step
MOST_AT_SWAP = 1_000  # and behind the last lock
_UNDONE = "undone"
_UNUSED_WAIT_MS = 5_000  # for a lock on a table that applications no longer use


@dataclass(frozen=True, slots=True)
class LiveWork:
    """`protocols.LiveSteps` for one plan. jobs: how many sessions work side by side."""

    plan: LivePlan
    jobs: int

    @property
    def _table(self) -> Name:
        return self.plan.shape.name

    @property
    def incoming(self) -> Name:
        """The new table, under its passing name."""
        return incoming_name(self._table)

    @property
    def new_leaves(self) -> tuple[Name, ...]:
        """The leaves of the new table."""
        return tuple(self._table.sibling(leaf.name) for top in self.plan.planned for leaf in top.leaves)

    def _following(self, name: str, trigger: str) -> Following:
        return Following(
            schema=self.plan.schema,
            job=self.plan.job,
            name=f"{name}_{self.plan.job}",
            trigger=trigger,
            source=self._table,
            source_leaves=(),
            is_partitioned=False,
            target=self.incoming,
            logged=self.plan.logged,
            followed=len(self.plan.followed),
            columns=self.plan.copied,
            overrides=any(column.identity for column in self.plan.shape.columns),
        )

    @property
    def forward_following(self) -> Following:
        """Of the table in its place to the new one."""
        return replace(
            self._following("log", LOG_TRIGGER),
            source_leaves=self.plan.leaves,
            is_partitioned=self.plan.is_partitioned,
        )

    @property
    def back_following(self) -> Following:
        """Of the new table, in its place, to the old one."""
        return replace(
            self._following("back", BACK_TRIGGER),
            source_leaves=self.new_leaves,
            is_partitioned=True,
            target=self.plan.old_name,
            empties=True,
        )

    @property
    def _making(self) -> Making:
        return Making(self.plan, self.forward_following)

    def _mark(self, what: str) -> Statement:
        return Statement(marked(self.plan.schema, self.plan.job, what))

    def _is_marked(self, what: str) -> str:
        return is_marked(self.plan.schema, self.plan.job, what)

    @property
    def _record(self) -> str:
        return f"{identifier(self.plan.schema)}.reshaping"

    def _set(self, what: str) -> Statement:
        return Statement(f"UPDATE {self._record} SET {what} WHERE job = {self.plan.job}")

    def _step(self, name: str, transaction: Transaction, is_done: str) -> Step:
        return Step(name=name, transaction=transaction, is_done=is_done)

    def _marked_step(self, name: str, statements: Iterable[Part], what: str, purpose: str, **strong: object) -> Step:
        made = Transaction(purpose, (*statements, self._mark(what)), **strong)  # type: ignore[arg-type]
        return self._step(name, made, self._is_marked(what))

    # Forward

    def forward(self) -> tuple[Step, ...]:
        """Up to the moment before the swap."""
        making, following = self._making, self.forward_following
        return (
            self._step("make the new table", making.table(), making.table_is_done),
            SpreadStep(
                name="make its partitions",
                pieces=making.partitions(),
                transaction=Transaction("say that they are made", (self._mark("partitions"),)),
                is_done=self._is_marked("partitions"),
            ),
            self._watch(),
            self._step("divide the copy", making.copying.dividing(self.jobs), making.copying.is_divided),
            RepeatedStep(
                name="copy rows",
                transaction=making.copying.piece(),
                is_done=making.copying.is_copied,
                is_wide=True,
                is_paced=True,
                backlog=f"SELECT count(*) FROM {identifier(self.plan.schema)}.reshaping_piece "
                f"WHERE job = {self.plan.job} AND NOT is_done",
            ),
            self._note_transactions(),
            SpreadStep(
                name="build keys and indexes",
                pieces=making.leaf_indexes(),
                transaction=making.completing(),
                is_done=making.is_complete,
            ),
            self._step("analyse", making.analysing(), making.is_analysed),
            self._way_back(),
            self._bring("bring changes over", following),
            self._compare(),
            SpreadStep(
                name=STEP,
                pieces=making.cleaned(),
                transaction=Transaction("say that cleaning is allowed", (self._mark("cleaned"),)),
                is_done=self._is_marked("cleaned"),
            ),
            self._wait(),
        )

    def _watch(self) -> Step:
        following = self.forward_following
        statements = (
            *following.recording(),
            self._set("horizon = pg_snapshot_xmin(pg_current_snapshot())::xid"),
        )
        strong = strong_lock(self._table, (self._table, *self.plan.leaves), WRITERS_OUT)
        return self._marked_step(
            "record changes", statements, "watched", f"record the changes of {self._table}", strong=strong
        )

    def _note_transactions(self) -> Step:
        """Who has a snapshot from before the copy would find an empty table after the swap: they are waited for."""
        return self._step(
            "note open transactions",
            Transaction("note the open transactions", (self._old_transactions.noting(),)),
            self._old_transactions.are_noted,
        )

    @property
    def _old_transactions(self) -> OldTransactions:
        return OldTransactions(self.plan.schema, self.plan.job)

    def _guard(self, mark: str) -> Guard:
        return Guard(self.plan.schema, self.plan.job, self._table, mark)

    def _way_back(self) -> Step:
        """The log of the way back, and its trigger, switched off until the swap."""
        back = replace(self.back_following, source=self.incoming)
        row_trigger = f"ALTER TABLE {quoting.table(self.incoming)} DISABLE TRIGGER {identifier(BACK_TRIGGER)}"
        return self._marked_step(
            "prepare the way back",
            (*back.creation(), *back.recording(), Statement(row_trigger)),
            "way back",
            "make the log for the way back",
        )

    def _bring(self, name: str, following: Following) -> RepeatedStep:
        return RepeatedStep(
            name=name,
            transaction=Transaction("bring changes over", tuple(following.batch())),
            whole=Transaction("bring all changes over", tuple(following.batch(None))),
            is_done=f"SELECT ({following.backlog}) <= {FEW}",
            backlog=following.backlog,
        )

    def floor(self, *, back: bool) -> Transaction:
        """Keeps batches from looking at the places of entries that are gone."""
        following = self.back_following if back else self.forward_following
        return Transaction("raise the floor of the log", tuple(following.raising_floor()))

    def _compare(self) -> Step:
        """In one snapshot: all changes that are visible are brought over, and then both must be equal."""
        plan = self.plan
        columns = tuple(column.name for column in plan.shape.columns)
        comparison = Comparison(
            self.forward_following.from_source, self.incoming, plan.layout, plan.planned, columns, plan.key_type,
            record_hash=plan.record_hash,
        )  # fmt: skip
        statements: tuple[Part, ...] = (
            *self.forward_following.batch(None),
            *(
                Statement(f"SET LOCAL {name} = on")
                for name in ("enable_hashjoin", "enable_mergejoin", "enable_seqscan")
            ),
            self._same_columns(),
            Check(
                comparison.query(),
                f"the copy of {self._table} differs from the original",
                doing="comparing",
                fix="give up with --give-up --go and convert again; please report it",
            ),
        )
        return Record(plan.schema, plan.job).comparing(
            Transaction("compare the new table with the old one", statements)
        )

    def _wait(self) -> RepeatedStep:
        return RepeatedStep(
            name="wait for old transactions",
            transaction=Transaction("bring changes over", tuple(self.forward_following.batch())),
            whole=Transaction("bring all changes over", tuple(self.forward_following.batch(None))),
            # The comparison takes long: what came meanwhile is brought over here, and little is left for the lock.
            is_done=f"{self._old_transactions.have_ended} AND ({self.forward_following.backlog}) <= {FEW}",
            backlog=self.forward_following.backlog,
            waits_for=self._old_transactions.who,
        )

    def _same_columns(self) -> Check:
        def columns(name: Name) -> str:
            return (
                "SELECT array_agg(attname || ' ' || format_type(atttypid, atttypmod) || ' ' || attnotnull "
                "ORDER BY attnum) AS held FROM pg_catalog.pg_attribute WHERE attrelid = "
                f"{literal(str(name))}::regclass AND attnum > 0 AND NOT attisdropped"
            )

        query = (
            "SELECT 'columns' AS what, cardinality(o.held) AS before, cardinality(n.held) AS after, "
            # The key's columns have become NOT NULL in the new one.
            "ARRAY(SELECT regexp_replace(c, ' (true|false)$', '') FROM unnest(o.held) c) IS DISTINCT FROM "
            "ARRAY(SELECT regexp_replace(c, ' (true|false)$', '') FROM unnest(n.held) c) AS differs "
            f"FROM ({columns(self._table)}) o, ({columns(self.incoming)}) n"
        )
        return Check(
            query,
            f"the columns of {self._table} have changed since the conversion began",
            fix="give up with --give-up --go, and convert it again as it is now",
        )

    # The swap

    def _exchange(self) -> Exchange:
        return Exchange(
            shape=self.plan.shape,
            belongings=self.plan.belongings,
            away=self.plan.old_name,
            away_suffix=BEFORE,
            come=self.incoming,
            come_suffix=INCOMING,
            is_furnished=False,
            has_parts=True,
            leaves=self.new_leaves,
            version=self.plan.version,
        )

    def swap(self) -> tuple[Step, ...]:
        """Names are exchanged behind a short lock; then foreign keys are checked, without one."""
        forward, back, exchange = self.forward_following, self.back_following, self._exchange()
        statements: tuple[Part, ...] = (
            *self.same_table(exchange),
            self._same_leaves(),
            self._recorded(forward),
            Check(
                f"SELECT 'changes', 0, count(*), count(*) > {MOST_AT_SWAP} AS differs FROM {forward.log}",
                "more changes came than fit behind a short lock",
                renews=True,
            ),
            Check(
                f"SELECT 'table', 0, 1, {forward.has_marker} AS differs",
                f"{self._table} was emptied by TRUNCATE",
                renews=True,
            ),
            *forward.bringing_over(None),
            Check(forward.same_rows("rows"), "the last changes did not come over"),
            *forward.consuming(),
            *exchange.statements(),
            *self._guard("swapped").putting_up(),
            Statement(f"DELETE FROM {back.log}"),
            Statement(f"ALTER TABLE {quoting.table(self._table)} ENABLE ALWAYS TRIGGER {identifier(BACK_TRIGGER)}"),
            self._set(f"state = {literal(ReshapingState.SWAPPED)}, floor = 0, ceiling = 0, ceiling_xid = '0'"),
        )
        strong = strong_lock(self._table, (self._table, *self.plan.leaves), ALL_OUT, exchange.beside, self.new_leaves)
        swap = self._marked_step("swap names", statements, "swapped", f"swap {self._table}", strong=strong)
        return (swap, *self.after_swap())

    def after_swap(self) -> tuple[Step, ...]:
        """The foreign keys are checked."""
        return (self._unhook(), self._checking("check foreign keys", self._exchange(), "foreign keys"))

    def _unhook(self) -> Step:
        """The triggers leave the old table, which nobody uses any more, before anything is written to it."""
        old = replace(self.forward_following, source=self.plan.old_name)
        if not self.plan.is_partitioned:
            old = replace(old, source_leaves=(self.plan.old_name,))
        return self._marked_step(
            "take the triggers off the old table",
            (ddl.lock_timeout(_UNUSED_WAIT_MS), *old.removing()),
            "unhooked old",
            f"take the triggers of {self.plan.old_name} away",
        )

    def _checking(self, name: str, exchange: Exchange, what: str) -> SpreadStep:
        pieces = tuple(
            Piece(
                Transaction(
                    purpose, (Statement(sql), self._mark(f"{what}: {purpose}")),
                    strong=look_only(locked, ALL_OUT) if locked else None,
                ),
                self._is_marked(f"{what}: {purpose}"),
            )
            for purpose, sql, locked in exchange.checks()
        )  # fmt: skip
        return SpreadStep(
            name=name,
            pieces=pieces,
            transaction=Transaction("say that they are checked", (self._mark(what),)),
            is_done=self._is_marked(what),
        )

    def same_table(self, exchange: Exchange) -> tuple[Part, ...]:
        """The table is as it was when its shape and its belongings were read."""
        expected = literal(self.plan.belongings.digest)
        number = f"{literal(str(self._table))}::regclass::oid"
        unchanged = Check(
            f"SELECT 'definition', 0, 0, digest IS DISTINCT FROM {expected} AS differs FROM ({digest(number)}) d",
            f"{self._table} was altered while it was converted: an index, a constraint, a default, a right or the like",
            fix="take that back, or give up with --give-up --go and convert it as it is now",
        )
        return (
            self._same_columns(),
            self._same_bound(exchange),
            # Definitions are spelled as they were read: with the schema of each name.
            Statement("SET LOCAL search_path = pg_catalog"),
            unchanged,
            Statement("SET LOCAL search_path TO DEFAULT"),
        )

    def _recorded(self, following: Following) -> Check:
        """The trigger is there and at work on every table that holds rows."""
        names = quoting.array([literal(str(each)) for each in following.source_leaves or (self._table,)], "text")
        return Check(
            f"SELECT 'triggers', cardinality({names}), count(t.oid), cardinality({names}) <> count(t.oid) AS differs "
            f"FROM unnest({names}) name LEFT JOIN pg_trigger t ON t.tgrelid = to_regclass(name) "
            f"AND t.tgname = {literal(following.trigger)} AND t.tgenabled = 'A' WHERE to_regclass(name) IS NOT NULL",
            f"changes of {self._table} are no longer recorded: somebody switched the trigger off",
            fix="give up with --give-up --go, and convert it again",
        )

    def _same_bound(self, exchange: Exchange) -> Check:
        """No view, function or policy has come to be bound to the table since its belongings were read."""
        expected = quoting.array(
            [literal(name) for name in sorted(each.name for each in exchange.belongings.views)], "text"
        )
        seen = (
            "SELECT coalesce(array_agg(DISTINCT format('%I.%I', n.nspname, v.relname) "
            "ORDER BY format('%I.%I', n.nspname, v.relname)), '{}') AS held FROM pg_depend d "
            "JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class v ON v.oid = r.ev_class "
            "JOIN pg_namespace n ON n.oid = v.relnamespace WHERE d.classid = 'pg_rewrite'::regclass "
            f"AND d.refclassid = 'pg_class'::regclass AND d.refobjid = {literal(str(self._table))}::regclass "
            f"AND r.ev_class <> {literal(str(self._table))}::regclass"
        )
        return Check(
            f"SELECT 'views', cardinality({expected}), cardinality(held), held IS DISTINCT FROM "
            f"ARRAY(SELECT name FROM unnest({expected}) name ORDER BY name) AS differs FROM ({seen}) s",
            f"a view of {self._table} was made or dropped meanwhile",
            renews=True,
        )

    def _same_leaves(self) -> Check:
        """All tables that held rows when the copy began are there, in the same files."""
        job, schema = self.plan.job, identifier(self.plan.schema)
        held, added = "SELECT", "false"
        if self.plan.is_partitioned:
            held = "SELECT inhrelid FROM pg_inherits WHERE inhrelid = s.relation"
            added = f"EXISTS ({self._making.copying.added_leaves})"
        return Check(
            "SELECT 'tables', count(*), count(*) FILTER (WHERE is_there), NOT coalesce(bool_and(is_there), true) "
            f"OR {added} AS differs "
            f"FROM (SELECT pg_relation_filenode(s.relation) IS NOT DISTINCT FROM s.filenode AND EXISTS ({held}) "
            "AS is_there "
            f"FROM {schema}.reshaping_source s WHERE s.job = {job}) t",
            f"{self._table} was rewritten, or a partition of it has come or left",
            renews=True,
        )

    # After the swap

    def in_step(self) -> tuple[Step, ...]:
        """The old table gets what was written since."""
        return (self._unhook(), self._bring("keep the old table in step", self.back_following))

    def undo(self) -> tuple[Step, ...]:
        """Back to the old table, with everything that was written since. plan: shape and belongings of the new one."""
        back, exchange = self.back_following, self._exchange_back()
        statements: tuple[Part, ...] = (
            self._recorded(replace(back, source_leaves=())),
            Check(
                f"SELECT 'changes', 0, count(*), count(*) > {MOST_AT_SWAP} AS differs FROM {back.log}",
                "more changes came than fit behind a short lock",
                renews=True,
            ),
            *back.bringing_over(None),
            Check(back.same_rows("rows"), "the last changes did not come back"),
            *back.consuming(),
            *exchange.statements(),
            *self._guard(_UNDONE).putting_up(),
            self._set(f"state = {literal(ReshapingState.UNDONE)}"),
        )
        kept = self.plan.leaves if self.plan.is_partitioned else (self.plan.old_name,)
        strong = strong_lock(self._table, (self._table, *self.new_leaves), ALL_OUT, exchange.beside, kept)
        return (
            self._unhook(),
            self._bring("bring changes back", back),
            self._marked_step("swap back", statements, _UNDONE, f"swap {self._table} back", strong=strong),
            *self.after_undo(),
        )

    def after_undo(self) -> tuple[Step, ...]:
        """Foreign keys are checked, the new table goes, and the guard when nobody is left that it is there for."""
        noted = (self._old_transactions.noting(), self._mark("noted again"))
        return (
            self._step(
                "note open transactions again",
                Transaction("note the open transactions", noted),
                self._is_marked("noted again"),
            ),
            self._checking("check foreign keys again", self._exchange_back(), "foreign keys again"),
            *self._leaving().remove("remove the new table", self.incoming, self.new_leaves, "new table removed"),
            RepeatedStep(
                name="wait for transactions from before",
                transaction=Transaction("look for old transactions", ()),
                is_done=self._old_transactions.have_ended,
                waits_for=self._old_transactions.who,
            ),
            self._guard(_UNDONE).step(),
            self._leaving().end(ReshapingState.UNDONE),
        )

    def _exchange_back(self) -> Exchange:
        return replace(
            self._exchange(),
            away=self.incoming,
            away_suffix=INCOMING,
            come=self.plan.old_name,
            come_suffix=BEFORE,
            is_furnished=True,
            has_parts=self.plan.is_partitioned,
            leaves=self.plan.leaves,
        )

    def _leaving(self) -> Leaving:
        return Leaving(self.plan, self.forward_following, self.back_following)

    def let_go(self) -> tuple[Step, ...]:
        """The old table is no longer kept in step, and dropped."""
        return self._leaving().let_go()

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the swap."""
        return self._leaving().give_up()
