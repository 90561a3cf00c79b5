"""A partition goes to another server, behind the same table (N50): what is asked before, and what is said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.elsewhere import FarTable
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.relocation import is_in_use
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name
from slabrow.servers.protocols import ReshapingStore, Session
from slabrow.work.reshaping.redivision_plan import Place, find_partitions, plan_elsewhere
from slabrow.work.reshaping.redivision_result import RedivisionOptions

if TYPE_CHECKING:
    from slabrow.core.upkeep.breaks import Break

_MOST_BROKEN = 12
# What a table loses with its keys, as each was seen on the server.
_LOST = (
    "INSERT … ON CONFLICT (columns) fails, also for partitions that stay here; ON CONFLICT DO NOTHING without columns "
    "works. No foreign key can refer to the table. Each partition keeps its own key, so a key can come twice only in "
    "two partitions."
)


def plan_out(
    session: Session,
    layout: Layout | None,
    schema: str,
    store: ReshapingStore,
    name: Name,
    options: RedivisionOptions,
    lies: FarTable | None,
) -> tuple[RedivisionPlan, Place, tuple[Step, ...]]:
    """The plan, and the steps by which the table gives up its keys before. lies: where the partition lies elsewhere.

    Raises UsageError for a server that the layout file does not name; Refusal when something is missing, would be lost
    without a word, or lies there already; ServerError when the other server cannot be reached.
    """
    server = options.elsewhere
    assert server is not None
    if lies is not None:
        there = "already" if lies.server == server else "now"
        raise Refusal(
            f"the rows of {name} lie on {lies.server} {there}",
            fix="there is nothing to move" if lies.server == server else "bring them home first: --to-tablespace NAME",
        )
    place = find_partitions(session, [name])
    [partition] = place.partitions
    facts = session.partitions.far_facts(place.root, server)
    entry = next(each for each in session.reached() if each.name == server)
    if facts.missing:
        raise Refusal(
            f"a partition of {place.root} cannot lie on {server} yet",
            found="\n".join(f"missing: {each}" for each in facts.missing),
            fix="follow each line, then try again",
        )
    if facts.others:
        raise Refusal(
            f"{place.root} cannot have a partition elsewhere",
            found="\n".join(facts.others),
            fix="follow the step in each line, if that is worth it",
        )
    if facts.keys and not options.gives_up_key:
        raise Refusal(
            f"{place.root} has keys, and with a partition elsewhere it can have none",
            found="\n".join(f"{key.name}: {key.definition}" for key in facts.keys),
            fix=f"--give-up-key lets go of them, once each partition has a key of its own. Then: {_LOST}",
        )
    if is_in_use(place.tree, place.partitions) and not options.is_still_written:
        raise Refusal(
            f"rows are still written to {name}",
            found="a transaction that writes here and there commits on the other server first: when this one then "
            "fails, what it wrote there stays",
            fix="move a partition that is no longer written to; or say --still-written, when that does no harm",
        )
    table = Name(entry.schema or partition.name.schema, partition.name.table)
    if session.partitions.exists_there(server, table):
        raise Refusal(
            f"{server} has a table {table} already",
            fix="drop it there when it is left from earlier work, or rename it",
        )
    far = FarTable(server, table, comes=True, is_plain=facts.is_plain)
    plan, place = plan_elsewhere(session, layout, schema, store, name, far)
    lay_in = tuple(dict.fromkeys(leaf.place for leaf in place.tree.leaves_of(partition) if leaf.place is not None))
    return replace(plan, lay_in=lay_in), place, session.writer.giving_up_keys(place.root, facts)


def far_notes(plan: RedivisionPlan, giving_up: Sequence[Step]) -> list[str]:
    """What a person should know before, or afterwards."""
    assert plan.far is not None
    name, far = plan.sources[0].name, plan.far
    if not far.comes:
        return [
            f"The rows of {name} come home from {far.server}. The table there is kept until --drop-old. What is "
            f"written to it there, past {plan.root}, is not seen."
        ]
    notes = []
    if giving_up:
        notes.append(f"The keys of {plan.root} are given up. {_LOST}")
    notes += [
        f"The rows of {name} will lie in {far.table} on {far.server}, and the ones here are kept until --drop-old.",
        f"While {far.server} is down, queries that need this partition fail, and so do those that do not say which "
        "partitions they need. COUNT and LIMIT are worked out here: rows come over for them.",
        "TRUNCATE of the table is refused while a partition lies elsewhere: empty partitions by name.",
    ]
    return notes


def broken_elsewhere(session: Session, plan: RedivisionPlan, paths: Sequence[Path]) -> list[str]:
    """What statements of the workload, and of functions in the database, do no more. Raises UsageError for a file that
    cannot be read.
    """
    from slabrow.core.upkeep.far_breaks import FarBreaking  # with the parser, which is slow to load
    from slabrow.work.weighing.workloads import as_queries, gathered

    breaking = FarBreaking(plan.root, plan.key)
    found: list[Break] = []
    if paths:
        for query in as_queries(gathered(paths, session, statistics=False)):
            found += breaking.of_statement(query.name, query.sql)
    with session.reading("read the functions"):
        bodies = session.catalogue.bodies_naming(plan.root)
    for name, body in bodies:
        found += breaking.of_body(name, body)
    said = [f"{each.name} will fail: {each.text}. Write instead: {each.instead}." for each in found]
    if len(said) > _MOST_BROKEN:
        said = [*said[:_MOST_BROKEN], f"… and {len(said) - _MOST_BROKEN} more statements will fail."]
    return said
