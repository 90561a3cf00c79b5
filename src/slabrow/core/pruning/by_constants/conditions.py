"""What a condition says of one table, with the columns that are equal to its own.

Follows MariaDB: a comparison of a column with a constant holds for every column that is equal to it too
(Item_bool_func::get_full_func_mm_tree, sql/opt_range.cc); columns are equal where `=` joins them by AND and they are of
one type (check_simple_equality, sql/sql_select.cc). NOT is moved down to the comparisons. What stands around a column
- a function, arithmetic, another collation - makes the comparison useless, and it keeps every leaf.
"""

from collections.abc import Iterator, Mapping, Sequence

from sqlglot import exp

from slabrow.core.pruning.by_constants.sources import OWN, Source
from slabrow.core.pruning.key_conditions import Anything, NullTest
from slabrow.core.pruning.patterns import AllOf, Always, AnyOf, InList, Pattern, Test
from slabrow.core.pruning.reasons import Reason
from slabrow.core.sql.clauses import as_written
from slabrow.core.sql.dialect import BACKQUOTED
from slabrow.core.sql.operators import NEGATED, OPERATORS, TURNED
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind

UNKNOWN = "\x03"  # as in statements.py: a value that only a run supplies
_SIGNS: dict[type[exp.Expression], str] = {**OPERATORS, exp.NullSafeEQ: "<=>"}
_TURNED = {**TURNED, "<=>": "<=>"}
Place = tuple[str, str]  # a source and one of its columns, in lower case
EVERYTHING = AllOf(())


class Equals:
    """Which columns are equal, in one AND and in those around it."""

    def __init__(
        self,
        columns: Mapping[str, Mapping[str, KeyColumn]],
        conditions: Sequence[exp.Expression],
        outer: "Equals | None" = None,
    ) -> None:
        self._columns = columns
        self._groups: list[set[Place]] = [set(group) for group in outer._groups] if outer is not None else []
        for each in conditions:
            bare = _bare(each)
            if isinstance(bare, exp.EQ):
                one, other = _place(bare.this), _place(bare.expression)
                if one is not None and other is not None and self._is_same_type(one, other):
                    self._unite(one, other)

    def within(self, conditions: Sequence[exp.Expression]) -> "Equals":
        """With the equalities of an arm of OR."""
        return Equals(self._columns, conditions, self)

    def own(self, source: Source, place: Place) -> list[KeyColumn]:
        """The columns of a source that are equal to a column, itself among them."""
        group = next((group for group in self._groups if place in group), {place})
        found = []
        for key, name in sorted(group):
            if key == source.key and (column := self._column((key, name))) is not None:
                found.append(column)
        return found

    def on(self, source: Source, condition: exp.Expression) -> Iterator[exp.Expression]:
        """A condition in terms of one source alone; nothing when it concerns others too."""
        moved = condition.copy()
        columns = list(moved.find_all(exp.Column))
        if not columns:
            return
        for column in columns:
            place = _place(column)
            assert place is not None
            if place[0] == source.key:
                continue
            own = self.own(source, place)
            if not own:
                return
            column.set("table", exp.to_identifier(source.key))
            column.set("this", exp.to_identifier(own[0].text))
        yield moved

    def _column(self, place: Place) -> KeyColumn | None:
        known = self._columns.get(place[0], {})
        return next((column for name, column in known.items() if name.lower() == place[1]), None)

    def _is_same_type(self, one: Place, other: Place) -> bool:
        first, second = self._column(one), self._column(other)
        if first is None or second is None:
            return False
        return (first.type_name, first.collation) == (second.type_name, second.collation)

    def _unite(self, one: Place, other: Place) -> None:
        touching = [group for group in self._groups if one in group or other in group]
        united = {one, other}.union(*touching)
        self._groups = [group for group in self._groups if group not in touching] + [united]


def _place(node: exp.Expression) -> Place | None:
    node = _bare(node)
    if isinstance(node, exp.Column) and node.table.startswith(OWN):
        return node.table, node.name.lower()
    return None


def pattern_of(source: Source, conditions: Sequence[exp.Expression], equals: Equals) -> Pattern:
    """What conditions, joined by AND, say of the rows of one source."""
    return _and(source, conditions, equals, negated=False)


