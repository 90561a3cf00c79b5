"""`census`: every partition with its bounds, rows, bytes, low and high key, and what is wrong (N26, N29, N03)."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from slabrow.core.table.bounds import Range
from slabrow.core.table.counted import LeafCount
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.findings import Finding, findings
from slabrow.core.upkeep.placing import misplaced
from slabrow.core.values.errors import ServerError, UsageError
from slabrow.core.values.key_values import Value, order, parse_value, spell
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.files.reading import json_document
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.indexes import finding_of_indexes
from slabrow.work.tending.analysing import finding_of_statistics


@dataclass(frozen=True, slots=True)
class BeforeAfter:
    """Rows in one bucket of an earlier survey, and in the partitions that lie within it; None: no partition does."""

    label: str
    before: int
    after: int | None


@dataclass(frozen=True, slots=True)
class Census:
    """tree's rows, low and high are exact when `is_exact`, else from statistics."""

    tree: Tree
    is_exact: bool
    findings: tuple[Finding, ...]
    against: tuple[BeforeAfter, ...]
    notes: tuple[str, ...]


def census(
    context: Context, table: Name, *, exact: bool, against: Path | None = None, layout: Layout | None = None
) -> Census:
    """Reads every partition; with `exact` it counts their rows. Changes nothing.

    layout    of the table, where there is one: partitions that lie elsewhere than it says are found
    against   the JSON of an earlier `survey`, whose counts per period or value are compared (needs `exact`)
    """
    earlier = _read_counts(against) if against else None
    uncounted: list[Finding] = []
    if earlier is not None and not exact:
        raise UsageError("--against compares counted rows", fix="add --exact, so that the rows are counted")
    with context.connected() as session:
        tree = session.catalogue.tree(table, with_values=not exact)
        if exact:
            leaves = tree.leaves
            rows = sum(leaf.rows or 0 for leaf in leaves)
            context.scanning(rows, sum(leaf.bytes for leaf in leaves), f"counting the rows of {tree.spelling}")
            counted, uncounted = _counted(context, session, tree)
            tree = _with_counts(tree, counted)
        tree, faults = _looked_elsewhere(session, tree, is_counted=exact)
        conversion = _conversion(session, tree)
        own = [finding_of_indexes(session, tree.table), finding_of_statistics(session, tree.table)]
    found = [*findings(tree, is_counted=exact), *(each for each in own if each is not None), *faults, *uncounted]
    compared = _compare(tree, earlier) if earlier else ()
    if layout is not None and layout.place and tree.by is By.RANGE and tree.kinds[0].is_time:
        found += misplaced(layout, tree, context.now)
    found += [
        Finding(
            "counts_differ",
            f"{each.label}: {each.before:,} rows before, "
            + ("no partition now" if each.after is None else f"{each.after:,} now"),
        )
        for each in compared
        if each.before != each.after
    ]
    # An old table that is kept in step is as it should be: it is said, and is no finding.
    found += [each for each in conversion if each.code != "old_table_kept"]
    kept = tuple(each.text for each in conversion if each.code == "old_table_kept")
    notes = (
        kept
        if exact
        else (
            *kept,
            "rows, low and high come from the planner's statistics; --exact counts them",
        )
    )
    return Census(tree, exact, tuple(found), compared, notes)


def _conversion(session: Session, tree: Tree) -> list[Finding]:
    """What a conversion, a split or a merge that has not ended has left on the table."""
    schema = session.catalogue.recorded_by(tree.table)
    if schema is None:
        return []
    from slabrow.work.reshaping.kept_in_step import finding_of

    records = [each for each in session.reshapings(schema).open_jobs() if each.root == str(tree.table)]
    return [finding_of(session, schema, record) for record in records]


def _counted(context: Context, session: Session, tree: Tree) -> tuple[dict[str, LeafCount], list[Finding]]:
    """The rows of each leaf: the other servers count side by side, each asked in a session of its own.

    The rows on a server that is down stay uncounted, and are found.
    """

    def of_server(server: str | None) -> Tree:
        return replace(tree, partitions=tuple(each for each in tree.partitions
                                              if not each.is_leaf or each.server == server))  # fmt: skip

    def ask(server: str) -> dict[str, LeafCount] | Finding:
        try:
            with context.connected() as own:
                return own.counting.count_leaves(of_server(server))
        except ServerError as error:
            return Finding("far_uncounted", f"the rows on {server} are not counted: {error.found or error}")

    servers = list(dict.fromkeys(leaf.server for leaf in tree.leaves if leaf.server is not None))
    found: list[Finding] = []
    with ThreadPoolExecutor(max_workers=max(1, len(servers))) as crew:
        asked = crew.map(ask, servers)
        counted = session.counting.count_leaves(of_server(None))
        for answer in asked:
            if isinstance(answer, Finding):
                found.append(answer)
            else:
                counted |= answer
    return counted, found


