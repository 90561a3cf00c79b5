"""Functions whose effects a transaction does not hold back, so that no statement which calls one is run.

They are those of the manual's 9.28 System Administration Functions, F.11 dblink, 33.4 large objects on the server,
sequences (9.17: never rolled back) and session-level advisory locks. A function that a user wrote may call any of
them, and is not looked into.
"""

import re

from slabrow.core.parameters import outside_strings

_NAMES = (
    r"dblink\w*",
    r"lo_(?:import|export)",
    r"nextval|setval",
    r"pg_(?:try_)?advisory_(?:lock|unlock)\w*",
    r"pg_(?:cancel|terminate)_backend",
    r"pg_(?:reload_conf|rotate_logfile|promote|switch_wal|create_restore_point|logical_emit_message)",
    r"pg_(?:backup_start|backup_stop|wal_replay_pause|wal_replay_resume|log_backend_memory_contexts)",
    r"pg_(?:create|drop|copy)_\w*replication_slot|pg_replication_(?:origin|slot)\w*|pg_logical_slot_get\w*",
    r"pg_stat(?:_statements)?_reset\w*",
    r"pg_file_(?:write|rename|unlink|sync)",
)
_CALL = re.compile(rf"(?<![\w$])({'|'.join(_NAMES)})\s*\(", re.IGNORECASE)


def acting_function(sql: str) -> str | None:
    """The first function of a statement that acts beyond its transaction; None when it calls none that is known."""
    match = _CALL.search("".join(outside_strings(sql)))
    return match.group(1).lower() if match else None
