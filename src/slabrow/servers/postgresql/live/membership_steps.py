"""The steps by which a table becomes a partition, and a partition a table of its own.

What is missing is built on the table while it is alone, and a check tells the server what it holds: so ATTACH PARTITION
looks at no row of it (PostgreSQL manual, ALTER TABLE). A plan holds only what is still missing, so a run that was
stopped is gone on with by planning anew.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from slabrow.core.table.bounds import CatchAll, Hashed
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK
from slabrow.core.upkeep.membership import JoiningPlan, LeavingPlan
from slabrow.core.upkeep.statements import Part, Statement, StrongLock, Transaction
from slabrow.core.upkeep.steps import NOT_YET, Piece, SpreadStep, Step
from slabrow.core.values.names import NAME_LIMIT, Name, fit, unused
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import dollar_tag
from slabrow.servers.postgresql.live.locking import ALL_OUT, WRITERS_OUT, lock_alone, look_only
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write.ddl import Upkeep


def joining(plan: JoiningPlan) -> tuple[Step, ...]:
    """A table becomes a partition of another."""
    return tuple(_Joining(plan).steps())


@dataclass(frozen=True, slots=True)
class _Joining:
    plan: JoiningPlan

    @property
    def _name(self) -> Name:
        return self.plan.table.name

    @property
    def _table(self) -> str:
        return quoting.table(self._name)

    def steps(self) -> Iterator[Step]:
        """Those that are still to be done."""
        plan = self.plan
        completed = [
            f"ALTER TABLE {self._table} ALTER COLUMN {identifier(name)} SET NOT NULL" for name in plan.nullable
        ]
        completed += [
            f"ALTER TABLE {self._table} ALTER COLUMN {identifier(name)} DROP IDENTITY" for name in plan.identities
        ]
        completed += [
            f"ALTER TABLE {self._table} ADD CONSTRAINT {identifier(check.name)} {check.definition}"
            for check in plan.missing("c")
        ]
        if completed:
            yield _step("complete the columns", f"complete the columns of {self._name}", completed)
        if built := list(self._built()):
            yield SpreadStep(
                name="build keys and indexes",
                pieces=tuple(
                    Piece(Transaction(f"build an index of {self._name}", (Statement(sql),)), NOT_YET) for sql in built
                ),
                transaction=Transaction("say that they are built", ()),
                is_done=NOT_YET,
            )
        for foreign in plan.missing("f"):
            definition = foreign.definition.removesuffix(" NOT VALID")
            unchecked = f"{definition} NOT VALID"  # from an earlier try
            begun = next((each.name for each in plan.table.constraints if each.definition == unchecked), None)
            name = identifier(begun) if begun is not None else self._unused(foreign.name)
            if begun is None:
                yield _step(
                    f"add {foreign.name}",
                    f"add {foreign.name} to {self._name}",
                    [f"ALTER TABLE {self._table} ADD CONSTRAINT {name} {unchecked}"],
                    look_only((foreign.referenced,), WRITERS_OUT),
                )
            yield _step(
                f"check {foreign.name}",
                f"check {foreign.name} of {self._name}",
                [f"ALTER TABLE {self._table} VALIDATE CONSTRAINT {name}"],
            )
        if not isinstance(plan.bounds, CatchAll):
            yield _step("bound the rows", f"let the server check the bounds of {self._name}", [
                f"ALTER TABLE {self._table} DROP CONSTRAINT IF EXISTS {BOUNDS_CHECK}", self._bounded()])  # fmt: skip
        yield self._attaching()
        yield _step("analyse", f"analyse {self._name}", [f"ANALYZE {self._table}"])

    def _unused(self, name: str) -> str:
        return identifier(
            unused(name, str(self._name), {each.name for each in self.plan.table.constraints}, NAME_LIMIT)
        )

    def _built(self) -> Iterator[str]:
        taken = set(self.plan.facts.taken)

        def named(ending: str) -> str:
            name = unused(fit(self._name.table, f"_{ending}", NAME_LIMIT), ending, taken, NAME_LIMIT)
            taken.add(name)
            return identifier(name)

        for key in self.plan.missing("pu"):
            ending = "pkey" if key.kind == "p" else "_".join((*key.columns, "key"))
            yield f"ALTER TABLE {self._table} ADD CONSTRAINT {named(ending)} {key.definition}"
        for index in self.plan.missing_indexes:
            unique = "UNIQUE " if index.is_unique else ""
            ending = "_".join((*(column or "expr" for column in index.columns), "idx"))
            yield f"CREATE {unique}INDEX {named(ending)} ON {self._table} {index.definition}"

    def _bounded(self) -> str:
        plan = self.plan
        above = f" AND ({plan.parent_condition})" if plan.parent_condition else ""
        if not isinstance(plan.bounds, Hashed):
            held = quoting.condition(plan.bounds, plan.key)
            return f"ALTER TABLE {self._table} ADD CONSTRAINT {BOUNDS_CHECK} CHECK (({held}){above})"
        said = hash_check(self._name, plan.parent.name, plan.bounds, plan.key, above)
        tag = dollar_tag(said)
        return f"DO {tag}{said}{tag}"

    def _attaching(self) -> Step:
        """Behind a lock on the catch-all, when there is one: the server looks through it."""
        plan = self.plan
        parent, facts = quoting.table(plan.parent.name), plan.facts
        upkeep = Upkeep(
            key=plan.key,
            columns=facts.columns,
            has_catch_all=plan.catch_all is not None,
            detaching=frozenset(),
            lock_wait_ms=0,
            owner=None if facts.owner == facts.role else facts.owner,
            traits=facts.traits,
        )
        statements: list[str] = []
        if plan.moves and plan.catch_all is not None:
            names, held = quoting.columns(facts.columns), quoting.condition(plan.bounds, plan.key)
            statements.append(
                f"WITH moved AS (DELETE FROM {quoting.table(plan.catch_all)} WHERE {held} RETURNING {names}) "
                f"INSERT INTO {self._table} ({names}) SELECT {names} FROM moved"
            )
        statements += upkeep.like_siblings(self._name)
        said = quoting.bounds(plan.bounds, len(plan.key))
        statements.append(f"ALTER TABLE {parent} ATTACH PARTITION {self._table} {said}")
        statements.append(f"ALTER TABLE {self._table} DROP CONSTRAINT IF EXISTS {BOUNDS_CHECK}")
        referred = tuple(dict.fromkeys(each.referenced for each in plan.parent.constraints if each.kind == "f"))
        locked = (self._name, *((plan.catch_all,) if plan.catch_all is not None else ()))
        strong = lock_alone(locked, ALL_OUT, referred)
        gentle = f"LOCK TABLE ONLY {parent} IN SHARE UPDATE EXCLUSIVE MODE"
        return _step(
            "attach",
            f"attach {self._name} to {plan.parent.name}",
            statements,
            StrongLock(look=strong.look, gentle=gentle, strong=strong.strong),
            is_done=_is_partition(self._name),
        )


def hash_check(table: Name, parent: Name, bounds: Hashed, key: tuple[str, ...], above: str) -> str:
    """The body of a DO block that adds the check of a hash part: it names the parent by its number."""
    columns = quoting.columns(key).replace("%", "%%")
    said = literal(f"satisfies_hash_partition(%L::oid, {bounds.modulus}, {bounds.remainder}, {columns})")
    held = f"format({said}, {literal(str(parent))}::regclass::oid)"
    alter = f"ALTER TABLE {quoting.table(table)}".replace("%", "%%")
    added = literal(f"{alter} ADD CONSTRAINT {BOUNDS_CHECK} CHECK ((%s)%s)")
    return f"BEGIN EXECUTE format({added}, {held}, {literal(above)}); END"


def leaving(plan: LeavingPlan) -> tuple[Step, ...]:
    """A partition becomes a table of its own."""
    return tuple(_leaving(plan))


def _leaving(plan: LeavingPlan) -> Iterator[Step]:
    partition, parent = quoting.table(plan.partition), quoting.table(plan.parent)
    alone = lock_alone((plan.partition,), ALL_OUT)
    if plan.keeps and not plan.is_detaching:
        check = f"CHECK ({plan.condition})"
        drop = f"ALTER TABLE {partition} DROP CONSTRAINT IF EXISTS {BOUNDS_CHECK}"
        added = [drop, f"ALTER TABLE {partition} ADD CONSTRAINT {BOUNDS_CHECK} {check} NOT VALID"]
        yield _step("bound the rows", f"add the check of {plan.partition}", added, alone)
        checked = [f"ALTER TABLE {partition} VALIDATE CONSTRAINT {BOUNDS_CHECK}"]
        yield _step("check the rows", f"check the rows of {plan.partition}", checked)
    released = quoting.table(plan.released)
    if plan.target is not None and plan.released != plan.partition:
        # While it is a partition still: when this is stopped midway, the same command finds it and goes on.
        moved = [f"ALTER TABLE {partition} SET SCHEMA {identifier(plan.target)}"]
        gone = f"SELECT to_regclass({literal(str(plan.released))}) IS NOT NULL"
        yield _step("move it", f"move {plan.partition} to {plan.target}", moved, alone, is_done=gone)
    done = f"SELECT NOT relispartition FROM pg_class WHERE oid = to_regclass({literal(str(plan.released))})"
    purpose, detach = f"release {plan.released}", f"ALTER TABLE {parent} DETACH PARTITION {released}"
    if plan.is_detaching:
        yield _step("release", purpose, [f"{detach} FINALIZE"], is_done=done)
    elif plan.catch_all is None:
        # Waits for readers without holding others up. Refused beside a catch-all (PostgreSQL manual, ALTER TABLE).
        statement = Transaction(purpose, (Statement(f"{detach} CONCURRENTLY"),), False)
        yield Step(name="release", transaction=statement, is_done=done)
    else:
        locked = lock_alone((plan.parent, plan.released), ALL_OUT, (plan.catch_all,))
        yield _step("release", purpose, [detach], locked, is_done=done)
    if not plan.keeps and plan.condition and (plan.catch_all is None or plan.is_detaching):
        yield _step("take the check away", f"take the check of {plan.released} away", [_without_check(plan)])


def _without_check(plan: LeavingPlan) -> str:
    """The server leaves one when it detaches concurrently, under a name of its own."""
    table = quoting.table(plan.released)
    drop = literal(f"ALTER TABLE {table.replace('%', '%%')} DROP CONSTRAINT %I")
    body = f"""
DECLARE
  each record;
BEGIN
  FOR each IN SELECT conname FROM pg_catalog.pg_constraint WHERE conrelid = {literal(table)}::regclass
      AND contype = 'c' AND pg_get_expr(conbin, conrelid) = {literal(plan.condition)} LOOP
    EXECUTE format({drop}, each.conname);
  END LOOP;
END
"""
    tag = dollar_tag(body)
    return f"DO {tag}{body}{tag}"


def _is_partition(name: Name) -> str:
    return f"SELECT relispartition FROM pg_class WHERE oid = to_regclass({literal(str(name))})"


def _step(
    name: str, purpose: str, statements: Iterable[str], strong: StrongLock | None = None, is_done: str = NOT_YET
) -> Step:
    parts: tuple[Part, ...] = tuple(map(Statement, statements))
    return Step(name=name, transaction=Transaction(purpose, parts, strong=strong), is_done=is_done)