def _and(source: Source, conditions: Sequence[exp.Expression], equals: Equals, *, negated: bool) -> Pattern:
    parts = [_condition(source, each, equals, negated=negated) for each in conditions]
    return AllOf(tuple(part for part in parts if part != EVERYTHING))


def _condition(source: Source, node: exp.Expression, equals: Equals, *, negated: bool) -> Pattern:
    node = _bare(node)
    match node:
        case exp.Not():
            return _condition(source, node.this, equals, negated=not negated)
        case exp.And() | exp.Or() if isinstance(node, exp.And) != negated:
            return _and(source, _arms(node, type(node)), equals, negated=negated)
        case exp.And() | exp.Or():
            arms = []
            for arm in _arms(node, type(node)):
                inner = _arms(arm, exp.Or if negated else exp.And)
                known = equals if negated else equals.within(inner)
                found = _and(source, inner, known, negated=negated)
                arms.append(Anything() if found == EVERYTHING else found)
            return AnyOf(tuple(arms), _text(node))
        case exp.Between() if _place(node.this) is None and node.this.find(exp.Column) is None:
            # A constant between others: only what is said of columns is looked at (Item_func_between::get_mm_tree).
            said = [
                kind(this=node.args[end].copy(), expression=node.this.copy())
                for end, kind in (("low", exp.LTE), ("high", exp.GTE))
                if _place(node.args[end]) is not None
            ]
            if negated or not said or _is_mixed(source, node, equals):
                return _unused(source, node)
            return _and(source, said, equals, negated=False)
        case exp.Between():
            sides = [
                exp.GTE(this=node.this.copy(), expression=node.args["low"].copy()),
                exp.LTE(this=node.this.copy(), expression=node.args["high"].copy()),
            ]
            made = exp.And(this=sides[0], expression=sides[1])
            return _condition(source, made, equals, negated=negated)
        case exp.In() if node.args.get("query") is None and node.args.get("unnest") is None:
            return _in(source, node, equals, negated=negated)
        case exp.Is():
            return _is(source, node, equals, negated=negated)
        case exp.Like() if bool(node.args.get("negate")) is negated and node.args.get("escape") is None:
            return _compared(source, node, "like", node.this, node.expression, equals)
        case exp.Boolean() | exp.Null() | exp.Literal():
            return Always(node, negated)
    sign = _SIGNS.get(type(node))
    if sign is None or (negated and sign == "<=>"):
        return _unused(source, node)
    sign = NEGATED[sign] if negated else sign
    left, right = _bare(node.this), _bare(node.expression)
    if isinstance(left, exp.Tuple) and isinstance(right, exp.Tuple):
        return _rows(source, node, sign, left, right, equals)
    if _place(left) is None and _place(right) is not None:
        left, right, sign = right, left, _TURNED[sign]
    if not list(node.find_all(exp.Column)) and UNKNOWN not in node.sql(BACKQUOTED):
        return Always(node, negated)
    return _compared(source, node, sign, left, right, equals)


def _compared(
    source: Source, node: exp.Expression, sign: str, left: exp.Expression, right: exp.Expression, equals: Equals
) -> Pattern:
    place = _place(left)
    if place is None:
        return _unused(source, node)
    own = equals.own(source, place)
    if not own:
        return EVERYTHING
    if right.find(exp.Column) is not None:
        # Of a column that is equal, or of another table: it says nothing that planning can use.
        return (
            Anything(Reason.KNOWN_ONLY_RUNNING, _text(node), own[0].name)
            if _place(right) != place
            else _unused(source, node)
        )
    if UNKNOWN in right.sql(BACKQUOTED):
        return Anything(Reason.KNOWN_ONLY_RUNNING, _text(node), own[0].name)
    return AllOf(tuple(Test(column, sign, right, _text(node)) for column in own))


def _rows(
    source: Source, node: exp.Expression, sign: str, left: exp.Tuple, right: exp.Tuple, equals: Equals
) -> Pattern:
    """`(a, b) = (1, 2)` is `a = 1 AND b = 2`; of the other signs the server makes nothing."""
    if len(left.expressions) != len(right.expressions) or sign not in ("=", "<=>"):
        return _unused(source, node)
    pairs = zip(left.expressions, right.expressions, strict=True)
    kind = exp.EQ if sign == "=" else exp.NullSafeEQ
    return _and(source, [kind(this=a.copy(), expression=b.copy()) for a, b in pairs], equals, negated=False)


