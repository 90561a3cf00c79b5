"""Rewrites that let a query prune and return the same rows: the bare key against a range, for a function of the key.

Only conditions that are joined by AND are rewritten, so that NULL keys stay left out on both sides. What depends on
the session's time zone is rewritten for the zone that is given, and says so.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

import sqlglot
from sqlglot import exp

from slabrow.core.constants import Constant, NotKnown, Null, Surroundings, Unread, as_key, evaluate
from slabrow.core.keys import Kind, spell
from slabrow.core.names import Name
from slabrow.core.queries import Schema, conjuncts, folded, parse
from slabrow.core.tree import KeyColumn


@dataclass(frozen=True, slots=True)
class Rewrite:
    """sql: the whole statement; before, after: what was changed; notes: when it holds."""

    sql: str
    before: tuple[str, ...]
    after: tuple[str, ...]
    notes: tuple[str, ...]


def rewritten(
    sql: str, table: Name, schema: Schema, key: tuple[KeyColumn, ...], around: Surroundings
) -> Rewrite | None:
    """The statement with every condition on the key mended that is known here; None when there is none."""
    parsed = parse(sql)
    if parsed is None:
        return None
    mender = _Mender(table, schema, {column.name: column for column in key if column.name}, around)
    changes: list[tuple[str, str, str]] = []
    for condition, columns in list(mender.conditions(parsed)):
        found = mender.mended(condition, columns)
        if found is not None:
            text, note = found
            changes.append((condition.sql("postgres"), text, note))
            condition.replace(exp.Paren(this=sqlglot.parse_one(text, read="postgres")))
    if not changes:
        return None
    before, after, notes = zip(*changes, strict=True)
    return Rewrite(parsed.sql("postgres"), before, after, tuple(dict.fromkeys(note for note in notes if note)))


_Own = dict[str, KeyColumn]


@dataclass(frozen=True, slots=True)
class _Mender:
    table: Name
    schema: Schema
    key: _Own
    around: Surroundings

    def conditions(self, parsed: exp.Expression) -> Iterator[tuple[exp.Expression, str]]:
        """Conditions joined by AND in each block that names the table, with the name that it has there."""
        for block in parsed.find_all(exp.Select, exp.Update, exp.Delete):
            where = block.args.get("where")
            alias = self._alias(block)
            if where is not None and alias is not None:
                for condition in conjuncts(where.this):
                    yield condition, alias

    def _alias(self, block: exp.Expression) -> str | None:
        """What the table is called in a block; None when it is not read there, or read twice."""
        from_ = block.args.get("from_") or block.args.get("from")
        sources: list[Any] = [block.this] if isinstance(block, exp.Update | exp.Delete) else []
        sources += [from_.this] if from_ is not None else []
        sources += [join.this for join in block.args.get("joins") or ()]
        found = []
        for source in sources:
            if isinstance(source, exp.Table) and isinstance(source.this, exp.Identifier):
                schema = source.args.get("db")
                name = self.schema.find(Name(folded(schema) if schema else None, folded(source.this)))
                alias = source.args.get("alias")
                if name == self.table and (alias is None or not alias.args.get("columns")):
                    found.append(folded(alias.this) if alias is not None else folded(source.this))
        return found[0] if len(found) == 1 else None

    def mended(self, condition: exp.Expression, alias: str) -> tuple[str, str] | None:
        """The condition in other words, and when that holds; None where no rule fits."""
        if not isinstance(condition, exp.EQ | exp.GTE | exp.GT | exp.LT | exp.LTE):
            return None
        left, right = condition.this, condition.expression
        while isinstance(left, exp.Paren):
            left = left.this
        if right.find(exp.Column, exp.Select) is not None:
            return None
        columns = list(left.find_all(exp.Column))
        if len(columns) != 1 or isinstance(left, exp.Column):
            return None
        column = columns[0]
        qualifier = column.args.get("table")
        own = self.key.get(folded(column.this)) if isinstance(column.this, exp.Identifier) else None
        if own is None or (qualifier is not None and folded(qualifier) != alias):
            return None
        try:
            return self._by_rule(condition, left, column, own, evaluate(right, self.around))
        except (NotKnown, ValueError, OverflowError):
            return None

    def _by_rule(
        self, condition: exp.Expression, left: Any, column: exp.Column, own: KeyColumn, value: Constant
    ) -> tuple[str, str] | None:
        name = column.sql("postgres")
        if isinstance(left, exp.Add | exp.Sub):
            return self._arithmetic(condition, left, name, own, value)
        if not isinstance(condition, exp.EQ) or not own.kind.is_time:
            return None
        match left:
            case exp.TimestampTrunc() | exp.DateTrunc() if left.this is column:
                return self._truncated(left, name, own, value)
            case exp.Cast() if left.to.this == exp.DataType.Type.DATE:
                return self._day(left.this, column, name, own, value)
            case exp.Extract() if left.this.name.upper() == "YEAR" and left.expression is column:
                if not isinstance(value.value, int):
                    return None
                return self._period(name, own, datetime(value.value, 1, 1), datetime(value.value + 1, 1, 1))
            case exp.TimeToStr() if left.this is column and isinstance(left.args.get("format"), exp.Literal):
                return self._written(str(left.args["format"].this), name, own, value)
            case _:
                return None

    def _truncated(self, left: Any, name: str, own: KeyColumn, value: Constant) -> tuple[str, str] | None:
        unit = left.args["unit"]
        word = str(unit.this if isinstance(unit, exp.Literal) else unit.name).lower()
        moment, _ = as_key(value, own.kind, own.type_name, self.around)
        if not isinstance(moment, date) or isinstance(moment, Null):
            return None
        wall = self._wall(moment)
        if word not in _NEXT or wall != _start(wall, word):
            return None  # the original never holds: nothing to offer
        return self._period(name, own, wall, _NEXT[word](wall))

    def _day(
        self, inner: Any, column: exp.Column, name: str, own: KeyColumn, value: Constant
    ) -> tuple[str, str] | None:
        day = value.value
        if isinstance(day, Unread):
            day = date.fromisoformat(day.text)
        if type(day) is not date:
            return None
        start = datetime.combine(day, time())
        while isinstance(inner, exp.Paren):
            inner = inner.this
        if inner is column:
            return self._period(name, own, start, start + timedelta(days=1))
        if isinstance(inner, exp.AtTimeZone) and inner.this is column and own.kind is Kind.TIMESTAMPTZ:
            zone = inner.args["zone"].sql("postgres")
            return (
                f"{name} >= CAST('{day}' AS TIMESTAMP) AT TIME ZONE {zone} "
                f"AND {name} < CAST('{day + timedelta(days=1)}' AS TIMESTAMP) AT TIME ZONE {zone}"
            ), ""
        return None

    def _written(self, pattern: str, name: str, own: KeyColumn, value: Constant) -> tuple[str, str] | None:
        """to_char with a pattern of year, month and day; the parser spells them as strftime does."""
        if not isinstance(value.value, Unread) or pattern not in _PATTERNS:
            return None
        form, unit = _PATTERNS[pattern]
        if re.fullmatch(form, value.value.text) is None:
            return None
        parts = [int(part) for part in re.findall(r"\d+", value.value.text)]
        start = datetime(*[*parts, 1, 1][:3])  # type: ignore[arg-type]
        return self._period(name, own, start, _NEXT[unit](start))

    def _arithmetic(
        self, condition: exp.Expression, left: Any, name: str, own: KeyColumn, value: Constant
    ) -> tuple[str, str] | None:
        """The calculation on the other side. Not with intervals: months differ in length, days where clocks change."""
        if not isinstance(left.this, exp.Column) or own.kind not in (Kind.INTEGER, Kind.DATE):
            return None
        step = evaluate(left.expression, self.around).value
        if not isinstance(step, int) or isinstance(step, bool):
            return None
        bound, _ = as_key(value, own.kind, own.type_name, self.around)
        sign = -1 if isinstance(left, exp.Add) else 1
        if isinstance(bound, int) and not isinstance(bound, bool):
            moved: object = bound + sign * step
        elif type(bound) is date:
            moved = bound + timedelta(days=sign * step)
        else:
            return None
        text = str(moved) if isinstance(moved, int) else f"'{moved}'"
        return f"{name} {_SIGNS[type(condition)]} {text}", ""

    def _wall(self, moment: date) -> datetime:
        if not isinstance(moment, datetime):
            return datetime.combine(moment, time())
        return moment.astimezone(self.around.zone).replace(tzinfo=None) if moment.tzinfo else moment

    def _period(self, name: str, own: KeyColumn, start: datetime, end: datetime) -> tuple[str, str]:
        """From start (in) to end (out), as the key's type spells them."""
        note = ""
        if own.kind is Kind.TIMESTAMPTZ:
            note = f"in the session's time zone, {self.around.zone}"
            ends = [each.replace(tzinfo=self.around.zone) for each in (start, end)]
            low, high = (spell(each) for each in ends)
        elif own.kind is Kind.DATE:
            low, high = spell(start.date()), spell(end.date())
        else:
            low, high = spell(start), spell(end)
        return f"{name} >= '{low}' AND {name} < '{high}'", note


