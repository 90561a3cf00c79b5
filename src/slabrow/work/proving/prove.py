"""`prove`: which partitions each query touches, when that was decided, and whether expectations hold (N30, N33–N35)."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from zoneinfo import ZoneInfo

from sqlglot import exp

from slabrow.core.pruning.explain import Explanation
from slabrow.core.pruning.plan_reading import NotRun, PlanReading, Query, UnvaluedPlan
from slabrow.core.pruning.predict import Predictor, Settings
from slabrow.core.pruning.reasons import Reason
from slabrow.core.pruning.verdicts import PrunedAt, pruned_at, verdict
from slabrow.core.rewriting.constants_to_send import constants_to_send, with_constants
from slabrow.core.rewriting.mistakes import Mistake, mistakes
from slabrow.core.rewriting.statement_rewrites import NOTHING, Rewrite, Rewriting, better_words
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.mentions import tables_in, target_of_insert
from slabrow.core.sql.parameters import parameters_in
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.schema import Schema
from slabrow.core.values.errors import ServerError, SlabrowError
from slabrow.core.values.names import Name, parse_name
from slabrow.files.query_file import FileQuery, Limit
from slabrow.servers.asking import Fence
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.proving.answered import ask_ahead, new_answers
from slabrow.work.proving.plans_ahead import PlansAhead
from slabrow.work.proving.proof import (
    NOT_TOUCHED,
    Generic,
    Measured,
    Proof,
    ProveResult,
    Slipped,
    Unproven,
    brings_limit,
)

DEFAULT_TIMEOUT_MS = 30_000
_DAY = re.compile(r"'\d{4}-\d\d?-\d")  # without a day there is none to be mistaken about


@dataclass(frozen=True, slots=True)
class _Leaves:
    """Every leaf in the database: its spelling, its root and its rows."""

    root_of: Mapping[str, str]  # `schema.leaf` as in plans -> root's spelling
    spelling: Mapping[str, str]
    rows: Mapping[tuple[str, str], int]  # by the spelling of the root and of the leaf
    of_root: Mapping[str, tuple[str, ...]]
    name_of: Mapping[str, Name]  # of each root

    def is_named(self, root: str, name: Name) -> bool:
        """Whether a statement that names a table so means this root: without a schema, the search path must find it."""
        true = self.name_of[root]
        visible = parse_name(root).schema is None
        return true.table == name.table and (true.schema == name.schema or (name.schema is None and visible))


@dataclass(frozen=True, slots=True)
class Asking:
    """How every query is asked about.

    execute    also run it
    contrast   run it a second time with pruning switched off
    at_most    a limit for queries that bring none of their own
    """

    execute: bool = False
    contrast: bool = False
    at_most: int | None = None
    timeout_ms: int = DEFAULT_TIMEOUT_MS

    def limit(self, query: FileQuery) -> Limit | None:
        """The limit that holds for a query; None for none."""
        return query.limit or (Limit(self.at_most) if self.at_most is not None else None)


def prove(
    context: Context,
    session: Session,
    queries: Sequence[FileQuery],
    asking: Asking,
    ahead: PlansAhead | None = None,
    *,
    statistics: bool = False,
) -> ProveResult:
    """Asks the server for the plan of every query, and where `asking` says so runs it in a fenced transaction.

    ahead        plans that are being asked for already
    statistics   also the statements of the server's statistics
    """
    proofs: list[Proof] = []
    unproven: list[Unproven] = []
    if statistics:
        from slabrow.work.weighing.workloads import as_queries, gathered

        queries = (*queries, *as_queries(gathered((), session, statistics=True)))
    with session.reading():
        leaves = _leaves(session)
    around = session.catalogue.time_zone(), session.catalogue.moment()
    settings = session.catalogue.settings()
    fence = session.fence()
    predictor = _Predictor(session, _named(session, queries), *around, settings, new_answers(session))
    predictor.ask_ahead(queries, leaves, fence)
    server = _Server(session=session, leaves=leaves, predictor=predictor, asking=asking, ahead=ahead, fence=fence)
    if asking.execute and (words := session.planner.powers()) is not None:
        context.warn(words)
    chosen = parse_name(context.table) if context.table else None
    for place, query in enumerate(queries):
        context.progress(place / len(queries), query.name)
        try:
            found = server.prove(query)
        except SlabrowError as error:
            if error.exit_code != ServerError.exit_code:
                raise
            words = ": ".join(part for part in (error.found or error.problem, error.fix) if part)
            # A log or the statistics may hold statements on tables that are gone: only a query file has to be right.
            unproven.append(Unproven(query, words, query.line > 0))
            with session.explained("go on after a query that failed"):
                session.planner.forget()
            continue
        kept = [proof for proof in found if chosen is None or leaves.is_named(proof.table, chosen)]
        proofs += kept
        if not kept:
            # With --table, the limits of queries on other tables do not count.
            concerns = not found and (chosen is None or _names(query, chosen))
            unproven.append(Unproven(query, NOT_TOUCHED, False, concerns and brings_limit(query)))
    context.progress(1.0, "done")
    in_order = {root: tuple(leaf.spelling for leaf in each.tree.leaves) for root, each in predictor.known.items()}
    return ProveResult(tuple(proofs), tuple(unproven), {**leaves.of_root, **in_order})


def _names(query: FileQuery, table: Name) -> bool:
    """Whether a statement names a table; True where it is not understood."""
    named = tables_in(query.sql)
    return named is None or any(
        (each.table == table.table and None in (each.schema, table.schema)) or each == table for each in named
    )


def _leaves(session: Session) -> _Leaves:
    found = session.catalogue.all_leaves()
    of_root: dict[str, list[str]] = {}
    for leaf in found:
        of_root.setdefault(leaf.root, [])
        if leaf.spelling is not None:
            of_root[leaf.root].append(leaf.spelling)
    named = [leaf for leaf in found if leaf.spelling is not None]
    return _Leaves(
        {leaf.plan_name: leaf.root for leaf in named},
        {leaf.plan_name: leaf.spelling or "" for leaf in named},
        {(leaf.root, leaf.spelling or ""): leaf.rows for leaf in named},
        {root: tuple(sorted(leaves)) for root, leaves in of_root.items()},
        {leaf.root: leaf.root_name for leaf in found},
    )


_CHANGING = (exp.Update, exp.Delete)
_MOST_CHANGED = 100_000  # rows: even rolled back they leave dead rows behind


@dataclass(frozen=True, slots=True)
class _Looked:
    """The server's answers about one query. note: why it was not run, where a run was asked for."""

    reading: PlanReading
    ran: bool
    note: str | None = None
    contrast: PlanReading | None = None
    unvalued: UnvaluedPlan | None = None


