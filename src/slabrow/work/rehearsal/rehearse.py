"""`rehearse`: made-up rows and a made-up day of load; the layouts tried for real (N48)."""

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np

from slabrow.core.pruning.plan_reading import Query
from slabrow.core.rehearsal.fresh_values import PlayedRun, fresh_runs
from slabrow.core.rehearsal.made_up_table import MadeUpTable
from slabrow.core.rehearsal.outcome import Upkeep, day_ms, rank_correlation, ranks
from slabrow.core.rehearsal.played_day import BUILT_IN, Curve, pace
from slabrow.core.statistics.row_growth import growth
from slabrow.core.table.layout import Layout, PastKeep
from slabrow.core.table.spans import Unit, shifted
from slabrow.core.values.errors import Refusal, SlabrowError, Stopped, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.weighing.candidates import Wishes, ageing
from slabrow.core.weighing.costs import Costs
from slabrow.core.weighing.workload import Workload
from slabrow.core.weighing.workload_reading import usage
from slabrow.servers.families import FAMILIES, open_session
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.convert import convert
from slabrow.work.rehearsal.made_tables import (
    Known,
    guard_place,
    known_of,
    makers,
    moved,
    places_of,
    planned_rows,
    read_all,
)
from slabrow.work.rehearsal.playing import Load, Played, PlayedStatement, play
from slabrow.work.rehearsal.result import LeftOutStatement, Rehearsal, RehearsedLayout
from slabrow.work.rehearsal.spread_layout import NOTE, StandIns, spread, standing_in
from slabrow.work.rehearsal.upkeep import Retired, tended, tidied
from slabrow.work.weighing.weigh import Known as KnownToWeigh
from slabrow.work.weighing.weigh import weighed
from slabrow.work.weighing.workloads import named_tables

USUAL_ROWS = 5_000_000
LEAST_RATE, MOST_RATE = 20.0, 400.0  # statements a second
MOST_INSERT_RATE = 200.0  # new rows a second: one statement each
_BUSY = 0.4  # of one processor, so that what is measured is the server and not a queue
_LONGEST_MS = 300_000
_VARIANTS = 64  # runs of a statement with fresh values
_LEAST_MEMORY = 32 << 20
_MUCH_MEMORY = 512 << 20
AS_IT_IS, WITHOUT = "as it is", "without partitions"
_CLAIMED = Name("slabrow", "rehearsal")  # stands for the database in the claim of a run


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """layouts       that are tried, with the table as it is

    rows          None: as many as the real table has, up to USUAL_ROWS
    rate          statements a second in the mean of the day; None: as on the real server, faster when that is little
    scratch       the DSN of a server for it; None: a private one
    here          whether it may take place beside data of others
    with_values   whether real values may be taken over from the statistics
    memory_bytes  of a private server; None: as much for its table as the real server has for the real one
    leaves_tables whether only the tables are made, and stay
    """

    layouts: tuple[Layout, ...]
    workload: tuple[Path, ...]
    statistics: bool = False
    rows: int | None = None
    seconds: float = 120.0
    curve: Curve = field(default_factory=lambda: Curve(BUILT_IN))
    rate: float | None = None
    scratch: str | None = None
    here: bool = False
    with_values: bool = False
    memory_bytes: int | None = None
    leaves_tables: bool = False


