"""Reads tables from DDL text alone: columns, keys, indexes and partitions, without a server."""

import re
from dataclasses import dataclass, field, replace
from typing import Any
from zoneinfo import ZoneInfo

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from slabrow.core.sql.clauses import folded
from slabrow.core.sql.constant_values import NotKnown, Null, Surroundings
from slabrow.core.sql.constants import evaluate
from slabrow.core.sql.key_constants import as_key
from slabrow.core.sql.schema import Schema
from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, normal_end
from slabrow.core.table.relation import IndexShape
from slabrow.core.table.tree import Division, KeyColumn, Partition, Tree, in_order
from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.values.key_values import Edge, Kind, Opaque, Value, kind_of
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.values.zones import parse_zone

# Types as format_type spells them, for those whose spelling in DDL is another.
_TYPE_NAMES = {
    "INT": "integer", "BIGINT": "bigint", "SMALLINT": "smallint", "DOUBLE": "double precision", "FLOAT": "real",
    "REAL": "real", "DECIMAL": "numeric", "TEXT": "text", "VARCHAR": "character varying", "CHAR": "character",
    "TIMESTAMP": "timestamp without time zone", "TIMESTAMPTZ": "timestamp with time zone", "BOOLEAN": "boolean",
    "BPCHAR": "character", "VARBINARY": "bytea", "SERIAL": "integer", "BIGSERIAL": "bigint", "SMALLSERIAL": "smallint",
    "TIME": "time without time zone", "TIMETZ": "time with time zone",
}  # fmt: skip


@dataclass(slots=True)
class Definition:
    """A table as its DDL gives it.

    by, key_nodes   how it is divided; None and empty when it is not
    parent          the table that it is a partition of
    bound           its bounds, as parsed; None for a catch-all
    zone            the time zone in which its bounds are read
    view            the query, when it is a view
    """

    name: Name
    columns: dict[str, KeyColumn]
    indexes: list[IndexShape] = field(default_factory=list)
    by: By | None = None
    key_nodes: tuple[exp.Expression, ...] = ()
    parent: Name | None = None
    bound: exp.Expression | None = None
    zone: ZoneInfo = field(default_factory=lambda: ZoneInfo("UTC"))
    view: str | None = None


@dataclass(frozen=True, slots=True)
class Definitions:
    """Everything that a text defines. zone: of the session, at its end."""

    tables: dict[Name, Definition]
    zone: ZoneInfo

    def schema(self) -> Schema:
        """The tables and views that statements can name."""
        columns = {name: self.columns(name) for name, each in self.tables.items() if each.view is None}
        views = {name: each.view for name, each in self.tables.items() if each.view is not None}
        return Schema(columns, ("public",), views)

    def columns(self, name: Name) -> dict[str, KeyColumn]:
        """A partition has the columns of its parent."""
        definition = self.tables[name]
        if definition.parent is not None and not definition.columns and definition.parent in self.tables:
            return self.columns(definition.parent)
        return definition.columns

    def roots(self) -> tuple[Name, ...]:
        """The partitioned tables that are no partitions themselves."""
        return tuple(name for name, each in self.tables.items() if each.by is not None and each.parent is None)

    def tree(self, root: Name) -> Tree:
        """Raises UsageError for a bound that cannot be read."""
        partitions: list[Partition] = []
        waiting = [root]
        while waiting:
            parent = waiting.pop()
            key = self._key(parent)
            for name, each in self.tables.items():
                if each.parent != parent:
                    continue
                division = Division(each.by, self._key(name)) if each.by is not None else None
                bounds = _bounds(each, key)
                partitions.append(
                    Partition(name, spelled(name), spelled(parent), bounds, division is None, division=division)
                )
                waiting.append(name)
        top = self.tables[root]
        assert top.by is not None
        return Tree(root, spelled(root), top.by, self._key(root), in_order(spelled(root), partitions))

    def _key(self, name: Name) -> tuple[KeyColumn, ...]:
        columns = self.columns(name)
        return tuple(_key_column(node, columns) for node in self.tables[name].key_nodes)


def spelled(name: Name) -> str:
    """As regclass would: without the schema where that is on the search path."""
    return str(Name(None, name.table)) if name.schema == "public" else str(name)


# Collations that sort by code point on every server (PostgreSQL manual, 23.2.2).
_BYTE_ORDERS = frozenset(('"C"', '"POSIX"', "ucs_basic", "pg_c_utf8"))