@dataclass(frozen=True, slots=True)
class _Server:
    """Asks one server about queries."""

    session: Session
    leaves: _Leaves
    predictor: "_Predictor"
    asking: Asking
    ahead: PlansAhead | None
    fence: Fence

    def prove(self, query: FileQuery) -> list[Proof]:
        if not self.session.planner.is_explainable(query.sql):
            first = query.sql.split(None, 1)[0].upper()
            raise ServerError(
                f"{query.name} cannot be planned", found=f"a statement that begins with {first} has no plan"
            )
        looked = self._looked(query)
        proofs = [
            self._proof(query, root, looked) for root in _roots(query, looked.reading, self.leaves, self.predictor)
        ]
        if query.params and proofs:
            generic = self.session.planner.plan_generic(Query(query.sql, query.params), self.asking.timeout_ms)
            if generic is not None:
                proofs = [replace(proof, generic=self._generic(proof, generic)) for proof in proofs]
        return proofs

    def _looked(self, query: FileQuery) -> _Looked:
        asked, timeout_ms = Query(query.sql, query.params), self.asking.timeout_ms
        if not query.params and parameters_in(query.sql):
            unvalued = self.session.planner.plan_unvalued(query.sql, timeout_ms)
            note = "its parameters have no values, so it was planned for all of them: give `-- params:` to see more"
            return _Looked(unvalued.plan, False, note, unvalued=unvalued)
        if not self.asking.execute:
            known = None if self.ahead is None else self.ahead.plan(query)
            return _Looked(known or self.session.planner.plan(asked, timeout_ms), False)
        text = self.session.planner.explain(asked, timeout_ms)
        why_not, changes = self._why_not(query, text)
        if why_not is None:
            try:
                planner = self.session.planner
                reading = (planner.run_change if changes else planner.run)(asked, timeout_ms)
                return _Looked(self._warm(asked, reading), True, None, None if changes else self._contrast(asked))
            except NotRun as error:
                why_not = error.found
                with self.session.explained("go on after a query that was not run"):
                    self.session.planner.forget()
        return _Looked(self.session.planner.read_explained(text), False, f"planned and not run: {why_not}")

    def _why_not(self, query: FileQuery, plan_text: str) -> tuple[str | None, bool]:
        """Why a query may not be run, and whether it changes rows. plan_text: as the server explains it."""
        parsed = parse(query.sql)
        if isinstance(parsed, exp.Insert | exp.Merge):
            return "it inserts rows", True
        changes = isinstance(parsed, _CHANGING)
        if not changes and not isinstance(parsed, exp.Query):
            return "its SQL is not understood here", False
        if isinstance(parsed, exp.Select) and parsed.args.get("into") is not None:
            return "it makes a table", False
        if (reason := self.fence.why_not(query.sql, plan_text, changes=changes)) is not None:
            return reason, changes
        estimated = (self.session.planner.read_explained(plan_text).changes or 0) if changes else 0
        if estimated > _MOST_CHANGED:
            return f"it would change about {estimated:,} rows, and even rolled back they have to be vacuumed", True
        return None, changes

    def _warm(self, asked: Query, reading: PlanReading) -> PlanReading:
        """With the planning time of a session that has seen the partitions, where planning seems to take long."""
        if (reading.planning_ms or 0.0) <= (reading.execution_ms or 0.0):
            return reading
        again = self.session.planner.plan(asked, self.asking.timeout_ms).planning_ms
        return reading if again is None else replace(reading, planning_ms=min(reading.planning_ms or 0.0, again))

    def _contrast(self, asked: Query) -> PlanReading | None:
        if not self.asking.contrast:
            return None
        try:
            return self.session.planner.run(asked, self.asking.timeout_ms, prunes=False)
        except NotRun:
            with self.session.explained("go on after a query that was not run"):
                self.session.planner.forget()
            return None

    def _proof(self, query: FileQuery, root: str, looked: _Looked) -> Proof:
        ahead = self.predictor.predicted(query, root)
        proof = _proof(query, root, looked.reading, self.leaves)
        if looked.unvalued is not None:
            at_start = looked.unvalued.may_prune_at_start and proof.touched > 1
            proof = replace(
                proof,
                types=looked.unvalued.types,
                pruned_at=PrunedAt.START if at_start else proof.pruned_at,
            )
        proof = replace(
            proof,
            predicted=ahead.leaves,
            reasons=ahead.reasons,
            rewrite=ahead.rewriting.rewrite,
            unequal=ahead.rewriting.unequal,
            mistakes=tuple(self._slipped(each, looked.ran) for each in ahead.mistakes),
            limit=self.asking.limit(query),
            note=looked.note,
            contrast=None if looked.contrast is None else _measured(root, looked.contrast, self.leaves),
        )
        if proof.unsent:
            reasons = tuple(Explanation(Reason.NOT_SENT, each) for each in proof.unsent)
            words = proof.rewrite or self.predictor.constants(query, root, self.fence)
            proof = replace(proof, reasons=(*proof.reasons, *reasons), rewrite=words)
        if looked.ran and proof.rewrite is not None and not isinstance(parse(query.sql), _CHANGING):
            proof = self._compared(proof, proof.rewrite)
        return proof

    def _compared(self, proof: Proof, rewrite: Rewrite) -> Proof:
        """Runs both and compares their rows; words that return others are not offered."""
        query, timeout_ms = proof.query, self.asking.timeout_ms
        try:
            before = self.session.planner.result_print(Query(query.sql, query.params), timeout_ms)
            after = self.session.planner.result_print(Query(rewrite.sql, query.params), timeout_ms)
        except ServerError as error:
            with self.session.explained("go on after a query that was not run"):
                self.session.planner.forget()
            return replace(proof, note=f"its rows were not compared with those of other words: {error.found}")
        if before == after:
            return replace(proof, is_same=True)
        note = "other words for it returned other rows, and are left out"
        return replace(proof, rewrite=None, is_same=False, note=note)

    def _slipped(self, mistake: Mistake, ran: bool) -> Slipped:
        """ran: whether the query itself was run; for a query that may not run, rows are not counted either."""
        if not ran or mistake.rows_sql is None:
            return Slipped(mistake)
        try:
            return Slipped(mistake, self.session.planner.count(mistake.rows_sql, self.asking.timeout_ms))
        except ServerError:
            with self.session.explained("go on after a count that failed"):
                self.session.planner.forget()
            return Slipped(mistake)

    def _generic(self, proof: Proof, reading: PlanReading) -> Generic:
        found = _proof(proof.query, proof.table, reading, self.leaves)
        predicted = self.predictor.generic(proof.query, proof.table)
        return Generic(found.planned or (), found.pruned_at, predicted)