def rehearse(context: Context, table: Name, question: Question) -> Rehearsal:
    """Makes the tables, tries each layout and the table as it is, and takes everything away again.

    Raises Refusal when the place holds data of others, UsageError for a question that cannot be answered.
    """
    with context.connected() as session:
        workload = read_all(context, session, question.workload, statistics=question.statistics)
        known = known_of(context, session, table, workload, question.layouts)
    rows = question.rows if question.rows is not None else min(USUAL_ROWS, known.facts.rows)
    if rows < 1_000:
        raise UsageError(f"{rows:,} rows tell nothing", fix="ask for more with --rows, a thousand at least")
    made = makers(known, rows, with_values=question.with_values)
    with (
        _place(context, question, known, rows) as (dsn, memory),
        closing(open_session(dsn)) as session,
        standing_in(context, session, question.layouts, memory, question.scratch) as others,
    ):
        _alone(session)
        session.rehearsing.remove_remains()
        places = places_of(session, made)
        with _gone_afterwards(session, places, stay=question.leaves_tables):
            notes = _made(context, session, made, places)
            if known.facts.is_partitioned:
                notes = (f"{known.facts.spelling} is partitioned: give its layout too, to see it as it is", *notes)
            if others.sessions:
                notes = (NOTE, *notes)
            stage = _Stage(
                context=replace(
                    context,
                    dsn=dsn,
                    now=_clock(context, question.layouts, known),
                    is_machine_clock=False,
                    pretends=True,
                    lock_wait_ms=10_000,
                ),
                known=known,
                question=question,
                made={places[each.source.name]: each for each in made},
                table=places[known.facts.name],
                workload=moved(known.workload, places, session.writer.table),
                layouts=tuple(_here(each, places[known.facts.name]) for each in question.layouts),
                others=others,
            )
            result = Rehearsal(
                table=known.facts.spelling,
                rows=rows,
                real_rows=known.facts.rows,
                layouts=(),
                seconds=question.seconds,
                faster=1.0,
                rate=0.0,
                insert_rate=0.0,
                server=session.product,
                memory_bytes=memory,
                correlation=None,
                tables=tuple((str(places[name]), count) for name, count in planned_rows(known, rows).items()),
                notes=notes,
                left_tables=tuple(str(name) for name in places.values()) if question.leaves_tables else (),
                has_real_values=question.with_values,
            )
            return result if question.leaves_tables else _tried(session, stage, result)


@contextmanager
def _place(context: Context, question: Question, known: Known, rows: int) -> Iterator[tuple[str, int | None]]:
    """The DSN of the server of the rehearsal; and the memory of a private one, where that was set."""
    if question.scratch is not None:
        with closing(open_session(question.scratch)) as session:
            guard_place(session, known.home, known.facts.name, here=question.here)
        yield question.scratch, None
        return
    memory = question.memory_bytes
    if memory is None:
        share = known.facts.cache_bytes * rows / max(1, known.facts.rows)
        memory = None if share >= _MUCH_MEMORY else max(_LEAST_MEMORY, round(share))
    context.progress(0.0, "starting a private server")
    with ExitStack() as ending:
        server = FAMILIES[0].private.start(memory)
        ending.callback(server.stop)
        with closing(open_session(server.dsn)) as session:
            for schema in session.rehearsing.usual_schemas():
                session.execution.drop_schema(schema)  # so that tables keep the names that they have
        yield server.dsn, memory


def _alone(session: Session) -> None:
    """Two rehearsals in one database would take each other's tables away."""
    if not session.execution.try_claim(session.execution.claim_key(_CLAIMED)):
        raise Refusal(
            f"another rehearsal is under way in database {session.database}",
            fix="wait for its end, or name another database with --scratch",
        )


@contextmanager
def _gone_afterwards(session: Session, places: Mapping[Name, Name], *, stay: bool) -> Iterator[None]:
    """Makes the schemas of the rehearsal, and takes them away again."""
    schemas = sorted({name.schema or "public" for name in places.values()})
    try:
        for schema in schemas:
            session.rehearsing.claim_schema(schema)
        yield
    except BaseException:
        stay = False
        raise
    finally:
        if not stay:
            session.rehearsing.remove_remains()


def _made(
    context: Context, session: Session, made: Sequence[MadeUpTable], places: Mapping[Name, Name]
) -> tuple[str, ...]:
    total = sum(each.rows for each in made) or 1
    done, notes = 0, []
    for each in made:
        name = places[each.source.name]

        def tell(share: float, each: MadeUpTable = each, name: Name = name, done: int = done) -> None:
            context.progress(0.15 * (done + share * each.rows) / total, f"making {each.rows:,} rows of {name}")

        notes += [f"{each.source.name}: {note}" for note in each.source.notes]
        notes += [f"{each.source.name}: {note}" for note in session.rehearsing.make(each, places, tell)]
        done += each.rows
    return tuple(notes)


