"""A statement as the planner sees it: every place at which it names a table, and the conditions that hold there.

Conditions reach a table from its own block, from the blocks around it (a sub-query or a CTE that is read once takes
the conditions on its output, where rows are not counted before: subquery_is_pushdown_safe, allpaths.c), and over equal
columns of a join (`a.k = b.j AND b.j = 5` gives a.k = 5: equivalence classes). What an outer join fills up with NULLs
keeps its conditions apart: those of ON hold for the rows that are read, those of WHERE only where NULL cannot pass.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, cast

from sqlglot import exp

from slabrow.core.pruning.agreement import Agree, Moments, since
from slabrow.core.pruning.conditions import AllOf, AnyOf, Pattern, Reading
from slabrow.core.pruning.equalities import Equalities, equated
from slabrow.core.pruning.pullup import (
    Link,
    Qualifier,
    Uncertain,
    constants_of,
    is_dissolved,
    link_of,
    simple_lateral,
    unfolded,
    where_of,
    with_constants,
)
from slabrow.core.pruning.pushdown import moved_from_having, pushed_down, settled, without_columns
from slabrow.core.pruning.strictness import rejects_null
from slabrow.core.pruning.uncertain_constants import rivalry
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.clauses import (
    Source,
    aliases_in,
    column_of,
    conjuncts,
    folded,
    outputs,
    renamed_columns,
    simplified,
)
from slabrow.core.sql.constants import MARKED_NUMBER
from slabrow.core.sql.from_items import Cte, Ctes, FromItem, resolve, without_alias
from slabrow.core.sql.parsed import parse, parse_anew
from slabrow.core.sql.schema import Schema
from slabrow.core.sql.volatility import may_be_volatile
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name

_MOST_JOINED = 20  # tables in one block: beyond that sub-queries are read on their own


@dataclass(frozen=True, slots=True)
class TableOccurrence:
    """One place at which a statement reads a table.

    pattern   what holds for every row that is read there
    ordered   the columns that ORDER BY begins with, when the block reads this table alone
    limit     how many rows LIMIT asks for, as an expression, when nothing stands between it and the table
    partners  what it is joined with, with what holds there: where one has no rows at all, nothing is read
    wanted    the columns that are read, None for all
    is_counted  whether the block groups or aggregates its rows
    """

    table: Name
    alias: str
    pattern: Pattern
    ordered: tuple[str, ...] = ()
    limit: exp.Expression | None = None
    partners: tuple[tuple[Name, Pattern], ...] = ()
    wanted: frozenset[str] | None = None
    is_counted: bool = False


@dataclass(frozen=True, slots=True)
class PlannedStatement:
    """What a statement reads. kind: `select`, `insert`, `update`, `delete`, `merge`.

    target    the table that INSERT writes into
    changed   the columns that UPDATE sets
    is_settled  whether it is known which constants its columns are compared with as it is planned
    """

    kind: str
    places: tuple[TableOccurrence, ...]
    target: Name | None = None
    changed: frozenset[str] = frozenset()
    is_settled: bool = True


def read_statement(
    sql: str, schema: Schema, literals: tuple[str, ...] = (), answers: Answers | None = None
) -> PlannedStatement | None:
    """The places of every known table in a statement; None when it is not understood.

    literals   of one run, where the statement is a marked shape: GROUP BY 1 means a column, and has to stay
    answers    what a server says of its constants
    A statement that is understood in part has its other places with a pattern that keeps everything.
    """
    parsed = parse_anew(sql) if literals else parse(sql)
    if parsed is None:
        return None
    try:
        may_be_unknown = any("unknown" in text.lower() for text in (sql, *schema.views.values()))
        return _statement(_with_places(parsed, literals), schema, may_be_unknown, Moments(literals, answers))
    except RecursionError:
        return None


def _with_places(parsed: exp.Expression, literals: tuple[str, ...]) -> exp.Expression:
    """With the numbers of GROUP BY 1 and ORDER BY 1 put back where they were marked."""
    for clause in parsed.find_all(exp.Group, exp.Order) if literals else ():
        for node in list(clause.find_all(exp.Literal)):
            number = int(node.this) - MARKED_NUMBER if str(node.this).isdecimal() and len(node.this) < 20 else -1
            if 0 <= number < len(literals):
                node.set("this", literals[number])
    return parsed


def _statement(parsed: exp.Expression, schema: Schema, may_be_unknown: bool, moments: Moments) -> PlannedStatement:
    if (arms := _arms_of(parsed)) is not None:
        # What is united is planned apart: constants of one arm say nothing of the others.
        read = [_statement(arm, schema, may_be_unknown, moments) for arm in arms]
        places = tuple(place for each in read for place in each.places)
        return PlannedStatement("select", places, None, frozenset(), all(each.is_settled for each in read))
    rivals = rivalry((parsed, *_reached_views(parsed, schema)), schema.types_by_name(), moments)
    walk = _Walk(
        schema, Equalities(schema, equated(parsed), moments, rivals.contested, rivals.doubtful), may_be_unknown
    )
    kind = type(parsed).__name__.lower()
    target = None
    match parsed:
        case exp.Insert():
            into = parsed.this.this if isinstance(parsed.this, exp.Schema) else parsed.this
            target = walk.table_name(into) if isinstance(into, exp.Table) else None
            source = parsed.args.get("expression")
            scope = walk.with_ctes(parsed, {})
            if isinstance(source, exp.Expression):
                walk.query(source, (), scope, ())
        case exp.Update() | exp.Delete():
            walk.change(parsed)
        case exp.Merge():
            walk.merge(parsed)
        case _:
            kind = "select"
            walk.query(parsed, (), {}, ())
    seen = {id(node) for node in walk.seen}
    # Whatever was not reached above keeps everything: a table is never forgotten.
    left = [
        node
        for node in parsed.find_all(exp.Table)
        if id(node) not in seen and isinstance(node.this, exp.Identifier) and not _is_target(node, parsed)
    ]
    given = {cte.alias for cte in parsed.find_all(exp.CTE)}
    for node in left:
        name = walk.table_name(node)
        if name is not None and (node.args.get("db") or node.name not in given):
            walk.places.append(TableOccurrence(name, node.alias_or_name, AllOf(())))
    sets = parsed.expressions if isinstance(parsed, exp.Update) else ()
    changed = frozenset(folded(each.left.this) for each in sets if isinstance(each.left, exp.Column))
    return PlannedStatement(kind, tuple(walk.places), target, changed, rivals.is_settled)


def _arms_of(parsed: exp.Expression) -> list[exp.Expression] | None:
    """The queries of a set operation; None for another statement, or where they share queries of WITH."""
    if not isinstance(parsed, exp.SetOperation):
        return None
    found: list[exp.Expression] = []
    waiting: list[Any] = [parsed]
    while waiting:
        each = waiting.pop()
        if each.args.get("with_") or each.args.get("with"):
            return None
        if isinstance(each, exp.SetOperation):
            waiting += [each.right, each.left]
        else:
            found.append(each)
    return found


def _reached_views(parsed: exp.Expression, schema: Schema) -> list[exp.Expression]:
    """The queries of the views that a statement names, and of those that they name."""
    found: dict[Name, exp.Expression] = {}
    waiting = [parsed] if schema.views else []
    while waiting:
        for table in waiting.pop().find_all(exp.Table):
            if not isinstance(table.this, exp.Identifier):
                continue
            db = table.args.get("db")
            name = schema.find(Name(folded(db) if db else None, folded(table.this)))
            if (
                name is not None
                and name in schema.views
                and name not in found
                and (view := parse(schema.views[name])) is not None
            ):
                found[name] = view
                waiting.append(view)
    return list(found.values())


def _is_target(node: exp.Table, parsed: exp.Expression) -> bool:
    if not isinstance(parsed, exp.Insert):
        return False
    return node is parsed.this or (isinstance(parsed.this, exp.Schema) and node is parsed.this.this)


def _names_cte(table: exp.Table, name: str) -> bool:
    return isinstance(table.this, exp.Identifier) and folded(table.this) == name and not table.args.get("db")


@dataclass(slots=True)
class _Walk:
    """Through one statement: what it has found so far."""

    schema: Schema
    equalities: Equalities
    may_be_unknown: bool = False
    places: list[TableOccurrence] = field(default_factory=list)
    seen: list[exp.Expression] = field(default_factory=list)
    full: list[tuple[tuple[FromItem, ...], FromItem, list[exp.Expression]]] = field(default_factory=list)  # FULL JOINs

    def table_name(self, node: exp.Table) -> Name | None:
        if not isinstance(node.this, exp.Identifier):
            return None
        schema = node.args.get("db")
        return self.schema.find(Name(folded(schema) if schema else None, folded(node.this)))

    def with_ctes(self, node: exp.Expression, scope: Ctes) -> Ctes:
        """The CTEs that a statement sees: those of the blocks around it and its own."""
        with_ = node.args.get("with_") or node.args.get("with")
        if with_ is None:
            return scope
        inner = dict(scope)
        for cte in with_.expressions:
            name = folded(cte.args["alias"].this)
            # Within its own query, unless it is recursive, and in those before it the name means something else.
            uses = sum(_names_cte(table, name) for table in node.find_all(exp.Table))
            uses -= sum(
                _names_cte(table, name)
                for earlier in with_.expressions[: with_.expressions.index(cte) + 1]
                for table in earlier.find_all(exp.Table)
            )
            is_volatile = may_be_volatile(cte.this, self.schema.volatile)
            inner[name] = Cte(cte, dict(inner), 99 if with_.args.get("recursive") else uses, is_volatile=is_volatile)
        for name, cte in inner.items():
            if name not in scope or scope[name] is not cte:
                changes = not isinstance(cte.node.this, exp.Query)
                if not changes and cte.uses == 0:
                    self.seen += cte.node.find_all(exp.Table)  # the server drops a query that nobody reads
                elif changes or not cte.may_be_inlined or not self._is_plain(cte.node.this):
                    cte.uses = max(cte.uses, 2)
                    cte.is_taken = True
                    self._body(cte)
        return inner

    @staticmethod
    def _is_plain(query: exp.Expression) -> bool:
        return not query.args.get("locks")

    def _body(self, cte: Cte) -> None:
        body = cte.node.this
        if isinstance(body, exp.Update | exp.Delete):
            self.change(body, cte.scope)
        elif isinstance(body, exp.Query):
            self.query(cast(exp.Expression, body), (), cte.scope, ())

    def query(self, node: exp.Expression, names: Sequence[str], scope: Ctes, outer: Sequence[exp.Expression]) -> None:
        """A SELECT, a set operation or a query in parentheses.

        names   the names of its output columns where an alias gives them
        outer   conditions on the output, with columns named by output column and no table
        """
        scope = self.with_ctes(node, scope)
        match node:
            case exp.Subquery() | exp.Paren():
                inner_limit = node.args.get("limit") or node.args.get("offset")
                self.query(node.this, names, scope, without_columns(outer) if inner_limit else outer)
            case exp.SetOperation():
                blocked = isinstance(node, exp.Except) or node.args.get("limit") or node.args.get("offset")
                names = names or self._output_names(node, scope) or ()
                for side in (node.left, node.right):
                    passed = without_columns(outer) if blocked or not names else settled(outer)
                    self.query(cast(exp.Expression, side), names, scope, passed)
            case exp.Select():
                self.select(node, names, scope, outer)
            case exp.Table():
                self.select(exp.select("*").from_(node, copy=False), names, scope, outer)
            case _:
                self._sub_queries(node, scope)

    def select(self, node: exp.Select, names: Sequence[str], scope: Ctes, outer: Sequence[exp.Expression]) -> None:
        items, above = self._items(node, scope)
        where = node.args.get("where")
        having = node.args.get("having")
        stated = conjuncts(where.this) if where is not None else []
        grouped = conjuncts(having.this) if having is not None else []
        moved = moved_from_having(node)
        if stated and grouped:
            # WHERE and HAVING are worked out each by itself: beside the other, one that is false as a whole is a
            # condition that does not reach what is below (up to PostgreSQL 17).
            # Of queries below it, which may be grouped themselves, it is not known then what gets into them.
            is_deep = any(item.table is None or item.query is not None for item in items)
            moved = [] if is_deep or any(map(_is_constant, grouped)) else moved
            stated = [] if is_deep or any(map(_is_constant, stated)) else stated
        above += [*stated, *moved]
        above += pushed_down(node, names, outer, [(item.alias, item.columns) for item in items])
        above = self._pulled_up(items, above, scope)
        first = len(self.places)
        self._block(items, above, scope, node)
        holders = self._holders(first, items)
        for part in ("expressions", "having", "qualify", "order", "limit", "group"):
            self._sub_queries_of(node.args.get(part), scope)
        self._sub_queries_of_where(where, scope, holders)
        for item in items:
            for condition in item.own:
                self._sub_queries(condition, scope)
        for join in node.args.get("joins") or ():
            if join.args.get("on") is not None:
                self._sub_queries(join.args["on"], scope)

    def _holders(self, first: int, items: Sequence[FromItem]) -> tuple[tuple[Name, Pattern], ...]:
        """The tables of a block, with what holds there, that no outer join fills up. first: the block's first place."""
        nullable = {item.alias for item in items if item.nullable}
        found = [(each.table, each.pattern) for each in self.places[first:] if each.alias not in nullable]
        return tuple(found) if len(found) <= len(items) else ()

    def _sub_queries_of_where(self, where: Any, scope: Ctes, holders: tuple[tuple[Name, Pattern], ...]) -> None:
        """Those of NOT IN and the like are plans below their block: without a row there, they are not read."""
        if where is None:
            return
        below = [
            cast(exp.Expression, query)
            for each in where.find_all(exp.In, exp.Any, exp.All)
            for query in [cast(exp.Expression, each.args.get("query") or each.this)]
            if isinstance(query, exp.Query)
        ]
        for query in below:
            first = len(self.places)
            self._sub_queries(query, scope)
            for place in range(first, len(self.places)):
                self.places[place] = replace(self.places[place], partners=(*self.places[place].partners, *holders))
        self._sub_queries(where, scope)

    def change(self, node: exp.Expression, scope: Ctes | None = None) -> None:
        """UPDATE … FROM and DELETE … USING: the target is read too."""
        scope = self.with_ctes(node, scope or {})
        items: list[FromItem] = []
        above: list[exp.Expression] = []
        if isinstance(node.this, exp.Table):
            items.append(self._item(node.this, scope))
        from_ = node.args.get("from_") or node.args.get("from")
        others = [from_.this] if from_ is not None else list(node.args.get("using") or ())
        for other in others:
            items.append(self._item(other, scope))
            self._joined(other.args.get("joins") or (), items, above, scope)
        where = node.args.get("where")
        above += conjuncts(where.this) if where is not None else []
        above = self._pulled_up(items, above, scope)
        self._block(items, above, scope, node)
        for part in ("expressions", "where"):
            self._sub_queries_of(node.args.get(part), scope)

    def merge(self, node: exp.Merge) -> None:
        scope = self.with_ctes(node, {})
        target = self._item(node.this, scope)
        source = self._item(node.args["using"], scope)
        whens = node.args.get("whens")
        by_source = any(when.args.get("source") for when in (whens.expressions if whens is not None else ()))
        if not by_source:
            target.own = conjuncts(node.args["on"])
        target.nullable = True
        source.nullable = True
        self._block([target, source], [], scope, node)

    def _items(self, node: exp.Select, scope: Ctes) -> tuple[list[FromItem], list[exp.Expression]]:
        above: list[exp.Expression] = []
        items: list[FromItem] = []
        from_ = node.args.get("from_") or node.args.get("from")
        within: list[exp.Expression] = []
        if from_ is not None:
            self._entry(from_.this, items, within, scope)
        self._joined(node.args.get("joins") or (), items, above, scope, within)
        for lateral in node.args.get("laterals") or ():
            items.append(self._item(lateral, scope))
        return items, above

    def _entry(self, node: exp.Expression, items: list[FromItem], above: list[exp.Expression], scope: Ctes) -> None:
        """One entry of FROM with what is joined to it, parentheses around joins taken off."""
        first = len(items)
        within: list[exp.Expression] = []
        inner = _in_parentheses(node)
        if inner is None:
            items.append(self._item(node, scope))
        else:
            self._entry(inner, items, within, scope)
        self._joined(node.args.get("joins") or (), items, above, scope, within, first)

    def _joined(
        self,
        joins: Sequence[exp.Expression],
        items: list[FromItem],
        above: list[exp.Expression],
        scope: Ctes,
        within: list[exp.Expression] | None = None,
        first: int = 0,
    ) -> None:
        """Adds the entries of a chain of joins; `above` takes the conditions that hold for all that is not nullable.

        within   what holds already for the entries from `first` on, of joins in parentheses
        """
        within = within or []  # what holds since the last comma: JOIN binds more closely
        for join in joins:
            inner = _in_parentheses(join.this)
            is_plain = not any(join.args.get(part) for part in ("side", "method", "using"))
            if inner is not None and is_plain and str(join.args.get("kind") or "").upper() in ("", "INNER", "CROSS"):
                self._entry(join.this, items, within, scope)
                within += conjuncts(simplified(join.args["on"])) if join.args.get("on") is not None else []
                continue
            if inner is not None and _is_left_on(join):
                self._filled_up(join, items, scope)
                continue
            item = self._item(join.this, scope)
            on = conjuncts(simplified(join.args["on"])) if join.args.get("on") is not None else []
            if not join.args.get("side"):  # sub-queries in it are dissolved before it is simplified
                on = conjuncts(join.args["on"]) if join.args.get("on") is not None else []
            merged = _merged_names(join, items[first:], item)
            on += _using(merged, items[first:], item, str(join.args.get("side") or "").upper())
            if not on and not any(join.args.get(part) for part in ("side", "kind", "method", "using")):
                above += within
                within = []
                first = len(items)
            before = items[first:]
            match str(join.args.get("side") or "").upper():
                case "LEFT":
                    item.nullable, item.own = True, on
                case "RIGHT" | "FULL" as side:
                    for each in before:
                        each.nullable = True
                        each.own += on if side == "RIGHT" else []
                    # What was above the earlier joins now stands below this one: it filters those that it names.
                    for each in before:
                        each.own += [condition for condition in within if aliases_in(condition) <= {each.alias}]
                    within = []
                    item.nullable = side == "FULL"
                    if side == "FULL":
                        self.full.append((tuple(before), item, on))
                case _:
                    within += on
            if str(join.args.get("kind") or "").upper() == "SEMI" or join.args.get("method"):
                item.is_opaque = str(join.args.get("method") or "").upper() != "NATURAL" or merged is None
            items.append(item)
        above += within

    def _filled_up(self, join: exp.Expression, items: list[FromItem], scope: Ctes) -> None:
        """`LEFT JOIN (… JOIN …) ON …`: what holds within, and what ON says of one of them, holds for its rows there."""
        joined: list[FromItem] = []
        within: list[exp.Expression] = []
        self._entry(join.this, joined, within, scope)
        within += conjuncts(simplified(join.args["on"]))
        for each in joined:
            if not each.nullable:
                each.nullable = True
                each.own += [condition for condition in within if aliases_in(condition) <= {each.alias}]
        items += joined

    def _item(self, node: exp.Expression, scope: Ctes) -> FromItem:
        """One entry of FROM, with what it gives out."""
        alias_node = node.args.get("alias")
        renamed = tuple(folded(part) for part in (alias_node.args.get("columns") or ())) if alias_node else ()
        alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
        if isinstance(node, exp.Lateral):
            return FromItem(
                node, alias, None, query=node.this if isinstance(node.this, exp.Subquery) else None, renamed=renamed
            )
        if isinstance(node, exp.Subquery):
            if isinstance(node.this, exp.Table):  # joins in parentheses: read without conditions from outside
                return FromItem(node, alias, None, is_opaque=True)
            names = self._output_names(node.this, scope)
            columns = renamed_columns(names, renamed)
            types = self._types(node.this, scope, renamed)
            return FromItem(node, alias, columns, query=node.this, renamed=renamed, types=types)
        if not isinstance(node, exp.Table) or not isinstance(node.this, exp.Identifier):
            columns = renamed or None
            return FromItem(node, alias, columns)
        self.seen.append(node)
        alias = alias or folded(node.this)
        bare = folded(node.this)
        if not node.args.get("db") and bare in scope:
            return self._cte_item(node, alias, renamed, scope[bare])
        name = self.table_name(node)
        if name is None:
            return FromItem(node, alias, None)
        if name in self.schema.views:
            query = parse(self.schema.views[name])
            names = self._output_names(query, {}) if query is not None else None
            types = {} if query is None else self._types(query, {}, renamed)
            return FromItem(
                node, alias, renamed_columns(names, renamed), query=query, renamed=renamed, scope={}, types=types
            )
        columns = tuple(self.schema.tables[name])
        return FromItem(node, alias, renamed_columns(columns, renamed), table=name, renamed=renamed)

    def _cte_item(self, node: exp.Expression, alias: str, renamed: tuple[str, ...], cte: Cte) -> FromItem:
        alias_columns = cte.node.args["alias"].args.get("columns") or ()
        renamed = renamed or tuple(map(folded, alias_columns))
        columns = renamed_columns(self._output_names(cte.node.this, cte.scope), renamed)
        if cte.is_taken:
            return FromItem(node, alias, columns)
        # One that is never materialized is read anew wherever it is named.
        cte.is_taken = cte.node.args.get("materialized") is not False
        return FromItem(
            node,
            alias,
            columns,
            query=cte.node.this,
            renamed=renamed or tuple(map(folded, alias_columns)),
            scope=cte.scope,
            types=self._types(cte.node.this, cte.scope, renamed),
        )

    def _types(self, node: exp.Expression, scope: Ctes, renamed: Sequence[str] = ()) -> dict[str, str]:
        """The types of a query's output columns, of those that are columns of a table."""
        while isinstance(node, exp.Subquery | exp.Paren):
            node = node.this
        if isinstance(node, exp.SetOperation):
            left, right = (self._types(cast(exp.Expression, side), scope) for side in (node.left, node.right))
            found = {name: kind for name, kind in left.items() if list(right.values()) == list(left.values())}
        elif isinstance(node, exp.Select):
            found = self._types_of_select(node, scope)
        else:
            found = {}
        names = [*renamed, *list(found)[len(renamed) :]] if len(renamed) <= len(found) else list(found)
        return dict(zip(names, found.values(), strict=True))

    def _types_of_select(self, node: exp.Select, scope: Ctes) -> dict[str, str]:
        shown = outputs(node, self._sources(node, scope))
        by_alias: dict[str, dict[str, str]] = {}
        for entry in _entries(node):
            alias_node = entry.args.get("alias")
            alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
            if isinstance(entry, exp.Subquery) and not isinstance(entry.this, exp.Table):
                by_alias[alias] = self._types(entry.this, scope)
            elif isinstance(entry, exp.Table) and isinstance(entry.this, exp.Identifier):
                bare = folded(entry.this)
                cte = None if entry.args.get("db") else scope.get(bare)
                name = self.table_name(entry)
                if cte is not None:
                    by_alias[alias or bare] = self._types(cte.node.this, cte.scope)
                elif name is not None and name in self.schema.tables:
                    by_alias[alias or bare] = {
                        column: each.kind.value if each.kind is Kind.INTEGER else each.type_name
                        for column, each in self.schema.tables[name].items()
                    }
        found: dict[str, str] = {}
        for shown_name, expression in shown or ():
            found[shown_name] = ""
            if isinstance(expression, exp.Column) and isinstance(expression.this, exp.Identifier):
                table, column = expression.args.get("table"), folded(expression.this)
                kinds = [
                    types[column]
                    for alias, types in by_alias.items()
                    if column in types and (table is None or alias == folded(table))
                ]
                found[shown_name] = kinds[0] if len(set(kinds)) == 1 else ""
        return found

    def _output_names(self, node: exp.Expression, scope: Ctes) -> tuple[str, ...] | None:
        """The names of a query's output columns, `*` spelled out; None when one is not known."""
        while isinstance(node, exp.Subquery | exp.SetOperation | exp.Paren):
            node = node.this
        if not isinstance(node, exp.Select):
            return None
        shown = outputs(node, self._sources(node, scope))
        return tuple(name for name, _ in shown) if shown is not None else None

    def _sources(self, node: exp.Select, scope: Ctes) -> list["Source"]:
        """What the entries of FROM give out, before anything is read of them."""
        return [self._source(entry, scope) for entry in _entries(node)]

    def _source(self, node: exp.Expression, scope: Ctes) -> "Source":
        alias_node = node.args.get("alias")
        renamed = tuple(folded(part) for part in (alias_node.args.get("columns") or ())) if alias_node else ()
        alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
        names: tuple[str, ...] | None = None
        if isinstance(node, exp.Subquery):
            names = None if isinstance(node.this, exp.Table) else self._output_names(node.this, scope)
        elif isinstance(node, exp.Table) and isinstance(node.this, exp.Identifier):
            bare = folded(node.this)
            alias = alias or bare
            cte = None if node.args.get("db") else scope.get(bare)
            name = self.table_name(node)
            if cte is not None:
                inner = tuple(map(folded, cte.node.args["alias"].args.get("columns") or ()))
                names = renamed_columns(self._output_names(cte.node.this, cte.scope), inner)
            elif name is not None and name in self.schema.tables:
                names = tuple(self.schema.tables[name])
            elif name is not None:
                view = parse(self.schema.views[name])
                names = self._output_names(view, {}) if view is not None else None
        return alias, renamed_columns(names, renamed)

    def _pulled_up(self, items: list[FromItem], above: Sequence[exp.Expression], scope: Ctes) -> list[exp.Expression]:
        """The conditions of a block once sub-queries are dissolved in it; their tables join the entries of FROM."""
        waiting, found = list(above), list[exp.Expression]()
        shown: dict[int, Mapping[str, exp.Expression]] = {}
        for item in [each for each in items if simple_lateral(each) is not None]:
            if (dissolved := self._dissolved_lateral(item, items, scope)) is not None:
                conditions, shown[id(item)] = dissolved
                waiting += conditions
        if shown:
            waiting = [with_constants(each, items, shown) for each in waiting]
            for item in items:
                item.own = [with_constants(each, items, shown) for each in item.own]
            items[:] = [item for item in items if id(item) not in shown]
        while waiting:
            condition = waiting.pop(0)
            if (plain := unfolded(condition)) is not None:
                waiting += plain
                continue
            link = link_of(condition)
            if link is not None and may_be_volatile(link.select, self.schema.volatile):
                link = None  # convert_EXISTS_sublink_to_join and its like leave it
            more = None if link is None or len(items) > _MOST_JOINED else self._dissolved(link, items, scope)
            if more is None:
                found += conjuncts(simplified(condition))
            else:
                waiting += more
        constants = {
            id(item): given
            for item in items
            if not item.nullable and item.table is None and (given := constants_of(item)) is not None
        }
        if not constants:
            return found
        for item in items:
            item.own = [with_constants(each, items, constants) for each in item.own]
        return [with_constants(each, items, constants) for each in found]

    def _dissolved_lateral(
        self, item: FromItem, items: list[FromItem], scope: Ctes
    ) -> tuple[list[exp.Expression], Mapping[str, exp.Expression]] | None:
        """The conditions of LATERAL (…), and what its output columns stand for; its tables join the entries."""
        select = simple_lateral(item)
        assert select is not None
        before = len(self.seen)
        inner, above = self._items(select, scope)
        above += where_of(select)
        given = outputs(select, [(each.alias, each.columns) for each in inner])
        names = Qualifier(inner)
        try:
            if given is None or any(each.is_opaque or each.nullable for each in inner):
                raise Uncertain
            shown = {name: names.qualified(expression) for name, expression in given}
            conditions = [names.qualified(each) for each in above]
            own = [[names.qualified(each) for each in entry.own] for entry in inner]
        except Uncertain:
            del self.seen[before:]
            return None
        names.rename()
        for entry, renamed in zip(inner, own, strict=True):
            entry.own, entry.block = renamed, select
        items += inner
        self.seen.append(select)
        self._sub_queries_of(select.args.get("expressions"), scope)
        return conditions, shown

    def _dissolved(self, link: Link, items: list[FromItem], scope: Ctes) -> list[exp.Expression] | None:
        """The conditions of a sub-query that becomes a join, its tables among the entries. None where it stays."""
        before = len(self.seen)
        inner, above = self._items(link.select, scope)
        above += where_of(link.select)
        names = Qualifier(inner)
        conditions: list[exp.Expression] | None = None
        try:
            outputs = [names.qualified(each.unalias()) for each in link.select.expressions] if link.pairs else []
            conditions = [names.qualified(each) for each in above]
            own = [[names.qualified(each) for each in item.own] for item in inner]
        except Uncertain:
            pass
        may_be_anti = len(inner) == 1 and inner[0].table is not None
        if conditions is None or (link.is_anti and not may_be_anti) or any(item.is_opaque for item in inner):
            del self.seen[before:]
            return None
        names.rename()
        for item, renamed in zip(inner, own, strict=True):
            item.own, item.block = renamed, link.select
        items += inner
        self.seen.append(link.select)
        self._sub_queries_of(link.select.args.get("expressions"), scope)
        if link.is_anti:
            inner[0].nullable, inner[0].is_anti = True, True
            inner[0].own += conditions
            return []
        return [
            *conditions,
            *(exp.EQ(this=one.copy(), expression=other) for one, other in zip(link.pairs, outputs, strict=True)),
        ]

    def _block(self, items: list[FromItem], above: list[exp.Expression], scope: Ctes, node: exp.Expression) -> None:
        """Hands every entry of FROM the conditions that hold for it."""
        for item in items:
            # An outer join whose rows with NULLs the block throws away is an inner one (reduce_outer_joins).
            if item.nullable and not item.is_anti and any(rejects_null(each, item.alias) for each in above):
                item.nullable = False
                above += [condition for condition in item.own if condition not in above]
        # So is a FULL JOIN that throws them away on both sides.
        for before, joined, on in self.full:
            if not any(joined is item for item in items):
                continue
            if not any(item.nullable for item in (*before, joined)):
                above += [condition for condition in on if condition not in above]
            elif not joined.nullable:  # a RIGHT JOIN by now, or a LEFT JOIN: ON filters the side that may be missing
                for each in before:
                    each.own += on
            elif not any(item.nullable for item in before):
                joined.own += on
        _state_on_both(above, items)
        derived = self.equalities.derived(above, items)
        self.equalities.note_rivals(above, items)
        partners: list[tuple[int, tuple[Name, Pattern]]] = []
        for item in items:
            # What names no column holds for the block as a whole, whatever an outer join does.
            held = [condition for condition in above if not item.nullable or not condition.find(exp.Column)]
            stated = [each for each in (*item.own, *held) if not self.equalities.is_rival(each, items)]
            conditions = [*stated, *derived.get(id(item), ())]
            if item.is_opaque:
                self._opaque(item, scope)
            elif item.query is not None:
                outer = [
                    bare for condition in conditions if (bare := without_alias(condition, item, items)) is not None
                ]
                if not is_dissolved(item.query):
                    outer = [since(each, 18) if isinstance(each, Agree) else each for each in outer]
                self.query(item.query, item.renamed, scope if item.scope is None else item.scope, outer)
            elif item.table is not None:
                self._place(item, items, conditions, node)
                if not item.nullable:
                    partners.append((len(self.places) - 1, (item.table, self.places[-1].pattern)))
            else:
                self._sub_queries(item.node, scope, skip_self=True)
        for place, _ in partners if len(partners) > 1 else ():
            others = tuple(partner for other, partner in partners if other != place)
            self.places[place] = replace(self.places[place], partners=others)

    def _opaque(self, item: FromItem, scope: Ctes) -> None:
        for table in item.node.find_all(exp.Table):
            if isinstance(table.this, exp.Identifier):
                inner = self._item(table, scope)
                if inner.table is not None:
                    self.places.append(TableOccurrence(inner.table, inner.alias, AllOf(())))
                elif inner.query is not None:
                    self.query(inner.query, inner.renamed, scope, ())
        self._sub_queries(item.node, scope, skip_self=True)

    def _place(
        self, item: FromItem, items: list[FromItem], conditions: list[exp.Expression], node: exp.Expression
    ) -> None:
        assert item.table is not None
        columns = self.schema.tables[item.table]
        names = dict(zip(item.renamed, columns, strict=False)) if item.renamed else {name: name for name in columns}

        def is_own(column: exp.Column) -> KeyColumn | None:
            if not isinstance(column.this, exp.Identifier) or resolve(column, items) is not item:
                return None
            return columns.get(names.get(folded(column.this), ""))

        def may_be_own(column: exp.Column) -> bool:
            return not column.table and resolve(column, items) is None

        reading = Reading(is_own, may_be_own, self.may_be_unknown)
        pattern: Pattern = AllOf(tuple(reading.read(condition) for condition in conditions))
        if item.node.args.get("only"):
            pattern = AnyOf(())  # the table itself, which holds no rows, and none of its partitions
        if item.block is not None:
            self.places.append(TableOccurrence(item.table, item.alias, pattern))
            return
        ordered, limit = _order_and_limit(node, [each for each in items if each.block is None], is_own)
        self.places.append(
            TableOccurrence(
                item.table, item.alias, pattern, ordered, limit, (), _wanted(node, is_own), _is_counted(node)
            )
        )

    def _sub_queries_of(self, part: Any, scope: Ctes) -> None:
        for node in part if isinstance(part, list) else [part]:
            if isinstance(node, exp.Expression):
                self._sub_queries(node, scope)

    def _sub_queries(self, node: exp.Expression, scope: Ctes, skip_self: bool = False) -> None:
        """Queries within expressions, each read on its own: what comes from outside is known only while it runs."""
        waiting: list[Any] = [node] if not skip_self else list(node.iter_expressions())
        while waiting:
            each = waiting.pop()
            if isinstance(each, exp.Select | exp.SetOperation):
                if not any(each is done for done in self.seen):
                    self.seen.append(each)
                    self.query(each, (), scope, ())
            else:
                waiting += list(each.iter_expressions())