def _collation(node: object) -> str:
    """A collation by its name as SQL, without the schema of the server's own."""
    return node.sql("postgres").removeprefix("pg_catalog.") if isinstance(node, exp.Expression) else ""


def _key_column(node: exp.Expression, columns: dict[str, KeyColumn]) -> KeyColumn:
    inner = node
    stated: str | None = None
    while isinstance(inner, exp.Paren | exp.Ordered | exp.Collate):
        stated = _collation(inner.expression) if isinstance(inner, exp.Collate) else stated
        inner = inner.this
    if isinstance(inner, exp.Column) and isinstance(inner.this, exp.Identifier) and folded(inner.this) in columns:
        column = columns[folded(inner.this)]
        if stated is None or stated == column.collation:
            return column
        return replace(column, in_byte_order=stated in _BYTE_ORDERS, collation=stated, is_apart=True)
    return KeyColumn(None, node.sql("postgres"), Kind.OTHER, "text")


def _bounds(each: Definition, key: tuple[KeyColumn, ...]) -> Bounds:
    spec = each.bound
    if spec is None:
        return CatchAll()
    around = Surroundings(each.zone)
    start, end, values = spec.args.get("from_expressions"), spec.args.get("to_expressions"), spec.this
    if start is not None:
        from_, to = (
            tuple(_end(node, column, around, each.name) for node, column in zip(ends, key, strict=True))
            for ends in (start, end or [])
        )
        return Range(normal_end(from_), normal_end(to))
    if isinstance(values, list):
        return Listed(tuple(_value(node, key[0], around, each.name) for node in values))
    return Hashed(int(str(values.this)), int(str(spec.args["expression"].this)))


def _end(node: exp.Expression, column: KeyColumn, around: Surroundings, name: Name) -> Value:
    word = node.name.upper() if isinstance(node, exp.Var | exp.Column) else ""
    if word in ("MINVALUE", "MAXVALUE"):
        return Edge[word]
    value = _value(node, column, around, name)
    if value is None:
        raise UsageError(f"a bound of {name} is NULL", fix="a range has no NULL: take it out")
    return value


def _value(node: exp.Expression, column: KeyColumn, around: Surroundings, name: Name) -> Value | None:
    if column.name is None:
        return Opaque(node.name if isinstance(node, exp.Literal) else node.sql("postgres"))
    try:
        value, _ = as_key(evaluate(node, around), column.kind, column.type_name, around)
    except NotKnown:
        return Opaque(node.sql("postgres"))
    return None if value is None or isinstance(value, Null) else value


def read_definitions(text: str, source: str) -> Definitions:
    """Every table, partition and view that the text creates. source: what messages call it.

    `SET timezone` counts for what follows it; UTC before. Other statements are passed over.
    Raises UsageError where the text is not SQL.
    """
    try:
        statements = sqlglot.parse(text, read="postgres")
    except (SqlglotError, RecursionError) as error:
        raise UsageError(f"{source} cannot be read as SQL", found=str(error).splitlines()[0]) from None
    found: dict[Name, Definition] = {}
    zone = ZoneInfo("UTC")
    for statement in statements:
        if isinstance(statement, exp.Set | exp.Command):
            zone = _zone(statement) or zone
            statement = _attachment(statement) or statement
        if isinstance(statement, exp.Create) and statement.kind == "TABLE":
            _created(statement, found, zone)
        elif isinstance(statement, exp.Create) and statement.kind == "VIEW" and isinstance(statement.this, exp.Table):
            query = statement.args.get("expression")
            if isinstance(query, exp.Expression):
                name = _name(statement.this)
                found[name] = Definition(name, {}, view=query.sql("postgres"))
        elif isinstance(statement, exp.Create) and statement.kind == "INDEX":
            _index(statement, found)
        elif isinstance(statement, exp.Alter):
            _altered(statement, found)
    if not found:
        raise UsageError(f"{source} creates no table", fix="give a file with CREATE TABLE statements")
    return Definitions(found, zone)


_SET_ZONE = re.compile(r"(?:SESSION\s+|LOCAL\s+)?TIME\s*ZONE\s*(?:=|TO)?\s*'([^']+)'", re.IGNORECASE)
_ATTACH = re.compile(
    r"TABLE\s+(?:ONLY\s+)?(.+?)\s+ATTACH\s+PARTITION\s+(.+?)\s+(FOR\s+VALUES.*|DEFAULT)\s*$", re.DOTALL | re.IGNORECASE
)


