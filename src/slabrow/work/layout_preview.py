"""A layout applied to a table: the partitions it asks for, and how many rows and bytes each would get."""

from collections.abc import Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from slabrow.core.statistics.estimates import ColumnStatistics, split_evenly
from slabrow.core.statistics.sizes import estimated_rows, leaf_shares
from slabrow.core.table.bounds import Bounds, CatchAll, Listed, Range, uncovered
from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import ColumnFact, Relation
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.coarsening import coarsened
from slabrow.core.upkeep.planned_partitions import (
    Namer,
    Planned,
    as_key,
    cutoff,
    divided,
    due_partitions,
    is_past,
    number_now,
)
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Kind, Value, order, parse_value
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT
from slabrow.servers.protocols import Session
from slabrow.work.context import Context


@dataclass(frozen=True, slots=True)
class Sized:
    """A planned leaf with what it would hold; rows and bytes are None where they cannot be told.

    top   the partition of the table that it is a part of; itself where nothing is divided further
    """

    planned: Planned
    rows: int | None
    bytes: int | None
    top: Planned


@dataclass(frozen=True, slots=True)
class LayoutPreview:
    """relation   the table as it is
    key          its key columns
    sized        the partitions, in the order of their bounds, the catch-all last
    homeless     rows that no partition would hold: they have a NULL key, or lie before `from`
    is_exact     counted, not estimated
    """

    layout: Layout
    relation: Relation
    key: tuple[ColumnFact, ...]
    sized: tuple[Sized, ...]
    homeless: int
    nulls: int
    is_exact: bool

    @property
    def without_coarsen(self) -> int | None:
        """How many partitions there would be without `coarsen`; None where the layout has none."""
        if self.layout.coarsen is None:
            return None
        grid = self.layout.grid(self.key[0].kind)
        return sum(
            grid.index(top.bounds.to[0]) - grid.index(top.bounds.from_[0])
            if isinstance(top.bounds, Range) and top.bounds.from_ is not None and top.bounds.to is not None
            else 1
            for top in self.planned
        )

    @property
    def planned(self) -> tuple[Planned, ...]:
        """The partitions of the table itself, each with its own."""
        return tuple(dict.fromkeys(each.top for each in self.sized))


def key_columns(layout: Layout, columns: Sequence[ColumnFact], table: str) -> tuple[ColumnFact, ...]:
    """The columns that a layout's key names. Raises LayoutError for a column that is missing or does not fit."""
    by_name = {column.name: column for column in columns}
    layout.check_columns(by_name, table)
    key = tuple(by_name[name] for name in layout.key)
    if layout.by is By.RANGE:
        layout.grid(key[0].kind)
    return key


def inner_kinds(layout: Layout, columns: Sequence[ColumnFact], table: str) -> tuple[Kind, ...]:
    """The kinds of the inner key. Raises LayoutError for a column that is not there."""
    if layout.within is None:
        return ()
    return tuple(column.kind for column in key_columns(layout.within, columns, table))


def preview(context: Context, session: Session, layout: Layout, *, exact: bool) -> LayoutPreview:
    """The partitions of `layout` for its table at the context's `now`.

    exact   count the rows (one or two scans) instead of asking the statistics; a hash layout's are counted by key
    Raises LayoutError when the layout does not fit the table, ServerError when there is no such table or it was never
    analysed and `exact` is not asked for.
    """
    with session.reading(f"read {layout.table}"):
        found, _ = session.catalogue.whole(session.catalogue.relation(layout.table))
        columns = session.catalogue.columns(found)
        statistics = session.catalogue.column_statistics(found)
        # A table that is partitioned already has its own partitions' names in use.
        taken = frozenset() if found.is_partitioned else session.catalogue.names_in_schema(found.name.schema)
        asked = _Asked.of(context, layout, found, columns, taken)
        if found.is_partitioned and not exact:
            tree = session.catalogue.tree(layout.table)
            if (held := tuple(each.name or each.text for each in tree.key)) == layout.key and tree.by is layout.by:
                return _held(asked, tree, statistics.get(held[0]))
        if exact:
            context.scanning(2 * (found.rows or 0), 2 * found.bytes, f"counting the rows of {found.spelling}")
            return _counted(session, asked)
        return _estimated(asked, statistics)


