"""What a file of definitions tells of tables, where there is no server to ask."""

from dataclasses import dataclass
from zoneinfo import ZoneInfo

from slabrow.core.pruning.family_rules import PruningRules
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import Tree
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class OfflineTables:
    """tables: all that the file creates; trees: of those that are partitioned. zone: of the session, at its end."""

    tables: tuple[Name, ...]
    trees: tuple[Tree, ...]
    schema: Schema
    zone: ZoneInfo
    rules: PruningRules
