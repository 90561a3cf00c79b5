"""Writes the actions of upkeep as MariaDB's SQL: each is one statement, that is done wholly or not at all.

Where a catch-all is, a new partition is cut out of it (REORGANIZE): ADD beside it would leave rows where no query finds
them (measured on 10.11: of a list they vanish from `WHERE`), and above MAXVALUE nothing can be added.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from slabrow.core.table.bounds import Bounds, CatchAll
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Action, Archive, Create, Detach, Drop, Merge, Place, Sweep
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.statements import Statement, StrongLock, Transaction
from slabrow.core.values.errors import Refusal
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.write.archiving import leaving_name
from slabrow.servers.mariadb.write.definitions import function_end

# Whoever holds the table is waited for in `under_lock`: there is nobody to be looked for before it.
NOBODY = StrongLock("SELECT 1 FROM dual WHERE FALSE")
WAIT = "/*wait*/"  # where `under_lock` says how long the statement may wait


def in_order(parts: Sequence[tuple[Bounds, str]], *, is_list: bool) -> str:
    """The definitions for REORGANIZE. The DEFAULT of a list must stand first: behind others, every row that stays in
    it is put into the first of those, where no query finds it (measured on 10.11). MAXVALUE must stand last.
    """
    last = [text for bounds, text in parts if isinstance(bounds, CatchAll)]
    others = [text for bounds, text in parts if not isinstance(bounds, CatchAll)]
    return ", ".join([*last, *others] if is_list else [*others, *last])


@dataclass(frozen=True, slots=True)
class MariaUpkeep:
    """`protocols.ActionWriter`, for one table as it is."""

    tree: Tree
    layout: Layout

    def transaction(self, action: Action) -> Transaction:
        """Raises NotImplementedError for an Archive, which writes files, and for a Merge, which has its own steps."""
        match action:
            case Create() | Sweep():
                return self._one(f"create {action.partition.table}", self._create(action))
            case Drop():
                return self._one(
                    f"drop {action.partition.table}", f"DROP PARTITION {identifier(action.partition.table)}"
                )
            case Detach():
                return self._one(f"detach {action.partition.table}", self._detach(action))
            case Archive() | Merge() | Place():
                raise NotImplementedError

    def after_archive(self, action: Archive) -> tuple[Transaction, Name | None]:
        """As `ActionWriter.after_archive`: as a table of its own it is compared without keeping anybody waiting."""
        self._refuse_divided(action)
        apart = leaving_name(self.tree.table, action.partition.table)
        lets_out = f"CONVERT PARTITION {identifier(action.partition.table)} TO TABLE {quoting.table(apart)}"
        transaction = self._one(f"archive {action.partition.table}", lets_out)
        drops = Statement(f"DROP TABLE {quoting.table(apart)}")
        return replace(transaction, statements=(*transaction.statements, drops)), apart

    def under_lock(self, action: Action) -> Transaction:
        """The same: rows move within the statement."""
        return self.transaction(action)

    def _one(self, purpose: str, change: str) -> Transaction:
        sql = f"ALTER TABLE {quoting.table(self.tree.table)} {WAIT}{change}"
        return Transaction(f"{purpose} of {self.tree.table}", (Statement(sql),), is_atomic=False, strong=NOBODY)

    def _create(self, action: Create | Sweep) -> str:
        width = len(self.tree.key)
        made = self._definition(Planned(action.partition.table, action.bounds, action.inner), width)
        rest = self.tree.catch_all
        if rest is None or isinstance(action.bounds, CatchAll):
            return f"ADD PARTITION ({made})"
        subs = tuple(
            Planned(each.name.table, each.bounds) for each in self.tree.partitions if each.parent == rest.spelling
        )
        kept = self._definition(Planned(rest.name.table, rest.bounds, subs), width)
        parts = in_order([(rest.bounds, kept), (action.bounds, made)], is_list=self.tree.by is By.LIST)
        return f"REORGANIZE PARTITION {identifier(rest.name.table)} INTO ({parts})"

    def _definition(self, planned: Planned, width: int) -> str:
        subs = ", ".join(f"SUBPARTITION {identifier(each.name)}" for each in planned.inner)
        within = f" ({subs})" if subs else ""
        return f"PARTITION {identifier(planned.name)} {function_end(self.tree, planned.bounds, width)}{within}"

    def _refuse_divided(self, action: Detach | Archive) -> None:
        held = next((each for each in self.tree.partitions if each.name == action.partition), None)
        if held is not None and not held.is_leaf:
            raise Refusal(
                f"{action.partition.table} cannot leave as a table",
                found="it is divided itself, and this server lets no such partition out",
                fix='write past_keep = "drop", or take `within` out of the layout',
            )

    def _detach(self, action: Detach) -> str:
        self._refuse_divided(action)
        target = Name(self.layout.detach_to or self.tree.table.schema, action.partition.table)
        return f"CONVERT PARTITION {identifier(action.partition.table)} TO TABLE {quoting.table(target)}"