def _in(source: Source, node: exp.In, equals: Equals, *, negated: bool) -> Pattern:
    left = _bare(node.this)
    if isinstance(left, exp.Tuple):
        rows = [bare for each in node.expressions if isinstance(bare := _bare(each), exp.Tuple)]
        if negated or len(rows) != len(node.expressions):
            return _unused(source, node)
        arms: list[Pattern] = [_rows(source, node, "=", left, row, equals) for row in rows]
        arms = [Anything() if arm == EVERYTHING else arm for arm in arms]
        return AnyOf(tuple(arms), _text(node))
    place = _place(left)
    if place is None:
        if not list(node.find_all(exp.Column)):
            return EVERYTHING
        return _unused(source, node)
    own = equals.own(source, place)
    if not own:
        return EVERYTHING
    if any(each.find(exp.Column) is not None or UNKNOWN in each.sql(BACKQUOTED) for each in node.expressions):
        return Anything(Reason.KNOWN_ONLY_RUNNING, _text(node), own[0].name)
    return AllOf(
        tuple(InList(column, tuple(node.expressions), False, _text(node), is_negated=negated) for column in own)
    )


def _is(source: Source, node: exp.Is, equals: Equals, *, negated: bool) -> Pattern:
    place = _place(node.this)
    if place is None or not isinstance(node.expression, exp.Null):
        return _unused(source, node)
    own = equals.own(source, place)
    return AllOf(tuple(NullTest(column.text, not negated) for column in own)) if own else EVERYTHING


def _unused(source: Source, node: exp.Expression) -> Pattern:
    """Keeps every leaf, and says why, where it names a column of the source."""
    own = [each for each in node.find_all(exp.Column) if each.table == source.key]
    if not own:
        return EVERYTHING
    column = own[0].name
    reason = Reason.NOT_UNDERSTOOD
    sides = [
        _bare(each) for each in (node.args.get("this"), node.args.get("expression")) if isinstance(each, exp.Expression)
    ]
    for side in sides:
        if isinstance(side, exp.Column) or side.find(exp.Column) is None:
            continue
        is_sum = isinstance(side, exp.Add | exp.Sub | exp.Mul | exp.Div | exp.IntDiv | exp.Mod | exp.Neg)
        reason = Reason.ARITHMETIC_ON_KEY if is_sum else Reason.FUNCTION_ON_KEY
    if isinstance(node, exp.Like):
        reason = Reason.PATTERN_MATCH
    return Anything(reason, _text(node), column)


def _is_mixed(source: Source, node: exp.Between, equals: Equals) -> bool:
    """Whether numbers and texts are compared at once: then neither is in the column's own type."""
    sides = [_bare(node.args[each]) for each in ("this", "low", "high")]
    texts = any(isinstance(each, exp.Literal) and each.is_string for each in sides)
    numbers = any(isinstance(each, exp.Neg) or (isinstance(each, exp.Literal) and not each.is_string) for each in sides)
    places = [place for each in sides if (place := _place(each)) is not None]
    kinds = {column.kind for place in places for column in equals.own(source, place)}
    return texts and (numbers or bool(kinds & {Kind.INTEGER, Kind.NUMERIC}))


def _arms(node: exp.Expression, kind: type[exp.Expression]) -> list[exp.Expression]:
    node = _bare(node)
    if isinstance(node, kind):
        return [*_arms(node.this, kind), *_arms(node.expression, kind)]
    return [node]


def _bare(node: exp.Expression) -> exp.Expression:
    while isinstance(node, exp.Paren):
        node = node.this
    return node


def _text(node: exp.Expression) -> str:
    """As it is written, without the marks of the sources."""
    shown = node.copy()
    for column in shown.find_all(exp.Column):
        if column.table.startswith(OWN):
            column.set("table", None)
    for each in shown.find_all(exp.Anonymous):
        if each.name == UNKNOWN:
            each.set("this", "…")
    return as_written(shown)
