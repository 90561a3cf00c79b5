"""How a lock on a table in use is taken without making others wait for long.

Who asks for a strong lock waits in a queue, and everybody who comes later waits behind. So the table is looked at
first: only when no transaction holds it that is older than a moment is the lock asked for, and then for a tenth of a
second at most. The server's own cleaning (autovacuum) gives way only to a lock that waits for a second; a weak lock
does that waiting, which blocks neither readers nor writers, and the strong one is then taken within it.
"""

from collections.abc import Sequence

from slabrow.core.upkeep.statements import StrongLock
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import dollar_tag
from slabrow.servers.postgresql.quoting import literal

WRITERS_OUT = "SHARE ROW EXCLUSIVE"
ALL_OUT = "ACCESS EXCLUSIVE"

_YOUNG = "30 ms"  # a transaction that is younger will have ended by the time that the lock is wanted
# What blocks a lock that keeps writers out: any lock but those of readers (PostgreSQL manual, 13.3.1).
_READERS_MODES = "'AccessShareLock', 'RowShareLock'"


def strong_lock(
    table: Name, tables: Sequence[Name], mode: str, beside: Sequence[Name] = (), cleaned: Sequence[Name] = ()
) -> StrongLock:
    """Of a table with its partitions.

    tables    all of these
    beside    tables that are replaced within the lock
    cleaned   new tables, which only autovacuum uses so far: it is interrupted after a failed try
    """
    only = quoting.table(table)
    return StrongLock(
        look=look_only((*tables, *beside), mode).look,
        gentle=f"LOCK TABLE {only} IN SHARE UPDATE EXCLUSIVE MODE",
        strong=f"LOCK TABLE {only} IN {mode} MODE",
        cleaned=_cleaned(cleaned),
    )


def look_only(tables: Sequence[Name], mode: str) -> StrongLock:
    """For a statement that takes its locks by itself, on tables that this role may not lock."""
    names = quoting.array([literal(str(name)) for name in tables], "text")
    harmless = f" AND l.mode NOT IN ({_READERS_MODES})" if mode == WRITERS_OUT else ""
    look = f"""SELECT CASE WHEN l.pid IS NULL THEN 'a prepared transaction (see pg_prepared_xacts)'
            ELSE format('pid %s (%s, %s)', l.pid, coalesce(a.usename, 'another role'),
                        coalesce(nullif(a.application_name, ''), 'unnamed')) END AS who
FROM pg_catalog.pg_locks l LEFT JOIN pg_catalog.pg_stat_activity a ON a.pid = l.pid
WHERE l.locktype = 'relation' AND l.database = (SELECT oid FROM pg_catalog.pg_database WHERE datname =
current_database())
  AND l.relation = ANY (SELECT to_regclass(name) FROM unnest({names}) name)
  AND l.granted AND l.pid IS DISTINCT FROM pg_backend_pid() AND l.mode <> 'ShareUpdateExclusiveLock'{harmless}
  AND (a.xact_start IS NULL OR clock_timestamp() - a.xact_start > '{_YOUNG}') LIMIT 5"""
    return StrongLock(look)


def lock_alone(
    tables: Sequence[Name], mode: str, beside: Sequence[Name] = (), cleaned: Sequence[Name] = ()
) -> StrongLock:
    """Of these tables alone, without their partitions, in this order.

    beside    tables that are locked for a moment within
    cleaned   as of `strong_lock`
    """
    named = ", ".join(f"ONLY {quoting.table(name)}" for name in tables)
    return StrongLock(
        look=look_only((*tables, *beside), mode).look,
        gentle=f"LOCK TABLE {named} IN SHARE UPDATE EXCLUSIVE MODE",
        strong=f"LOCK TABLE {named} IN {mode} MODE",
        cleaned=_cleaned(cleaned),
    )


def _cleaned(tables: Sequence[Name]) -> str | None:
    """The server's cleaning holds these too, and gives way only to who waits for a second: which nobody may do within
    the lock.
    """
    if not tables:
        return None
    names = quoting.array([literal(str(name)) for name in tables], "text")
    each = "SELECT oid::regclass AS name FROM pg_catalog.pg_class WHERE relkind IN ('r', 'p') AND oid IN"
    body = (
        f"DECLARE t record; BEGIN FOR t IN {each} (SELECT to_regclass(name) FROM unnest({names}) name) LOOP "
        "EXECUTE format('LOCK TABLE ONLY %s IN SHARE UPDATE EXCLUSIVE MODE', t.name); END LOOP; END"
    )
    tag = dollar_tag(body)
    return f"DO {tag}{body}{tag}"