@dataclass(frozen=True, slots=True)
class _Asked:
    """The layout and table of a preview. inner: the columns of the inner key, none without a `within`."""

    context: Context
    layout: Layout
    found: Relation
    columns: tuple[ColumnFact, ...]
    key: tuple[ColumnFact, ...]
    inner: tuple[ColumnFact, ...]
    taken: frozenset[str]

    @staticmethod
    def of(
        context: Context, layout: Layout, found: Relation, columns: tuple[ColumnFact, ...], taken: frozenset[str]
    ) -> "_Asked":
        key = key_columns(layout, columns, found.spelling)
        inner = key_columns(layout.within, columns, found.spelling) if layout.within is not None else ()
        return _Asked(context=context, layout=layout, found=found, columns=columns, key=key, inner=inner, taken=taken)

    def planned(
        self, low: Value | None = None, high: Value | None = None, values: tuple[Value | None, ...] = ()
    ) -> tuple[Planned, ...]:
        layout, kinds = self.layout, tuple(column.kind for column in self.key)
        now = number_now(high) if layout.by is By.RANGE and not kinds[0].is_time else self.context.now
        namer = Namer(layout, kinds[0], NAME_LIMIT, self.taken)
        top = due_partitions(layout, kinds, namer, now=now, low=low, high=high, values=values)
        top = coarsened(layout, top, kinds, now)
        return divided(top, layout, tuple(column.kind for column in self.inner), NAME_LIMIT)

    def preview(
        self, planned: tuple[Planned, ...], rows: Sequence[int | None], homeless: int, nulls: int, is_exact: bool
    ) -> LayoutPreview:
        """rows: of each leaf. Bytes are in proportion to them: the table's own bytes a row, indexes and TOAST too."""
        found = self.found
        known = max(sum(count or 0 for count in rows) or 1, found.rows or 0)
        leaves = [(leaf, top) for top in planned for leaf in top.leaves]
        sized = tuple(
            Sized(leaf, count, None if count is None else round(found.bytes * count / known), top)
            for (leaf, top), count in zip(leaves, rows, strict=True)
        )
        return LayoutPreview(
            layout=self.layout,
            relation=found,
            key=self.key,
            sized=sized,
            homeless=homeless,
            nulls=nulls,
            is_exact=is_exact,
        )


def _estimated(asked: _Asked, statistics: dict[str, ColumnStatistics]) -> LayoutPreview:
    layout, found = asked.layout, asked.found
    seen = statistics.get(layout.key[0])
    if seen is None or found.rows is None:
        # Without statistics the rows are not known, unless there are none.
        planned = asked.planned()
        known = 0 if found.rows == 0 else None
        return asked.preview(planned, [known for each in planned for _ in each.leaves], 0, 0, False)
    values = tuple(value for value, _ in seen.common) if layout.by is By.LIST else ()
    planned = asked.planned(seen.low, seen.high, values)
    columns = {each.name: each.as_key() for each in asked.columns}
    rows = list(split_evenly(found.rows, leaf_shares(planned, layout, columns, statistics)))
    homeless = 0 if layout.by is By.HASH else max(0, found.rows - sum(rows))
    nulls = 0 if layout.by is By.HASH else round(seen.null_share * found.rows)
    return asked.preview(planned, rows, homeless, nulls, False)


