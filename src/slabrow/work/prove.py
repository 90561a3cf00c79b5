"""`prove`: which partitions each query touches, when that was decided, and whether expectations hold (N30, N33–N35)."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from zoneinfo import ZoneInfo

from slabrow.core.constants import Surroundings
from slabrow.core.errors import ServerError, SlabrowError
from slabrow.core.explain import Explanation
from slabrow.core.mentions import tables_in, target_of_insert
from slabrow.core.names import Name, parse_name
from slabrow.core.predict import Predictor
from slabrow.core.queries import Schema
from slabrow.core.reasons import Reason
from slabrow.core.rewrite import Rewrite
from slabrow.core.touch import PrunedAt, Verdict, pruned_at, verdict
from slabrow.files.query_file import FileQuery, Limit
from slabrow.servers.postgresql import catalogue
from slabrow.servers.postgresql.connection import Connection, explained
from slabrow.servers.postgresql.plans import PlanReading
from slabrow.servers.postgresql.queries import EXPLAINABLE, Query, forget, plan, result_print, run
from slabrow.work.context import Context

DEFAULT_TIMEOUT_MS = 30_000


@dataclass(frozen=True, slots=True)
class Proof:
    """What one query touches of one partitioned table.

    predicted  leaves that Slabrow itself finds, sorted; None where it does not understand the statement or its zone
    planned    leaves in the plan once execution has started, sorted; None when no server was asked
    executed   leaves that were read, None when the query did not run
    rewrite    words that let it prune, None when none are known here
    is_same    whether both return the same rows; None when they were not run
    rows, all_rows   the planner's estimate of the rows in the touched leaves, and in all of them
    """

    query: FileQuery
    table: str
    total: int
    predicted: tuple[str, ...] | None
    planned: tuple[str, ...] | None
    executed: tuple[str, ...] | None
    verdict: Verdict
    pruned_at: PrunedAt
    rows: int
    all_rows: int
    planning_ms: float | None
    execution_ms: float | None
    blocks: int | None
    limit: Limit | None
    note: str | None = None
    reasons: tuple[Explanation, ...] = ()
    rewrite: Rewrite | None = None
    is_same: bool | None = None

    @property
    def is_known(self) -> bool:
        """Whether anything is known of the leaves at all."""
        return self.executed is not None or self.planned is not None or self.predicted is not None

    @property
    def touched(self) -> int:
        known = self.executed if self.executed is not None else self.planned
        return len(known if known is not None else self.predicted or ())

    @property
    def is_ok(self) -> bool | None:
        """Whether the limits hold, on the number of leaves and on when that is decided; None when there are none."""
        if self.limit is None and self.query.decided is None:
            return None
        holds = self.limit is None or (self.is_known and self.limit.holds(self.touched))
        return holds and (self.query.decided is None or _is_by(self.pruned_at, self.query.decided))


_MOMENTS = (PrunedAt.PLAN, PrunedAt.START, PrunedAt.RUN)


def _is_by(found: PrunedAt, wanted: PrunedAt) -> bool:
    """Whether leaves were left out at that moment or before it."""
    return found is not PrunedAt.NEVER and _MOMENTS.index(found) <= _MOMENTS.index(wanted)


@dataclass(frozen=True, slots=True)
class Unproven:
    """A query that the server would not plan, or that touches no partitioned table."""

    query: FileQuery
    reason: str
    is_error: bool


@dataclass(frozen=True, slots=True)
class ProveResult:
    proofs: tuple[Proof, ...]
    unproven: tuple[Unproven, ...]

    @property
    def pruning(self) -> int:
        """How many entries touch fewer leaves than there are."""
        return sum(proof.verdict is not Verdict.EVERY for proof in self.proofs)

    @property
    def predictions(self) -> tuple[int, int, int]:
        """How many predictions equal the plan, keep more leaves than it, and keep fewer: the last must be 0."""
        pairs = [
            (set(proof.predicted), set(proof.planned))
            for proof in self.proofs
            if proof.predicted is not None and proof.planned is not None
        ]
        fewer = sum(bool(planned - predicted) for predicted, planned in pairs)
        return sum(one == other for one, other in pairs), sum(one > other for one, other in pairs), fewer

    @property
    def read_share(self) -> float | None:
        """The rows in touched leaves, weighted by runs a day, as a share of reading every leaf each time."""
        every = sum(proof.all_rows * proof.query.weight for proof in self.proofs)
        return sum(proof.rows * proof.query.weight for proof in self.proofs) / every if every else None

    @property
    def broken(self) -> int:
        """Limits that do not hold, and queries that the server refuses."""
        return sum(proof.is_ok is False for proof in self.proofs) + sum(unproven.is_error for unproven in self.unproven)


@dataclass(frozen=True, slots=True)
class _Leaves:
    """Every leaf in the database: its spelling, its root and its rows."""

    root_of: Mapping[str, str]  # `schema.leaf` as in plans -> root's spelling
    spelling: Mapping[str, str]
    rows: Mapping[str, int]  # by spelling
    of_root: Mapping[str, tuple[str, ...]]
    name_of: Mapping[str, Name]  # of each root

    def is_named(self, root: str, name: Name) -> bool:
        """Whether a statement that names a table so means this root: without a schema, the search path must find it."""
        true = self.name_of[root]
        visible = parse_name(root).schema is None
        return true.table == name.table and (true.schema == name.schema or (name.schema is None and visible))


def prove(
    context: Context,
    queries: Sequence[FileQuery],
    *,
    execute: bool,
    at_most: int | None = None,
    timeout_ms: int = DEFAULT_TIMEOUT_MS,
) -> ProveResult:
    """Asks the server for the plan of every query; with `execute` also runs those that only read.

    at_most   a limit for queries that bring none of their own
    """
    proofs: list[Proof] = []
    unproven: list[Unproven] = []
    with context.connected() as connection:
        with catalogue.reading(connection):
            leaves = _leaves(connection)
        predictor = _Predictor(
            connection, _named(connection, queries), catalogue.time_zone(connection), catalogue.moment(connection)
        )
        asking = _Asking(connection, leaves, predictor, execute, at_most, timeout_ms)
        chosen = parse_name(context.table) if context.table else None
        for place, query in enumerate(queries):
            context.progress(place / len(queries), query.name)
            try:
                found = _prove(asking, query)
            except SlabrowError as error:
                if error.exit_code != ServerError.exit_code:
                    raise
                words = ": ".join(part for part in (error.found or error.problem, error.fix) if part)
                unproven.append(Unproven(query, words, True))
                with explained("go on after a query that failed"):
                    forget(connection)
                continue
            kept = [proof for proof in found if chosen is None or leaves.is_named(proof.table, chosen)]
            proofs += kept
            if not kept:
                unproven.append(Unproven(query, "touches no partitioned table", False))
        context.progress(1.0, "done")
    return ProveResult(tuple(proofs), tuple(unproven))


def _leaves(connection: Connection) -> _Leaves:
    found = catalogue.all_leaves(connection)
    of_root: dict[str, list[str]] = {}
    for leaf in found:
        of_root.setdefault(leaf.root, [])
        if leaf.spelling is not None:
            of_root[leaf.root].append(leaf.spelling)
    named = [leaf for leaf in found if leaf.spelling is not None]
    return _Leaves(
        {leaf.plan_name: leaf.root for leaf in named},
        {leaf.plan_name: leaf.spelling or "" for leaf in named},
        {leaf.spelling or "": leaf.rows for leaf in named},
        {root: tuple(sorted(leaves)) for root, leaves in of_root.items()},
        {leaf.root: leaf.root_name for leaf in found},
    )


@dataclass(frozen=True, slots=True)
class _Asking:
    """How every query is asked about."""

    connection: Connection
    leaves: _Leaves
    predictor: "_Predictor"
    execute: bool
    at_most: int | None
    timeout_ms: int


def _prove(asking: _Asking, query: FileQuery) -> list[Proof]:
    first = query.sql.lstrip("( \n\t").split(None, 1)[0].upper()
    if not first.startswith(EXPLAINABLE):
        raise ServerError(f"{query.name} cannot be planned", found=f"a statement that begins with {first} has no plan")
    reads = first in ("SELECT", "WITH", "VALUES", "TABLE")
    look = run if asking.execute and reads else plan
    reading = look(asking.connection, Query(query.sql, query.params), asking.timeout_ms)
    note = "changes rows, so it was planned and not run" if asking.execute and not reads else None
    limit = query.limit or (Limit(asking.at_most) if asking.at_most is not None else None)
    proofs = []
    for root in _roots(query, reading, asking.leaves):
        ahead = asking.predictor.predicted(query, root)
        proof = _proof(query, root, reading, asking.leaves)
        proof = replace(
            proof, predicted=ahead.leaves, reasons=ahead.reasons, rewrite=ahead.rewrite, limit=limit, note=note
        )
        if asking.execute and reads and ahead.rewrite is not None:
            proof = _compared(asking, proof, ahead.rewrite)
        proofs.append(proof)
    return proofs


def _compared(asking: _Asking, proof: Proof, rewrite: Rewrite) -> Proof:
    """Runs both and compares their rows; words that return others are not offered."""
    query, timeout_ms = proof.query, asking.timeout_ms
    before = result_print(asking.connection, Query(query.sql, query.params), timeout_ms)
    after = result_print(asking.connection, Query(rewrite.sql, query.params), timeout_ms)
    if before == after:
        return replace(proof, is_same=True)
    return replace(proof, rewrite=None, is_same=False, note="other words for it returned other rows, and are left out")


@dataclass(frozen=True, slots=True)
class _Prediction:
    leaves: tuple[str, ...] | None
    reasons: tuple[Explanation, ...] = ()
    rewrite: Rewrite | None = None


def _named(connection: Connection, queries: Sequence[FileQuery]) -> Schema:
    """What the catalogue knows of every table that the queries name."""
    names = {name for query in queries for name in tables_in(query.sql) or ()}
    with catalogue.reading(connection):
        return catalogue.schema(connection, names)


@dataclass(frozen=True, slots=True)
class _Predictor:
    """Predicts with the trees as the catalogue has them, each read once. zone: the session's; None: not known here."""

    connection: Connection
    schema: Schema
    zone: ZoneInfo | None
    now: datetime
    known: dict[str, Predictor] = field(default_factory=dict)

    def predicted(self, query: FileQuery, root: str) -> "_Prediction":
        """The leaves, None where they cannot be told, why they are not fewer, and what to write instead."""
        if self.zone is None:
            return _Prediction(None)
        if root not in self.known:
            tree = catalogue.tree(self.connection, parse_name(root))
            self.known[root] = Predictor(tree, self.schema)
        around = Surroundings(self.zone, self.now, query.params)
        touched = self.known[root].touched(query.sql, around)
        if touched is None:
            return _Prediction(None, (Explanation(Reason.NOT_UNDERSTOOD, ""),))
        if len(touched.started) <= 1:
            return _Prediction(tuple(sorted(touched.started)))
        reasons = self.known[root].reasons(query.sql, around)
        return _Prediction(tuple(sorted(touched.started)), reasons, self.known[root].rewrite(query.sql, around))