def _entries(node: exp.Select) -> list[exp.Expression]:
    """The entries of FROM in their order, those within parentheses too."""
    from_ = node.args.get("from_") or node.args.get("from")
    found: list[exp.Expression] = []
    waiting = [] if from_ is None else [from_.this]
    waiting += [join.this for join in node.args.get("joins") or ()]
    while waiting:
        each = waiting.pop(0)
        inner = _in_parentheses(each)
        waiting = [join.this for join in each.args.get("joins") or ()] + waiting
        if inner is None:
            found.append(each)
        else:
            waiting.insert(0, inner)
    return found


def _is_left_on(join: exp.Expression) -> bool:
    is_left = str(join.args.get("side") or "").upper() == "LEFT" and join.args.get("on") is not None
    return is_left and not join.args.get("method") and not join.args.get("using")


def _is_constant(node: exp.Expression) -> bool:
    """Whether a condition has one truth, whatever the row."""
    return isinstance(simplified(node), exp.Boolean) or node.find(exp.Column, exp.Query) is None


def _in_parentheses(node: exp.Expression) -> exp.Expression | None:
    """The first entry of joins that stand in parentheses without a name of their own."""
    if isinstance(node, exp.Subquery) and isinstance(node.this, exp.Table) and node.args.get("alias") is None:
        inner: exp.Expression = node.this
        return inner
    return None


