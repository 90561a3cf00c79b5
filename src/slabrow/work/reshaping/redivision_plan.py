"""Plans a split or a merge: from the table as it is, or for one that is under way from its record (N24)."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any
from zoneinfo import ZoneInfo

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, spell_bounds
from slabrow.core.table.bounds_data import bounds_as_data, bounds_from_data
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Index, Shape
from slabrow.core.table.spans import Grid, Span, Unit, parse_span
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.elsewhere import FarTable
from slabrow.core.upkeep.live_plan import Reshaping
from slabrow.core.upkeep.planned_partitions import Namer, Planned
from slabrow.core.upkeep.redivision import (
    RedivisionPlan,
    Source,
    cut_at,
    cut_by,
    hashed_apart,
    listed_apart,
    merged,
    out_of_catch_all,
    slots_of,
)
from slabrow.core.values.errors import Refusal, UsageError, nearest
from slabrow.core.values.key_values import Value, parse_value
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT, Name, fit, unused
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.work.pace import Speed
from slabrow.work.reshaping.plan import followed_key

_BEFORE, _INCOMING = "_before", "_incoming"


@dataclass(frozen=True, slots=True, kw_only=True)
class SplitOptions:
    """How a partition is to be divided: at values, by a span, or with these values apart. None of them for hash."""

    at: tuple[str, ...] = ()
    span: str | None = None
    values: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Place:
    """Where partitions lie. tree: of their parent."""

    root: Name
    tree: Tree
    partitions: tuple[Partition, ...]


def find_partitions(session: Session, names: Sequence[Name]) -> Place:
    """The partitions of these names, all of one parent, in the order of their bounds.

    Raises UsageError for a name that is no partition, or that is another's, or given twice.
    """
    places = []
    for name in names:
        place = session.partitions.root_of(name)
        if place is None:
            raise UsageError(
                f"{name} is no partition",
                fix="name a partition: `slabrow census TABLE` lists them, `slabrow history` says when one has left",
            )
        places.append(place)
    if len({parent for _, parent in places}) > 1:
        raise UsageError(
            "the partitions have different parents",
            found=", ".join(dict.fromkeys(str(parent) for _, parent in places)),
            fix="name partitions of one table",
        )
    root, parent = places[0]
    tree = session.catalogue.tree(parent)
    full = [session.partitions.full_name(name) for name in names]
    if len(set(full)) < len(full):
        raise UsageError("a partition is named twice", fix="name each once")
    by_name = {child.name: child for child in tree.children}
    for name in full:
        if name not in by_name:
            near = nearest(str(name), map(str, by_name))
            raise UsageError(f"{parent} has no partition {name}", fix=f"did you mean {near}?" if near else None)
    chosen = tuple(child for child in tree.children if child.name in full)
    return Place(root, tree, chosen)


def plan_split(
    session: Session, layout: Layout | None, schema: str, store: ReshapingStore, name: Name, how: SplitOptions
) -> tuple[RedivisionPlan, Place]:
    """One partition into several. Raises UsageError when it cannot be divided so, Refusal when something is lost."""
    place = find_partitions(session, [name])
    [partition] = place.partitions
    bounds, span = _divided(session, layout, place, partition, how)
    return _plan("split", session, layout, schema, store, place, bounds, span), place


def plan_merge(
    session: Session, layout: Layout | None, schema: str, store: ReshapingStore, names: Sequence[Name],
    span: Span | None = None,
) -> tuple[RedivisionPlan, Place]:  # fmt: skip
    """Several partitions into one. span: by which the new one is named; else that of the layout."""
    place = find_partitions(session, names)
    together = merged([partition.bounds for partition in place.partitions])
    named = span or (layout.span if layout is not None else None)
    return _plan("merge", session, layout, schema, store, place, (together,), named), place


def plan_relocation(
    session: Session, layout: Layout | None, schema: str, store: ReshapingStore, name: Name, tablespace: str
) -> tuple[RedivisionPlan, Place]:
    """One partition into one with the same keys, in another tablespace. Raises as `plan_split`."""
    place = find_partitions(session, [name])
    [partition] = place.partitions
    plan = _plan("relocate", session, layout, schema, store, place, (partition.bounds,), None)
    return replace(plan, planned=(Planned(partition.name.table, partition.bounds),), tablespace=tablespace), place


def plan_elsewhere(
    session: Session, layout: Layout | None, schema: str, store: ReshapingStore, name: Name, far: FarTable
) -> tuple[RedivisionPlan, Place]:
    """One partition into one with the same keys on another server, or back from there. Raises as `plan_split`."""
    place = find_partitions(session, [name])
    [partition] = place.partitions
    plan = _plan("relocate", session, layout, schema, store, place, (partition.bounds,), None, far)
    return replace(plan, planned=(Planned(partition.name.table, partition.bounds),)), place


def _divided(
    session: Session, layout: Layout | None, place: Place, partition: Partition, how: SplitOptions
) -> tuple[tuple[Bounds, ...], Span | None]:
    """The bounds of the new partitions, and the span by which they are named."""
    tree, kinds = place.tree, place.tree.kinds
    width, zone = len(kinds), ZoneInfo(layout.zone if layout is not None else "UTC")
    given = [word for word, value in (("--at", how.at), ("--span", how.span), ("--values", how.values)) if value]
    if len(given) > 1:
        raise UsageError(f"{' and '.join(given)} exclude each other", fix="give one of them")
    wants = {By.RANGE: ("--at", "--span"), By.LIST: ("--values",), By.HASH: ()}[tree.by]
    if (given and given[0] not in wants) or (not given and wants):
        raise UsageError(
            f"{tree.spelling} is divided by {tree.by}",
            found=f"{given[0]} is given" if given else "nothing says where to divide",
            fix=f"give {' or '.join(wants)}" if wants else "give no value: a hash part becomes two",
        )
    siblings = [child.bounds for child in tree.children if child.name != partition.name]

    def cuts() -> list[Value]:
        return [parse_value(text, kinds[0], zone) for text in how.at]

    match partition.bounds:
        case Hashed() as held:
            return hashed_apart(held), None
        case Listed() as listed:
            return listed_apart(listed, [_listed(text, tree) for text in how.values]), None
        case CatchAll() if tree.by is By.LIST:
            wanted = tuple(dict.fromkeys(_listed(text, tree) for text in how.values))
            return (Listed(wanted), CatchAll()), None
        case CatchAll() if how.span is not None:
            low, high = _extremes(session, tree, partition)
            span = parse_span(how.span)
            asked = slots_of(_grid(layout, span, tree, zone), low, high, width)
            return out_of_catch_all(siblings, asked, low, high, all_of=False), span
        case CatchAll():
            ends = cuts()
            if len(ends) < 2:
                raise UsageError(
                    "one value alone says not which keys are to leave the catch-all",
                    fix="name two or more: keys from the first up to the last leave it",
                )
            ranges = cut_at(Range(None, None), ends, width)[1:-1]
            return out_of_catch_all(siblings, ranges, None, None, all_of=True), _fine(kinds[0].is_time)
        case Range(is_opaque=False) as range_ if how.span is not None:
            low, high = _extremes(session, tree, partition) if None in (range_.from_, range_.to) else (None, None)
            span = parse_span(how.span)
            return cut_by(range_, _grid(layout, span, tree, zone), width, low, high), span
        case Range(is_opaque=False) as range_:
            return cut_at(range_, cuts(), width), _fine(kinds[0].is_time)
        case _:
            raise UsageError(
                f"the order of the keys of {tree.spelling} is not known here", fix="only the server can divide it"
            )


def _fine(is_time: bool) -> Span | None:
    """By days, whatever the layout's span: partitions that are cut anywhere need different names."""
    return Span(1, Unit.DAY) if is_time else None