def _held(asked: _Asked, tree: Tree, seen: ColumnStatistics | None) -> LayoutPreview:
    """Of a table that is divided this way already: the rows and bytes that its partitions hold, by their bounds.

    What is past `keep` and has left is not forecast again. Rows of a partition that was never analysed are told from
    its bytes.
    """
    layout = asked.layout
    tops = {child.bounds: child for child in tree.children}
    inner = {(leaf.parent, leaf.bounds): leaf for leaf in tree.leaves}
    values = tuple(
        value for child in tree.children if isinstance(child.bounds, Listed) for value in child.bounds.values
    )
    planned = asked.planned(seen.low if seen else None, seen.high if seen else None, values)
    limit = None
    if layout.by is By.RANGE and asked.key[0].kind.is_time:
        limit = cutoff(layout, as_key(asked.context.now, asked.key[0].kind, ZoneInfo(layout.zone)))
    planned = tuple(each for each in planned if each.bounds in tops or not is_past(each.bounds, limit))
    rows = estimated_rows(tree.leaves)
    sized = []
    for top in planned:
        there = tops.get(top.bounds)
        for leaf in top.leaves:
            held = there if leaf is top or there is None else inner.get((there.spelling, leaf.bounds))
            is_there = held is not None and held.is_leaf
            if held is None and layout.coarsen is not None and (some := _within(tree, top.bounds)):
                # It is to be merged of these.
                known = [rows[each.spelling] for each in some]
                total = None if None in known else sum(each or 0 for each in known)
                sized.append(Sized(leaf, total, sum(each.bytes for each in some), top))
                continue
            sized.append(
                Sized(leaf, rows[held.spelling] if held is not None and is_there else 0,
                      held.bytes if held is not None and is_there else 0, top)
            )  # fmt: skip
    return LayoutPreview(
        layout=layout, relation=asked.found, key=asked.key, sized=tuple(sized), homeless=0, nulls=0, is_exact=False
    )


def _within(tree: Tree, bounds: Bounds) -> list[Partition]:
    """The leaves whose whole range lies within these bounds."""
    if not isinstance(bounds, Range):
        return []
    return [child for child, each in tree.ranges if child.is_leaf and not uncovered(each, [bounds])]


def _counted(session: Session, asked: _Asked) -> LayoutPreview:
    layout, found, key = asked.layout, asked.found, asked.key
    match layout.by:
        case By.RANGE:
            extent = session.counting.extent(found.name, key[0])
            planned = asked.planned(extent.low, extent.high)
            counts, nulls = _count_ranges(session, found, key[0], planned)
        case By.LIST:
            by_value = session.counting.count_values(found.name, key[0])
            planned = asked.planned(values=tuple(by_value))
            nulls = by_value.get(None, 0)
            listed = [
                sum(by_value.get(value, 0) for value in each.bounds.values) if isinstance(each.bounds, Listed) else 0
                for each in planned
            ]
            counts = _rest_last(planned, listed, sum(by_value.values()))
        case By.HASH:
            planned = asked.planned()
            counts, is_exact = _count_hashed(session, found, key, planned)
            if layout.within is None:
                return asked.preview(planned, counts, 0, 0, is_exact)
            nulls = 0
            counts.append(0)
    homeless = counts.pop()
    if layout.within is not None:
        counts = _count_within(session, asked, planned)
    return asked.preview(planned, counts, homeless, nulls, True)


def _count_within(session: Session, asked: _Asked, planned: tuple[Planned, ...]) -> list[int]:
    """Rows of each leaf, counted: the server groups by the outer key's partition and the inner key, in one scan."""
    within = asked.layout.within
    assert within is not None
    found = {each.name: [0] * len(each.leaves) for each in planned}
    finder = _TopFinder(asked, planned)
    for labels, columns, rows in session.counting.count_pairs(
        asked.found.name, asked.key[0], finder.thresholds, asked.inner
    ):
        tops = [finder.top(label) for label in labels]
        places = _inner_places(within, asked.inner, planned, columns)
        for top, place, count in zip(tops, places, rows, strict=True):
            if top is not None and (place is not None or not top.inner):
                found[top.name][place or 0 if top.inner else 0] += count
    return [count for each in planned for count in found[each.name]]


class _TopFinder:
    """Which partition of the table a row belongs to, by the label that the server gives the row."""

    def __init__(self, asked: _Asked, planned: tuple[Planned, ...]) -> None:
        self._planned = planned
        self._asked = asked
        self._rest = next((each for each in planned if isinstance(each.bounds, CatchAll)), None)
        ranges = [(each, each.bounds) for each in planned if isinstance(each.bounds, Range)]
        ends = {end[0] for _, bounds in ranges for end in (bounds.from_, bounds.to) if end is not None}
        self._thresholds = sorted(ends, key=lambda value: order((value,)))
        self._by_start = {None if bounds.from_ is None else bounds.from_[0]: each for each, bounds in ranges}
        self._by_value = {
            value: each for each in planned if isinstance(each.bounds, Listed) for value in each.bounds.values
        }

    @property
    def thresholds(self) -> list[Value] | None:
        """Between which the label tells a range; None where the label is the value itself."""
        return self._thresholds if self._asked.layout.by is By.RANGE else None

    def top(self, label: str | None) -> Planned | None:
        match self._asked.layout.by:
            case By.RANGE:
                if label is None:
                    return self._rest
                return self._by_start.get(self._thresholds[int(label) - 1] if int(label) else None, self._rest)
            case By.LIST:
                value = None if label is None else parse_value(label, self._asked.key[0].kind)
                return self._by_value.get(value, self._rest)
            case By.HASH:
                return self._planned[_places([[label]], self._asked.key, len(self._planned))[0]]