def _zone(statement: exp.Expression) -> ZoneInfo | None:
    """The zone that `SET timezone` names; None for every other setting."""
    text = statement.sql("postgres").partition(" ")[2]
    match = _SET_ZONE.match(text.strip()) if statement.sql("postgres").upper().startswith("SET") else None
    return parse_zone(match.group(1)) if match is not None else None


def _attachment(statement: exp.Expression) -> exp.Expression | None:
    """ALTER TABLE … ATTACH PARTITION, as dumps have it, read as the CREATE TABLE … PARTITION OF that it amounts to."""
    text = str(statement.args.get("expression") or "").strip()
    match = _ATTACH.match(text) if isinstance(statement, exp.Command) else None
    if match is None:
        return None
    parent, child, bounds = match.groups()
    made = sqlglot.parse(f"CREATE TABLE {child} PARTITION OF {parent} {bounds}", read="postgres")[0]
    return made if isinstance(made, exp.Expression) else None


def _created(statement: exp.Create, found: dict[Name, Definition], zone: ZoneInfo) -> None:
    table = statement.this.this if isinstance(statement.this, exp.Schema) else statement.this
    if not isinstance(table, exp.Table):
        return
    name = _name(table)
    definition = found.get(name) or Definition(name, {})
    if isinstance(statement.this, exp.Schema) and not definition.columns:
        definition = _table(statement.this)
    for each in (statement.args.get("properties") or exp.Properties(expressions=[])).expressions:
        if isinstance(each, exp.PartitionedByProperty):
            kind = each.this.name if isinstance(each.this, exp.Anonymous) else type(each.this).__name__
            definition.by = By(kind.lower())
            definition.key_nodes = tuple(each.this.expressions)
        elif isinstance(each, exp.PartitionedOfProperty):
            definition.parent = _name(each.this)
            spec = each.args["expression"]
            definition.bound = None if isinstance(spec, exp.Var) else spec
    definition.zone = zone
    found[name] = definition


def find(definitions: Definitions, name: Name, source: str) -> Definition:
    """The table of that name. Raises UsageError with the nearest name."""
    for known, definition in definitions.tables.items():
        if known.table == name.table and (name.schema in (None, known.schema) or known.schema is None):
            return definition
    near = nearest(str(name), map(str, definitions.tables))
    raise UsageError(
        f"{source} does not create {name}",
        found=f"it creates {', '.join(map(str, definitions.tables))}",
        fix=f"did you mean {near}?" if near else None,
    )


def _name(table: exp.Table) -> Name:
    schema = table.args.get("db")
    return Name(folded(schema) if schema else "public", folded(table.this))


def _table(schema: exp.Schema) -> Definition:
    definition = Definition(_name(schema.this), {}, [])
    for each in schema.expressions:
        _add(each, definition)
    return definition


def _add(node: exp.Expression, definition: Definition) -> None:
    """A column or a constraint, within CREATE TABLE or behind ADD."""
    columns, indexes = definition.columns, definition.indexes
    if isinstance(node, exp.ColumnDef):
        name = folded(node.this)
        columns[name] = _column(node, name)
        kinds = _constraints(node)
        is_key = any(isinstance(kind, exp.PrimaryKeyColumnConstraint) for kind in kinds)
        if is_key or any(isinstance(kind, exp.UniqueColumnConstraint) for kind in kinds):
            indexes.append(IndexShape(f"{name}_key", (name,), True, is_key))
    elif (key := node.find(exp.PrimaryKey)) is not None:
        names = _column_names(key.expressions)
        indexes.append(IndexShape("primary_key", names, True, True))
        for name in set(names) & columns.keys():
            columns[name] = replace(columns[name], not_null=True)
    elif (unique := node.find(exp.UniqueColumnConstraint)) is not None and isinstance(unique.this, exp.Schema):
        names = _column_names(unique.this.expressions)
        indexes.append(IndexShape("_".join((*names, "key")), names, True))


def _constraints(node: exp.ColumnDef) -> list[Any]:
    return [constraint.kind for constraint in node.args.get("constraints") or ()]


# What a column can only be when it holds no NULL.
_NEVER_NULL = (exp.PrimaryKeyColumnConstraint, exp.GeneratedAsIdentityColumnConstraint)
_SERIAL = ("SERIAL", "BIGSERIAL", "SMALLSERIAL")


