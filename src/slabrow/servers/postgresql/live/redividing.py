"""The steps of a split or a merge while the table is in use, and of the way back.

The new partitions are made apart and attached to a stage, a partitioned table of Slabrow's own which is divided by the
same key: so one statement finds the partition of each row, whatever their bounds. Rows are copied and changes followed
as in a conversion. In the swap the old partitions leave the parent and the new ones come, in one transaction that looks
at no row: checks have told the server beforehand what they hold. The old ones are kept on the stage, and kept in step.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from slabrow.core.table.bounds import CatchAll
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK, ReshapingState
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.statements import Check, Part, Statement, StrongLock, Transaction
from slabrow.core.upkeep.steps import Piece, RepeatedStep, SpreadStep, Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.cleaning import STEP, cleaning_on
from slabrow.servers.postgresql.live.copying import PieceCopy
from slabrow.servers.postgresql.live.far_partition import FarPartition
from slabrow.servers.postgresql.live.following import Following
from slabrow.servers.postgresql.live.foreign_key_steps import foreign_key_steps
from slabrow.servers.postgresql.live.guarding import Guard
from slabrow.servers.postgresql.live.locking import ALL_OUT, WRITERS_OUT, lock_alone
from slabrow.servers.postgresql.live.names import incoming_name
from slabrow.servers.postgresql.live.new_partitions import NewPartitions
from slabrow.servers.postgresql.live.old_transactions import OldTransactions
from slabrow.servers.postgresql.live.partition_exchange import PartitionExchange
from slabrow.servers.postgresql.live.records import Record
from slabrow.servers.postgresql.live.swap_checks import same_files, same_parent, same_sources, triggers_at_work
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.comparison import whole_comparison

FEW = 100  # changes that may wait when a step counts as being in step
MOST_AT_SWAP = 1_000  # and behind the last lock
DIFFER = "the new partitions differ from the old ones"
_REPORT = "give up with --give-up --go and begin again; please report it"
_UNUSED_WAIT_MS = 5_000  # for a lock on a table that applications do not use
_SWAPPED, _UNDONE = "swapped", "undone"


@dataclass(frozen=True)
class Redividing:
    """`RedivisionSteps` for one plan. jobs: how many sessions work side by side."""

    plan: RedivisionPlan
    jobs: int

    @property
    def _record(self) -> Record:
        return Record(self.plan.schema, self.plan.job)

    @property
    def stage(self) -> Name:
        """The table that the partitions are attached to which are not in use."""
        return Name(self.plan.schema, f"stage_{self.plan.job}")

    @cached_property
    def _sources(self) -> tuple[Name, ...]:
        return tuple(source.name for source in self.plan.sources)

    @cached_property
    def _kept(self) -> tuple[Name, ...]:
        return tuple(source.kept_as for source in self.plan.sources)

    @cached_property
    def _new(self) -> tuple[Name, ...]:
        return tuple(self.plan.parent.sibling(each.name) for each in self.plan.planned)

    @cached_property
    def _incoming(self) -> tuple[Name, ...]:
        return tuple(map(incoming_name, self._new))

    def _following(self, name: str, parts: tuple[Name, ...]) -> Following:
        job = self.plan.job
        return Following(
            schema=self.plan.schema,
            job=job,
            name=f"{name}_{job}",
            trigger=f"slabrow_{name}_{job}",  # a partition may have the triggers of its table's conversion too
            source=parts[0],
            source_leaves=(),
            is_partitioned=False,
            target=self.stage,
            logged=self.plan.logged,
            followed=len(self.plan.followed),
            columns=self.plan.copied,
            overrides=False,
            parts=parts,
            read=tuple(column.name for column in self.plan.shape.columns),
            empties=name == "back",
        )

    @property
    def _forward(self) -> Following:
        """Of the partitions in their place to the new ones on the stage."""
        return self._following("log", self._sources)

    @property
    def _back(self) -> Following:
        """Of the new partitions, in their place, to the old ones on the stage."""
        return self._following("back", self._new)

    @property
    def _copying(self) -> PieceCopy:
        names = quoting.array([literal(str(name)) for name in self._sources], "text")
        return PieceCopy(
            schema=self.plan.schema,
            job=self.plan.job,
            following=self._forward,
            incoming=self.stage,
            tables=f"SELECT to_regclass(name)::oid AS relid FROM unnest({names}) name",
            may_grow=False,
            followed=self.plan.followed,
            copied=self.plan.copied,
            piece_blocks=self.plan.piece_blocks,
        )

    @property
    def _new_partitions(self) -> "NewPartitions | FarPartition":
        return NewPartitions(self.plan, self.stage)

    @property
    def _exchange(self) -> PartitionExchange:
        return PartitionExchange(self.plan, self.stage)

    @property
    def _old_transactions(self) -> OldTransactions:
        return OldTransactions(self.plan.schema, self.plan.job)

    def _guard(self, mark: str) -> Guard:
        return Guard(self.plan.schema, self.plan.job, self.plan.root, mark)

    @property
    def _parents(self) -> tuple[Name, ...]:
        return tuple(dict.fromkeys((self.plan.root, self.plan.parent)))

    @property
    def _referred(self) -> tuple[Name, ...]:
        return tuple(dict.fromkeys(each.referenced for each in self.plan.shape.constraints if each.kind == "f"))

    def _exchange_lock(self, leaving: Sequence[Name]) -> StrongLock:
        """Parents first, as every query takes its locks."""
        beside = (*self._referred, *((self.plan.catch_all,) if self.plan.catch_all is not None else ()))
        return lock_alone((*self._parents, *leaving), ALL_OUT, beside, (*self._incoming, *self._kept))

    # Forward

    def forward(self) -> tuple[Step, ...]:
        """Up to the moment before the swap."""
        record, new, following = self._record, self._new_partitions, self._forward
        return (
            record.step(
                "make the stage",
                (Statement(NewPartitions(self.plan, self.stage).stage_definition()), *following.creation()),
                "made",
                "make the stage and the log of changes",
            ),
            SpreadStep(
                name="make the new partitions",
                pieces=tuple(
                    record.piece(new.creation(each), f"partition {each.name}", f"make {incoming}")
                    for each, incoming in zip(self.plan.planned, self._incoming, strict=True)
                ),
                transaction=Transaction("say that they are made", (record.mark("partitions"),)),
                is_done=record.is_marked("partitions"),
            ),
            record.step(
                "record changes",
                (*following.recording(), record.set("horizon = pg_snapshot_xmin(pg_current_snapshot())::xid")),
                "watched",
                "record the changes of the partitions",
                self._keeping_out(self._sources, WRITERS_OUT),
            ),
            *self._copy(),
            Step(
                name="note open transactions",
                transaction=Transaction("note the open transactions", (self._old_transactions.noting(),)),
                is_done=self._old_transactions.are_noted,
            ),
            SpreadStep(
                name="build keys and indexes",
                pieces=tuple(
                    record.piece(new.keys(each), f"keys of {each.name}", f"build the keys and indexes of {incoming}")
                    for each, incoming in zip(self.plan.planned, self._incoming, strict=True)
                ),
                transaction=Transaction("say that they are built", (record.mark("complete"),)),
                is_done=record.is_marked("complete"),
            ),
            self._way_back(),
            self._bring("bring changes over", following),
            self._compare(),
            *self._clean(),
            *self._foreign_keys("add foreign keys", self._incoming, "foreign keys"),
            self._wait(),
        )

    def _copy(self) -> tuple[Step, ...]:
        copying = self._copying
        return (
            Step(name="divide the copy", transaction=copying.dividing(self.jobs), is_done=copying.is_divided),
            RepeatedStep(
                name="copy rows",
                transaction=copying.piece(),
                is_done=copying.is_copied,
                is_wide=True,
                is_paced=True,
                backlog=self._pieces_left,
            ),
        )

    @property
    def _pieces_left(self) -> str:
        pieces = f"{identifier(self.plan.schema)}.reshaping_piece"
        return f"SELECT count(*) FROM {pieces} WHERE job = {self.plan.job} AND NOT is_done"

    def _keeping_out(self, tables: Sequence[Name], mode: str) -> StrongLock:
        """A lock on partitions in use."""
        return lock_alone(tables, mode)

    def _way_back(self) -> Step:
        back = self._following("back", self._incoming)
        return self._record.step(
            "prepare the way back",
            (*back.creation(), *back.recording(), *back.silencing()),
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
        following = self._back if back else self._forward
        return Transaction("raise the floor of the log", tuple(following.raising_floor()))

    def _comparison(self) -> tuple[Part, ...]:
        """In one snapshot: all changes that are visible are brought over, and then both must be equal."""
        columns = tuple(column.name for column in self.plan.shape.columns)
        comparison = whole_comparison(self._forward.from_source, self.stage, columns, record_hash=self.plan.record_hash)
        return (
            *self._forward.batch(None),
            Statement("SET LOCAL enable_seqscan = on"),
            Check(comparison, DIFFER, doing="comparing", fix=_REPORT),
        )

    def _compare(self) -> Step:
        return self._record.comparing(Transaction("compare the new partitions with the old ones", self._comparison()))

    def _clean(self) -> tuple[Step, ...]:
        made = cleaning_on(self._incoming, self.plan.facts.traits.options)
        return (self._record.step(STEP, made, "cleaned", "allow cleaning of the new partitions"),)

    def _foreign_keys(self, name: str, tables: Sequence[Name], what: str) -> Iterator[SpreadStep]:
        return foreign_key_steps(self._record, self.plan.shape, name, tables, what)

    def _wait(self) -> RepeatedStep:
        following = self._forward
        return RepeatedStep(
            name="wait for old transactions",
            transaction=Transaction("bring changes over", tuple(following.batch())),
            whole=Transaction("bring all changes over", tuple(following.batch(None))),
            is_done=f"{self._old_transactions.have_ended} AND ({following.backlog}) <= {FEW}",
            backlog=following.backlog,
            waits_for=self._old_transactions.who,
        )

    # The swap

    def swap(self) -> tuple[Step, ...]:
        """The old partitions leave and the new ones come, behind a short lock."""
        forward, back, plan = self._forward, self._back, self.plan
        statements: tuple[Part, ...] = (
            *same_parent(plan.parent, plan.digest),
            same_sources(plan),
            same_files(plan.schema, plan.job),
            triggers_at_work(forward.trigger, self._sources),
            *self._held_still(forward),
            *self._last_changes(forward, "over"),
            *self._exchange.statements(
                self._sources, self._kept, self._incoming, self._new, [each.bounds for each in plan.planned]
            ),
            *self._tied(),
            *self._guard(_SWAPPED).putting_up(),
            Statement(f"DELETE FROM {back.log}"),
            *back.speaking(),
            self._record.set(f"state = {literal(ReshapingState.SWAPPED)}, floor = 0, ceiling = 0, ceiling_xid = '0'"),
        )
        purpose = f"put the new partitions of {plan.parent} in their place"
        swap = self._record.step("swap", statements, _SWAPPED, purpose, self._exchange_lock(self._sources))
        return (swap, *self.after_swap())

    def _held_still(self, following: Following) -> Iterable[Part]:
        """What keeps writers off the source beside the lock."""
        return ()

    def _tied(self) -> tuple[Part, ...]:
        """What the commit of the swap depends on beside this server."""
        return ()

    def _last_changes(self, following: Following, where: str) -> Iterator[Part]:
        """Behind the lock: all that waits, few as it is, and the proof that it came."""
        yield Check(
            f"SELECT 'changes', 0, count(*), count(*) > {MOST_AT_SWAP} AS differs FROM {following.log}",
            "more changes came than fit behind a short lock",
            renews=True,
        )
        if not following.empties:
            yield Check(
                f"SELECT 'table', 0, 1, {following.has_marker} AS differs",
                "a partition was emptied by TRUNCATE",
                renews=True,
            )
        yield from following.bringing_over(None)
        yield Check(following.same_rows("rows"), f"the last changes did not come {where}")
        yield from following.consuming()

    def after_swap(self) -> tuple[Step, ...]:
        """The old partitions are made ready for the way back. Nobody uses them."""
        record, stage = self._record, quoting.table(self.stage)
        bounded, attached = [], []
        for source in sorted(self.plan.sources, key=lambda each: isinstance(each.bounds, CatchAll)):
            table, said = quoting.table(source.kept_as), quoting.bounds(source.bounds, len(self.plan.key))
            attached.append(Statement(f"ALTER TABLE {stage} ATTACH PARTITION {table} {said}"))
            if source.condition:
                check = Statement(f"ALTER TABLE {table} ADD CONSTRAINT {BOUNDS_CHECK} CHECK ({source.condition})")
                purpose = f"bound {source.kept_as}"
                bounded.append(record.piece((check,), purpose, purpose))
        return (
            self._unhook(),
            SpreadStep(
                name="keep the old partitions at hand",
                pieces=tuple(bounded),
                transaction=Transaction("attach them to the stage", (*attached, record.mark("at hand"))),
                is_done=record.is_marked("at hand"),
            ),
        )

    def _unhook(self) -> Step:
        old = replace(self._forward, source=self._kept[0], parts=self._kept)
        return self._record.step(
            "take the triggers off the old partitions",
            (ddl.lock_timeout(_UNUSED_WAIT_MS), *old.removing()),
            "unhooked old",
            "take the triggers of the old partitions away",
        )

    # After the swap

    def in_step(self) -> tuple[Step, ...]:
        """The old partitions get what was written since."""
        return (*self.after_swap(), self._bring("keep the old partitions in step", self._back))

    def undo(self) -> tuple[Step, ...]:
        """Back to the old partitions, with everything that was written since."""
        back, plan = self._back, self.plan
        statements: tuple[Part, ...] = (
            triggers_at_work(back.trigger, self._new),
            *self._held_still(back),
            *self._last_changes(back, "back"),
            *self._exchange.statements(
                self._new, self._incoming, self._kept, self._sources, [each.bounds for each in plan.sources]
            ),
            *self._guard(_SWAPPED).taking_down(),
            *self._guard(_UNDONE).putting_up(),
            self._record.set(f"state = {literal(ReshapingState.UNDONE)}"),
        )
        purpose = f"put the old partitions of {plan.parent} back"
        return (
            *self.after_swap(),
            self._bring("bring changes back", back),
            *self._foreign_keys("add foreign keys again", self._kept, "foreign keys again"),
            self._bring("bring the last changes back", back),
            self._record.step("swap back", statements, _UNDONE, purpose, self._exchange_lock(self._new)),
            *self.after_undo(),
        )

    def after_undo(self) -> tuple[Step, ...]:
        """The new partitions go, and the guard when nobody is left that it is there for."""
        record = self._record
        return (
            record.step(
                "note open transactions again",
                (self._old_transactions.noting(),),
                "noted again",
                "note the open transactions",
            ),
            *self._removed("remove the new partitions", self._incoming, "new removed"),
            RepeatedStep(
                name="wait for transactions from before",
                transaction=Transaction("look for old transactions", ()),
                is_done=self._old_transactions.have_ended,
                waits_for=self._old_transactions.who,
            ),
            self._guard(_UNDONE).step(),
            self._end(ReshapingState.UNDONE),
        )

    def let_go(self) -> tuple[Step, ...]:
        """The old partitions are no longer kept in step, and dropped."""
        back, record = self._back, self._record
        return (
            *self.after_swap(),
            record.step(
                "stop keeping them in step",
                tuple(back.silencing()),
                "silenced",
                "switch off the triggers of the new partitions",
                self._keeping_out(self._new, WRITERS_OUT),
            ),
            record.step(
                "take the triggers away",
                tuple(back.removing()),
                "unhooked",
                "take the triggers of the new partitions away",
                self._keeping_out(self._new, ALL_OUT),
            ),
            *self._removed("drop the old partitions", self._kept, "old removed"),
            self._guard(_SWAPPED).step(),
            self._end(ReshapingState.DONE),
        )

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the swap."""
        forward, record = self._forward, self._record
        names = quoting.array([literal(str(name)) for name in self._sources], "text")
        there = (
            f"SELECT NOT EXISTS (SELECT FROM pg_trigger WHERE tgname = {literal(forward.trigger)} "
            f"AND tgrelid IN (SELECT to_regclass(name) FROM unnest({names}) name)"
        )
        state = f"state = {literal(ReshapingState.GIVEN_UP)}"
        return (
            Step(
                name="say that it is given up",
                transaction=Transaction("say that it is given up", (record.set(state),)),
                is_done=f"SELECT {state} FROM {record.table} WHERE job = {self.plan.job}",
            ),
            Step(
                name="stop recording changes",
                transaction=Transaction(
                    "switch off the triggers of the partitions",
                    tuple(forward.silencing()),
                    strong=self._keeping_out(self._sources, WRITERS_OUT),
                ),
                is_done=there + " AND tgenabled <> 'D')",
            ),
            Step(
                name="take the triggers away",
                transaction=Transaction(
                    "take the triggers of the partitions away",
                    tuple(forward.removing()),
                    strong=self._keeping_out(self._sources, ALL_OUT),
                ),
                is_done=there + ")",
            ),
            *self._removed("remove the new partitions", self._incoming, "new removed"),
            self._end(ReshapingState.GIVEN_UP),
        )

    def _removed(self, name: str, tables: Sequence[Name], what: str) -> Iterator[SpreadStep]:
        """Tables that nobody uses, one a transaction."""

        def dropped(each: Name) -> Piece:
            gone = f"SELECT to_regclass({literal(str(each))}) IS NULL"
            return Piece(Transaction(f"drop {each}", tuple(self._dropping(each))), gone)

        yield SpreadStep(
            name=name,
            pieces=tuple(map(dropped, tables)),
            transaction=Transaction(
                "drop the stage", (Statement(f"DROP TABLE IF EXISTS {quoting.table(self.stage)}"),
                                   self._record.mark(what))
            ),
            is_done=self._record.is_marked(what),
        )  # fmt: skip

    def _dropping(self, table: Name) -> Iterable[Part]:
        return (Statement(f"DROP TABLE IF EXISTS {quoting.table(table)}"),)

    def _end(self, state: str) -> Step:
        logs = (statement for each in (self._forward, self._back) for statement in each.dropping())
        ended = self._record.set(f"state = {literal(state)}, ended = clock_timestamp()")
        return Step(
            name="clear away",
            transaction=Transaction("drop the logs", (*logs, *self._guard(state).dropping(), ended)),
            is_done=f"SELECT ended IS NOT NULL FROM {self._record.table} WHERE job = {self.plan.job}",
        )
