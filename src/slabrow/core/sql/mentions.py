"""The tables that a statement names, and the same statement about another table."""

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from slabrow.core.sql.dialect import BACKQUOTED, spoken
from slabrow.core.sql.parsed import parse
from slabrow.core.values.names import Name


def tables_in(sql: str) -> frozenset[Name] | None:
    """The tables a statement reads or writes, as it names them; None when the parser does not understand it."""
    tree = parse(sql)
    return None if tree is None else frozenset(_name(table) for table in _tables(tree))


def target_of_insert(sql: str) -> Name | None:
    """The table that a plain INSERT writes into: it is not read."""
    tree = parse(sql)
    into = tree.this if isinstance(tree, exp.Insert) else None
    table = into.this if isinstance(into, exp.Schema) else into
    return _name(table) if isinstance(table, exp.Table) else None


def retargeted(sql: str, old: Name, new: str) -> str | None:
    """The statement with `new` (a table as SQL spells it) in place of `old`, under the name that `old` had in it.

    Everything else stays as it is written. None when the parser does not understand the statement.
    """
    try:
        tree = sqlglot.parse_one(sql, read=spoken())
    except (SqlglotError, RecursionError):
        return None
    if not isinstance(tree, exp.Expression):
        return None
    edits: list[tuple[int, int, str]] = []
    for table in _tables(tree):
        if not _is(table, old):
            continue
        start, end = _extent(table.args.get("db") or table.this, table.this)
        alias = "" if table.alias else f" AS {_quoted(table.name)}"
        edits.append((start, end, new + alias))
    for column in tree.find_all(exp.Column):
        schema, table_part = column.args.get("db"), column.args.get("table")
        if schema is not None and table_part is not None and (schema.name, table_part.name) == (old.schema, old.table):
            edits.append((*_extent(schema, table_part), _quoted(table_part.name)))
    for start, end, text in sorted(edits, reverse=True):
        sql = sql[:start] + text + sql[end:]
    return sql


def _quoted(name: str) -> str:
    mark = "`" if spoken() == BACKQUOTED else '"'
    return mark + name.replace(mark, mark * 2) + mark


def _tables(tree: exp.Expression) -> list[exp.Table]:
    """Tables, without the names that WITH gives to its queries."""
    given = {with_query.alias for with_query in tree.find_all(exp.CTE)}
    return [
        table
        for table in tree.find_all(exp.Table)
        if isinstance(table.this, exp.Identifier) and (table.db or table.name not in given)
    ]


def _name(table: exp.Table) -> Name:
    schema = table.args.get("db")
    return Name(_folded(schema) if schema else None, _folded(table.this))


def _folded(part: exp.Identifier) -> str:
    return part.name if part.args.get("quoted") or spoken() == BACKQUOTED else part.name.lower()


def _is(table: exp.Table, name: Name) -> bool:
    found = _name(table)
    return found.table == name.table and found.schema in (None, name.schema)


def _extent(first: exp.Identifier, last: exp.Identifier) -> tuple[int, int]:
    return first.meta["start"], last.meta["end"] + 1
