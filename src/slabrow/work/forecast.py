"""`forecast`: the partitions that a layout gives, before anything exists (N12, N13)."""

from slabrow.core.layout import Layout
from slabrow.work.context import Context
from slabrow.work.prospect import Prospect, prospect


def forecast(context: Context, layout: Layout, *, exact: bool) -> Prospect:
    """The partitions with their bounds, rows and bytes, from the table's statistics or counted. Changes nothing."""
    with context.connected() as connection:
        return prospect(context, connection, layout, exact=exact)
