"""`adopt --into` and `release`: a table becomes a partition, a partition a table of its own (N22, N23)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, spell_bounds
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.membership import JoiningPlan, LeavingPlan, Staged, bound_fault, newest, room_for
from slabrow.core.upkeep.steps import LongWork, Step, StepReport, StepState
from slabrow.core.values.errors import Refusal, UsageError
from slabrow.core.values.key_values import Edge, Value, parse_value
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.values.wording import rows_of
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.reshaping.redivision_plan import find_partitions
from slabrow.work.reshaping.under_way import refuse_under_way
from slabrow.work.step_runner import StepRunner, ledger_or_none

_PARTITION_IDENTITIES = 17  # from this version on a partition's identity is its parent's


@dataclass(frozen=True, slots=True, kw_only=True)
class BoundsAsked:
    """As on the command line. None of them: as the layout says, from the rows."""

    from_: str | None = None
    to: str | None = None
    values: tuple[str, ...] = ()
    part: str | None = None
    is_catch_all: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class MembershipResult:
    """What was done about a table, or would be.

    doing   `adopt` or `release`
    rows    of the table; None where they were not counted
    back    the command that takes it back; None where there is none
    """

    doing: str
    root: Name
    parent: Name
    table: Name
    bounds: Bounds
    rows: int | None
    work: LongWork
    steps: tuple[StepReport, ...]
    is_done: bool
    back: str | None
    notes: tuple[str, ...] = ()

    @property
    def longest_lock_ms(self) -> float:
        """The longest time for which a strong lock was held."""
        return max((step.longest_lock_ms or 0.0 for step in self.steps), default=0.0)


def adopt_table(
    context: Context, layout: Layout | None, schema: str | None, table: Name, parent: Name, asked: BoundsAsked,
    *, moves: bool, go: bool,
) -> MembershipResult:  # fmt: skip
    """Brings a staged table in. layout: of the parent; moves: rows of the catch-all that belong here come too.

    Raises UsageError for bounds that cannot be, Refusal for what keeps the table from becoming a partition.
    """
    with context.connected() as session, _alone(context, session, parent, go=go) as root:
        tree = session.catalogue.tree(parent)
        if any(column.name is None for column in tree.key):
            raise UsageError(f"{parent} is divided by an expression", fix="attach the table with the server's client")
        key = tuple(str(column.name) for column in tree.key)
        place = session.partitions.facts(root, tree.table, [])
        same = next((child for child in tree.children if child.name.table == table.table), None)
        if place.joins_next and same is not None and not session.catalogue.exists(table):
            return _done(
                context, session, schema, "adopt", root, tree.table, same.name, same.bounds, same.rows, (),
                f"slabrow release {same.name} --go", ["It is a partition already; there is no table of that name."],
                go=True,
            )  # fmt: skip
        given = session.catalogue.relation(table)
        name = given.name
        context.scanning(given.rows, given.bytes, f"checking the rows of {given.spelling}")
        bounds = _bounds(session, layout, tree, name, asked)
        already = next((child for child in tree.children if child.name == name), None)
        if already is not None and already.bounds == bounds and not place.joins_next:
            return _done(
                context, session, schema, "adopt", root, tree.table, name, bounds, already.rows, (),
                f"slabrow release {name} --go", ["It is a partition already."], go=True,
            )  # fmt: skip
        room = room_for(bounds, tree, name.table) if place.joins_next else None
        if (fault := bound_fault(bounds, tree) if room is None else room.fault) is not None:
            raise Refusal(f"{name} cannot become a partition of {parent}", found=fault, fix="give other bounds")
        refuse_under_way(session, schema, root)
        rest = tree.catch_all if room is None else room.host
        catch_all = None if rest is None else rest.name
        staged = session.partitions.staged(tree.table, name, bounds, key, catch_all)
        _refuse_staged(staged, tree, name, bounds, rest, moves=moves)
        with session.reading():
            shape = session.catalogue.shape(tree.table)
        facts = session.catalogue.upkeep_facts(tree)
        plan = JoiningPlan(
            root=root,
            parent=shape,
            key=key,
            table=staged.shape,
            bounds=bounds,
            catch_all=catch_all,
            moves=moves and staged.in_catch_all > 0,
            facts=facts,
            identities=tuple(
                column.name for column in staged.shape.columns
                if column.identity and session.version >= _PARTITION_IDENTITIES
            ),
            parent_condition=place.parent_condition,
            tree=tree,
            is_empty=staged.rows == 0,
        )  # fmt: skip
        notes = [*staged.notes]
        notes += [] if not plan.moves else [f"{rows_of(staged.in_catch_all)} of {catch_all} come along."]
        if catch_all is not None and room is None:
            notes.append(f"{catch_all} is locked and looked through: quick while it holds few rows.")
        return _done(
            context, session, schema, "adopt", root, tree.table, name, bounds,
            staged.rows + (staged.in_catch_all if plan.moves else 0), session.writer.joining(plan),
            f"slabrow release {name} --go", notes, go=go,
        )  # fmt: skip


def release(
    context: Context, schema: str | None, partition: Name, *, target: str | None, keeps: bool, also_newest: bool,
    go: bool,
) -> MembershipResult:  # fmt: skip
    """Lets a partition out. target: the schema it goes to; keeps: a check of its bounds stays.

    Raises Refusal for a hash part, for one under hold, and for the newest unless that is meant.
    """
    with context.connected() as session:
        place = find_partitions(session, [partition])
        with _alone(context, session, place.tree.table, go=go) as root:
            place = find_partitions(session, [partition])
            [found] = place.partitions
            refuse_under_way(session, schema, root)
            _refuse_leaving(context, session, schema, place.tree, found.name, root, also_newest=also_newest)
            if target is not None and not session.catalogue.has_schema(target):
                raise UsageError(f"there is no schema {target}", fix="create it first")
            facts = session.partitions.facts(root, place.tree.table, [found.name])
            catch_all = place.tree.catch_all
            plan = LeavingPlan(
                parent=place.tree.table,
                partition=found.name,
                bounds=found.bounds,
                catch_all=None if catch_all is None else catch_all.name,
                target=target,
                keeps=keeps and not isinstance(found.bounds, CatchAll),
                condition=facts.conditions[0],
                is_detaching=found.is_detaching,
            )
            notes = [_fate(place.tree, found.name, joins_next=facts.joins_next)]
            back: str | None = f"slabrow adopt {plan.released} --into {place.tree.table}{_said(found.bounds)} --go"
            if facts.joins_next and isinstance(found.bounds, CatchAll):
                back = None
            return _done(
                context, session, schema, "release", root, place.tree.table, plan.released, found.bounds, found.rows,
                session.writer.leaving(plan), back, notes, go=go,
            )  # fmt: skip


def _done(
    context: Context, session: Session, schema: str | None, doing: str, root: Name, parent: Name, table: Name,
    bounds: Bounds, rows: int | None, steps: tuple[Step, ...], back: str | None, notes: Sequence[str], *, go: bool,
) -> MembershipResult:  # fmt: skip
    work = LongWork(kind=doing, table=root, steps=steps)
    if go:
        reports = StepRunner(context, session, ledger_or_none(context, session, schema)).do(work)
    else:
        reports = tuple(StepReport(name=step.name, state=StepState.PROPOSED) for step in steps)
    return MembershipResult(
        doing=doing, root=root, parent=parent, table=table, bounds=bounds, rows=rows, work=work, steps=reports,
        is_done=go, back=back, notes=tuple(notes),
    )  # fmt: skip


@contextmanager
def _alone(context: Context, session: Session, parent: Name, *, go: bool) -> Iterator[Name]:
    """The partitioned table in the end; with `go`, other runs are kept off it."""
    with session.reading():
        full = session.catalogue.relation(parent).name
    above = session.partitions.root_of(full)
    root = above[0] if above is not None else full
    if not go:
        yield root
        return
    with runner.sole(session, [root], context.lock_wait_ms):
        context.guard_pretended_clock(session.catalogue.moment())
        yield root


def _refuse_staged(
    staged: Staged, tree: Tree, name: Name, bounds: Bounds, rest: Partition | None, *, moves: bool
) -> None:
    if staged.faults:
        raise Refusal(
            f"{name} cannot become a partition of {tree.table}",
            found="\n".join(staged.faults),
            fix="follow the step in each line, then try again",
        )
    if staged.outside:
        raise Refusal(
            f"{staged.outside:,} of {rows_of(staged.rows)} of {name} lie outside of the bounds",
            found=f"{spell_bounds(bounds)}; outside lie {', '.join(staged.examples)}"
            + (" and others" if staged.outside > len(staged.examples) else ""),
            fix="move or delete these rows, or give other bounds",
        )
    if staged.in_catch_all and not moves:
        raise Refusal(
            f"{rows_of(staged.in_catch_all)} of {'the catch-all' if rest is tree.catch_all else 'another partition'} "
            "would belong to the new partition",
            found=f"keys {spell_bounds(bounds)} lie in {rest.spelling if rest is not None else name.table}",
            fix="--from-catch-all moves them in the same transaction",
        )


def _refuse_leaving(
    context: Context, session: Session, schema: str | None, tree: Tree, name: Name, root: Name, *, also_newest: bool
) -> None:
    found = next(child for child in tree.children if child.name == name)
    if isinstance(found.bounds, Hashed):
        raise Refusal(
            f"{name} is a hash part, and holds a part of all keys",
            fix="no hash part leaves: rows with such keys would be refused from then on",
        )
    if schema is not None:
        ledger = session.ledger(schema)
        held = ledger.holds(str(root), context.now) if ledger.version() > 0 else {}
        if name.table in held:
            raise Refusal(f"{name} is under hold", fix=f"end the hold first: slabrow tend --end-hold {name.table} --go")
    if newest(tree, [name]) and not also_newest:
        raise Refusal(
            f"{name} holds the newest rows of {tree.table}", fix="when it is really meant to leave: --even-the-newest"
        )


def _fate(tree: Tree, name: Name, *, joins_next: bool) -> str:
    ranges = [child for child, _ in tree.ranges]
    later = ranges[[child.name for child in ranges].index(name) + 1 :] if joins_next and tree.by is By.RANGE else []
    if later:
        return f"From then on rows with such keys fall into {later[0].spelling}."
    if tree.catch_all is not None and tree.catch_all.name != name:
        return f"From then on rows with such keys fall into {tree.catch_all.spelling}."
    return "From then on rows with such keys are refused."


def _said(bounds: Bounds) -> str:
    """The options of `adopt` that name these bounds."""
    from slabrow.core.values.key_values import spell

    def quoted(value: Value | None) -> str:
        return "'" + ("NULL" if value is None else spell(value)).replace("'", "'\\''") + "'"

    match bounds:
        case Range(from_=low, to=high):
            ends = [f" --from {quoted(low[0])}"] if low is not None else []
            return "".join(ends + ([f" --to {quoted(high[0])}"] if high is not None else []))
        case Listed(values=values):
            return " --values " + " ".join(map(quoted, values))
        case Hashed(modulus=modulus, remainder=remainder):
            return f" --part {remainder}/{modulus}"
        case _:
            return " --catch-all"


def _bounds(session: Session, layout: Layout | None, tree: Tree, table: Name, asked: BoundsAsked) -> Bounds:
    """Those that were asked for; else those of the layout's slot that holds all rows."""
    kind, zone = tree.kinds[0], ZoneInfo(layout.zone if layout is not None else "UTC")
    tail: tuple[Value, ...] = (Edge.MINVALUE,) * (len(tree.key) - 1)
    given = {By.RANGE: asked.from_ is not None or asked.to is not None, By.LIST: bool(asked.values),
             By.HASH: asked.part is not None}  # fmt: skip
    wanted = {By.RANGE: "--from and --to", By.LIST: "--values", By.HASH: "--part"}[tree.by]
    if asked.is_catch_all:
        if any(given.values()) or tree.by is By.HASH:
            raise UsageError("a catch-all has no bounds, and hash has no catch-all", fix="give --catch-all alone")
        return CatchAll()
    if any(is_given for by, is_given in given.items() if by != tree.by):
        raise UsageError(f"{tree.spelling} is divided by {tree.by}", fix=f"give {wanted}")
    if tree.by is By.HASH and asked.part is not None:
        remainder, _, modulus = asked.part.partition("/")
        if not (remainder.isdecimal() and modulus.isdecimal() and int(remainder) < int(modulus)):
            raise UsageError(f"--part {asked.part} is no part", fix="write remainder/modulus, such as 3/16")
        return Hashed(int(modulus), int(remainder))
    if tree.by is By.LIST and asked.values:
        return Listed(tuple(None if text == "NULL" else parse_value(text, kind, zone) for text in asked.values))
    if tree.by is By.RANGE and given[By.RANGE]:
        ends = [None if text is None else (parse_value(text, kind, zone), *tail) for text in (asked.from_, asked.to)]
        return Range(ends[0], ends[1])
    if tree.by is not By.RANGE or layout is None or layout.by is not By.RANGE or layout.span is None:
        raise UsageError(
            f"nothing says which keys {table} is to hold", found=f"{tree.spelling} is divided by {tree.by}",
            fix=f"give {wanted}" + ("" if tree.by is not By.RANGE else ", or a layout with a span"),
        )  # fmt: skip
    low, high = session.partitions.extent(table, str(tree.key[0].name))
    if low is None or high is None:
        raise UsageError(f"{table} has no row that would tell which keys it is to hold", fix=f"give {wanted}")
    grid = layout.grid(kind)
    first, last = (grid.index(parse_value(text, kind, zone)) for text in (low, high))
    if first != last:
        raise UsageError(
            f"the rows of {table} lie in more than one span of {layout.span}", found=f"from {low} to {high}",
            fix="give --from and --to, or bring them in as several tables",
        )  # fmt: skip
    return Range((grid.start(first), *tail), (grid.start(first + 1), *tail))