def _merged_names(join: exp.Expression, items: Sequence[FromItem], item: FromItem) -> list[str] | None:
    """The columns that USING or NATURAL merges. None where they are not all known."""
    if join.args.get("using"):
        return [folded(part) for part in join.args["using"]]
    if str(join.args.get("method") or "").upper() != "NATURAL":
        return []
    if item.columns is None or any(each.columns is None for each in items):
        return None
    shown = {name for each in items for name in each.columns or () if name not in each.hidden}
    return [name for name in item.columns if name in shown]


def _using(merged: Sequence[str] | None, items: Sequence[FromItem], item: FromItem, side: str) -> list[exp.Expression]:
    """USING (c) as equalities. A merged name then means the column of the side that always has rows.

    Of FULL JOIN it is the one or the other: neither entry's alone (and both, beside a constant: `_stated_on_both`).
    """
    found: list[exp.Expression] = []
    for name in merged or ():
        holders = [each for each in items if (each.columns is None or name in each.columns) and name not in each.hidden]
        if len(holders) != 1:
            for each in holders:
                each.hidden.add(name)
            item.hidden.add(name)
            continue
        part = exp.to_identifier(name, quoted=True)
        found.append(exp.EQ(this=column_of(part, holders[0].alias), expression=column_of(part, item.alias)))
        if side in ("RIGHT", "FULL"):
            holders[0].hidden.add(name)
        if side == "FULL":
            item.merged_with[name] = holders[0]
        if side != "RIGHT":
            item.hidden.add(name)
    return found