def _column(node: exp.ColumnDef, name: str) -> KeyColumn:
    kinds, type_ = _constraints(node), node.args.get("kind")
    is_serial = isinstance(type_, exp.DataType) and getattr(type_.this, "value", "") in _SERIAL
    not_null = is_serial or any(
        isinstance(kind, _NEVER_NULL)
        or (isinstance(kind, exp.NotNullColumnConstraint) and not kind.args.get("allow_null"))
        for kind in kinds
    )
    collation = next((_collation(kind.this) for kind in kinds if isinstance(kind, exp.CollateColumnConstraint)), None)
    type_name = _type_name(type_)
    return KeyColumn(
        name=name,
        text=name,
        kind=kind_of(type_name),
        type_name=type_name,
        not_null=not_null,
        in_byte_order=collation in _BYTE_ORDERS,
        collation=collation,
    )


def _type_name(kind: Any) -> str:
    if not isinstance(kind, exp.DataType):
        return "text"
    name = kind.this.value if hasattr(kind.this, "value") else str(kind.this)
    spelled = _TYPE_NAMES.get(name.upper(), kind.sql("postgres").lower())
    sizes = ",".join(part.sql("postgres") for part in kind.expressions)
    if sizes and name.upper() in _TYPE_NAMES and "(" not in spelled:
        first, space, rest = spelled.partition(" ")
        return f"{first}({sizes}){space}{rest}" if first in ("timestamp", "time") else f"{spelled}({sizes})"
    return spelled


def _column_names(nodes: list[Any]) -> tuple[str, ...]:
    names = []
    for node in nodes:
        inner = node
        while isinstance(inner, exp.Ordered | exp.Column | exp.Paren):
            inner = inner.this
        names.append(folded(inner) if isinstance(inner, exp.Identifier) else "")
    return tuple(names)


def _index(statement: exp.Create, found: dict[Name, Definition]) -> None:
    index = statement.this
    table, params = index.args.get("table"), index.args.get("params")
    if not isinstance(table, exp.Table) or params is None or _name(table) not in found:
        return
    names = _column_names(params.args.get("columns") or [])
    is_partial = params.args.get("where") is not None
    name = folded(index.this) if isinstance(index.this, exp.Identifier) else "_".join(names)
    found[_name(table)].indexes.append(
        IndexShape(
            name=name,
            columns=names,
            is_unique=bool(statement.args.get("unique")),
            is_primary=False,
            bytes=0,
            is_partial=is_partial,
        )
    )


def _altered(statement: exp.Alter, found: dict[Name, Definition]) -> None:
    """ALTER TABLE, as dumps and migrations have it: keys and columns that come, change or go. What else it does is
    passed over.
    """
    if not isinstance(statement.this, exp.Table) or _name(statement.this) not in found:
        return
    definition = found[_name(statement.this)]
    columns = definition.columns
    for action in statement.args.get("actions") or ():
        match action:
            case exp.AddConstraint():
                for each in action.expressions:
                    _add(each, definition)
            case exp.ColumnDef() if not (action.args.get("exists") and folded(action.this) in columns):
                _add(action, definition)
            case exp.Drop() if action.args.get("kind") == "COLUMN":
                gone = set(_column_names(action.args.get("tables") or []))
                for name in gone & columns.keys():
                    del columns[name]
                # The server drops an index with any of its columns.
                definition.indexes[:] = [each for each in definition.indexes if not gone & set(each.columns)]
            case exp.AlterColumn() if (name := folded(action.this)) in columns:
                columns[name] = _changed(columns[name], action)
            case exp.RenameColumn():
                (old,), (new,) = _column_names([action.this]), _column_names([action.args["to"]])
                _rename(definition, old, new)


def _changed(column: KeyColumn, action: exp.AlterColumn) -> KeyColumn:
    allows = action.args.get("allow_null")
    if allows is not None:
        return replace(column, not_null=not allows)
    if (type_ := action.args.get("dtype")) is not None:
        name = _type_name(type_)
        return replace(column, type_name=name, kind=kind_of(name))
    return column


def _rename(definition: Definition, old: str, new: str) -> None:
    """The columns keep their order."""
    kept = [
        (new, replace(each, name=new, text=new)) if name == old else (name, each)
        for name, each in definition.columns.items()
    ]
    definition.columns.clear()
    definition.columns.update(kept)
    definition.indexes[:] = [
        replace(each, columns=tuple(new if name == old else name for name in each.columns))
        for each in definition.indexes
    ]
