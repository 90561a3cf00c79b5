"""A relation in the catalogue: its kind and size, its columns, indexes, foreign keys and leaves.

These are the plain records that a server family fills. How it finds them out belongs to the family.
"""

from dataclasses import dataclass
from enum import StrEnum

from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind, kind_of
from slabrow.core.values.names import Name


class RelationKind(StrEnum):
    """The kinds of relation, in the words of messages."""

    TABLE = "table"
    PARTITIONED = "partitioned table"
    VIEW = "view"
    MATERIALIZED_VIEW = "materialized view"
    FOREIGN_TABLE = "foreign table"
    INDEX = "index"
    SEQUENCE = "sequence"
    OTHER = "relation"

    @property
    def holds_rows(self) -> bool:
        """Whether its rows can be counted and weighed."""
        return self in (RelationKind.TABLE, RelationKind.PARTITIONED, RelationKind.MATERIALIZED_VIEW)


@dataclass(frozen=True, slots=True, kw_only=True)
class Relation:
    """The relation that a name means.

    identity     what the family tells the relation by, such as an oid; 0 where there is no server
    name         with the schema
    spelling     as the server spells it: with its schema only where the search path needs it
    rows         the planner's estimate; None when the table was never analysed
    heap_bytes, index_bytes, toast_bytes   its size; `toast_bytes` are those of values that are stored apart
    """

    identity: int
    name: Name
    spelling: str
    kind: RelationKind
    is_partition: bool
    rows: int | None
    heap_bytes: int
    index_bytes: int
    toast_bytes: int

    @property
    def bytes(self) -> int:
        """All of its bytes."""
        return self.heap_bytes + self.index_bytes + self.toast_bytes

    @property
    def is_partitioned(self) -> bool:
        """Whether it is a partitioned table."""
        return self.kind is RelationKind.PARTITIONED


@dataclass(frozen=True, slots=True)
class ColumnFact:
    """A column by name and type as the server spells it. known: the kind of its values, where the family says it."""

    name: str
    type_name: str
    not_null: bool
    known: Kind | None = None

    @property
    def kind(self) -> Kind:
        """The kind of its values."""
        return kind_of(self.type_name) if self.known is None else self.known

    def as_key(self) -> KeyColumn:
        """The same column as a key column is described."""
        return KeyColumn(self.name, self.name, self.kind, self.type_name, self.not_null)


@dataclass(frozen=True, slots=True, kw_only=True)
class IndexFact:
    """An index with its size and how often it was scanned (None where the server does not count that)."""

    name: str
    definition: str
    bytes: int
    is_unique: bool
    is_primary: bool
    is_valid: bool
    scans: int | None


@dataclass(frozen=True, slots=True)
class ForeignKeyFact:
    """direction: `out` when the table refers to `other`, `in` when `other` refers to it."""

    name: str
    direction: str
    other: str
    definition: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LeafFact:
    """A leaf and the root of its tree. A root without leaves stands once, with no spelling.

    root        as the server spells it: with its schema only where the search path needs it
    root_name   schema and table of the root
    plan_name   `schema.table`, as plans name the leaf
    rows        the planner's estimate, 0 when never analysed
    """

    root: str
    root_name: Name
    plan_name: str
    spelling: str | None
    rows: int


@dataclass(frozen=True, slots=True, kw_only=True)
class LeavesTotal:
    """All leaves of a partitioned table together.

    rows        the planner's estimates. Rows of a leaf that was never analysed are told from its size, by the density
                of the others; an empty leaf has none. None when nothing is known of any leaf with rows
    unanalysed  leaves with rows that were never analysed: how many, and the names of the first of them
    """

    leaves: int
    rows: int | None
    heap_bytes: int
    index_bytes: int
    toast_bytes: int
    unanalysed: int
    some_unanalysed: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class IndexShape:
    """An index as the planner sees it. columns: names in order, "" for an expression."""

    name: str
    columns: tuple[str, ...]
    is_unique: bool = False
    is_primary: bool = False
    bytes: int = 0
    is_partial: bool = False