def _here(layout: Layout, table: Name) -> Layout:
    """Under its name on the server of the rehearsal, which has one disk."""
    return replace(layout, table=table, place=(), at_most_moved=None, place_hours=None)


def _clock(context: Context, layouts: Sequence[Layout], known: Known) -> datetime:
    """The time of the newest row, where the clock is the machine's and the rows end before it."""
    if not context.is_machine_clock:
        return context.now
    for layout in layouts:
        seen = known.facts.statistics.get(layout.key[0])
        values = (*seen.histogram, *(value for value, _ in seen.common)) if seen else ()
        moments = [value for value in values if isinstance(value, datetime) and value.tzinfo is not None]
        if moments:
            return min(context.now, max(moments))
    return context.now


@dataclass(frozen=True, slots=True, kw_only=True)
class _Stage:
    """Everything that the tries need. made, table, workload, layouts: under their names on this server."""

    context: Context
    known: Known
    question: Question
    made: Mapping[Name, MadeUpTable]
    table: Name
    workload: Workload
    layouts: tuple[Layout, ...]
    others: StandIns


def _tried(session: Session, stage: _Stage, result: Rehearsal) -> Rehearsal:
    context = stage.context
    context.progress(0.16, "weighing the layouts")
    predicted, rows_a_day = _predicted(session, stage)
    load, left_out, faster = _load(session, stage)
    # Those that drop old partitions come first: what they retire, the others delete; the plain table comes last, for
    # the others are made from its rows.
    order = [*sorted(stage.layouts, key=lambda each: each.keep is None), None]
    tried: list[RehearsedLayout] = []
    retired: Retired | None = None
    for number, layout in enumerate(order):
        begins, length = 0.2 + 0.8 * number / len(order), 0.8 / len(order)
        name = str(layout) if layout is not None else WITHOUT if stage.known.facts.is_partitioned else AS_IT_IS

        def tell(share: float, name: str = name, begins: float = begins, length: float = length) -> None:
            context.progress(begins + length * (0.2 + 0.8 * share), f"playing a day on: {name}")

        found, retired = _try(session, stage, layout, load, retired, tell)
        per_day = _upkeep_a_day(found.upkeep, retired)
        a_day = day_ms(found.played.queries, found.played.write_service, rows_a_day, per_day)
        tried.append(replace(found, name=name, day_ms=a_day, predicted_ms=predicted.get(layout)))
    names = {str(place): each for place, each in enumerate(tried)}
    measured = {name: each.day_ms for name, each in names.items()}
    expected = {name: each.predicted_ms for name, each in names.items() if each.predicted_ms is not None}
    measured_ranks, predicted_ranks = ranks(measured), ranks(expected)
    ranked = [
        replace(each, rank=measured_ranks[name], predicted_rank=predicted_ranks.get(name))
        for name, each in names.items()
    ]
    return replace(
        result,
        layouts=tuple(sorted(ranked, key=lambda each: each.rank)),
        faster=faster,
        rate=load.pace.rate,
        insert_rate=load.insert_rate,
        notes=(*result.notes, *_too_fast(load)),
        correlation=rank_correlation(measured, expected),
        left_out=left_out,
    )


def _too_fast(load: Load) -> tuple[str, ...]:
    if load.wanted_insert_rate <= MOST_INSERT_RATE:
        return ()
    return (
        f"new rows come {load.insert_rate:.3g} a second, not the {load.wanted_insert_rate:,.0f} "
        "that would go with so many statements: the workload has few runs a day for so many new rows",
    )


def _upkeep_a_day(upkeep: Upkeep | None, retired: Retired | None) -> float:
    return upkeep.duration_ms / retired.days if upkeep is not None and retired is not None and retired.days else 0.0


