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

from slabrow.core.conditions import AllOf, AnyOf, Pattern, Reading
from slabrow.core.constants import MARKED_NUMBER
from slabrow.core.keys import Kind
from slabrow.core.names import Name
from slabrow.core.parsed import parse, parse_anew
from slabrow.core.rivalry import rivalry
from slabrow.core.tree import KeyColumn

Columns = Mapping[str, KeyColumn]


@dataclass(frozen=True, slots=True)
class Schema:
    """The columns of the tables that statements name, and the queries of the views.

    search_path   the schemas in which a name without one is looked for
    """

    tables: Mapping[Name, Columns]
    search_path: tuple[str, ...] = ("public",)
    views: Mapping[Name, str] = field(default_factory=dict)

    def types_by_name(self) -> dict[str, frozenset[str]]:
        """The types that columns of each name have, in lower case, over all tables."""
        found: dict[str, set[str]] = {}
        for columns in self.tables.values():
            for name, column in columns.items():
                kind = column.kind.value if column.kind is Kind.INTEGER else column.type_name
                found.setdefault(name.lower(), set()).add(kind)
        return {name: frozenset(types) for name, types in found.items()}

    def find(self, name: Name) -> Name | None:
        """The table that a name in a statement means; None when it is not known."""
        if name.schema is not None:
            return name if name in self.tables or name in self.views else None
        for schema in self.search_path:
            full = Name(schema, name.table)
            if full in self.tables or full in self.views:
                return full
        return None