def _roots(query: FileQuery, reading: PlanReading, leaves: _Leaves) -> list[str]:
    """The partitioned tables of a query: those whose leaves the plan shows, and those named and wholly left out."""
    shown = {leaves.root_of[scan.relation] for scan in reading.scans if scan.relation in leaves.root_of}
    named = tables_in(query.sql) or frozenset()
    written = target_of_insert(query.sql)
    hidden = {
        root
        for root in leaves.of_root
        if root not in shown and any(leaves.is_named(root, name) for name in named if name != written)
    }
    return sorted(shown | hidden)


def _proof(query: FileQuery, root: str, reading: PlanReading, leaves: _Leaves) -> Proof:
    every = leaves.of_root[root]
    scans = [scan for scan in reading.scans if leaves.root_of.get(scan.relation) == root]
    planned = tuple(sorted({leaves.spelling[scan.relation] for scan in scans}))
    executed = None
    if reading.execution_ms is not None:
        executed = tuple(sorted({leaves.spelling[scan.relation] for scan in scans if scan.loops}))
    # Leaves left unread for another reason than pruning (a LIMIT, an empty outer side) do not count as pruned.
    pruned = {leaves.spelling[scan.relation] for scan in scans if scan.was_pruned_running}
    kept = len(planned) - len(pruned - set(executed or ()))
    removed = sum(count for relation, count in reading.removed.items() if leaves.root_of.get(relation) == root)
    touched = planned if executed is None else executed
    return Proof(
        query,
        root,
        len(every),
        None,
        planned,
        executed,
        verdict(len(touched), len(every)),
        pruned_at(
            len(every),
            removed or (reading.removed_unnamed if not planned else 0),
            len(planned),
            None if executed is None else kept,
        ),
        sum(leaves.rows[leaf] for leaf in touched),
        sum(leaves.rows[leaf] for leaf in every),
        reading.planning_ms,
        reading.execution_ms,
        reading.blocks,
        None,
    )
