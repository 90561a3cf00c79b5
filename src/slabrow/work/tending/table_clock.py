"""The present for a table: the clock, or the highest key of whole numbers, and the meaning of `ahead` at that point."""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import ColumnFact
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.findings import Finding
from slabrow.core.upkeep.number_growth import LEAST_APART, Seen, ahead_in_numbers, growth_a_second
from slabrow.core.upkeep.planned_partitions import number_now
from slabrow.core.values.method import By
from slabrow.servers.protocols import LedgerStore, Session
from slabrow.work.context import Context

GROWTH_WINDOW = timedelta(days=30)  # how long the growth of a key is looked back at


@dataclass(frozen=True, slots=True)
class TableClock:
    """For the tables of one database. go: whether a run may write down how far a key is; ledger: None for none."""

    context: Context
    session: Session
    ledger: LedgerStore | None
    go: bool

    def now(self, layout: Layout, tree: Tree) -> datetime | int:
        """The clock, or for a key of whole numbers where that has got to."""
        if layout.by is not By.RANGE or tree.kinds[0].is_time:
            return self.context.now

        column = ColumnFact(tree.key[0].text, tree.key[0].type_name, tree.key[0].not_null)
        with self.session.reading():
            return number_now(self.session.counting.extent(tree.table, replace(column, not_null=True)).high)

    def counted(self, layout: Layout, tree: Tree, now: datetime | int) -> tuple[Layout, list[Finding]]:
        """The layout with `ahead` in keys, where it is a time and the key is a number; and why it is not known yet."""
        if not layout.is_ahead_by_growth or not isinstance(now, int):
            return layout, []
        name, moment = str(tree.table), self.context.now
        if self.ledger is None:
            text = "`ahead` as a time needs the ledger, which records how far the key had grown: one span is kept ahead"
            return layout, [Finding("growth", text)]
        since = moment - GROWTH_WINDOW
        seen = self.ledger.seen(name, since)
        here = Seen(moment, now)
        if self.go and all(abs(moment - each.at) >= LEAST_APART for each in seen):
            self.ledger.see(name, here, since)
        a_second = growth_a_second((*seen, here))
        if a_second is None:
            text = "the growth of the key is known from the second `tend --go` on: until then one span is kept ahead"
            return layout, [Finding("growth", text)]
        return ahead_in_numbers(layout, moment, a_second), []
