"""Reads what is known of real tables, and makes tables of made-up rows from it on the server of a rehearsal."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from slabrow.core.pruning.key_conditions import All, Among, Any_, Condition, KeyComparison
from slabrow.core.rehearsal.made_up_table import MadeUpTable, SourceTable, made_up_tables
from slabrow.core.sql.mentions import retargeted, tables_in
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.table.export_column import RowSource
from slabrow.core.table.layout import Layout
from slabrow.core.values.errors import Refusal, SlabrowError, UsageError
from slabrow.core.values.key_values import Value
from slabrow.core.values.names import Name, fit
from slabrow.core.weighing.workload import Workload
from slabrow.core.weighing.workload_reading import TableWorkload, read_workload
from slabrow.servers.protocols import Session
from slabrow.work.context import Context
from slabrow.work.weighing.weigh import MOST_RUNS
from slabrow.work.weighing.workloads import gathered, named_tables

_SUFFIX = "_rehearsal"


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """The facts about real tables that a rehearsal is made from.

    tables    the one that is rehearsed first
    named     values of columns that the workload or a layout names
    read      the part of the workload that is about the table
    """

    facts: TableFacts
    tables: tuple[SourceTable, ...]
    workload: Workload
    read: TableWorkload
    named: Mapping[tuple[Name, str], frozenset[Value]]
    zone: str
    home: str


def known_of(context: Context, session: Session, table: Name, workload: Workload, layouts: Sequence[Layout]) -> Known:
    """Everything that is read from the real server: catalogue and statistics, no row."""
    with session.reading(f"read what is known of {table}"):
        facts = session.catalogue.table_facts(table)
        schema = named_tables(session, workload, facts.name)
        zone = session.catalogue.time_zone()
        if zone is None:
            raise UsageError("the session's time zone has no name", fix="set one: SET TimeZone = 'UTC'")
        read = read_workload(workload, facts, schema, zone, context.now, MOST_RUNS, session.rules)
        if not read.shapes:
            raise UsageError(f"nothing in the workload names {facts.spelling}", fix="check the table and --workload")
        marks = {name for each in read.shapes for name in tables_in(each.shape.marked) or ()}
        sources = list(_with_parents(session, facts.name, marks))
        named: dict[tuple[Name, str], frozenset[Value]] = {}
        for source in sources:
            try:
                about = session.catalogue.table_facts(source.name)
            except SlabrowError:
                continue  # an empty table may have no statistics; its values are of no use then
            part = read_workload(workload, about, schema, zone, context.now, MOST_RUNS, session.rules)
            for column, value in _named_in(part):
                named[source.name, column] = named.get((source.name, column), frozenset()) | {value}
    for layout in layouts:
        for group in layout.groups:
            key = (facts.name, layout.key[0])
            named[key] = named.get(key, frozenset()) | frozenset(group.values)
    return Known(
        facts=facts,
        tables=tuple(sources),
        workload=workload,
        read=read,
        named=named,
        zone=str(zone),
        home=session.archives.relation_of(RowSource(facts.name, facts.name)),
    )


def _with_parents(session: Session, table: Name, named: set[Name]) -> Iterator[SourceTable]:
    """The table, those that its statements name, and those that foreign keys lead to."""
    first = session.rehearsing.source(table)
    waiting, seen = [first], {first.name}
    for name in sorted(named, key=str):
        if not session.catalogue.exists(name):
            continue
        found = session.catalogue.relation(name)
        if found.kind.holds_rows and found.name not in seen:
            seen.add(found.name)
            waiting.append(session.rehearsing.source(found.name))
    while waiting:
        source = waiting.pop(0)
        yield source
        for key in source.foreign_keys:
            if key.table not in seen:
                seen.add(key.table)
                waiting.append(session.rehearsing.source(key.table))


def _named_in(read: TableWorkload) -> Iterator[tuple[str, Value]]:
    for shape in read.shapes:
        if shape.is_guessed:
            continue
        for run in shape.runs:
            for asked in run:
                yield from _values(asked.condition)


def _values(condition: Condition) -> Iterator[tuple[str, Value]]:
    match condition:
        case KeyComparison(column=column, value=value) if value is not None:
            yield column, value
        case Among(column=column, values=values):
            yield from ((column, value) for value in values if value is not None)
        case All(parts) | Any_(parts):
            for part in parts:
                yield from _values(part)
        case _:
            return


def planned_rows(known: Known, rows: int) -> dict[Name, int]:
    """How many rows each made-up table has: others as many as they have, or fewer by the same share."""
    share = rows / max(1, known.facts.rows)
    return {
        source.name: rows
        if source.name == known.facts.name
        else source.rows
        if source.rows <= rows
        else max(rows, round(source.rows * share))
        for source in known.tables
    }


def makers(known: Known, rows: int, *, with_values: bool) -> tuple[MadeUpTable, ...]:
    """The makers of all tables, in the order in which foreign keys let them be made."""
    return made_up_tables(known.tables, planned_rows(known, rows), known.named, with_values=with_values)


def guard_place(session: Session, home: str, table: Name, *, here: bool) -> None:
    """Raises Refusal when the rehearsal would take place beside data that somebody else needs."""
    if here:
        return
    if session.catalogue.exists(table) and session.archives.relation_of(RowSource(table, table)) == home:
        raise Refusal(
            "the rehearsal would load the database of the table itself",
            found=f"{table} is in database {session.database}",
            fix="leave --scratch out for a private server, name another server, or add --here to rehearse beside it",
        )
    if others := session.rehearsing.used_by_others():
        raise Refusal(
            f"database {session.database} of --scratch holds tables already",
            found=", ".join(others),
            fix="name an empty database, or add --here to rehearse beside them",
        )


def places_of(session: Session, tables: Sequence[MadeUpTable]) -> dict[Name, Name]:
    """Where each table goes: a schema of the same name where there is none, else one named after it."""
    found = {}
    for made in tables:
        name = made.source.name
        schema = name.schema or "public"
        is_free = not session.catalogue.has_schema(schema)
        found[name] = Name(schema if is_free else fit(schema, _SUFFIX), name.table)
    return found


def moved(workload: Workload, places: Mapping[Name, Name], spelled: Callable[[Name], str]) -> Workload:
    """The workload with each table where it is now; a statement that cannot be rewritten stays as it is.

    spelled   a table as SQL, quoted where needed
    """
    changed = {old: new for old, new in places.items() if old != new}
    if not changed:
        return workload
    shapes = []
    for shape in workload.shapes:
        marked = shape.marked
        for old, new in changed.items():
            marked = retargeted(marked, old, spelled(new)) or marked
        shapes.append(replace(shape, marked=marked))
    return replace(workload, shapes=tuple(shapes))


def read_all(context: Context, session: Session, paths: Sequence[Path], *, statistics: bool) -> Workload:
    """The workload, from wherever it is."""
    context.reading(paths, "reading the workload")
    return gathered(paths, session, statistics=statistics, jobs=context.jobs)
