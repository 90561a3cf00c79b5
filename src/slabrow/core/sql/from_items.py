"""The entries of FROM, and which of them a column belongs to."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sqlglot import exp

from slabrow.core.sql.clauses import folded
from slabrow.core.values.names import Name


@dataclass(slots=True)
class FromItem:
    """One entry of FROM. columns: what is known of its output, None when unknown."""

    node: exp.Expression
    alias: str
    columns: tuple[str, ...] | None
    table: Name | None = None
    query: exp.Expression | None = None
    renamed: tuple[str, ...] = ()
    nullable: bool = False
    own: list[exp.Expression] = field(default_factory=list)  # conditions of the ON that reads it
    is_opaque: bool = False
    is_anti: bool = False  # of NOT EXISTS: only rows that find none here are kept
    scope: "Ctes | None" = None  # of the query, where it is not that of the block
    types: Mapping[str, str] = field(default_factory=dict)  # of output columns that are columns of a table
    hidden: set[str] = field(default_factory=set)  # names that USING and NATURAL have merged into another entry's
    merged_with: dict[str, "FromItem"] = field(default_factory=dict)  # by a FULL JOIN, which may show either one's
    block: exp.Expression | None = None  # the sub-query that it was dissolved from


Ctes = dict[str, "Cte"]  # by name: those that a block sees


@dataclass(slots=True)
class Cte:
    """uses: how often it is named; is_taken: whether one place reads it already, or no place may."""

    node: exp.CTE
    scope: Ctes
    uses: int
    is_taken: bool = False
    is_volatile: bool = False

    @property
    def may_be_inlined(self) -> bool:
        """As SS_process_ctes (subselect.c) decides: never what calls a volatile function."""
        materialized = self.node.args.get("materialized")
        return not self.is_volatile and ((materialized is False) or (materialized is None and self.uses == 1))


def resolve(column: exp.Column, items: Sequence[FromItem]) -> "FromItem | None":
    """The entry of FROM that a column belongs to; None when it is not certain, or outside this block."""
    if not isinstance(column.this, exp.Identifier):
        return None
    name, table = folded(column.this), column.args.get("table")
    if table is not None:
        found = [item for item in items if item.alias == folded(table)]
        return found[0] if len(found) == 1 else None
    # The names of a sub-query that was dissolved here cannot mean anything else.
    seen = [item for item in items if item.block is None]
    found = [item for item in seen if item.columns is not None and name in item.columns and name not in item.hidden]
    unknown = [item for item in seen if item.columns is None]
    return found[0] if len(found) == 1 and not unknown else None


def without_alias(condition: exp.Expression, item: FromItem, items: Sequence[FromItem]) -> exp.Expression | None:
    """A condition that names columns of one entry only, with their bare names; what others supply runs later."""
    columns = list(condition.find_all(exp.Column))
    if any(resolve(column, items) is not item for column in columns) or condition.find(exp.Select):
        return None

    def bare(node: exp.Expression) -> exp.Expression:
        return exp.Column(this=node.this.copy()) if isinstance(node, exp.Column) else node

    renamed: exp.Expression = condition.copy().transform(bare)
    return renamed
