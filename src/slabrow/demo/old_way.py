"""The DELETE that a dropped partition replaces, tried on the table as it was and taken back."""

import time
from contextlib import closing
from dataclasses import dataclass

from slabrow.core.values.wording import count, milliseconds, size
from slabrow.servers.families import open_session

_OLDEST_MONTH = "DELETE FROM apiary.reading_before WHERE taken_at < '2025-02-01 00:00+00'"


@dataclass(frozen=True, slots=True)
class OldWay:
    """What a DELETE took."""

    rows: int
    ms: float
    wal_bytes: int

    def __str__(self) -> str:
        return (
            f"The DELETE that this replaces, tried on the table as it was and rolled back: {count(self.rows)} rows in "
            f"{milliseconds(self.ms)} with {size(self.wal_bytes)} of WAL. A VACUUM would then have to read every "
            "index, and the space would stay with the table."
        )


def delete_and_roll_back(dsn: str) -> OldWay:
    """Deletes the oldest month, measures, and rolls back."""
    with closing(open_session(dsn)) as session, session.explained("try the DELETE"):
        session.execution.run("SET lock_timeout = '5s'")
        session.execution.run("BEGIN")
        before = session.rehearsing.counters().wal_bytes
        began = time.monotonic()
        ((rows,),) = session.execution.rows(f"WITH gone AS ({_OLDEST_MONTH} RETURNING 1) SELECT count(*) FROM gone")
        took = (time.monotonic() - began) * 1_000
        written = session.rehearsing.counters().wal_bytes - before
        session.execution.run("ROLLBACK")
    return OldWay(int(rows), took, written)
