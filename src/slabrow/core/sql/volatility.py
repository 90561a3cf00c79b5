"""Which functions may give another value each time (PostgreSQL manual, 36.7 Function Volatility Categories)."""

from sqlglot import exp

from slabrow.core.sql.lexing import called_in

# Those of the server's own that statements are likely to call (pg_proc.provolatile = 'v').
VOLATILE = frozenset(
    ("random", "random_normal", "clock_timestamp", "timeofday", "nextval", "setval", "currval", "lastval",
     "setseed", "gen_random_uuid", "uuidv4", "uuidv7", "uuid_generate_v1", "uuid_generate_v1mc",
     "uuid_generate_v4", "pg_sleep", "pg_sleep_for", "pg_sleep_until", "set_config", "pg_notify",
     "query_to_xml", "pg_advisory_lock", "pg_advisory_unlock", "pg_try_advisory_lock", "pg_advisory_xact_lock",
     "pg_try_advisory_xact_lock", "pg_cancel_backend", "pg_terminate_backend", "lo_import", "lo_export",
     "lo_creat", "lo_create", "lo_unlink", "pg_relation_size", "pg_total_relation_size", "pg_table_size",
     "pg_indexes_size", "pg_database_size")
)  # fmt: skip


def may_be_volatile(node: exp.Expression, others: frozenset[str] = frozenset()) -> bool:
    """Whether an expression calls a volatile function. others: names of volatile functions that users made."""
    try:
        return not called_in(node.sql("postgres")).isdisjoint(VOLATILE | others)
    except ValueError:
        return True