@dataclass(frozen=True, slots=True)
class Place:
    """One place at which a statement reads a table.

    pattern   what holds for every row that is read there
    ordered   the columns that ORDER BY begins with, when the block reads this table alone
    descending  whether the order is downwards
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
class Statement:
    """What a statement reads. kind: `select`, `insert`, `update`, `delete`, `merge`.

    target    the table that INSERT writes into
    changed   the columns that UPDATE sets
    is_settled  whether it is known which constants its columns are compared with as it is planned
    """

    kind: str
    places: tuple[Place, ...]
    target: Name | None = None
    changed: frozenset[str] = frozenset()
    is_settled: bool = True


def read_statement(sql: str, schema: Schema, literals: tuple[str, ...] = ()) -> Statement | None:
    """The places of every known table in a statement; None when it is not understood.

    literals   of one run, where the statement is a marked shape: GROUP BY 1 means a column, and has to stay
    A statement that is understood in part has its other places with a pattern that keeps everything.
    """
    parsed = parse_anew(sql) if literals else parse(sql)
    if parsed is None:
        return None
    try:
        texts = (sql, *schema.views.values())
        may_be_unknown = any("unknown" in text.lower() for text in texts)
        return _statement(_with_places(parsed, literals), schema, may_be_unknown)
    except RecursionError:
        return None


def _with_places(parsed: exp.Expression, literals: tuple[str, ...]) -> exp.Expression:
    """With the numbers of GROUP BY 1 and ORDER BY 1 put back where they were marked."""
    for clause in parsed.find_all(exp.Group, exp.Order) if literals else ():
        for node in list(clause.find_all(exp.Literal)):
            number = int(node.this) - MARKED_NUMBER if str(node.this).isdigit() else -1
            if 0 <= number < len(literals):
                node.set("this", literals[number])
    return parsed


def _statement(parsed: exp.Expression, schema: Schema, may_be_unknown: bool) -> Statement:
    views = (view for text in schema.views.values() if (view := parse(text)) is not None)
    rivals = rivalry((parsed, *views), schema.types_by_name())
    walk = _Walk(schema, may_be_unknown, contested=rivals.contested, equated=_equated(parsed))
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
            walk.places.append(Place(name, node.alias_or_name, AllOf(())))
    sets = parsed.expressions if isinstance(parsed, exp.Update) else ()
    changed = frozenset(folded(each.left.this) for each in sets if isinstance(each.left, exp.Column))
    return Statement(kind, tuple(walk.places), target, changed, rivals.is_settled)


def _equated(parsed: exp.Expression) -> dict[str, set[str]]:
    """The texts of the constants that columns of each name equal, in any block."""
    found: dict[str, set[str]] = {}
    for node in parsed.find_all(exp.EQ):
        for side, other in ((node.left, node.right), (node.right, node.left)):
            if isinstance(side, exp.Column) and isinstance(side.this, exp.Identifier) and not other.find(exp.Column):
                found.setdefault(folded(side.this), set()).add(other.sql())
    return found


def _is_literal(text: str) -> bool:
    return text[:1] == "'" or text[:1].isdigit()


def _is_target(node: exp.Table, parsed: exp.Expression) -> bool:
    if not isinstance(parsed, exp.Insert):
        return False
    return node is parsed.this or (isinstance(parsed.this, exp.Schema) and node is parsed.this.this)


def folded(part: exp.Identifier) -> str:
    """The name that an identifier means: in lower case unless it is quoted."""
    return part.name if part.args.get("quoted") else part.name.lower()


@dataclass(slots=True)
class _Item:
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
    scope: "_Ctes | None" = None  # of the query, where it is not that of the block


_Ctes = dict[str, "_Cte"]
_Member = tuple[int, str, str]  # the id of an entry of FROM, a column, its type


@dataclass(slots=True)
class _Cte:
    node: exp.CTE
    scope: _Ctes
    uses: int
    is_taken: bool = False

    @property
    def may_be_inlined(self) -> bool:
        materialized = self.node.args.get("materialized")
        return (materialized is False) or (materialized is None and self.uses == 1)


def _names_cte(table: exp.Table, name: str) -> bool:
    return isinstance(table.this, exp.Identifier) and folded(table.this) == name and not table.args.get("db")


@dataclass(slots=True)
class _Walk:
    schema: Schema
    may_be_unknown: bool = False
    places: list[Place] = field(default_factory=list)
    seen: list[exp.Expression] = field(default_factory=list)
    equated: dict[str, set[str]] = field(
        default_factory=dict
    )  # column names with the constants that they equal anywhere
    contested: frozenset[str] = frozenset()  # names of columns of which no equality is sure to be used
    rivals: set[_Member] = field(default_factory=set)  # columns equal to several constants: one of them is used
    full: list[tuple[tuple[_Item, ...], _Item, list[exp.Expression]]] = field(default_factory=list)  # FULL JOINs

    def table_name(self, node: exp.Table) -> Name | None:
        if not isinstance(node.this, exp.Identifier):
            return None
        schema = node.args.get("db")
        return self.schema.find(Name(folded(schema) if schema else None, folded(node.this)))

    def with_ctes(self, node: exp.Expression, scope: _Ctes) -> _Ctes:
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
            inner[name] = _Cte(cte, dict(inner), 99 if with_.args.get("recursive") else uses)
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

    def _body(self, cte: _Cte) -> None:
        body = cte.node.this
        if isinstance(body, exp.Update | exp.Delete):
            self.change(body, cte.scope)
        elif isinstance(body, exp.Query):
            self.query(cast(exp.Expression, body), (), cte.scope, ())

    def query(self, node: exp.Expression, names: Sequence[str], scope: _Ctes, outer: Sequence[exp.Expression]) -> None:
        """A SELECT, a set operation or a query in parentheses.

        names   the names of its output columns where an alias gives them
        outer   conditions on the output, with columns named by output column and no table
        """
        scope = self.with_ctes(node, scope)
        match node:
            case exp.Subquery() | exp.Paren():
                inner_limit = node.args.get("limit") or node.args.get("offset")
                self.query(node.this, names, scope, _without_columns(outer) if inner_limit else outer)
            case exp.SetOperation():
                blocked = isinstance(node, exp.Except) or node.args.get("limit") or node.args.get("offset")
                names = names or self._output_names(node, scope) or ()
                for side in (node.left, node.right):
                    passed = _without_columns(outer) if blocked or not names else _settled(outer)
                    self.query(cast(exp.Expression, side), names, scope, passed)
            case exp.Select():
                self.select(node, names, scope, outer)
            case exp.Table():
                self.select(exp.select("*").from_(node, copy=False), names, scope, outer)
            case _:
                self._sub_queries(node, scope)

    def select(self, node: exp.Select, names: Sequence[str], scope: _Ctes, outer: Sequence[exp.Expression]) -> None:
        items, above = self._items(node, scope)
        where = node.args.get("where")
        above += conjuncts(where.this) if where is not None else []
        above += _moved_from_having(node)
        above += _pushed_down(node, names, outer, [(item.alias, item.columns) for item in items])
        self._block(items, above, scope, node)
        for part in ("expressions", "where", "having", "qualify", "order", "limit", "group"):
            self._sub_queries_of(node.args.get(part), scope)
        for item in items:
            for condition in item.own:
                self._sub_queries(condition, scope)
        for join in node.args.get("joins") or ():
            if join.args.get("on") is not None:
                self._sub_queries(join.args["on"], scope)

    def change(self, node: exp.Expression, scope: _Ctes | None = None) -> None:
        """UPDATE … FROM and DELETE … USING: the target is read too."""
        scope = self.with_ctes(node, scope or {})
        items: list[_Item] = []
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

    def _items(self, node: exp.Select, scope: _Ctes) -> tuple[list[_Item], list[exp.Expression]]:
        above: list[exp.Expression] = []
        items: list[_Item] = []
        from_ = node.args.get("from_") or node.args.get("from")
        if from_ is not None:
            items.append(self._item(from_.this, scope))
            self._joined(from_.this.args.get("joins") or (), items, above, scope)
        self._joined(node.args.get("joins") or (), items, above, scope)
        for lateral in node.args.get("laterals") or ():
            items.append(self._item(lateral, scope))
        return items, above

    def _joined(
        self, joins: Sequence[exp.Expression], items: list[_Item], above: list[exp.Expression], scope: _Ctes
    ) -> None:
        """Adds the entries of a chain of joins; `above` takes the conditions that hold for all that is not nullable."""
        within: list[exp.Expression] = []  # what holds since the last comma: JOIN binds more closely
        first = 0
        for join in joins:
            item = self._item(join.this, scope)
            on = conjuncts(join.args["on"]) if join.args.get("on") is not None else []
            on += _using(join, items, item)
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
                        each.own += [condition for condition in within if _names(condition) <= {each.alias}]
                    within = []
                    item.nullable = side == "FULL"
                    if side == "FULL":
                        self.full.append((tuple(before), item, on))
                case _:
                    within += on
            if str(join.args.get("kind") or "").upper() == "SEMI" or join.args.get("method"):
                item.is_opaque = str(join.args.get("method") or "").upper() != "NATURAL"
            items.append(item)
        above += within

    def _item(self, node: exp.Expression, scope: _Ctes) -> _Item:
        """One entry of FROM, with what it gives out."""
        alias_node = node.args.get("alias")
        renamed = tuple(folded(part) for part in (alias_node.args.get("columns") or ())) if alias_node else ()
        alias = folded(alias_node.this) if alias_node is not None and alias_node.this is not None else ""
        if isinstance(node, exp.Lateral):
            return _Item(
                node, alias, None, query=node.this if isinstance(node.this, exp.Subquery) else None, renamed=renamed
            )
        if isinstance(node, exp.Subquery):
            if isinstance(node.this, exp.Table):  # joins in parentheses: read without conditions from outside
                return _Item(node, alias, None, is_opaque=True)
            names = self._output_names(node.this, scope)
            columns = _renamed(names, renamed)
            return _Item(node, alias, columns, query=node.this, renamed=renamed)
        if not isinstance(node, exp.Table) or not isinstance(node.this, exp.Identifier):
            columns = renamed or None
            return _Item(node, alias, columns)
        self.seen.append(node)
        alias = alias or folded(node.this)
        bare = folded(node.this)
        if not node.args.get("db") and bare in scope:
            return self._cte_item(node, alias, renamed, scope[bare])
        name = self.table_name(node)
        if name is None:
            return _Item(node, alias, None)
        if name in self.schema.views:
            query = parse(self.schema.views[name])
            names = self._output_names(query, {}) if query is not None else None
            return _Item(node, alias, _renamed(names, renamed), query=query, renamed=renamed, scope={})
        columns = tuple(self.schema.tables[name])
        return _Item(node, alias, _renamed(columns, renamed), table=name, renamed=renamed)

    def _cte_item(self, node: exp.Expression, alias: str, renamed: tuple[str, ...], cte: _Cte) -> _Item:
        alias_columns = cte.node.args["alias"].args.get("columns") or ()
        renamed = renamed or tuple(map(folded, alias_columns))
        columns = _renamed(self._output_names(cte.node.this, cte.scope), renamed)
        if cte.is_taken:
            return _Item(node, alias, columns)
        # One that is never materialized is read anew wherever it is named.
        cte.is_taken = cte.node.args.get("materialized") is not False
        return _Item(
            node,
            alias,
            columns,
            query=cte.node.this,
            renamed=renamed or tuple(map(folded, alias_columns)),
            scope=cte.scope,
        )

    def _output_names(self, node: exp.Expression, scope: _Ctes) -> tuple[str, ...] | None:
        """The names of a query's output columns, `*` spelled out; None when one is not known."""
        while isinstance(node, exp.Subquery | exp.SetOperation | exp.Paren):
            node = node.this
        if not isinstance(node, exp.Select):
            return None
        shown = outputs(node, self._sources(node, scope))
        return tuple(name for name, _ in shown) if shown is not None else None

    def _sources(self, node: exp.Select, scope: _Ctes) -> list["_Source"]:
        """What the entries of FROM give out, before anything is read of them."""
        from_ = node.args.get("from_") or node.args.get("from")
        entries = [] if from_ is None else [from_.this, *(join.this for join in from_.this.args.get("joins") or ())]
        entries += [join.this for join in node.args.get("joins") or ()]
        return [self._source(entry, scope) for entry in entries]

    def _source(self, node: exp.Expression, scope: _Ctes) -> "_Source":
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
                names = _renamed(self._output_names(cte.node.this, cte.scope), inner)
            elif name is not None and name in self.schema.tables:
                names = tuple(self.schema.tables[name])
            elif name is not None:
                view = parse(self.schema.views[name])
                names = self._output_names(view, {}) if view is not None else None
        return alias, _renamed(names, renamed)

    def _block(self, items: list[_Item], above: list[exp.Expression], scope: _Ctes, node: exp.Expression) -> None:
        """Hands every entry of FROM the conditions that hold for it."""
        for item in items:
            # An outer join whose rows with NULLs the block throws away is an inner one (reduce_outer_joins).
            if item.nullable and any(_rejects_null(condition, item.alias) for condition in above):
                item.nullable = False
                above += [condition for condition in item.own if condition not in above]
        # So is a FULL JOIN that throws them away on both sides.
        for before, joined, on in self.full:
            if any(joined is item for item in items) and not any(item.nullable for item in (*before, joined)):
                above += [condition for condition in on if condition not in above]
        derived = self._derived(above, items)
        self.rivals |= self._rivals_of_sub_queries(above, items) | self._rivals_of_joined_queries(above, items)
        partners: list[tuple[int, tuple[Name, Pattern]]] = []
        for item in items:
            # What names no column holds for the block as a whole, whatever an outer join does.
            held = [condition for condition in above if not item.nullable or not condition.find(exp.Column)]
            stated = [each for each in (*item.own, *held) if not self._is_rival(each, items)]
            conditions = [*stated, *derived.get(id(item), ())]
            if item.is_opaque:
                self._opaque(item, scope)
            elif item.query is not None:
                outer = [
                    bare
                    for condition in conditions
                    if (bare := _without_alias(condition, item, items, self._resolve)) is not None
                ]
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

    def _opaque(self, item: _Item, scope: _Ctes) -> None:
        for table in item.node.find_all(exp.Table):
            if isinstance(table.this, exp.Identifier):
                inner = self._item(table, scope)
                if inner.table is not None:
                    self.places.append(Place(inner.table, inner.alias, AllOf(())))
                elif inner.query is not None:
                    self.query(inner.query, inner.renamed, scope, ())
        self._sub_queries(item.node, scope, skip_self=True)

    def _place(self, item: _Item, items: list[_Item], conditions: list[exp.Expression], node: exp.Expression) -> None:
        assert item.table is not None
        columns = self.schema.tables[item.table]
        names = dict(zip(item.renamed, columns, strict=False)) if item.renamed else {name: name for name in columns}

        def is_own(column: exp.Column) -> KeyColumn | None:
            if not isinstance(column.this, exp.Identifier) or self._resolve(column, items) is not item:
                return None
            return columns.get(names.get(folded(column.this), ""))

        def may_be_own(column: exp.Column) -> bool:
            return not column.table and self._resolve(column, items) is None

        reading = Reading(is_own, may_be_own, self.may_be_unknown)
        pattern: Pattern = AllOf(tuple(reading.read(condition) for condition in conditions))
        if item.node.args.get("only"):
            pattern = AnyOf(())  # the table itself, which holds no rows, and none of its partitions
        ordered, limit = _order_and_limit(node, items, is_own)
        self.places.append(
            Place(item.table, item.alias, pattern, ordered, limit, (), _wanted(node, is_own), _is_counted(node))
        )

    def _derived(self, above: Sequence[exp.Expression], items: Sequence[_Item]) -> dict[int, list[exp.Expression]]:
        """`= constant` carried over equal columns, for each entry of FROM by its id.

        Among entries that no outer join fills with NULLs, and from those to one that it does, over its ON
        (equivclass.c, reconsider_outer_join_clauses). Only between columns of one type: others stand in no class.
        """
        if len(items) < 2:
            return {}
        classes: list[set[_Member]] = []
        constants: dict[_Member, list[exp.Expression]] = {}
        for condition in above:
            match self._equality(condition, items):
                case (one, other) if other is not None:
                    touching = [each for each in classes if one in each or other in each]
                    classes = [each for each in classes if each not in touching]
                    classes.append({one, other}.union(*touching))
                case (one, None) if one[1].lower() not in self.contested:
                    constants.setdefault(one, []).append(self._constant_side(condition))
        for each in classes:
            named = [constant for member in sorted(each) for constant in constants.get(member, ())]
            known = list({constant.sql(): constant for constant in named}.values())
            elsewhere = {text for _, name, _ in each for text in self.equated.get(name, ())}
            elsewhere -= {constant.sql() for constant in known}
            if elsewhere and not all(isinstance(constant, exp.Literal) for constant in known):
                # Another block may bring a constant into the class, and which one is used is then not known.
                self.rivals |= each
                for member in each:
                    constants.pop(member, None)
                continue
            self.rivals |= each if len(known) > 1 else set()
            for member in each if known else ():
                constants[member] = known
        found: dict[int, list[exp.Expression]] = {}
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

    def _rivals_of_joined_queries(self, above: Sequence[exp.Expression], items: Sequence[_Item]) -> set[_Member]:
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
        found: set[_Member] = set()
        for condition in above:
            equal = self._equality(condition, items)
            if equal is None or equal[1] is not None:
                continue
            constant = self._constant_side(condition)
            joined = {member for pair in pairs if equal[0] in pair for member in pair if member is not None}
            others = {text for _, name, _ in joined for text in self.equated.get(name, ())}
            others -= {constant.sql()}
            # Literals that differ exclude each other, whichever is used.
            if others and not (isinstance(constant, exp.Literal) and all(map(_is_literal, others))):
                found.add(equal[0])
        return found

    def _rivals_of_sub_queries(self, above: Sequence[exp.Expression], items: Sequence[_Item]) -> set[_Member]:
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
        all_literal = all(isinstance(constant, exp.Literal) for constant in inner)
        found = set()
        for condition in above:
            equal = self._equality(condition, items)
            if equal is None or equal[1] is not None:
                continue
            if not all_literal or not isinstance(self._constant_side(condition), exp.Literal):
                found.add(equal[0])
        return found

    def _is_rival(self, condition: exp.Expression, items: Sequence[_Item]) -> bool:
        """Whether it is one of several `column = constant` of which the server may use another."""
        if not self.rivals and not self.contested:
            return False
        if isinstance(condition, exp.In) and len(condition.expressions) == 1:
            condition = exp.EQ(this=condition.this.copy(), expression=condition.expressions[0].copy())
        equal = self._equality(condition, items)
        if equal is None or equal[1] is not None:
            return False
        return equal[0] in self.rivals or equal[0][1].lower() in self.contested

    def _equality(self, condition: exp.Expression, items: Sequence[_Item]) -> "tuple[_Member, _Member | None] | None":
        """The columns that `=` makes equal, or the one that it gives a constant (None as the second)."""
        if not isinstance(condition, exp.EQ) or isinstance(condition.right, exp.Any | exp.Anonymous):
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

    def _member(self, node: Any, items: Sequence[_Item]) -> "_Member | None":
        if not isinstance(node, exp.Column):
            return None
        item = self._resolve(node, items)
        if item is None:
            return None
        type_name = None
        if item.table is not None and not item.renamed:
            column = self.schema.tables[item.table].get(folded(node.this))
            type_name = (
                None if column is None else column.kind.value if column.kind is Kind.INTEGER else column.type_name
            )
        return id(item), folded(node.this), type_name or ""

    @staticmethod
    def _stated(member: "_Member", items: Sequence[_Item], constants: Sequence[exp.Expression]) -> exp.Expression:
        """`member = constant`; of several constants of one class the server takes one, and does not say which."""
        alias = next(item.alias for item in items if id(item) == member[0])
        name = exp.to_identifier(member[1], quoted=True)
        equal: list[exp.Expression] = [
            exp.EQ(this=_column(name, alias), expression=constant.copy()) for constant in constants
        ]
        stated = equal[0]
        for each in equal[1:]:
            stated = exp.Or(this=stated, expression=each)
        return stated

    @staticmethod
    def _resolve(column: exp.Column, items: Sequence[_Item]) -> "_Item | None":
        """The entry of FROM that a column belongs to; None when it is not certain, or outside this block."""
        if not isinstance(column.this, exp.Identifier):
            return None
        name, table = folded(column.this), column.args.get("table")
        if table is not None:
            found = [item for item in items if item.alias == folded(table)]
            return found[0] if len(found) == 1 else None
        found = [item for item in items if item.columns is not None and name in item.columns]
        unknown = [item for item in items if item.columns is None]
        return found[0] if len(found) == 1 and not unknown else None

    def _sub_queries_of(self, part: Any, scope: _Ctes) -> None:
        for node in part if isinstance(part, list) else [part]:
            if isinstance(node, exp.Expression):
                self._sub_queries(node, scope)

    def _sub_queries(self, node: exp.Expression, scope: _Ctes, skip_self: bool = False) -> None:
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


