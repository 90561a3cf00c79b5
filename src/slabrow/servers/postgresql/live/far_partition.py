"""Makes a partition on another server, and the foreign table that stands for it here (postgres_fdw)."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from slabrow.core.table.bounds import Hashed
from slabrow.core.table.shape import Column, Shape
from slabrow.core.upkeep.elsewhere import FarLook, FarTable
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.statements import Part, Remote, Statement, Transaction
from slabrow.core.upkeep.steps import NOT_YET, Step
from slabrow.core.values.names import NAME_LIMIT, Name, fit
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.names import incoming_name
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write.ddl import column_definition

# Of each foreign table: rows a message, measured at 1.6 to 2.5 times the speed of the server's own 100 and 1.
_FETCH, _BATCH = 10_000, 500


def arrivals_of(far: FarTable) -> str:
    """The table beside a table elsewhere that keeps which pieces of the copy have come, as SQL."""
    return quoting.table(_beside(far, "_arrived"))


@dataclass(frozen=True, slots=True)
class FarPartition:
    """stage   the partitioned table here that it is attached to until the swap"""

    plan: RedivisionPlan
    far: FarTable
    stage: Name

    @property
    def _table(self) -> str:
        return quoting.table(self.far.table)

    def creation(self, planned: Planned) -> Iterator[Part]:
        """An ordinary table there, without keys, and a foreign table here. A partitioned table there would lose rows
        to an UPDATE that is not sent as a whole.
        """
        plan, far = self.plan, self.far
        name = incoming_name(plan.parent.sibling(planned.name))
        yield from making_there(plan.shape, far)
        yield Statement(foreign_table(plan.shape, name, far))
        spelled = quoting.table(name)
        for privilege, grantee, grantable in plan.facts.traits.grants:
            option = " WITH GRANT OPTION" if grantable else ""
            to = "PUBLIC" if grantee is None else identifier(grantee)
            yield Statement(f"GRANT {privilege} ON {spelled} TO {to}{option}")
        if plan.facts.owner != plan.facts.role:
            yield Statement(f"ALTER FOREIGN TABLE {spelled} OWNER TO {identifier(plan.facts.owner)}")
        said = quoting.bounds(planned.bounds, len(plan.key))
        yield Statement(f"ALTER TABLE {quoting.table(self.stage)} ATTACH PARTITION {spelled} {said}")

    def keys(self, planned: Planned) -> Iterator[Part]:
        """Keys, indexes and checks there, after the rows. Only the check guards the bounds of a foreign table."""
        plan = self.plan
        shape = replace(plan.shape, indexes=(*plan.shape.indexes, *plan.extra))
        yield furnishing_there(shape, self.far, planned, plan.key, plan.divided_by, plan.sources[0].condition)
        yield Statement(f"ANALYZE {quoting.table(incoming_name(plan.parent.sibling(planned.name)))}")

    def emptying(self) -> Remote:
        """Before the copy begins."""
        return Remote(f"TRUNCATE {self._table}, {arrivals_of(self.far)}", self.far.server)


def making_there(shape: Shape, far: FarTable) -> Iterator[Remote]:
    """An ordinary table without keys, and what notes which rows have come."""
    schema = far.table.schema or "public"
    yield Remote(
        f"CREATE SCHEMA {identifier(schema)}", far.server,
        unless=f"SELECT to_regnamespace({literal(identifier(schema))}) IS NOT NULL",
    )  # fmt: skip
    columns = ", ".join(column_definition(_plain(column)) for column in shape.columns)
    yield Remote(
        f"CREATE TABLE {quoting.table(far.table)} ({columns}); "
        f"CREATE TABLE {arrivals_of(far)} (piece bigint PRIMARY KEY, rows bigint)",
        far.server,
        unless=f"SELECT to_regclass({literal(str(far.table))}) IS NOT NULL",
    )


def foreign_table(shape: Shape, name: Name, far: FarTable, part: str = "") -> str:
    """The statement that makes the table here that stands for it. part: of which table, and with which bounds."""
    here = ", ".join(column_definition(replace(column, identity="", not_null_name=None)) for column in shape.columns)
    options = {
        "schema_name": far.table.schema or "public",
        "table_name": far.table.table,
        "fetch_size": str(_FETCH),
        "batch_size": str(_BATCH),
        # A TRUNCATE of the table would empty it there, and the partition that is kept here would not follow.
        "truncatable": "false",
    }
    spelled = ", ".join(f"{key} {literal(value)}" for key, value in options.items())
    what = part or f"({here})"
    return f"CREATE FOREIGN TABLE {quoting.table(name)} {what} SERVER {identifier(far.server)} OPTIONS ({spelled})"


def furnishing_there(
    shape: Shape, far: FarTable, planned: Planned, key: tuple[str, ...], divided_by: str, condition: str
) -> Remote:
    """Indexes and checks, when the rows are there. Only the check guards the bounds of a foreign table.

    condition   the partition constraint as SQL. A part of a hash gets its own: the hash function is asked by the number
                of a partitioned table, which is another number there
    """
    table = quoting.table(far.table)
    made = [
        f"CREATE {'UNIQUE ' if index.is_unique else ''}INDEX ON {table} {index.definition}" for index in shape.indexes
    ]
    made += [
        f"ALTER TABLE {table} ADD CONSTRAINT {identifier(each.name)} {each.definition}"
        for each in shape.constraints
        if each.kind == "c"
    ]
    hashed, guard = _guard(shape, far, planned, key, divided_by, condition)
    made += hashed
    if guard:
        made.append(f"ALTER TABLE {table} ADD CONSTRAINT {BOUNDS_CHECK} CHECK ({guard})")
    made.append(f"ANALYZE {table}")
    return Remote(";\n".join(made), far.server, unless=_has_check(far, BOUNDS_CHECK), doing="build keys and indexes")


def _guard(
    shape: Shape, far: FarTable, planned: Planned, key: tuple[str, ...], divided_by: str, condition: str
) -> tuple[tuple[str, ...], str]:
    """The statements before, and the condition that keeps rows of other partitions out."""
    if not isinstance(planned.bounds, Hashed):
        return (), condition
    hashed, bounds = quoting.table(_beside(far, "_hash")), planned.bounds
    columns = ", ".join(column_definition(_plain(column)) for column in shape.columns if column.name in key)
    asked = f"{literal(hashed)}::regclass, {bounds.modulus}, {bounds.remainder}, {quoting.columns(key)}"
    made = f"CREATE TABLE IF NOT EXISTS {hashed} ({columns}) PARTITION BY {divided_by}"
    return (made,), f"satisfies_hash_partition({asked})"


def _has_check(far: FarTable, name: str) -> str:
    return (
        f"SELECT EXISTS (SELECT FROM pg_constraint WHERE conrelid = to_regclass({literal(str(far.table))}) "
        f"AND conname = {literal(name)})"
    )


def mending(
    shape: Shape, look: FarLook, planned: Planned, key: tuple[str, ...], divided_by: str, condition: str
) -> Step:
    """Adds the columns and checks that the table there lacks. Rows there get the default of a new column, as here.

    condition   as in `furnishing_there`
    """
    far, table = look.table, quoting.table(look.table.table)
    made: list[Part] = []
    for column in shape.columns:
        if column.name not in look.missing:
            continue
        added = column_definition(replace(column, identity="", not_null_name=None))
        sql = f"ALTER TABLE {table} ADD COLUMN IF NOT EXISTS {added}"
        if column.default is not None and not column.generated:
            # Defaults of new rows come from here.
            sql += f"; ALTER TABLE {table} ALTER COLUMN {identifier(column.name)} DROP DEFAULT"
        made.append(Remote(sql, far.server, doing="add a column"))
    checks: list[tuple[str, str, tuple[str, ...]]] = [
        (each.name, each.definition, ()) for each in shape.constraints if each.name in look.checks
    ]
    if not look.is_guarded:
        before, guard = _guard(shape, far, planned, key, divided_by, condition)
        checks.append((BOUNDS_CHECK, f"CHECK ({guard})", before))
    for name, definition, before in checks:
        # Added at once, and proven beside readers and writers.
        spelled, later = identifier(name), definition.removesuffix(" NOT VALID") + " NOT VALID"
        adding = "; ".join((*before, f"ALTER TABLE {table} ADD CONSTRAINT {spelled} {later}"))
        made.append(Remote(adding, far.server, unless=_has_check(far, name), doing="add a check"))
        made.append(Remote(f"ALTER TABLE {table} VALIDATE CONSTRAINT {spelled}", far.server, doing="prove a check"))
    name = f"mend {far.table} on {far.server}"
    return Step(name=name, transaction=Transaction(name, tuple(made), is_atomic=False), is_done=NOT_YET)


def dropping_there(far: FarTable) -> Remote:
    """The table there, with what stands beside it."""
    beside = (quoting.table(_beside(far, ending)) for ending in ("_arrived", "_hash"))
    tables = ", ".join((quoting.table(far.table), *beside))
    return Remote(f"DROP TABLE IF EXISTS {tables}", far.server, doing="drop the table")


def _beside(far: FarTable, ending: str) -> Name:
    return far.table.sibling(fit(far.table.table, ending, NAME_LIMIT))


def _plain(column: Column) -> Column:
    """As it is made there: defaults and numbers come from here."""
    return replace(column, identity="", default=None, not_null_name=None)