def _looked_elsewhere(session: Session, tree: Tree, *, is_counted: bool) -> tuple[Tree, list[Finding]]:
    """The tree with rows and bytes of the partitions on other servers, and the findings about those partitions."""
    names = [leaf.name for leaf in tree.leaves if leaf.server is not None]
    if not names:
        return tree, []
    looks = session.partitions.look_there(names)
    partitions, found, down = [], [], dict[str, str]()
    for each in tree.partitions:
        look = looks.get(each.name)
        if look is None:
            partitions.append(each)
            continue
        if look.error:
            down[look.table.server] = look.error
        mended = f"; `slabrow relocate {each.name} --elsewhere {each.server} --go` mends it"
        said = [*(text + mended for text in look.said()), *look.faults]
        found += [Finding("far_drift", f"{each.spelling} on {each.server}: {text}", each.spelling) for text in said]
        rows = each.rows if is_counted or look.rows is None else look.rows
        partitions.append(each._replace(rows=rows, bytes=look.bytes))
    found += [Finding("far_down", f"{server} could not be asked: {why}") for server, why in down.items()]
    return replace(tree, partitions=tuple(partitions)), found


def _with_counts(tree: Tree, counted: dict[str, LeafCount]) -> Tree:
    partitions = []
    for partition in tree.partitions:
        count = counted.get(partition.spelling)
        partitions.append(
            partition if count is None else partition._replace(rows=count.rows, low=count.low, high=count.high)
        )
    return replace(tree, partitions=tuple(partitions))


def _read_counts(path: Path) -> dict[str, Any]:
    fix = "write one with: slabrow survey TABLE --exact --save FILE"
    counts = json_document(path, "earlier survey", "--against", fix).get("counts")
    if not isinstance(counts, dict) or not counts.get("exact"):
        raise UsageError(f"{path} holds no exact counts", fix=fix)
    buckets = counts.get("buckets")
    if not isinstance(buckets, list) or not all(
        isinstance(each, dict)
        and isinstance(each.get("rows"), int)
        and ("value" in each or {"from", "to"} <= set(each))
        for each in buckets
    ):
        raise UsageError(f"{path} is not the JSON of a survey", found="its counts have another form", fix=fix)
    return counts


def _compare(tree: Tree, counts: dict[str, Any]) -> tuple[BeforeAfter, ...]:
    kind = tree.kinds[0]
    compared = []
    of_partition: dict[str, int] = {}
    lows = [parse_value(str(each["from"]), kind) for each in counts["buckets"] if "value" not in each]
    lowest = min(lows, key=lambda low: order((low,)), default=None)
    for bucket in counts["buckets"]:
        if "value" in bucket:
            home = tree.home((parse_value(str(bucket["value"]), kind),))
            spelling = home.spelling if home else ""
            of_partition[spelling] = of_partition.get(spelling, 0) + bucket["rows"]
        else:
            low, high = (parse_value(str(bucket[end]), kind) for end in ("from", "to"))
            label = f"{spell(low)} (in) to {spell(high)} (out)"
            compared.append(BeforeAfter(label, bucket["rows"], _rows_between(tree, low, high, is_lowest=low == lowest)))
    rows = {child.spelling: child.rows for child in tree.children}
    compared += [
        BeforeAfter(spelling or "values without a partition", before, rows.get(spelling))
        for spelling, before in of_partition.items()
    ]
    return tuple(compared)


def _rows_between(tree: Tree, low: Value, high: Value, *, is_lowest: bool) -> int | None:
    """Rows of the partitions that lie wholly between; None when none does.

    is_lowest   whether nothing was counted below `low`: a first partition that is open below then lies between, too
    """
    inside = [partition for partition, bounds in tree.ranges if _inside(bounds, low, high, is_lowest=is_lowest)]
    return sum(partition.rows or 0 for partition in inside) if inside else None


def _inside(bounds: Range, low: Value, high: Value, *, is_lowest: bool) -> bool:
    if bounds.to is None:
        return False
    if bounds.from_ is None:
        return is_lowest and order((low,)) < order(bounds.to[:1]) <= order((high,))
    return order((low,)) <= order(bounds.from_[:1]) and order(bounds.to[:1]) <= order((high,))