def _grid(layout: Layout | None, span: Span, tree: Tree, zone: ZoneInfo) -> Grid:
    kind = tree.kinds[0]
    same_table = layout is not None and layout.by is By.RANGE and layout.table == tree.table
    return Grid(span, kind, zone, layout.start(kind) if same_table and layout is not None else None)


def _listed(text: str, tree: Tree) -> Value | None:
    """NULL without quotes is SQL's."""
    return None if text == "NULL" else parse_value(text, tree.kinds[0])


def _extremes(session: Session, tree: Tree, partition: Partition) -> tuple[Value | None, Value | None]:
    """The least and the greatest key among the rows of a partition: exact."""
    column = tree.key[0].name or tree.key[0].text
    with session.reading():
        extent = session.partitions.key_extent(tree, partition, column)
    return extent.low, extent.high


def _plan(
    kind: str,
    session: Session,
    layout: Layout | None,
    schema: str,
    store: ReshapingStore,
    place: Place,
    bounds: Sequence[Bounds],
    span: Span | None,
    far: FarTable | None = None,
) -> RedivisionPlan:
    tree = place.tree
    names = [partition.name for partition in place.partitions]
    # A partition that is moved stays what it is; others become like their siblings.
    facts = session.catalogue.upkeep_facts(tree, names[0] if kind == "relocate" else None)
    found = session.partitions.facts(place.root, tree.table, names)
    with session.reading():
        shape = session.catalogue.shape(tree.table)
        record_hash = session.catalogue.has_record_hash(session.catalogue.relation(tree.table))
    # A partition that lies elsewhere can be followed home.
    obstacles = [each for each in found.obstacles if far is None or not each.startswith("foreign table ")]
    if obstacles:
        what = {"split": "splitting", "merge": "merging", "relocate": "moving"}[kind]
        raise Refusal(
            f"{what} {', '.join(map(str, names))} would lose what belongs to it",
            found="\n".join(obstacles),
            fix="follow the step in each line, then try again",
        )
    referred = [each.referenced for each in shape.constraints if each.kind == "f"]
    missing = () if found.at_once else store.rights_missing(place.root, referred, [])
    if missing:
        raise Refusal(
            f"changing {place.root} needs rights that this role has not", found="\n".join(missing), fix="ask for them"
        )
    # Names that the old partitions give up may be taken again.
    taken = set(facts.taken) - {name.table for name in names}
    planned = []
    for held in bounds:
        named = unused(_name(layout, tree, held, span), spell_bounds(held), taken, NAME_LIMIT)
        taken.add(named)
        planned.append(Planned(named, held))
    sources = []
    for partition, condition in zip(place.partitions, found.conditions, strict=True):
        kept = unused(fit(partition.name.table, _BEFORE, NAME_LIMIT), str(partition.name), taken, NAME_LIMIT)
        taken.add(kept)
        sources.append(
            Source(name=partition.name, bounds=partition.bounds, kept_as=partition.name.sibling(kept),
                   condition=condition)
        )  # fmt: skip
    for each in planned:
        if (passing := fit(each.name, _INCOMING, NAME_LIMIT)) in facts.taken:
            raise Refusal(
                f"the new partition cannot be called {passing}",
                found="there is a table of that name already",
                fix="drop it if it is left from earlier work, or rename it",
            )
    if far is not None and not far.comes:
        extra = _besides(session.partitions.indexes_there(far), shape.indexes)
    else:
        extra = _common(found.own_indexes)
    return RedivisionPlan(
        job=store.next_number(),
        schema=schema,
        kind=kind,
        root=place.root,
        parent=tree.table,
        tree=tree,
        divided_by=found.divided_by,
        parent_condition=found.parent_condition,
        key=tuple(column.name or column.text for column in tree.key),
        sources=tuple(sources),
        planned=tuple(planned),
        shape=shape,
        extra=extra,
        followed=() if found.at_once else followed_key(shape if far is None else _keyed(shape, extra)),
        catch_all=_other_catch_all(tree, names),
        facts=facts,
        digest=found.digest,
        record_hash=record_hash,
        version=session.version,
        at_once=found.at_once,
        far=far,
    )