def _inner_places(
    within: Layout, inner: tuple[ColumnFact, ...], planned: tuple[Planned, ...], columns: list[list[str | None]]
) -> list[int | None]:
    """The place among the inner partitions for each key; None where no inner partition takes it."""
    leaves = next((each.inner for each in planned if each.inner), ())
    if within.by is By.HASH:
        return list[int | None](_places(columns, inner, len(leaves)))
    at: dict[Value | None, int] = {}
    rest: int | None = None
    for place, leaf in enumerate(leaves):
        if isinstance(leaf.bounds, Listed):
            at.update(dict.fromkeys(leaf.bounds.values, place))
        elif isinstance(leaf.bounds, CatchAll):
            rest = place
    return [at.get(None if text is None else parse_value(text, inner[0].kind), rest) for text in columns[0]]


def _count_hashed(
    session: Session, found: Relation, key: tuple[ColumnFact, ...], planned: tuple[Planned, ...]
) -> tuple[list[int], bool]:
    """Rows of each part: keys are counted on the server and hashed here. False: such keys are not, so spread evenly."""
    import numpy as np

    from slabrow.core.hashing.hash_encoding import keys_hash
    from slabrow.core.hashing.key_places import hash_types
    from slabrow.core.hashing.spread import SpreadCounter

    try:
        types = hash_types([column.type_name for column in key])
    except UsageError:
        even = [1 / len(planned)] * len(planned)
        return list(split_evenly(session.counting.count_rows(found.name), even)), False
    counter = SpreadCounter(len(planned))
    for columns, rows in session.counting.count_keys(found.name, key):
        counter.add(keys_hash(columns, types), np.array(rows, np.int64))
    spread = counter.spread(len(planned))
    return list(spread.rows) if spread else [], True


def _places(columns: list[list[str | None]], key: tuple[ColumnFact, ...], parts: int) -> list[int]:
    from slabrow.core.hashing.key_places import key_places  # with NumPy, which is slow to load

    return key_places(columns, [column.type_name for column in key], parts)


def _count_ranges(
    session: Session, found: Relation, column: ColumnFact, planned: tuple[Planned, ...]
) -> tuple[list[int], int]:
    """Rows of each planned partition, then the rows that none holds; and the rows whose key is NULL."""
    ranges = [each.bounds for each in planned if isinstance(each.bounds, Range)]
    ends = {end[0] for bounds in ranges for end in (bounds.from_, bounds.to) if end is not None}
    thresholds = sorted(ends, key=lambda value: order((value,)))
    counted = session.counting.count_buckets(found.name, column, thresholds)
    by_start = dict(zip(thresholds, counted.counts[1:], strict=True))
    rows = [
        _range_rows(each.bounds, by_start, counted.counts[0]) if isinstance(each.bounds, Range) else 0
        for each in planned
    ]
    return _rest_last(planned, rows, sum(counted.counts) + counted.nulls), counted.nulls


def _range_rows(bounds: Range, by_start: dict[Value, int], below: int) -> int:
    return below if bounds.from_ is None else by_start[bounds.from_[0]]


def _rest_last(planned: tuple[Planned, ...], rows: list[int], total: int) -> list[int]:
    """Gives what no partition holds to the catch-all when there is one; what is left over stands at the end."""
    homeless = total - sum(rows)
    if planned and not isinstance(planned[-1].bounds, Range | Listed):
        return [*rows[:-1], homeless, 0]
    return [*rows, homeless]