def _without_columns(conditions: Sequence[exp.Expression]) -> list[exp.Expression]:
    """What holds or does not whatever the rows are: a `false` reaches everything below it."""
    if len(conditions) != 1:
        return []
    return [condition for condition in conditions if isinstance(condition, exp.Boolean | exp.Null)]


_Source = tuple[str, tuple[str, ...] | None]  # an alias, and the names of its columns


def _renamed(names: tuple[str, ...] | None, renamed: tuple[str, ...]) -> tuple[str, ...] | None:
    """Names with the first ones replaced, as `AS x (a, b)` does."""
    if names is None:
        return renamed or None
    return (*renamed, *names[len(renamed) :])


def outputs(node: exp.Select, sources: Sequence[_Source]) -> list[tuple[str, exp.Expression]] | None:
    """The output columns with what gives them; None when `*` of something unknown is among them."""
    found: list[tuple[str, exp.Expression]] = []
    for each in node.expressions:
        inner = each.this if isinstance(each, exp.Alias) else each
        if isinstance(inner, exp.Star) or (isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)):
            wanted = folded(inner.args["table"]) if isinstance(inner, exp.Column) and inner.args.get("table") else None
            for alias, columns in sources:
                if wanted is not None and alias != wanted:
                    continue
                if columns is None:
                    return None
                found += [(name, _column(exp.to_identifier(name, quoted=True), alias)) for name in columns]
            continue
        named = each.args.get("alias") if isinstance(each, exp.Alias) else getattr(inner, "this", None)
        found.append((folded(named) if isinstance(named, exp.Identifier) else each.alias_or_name, inner))
    return found