_SIGNS: dict[type[exp.Expression], str] = {exp.EQ: "=", exp.GTE: ">=", exp.GT: ">", exp.LT: "<", exp.LTE: "<="}
_PATTERNS = {
    "%Y": (r"\d{4}", "year"),
    "%Y-%m": (r"\d{4}-\d\d", "month"),
    "%Y-%m-%d": (r"\d{4}-\d\d-\d\d", "day"),
}


def _next_month(wall: datetime, months: int = 1) -> datetime:
    year, month = divmod(wall.year * 12 + wall.month - 1 + months, 12)
    return wall.replace(year=year, month=month + 1)


_NEXT: dict[str, Any] = {
    "hour": lambda wall: wall + timedelta(hours=1),
    "day": lambda wall: wall + timedelta(days=1),
    "week": lambda wall: wall + timedelta(days=7),
    "month": _next_month,
    "quarter": lambda wall: _next_month(wall, 3),
    "year": lambda wall: _next_month(wall, 12),
}


def _start(wall: datetime, unit: str) -> datetime:
    midnight = wall.replace(hour=0, minute=0, second=0, microsecond=0)
    match unit:
        case "hour":
            return wall.replace(minute=0, second=0, microsecond=0)
        case "day":
            return midnight
        case "week":
            return midnight - timedelta(days=wall.weekday())
        case "month":
            return midnight.replace(day=1)
        case "quarter":
            return midnight.replace(day=1, month=(wall.month - 1) // 3 * 3 + 1)
        case _:
            return midnight.replace(day=1, month=1)
