"""Moves the rows of a partition that is being made out of the catch-all, within the transaction that makes it.

Pure: text out, nothing sent. Few rows move under the lock. Many are copied before it, in batches, while everybody reads
and writes; the lock then lasts for what came meanwhile, and for taking the copied rows out of the catch-all.

Which rows were copied is told by the transaction that wrote them. The horizon is the oldest transaction still under way
when the copying begins (pg_snapshot_xmin; PostgreSQL manual, 9.28, "Transaction ID and Snapshot Information"): whatever
is older had ended by then, so of rows older than the horizon no further ones can appear, and a row that is changed
becomes a younger one. Equal numbers of older rows, before and under the lock, therefore mean the same rows.
"""

from dataclasses import dataclass

from slabrow.core.upkeep.actions import Sweep
from slabrow.core.upkeep.statements import Check, Part, Statement
from slabrow.core.upkeep.upkeep_facts import Copying
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier

BLOCKS_A_BATCH = 4_096  # 32 MB
ROWS_SETTING = "slabrow.rows"  # where a sweep leaves the number of rows that it moved


_BOUNDS_CHECK = "slabrow_bounds"
# One evaluation for each scan (an uncorrelated sub-query), where a plain function would be called for each row.
_HORIZON_AGE = "(SELECT age(current_setting('slabrow.horizon')::xid))"


@dataclass(frozen=True, slots=True)
class Sweeping:
    """The statements that move the rows of one sweep.

    key, columns   of the table: those of the key, and those that are moved
    """

    action: Sweep
    key: tuple[str, ...]
    columns: tuple[str, ...]

    @property
    def _condition(self) -> str:
        return quoting.condition(self.action.bounds, self.key)

    @property
    def _partition(self) -> str:
        return quoting.table(self.action.partition)

    @property
    def _catch_all(self) -> str:
        return quoting.table(self.action.catch_all)

    def _lock(self) -> Statement:
        """Of the parent too: a writer that had been sent to the catch-all before would be refused by it after.

        Both at once, so that a try that gets only the first one lets go of it.
        """
        locks = (
            f"LOCK TABLE ONLY {quoting.table(self.action.table)} IN SHARE ROW EXCLUSIVE MODE",
            f"LOCK TABLE {self._catch_all} IN ACCESS EXCLUSIVE MODE",
        )
        return Statement(";\n".join(locks), is_lock=True)

    def under_lock(self) -> list[Part]:
        """All rows in one statement."""
        names = quoting.columns(self.columns)
        moved = (
            f"WITH moved AS (DELETE FROM {self._catch_all} WHERE {self._condition} RETURNING {names}),\n"
            f"  laid AS (INSERT INTO {self._partition} ({names}) SELECT {names} FROM moved RETURNING 1)\n"
            f"SELECT set_config('{ROWS_SETTING}', count(*)::text, false) FROM laid"
        )
        return [self._lock(), Statement(moved)]

    def copied_first(self, copying: Copying) -> list[Part]:
        """Copied in batches, then the rest under the lock.

        The check fails when a copied row was changed or deleted meanwhile.
        """
        names, old = quoting.columns(self.columns), f"age(xmin) > {_HORIZON_AGE}"
        insert = f"INSERT INTO {self._partition} ({names}) SELECT {names} FROM"
        batches = [
            f"{insert} ONLY {quoting.table(leaf)} WHERE {self._condition} AND {old}{_blocks(first, blocks)}"
            for leaf, blocks in copying.leaves
            for first in range(0, max(blocks, 1), BLOCKS_A_BATCH)
        ]
        built = [f"ALTER TABLE {self._partition} ADD {each.definition}" for each in copying.keys if each.is_key]
        built += [
            f"CREATE {'UNIQUE ' if each.is_unique else ''}INDEX ON {self._partition} {each.definition}"
            for each in copying.indexes
        ]
        late = (
            f"WITH late AS ({insert} {self._catch_all} WHERE {self._condition} "
            f"AND age(xmin) <= {_HORIZON_AGE} RETURNING 1)\n"
            f"SELECT set_config('{ROWS_SETTING}', (current_setting('slabrow.copied')::bigint + count(*))::text, false) "
            "FROM late"
        )
        comparison = (
            "SELECT 'the catch-all', copied, there, copied <> there AS differs\n"
            "FROM (SELECT current_setting('slabrow.copied')::bigint AS copied, count(*) AS there "
            f"FROM {self._catch_all} WHERE {self._condition} AND {old}) c"
        )
        return [
            # With it, ATTACH PARTITION need not look through the rows (PostgreSQL manual, ALTER TABLE).
            Statement(f"ALTER TABLE {self._partition} ADD CONSTRAINT {_BOUNDS_CHECK} CHECK ({self._condition})"),
            Statement(_set("slabrow.horizon", "pg_snapshot_xmin(pg_current_snapshot())::xid")),
            *(Statement(sql, 0.4 / len(batches), "copying rows of the catch-all") for sql in batches),
            *(Statement(sql, 0.3 / len(built), "building indexes") for sql in built),
            Statement(_set("slabrow.copied", f"(SELECT count(*) FROM {self._partition})")),
            self._lock(),
            Check(
                comparison,
                "rows of the catch-all were changed while they were copied",
                fix="run it again when these rows are left alone",
                renews=True,
            ),
            Statement(late),
            Statement(
                f"DELETE FROM {self._catch_all} WHERE {self._condition}", 0.2, "taking them out of the catch-all"
            ),
        ]

    def after(self) -> Statement:
        """The statements that remove what a copied partition no longer needs once it is attached."""
        return Statement(f"ALTER TABLE {self._partition} DROP CONSTRAINT {identifier(_BOUNDS_CHECK)}")


def _set(name: str, value: str) -> str:
    return f"SELECT set_config('{name}', {value}::text, true)"


def _blocks(first: int, blocks: int) -> str:
    """The batch that begins with a block. The first and the last have one end: rows may be added meanwhile."""
    low = f" AND ctid >= '({first},0)'" if first else ""
    last = first + BLOCKS_A_BATCH
    return low + (f" AND ctid < '({last},0)'" if last < blocks else "")
