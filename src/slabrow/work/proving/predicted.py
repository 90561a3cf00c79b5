"""`prove` without a server, or before a layout exists: what each query will touch, from SQL and bounds alone (N36)."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from slabrow.core.pruning.family_rules import USUAL_RULES, PruningRules
from slabrow.core.pruning.predict import Predictor
from slabrow.core.pruning.pruner import Touched
from slabrow.core.pruning.verdicts import PrunedAt, verdict
from slabrow.core.rewriting.mistakes import mistakes
from slabrow.core.rewriting.statement_rewrites import better_words
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.mentions import tables_in
from slabrow.core.sql.parameters import parameters_in
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import parse_name
from slabrow.core.weighing.costs import Costs
from slabrow.core.weighing.supposed_tree import tree_of
from slabrow.core.weighing.weighing import ExpectedGrowth, Weigher
from slabrow.core.weighing.workload_reading import TableWorkload
from slabrow.files.query_file import FileQuery, Limit
from slabrow.files.reading import read_text
from slabrow.servers.protocols import Family
from slabrow.work.context import Context
from slabrow.work.proving.answered import ask_ahead, new_answers
from slabrow.work.proving.proof import NOT_TOUCHED, Generic, Proof, ProveResult, Slipped, Unproven, brings_limit


@dataclass(frozen=True, slots=True)
class _Known:
    """The facts that predictions need. rows: of each leaf, where known."""

    trees: Sequence[Tree]
    schema: Schema
    zone: ZoneInfo
    now: datetime
    rows: Mapping[str, int]


def prove_offline(
    context: Context,
    family: Family,
    queries: Sequence[FileQuery],
    schema_file: Path,
    *,
    at_most: int | None = None,
) -> ProveResult:
    """From DDL alone, by the rules of a server family. The session's time zone is the one that the file sets, else UTC.

    Raises UsageError when the file cannot be read, or defines no partitioned table.
    """
    found = family.read_tables(read_text(schema_file, "schema file", "--schema"), str(schema_file))
    if not found.trees:
        raise UsageError(
            f"{schema_file} defines no partitioned table",
            found=f"it creates {', '.join(map(str, found.tables))}",
            fix="give the DDL with PARTITION BY, and its partitions",
        )
    known = _Known(found.trees, found.schema, found.zone, context.now, {})
    return _predicted(known, _predictors(known, context, rules=found.rules), queries, at_most)


def prove_laid_out(context: Context, queries: Sequence[FileQuery], *, at_most: int | None = None) -> ProveResult:
    """As if every table were as the layout file says: its partitions are worked out from the statistics.

    Raises LayoutError when a layout does not fit its table.
    """
    layouts = context.layouts()
    names = {name for query in queries for name in tables_in(query.sql) or ()}
    trees: list[Tree] = []
    rows: dict[str, int] = {}
    with context.connected() as session:
        with session.reading("read the tables"):
            schema = session.catalogue.schema({*names, *(layout.table for layout in layouts)})
            for layout in layouts:
                facts = session.catalogue.table_facts(layout.table)
                layout.check_columns(facts.columns, facts.spelling)
                weigher = Weigher(
                    facts=facts,
                    workload=TableWorkload((), (), 0.0),
                    costs=Costs(),
                    now=context.now,
                    growth=ExpectedGrowth(),
                    ageing=None,
                    keeps=False,
                )
                trees.append(tree_of(facts, layout, weigher.planned(layout)))
        zone = session.catalogue.time_zone() or ZoneInfo("UTC")
        known = _Known(trees, schema, zone, context.now, rows)
        predictors = _predictors(known, context, new_answers(session), session.rules)
        asked = [(query.sql, _around(query, known)) for query in queries]
        ask_ahead(session, session.fence(), predictors, asked)
    return _predicted(known, predictors, queries, at_most)


def _predictors(
    known: _Known, context: Context, answers: Answers | None = None, rules: PruningRules = USUAL_RULES
) -> list[Predictor]:
    chosen = parse_name(context.table) if context.table else None
    return [
        Predictor(tree, known.schema, answers=answers, rules=rules)
        for tree in known.trees
        if chosen is None or (tree.table.table == chosen.table and chosen.schema in (None, tree.table.schema))
    ]


def _around(query: FileQuery, known: _Known) -> Surroundings:
    unvalued = not query.params and bool(parameters_in(query.sql))
    return Surroundings(known.zone, known.now, None if unvalued else query.params)


def _predicted(
    known: _Known, predictors: Sequence[Predictor], queries: Sequence[FileQuery], at_most: int | None
) -> ProveResult:
    proofs: list[Proof] = []
    unproven: list[Unproven] = []
    for query in queries:
        around = _around(query, known)
        limit = query.limit or (Limit(at_most) if at_most is not None else None)
        found = [proof for each in predictors if (proof := _proof(query, each, around, known, limit)) is not None]
        proofs += found
        if not found:
            names = tables_in(query.sql)
            reason = "is not understood" if names is None else NOT_TOUCHED
            unproven.append(Unproven(query, reason, names is None, brings_limit(query)))
    leaves = {each.tree.spelling: tuple(leaf.spelling for leaf in each.tree.leaves) for each in predictors}
    return ProveResult(tuple(proofs), tuple(unproven), leaves)


def _proof(
    query: FileQuery, predictor: Predictor, around: Surroundings, known: _Known, limit: Limit | None
) -> Proof | None:
    """None when the query does not read the table."""
    touched = predictor.touched(query.sql, around)
    if touched is None:
        return None
    tree = predictor.tree
    total = len(tree.leaves)
    started = tuple(sorted(touched.started))
    proof = Proof(
        query=query,
        table=tree.spelling,
        total=total,
        predicted=started,
        planned=None,
        executed=None,
        verdict=verdict(len(started), total),
        pruned_at=_pruned_at(touched, total),
        rows=_rows(started, known.rows),
        all_rows=_rows((leaf.spelling for leaf in tree.leaves), known.rows),
        limit=limit,
        mistakes=tuple(Slipped(each) for each in mistakes(query.sql, tree, known.schema, around)),
    )
    if query.params:
        later = predictor.touched(query.sql, replace(around, is_generic=True))
        if later is not None:
            leaves = tuple(sorted(later.started))
            proof = replace(proof, generic=Generic(leaves, _pruned_at(later, total), leaves))
    if len(started) <= 1:
        return proof
    rewriting = better_words(predictor, query.sql, around)
    reasons = predictor.reasons(query.sql, around)
    return replace(proof, reasons=reasons, rewrite=rewriting.rewrite, unequal=rewriting.unequal)


def _rows(leaves: Iterable[str], rows: Mapping[str, int]) -> int:
    return sum(rows.get(leaf, 0) for leaf in leaves)


def _pruned_at(touched: Touched, total: int) -> PrunedAt:
    if touched.may_prune_running:
        return PrunedAt.RUN
    if len(touched.started) < len(touched.planned):
        return PrunedAt.START
    return PrunedAt.PLAN if len(touched.planned) < total else PrunedAt.NEVER
