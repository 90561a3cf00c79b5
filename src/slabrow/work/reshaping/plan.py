"""Plans a live conversion: from the table as it is, or for one that is under way from its record and the server."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from slabrow.core.table.belongings import Belongings, IncomingKey
from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import Relation
from slabrow.core.table.shape import KeyChange, Shape, key_changes
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.live_plan import LivePlan, Reshaping, ReshapingState
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.errors import Refusal
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT, Name, fit
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.convert import old_name_of, refuse_homeless, refuse_servers
from slabrow.work.layout_preview import LayoutPreview, key_columns, preview
from slabrow.work.pace import Speed

INCOMING = "_incoming"
_ALL_WAYS = "--way locked copies in one transaction while writers wait; --way as-is copies nothing"


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedLive:
    """seen   what the layout gives; None for a conversion that is under way

    key_changes   unique keys that take in the partition key
    notes         what a person should know before it begins
    """

    plan: LivePlan
    seen: LayoutPreview | None
    key_changes: tuple[KeyChange, ...]
    notes: tuple[str, ...] = ()


def details_of(plan: LivePlan, changes: Iterable[KeyChange]) -> dict[str, Any]:
    """What a record holds of its plan: what can no longer be read from the server once it has begun."""
    return {
        "followed": list(plan.followed),
        "leaves": [[leaf.schema, leaf.table] for leaf in plan.leaves],
        "is_partitioned": plan.is_partitioned,
        "digest": plan.belongings.digest,
        "recorded": [column.name for column in plan.logged],
        "key_changes": [[each.name, each.what, list(each.before), list(each.after)] for each in changes],
    }


def plan_anew(
    context: Context,
    session: Session,
    layout: Layout,
    schema: str,
    store: ReshapingStore,
    speed: Speed,
    old: str | None,
) -> PlannedLive:
    """A conversion that is not begun yet. Raises Refusal when something would be lost, LayoutError when the layout does
    not fit.
    """
    refuse_servers(layout)
    with session.reading():
        found = session.catalogue.relation(layout.table)
        shape = session.catalogue.shape(layout.table)
        belongings = session.catalogue.belongings(found)
        names = session.catalogue.names_in_schema(found.name.schema)
        role = session.catalogue.current_role()
        tree = session.catalogue.tree(found.name) if found.is_partitioned else None
        if tree is not None:
            shape = _stored_as(shape, session, tree)
        record_hash = session.catalogue.has_record_hash(found)
    followed = followed_key(shape)
    refuse(shape, belongings, layout)
    if tree is not None and _is_as_declared(tree, layout):
        raise Refusal(
            f"{found.spelling} is partitioned by {tree.by} ({', '.join(column.text for column in tree.key)}) already",
            found="the layout asks for the same key in the same spans or parts",
            fix="`slabrow tend` makes what is missing; `slabrow census` shows it as it is",
        )
    seen = preview(context, session, layout, exact=_must_count(found, shape, layout))
    refuse_homeless(layout, seen, shape)
    kept_as = old_name_of(found.name, old)
    planned = _unused(seen.planned, names)
    for name, why in (
        (kept_as, "the old table cannot be kept as"),
        (fit(found.name.table, INCOMING, NAME_LIMIT), "the new table cannot be called"),
    ):
        if name in names:
            raise Refusal(
                f"{why} {name}",
                found="there is a table of that name already",
                fix="drop it if it is left from an earlier conversion, or name another with --old-name",
            )
    plan = LivePlan(
        job=store.next_number(),
        schema=schema,
        shape=shape,
        belongings=belongings,
        layout=layout,
        planned=planned,
        old_name=found.name.sibling(kept_as),
        followed=followed,
        leaves=tuple(leaf.name for leaf in tree.leaves) if tree is not None else (found.name,),
        is_partitioned=tree is not None,
        key_type=seen.key[0].type_name,
        record_hash=record_hash,
        role=role,
        version=session.version,
        lock_wait_ms=context.lock_wait_ms,
        piece_blocks=speed.piece_blocks,
    )
    refuse_missing_rights(store, plan)
    _refuse_too_many_locks(session, plan)
    return PlannedLive(
        plan=plan, seen=seen, key_changes=key_changes(shape, layout.full_key), notes=tuple(_notes(plan, session))
    )


def plan_again(
    context: Context,
    session: Session,
    layout: Layout,
    schema: str,
    record: Reshaping,
    speed: Speed,
    *,
    leaving: bool = False,
) -> PlannedLive:
    """A conversion that is under way, or that has swapped: its partitions are those that the server has.

    leaving   it is to be taken away: then the table may have been altered
    Raises Refusal when the table was altered since the conversion began.
    """
    is_swapped = record.state == ReshapingState.SWAPPED
    new = record.table if is_swapped else record.table.sibling(fit(record.table.table, INCOMING, NAME_LIMIT))
    with session.reading():
        found = session.catalogue.relation(record.table)
        shape = session.catalogue.shape(record.table)
        belongings = session.catalogue.belongings(found)
        role = session.catalogue.current_role()
        columns = session.catalogue.columns(found)
        record_hash = session.catalogue.has_record_hash(found)
        is_there = "partitions" in record.marks and session.catalogue.exists(new)
        planned = planned_of(session.catalogue.tree(new)) if is_there else ()
    details = record.details
    if not (is_swapped or leaving) and belongings.digest != details["digest"] and record.state == ReshapingState.BEGUN:
        raise Refusal(
            f"{record.table} was altered since its conversion began",
            found="an index, a constraint, a column, a default, a right or the like is another one",
            fix="take that back, or give up with --give-up --go and convert the table as it is now",
        )
    plan = LivePlan(
        job=record.job,
        schema=schema,
        shape=shape,
        belongings=belongings,
        layout=layout,
        planned=planned,
        old_name=record.old_name,
        followed=tuple(details["followed"]),
        leaves=tuple(Name(*leaf) for leaf in details["leaves"]),
        is_partitioned=bool(details["is_partitioned"]),
        key_type=key_columns(layout, columns, found.spelling)[0].type_name,
        record_hash=record_hash,
        role=role,
        version=session.version,
        lock_wait_ms=context.lock_wait_ms,
        piece_blocks=speed.piece_blocks,
        recorded=tuple(details["recorded"]),
    )
    changes = tuple(KeyChange(name, what, tuple(old), tuple(new)) for name, what, old, new in details["key_changes"])
    return PlannedLive(plan=plan, seen=None, key_changes=changes)


def planned_of(tree: Tree) -> tuple[Planned, ...]:
    """The partitions of a tree as a layout would plan them."""

    def planned(each: Partition) -> Planned:
        inner = tuple(planned(child) for child in tree.partitions if child.parent == each.spelling)
        return Planned(each.name.table, each.bounds, inner)

    return tuple(map(planned, tree.children))


def _unused(planned: tuple[Planned, ...], names: frozenset[str]) -> tuple[Planned, ...]:
    """Names that the partitions of the old table have are not given twice."""
    from slabrow.core.values.names import unused

    taken = set(names)

    def named(each: Planned) -> Planned:
        name = unused(each.name, f"{each.name} {each.bounds}", taken, NAME_LIMIT)
        taken.add(name)
        return replace(each, name=name, inner=tuple(map(named, each.inner)))

    return tuple(map(named, planned))


def _stored_as(shape: Shape, session: Session, tree: Tree) -> Shape:
    """Where a partitioned table has no storage settings of its own, the new leaves take those of its newest leaf."""
    if shape.options:
        return shape
    leaves = [leaf for leaf in tree.leaves if leaf.name != (tree.catch_all.name if tree.catch_all else None)]
    if not leaves:
        return shape
    newest = session.catalogue.shape(leaves[-1].name)
    return replace(shape, options=newest.options, is_unlogged=newest.is_unlogged)


def _must_count(found: Relation, shape: Shape, layout: Layout) -> bool:
    """Whether rows have to be looked at, to find those without a home and where the partitions begin.

    Every row of a hash layout has a part. With a catch-all, a key that is never NULL and a declared beginning, every
    row of a range layout has one too.
    """
    if layout.by is By.HASH:
        return False
    column = shape.column(layout.key[0])
    is_settled = layout.by is By.RANGE and layout.catch_all and layout.from_ is not None
    return not (is_settled and column is not None and column.not_null and found.rows is not None)


def followed_key(shape: Shape) -> tuple[str, ...]:
    """The columns of the key by which a row is found again: the primary key, else a unique key without NULL."""
    nullable = {column.name for column in shape.columns if not column.not_null}
    keys = [
        constraint.columns
        for constraint in sorted(shape.constraints, key=lambda each: each.kind)
        if constraint.is_key and "DEFERRABLE" not in constraint.definition and not nullable & set(constraint.columns)
    ]
    keys += [
        index.columns
        for index in shape.indexes
        if index.is_unique and "" not in index.columns and " WHERE " not in index.definition
        and not nullable & set(index.columns)
    ]  # fmt: skip
    if not keys:
        raise Refusal(
            f"{shape.name} cannot be followed while it is written to",
            found="it has no primary key, and no unique index on columns that are NOT NULL",
            fix=f"add a primary key; or choose another way: {_ALL_WAYS}",
        )
    return keys[0]


def refuse(shape: Shape, belongings: Belongings, layout: Layout) -> None:
    obstacles = [*belongings.obstacles, *(_impossible(key, shape, layout) for key in belongings.incoming)]
    changed = {change.name for change in key_changes(shape, layout.full_key)}
    nullable = [name for name in layout.full_key if (column := shape.column(name)) is not None and not column.not_null]
    if belongings.identity_index in changed and nullable:
        obstacles.append(
            f"replica identity by index {belongings.identity_index}: it takes in {', '.join(nullable)}, which may be "
            "NULL; make that NOT NULL, or set the replica identity to FULL"
        )
    if found := [each for each in obstacles if each]:
        raise Refusal(
            f"converting {shape.name} would lose what belongs to it",
            found="\n".join(found),
            fix="follow the step in each line, then convert again",
        )


def _impossible(key: IncomingKey, shape: Shape, layout: Layout) -> str:
    """Why a foreign key that points here cannot point to the new table; empty when it can."""
    uniques = [each.columns for each in shape.constraints if each.is_key]
    uniques += [each.columns for each in shape.indexes if each.is_unique]
    wanted = set(key.columns)
    if any(set(columns) == wanted and set(layout.full_key) <= wanted for columns in uniques):
        return ""
    columns, partition_key = ", ".join(key.columns), ", ".join(layout.full_key)
    by_key = layout.by is not By.HASH
    return (
        f"incoming foreign key {key.name} of {key.child}: ({columns}) alone is no longer unique without "
        f"{partition_key}. "
        f"Choose: give {key.child} the column {partition_key} too, add UNIQUE ({columns}, {partition_key}) here "
        "and let "
        "the foreign key name both; or drop it and check it with a query"
        + (f'; or partition by hash of {columns} (by = "hash"), which keeps the key as it is' if by_key else "")
        + "; or leave this table as it is"
    )


def _is_as_declared(tree: Tree, layout: Layout) -> bool:
    """Whether nothing but missing or foreign partitions is different."""
    held = tuple(column.name or column.text for column in tree.key)
    if (tree.by, held) != (layout.by, layout.key):
        return False
    divided = {
        (child.division.by, tuple(column.name or column.text for column in child.division.key))
        if child.division is not None
        else None
        for child in tree.children
    }
    wanted = None if layout.within is None else (layout.within.by, layout.within.key)
    if divided and divided != {wanted}:
        return False
    moduli = {getattr(child.bounds, "modulus", None) for child in tree.children}
    if layout.by is By.HASH:
        return moduli == {layout.parts}
    if layout.by is By.LIST:
        groups = {frozenset(layout.group_values(group, tree.kinds[0])) for group in layout.groups}
        values = {frozenset(getattr(child.bounds, "values", ())) for child in tree.children if child != tree.catch_all}
        return not groups or values == groups
    from slabrow.core.upkeep.planned_partitions import on_grid

    grid = layout.grid(tree.kinds[0])
    whole = [
        range_
        for _, range_ in tree.ranges
        if range_.from_ is not None and range_.to is not None and on_grid(range_, grid)
        and grid.index(range_.from_[0]) + 1 == grid.index(range_.to[0])
    ]  # fmt: skip
    return len(whole) == len(tree.ranges) and bool(whole)


def refuse_missing_rights(store: ReshapingStore, plan: LivePlan) -> None:
    referred = [each.referenced for each in plan.shape.constraints if each.kind == "f"]
    owned = [key.child for key in plan.belongings.incoming]
    from slabrow.core.values.names import parse_name

    owned += [parse_name(view.name) for view in plan.belongings.views]
    missing = store.rights_missing(plan.shape.name, referred, owned)
    if missing:
        raise Refusal(
            f"converting {plan.shape.name} needs rights that this role has not",
            found="\n".join(missing),
            fix="ask for what each line says; no superuser is needed",
        )


def _refuse_too_many_locks(session: Session, plan: LivePlan) -> None:
    """Completing the new table locks each leaf and each index of it at once; that must not fail after a long copy."""
    tables = sum(1 + len(top.inner) for top in plan.planned)
    indexes = len(plan.shape.indexes) + sum(constraint.is_key for constraint in plan.shape.constraints)
    locks, room = max(tables * (2 + indexes), 3 * len(plan.leaves)), session.execution.lock_room()
    if locks > room * runner.LOCK_TABLE_SHARE:
        raise Refusal(
            f"converting {plan.shape.name} needs too many locks at once",
            found=f"about {locks:,} for {tables:,} partitions of {indexes} indexes, room on the server for {room:,}",
            fix="take a wider span or fewer parts, or raise max_locks_per_transaction and restart the server",
        )


def _notes(plan: LivePlan, session: Session) -> Iterable[str]:
    if not plan.layout.catch_all and plan.layout.by is not By.HASH:
        yield (
            "The layout has no catch-all. A row whose key no partition takes is accepted by the old table and "
            "stops the "
            "conversion before the swap; after the swap the server refuses it."
        )
    for published in plan.belongings.publications:
        if not published.by_root:
            yield (
                f"Publication {published.name} will publish by the partitioned table "
                "(publish_via_partition_root): subscribers go on as before."
            )
