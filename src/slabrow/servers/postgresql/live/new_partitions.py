"""Makes the new partitions of a split or a merge, like those that upkeep makes, on a stage where nobody sees them."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from slabrow.core.table.bounds import CatchAll, Hashed
from slabrow.core.upkeep.actions import Create
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.statements import Statement
from slabrow.core.values.names import NAME_LIMIT, Name, fit, unused
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.cleaning import cleaning_off
from slabrow.servers.postgresql.live.following import dollar_tag
from slabrow.servers.postgresql.live.membership_steps import hash_check
from slabrow.servers.postgresql.live.names import incoming_name
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write.ddl import Upkeep


@dataclass(frozen=True, slots=True)
class NewPartitions:
    """stage   the partitioned table that they are attached to until the swap"""

    plan: RedivisionPlan
    stage: Name

    def stage_definition(self) -> str:
        """A table divided by the key of the parent. It has no keys and no identity: its leaves have them."""
        parent = quoting.table(self.plan.parent)
        like = f"(LIKE {parent} INCLUDING GENERATED)"
        return f"CREATE TABLE {quoting.table(self.stage)} {like} PARTITION BY {self.plan.divided_by}"

    def creation(self, planned: Planned) -> Iterator[Statement]:
        """One of them: made apart, attached to the stage, and with a check that tells the parent what it holds."""
        plan, name = self.plan, incoming_name(self.plan.parent.sibling(planned.name))
        facts = plan.facts
        upkeep = Upkeep(
            key=plan.key,
            columns=facts.columns,
            has_catch_all=False,
            detaching=frozenset(),
            lock_wait_ms=0,
            owner=None if facts.owner == facts.role else facts.owner,
            # Whoever subscribes to a partition by its name would get each row of the copy; keys come after the rows.
            traits=replace(
                facts.traits, publications=(), keys=(), tablespace=plan.tablespace or facts.traits.tablespace
            ),
        )
        made, _ = upkeep.adoption(Create(plan.parent, name, planned.bounds, plan.kind))
        yield from map(Statement, made)
        said = quoting.bounds(planned.bounds, len(plan.key))
        yield Statement(f"ALTER TABLE {quoting.table(self.stage)} ATTACH PARTITION {quoting.table(name)} {said}")
        if not isinstance(planned.bounds, CatchAll):
            yield Statement(self._bounded(name, planned))
        yield from cleaning_off([name], facts.traits.options)

    def _bounded(self, name: Name, planned: Planned) -> str:
        """With the check ATTACH PARTITION need not read the rows (PostgreSQL manual, ALTER TABLE).

        The server itself spells the condition; of hash parts it names the parent by its number.
        """
        table = quoting.table(name)
        above = f" AND ({self.plan.parent_condition})" if self.plan.parent_condition else ""
        if isinstance(planned.bounds, Hashed):
            body = hash_check(name, self.plan.parent, planned.bounds, self.plan.key, above)
        else:
            held = f"pg_get_partition_constraintdef({literal(str(name))}::regclass)"
            alter = literal(f"ALTER TABLE {table.replace('%', '%%')} ADD CONSTRAINT {BOUNDS_CHECK} CHECK ((%s)%s)")
            body = f"BEGIN EXECUTE format({alter}, {held}, {literal(above)}); END"
        tag = dollar_tag(body)
        return f"DO {tag}{body}{tag}"

    def keys(self, planned: Planned) -> Iterator[Statement]:
        """Keys, indexes and statistics, when the rows are there: faster than row by row."""
        plan, final = self.plan, self.plan.parent.sibling(planned.name)
        table = quoting.table(incoming_name(final))
        taken = set(plan.facts.taken)

        def named(columns: tuple[str, ...], ending: str) -> str:
            words = "_".join((*(column or "expr" for column in columns), ending)) if columns else ending
            name = unused(fit(final.table, f"_{words}", NAME_LIMIT), f"{words} {plan.job}", taken, NAME_LIMIT)
            taken.add(name)
            return identifier(name)

        # Several are built side by side: each by one process.
        yield Statement("SET LOCAL max_parallel_maintenance_workers = 0")
        if plan.tablespace is not None:
            yield Statement(f"SET LOCAL default_tablespace = {literal(plan.tablespace)}")
        for key in plan.shape.constraints:
            if key.is_key:
                name = named(() if key.kind == "p" else key.columns, "pkey" if key.kind == "p" else "key")
                yield Statement(f"ALTER TABLE {table} ADD CONSTRAINT {name} {key.definition}")
        for index in (*plan.shape.indexes, *plan.extra):
            unique = "UNIQUE " if index.is_unique else ""
            yield Statement(f"CREATE {unique}INDEX {named(index.columns, 'idx')} ON {table} {index.definition}")
        yield Statement(f"ANALYZE {table}")
