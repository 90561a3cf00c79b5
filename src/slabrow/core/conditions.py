"""What a statement says about the key of one table: its SQL, parsed, as a condition of `keysets`.

Used is only what is certain to hold for every row that is read of the table: comparisons of a key column with a
constant in WHERE, or in ON of inner joins, of the query block that names the table. All else becomes `Anything`.
Sources: PostgreSQL manual, 5.12.4 Partition Pruning; which constants can be used was measured on the server.
"""

import re
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from slabrow.core.errors import UsageError
from slabrow.core.keys import Kind, Opaque, Value, parse_value
from slabrow.core.keysets import All, Any_, Anything, Compared, Condition, NullTest
from slabrow.core.tree import KeyColumn, Tree

_OPERATORS: dict[type[exp.Expression], str] = {exp.EQ: "=", exp.NEQ: "<>", exp.LT: "<", exp.LTE: "<=", exp.GT: ">",
                                              exp.GTE: ">="}  # fmt: skip
_TURNED = {"=": "=", "<>": "<>", "<": ">", "<=": ">=", ">": "<", ">=": "<="}
# A constant written with one of these types compares with a key of the kind while planning.
_TYPED: dict[Kind, set[Any]] = {
    Kind.TIMESTAMPTZ: {exp.DataType.Type.TIMESTAMPTZ},
    Kind.TIMESTAMP: {exp.DataType.Type.TIMESTAMP},
    Kind.DATE: {exp.DataType.Type.DATE},
    Kind.INTEGER: {exp.DataType.Type.INT, exp.DataType.Type.BIGINT, exp.DataType.Type.SMALLINT},
    Kind.NUMERIC: {exp.DataType.Type.DECIMAL},
    Kind.TEXT: {exp.DataType.Type.TEXT},
    Kind.UUID: {exp.DataType.Type.UUID},
    Kind.BOOL: {exp.DataType.Type.BOOLEAN},
    Kind.OTHER: set(),
}


@dataclass(frozen=True, slots=True)
class Reader:
    """Reads conditions on one partitioned table.

    zone     the session's time zone, in which constants without an offset are read
    params   the constants for $1, $2, …, as SQL
    """

    tree: Tree
    zone: ZoneInfo
    params: tuple[str, ...] = ()

    def condition(self, sql: str) -> Condition | None:
        """What holds for every row that the statement reads of the table: OR over all places that name it.

        None when the parser does not understand the statement, or it does not name the table.
        """
        try:
            parsed = sqlglot.parse_one(sql, read="postgres")
        except (SqlglotError, RecursionError):
            return None
        if not isinstance(parsed, exp.Expression):
            return None
        given = {with_query.alias for with_query in parsed.find_all(exp.CTE)}
        places = [table for table in parsed.find_all(exp.Table) if self._is_table(table, given)]
        return Any_(tuple(self._at(table) for table in places)) if places else None

    def _is_table(self, table: exp.Table, given: set[str]) -> bool:
        name = self.tree.table
        schema = table.args.get("db")
        if not isinstance(table.this, exp.Identifier) or _folded(table.this) != name.table:
            return False
        return _folded(schema) == name.schema if schema else table.name not in given

    def _at(self, table: exp.Table) -> Condition:
        """What holds where the statement names the table, from the block that it stands in."""
        block = table.parent if isinstance(table.parent, _BLOCKS) else table.parent and table.parent.parent
        alias = table.args.get("alias")
        # FROM t AS x (a, b) gives the columns other names.
        if not isinstance(block, _BLOCKS) or (alias is not None and alias.args.get("columns")):
            return Anything()
        joins: list[exp.Expression] = list(block.args.get("joins") or ())
        sides = {str(join.args.get("side") or "").upper() for join in joins} - {""}
        # A row that an outer join fills up with NULLs was not read: only what is read in any case can be judged.
        if sides and not (sides == {"LEFT"} and isinstance(table.parent, exp.From)):
            return Anything()
        inner = [join.args["on"] for join in joins if join.args.get("on") is not None and not join.args.get("side")]
        where = block.args.get("where")
        scope = _Scope(self, table.alias_or_name, _is_alone(block))
        return All(tuple(scope.read(part) for part in (*inner, *([where.this] if where else []))))


_BLOCKS = (exp.Select, exp.Update, exp.Delete)


def _is_alone(block: exp.Expression) -> bool:
    """Whether a column without a qualifier can only be of the one table that the block names."""
    others = ("joins", "laterals") if isinstance(block, exp.Select) else ("joins", "laterals", "from", "from_", "using")
    return not any(block.args.get(part) for part in others)


def _folded(part: exp.Identifier) -> str:
    return part.name if part.args.get("quoted") else part.name.lower()


