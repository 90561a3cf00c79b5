"""What belongs to a table beside its columns, keys and indexes. Views, rights, events and routines name a table, and go
on with whichever has the name; triggers and foreign keys are bound to the table itself.
"""

from __future__ import annotations

from slabrow.core.table.belongings import Belongings
from slabrow.core.table.relation import Relation
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.quoting import literal
from slabrow.servers.mariadb.read.shape import obstacles_of

_OURS = "^(log|back)_[0-9]+_[iud]$"


def belongings(connection: Connection, found: Relation) -> Belongings:
    """Obstacles, and a digest of all that a conversion takes over."""
    row = connection.row(digest(found.name))
    return Belongings(obstacles=obstacles_of(connection, found), digest=str(row[0]) if row else "")


def digest(table: Name) -> str:
    """A query of one text: another one means that columns, indexes or triggers of the table were changed."""
    named = f"table_schema = {literal(table.schema or '')} AND table_name = {literal(table.table)}"
    columns = (
        "SELECT group_concat(column_name, '/', column_type, '/', is_nullable, '/', ifnull(column_default, '-'), '/', "
        "ifnull(collation_name, '-'), '/', extra ORDER BY ordinal_position SEPARATOR '|') "
        f"FROM information_schema.columns WHERE {named}"
    )
    indexes = (
        "SELECT group_concat(index_name, '/', non_unique, '/', ifnull(column_name, '-'), '/', ifnull(sub_part, '-') "
        f"ORDER BY index_name, seq_in_index SEPARATOR '|') FROM information_schema.statistics WHERE {named}"
    )
    triggers = (
        "SELECT group_concat(trigger_name ORDER BY trigger_name) FROM information_schema.triggers "
        f"WHERE event_object_schema = {literal(table.schema or '')} AND event_object_table = {literal(table.table)} "
        f"AND trigger_name NOT RLIKE {literal(_OURS)}"
    )
    return f"SELECT md5(concat_ws('#', ({columns}), ({indexes}), ifnull(({triggers}), '-')))"