def _predicted(session: Session, stage: _Stage) -> tuple[dict[Layout | None, float], float]:
    """What a day costs by the model, for each layout and the table as it is; and new rows a day."""
    with session.reading("weigh the layouts"):
        facts = session.catalogue.table_facts(stage.table)
        schema = named_tables(session, stage.workload, facts.name)
    zone = session.catalogue.time_zone()
    assert zone is not None
    keep = next((each.keep for each in stage.layouts if each.keep is not None), None)
    known = KnownToWeigh(facts, schema, zone, session.product, None, session.rules)
    quiet = replace(stage.context, progress=lambda *_: None)
    weighing = weighed(
        quiet, known, stage.workload, Costs(), Wishes(keep=keep), is_measured=False, layouts=stage.layouts
    )
    rows_a_day = weighing.trend.rows_a_day if weighing.trend is not None else 0.0
    return {each.layout: each.ms for each in weighing.verdict.ranked}, rows_a_day


def _load(session: Session, stage: _Stage) -> tuple[Load, tuple[LeftOutStatement, ...], float]:
    question, known = stage.question, stage.known
    chance = np.random.default_rng(1)
    fence = session.fence()
    by_name = {shape.name: shape for shape in stage.workload.shapes}
    statements: list[PlayedStatement] = []
    took_s: list[float] = []
    left_out: list[LeftOutStatement] = []
    inserted = 0.0
    for read in known.read.shapes:
        shape, kind = by_name[read.shape.name], read.statement.kind
        if read.inserts:
            inserted += shape.weight
            continue
        runs = fresh_runs(shape, stage.made, _VARIANTS, chance)
        changes = kind in ("update", "delete")
        why_not = (
            "its values are not known"
            if not runs
            else f"a {kind.upper()} is not played"
            if kind not in ("select", "update", "delete")
            else None
        )
        if why_not is None:
            try:
                plan = session.planner.explain(Query(runs[0].sql, runs[0].params), 60_000)
                why_not = fence.why_not(runs[0].sql, plan, changes=changes)
                if why_not is None:
                    took_s.append(_tried_once(session, runs[0], changes=changes))
            except SlabrowError as error:
                why_not = error.found or error.problem
                session.planner.forget()
        if why_not is not None:
            left_out.append(LeftOutStatement(shape.name, why_not))
        else:
            statements.append(PlayedStatement(shape.name, shape.weight, runs, changes))
    if not statements:
        raise UsageError(
            "none of the workload's statements can be played",
            found="; ".join(f"{each.name}: {each.reason}" for each in left_out[:5]),
        )
    weights = [each.weight for each in statements]
    a_second = sum(weights) / 86_400
    budget_s = question.seconds * _BUSY
    if question.rate is not None:
        chosen = replace(pace(weights, took_s, question.rate, budget_s), rate=question.rate)
    else:
        chosen = pace(weights, took_s, min(MOST_RATE, max(LEAST_RATE, a_second)), budget_s)
    faster = chosen.rate / a_second if a_second else 1.0
    new_rows = max(inserted, _rows_a_day(known)) / 86_400 * faster
    number = round(min(new_rows, MOST_INSERT_RATE) * question.seconds)
    made = stage.made[stage.table]
    inserts = session.rehearsing.insertion(stage.table, made.newest(0, number, 1)) if number else ()
    load = Load(
        statements=tuple(statements),
        inserts=inserts,
        pace=chosen,
        insert_rate=number / question.seconds,
        wanted_insert_rate=new_rows,
        seconds=question.seconds,
        curve=question.curve,
        zone=known.zone,
    )
    return load, tuple(left_out), faster


def _tried_once(session: Session, run: PlayedRun, *, changes: bool) -> float:
    """What a run takes on the table as it is, in seconds, when nothing else is done."""
    query = Query(run.sql, run.params)
    tried = session.planner.run_change(query, _LONGEST_MS) if changes else session.planner.run(query, _LONGEST_MS)
    return ((tried.planning_ms or 0.0) + (tried.execution_ms or 0.0)) / 1_000


def _rows_a_day(known: Known) -> float:
    """By the growth that the real table has shown along the column by which its data age."""
    facts = known.facts
    for aged in ageing(facts, usage(known.read), known.read.weight):
        if facts.columns[aged.column].kind.is_time:
            shown = growth(aged.column, facts.statistics[aged.column], facts.rows)
            return shown.rows_a_day if shown is not None else 0.0
    return 0.0


