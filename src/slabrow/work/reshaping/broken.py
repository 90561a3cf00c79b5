"""What a conversion would break, from the workload and from functions in the database, tried on the server (N53)."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Shape, key_changes
from slabrow.core.upkeep.breaks import Break, Breaking
from slabrow.servers.protocols import Session
from slabrow.work.weighing.workloads import as_queries, gathered

_TRIED = ("on_conflict", "row_moves", "every_partition")


def broken(
    session: Session, shape: Shape, layout: Layout, paths: Sequence[Path], *, statistics: bool = False
) -> tuple[Break, ...]:
    """paths: query files and server logs; statistics: also the server's statement statistics.

    Raises UsageError when a file cannot be read.
    """
    breaking = Breaking(shape, layout.full_key, key_changes(shape, layout.full_key))
    found = list(breaking.of_table())
    if paths or statistics:
        for query in as_queries(gathered(paths, session, statistics=statistics)):
            found += breaking.of_statement(query.name, query.sql, query.weight)
    with session.reading("read the functions"):
        bodies = session.catalogue.bodies_naming(shape.name)
    for name, body in bodies:
        found += breaking.of_body(name, body)
    tried = session.planner.tried(shape, layout, [each.sql for each in found if each.code in _TRIED])
    words = iter(tried)
    return tuple(replace(each, tried=next(words)) if each.code in _TRIED else each for each in found)