def _keyed(shape: Shape, own: Sequence[Index]) -> Shape:
    """With the keys of the partition itself: its table has none."""
    return replace(shape, indexes=(*shape.indexes, *own))


def _other_catch_all(tree: Tree, names: Sequence[Name]) -> Name | None:
    return tree.catch_all.name if tree.catch_all is not None and tree.catch_all.name not in names else None


def _common(own: Sequence[Sequence[Index]]) -> tuple[Index, ...]:
    """Indexes of their own that all of them have, by what they index."""
    shared = set.intersection(*({index.definition for index in each} for each in own))
    return tuple(index for index in own[0] if index.definition in shared)


def _besides(indexes: Sequence[Index], of_table: Sequence[Index]) -> tuple[Index, ...]:
    """The indexes that the table does not have. Every new partition gets the table's indexes anyway."""
    known = {(index.definition, index.is_unique) for index in of_table}
    return tuple(index for index in indexes if (index.definition, index.is_unique) not in known)


def _name(layout: Layout | None, tree: Tree, bounds: Bounds, span: Span | None) -> str:
    """As upkeep names partitions; below another partition by that one's name."""
    key = tuple(column.name or column.text for column in tree.key)
    base = layout if layout is not None and layout.table == tree.table else Layout(tree.table, tree.by, key)
    if layout is not None and base is not layout:
        base = replace(base, partition_name=layout.partition_name, zone=layout.zone)
    named = replace(base, span=span)
    group = next(
        (each.name for each in base.groups
         if isinstance(bounds, Listed) and base.by is By.LIST
         and set(base.group_values(each, tree.kinds[0])) == set(bounds.values)),
        None,
    )  # fmt: skip
    return Namer(named, tree.kinds[0], NAME_LIMIT).name(bounds, group)


