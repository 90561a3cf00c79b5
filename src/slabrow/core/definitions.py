"""Reads tables from DDL text alone: columns, keys and indexes, without a server."""

from dataclasses import dataclass, field
from typing import Any

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from slabrow.core.errors import UsageError, nearest
from slabrow.core.facts import IndexFacts
from slabrow.core.keys import kind_of
from slabrow.core.names import Name
from slabrow.core.queries import folded
from slabrow.core.tree import KeyColumn

# Types as format_type spells them, for those whose spelling in DDL is another.
_TYPE_NAMES = {
    "INT": "integer", "BIGINT": "bigint", "SMALLINT": "smallint", "DOUBLE": "double precision", "FLOAT": "real",
    "REAL": "real", "DECIMAL": "numeric", "TEXT": "text", "VARCHAR": "character varying", "CHAR": "character",
    "TIMESTAMP": "timestamp without time zone", "TIMESTAMPTZ": "timestamp with time zone", "BOOLEAN": "boolean",
    "BPCHAR": "character", "VARBINARY": "bytea", "SERIAL": "integer", "BIGSERIAL": "bigint", "SMALLSERIAL": "smallint",
}  # fmt: skip


@dataclass(slots=True)
class Definition:
    """A table as its DDL gives it."""

    name: Name
    columns: dict[str, KeyColumn]
    indexes: list[IndexFacts] = field(default_factory=list)


def read_definitions(text: str, source: str) -> dict[Name, Definition]:
    """Every table that the text creates. source: what messages call it.

    Statements that define no table and no index are passed over. Raises UsageError where the text is not SQL.
    """
    try:
        statements = sqlglot.parse(text, read="postgres")
    except (SqlglotError, RecursionError) as error:
        raise UsageError(f"{source} cannot be read as SQL", found=str(error).splitlines()[0]) from None
    found: dict[Name, Definition] = {}
    for statement in statements:
        if isinstance(statement, exp.Create) and statement.kind == "TABLE" and isinstance(statement.this, exp.Schema):
            definition = _table(statement.this)
            found[definition.name] = definition
        elif isinstance(statement, exp.Create) and statement.kind == "INDEX":
            _index(statement, found)
        elif isinstance(statement, exp.Alter):
            _altered(statement, found)
    if not found:
        raise UsageError(f"{source} creates no table", fix="give a file with CREATE TABLE statements")
    return found


def find(definitions: dict[Name, Definition], name: Name, source: str) -> Definition:
    """The table of that name. Raises UsageError with the nearest name."""
    for known, definition in definitions.items():
        if known.table == name.table and (name.schema in (None, known.schema) or known.schema is None):
            return definition
    near = nearest(str(name), map(str, definitions))
    raise UsageError(
        f"{source} does not create {name}",
        found=f"it creates {', '.join(map(str, definitions))}",
        fix=f"did you mean {near}?" if near else None,
    )


def _name(table: exp.Table) -> Name:
    schema = table.args.get("db")
    return Name(folded(schema) if schema else "public", folded(table.this))


def _table(schema: exp.Schema) -> Definition:
    columns: dict[str, KeyColumn] = {}
    indexes: list[IndexFacts] = []
    keyed: set[str] = set()
    for each in schema.expressions:
        if isinstance(each, exp.ColumnDef):
            name = folded(each.this)
            kinds = [constraint.kind for constraint in each.args.get("constraints") or ()]
            is_key = any(isinstance(kind, exp.PrimaryKeyColumnConstraint) for kind in kinds)
            not_null = is_key or any(
                isinstance(kind, exp.NotNullColumnConstraint) and not kind.args.get("allow_null") for kind in kinds
            )
            type_name = _type_name(each.args.get("kind"))
            columns[name] = KeyColumn(name, name, kind_of(type_name), type_name, not_null)
            if is_key or any(isinstance(kind, exp.UniqueColumnConstraint) for kind in kinds):
                indexes.append(IndexFacts(f"{name}_key", (name,), True, is_key))
        elif (key := each.find(exp.PrimaryKey)) is not None:
            names = _column_names(key.expressions)
            keyed |= set(names)
            indexes.append(IndexFacts("primary_key", names, True, True))
        elif (unique := each.find(exp.UniqueColumnConstraint)) is not None and isinstance(unique.this, exp.Schema):
            names = _column_names(unique.this.expressions)
            indexes.append(IndexFacts("_".join((*names, "key")), names, True))
    for name in keyed & columns.keys():
        column = columns[name]
        columns[name] = KeyColumn(name, name, column.kind, column.type_name, True)
    return Definition(_name(schema.this), columns, indexes)


def _type_name(kind: Any) -> str:
    if not isinstance(kind, exp.DataType):
        return "text"
    name = kind.this.value if hasattr(kind.this, "value") else str(kind.this)
    spelled = _TYPE_NAMES.get(name.upper(), kind.sql("postgres").lower())
    sizes = ",".join(part.sql("postgres") for part in kind.expressions)
    if sizes and name.upper() in _TYPE_NAMES and "(" not in spelled:
        first, space, rest = spelled.partition(" ")
        return f"{first}({sizes}){space}{rest}" if first == "timestamp" else f"{spelled}({sizes})"
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
        IndexFacts(name, names, bool(statement.args.get("unique")), False, 0, is_partial)
    )


def _altered(statement: exp.Alter, found: dict[Name, Definition]) -> None:
    """ALTER TABLE … ADD PRIMARY KEY, as dumps have it."""
    if not isinstance(statement.this, exp.Table) or _name(statement.this) not in found:
        return
    definition = found[_name(statement.this)]
    for key in statement.find_all(exp.PrimaryKey):
        names = _column_names(key.expressions)
        definition.indexes.append(IndexFacts("primary_key", names, True, True))