def _state_on_both(above: Sequence[exp.Expression], items: Sequence[FromItem]) -> None:
    """`merged = constant` above a FULL JOIN holds on both of its sides (reconsider_full_join_clause, equivclass.c)."""
    for condition in above:
        if not isinstance(condition, exp.EQ):
            continue
        for side, other in ((condition.left, condition.right), (condition.right, condition.left)):
            if (
                not isinstance(side, exp.Column)
                or side.args.get("table") is not None
                or other.find(exp.Column, exp.Query)
            ):
                continue
            name = folded(side.this) if isinstance(side.this, exp.Identifier) else ""
            for item in items:
                for each in (item, item.merged_with[name]) if name in item.merged_with else ():
                    part = exp.to_identifier(name, quoted=True)
                    each.own.append(exp.EQ(this=column_of(part, each.alias), expression=other.copy()))


def _order_and_limit(
    node: exp.Expression, items: Sequence[FromItem], is_own: Any
) -> tuple[tuple[str, ...], exp.Expression | None]:
    """ORDER BY and LIMIT of a block that reads one table, without grouping."""
    if not isinstance(node, exp.Select) or len(items) != 1 or node.args.get("group") or node.args.get("distinct"):
        return (), None
    if any(True for each in node.expressions for _ in each.find_all(exp.AggFunc, exp.Window)):
        return (), None
    limit = node.args.get("limit")
    asked = limit.args.get("expression") or limit.args.get("count") if limit is not None else None
    order = node.args.get("order")
    names: list[str] = []
    for each in order.expressions if order is not None else ():
        own = is_own(each.this) if isinstance(each.this, exp.Column) else None
        if own is None:
            break
        names.append(own.name or "")
    if order is not None and len(names) < len(order.expressions):
        asked = None  # the rest must be sorted before rows can be counted
    return tuple(names), asked


def _is_counted(node: exp.Expression) -> bool:
    if not isinstance(node, exp.Select):
        return False
    return bool(node.args.get("group")) or any(True for each in node.expressions for _ in each.find_all(exp.AggFunc))


def _wanted(node: exp.Expression, is_own: Any) -> frozenset[str] | None:
    """The table's columns that a block reads; None for all."""
    for each in getattr(node, "expressions", ()):
        inner = each.this if isinstance(each, exp.Alias) else each
        if isinstance(inner, exp.Star) or (isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)):
            return None
    names = set()
    for column in node.find_all(exp.Column):
        own = is_own(column)
        if own is not None:
            names.add(own.name or "")
    return frozenset(names)