# The record


def details_of(plan: RedivisionPlan) -> dict[str, Any]:
    """What a record holds of its plan: what can no longer be read from the server once it has begun."""
    return {
        "root": str(plan.root),
        "parent": [plan.parent.schema, plan.parent.table],
        "sources": [
            {
                "name": [each.name.schema, each.name.table],
                "kept_as": [each.kept_as.schema, each.kept_as.table],
                "bounds": bounds_as_data(each.bounds),
                "condition": each.condition,
            }
            for each in plan.sources
        ],
        "planned": [{"name": each.name, "bounds": bounds_as_data(each.bounds)} for each in plan.planned],
        "followed": list(plan.followed),
        "extra": [[each.name, each.definition, each.is_unique, list(each.columns)] for each in plan.extra],
        "divided_by": plan.divided_by,
        "parent_condition": plan.parent_condition,
        "digest": plan.digest,
        "at_once": plan.at_once,
        "tablespace": plan.tablespace,
        "lay_in": list(plan.lay_in),
        "far": None if plan.far is None else _far_data(plan.far),
    }


def _far_data(far: FarTable) -> dict[str, Any]:
    table = [far.table.schema, far.table.table]
    return {"server": far.server, "table": table, "comes": far.comes, "is_plain": far.is_plain}


def _far_from(data: dict[str, Any] | None) -> FarTable | None:
    return None if data is None else FarTable(data["server"], Name(*data["table"]), data["comes"], data["is_plain"])


def plan_again(session: Session, schema: str, record: Reshaping, root: Name, speed: Speed) -> RedivisionPlan:
    """Of one that is under way, or has swapped. Raises Refusal when the table is gone or divided in another way."""
    details = record.details
    parent = Name(*details["parent"])
    tree = session.catalogue.tree(parent)

    def held(data: object) -> Bounds:
        return CatchAll() if data == {"catch_all": True} else bounds_from_data(data, tree.kinds)

    moved = Name(*details["sources"][0]["name"]) if record.kind == "relocate" else None
    facts = session.catalogue.upkeep_facts(tree, moved)
    with session.reading():
        shape = session.catalogue.shape(parent)
        record_hash = session.catalogue.has_record_hash(session.catalogue.relation(parent))
    sources = tuple(
        Source(
            name=Name(*each["name"]),
            bounds=held(each["bounds"]),
            kept_as=Name(*each["kept_as"]),
            condition=each["condition"],
        )
        for each in details["sources"]
    )
    return RedivisionPlan(
        job=record.job,
        schema=schema,
        kind=record.kind,
        root=root,
        parent=parent,
        tree=tree,
        divided_by=details["divided_by"],
        parent_condition=details["parent_condition"],
        key=tuple(column.name or column.text for column in tree.key),
        sources=sources,
        planned=tuple(Planned(each["name"], held(each["bounds"])) for each in details["planned"]),
        shape=shape,
        extra=tuple(Index(name, sql, unique, tuple(columns)) for name, sql, unique, columns in details["extra"]),
        followed=tuple(details["followed"]),
        catch_all=_other_catch_all(tree, [source.name for source in sources]),
        facts=facts,
        digest=details["digest"],
        record_hash=record_hash,
        version=session.version,
        piece_blocks=speed.piece_blocks,
        at_once=details.get("at_once", False),
        tablespace=details.get("tablespace"),
        lay_in=tuple(details.get("lay_in", ())),
        far=_far_from(details.get("far")),
    )
