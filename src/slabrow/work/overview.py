"""`survey` without a table: which tables of the database are worth a thought at all (N60)."""

from typing import TYPE_CHECKING

from slabrow.work.context import Context

if TYPE_CHECKING:
    from slabrow.core.statistics.glance import Overview


def overview(context: Context) -> "Overview":
    """Reads the catalogue and the server's counters. Changes nothing. Raises ServerError without a server."""
    with context.connected() as session, session.reading("look at the tables"):
        return session.catalogue.overview(context.now)
