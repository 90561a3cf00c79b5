"""The steps by which a table becomes the first partition of the new one, as it is: no row of it is copied.

What takes long (checking that all rows lie within the bounds, building the new keys) is done beside readers and
writers; what is left for the short lock looks at no row. The order of the statements within the lock matters: the new
table is complete beforehand, so that attaching finds a matching index for each of its own and builds none.
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from slabrow.core.table.bounds import Range
from slabrow.core.table.shape import Shape, key_changes
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK as BOUNDS
from slabrow.core.upkeep.live_plan import BUILT, LivePlan, ReshapingState
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.statements import Part, Statement, Transaction
from slabrow.core.upkeep.steps import SpreadStep, Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.exchanging import Exchange
from slabrow.servers.postgresql.live.locking import ALL_OUT, strong_lock
from slabrow.servers.postgresql.live.making import Making
from slabrow.servers.postgresql.live.names import INCOMING, incoming_name, passing
from slabrow.servers.postgresql.live.work import LiveWork
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.reshapings import is_marked, marked
from slabrow.servers.postgresql.write import ddl

FIRST = "_first"  # how the names of what belongs to the first partition end


@dataclass(frozen=True, slots=True)
class AsIsWork:
    """`protocols.AsIsSteps` for one plan: its first partition, open below, is the table itself."""

    plan: LivePlan

    @property
    def _table(self) -> Name:
        return self.plan.shape.name

    @property
    def _incoming(self) -> Name:
        return incoming_name(self._table)

    @property
    def _first(self) -> Planned:
        return self.plan.planned[0]

    @property
    def _first_name(self) -> Name:
        return self._table.sibling(self._first.name)

    @property
    def _others(self) -> LivePlan:
        return replace(self.plan, planned=self.plan.planned[1:])

    @property
    def _making(self) -> Making:
        return Making(self._others, LiveWork(self._others, 1).forward_following)

    @property
    def _range(self) -> Range:
        bounds = self._first.bounds
        assert isinstance(bounds, Range)
        return bounds

    def _mark(self, what: str) -> Statement:
        return Statement(marked(self.plan.schema, self.plan.job, what))

    def _marked_step(self, name: str, transaction: Transaction, what: str) -> Step:
        done = replace(transaction, statements=(*transaction.statements, self._mark(what)))
        return Step(name=name, transaction=done, is_done=is_marked(self.plan.schema, self.plan.job, what))

    def forward(self) -> tuple[Step, ...]:
        """Up to the moment before the lock."""
        return (*self._made(), self._bound(), self._checked(), *self._built())

    def _made(self) -> Iterator[Step]:
        making = self._making
        yield self._marked_step("make the new table", making.table(has_log=False), "made")
        yield SpreadStep(
            name="make its partitions",
            pieces=making.partitions(),
            transaction=Transaction("say that they are made", (self._mark("partitions"),)),
            is_done=is_marked(self.plan.schema, self.plan.job, "partitions"),
        )
        complete = making.completing()
        foreign = [
            Statement(
                f"ALTER TABLE {quoting.table(self._incoming)} ADD CONSTRAINT {identifier(each.name)} {each.definition}"
            )
            for each in self.plan.shape.constraints
            if each.kind == "f"
        ]
        statements = (ddl.lock_timeout(self.plan.lock_wait_ms), *complete.statements, *foreign)
        yield self._marked_step("complete it", replace(complete, statements=statements), "complete")

    def _bound(self) -> Step:
        condition = quoting.condition(self._range, self.plan.layout.key)
        sql = f"ALTER TABLE {quoting.table(self._table)} ADD CONSTRAINT {BOUNDS} CHECK ({condition}) NOT VALID"
        return self._marked_step(
            "bound the rows to come",
            Transaction(
                f"bound the rows of {self._table}",
                (Statement(sql),),
                strong=strong_lock(self._table, (self._table,), ALL_OUT),
            ),
            "bounded",
        )

    def _checked(self) -> Step:
        sql = f"ALTER TABLE {quoting.table(self._table)} VALIDATE CONSTRAINT {BOUNDS}"
        return self._marked_step(
            "check the rows there are", Transaction(f"check the rows of {self._table}", (Statement(sql),)), "checked"
        )

    def _new_keys(self) -> list[tuple[str, str, str]]:
        """The unique keys that take in the partition key: (name, `p`, `u` or `i` for an index, definition)."""
        changed = {change.name for change in key_changes(self.plan.shape, self.plan.layout.full_key)}
        mended = self._making.keys.mended
        keys = [(each.name, each.kind, each.definition) for each in mended.constraints if each.is_key]
        keys += [(each.name, "i", each.definition) for each in mended.indexes if each.is_unique]
        return [each for each in keys if each[0] in changed]

    def _built(self) -> Iterator[Step]:
        table = quoting.table(self._table)
        for name, kind, definition in self._new_keys():
            index = passing(self._table.sibling(name), BUILT)
            columns = definition if kind == "i" else definition[definition.index("(") :]
            how = columns if kind == "i" else f"USING btree {columns}"
            found = f"to_regclass({literal(str(index))})"
            valid = f"SELECT EXISTS (SELECT FROM pg_index WHERE indexrelid = {found} AND indisvalid)"
            statements = (
                # Building waits for transactions that are open, and blocks nobody meanwhile.
                Statement("SET lock_timeout = 0"),
                Statement(f"DROP INDEX CONCURRENTLY IF EXISTS {quoting.table(index)}"),
                Statement(f"CREATE UNIQUE INDEX CONCURRENTLY {identifier(index.table)} ON {table} {how}"),
            )
            # After the swap the index has another name: what is marked then need not be there.
            swapped = is_marked(self.plan.schema, self.plan.job, "swapped")
            yield Step(
                name=f"build the new key {name}",
                transaction=Transaction(f"build the new key {name}", statements, is_atomic=False),
                is_done=f"SELECT ({swapped}) OR ({valid})",
            )

    # Behind the lock

    def swap(self) -> tuple[Step, ...]:
        """The table becomes the first partition of the new one, which takes its name."""
        exchange = self._exchange()
        statements: tuple[Part, ...] = (
            *LiveWork(self.plan, 1).same_table(exchange),
            *self._old_names_away(exchange),
            *self._renamed(exchange),
            Statement(
                f"ALTER TABLE {quoting.table(self._table)} ATTACH PARTITION {quoting.table(self._first_name)} "
                f"{quoting.bounds(self._range, len(self.plan.layout.key))}"
            ),
            Statement(f"ALTER TABLE {quoting.table(self._first_name)} DROP CONSTRAINT {BOUNDS}"),
            *exchange.bound_again(),
            Statement(
                f"UPDATE {identifier(self.plan.schema)}.reshaping SET state = {literal(ReshapingState.SWAPPED)} "
                f"WHERE job = {self.plan.job}"
            ),
        )
        strong = strong_lock(self._table, (self._table,), ALL_OUT, exchange.beside)
        swap = Transaction(f"take {self._table} in", statements, strong=strong)
        return (self._marked_step("take it in", swap, "swapped"), *self.after_swap())

    def after_swap(self) -> tuple[Step, ...]:
        """Foreign keys that point here are checked, and the parent gets statistics."""
        table = quoting.table(self._table)
        checks = [
            Statement(f"ALTER TABLE {quoting.table(key.child)} VALIDATE CONSTRAINT {identifier(key.name)}")
            for key in self.plan.belongings.incoming
        ]
        ended = Statement(
            f"UPDATE {identifier(self.plan.schema)}.reshaping SET state = {literal(ReshapingState.DONE)}, "
            f"ended = clock_timestamp() WHERE job = {self.plan.job}"
        )
        return (
            self._marked_step(
                "check and analyse",
                Transaction(f"analyse {table}", (*checks, Statement(f"ANALYZE {table}"))),
                "analysed",
            ),
            Step(
                name="end",
                transaction=Transaction("say that it is done", (ended,)),
                is_done=(
                    f"SELECT ended IS NOT NULL FROM {identifier(self.plan.schema)}.reshaping WHERE job = "
                    f"{self.plan.job}"
                ),
            ),
        )

    def _exchange(self) -> Exchange:
        return Exchange(
            shape=self.plan.shape,
            belongings=self.plan.belongings,
            away=self._first_name,
            away_suffix=FIRST,
            come=self._incoming,
            come_suffix=INCOMING,
            is_furnished=False,
            has_parts=True,
            leaves=(),
            version=self.plan.version,
        )

    def _old_names_away(self, exchange: Exchange) -> Iterator[Statement]:
        """The keys of the first partition, under names that leave the old ones to the new table."""
        table, shape = quoting.table(self._table), self.plan.shape
        new = {name: kind for name, kind, _ in self._new_keys()}
        for key in self.plan.belongings.incoming:
            yield Statement(f"ALTER TABLE {quoting.table(key.child)} DROP CONSTRAINT {identifier(key.name)}")
        for constraint in shape.constraints:
            if not constraint.is_key:
                continue
            first = identifier(passing(self._table.sibling(constraint.name), FIRST).table)
            if constraint.name not in new:
                yield Statement(f"ALTER TABLE {table} RENAME CONSTRAINT {identifier(constraint.name)} TO {first}")
                continue
            built = identifier(passing(self._table.sibling(constraint.name), BUILT).table)
            kind = "PRIMARY KEY" if constraint.kind == "p" else "UNIQUE"
            yield Statement(f"ALTER TABLE {table} DROP CONSTRAINT {identifier(constraint.name)}")
            yield Statement(f"ALTER TABLE {table} ADD CONSTRAINT {first} {kind} USING INDEX {built}")
        for index in shape.indexes:
            name = self._table.sibling(index.name)
            source = name
            if index.name in new:
                yield Statement(f"DROP INDEX {quoting.table(name)}")
                source = passing(name, BUILT)
            yield Statement(f"ALTER INDEX {quoting.table(source)} RENAME TO {identifier(passing(name, FIRST).table)}")
        for statistics in self.plan.belongings.statistics:
            other = identifier(passing(statistics.name, FIRST).table)
            yield Statement(f"ALTER STATISTICS {quoting.table(statistics.name)} RENAME TO {other}")
        for trigger in self.plan.belongings.triggers:
            # The new table's trigger of this name reaches its partitions by itself.
            yield Statement(f"DROP TRIGGER {identifier(trigger.name)} ON {table}")
        for sequence in shape.sequences:
            coming = passing(sequence.name, INCOMING)
            if not sequence.is_identity:
                yield Statement(
                    f"ALTER SEQUENCE {quoting.table(sequence.name)} OWNED BY "
                    f"{quoting.table(self._incoming)}.{identifier(sequence.column)}"
                )
                continue
            yield Statement(
                f"SELECT setval({literal(str(coming))}::regclass, last_value, is_called) FROM "
                f"{quoting.table(sequence.name)}"
            )
            # A table with an identity column of its own cannot be attached from PostgreSQL 18 on.
            yield Statement(f"ALTER TABLE {table} ALTER COLUMN {identifier(sequence.column)} DROP IDENTITY")
            yield Statement(f"ALTER SEQUENCE {quoting.table(coming)} RENAME TO {identifier(sequence.name.table)}")

    def _renamed(self, exchange: Exchange) -> Iterator[Statement]:
        yield Statement(f"ALTER TABLE {quoting.table(self._table)} RENAME TO {identifier(self._first_name.table)}")
        yield Statement(f"ALTER TABLE {quoting.table(self._incoming)} RENAME TO {identifier(self._table.table)}")
        without_sequences: Shape = replace(self.plan.shape, sequences=())
        yield from replace(exchange, shape=without_sequences).renamed(self._table, INCOMING, "")

    # Taken away again

    def give_up(self) -> tuple[Step, ...]:
        """Everything is taken away again, before the lock."""
        schema, job = identifier(self.plan.schema), self.plan.job
        table = quoting.table(self._table)
        state = f"UPDATE {schema}.reshaping SET state = {literal(ReshapingState.GIVEN_UP)}"
        no_check = (
            f"SELECT NOT EXISTS (SELECT FROM pg_constraint WHERE conrelid = {literal(str(self._table))}::regclass "
            f"AND conname = {literal(BOUNDS)})"
        )
        drops = [
            Step(
                name=f"drop the new key {name}",
                transaction=Transaction(
                    f"drop the new key {name}",
                    (
                        Statement("SET lock_timeout = 0"),
                        Statement(
                            "DROP INDEX CONCURRENTLY IF EXISTS "
                            f"{quoting.table(passing(self._table.sibling(name), BUILT))}"
                        ),
                    ),
                    is_atomic=False,
                ),
                is_done=f"SELECT to_regclass({literal(str(passing(self._table.sibling(name), BUILT)))}) IS NULL",
            )
            for name, _, _ in self._new_keys()
        ]
        return (
            Step(
                name="say that it is given up",
                transaction=Transaction("say that it is given up", (Statement(f"{state} WHERE job = {job}"),)),
                is_done=f"SELECT state = {literal(ReshapingState.GIVEN_UP)} FROM {schema}.reshaping WHERE job = {job}",
            ),
            Step(
                name="take the bounds away",
                transaction=Transaction(
                    f"take the bounds of {self._table} away",
                    (Statement(f"ALTER TABLE {table} DROP CONSTRAINT IF EXISTS {BOUNDS}"),),
                    strong=strong_lock(self._table, (self._table,), ALL_OUT),
                ),
                is_done=no_check,
            ),
            *drops,
            Step(
                name="remove the new table",
                transaction=Transaction(
                    f"drop {self._incoming}",
                    (
                        Statement(f"DROP TABLE IF EXISTS {quoting.table(self._incoming)}"),
                        Statement(f"{state}, ended = clock_timestamp() WHERE job = {job}"),
                    ),
                ),
                is_done=f"SELECT ended IS NOT NULL FROM {schema}.reshaping WHERE job = {job}",
            ),
        )
