"""Equalities within a block: equal columns share constants, and constants that cannot be relied on are found.

The server puts columns that a join makes equal into one class, with one constant (equivalence classes, equivclass.c).
"""

# Why equalities need a module of their own. For `a.k = b.j AND b.j = 5` the planner puts a.k, b.j and 5 into one
# *equivalence class* and derives `a.k = 5`, which prunes a. That is worth a lot to a prediction, and it has traps:
#
# - A class that has two constants, `k = 5 AND k = j AND j = now()`, keeps only one of them. If one is known while
#   planning, the server takes that one (generate_base_implied_equalities_const). Otherwise that is unknown, and no
#   constant of the class may be relied on. Such columns are called *rivals* here.
# - The constant that was not taken is not lost: the server compares it with the one that was. Two literals that differ
#   make the whole class impossible, and the query reads nothing. Such equalities are *spare*.
# - Only columns of one type share a class: `int4 = int8` is another operator, and gives another class.
# - Over an outer join constants go one way only: from the rows that are kept to the side that may be missing
#   (reconsider_outer_join_clauses).
# - `k = true` is not an equality for the planner, because it is rewritten to `k` before (simplify_boolean_equality).
#
# An example. `FROM a JOIN b ON a.k = b.k LEFT JOIN c ON c.k = a.k WHERE b.k = 5`: a.k and b.k get `= 5` from their
# class, and c.k gets `= 5` too, from ON. `WHERE c.k = 5` instead would turn the LEFT JOIN into an inner join first.
#
# Source: src/backend/optimizer/path/equivclass.c, versions 15 to 18.

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, cast

from sqlglot import exp

from slabrow.core.pruning.agreement import Moments, agree
from slabrow.core.sql.clauses import column_of, conjuncts, folded
from slabrow.core.sql.from_items import FromItem, resolve
from slabrow.core.sql.schema import Schema
from slabrow.core.values.key_values import Kind

Member = tuple[int, str, str]  # the id of an entry of FROM, a column, its type