def conjuncts(node: exp.Expression) -> list[exp.Expression]:
    """The conditions that AND joins, however deep, in their order."""
    found: list[exp.Expression] = []
    waiting: list[Any] = [node]
    while waiting:
        each = waiting.pop()
        while isinstance(each, exp.Paren):
            each = each.this
        if isinstance(each, exp.And):
            waiting += [each.args["expression"], each.this]
        else:
            found.append(each)
    return found


def _using(join: exp.Expression, items: Sequence[_Item], item: _Item) -> list[exp.Expression]:
    """USING (c) as an equality, where only one earlier entry can have the column."""
    found: list[exp.Expression] = []
    for part in join.args.get("using") or ():
        holders = [each for each in items if each.columns is None or folded(part) in each.columns]
        if len(holders) == 1:
            found.append(exp.EQ(this=_column(part, holders[0].alias), expression=_column(part, item.alias)))
    return found


def _column(part: exp.Identifier, alias: str) -> exp.Column:
    return exp.Column(this=part.copy(), table=exp.to_identifier(alias, quoted=True))


def _names(node: exp.Expression) -> set[str]:
    """The aliases that qualify columns; an empty one for a column without."""
    return {folded(column.args["table"]) if column.args.get("table") else "" for column in node.find_all(exp.Column)}