def _try(
    session: Session,
    stage: _Stage,
    layout: Layout | None,
    load: Load,
    retired: Retired | None,
    tell: Callable[[float], None],
) -> tuple[RehearsedLayout, Retired | None]:
    """Builds a layout from the plain table, plays the day on it, and takes it back."""
    old_name, build_ms, partitions = None, None, 1
    others = stage.others if layout is not None and layout.servers else StandIns()
    if layout is not None:
        stage.context.progress(0.0, f"building: {layout}")
        began = time.monotonic()
        quiet = replace(stage.context, progress=lambda *_: None)
        if layout.servers:
            types = stage.made[stage.table].source.types
            old_name, partitions = spread(quiet, session, layout, types, others)
        else:
            converted = convert(quiet, layout, None, go=True, compares=False)
            old_name, partitions = converted.old_name, sum(len(each.leaves) for each in converted.preview.planned)
        build_ms = (time.monotonic() - began) * 1_000
        session.rehearsing.settle(stage.table)  # the plain table is vacuumed, too
    size = session.rehearsing.total_bytes([stage.table]) + others.total_bytes(session, stage.table)
    began_with = others.counters(session)
    done: list[tuple[Upkeep | None, Retired | None]] = []
    failed: list[Exception] = []

    def upkeep() -> None:
        try:
            done.append(_kept_up(stage, layout, others, retired))
        except Exception as error:  # on a thread of its own: it is raised where the day has ended
            failed.append(error)

    played = play(stage.context.dsn, load, _leaves(session, stage.table), upkeep, tell)
    counters = others.counters(session).since(began_with)
    for error in failed:
        if not isinstance(error, SlabrowError):
            raise error
        raise Stopped(f"the upkeep of the rehearsal failed: {error.problem}", found=error.found, fix=error.fix)
    kept_up, now_retired = done[0] if done else (None, None)
    if kept_up is not None:
        kept_up = replace(kept_up, longest_stall_ms=_stall(played, kept_up, load.seconds))
    if old_name is not None:
        others.remove(stage.context, session, stage.table)
        session.rehearsing.rewind(stage.table, old_name)
    found = RehearsedLayout(
        name="",
        layout=layout,
        bytes=size,
        partitions=partitions,
        build_ms=build_ms,
        played=played,
        counters=counters,
        upkeep=kept_up,
        day_ms=0.0,
        predicted_ms=None,
    )
    return found, retired or now_retired


def _leaves(session: Session, table: Name) -> frozenset[str]:
    with session.reading():
        found = session.catalogue.relation(table)
    names = [leaf.name for leaf in session.catalogue.tree(table).leaves] if found.is_partitioned else [found.name]
    return frozenset(f"{name.schema}.{name.table}" for name in names)


def _kept_up(
    stage: _Stage, layout: Layout | None, others: StandIns, retired: Retired | None
) -> tuple[Upkeep | None, Retired | None]:
    if layout is not None and layout.by is By.RANGE and layout.keep is not None:
        now = stage.context.now
        if layout.span is not None and layout.span.unit is not Unit.NUMBER:
            later = shifted(now, layout.span, 1, ZoneInfo(layout.zone))
            now = later if isinstance(later, datetime) else now
        dropping = layout
        if layout.past_keep is PastKeep.ARCHIVE:  # an archive is written to files: the rehearsal has no place for them
            dropping = replace(layout, past_keep=PastKeep.DROP)
        return tended(replace(stage.context, now=now), dropping)
    return tidied(stage.context, stage.table, others, retired), retired


def _stall(played: Played, upkeep: Upkeep, seconds: float) -> float:
    """The longest that a write took that was due while the upkeep ran, or a moment before."""
    begin, end = seconds / 2 - 0.5, seconds / 2 + upkeep.duration_ms / 1_000 + 0.5
    return max((late for due, late in played.write_moments if begin <= due <= end), default=0.0)
