"""Reads a statement into the places at which it names tables, each with what the server knows of its rows.

What is followed: joins (see sources.py), queries in FROM and views that are merged, conditions pushed into those that
are not (pushdown_cond_for_derived), HAVING moved to WHERE, IN and EXISTS turned into joins (convert_join_subqueries),
and columns that are equal (build_equal_items). A query that stays by itself is read by itself.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import cast

from sqlglot import exp

from slabrow.core.pruning.by_constants.conditions import UNKNOWN, Equals, pattern_of
from slabrow.core.pruning.by_constants.query_parts import (
    OUTPUT,
    Cte,
    NotUnderstood,
    Scope,
    alias_columns,
    as_output,
    bare,
    cross,
    ctes_of,
    gives_value,
    is_correlated_equality,
    is_merged,
    may_be_joined,
    named,
    on_groups,
    only_value,
    outermost_queries,
    output_names,
    parts,
    pushed_into,
    renamed,
    split,
    typed,
)
from slabrow.core.pruning.by_constants.sources import OWN, Joined, Simplified, Source, simplified
from slabrow.core.pruning.key_conditions import NamedLeaves
from slabrow.core.pruning.patterns import AllOf, Pattern
from slabrow.core.pruning.planned_statement import PlannedStatement, TableOccurrence
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.names import Name

_DEEPEST = 40
_MOST_KEPT = 20_000  # statements: every table of a run asks for the same ones


def read_statement(
    sql: str, schema: Schema, literals: tuple[str, ...] = (), answers: Answers | None = None
) -> PlannedStatement | None:
    """None when it is not understood. literals, answers: not needed to read it, and taken for the family's other ways.

    A name without a database is looked for in the schema's search path.
    """
    if len(schema.kept) > _MOST_KEPT:
        schema.kept.clear()
    if sql not in schema.kept:
        schema.kept[sql] = _read(sql, schema)
    found: PlannedStatement | None = schema.kept[sql]
    return found


def _read(sql: str, schema: Schema) -> PlannedStatement | None:
    parsed = parse(sql)
    if parsed is None:
        return None
    reader = _Reader(schema)
    try:
        kind, target = reader.statement(parsed)
    except (NotUnderstood, RecursionError):
        return None
    return PlannedStatement(kind, tuple(reader.places), target)


@dataclass(slots=True)
class _Reader:
    schema: Schema
    places: list[TableOccurrence] = field(default_factory=list)
    count: int = 0
    depth: int = 0

    def statement(self, parsed: exp.Expression) -> tuple[str, Name | None]:
        match parsed:
            case exp.Select() | exp.SetOperation() | exp.Subquery():
                self._query(parsed, [], None, {})
                return "select", None
            case exp.Insert():
                into = parsed.this.this if isinstance(parsed.this, exp.Schema) else parsed.this
                query = parsed.expression
                if isinstance(query, exp.Select | exp.SetOperation | exp.Subquery):
                    ctes = parsed.args.get("with_")
                    self._query(query, [], None, ctes_of(ctes, {}))
                elif not isinstance(query, exp.Values):
                    raise NotUnderstood
                else:
                    self._subqueries(query, Scope(None), {})
                return "insert", self._name(into) if isinstance(into, exp.Table) else None
            case exp.Update() | exp.Delete():
                self._change(parsed)
                return ("update" if isinstance(parsed, exp.Update) else "delete"), None
        raise NotUnderstood

    def _change(self, parsed: exp.Update | exp.Delete) -> None:
        ctes = ctes_of(parsed.args.get("with_"), {})
        scope = Scope(None)
        using = parsed.args.get("using")
        items = using if using else [parsed.this]
        joined: Joined | None = None
        for item in items:
            joined = cross(joined, self._item(item, scope, None, ctes))
        where = parsed.args.get("where")
        is_single = joined is not None and joined.source is not None and not parsed.args.get("tables") and not using
        conditions = split(where.this) if where is not None else []
        joined, known = self._conditions(conditions, scope, ctes, joined, joins=not is_single)
        for each in parsed.expressions:
            self._subqueries(each, scope, ctes)
        self._finish(simplified(joined, known), has_classes=not is_single)

    def _query(
        self,
        query: exp.Expression,
        pushed: Sequence[exp.Expression],
        outer: Scope | None,
        ctes: Mapping[str, "Cte"],
    ) -> None:
        """pushed: conditions from outside on the columns of its result, which it takes where it can."""
        self.depth += 1
        if self.depth > _DEEPEST:
            raise NotUnderstood
        while isinstance(query, exp.Subquery):
            if query.args.get("limit") or query.args.get("offset"):
                pushed = ()
            query = query.this
        ctes = ctes_of(query.args.get("with_"), ctes)
        match query:
            case exp.SetOperation():
                if query.args.get("limit") is not None:
                    pushed = ()
                names = output_names(query)
                for side in (query.this, query.expression):
                    self._query(side, renamed(pushed, names, output_names(side)), outer, ctes)
            case exp.Select():
                self._select(query, pushed, outer, ctes)
            case exp.Table():
                raise NotUnderstood
            case exp.Values():
                self._subqueries(query, Scope(outer), ctes)
            case _:
                raise NotUnderstood
        self.depth -= 1

    def _select(
        self,
        select: exp.Select,
        pushed: Sequence[exp.Expression],
        outer: Scope | None,
        ctes: Mapping[str, "Cte"],
    ) -> None:
        scope = Scope(outer)
        joined = self._from(select, scope, outer, ctes)
        outputs = self._outputs(select, scope)
        conditions = split(select.args["where"].this) if select.args.get("where") else []
        joined, known = self._conditions(conditions, scope, ctes, joined, joins=True)
        for each in (
            *select.expressions,
            select.args.get("having"),
            select.args.get("order"),
            select.args.get("group"),
        ):
            if each is not None:
                self._subqueries(each, scope, ctes)
        groups = self._groups(select, scope, outputs)
        if groups is not None and select.args.get("having") is not None:
            for each in split(select.args["having"].this):
                known += on_groups(self._resolved_output(each, scope, outputs), groups)
        if select.args.get("limit") is None:
            known += pushed_into(select, pushed, outputs, groups)
        self._finish(simplified(joined, known))

    def _groups(self, select: exp.Select, scope: Scope, outputs: Mapping[str, exp.Expression]) -> frozenset[str] | None:
        group = select.args.get("group")
        if group is None:
            return None
        if any(group.args.get(each) for each in ("rollup", "cube", "grouping_sets", "totals")):
            return frozenset()
        found = set()
        for each in group.expressions:
            if isinstance(each, exp.Literal) and not each.is_string and str(each.this).isdecimal():
                place = int(str(each.this)) - 1
                values = list(outputs.values())
                if place < len(values):
                    found.add(values[place].sql())
                continue
            found.add(self._resolved_output(each, scope, outputs).sql())
        return frozenset(found)

    def _resolved_output(
        self, node: exp.Expression, scope: Scope, outputs: Mapping[str, exp.Expression]
    ) -> exp.Expression:
        """A name here means a column of a table first, else one of the result."""

        def swapped(each: exp.Expression) -> exp.Expression:
            if isinstance(each, exp.Column) and not each.table and scope.find(each) is None:
                return outputs.get(each.name.lower(), each).copy()
            return each

        return self._resolved(node.copy().transform(swapped), scope)

    def _outputs(self, select: exp.Select, scope: Scope) -> dict[str, exp.Expression]:
        found: dict[str, exp.Expression] = {}
        for item in select.expressions:
            if isinstance(item, exp.Star):
                for known in scope.aliases.values():
                    found |= {name: value for name, value in known.items() if name not in found}
            elif isinstance(item, exp.Column) and isinstance(item.this, exp.Star):
                found |= scope.aliases.get(item.table, {})
            else:
                found[item.alias_or_name.lower()] = self._resolved(item.unalias(), scope)
        return found

    def _from(self, select: exp.Select, scope: Scope, outer: Scope | None, ctes: Mapping[str, "Cte"]) -> Joined | None:
        first = select.args.get("from_")
        if first is None:
            return None
        joined: Joined | None = self._item(first.this, scope, outer, ctes)
        return self._joins(joined, select.args.get("joins") or (), scope, outer, ctes)

    def _joins(
        self,
        joined: Joined | None,
        joins: Sequence[exp.Join],
        scope: Scope,
        outer: Scope | None,
        ctes: Mapping[str, "Cte"],
    ) -> Joined:
        assert joined is not None
        for join in joins:
            before = dict(scope.aliases)
            right = self._item(join.this, scope, outer, ctes)
            side = (join.side or "").upper()
            if (join.kind or "").upper() not in ("", "INNER", "CROSS", "STRAIGHT", "OUTER"):
                raise NotUnderstood
            on: list[exp.Expression] = []
            shared = [each.name.lower() for each in join.args.get("using") or ()]
            if (join.method or "").upper() == "NATURAL":
                new = [known for alias, known in scope.aliases.items() if alias not in before]
                shared = [name for known in new for name in known if any(name in each for each in before.values())]
            for name in shared:
                one = next((known[name] for known in before.values() if name in known), None)
                other = next(
                    (known[name] for alias, known in scope.aliases.items() if alias not in before and name in known),
                    None,
                )
                if one is None or other is None:
                    raise NotUnderstood
                on.append(exp.EQ(this=one.copy(), expression=other.copy()))
                scope.merged.add(name)
            if join.args.get("on") is not None:
                raw = split(join.args["on"])
                extra, known = self._conditions(raw, scope, ctes, None, joins=not side)
                on += known
                right = cross(right, extra) if extra is not None else right
            if side == "RIGHT":
                joined = Joined(left=right, right=joined, is_outer=True, on=on)
            else:
                joined = Joined(left=joined, right=right, is_outer=side == "LEFT", on=on)
        return joined

    def _item(self, item: exp.Expression, scope: Scope, outer: Scope | None, ctes: Mapping[str, "Cte"]) -> Joined:
        """One item of FROM."""
        match item:
            case exp.Table() if isinstance(item.this, exp.Identifier):
                joined = self._table(item, scope, outer, ctes)
                return self._joins(joined, item.args.get("joins") or (), scope, outer, ctes)
            case exp.Subquery() if isinstance(item.this, exp.Table | exp.Subquery) and not item.alias:
                joined = self._item(item.this, scope, outer, ctes)
                return self._joins(joined, item.args.get("joins") or (), scope, outer, ctes)
            case exp.Paren():
                return self._item(item.this, scope, outer, ctes)
            case exp.Subquery():
                joined = self._derived(item.this, item.alias, scope, outer, ctes, alias_columns(item))
                return self._joins(joined, item.args.get("joins") or (), scope, outer, ctes)
        raise NotUnderstood

    def _table(self, item: exp.Table, scope: Scope, outer: Scope | None, ctes: Mapping[str, "Cte"]) -> Joined:
        if not item.db and item.name in ctes:
            cte = ctes[item.name]
            return self._derived(cte.query, item.alias_or_name, scope, None, cte.known, cte.columns)
        name = self._name(item)
        full = self.schema.find(name)
        if full is not None and full in self.schema.views:
            query = parse(self.schema.views[full])
            if query is None:
                raise NotUnderstood
            return self._derived(query, item.alias_or_name, scope, None, {}, ())
        columns = dict(self.schema.tables.get(full, {})) if full is not None else {}
        leaves = None
        if (chosen := item.args.get("partition")) is not None:
            leaves = tuple(each.name for each in chosen.expressions)
        source = Source(self._number(), full or name, item.alias_or_name, columns, leaves)
        if not columns:
            raise NotUnderstood  # of a table that is not known, no column can be told from another one's
        scope.aliases[item.alias_or_name] = {column.lower(): exp.column(column, table=source.key) for column in columns}
        return Joined(source=source)

    def _derived(
        self,
        query: exp.Expression,
        alias: str,
        scope: Scope,
        outer: Scope | None,
        ctes: Mapping[str, "Cte"],
        names: Sequence[str],
    ) -> Joined:
        while isinstance(query, exp.Subquery) and not query.args.get("limit"):
            query = query.this
        inner_ctes = ctes_of(query.args.get("with_"), ctes)
        if isinstance(query, exp.Select) and is_merged(query):
            inner = Scope(None)
            joined = self._from(query, inner, None, inner_ctes)
            outputs = named(self._outputs(query, inner), names)
            where = split(query.args["where"].this) if query.args.get("where") else []
            joined, conditions = self._conditions(where, inner, inner_ctes, joined, joins=True)
            for item in query.expressions:
                self._subqueries(item, inner, inner_ctes)
            scope.aliases[alias] = outputs
            assert joined is not None
            return Joined(left=joined, filters=conditions)
        columns = self._known_columns(query, inner_ctes)
        source = Source(self._number(), None, alias, typed(columns, names), query=(query, inner_ctes, tuple(names)))
        scope.aliases[alias] = {
            (names[place] if place < len(names) else column).lower(): exp.column(
                names[place] if place < len(names) else column, table=source.key
            )
            for place, column in enumerate(output_names(query) if columns is None else columns)
        }
        return Joined(source=source)

    def _known_columns(self, query: exp.Expression, ctes: Mapping[str, "Cte"]) -> dict[str, KeyColumn | None] | None:
        """The columns of a query's result in their order, with their types where they are columns of tables."""
        while isinstance(query, exp.Subquery):
            query = query.this
        while isinstance(query, exp.SetOperation):
            query = query.this
            while isinstance(query, exp.Subquery):
                query = query.this
        if not isinstance(query, exp.Select):
            return None
        probe = _Reader(self.schema, count=self.count + 1_000)
        scope = Scope(None)
        joined = probe._from(query, scope, None, ctes_of(query.args.get("with_"), ctes))
        sources = {each.key: each for each in joined.sources()} if joined is not None else {}
        found: dict[str, KeyColumn | None] = {}
        for name, value in probe._outputs(query, scope).items():
            column = None
            if isinstance(value, exp.Column) and value.table in sources:
                column = sources[value.table].columns.get(value.name)
            found[name] = column
        return found

    def _conditions(
        self,
        conditions: Sequence[exp.Expression],
        scope: Scope,
        ctes: Mapping[str, "Cte"],
        joined: Joined | None,
        *,
        joins: bool,
    ) -> tuple[Joined | None, list[exp.Expression]]:
        """Resolved conditions; IN and EXISTS become joins where `joins` lets them."""
        found: list[exp.Expression] = []
        for each in conditions:
            turned = self._as_join(bare(each), scope, ctes) if joins else None
            if turned is not None:
                extra, more = turned
                joined = cross(joined, extra)
                found += more
                continue
            self._subqueries(each, scope, ctes)
            found.append(self._resolved(each, scope))
        return joined, found

    def _as_join(
        self, node: exp.Expression, scope: Scope, ctes: Mapping[str, "Cte"]
    ) -> tuple[Joined, list[exp.Expression]] | None:
        """A semi-join: the tables of the sub-query, and its conditions; None where the server makes none."""
        query: exp.Expression | None = None
        if isinstance(node, exp.In) and node.args.get("query") is not None:
            query = node.args["query"]
        elif isinstance(node, exp.Exists):
            query = node.this
        while isinstance(query, exp.Subquery):
            query = query.this
        if not isinstance(query, exp.Select) or not may_be_joined(query) or not scope.aliases:
            return None
        inner = Scope(scope, is_joined=True)
        inner_ctes = ctes_of(query.args.get("with_"), ctes)
        before = self.count, len(self.places)
        joined = self._from(query, inner, scope, inner_ctes)
        if joined is None or any(each.is_outer for each in parts(joined)):
            self.count = before[0]
            return None
        where = split(query.args["where"].this) if query.args.get("where") else []
        more: list[exp.Expression] = []
        if isinstance(node, exp.In):
            left = node.this.expressions if isinstance(node.this, exp.Tuple) else [node.this]
            if len(left) != len(query.expressions):
                raise NotUnderstood
            for one, other in zip(left, query.expressions, strict=True):
                if isinstance(other, exp.Star):
                    raise NotUnderstood
                more.append(exp.EQ(this=self._resolved(one, scope), expression=self._resolved(other.unalias(), inner)))
        elif not any(is_correlated_equality(each, inner, scope) for each in where):
            self.count = before[0]
            return None
        joined, conditions = self._conditions(where, inner, inner_ctes, joined, joins=True)
        assert joined is not None
        return joined, [*more, *conditions]

    def _subqueries(self, node: exp.Expression, scope: Scope, ctes: Mapping[str, "Cte"]) -> None:
        """Queries within an expression, each a block of its own."""
        for each in outermost_queries(node):
            self._query(each, [], scope, ctes)

    def _resolved(self, node: exp.Expression, scope: Scope) -> exp.Expression:
        """With every column as one of a source; columns of blocks outside, and sub-queries, as values that only a run
        supplies.
        """

        def resolve(each: exp.Expression) -> exp.Expression:
            if isinstance(each, exp.Subquery | exp.Exists) or (isinstance(each, exp.Query) and each.parent is not None):
                query = each.this if isinstance(each, exp.Subquery) else each
                return only_value(query) or exp.Anonymous(this=UNKNOWN)
            if isinstance(each, exp.In) and each.args.get("query") is not None:
                return exp.EQ(this=each.this.transform(resolve), expression=exp.Anonymous(this=UNKNOWN))
            if not isinstance(each, exp.Column) or each.table.startswith((OWN, OUTPUT)):
                return each
            found = scope.find(each)
            if found is not None:
                return found.copy()
            around: Scope | None = scope.outer
            is_joined = scope.is_joined
            while around is not None:
                if (found := around.find(each)) is not None:
                    return found.copy() if is_joined else exp.Anonymous(this=UNKNOWN)
                is_joined = is_joined and around.is_joined
                around = around.outer
            raise NotUnderstood

        return node.copy().transform(resolve)

    def _finish(self, block: Simplified, *, has_classes: bool = True) -> None:
        """Writes down the places of a block, and goes into the queries that stay queries."""
        sources = [*block.inner, *(source for source, _ in block.outer)]
        columns = {each.key: each.columns for each in sources}
        equals = Equals(columns, block.conditions if has_classes else [])
        patterns: list[tuple[Source, Pattern]] = []
        for source in block.inner:
            patterns.append((source, pattern_of(source, block.conditions, equals)))
        for source, on in block.outer:
            known = Equals(columns, on, equals)
            # Of the conditions around it, an outer join learns what columns are equal to, and whether all is false.
            around = [each for each in block.conditions if gives_value(each)]
            patterns.append((source, AllOf((pattern_of(source, on, known), pattern_of(source, around, known)))))
        partners = tuple((source.name, pattern) for source, pattern in patterns[: len(block.inner)] if source.name)
        for source, pattern in patterns:
            if source.query is not None:
                self._enter(source, [*block.conditions] if source in block.inner else [], equals)
                continue
            assert source.name is not None
            if source.leaves is not None:
                pattern = AllOf((pattern, NamedLeaves(source.leaves)))
            others = tuple(each for each in partners if each[1] is not pattern)
            self.places.append(TableOccurrence(source.name, source.alias, pattern, partners=others))

    def _enter(self, source: Source, conditions: Sequence[exp.Expression], equals: Equals) -> None:
        """A query that stays a query, with the conditions of its block that concern it alone."""
        query, ctes, names = cast("tuple[exp.Expression, Mapping[str, Cte], tuple[str, ...]]", source.query)
        pushed = []
        for condition in conditions:
            for moved in equals.on(source, condition):
                if moved.find(exp.Anonymous) is None or UNKNOWN not in moved.sql():
                    pushed.append(as_output(moved, source, output_names(query), names))
        self._query(query, pushed, None, ctes)

    def _number(self) -> int:
        self.count += 1
        return self.count

    @staticmethod
    def _name(item: exp.Table) -> Name:
        return Name(item.db or None, item.name)