def _moved_from_having(node: exp.Select) -> list[exp.Expression]:
    """Conditions of HAVING without an aggregate hold before grouping too, unless there are grouping sets."""
    having, group = node.args.get("having"), node.args.get("group")
    if having is None or group is None or any(group.args.get(kind) for kind in ("rollup", "cube", "grouping_sets")):
        return []
    return [each for each in conjuncts(having.this) if not _counts_rows(each)]


def _counts_rows(node: exp.Expression) -> bool:
    return any(True for _ in node.find_all(exp.AggFunc, exp.Window, exp.Select, exp.Anonymous))


def _pushed_down(
    node: exp.Select, names: Sequence[str], outer: Sequence[exp.Expression], sources: Sequence[_Source]
) -> list[exp.Expression]:
    """Conditions on the output as conditions within the block; those that must stay outside are left out."""
    given = None if node.args.get("limit") or node.args.get("offset") or not outer else outputs(node, sources)
    if given is None:
        return _without_columns(outer)
    named = [name for name, _ in given]
    named[: len(names)] = names[: len(named)]
    # A name that stands twice means neither.
    shown = {name: inner for name, (_, inner) in zip(named, given, strict=True) if named.count(name) == 1}
    allowed = _columns_that_may_pass(node)
    is_plain = allowed is None and node.args.get("distinct") is None
    found = []
    for condition in outer if is_plain else _settled(outer):
        inner_condition = _substituted(condition, shown)
        if inner_condition is not None and _may_pass(inner_condition, allowed):
            found.append(inner_condition)
    return found