@dataclass(frozen=True, slots=True)
class _Scope:
    """Expressions of one query block. name is what the table is called there."""

    reader: Reader
    name: str
    is_alone: bool

    def read(self, node: Any) -> Condition:
        if node.args.get("negate") and not isinstance(node, exp.Is):
            return Anything()
        match node:
            case exp.Paren():
                return self.read(node.this)
            case exp.And():
                return All((self.read(node.left), self.read(node.right)))
            case exp.Or():
                return Any_((self.read(node.left), self.read(node.right)))
            case exp.Boolean():
                return Anything() if node.this else Any_(())
            case exp.Between() if not node.args.get("symmetric"):
                low, high = node.args["low"], node.args["high"]
                return All((self._compared(node.this, ">=", low), self._compared(node.this, "<=", high)))
            case exp.In() if node.expressions and not node.args.get("query"):
                return self._among(node.this, node.expressions)
            case exp.Is() if isinstance(node.expression, exp.Null):
                column = self._column(node.this)
                return NullTest(column.name or "", not node.args.get("negate")) if column else Anything()
            case exp.Not(this=exp.In() as among) if among.expressions and not among.args.get("query"):
                return All(tuple(self._compared(among.this, "<>", each) for each in among.expressions))
            case exp.EQ(expression=exp.Any(this=exp.Paren(this=exp.Array() as array))):
                return self._among(node.this, array.expressions)
            case _ if type(node) in _OPERATORS:
                return self._compared(node.this, _OPERATORS[type(node)], node.expression)
            case _:
                return Anything()

    def _among(self, left: Any, constants: list[Any]) -> Condition:
        tests = tuple(self._compared(left, "=", each) for each in constants)
        # One constant that cannot be used spoils the list; and over several hash columns the server uses none.
        several = len(self.reader.tree.key) > 1
        return Anything() if several or any(isinstance(test, Anything) for test in tests) else Any_(tests)

    def _compared(self, left: Any, operator: str, right: Any) -> Condition:
        column, constant = self._column(left), right
        if column is None:
            column, constant, operator = self._column(right), left, _TURNED[operator]
        if column is None:
            return Anything()
        value = self._constant(constant, column)
        return Anything() if value is None else Compared(column.name or "", operator, value)

    def _column(self, node: Any) -> KeyColumn | None:
        while isinstance(node, exp.Paren):
            node = node.this
        if not isinstance(node, exp.Column) or not isinstance(node.this, exp.Identifier):
            return None
        if (node.table or "") not in (self.name, "" if self.is_alone else self.name):
            return None
        return next((column for column in self.reader.tree.key if column.name == _folded(node.this)), None)

    def _constant(self, node: Any, column: KeyColumn) -> Value | None:
        """The constant as a value of the key's kind; None when the server could not use it while planning."""
        while isinstance(node, exp.Paren):
            node = node.this
        if isinstance(node, exp.Parameter):
            return self._parameter(node, column)
        text: str | None = None
        match node:
            case exp.Literal() if node.is_string:
                text = node.this
            case exp.Literal():
                text = node.this if self._fits(node.this, column) else None
            case exp.Neg(this=exp.Literal() as number) if not number.is_string:
                text = "-" + number.this if self._fits(number.this, column) else None
            case exp.Boolean() if column.kind is Kind.BOOL:
                text = "true" if node.this else "false"
            case exp.Cast() if isinstance(node.this, exp.Literal) and node.this.is_string:
                text = node.this.this if node.to.this in _TYPED[column.kind] and not node.to.expressions else None
            case _:
                return None
        return None if text is None else self._value(text, column)

    def _fits(self, number: str, column: KeyColumn) -> bool:
        """Whether a number without quotes is of a type that compares with the key's: 5.0 does not with an integer."""
        if column.kind is Kind.INTEGER:
            return number.isdigit() and int(number) < 1 << 63
        return column.kind is Kind.NUMERIC and column.type_name.startswith("numeric")

    def _value(self, text: str, column: KeyColumn) -> Value | None:
        if column.kind is Kind.OTHER or not (column.kind is not Kind.NUMERIC or column.type_name.startswith("numeric")):
            return None
        if column.kind is Kind.TEXT and column.type_name != "text":
            return None
        # The server rounds what it cannot keep; an hour that comes twice, or never, it reads in its own way.
        if column.kind.is_time and (re.search(r"\.\d{7}", text) or self._is_doubtful(text, column)):
            return None
        try:
            value = parse_value(text, column.kind, self.reader.zone)
        except UsageError:
            return None
        return None if isinstance(value, Opaque) else value

    def _is_doubtful(self, text: str, column: KeyColumn) -> bool:
        if column.kind is not Kind.TIMESTAMPTZ:
            return False
        try:
            wall = datetime.fromisoformat(text.strip())
        except ValueError:
            return False
        offsets = {wall.replace(tzinfo=self.reader.zone, fold=fold).utcoffset() for fold in (0, 1)}
        return wall.tzinfo is None and len(offsets) > 1

    def _parameter(self, node: exp.Parameter, column: KeyColumn) -> Value | None:
        number = str(node.this.name if isinstance(node.this, exp.Expression) else node.this)
        if not number.isdigit() or not 1 <= int(number) <= len(self.reader.params):
            return None
        try:
            constant = sqlglot.parse_one(self.reader.params[int(number) - 1], read="postgres")
        except SqlglotError:
            return None
        return None if isinstance(constant, exp.Parameter) else self._constant(constant, column)
