"""The tables of one query block: how they are joined, and by which conditions, after the server has simplified that.

An outer join whose inner side must have a row anyway is an inner join to the server (simplify_joins, sql_select.cc).
What stays an outer join is pruned by its own ON alone (get_sargable_cond).
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from sqlglot import exp

from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.names import Name

OWN = "\x01"  # begins the name by which a source stands in a resolved expression; a number follows


@dataclass(slots=True)
class Source:
    """A table in FROM, or a query there that stays a query.

    columns   of a table; of a query those whose type is known
    leaves    of PARTITION (…); None without it
    query     None for a table
    """

    number: int
    name: Name | None
    alias: str
    columns: dict[str, KeyColumn]
    leaves: tuple[str, ...] | None = None
    query: "object | None" = None

    @property
    def key(self) -> str:
        """The name by which it stands in resolved expressions."""
        return f"{OWN}{self.number}"


@dataclass(slots=True)
class Joined:
    """A part of FROM: a source; two parts joined; or (without `right`) what a merged query holds.

    is_outer  the rows of `left` stay without a partner
    filters   the WHERE of a merged query
    """

    source: Source | None = None
    left: "Joined | None" = None
    right: "Joined | None" = None
    is_outer: bool = False
    on: list[exp.Expression] = field(default_factory=list)
    filters: list[exp.Expression] = field(default_factory=list)

    def sources(self) -> Iterator[Source]:
        """All of it."""
        if self.source is not None:
            yield self.source
        for side in (self.left, self.right):
            if side is not None:
                yield from side.sources()


@dataclass(slots=True)
class Simplified:
    """conditions: joined by AND; outer: each source on the inner side of an outer join, with the ON that prunes it."""

    conditions: list[exp.Expression] = field(default_factory=list)
    inner: list[Source] = field(default_factory=list)
    outer: list[tuple[Source, list[exp.Expression]]] = field(default_factory=list)


def simplified(joined: Joined | None, where: Sequence[exp.Expression]) -> Simplified:
    """How the server sees a block after it has turned outer joins into inner ones where WHERE lets it."""
    found = Simplified(conditions=list(where))
    if joined is not None:
        _simplify(joined, rejected(where), found.conditions, found.inner, found)
    return found


def _simplify(
    joined: Joined,
    must_be: frozenset[str],
    conditions: list[exp.Expression],
    sources: list[Source],
    found: Simplified,
) -> None:
    """conditions, sources: of the join that this is a part of - the block's own, or the inner side of an outer one."""
    if joined.source is not None:
        sources.append(joined.source)
        return
    assert joined.left is not None
    if joined.right is None:
        conditions += joined.filters
        _simplify(joined.left, must_be | rejected(joined.filters), conditions, sources, found)
        return
    right = {each.key for each in joined.right.sources()}
    if not joined.is_outer or right & must_be:
        conditions += joined.on
        must_be |= rejected(joined.on)
        _simplify(joined.left, must_be, conditions, sources, found)
        _simplify(joined.right, must_be, conditions, sources, found)
        return
    _simplify(joined.left, must_be, conditions, sources, found)
    inside: list[Source] = []
    on = list(joined.on)
    _simplify(joined.right, rejected(on), on, inside, found)
    found.outer += ((source, on) for source in inside)


_REJECTING = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Like, exp.Between)
_STRICT = (exp.Column, exp.Literal, exp.Add, exp.Sub, exp.Mul, exp.Neg, exp.Paren, exp.Identifier, exp.Boolean)


def rejected(conditions: Sequence[exp.Expression]) -> frozenset[str]:
    """The sources of which these conditions demand a row: they are not true where all its columns are NULL."""
    found: frozenset[str] = frozenset()
    for each in conditions:
        found |= _rejected(each)
    return found


def _rejected(node: exp.Expression) -> frozenset[str]:
    match node:
        case exp.Paren():
            return _rejected(node.this)
        case exp.And():
            return _rejected(node.this) | _rejected(node.expression)
        case exp.Or():
            return _rejected(node.this) & _rejected(node.expression)
        case exp.Not() if isinstance(_bare(node.this), exp.Is) and isinstance(_bare(node.this).expression, exp.Null):
            return _columns(_bare(node.this).this)
        case exp.Not() if isinstance(_bare(node.this), (*_REJECTING, exp.In)):
            return _rejected(_bare(node.this))
        case exp.In() if node.args.get("query") is None:
            return _columns(node.this)
        case _ if isinstance(node, _REJECTING):
            sides = [node.this, *([] if isinstance(node, exp.Between) else [node.expression])]
            found: frozenset[str] = frozenset()
            for side in sides:
                found |= _columns(side)
            return found
    return frozenset()


def _bare(node: exp.Expression) -> exp.Expression:
    while isinstance(node, exp.Paren):
        node = node.this
    return node


def _columns(node: exp.Expression) -> frozenset[str]:
    """The sources of a value that is NULL when any of its columns is."""
    if not all(isinstance(each, _STRICT) for each in node.walk()):
        return frozenset()
    return frozenset(each.table for each in node.find_all(exp.Column) if each.table.startswith(OWN))