@dataclass(slots=True)
class Equalities:
    """Of one statement, block after block.

    equated    column names, with the constants that they equal anywhere
    contested  names of columns of which only an equality that is known while planning is sure to be used
    doubtful   names of columns of which none is
    rivals     columns equal to several constants, of which the server uses one
    spare      equalities beside another one of the same column, which has to agree with them (agreement.py)
    """

    schema: Schema
    equated: dict[str, dict[str, exp.Expression]]
    moments: Moments
    contested: frozenset[str] = frozenset()
    doubtful: frozenset[str] = frozenset()
    rivals: set[Member] = field(default_factory=set)
    spare: set[tuple[Member, str]] = field(default_factory=set)

    def derived(self, above: Sequence[exp.Expression], items: Sequence[FromItem]) -> dict[int, list[exp.Expression]]:
        """`= constant` carried over equal columns, for each entry of FROM by its id.

        Constants are carried among entries that no outer join fills with NULLs, and from those entries to the side that
        may be missing, over its ON (equivclass.c, reconsider_outer_join_clauses). Only between columns of one type:
        others stand in no class.
        """
        if len(items) < 2 and all(item.query is None for item in items):
            return {}
        classes: list[set[Member]] = []
        constants: dict[Member, list[exp.Expression]] = {}
        for condition in above:
            match self._equality(condition, items):
                case (one, other) if other is not None:
                    touching = [each for each in classes if one in each or other in each]
                    classes = [each for each in classes if each not in touching]
                    classes.append({one, other}.union(*touching))
                case (one, None):
                    constant = self._constant_side(condition)
                    name = one[1].lower()
                    is_sure = name not in self.contested or self.moments.is_planned(constant, one[2])
                    if is_sure and name not in self.doubtful:
                        constants.setdefault(one, []).append(constant)
        agreeing: list[exp.Expression] = []
        joined = set[Member]().union(*classes)
        for each in (*classes, *({member} for member in constants if member not in joined)):
            agreeing += self._settled(each, constants, is_class=each in classes)
        found: dict[int, list[exp.Expression]] = {id(item): list(agreeing) for item in items if agreeing}
        for each in classes:
            for member in sorted(each & constants.keys()):
                found.setdefault(member[0], []).append(self._stated(member, items, constants[member]))
        for item in items:
            for condition in item.own if item.nullable else ():
                match self._equality(condition, items):
                    case (one, other) if one in constants and other is not None and other[0] == id(item):
                        found.setdefault(id(item), []).append(self._stated(other, items, constants[one]))
                    case (one, other) if other in constants and one[0] == id(item):
                        found.setdefault(id(item), []).append(self._stated(one, items, constants[other]))
        return found

    def _settled(
        self, members: set[Member], constants: dict[Member, list[exp.Expression]], *, is_class: bool
    ) -> list[exp.Expression]:
        """Leaves the one constant that the server takes for a class, in `constants`. Returns what has to agree then.

        Of several it takes one that is known while planning, if there is one (generate_base_implied_equalities_const,
        equivclass.c); else one of which it is not known which.
        """
        type_name = next(iter(members))[2]
        named = [constant for member in sorted(members) for constant in constants.get(member, ())]
        known = list({constant.sql(): constant for constant in named}.values())
        planned = [each for each in known if type_name and self.moments.is_planned(each, type_name)]
        if planned:
            for member in members:
                if is_class or member in constants:
                    constants[member] = planned[:1]
                self.spare |= {(member, each.sql()) for each in known if each is not planned[0]}
            return [agree(planned, type_name)] if len(planned) > 1 else []
        if not is_class:
            return []
        elsewhere = {text for _, name, _ in members for text in self.equated.get(name, ())}
        elsewhere -= {constant.sql() for constant in known}
        if elsewhere or len(known) > 1:
            self.rivals |= members
        for member in members:
            if elsewhere and known:  # another block may bring a constant into the class
                constants.pop(member, None)
            elif known:
                constants[member] = known
        return []

    def note_rivals(self, above: Sequence[exp.Expression], items: Sequence[FromItem]) -> None:
        """Keeps in mind which columns this block gives constants that another block may contest."""
        self.rivals |= self._rivals_of_sub_queries(above, items) | self._rivals_of_joined_queries(above, items)

    def _rivals_of_joined_queries(self, above: Sequence[exp.Expression], items: Sequence[FromItem]) -> set[Member]:
        """As `_derived` finds them, for the columns of queries in FROM, whose types are not known here."""
        queries = {id(item) for item in items if item.query is not None}
        if not queries:
            return set()
        pairs = [
            members
            for condition in (*above, *(each for item in items for each in item.own))
            if isinstance(condition, exp.EQ)
            for members in [(self._member(condition.left, items), self._member(condition.right, items))]
            if None not in members and any(member[0] in queries for member in members if member is not None)
        ]
        found: set[Member] = set()
        for condition in above:
            equal = self._equality(condition, items)
            if equal is None or equal[1] is not None:
                continue
            constant = self._constant_side(condition)
            joined = {member for pair in pairs if equal[0] in pair for member in pair if member is not None}
            others = {text: node for _, name, _ in joined for text, node in self.equated.get(name, {}).items()}
            others.pop(constant.sql(), None)
            # Two different constants that are known while planning exclude each other, whichever the server uses.
            known = [constant, *others.values()]
            if others and not all(self.moments.is_planned(each, equal[0][2]) for each in known):
                found.add(equal[0])
        return found

    def _rivals_of_sub_queries(self, above: Sequence[exp.Expression], items: Sequence[FromItem]) -> set[Member]:
        """Columns equal to a constant here, while EXISTS or IN, which become joins, may bring another one.

        See pull_up_sublinks (prepjointree.c). Only where one of the two is not a literal: literals that differ exclude
        each other.
        """
        inner = [
            condition.expression
            for each in above
            if isinstance(each, exp.Exists | exp.In)
            for select in each.find_all(exp.Select)
            if select.args.get("where") is not None
            for condition in conjuncts(select.args["where"].this)
            if isinstance(condition, exp.EQ) and not condition.expression.find(exp.Column)
        ]
        if not inner:
            return set()
        found = set()
        for condition in above:
            equal = self._equality(condition, items)
            if equal is None or equal[1] is not None:
                continue
            known = [*inner, self._constant_side(condition)]
            if not all(self.moments.is_planned(each, equal[0][2]) for each in known):
                found.add(equal[0])
        return found

    def is_rival(self, condition: exp.Expression, items: Sequence[FromItem]) -> bool:
        """Whether it is one of several `column = constant` of which the server may use another."""
        if not self.rivals and not self.contested and not self.spare and not self.doubtful:
            return False
        if isinstance(condition, exp.In) and len(condition.expressions) == 1:
            condition = exp.EQ(this=condition.this.copy(), expression=condition.expressions[0].copy())
        equal = self._equality(condition, items)
        if equal is None or equal[1] is not None:
            return False
        constant = self._constant_side(condition)
        if (equal[0], constant.sql()) in self.spare or equal[0][1].lower() in self.doubtful:
            return True
        if equal[0][2] and self.moments.is_planned(constant, equal[0][2]):
            return False  # the server takes it, or another one that it has to agree with
        return equal[0] in self.rivals or equal[0][1].lower() in self.contested

    def _equality(self, condition: exp.Expression, items: Sequence[FromItem]) -> "tuple[Member, Member | None] | None":
        """The two columns that `=` makes equal, or the column that it gives a constant (None as the second)."""
        if not isinstance(condition, exp.EQ) or is_of_array(condition.right):
            return None  # `= ANY (array)` makes nothing equal
        one, other = self._member(condition.left, items), self._member(condition.right, items)
        if one is not None and other is not None:
            alike = one[2] == other[2] and one[2] != ""
            return (one, other) if alike else None
        if "boolean" in (member[2] for member in (one, other) if member is not None):
            return None  # `k = true` is made `k`, and is no equality any more (simplify_boolean_equality, clauses.c)
        if one is not None and not condition.right.find(exp.Column, exp.Select):
            return one, None
        if other is not None and not condition.left.find(exp.Column, exp.Select):
            return other, None
        return None

    @staticmethod
    def _constant_side(condition: exp.Expression) -> exp.Expression:
        left: exp.Expression = condition.args["this"]
        right: exp.Expression = condition.args["expression"]
        return left if right.find(exp.Column) else right

    def _member(self, node: Any, items: Sequence[FromItem]) -> "Member | None":
        if not isinstance(node, exp.Column):
            return None
        item = resolve(node, items)
        if item is None:
            return None
        type_name = None
        if item.table is None:
            type_name = item.types.get(folded(node.this))
        elif not item.renamed:
            column = self.schema.tables[item.table].get(folded(node.this))
            type_name = (
                None if column is None else column.kind.value if column.kind is Kind.INTEGER else column.type_name
            )
        return id(item), folded(node.this), type_name or ""

    @staticmethod
    def _stated(member: "Member", items: Sequence[FromItem], constants: Sequence[exp.Expression]) -> exp.Expression:
        """`member = constant`; of several constants of one class the server takes one, and does not say which."""
        alias = next(item.alias for item in items if id(item) == member[0])
        name = exp.to_identifier(member[1], quoted=True)
        equal: list[exp.Expression] = [
            exp.EQ(this=column_of(name, alias), expression=constant.copy()) for constant in constants
        ]
        stated = equal[0]
        for each in equal[1:]:
            stated = exp.Or(this=stated, expression=each)
        return stated


def is_of_array(node: Any) -> bool:
    """Whether it is the operand ANY (array), SOME (array) or ALL (array)."""
    is_word = isinstance(node, exp.Anonymous) and str(node.this).upper() in ("ANY", "SOME", "ALL")
    return is_word or isinstance(node, exp.Any | exp.All)


def equated(parsed: exp.Expression) -> dict[str, dict[str, exp.Expression]]:
    """The constants that columns of each name equal, in any block, by their texts."""
    found: dict[str, dict[str, exp.Expression]] = {}
    for node in parsed.find_all(exp.EQ):
        for side, other in ((node.left, node.right), (node.right, node.left)):
            if isinstance(side, exp.Column) and isinstance(side.this, exp.Identifier) and not other.find(exp.Column):
                found.setdefault(folded(side.this), {})[other.sql()] = cast(exp.Expression, other)
    return found
