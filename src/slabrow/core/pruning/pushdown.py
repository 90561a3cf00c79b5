"""Which conditions on the output of a query the server moves into it (subquery_is_pushdown_safe, allpaths.c)."""

from collections.abc import Mapping, Sequence

from sqlglot import exp

from slabrow.core.sql.clauses import Source, conjuncts, folded, outputs


def without_columns(conditions: Sequence[exp.Expression]) -> list[exp.Expression]:
    """The conditions that do not depend on the rows: a `false` reaches everything below it."""
    if len(conditions) != 1:
        return []
    return [condition for condition in conditions if isinstance(condition, exp.Boolean | exp.Null)]


def moved_from_having(node: exp.Select) -> list[exp.Expression]:
    """Conditions of HAVING without an aggregate hold before grouping too, unless there are grouping sets."""
    having, group = node.args.get("having"), node.args.get("group")
    if having is None or group is None or any(group.args.get(kind) for kind in ("rollup", "cube", "grouping_sets")):
        return []
    return [each for each in conjuncts(having.this) if not _counts_rows(each)]


def _counts_rows(node: exp.Expression) -> bool:
    return any(True for _ in node.find_all(exp.AggFunc, exp.Window, exp.Select, exp.Values, exp.Anonymous))


def pushed_down(
    node: exp.Select, names: Sequence[str], outer: Sequence[exp.Expression], sources: Sequence[Source]
) -> list[exp.Expression]:
    """Conditions on the output as conditions within the block; those that must stay outside are left out."""
    given = None if node.args.get("limit") or node.args.get("offset") or not outer else outputs(node, sources)
    if given is None:
        return without_columns(outer)
    named = [name for name, _ in given]
    named[: len(names)] = names[: len(named)]
    # A name that stands twice means neither.
    shown = {name: inner for name, (_, inner) in zip(named, given, strict=True) if named.count(name) == 1}
    allowed = _columns_that_may_pass(node)
    is_plain = allowed is None and node.args.get("distinct") is None
    found = []
    for condition in outer if is_plain else settled(outer):
        inner_condition = _substituted(condition, shown)
        if inner_condition is not None and _may_pass(inner_condition, allowed):
            found.append(inner_condition)
    return found


def settled(conditions: Sequence[exp.Expression]) -> list[exp.Expression]:
    """Those whose effect within a grouped block is certain.

    Of several equalities of one column it is unknown which one the server moves. A condition that is NULL or false by
    itself is no condition of the block, and empties what is around it only where it stands alone (up to PostgreSQL 16).
    """
    named = {id(each): [column.sql() for column in each.find_all(exp.Column)] for each in conditions}
    is_equal = {id(each): isinstance(each, exp.EQ | exp.In | exp.Or) for each in conditions}
    equal = [name for each in conditions if is_equal[id(each)] for name in named[id(each)]]
    found = [
        each
        for each in conditions
        if not is_equal[id(each)] or isinstance(each, exp.Or) or all(equal.count(name) == 1 for name in named[id(each)])
    ]
    if len(conditions) == 1 and not isinstance(conditions[0], exp.Or):
        return found
    return [each for each in found if each.find(exp.Null, exp.Boolean) is None]


def _columns_that_may_pass(node: exp.Select) -> list[exp.Expression] | None:
    """None: all may. Grouped, windowed and DISTINCT ON blocks let only their own columns pass."""
    limits: list[list[exp.Expression]] = []
    group = node.args.get("group")
    if group is not None:
        if any(group.args.get(kind) for kind in ("rollup", "cube", "grouping_sets")):
            return []
        limits.append([_by_place(each, node) for each in group.expressions])
    elif any(True for each in node.expressions for _ in each.find_all(exp.AggFunc)) and not any(
        True for each in node.expressions for _ in each.find_all(exp.Window)
    ):
        return []
    distinct = node.args.get("distinct")
    if distinct is not None and distinct.args.get("on") is not None:
        limits.append([_by_place(each, node) for each in distinct.args["on"].expressions])
    named = {str(window.this): window for window in node.args.get("windows") or ()}
    for each in node.expressions:
        for window in each.find_all(exp.Window):
            of = named.get(str(window.args.get("alias") or ""), window)
            limits.append(list(of.args.get("partition_by") or window.args.get("partition_by") or ()))
    if not limits:
        return None
    return [each for each in limits[0] if all(any(each == other for other in limit) for limit in limits[1:])]


def _by_place(each: exp.Expression, node: exp.Select) -> exp.Expression:
    """GROUP BY 1 means the first output column, and a name may mean an output column."""
    if isinstance(each, exp.Literal) and not each.is_string and each.this.isdecimal() and len(each.this) < 19:
        place = int(each.this)
        if 1 <= place <= len(node.expressions):
            found: exp.Expression = node.expressions[place - 1].unalias()
            return found
    return each


def _may_pass(condition: exp.Expression, allowed: list[exp.Expression] | None) -> bool:
    if any(True for _ in condition.find_all(exp.AggFunc, exp.Window, exp.Rand, exp.Select)):
        return False
    if any(each.name.lower() in ("random", "nextval", "clock_timestamp") for each in condition.find_all(exp.Anonymous)):
        return False
    if allowed is None:
        return True
    return all(any(_is_same(column, each) for each in allowed) for column in condition.find_all(exp.Column))


def _is_same(one: exp.Column, other: exp.Expression) -> bool:
    """Whether two names in one block mean the same column; one of them may stand without its table."""
    if not isinstance(other, exp.Column) or not isinstance(one.this, exp.Identifier):
        return False
    if not isinstance(other.this, exp.Identifier) or folded(one.this) != folded(other.this):
        return False
    tables = [folded(each.args["table"]) for each in (one, other) if each.args.get("table") is not None]
    return len(set(tables)) <= 1


def _substituted(condition: exp.Expression, shown: Mapping[str, exp.Expression]) -> exp.Expression | None:
    """The condition with each output column replaced by what gives it; None when one is not known."""
    is_known = True

    def replaced(node: exp.Expression) -> exp.Expression:
        nonlocal is_known
        if not isinstance(node, exp.Column) or not isinstance(node.this, exp.Identifier):
            return node
        name = folded(node.this)
        if name not in shown:
            is_known = False
            return node
        inner: exp.Expression = shown[name].copy()
        return inner if isinstance(inner, exp.Column | exp.Literal) else exp.Paren(this=inner)

    if condition.find(exp.Column) is None:
        return condition
    changed: exp.Expression = condition.copy().transform(replaced)
    return changed if is_known else None