def _settled(conditions: Sequence[exp.Expression]) -> list[exp.Expression]:
    """Those whose effect within a grouped block is certain.

    Of several equalities of one column it is not known which one gets there; one that is NULL or false by itself
    is no condition of the block, and empties what is around it only where it stands alone (up to PostgreSQL 16).
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
    if isinstance(each, exp.Literal) and not each.is_string and each.this.isdigit():
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


def _without_alias(
    condition: exp.Expression, item: _Item, items: Sequence[_Item], resolve: Any
) -> exp.Expression | None:
    """A condition that names columns of one entry only, with their bare names; what others supply runs later."""
    columns = list(condition.find_all(exp.Column))
    if any(resolve(column, items) is not item for column in columns) or condition.find(exp.Select):
        return None

    def bare(node: exp.Expression) -> exp.Expression:
        return exp.Column(this=node.this.copy()) if isinstance(node, exp.Column) else node

    renamed: exp.Expression = condition.copy().transform(bare)
    return renamed


_STRICT = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Like, exp.ILike, exp.Between, exp.In)


def _rejects_null(condition: exp.Expression, alias: str) -> bool:
    """Whether a row whose columns of this entry are all NULL cannot pass. False where it is not certain."""
    while isinstance(condition, exp.Paren):
        condition = condition.this
    if isinstance(condition, exp.And):
        return any(_rejects_null(cast(exp.Expression, each), alias) for each in (condition.left, condition.right))
    if isinstance(condition, exp.Or):
        return all(_rejects_null(cast(exp.Expression, each), alias) for each in (condition.left, condition.right))
    sides: list[Any] = [condition.this]
    if isinstance(condition, exp.Not) and isinstance(condition.this, exp.Is):
        if not isinstance(condition.this.expression, exp.Null):
            return False
        sides = [condition.this.this]
    elif isinstance(condition, exp.Is):
        if not condition.args.get("negate") or not isinstance(condition.expression, exp.Null):
            return False
    elif isinstance(condition, _STRICT):
        if isinstance(condition, exp.Binary):
            if isinstance(condition.expression, exp.All | exp.Anonymous):
                return False  # of an empty set ALL holds for NULL too
            sides.append(condition.expression)
    else:
        return False
    return any(_is_strict_in(side, alias) for side in sides)


def _is_strict_in(node: Any, alias: str) -> bool:
    while isinstance(node, exp.Paren | exp.Cast | exp.Neg):
        node = node.this
    if isinstance(node, exp.Add | exp.Sub | exp.Mul):
        return _is_strict_in(node.left, alias) or _is_strict_in(node.right, alias)
    return isinstance(node, exp.Column) and node.args.get("table") is not None and folded(node.args["table"]) == alias


def _order_and_limit(
    node: exp.Expression, items: Sequence[_Item], is_own: Any
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