@dataclass(frozen=True, slots=True)
class _Prediction:
    leaves: tuple[str, ...] | None
    reasons: tuple[Explanation, ...] = ()
    rewriting: Rewriting = NOTHING
    mistakes: tuple[Mistake, ...] = ()


def _named(session: Session, queries: Sequence[FileQuery]) -> Schema:
    """The facts in the catalogue about every table that the queries name."""
    names = {name for query in queries for name in tables_in(query.sql) or ()}
    with session.reading():
        return session.catalogue.schema(names)


@dataclass(frozen=True, slots=True)
class _Predictor:
    """Predicts with the trees as the catalogue has them, each read once. zone: the session's; None: not known here."""

    session: Session
    schema: Schema
    zone: ZoneInfo | None
    now: datetime
    settings: Settings
    answers: Answers
    known: dict[str, Predictor] = field(default_factory=dict)

    def ask_ahead(self, queries: Sequence[FileQuery], leaves: "_Leaves", fence: Fence) -> None:
        """Lets the server say what predictions of these queries would have to guess."""
        if self.zone is None:
            return
        roots = [root for root, name in leaves.name_of.items() if name in self.schema.tables]
        asked = [(query.sql, self._around(query)) for query in queries if parse(query.sql) is not None]
        ask_ahead(self.session, fence, [self._of(root) for root in roots], asked)

    def predicted(self, query: FileQuery, root: str) -> "_Prediction":
        """The leaves, None where they cannot be told, why they are not fewer, and what to write instead."""
        if self.zone is None:
            return _Prediction(None)
        predictor, around = self._of(root), self._around(query)
        touched = predictor.touched(query.sql, around)
        if touched is None:
            return _Prediction(None, (Explanation(Reason.NOT_UNDERSTOOD, ""),))
        leaves = tuple(sorted(touched.started))
        slips = (
            mistakes(query.sql, predictor.tree, self.schema, around) if _DAY.search(query.sql) or query.params else ()
        )
        if len(leaves) <= 1:
            return _Prediction(leaves, mistakes=slips)
        return _Prediction(
            leaves, predictor.reasons(query.sql, around), better_words(predictor, query.sql, around), slips
        )

    def generic(self, query: FileQuery, root: str) -> tuple[str, ...] | None:
        """The leaves that the generic plan touches, once it starts with the query's values."""
        if self.zone is None:
            return None
        touched = self._of(root).touched(query.sql, replace(self._around(query), is_generic=True))
        return None if touched is None else tuple(sorted(touched.started))

    def constants(self, query: FileQuery, root: str, fence: Fence) -> Rewrite | None:
        """The statement with constants in place of what another server is not sent."""
        predictor, tree = self._of(root), self._of(root).tree
        asked = constants_to_send(query.sql, tree.table, predictor.schema, tree.key)
        for each in asked:
            self.answers.constant(each)
        if self.answers.open:
            self.session.planner.answer(self.answers, fence)
        found = {each: self.answers.constant(each) for each in asked}
        values = {
            each: (answer.text, answer.type_name)
            for each, answer in found.items()
            if answer is not None and answer.text is not None
        }
        return with_constants(query.sql, tree.table, predictor.schema, tree.key, values)

    def reads(self, query: FileQuery, root: str) -> bool:
        """Whether a query reads a table, by name or through a view."""
        return self.zone is not None and self._of(root).reads(query.sql)

    def _of(self, root: str) -> Predictor:
        if root not in self.known:
            tree = self.session.catalogue.tree(parse_name(root))
            self.known[root] = Predictor(
                tree, self.schema, self.settings, self.answers, self.session.rules, self._named
            )
        return self.known[root]

    def _named(self, name: Name) -> Predictor | None:
        return next((each for each in self.known.values() if each.tree.table == name), None)

    def _around(self, query: FileQuery) -> Surroundings:
        assert self.zone is not None
        unvalued = not query.params and bool(parameters_in(query.sql))
        return Surroundings(self.zone, self.now, None if unvalued else query.params)


