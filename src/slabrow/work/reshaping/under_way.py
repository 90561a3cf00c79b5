"""While a table is being changed, its partitions must stay those that they are."""

from slabrow.core.upkeep.live_plan import ReshapingState
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name
from slabrow.servers.protocols import Session


def refuse_under_way(session: Session, schema: str | None, root: Name) -> None:
    """Raises Refusal while a conversion, a split or a merge of the table has begun and not swapped yet.

    schema: of the ledger; None where there is none, and so no such work
    """
    if schema is None:
        return
    for record in session.reshapings(schema).open_jobs():
        if record.root == str(root) and record.state != ReshapingState.SWAPPED:
            raise Refusal(
                f"a {'conversion' if record.kind == 'convert' else record.kind} of {record.table} is under way",
                fix="let it end first, or take it away with --give-up --go",
            )
