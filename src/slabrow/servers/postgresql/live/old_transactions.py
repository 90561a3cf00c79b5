"""Transactions that were open at a moment, noted in the work's record, and waited for later."""

from dataclasses import dataclass

from slabrow.core.upkeep.statements import Statement
from slabrow.servers.postgresql.quoting import identifier


@dataclass(frozen=True, slots=True)
class OldTransactions:
    """Of the work with the number `job`, in the ledger's schema."""

    schema: str
    job: int

    @property
    def _record(self) -> str:
        return f"{identifier(self.schema)}.reshaping"

    @property
    def _waiting(self) -> str:
        return (
            f"FROM {self._record} r, pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid WHERE r.job = {self.job:d} "
            "AND l.locktype = 'virtualxid' AND l.granted AND l.virtualtransaction = ANY (r.open_transactions) "
            "AND a.datid = (SELECT oid FROM pg_database WHERE datname = current_database()) "
            # Without the right to see other sessions nobody knows whether there is a snapshot.
            "AND (a.backend_xmin IS NOT NULL OR a.state IS NULL)"
        )

    def noting(self) -> Statement:
        """Every role sees these locks, also of transactions that only read."""
        return Statement(
            f"UPDATE {self._record} SET open_transactions = ARRAY(SELECT virtualtransaction FROM pg_locks "
            f"WHERE locktype = 'virtualxid' AND granted AND pid <> pg_backend_pid()) WHERE job = {self.job:d}"
        )

    @property
    def are_noted(self) -> str:
        """A query for whether they were noted at all."""
        return f"SELECT open_transactions IS NOT NULL FROM {self._record} WHERE job = {self.job:d}"

    @property
    def have_ended(self) -> str:
        """A query for whether none of them has a snapshot any more."""
        return f"SELECT NOT EXISTS (SELECT {self._waiting})"

    @property
    def who(self) -> str:
        """A query of those who still have one."""
        return (
            "SELECT format('pid %s (%s, %s) since %s', a.pid, coalesce(a.usename, 'another role'), "
            "coalesce(nullif(a.application_name, ''), 'unnamed'), to_char(a.xact_start, 'HH24:MI:SS')) "
            f"{self._waiting} LIMIT 5"
        )