def _roots(query: FileQuery, reading: PlanReading, leaves: _Leaves, predictor: _Predictor) -> list[str]:
    """The partitioned tables of a query: those whose leaves the plan shows, and those named and wholly left out."""
    shown = {leaves.root_of[scan.relation] for scan in reading.scans if scan.relation in leaves.root_of}
    named = tables_in(query.sql) or frozenset()
    written = target_of_insert(query.sql)
    views = predictor.schema.views
    through_views = any(predictor.schema.find(name) in views for name in named)
    hidden = {
        root
        for root in leaves.of_root
        if root not in shown
        and (
            any(leaves.is_named(root, name) for name in named if name != written)
            or (through_views and leaves.name_of[root] in predictor.schema.tables and predictor.reads(query, root))
        )
    }
    return sorted(shown | hidden)


def _proof(query: FileQuery, root: str, reading: PlanReading, leaves: _Leaves) -> Proof:
    every = leaves.of_root[root]
    scans = [scan for scan in reading.scans if leaves.root_of.get(scan.relation) == root]
    planned = tuple(sorted({leaves.spelling[scan.relation] for scan in scans}))
    measured = _measured(root, reading, leaves) if reading.execution_ms is not None else None
    executed = None
    if measured is not None:
        executed = tuple(sorted({leaves.spelling[scan.relation] for scan in scans if scan.loops}))
    # Leaves left unread for another reason than pruning (a LIMIT, an empty outer side) do not count as pruned.
    pruned = {leaves.spelling[scan.relation] for scan in scans if scan.was_pruned_running}
    kept = len(planned) - len(pruned - set(executed or ()))
    removed = sum(count for relation, count in reading.removed.items() if leaves.root_of.get(relation) == root)
    removed = removed or (reading.removed_unnamed if not planned else 0)
    touched = planned if executed is None else executed
    return Proof(
        query=query,
        table=root,
        total=len(every),
        predicted=None,
        planned=planned,
        executed=executed,
        verdict=verdict(len(touched), len(every)),
        pruned_at=pruned_at(len(every), removed, len(planned), None if executed is None else kept),
        rows=sum(leaves.rows[root, leaf] for leaf in touched),
        all_rows=sum(leaves.rows[root, leaf] for leaf in every),
        planning_ms=reading.planning_ms,
        measured=measured,
        in_plan=min(len(every), len(planned) + removed),
        unsent=tuple(dict.fromkeys(scan.unsent for scan in scans if scan.unsent and not scan.was_pruned_running)),
    )


def _measured(root: str, reading: PlanReading, leaves: _Leaves) -> Measured:
    scans = [scan for scan in reading.scans if leaves.root_of.get(scan.relation) == root]
    return Measured(
        len({scan.relation for scan in scans if scan.loops}),
        sum(scan.rows_read or 0 for scan in scans),
        reading.rows or 0,
        reading.hit or 0,
        reading.read or 0,
        reading.planning_ms or 0.0,
        reading.execution_ms or 0.0,
        any((scan.loops or 0) > 1 for scan in scans),
        sum(scan.rows_read or 0 for scan in scans if scan.is_sent),
    )
