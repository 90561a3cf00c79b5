"""A statement in other words that let it prune, and return the same rows.

The conditions are rewritten one by one by core/rewriting/condition_rewrites.py.

Only conditions that are joined by AND are rewritten, so that NULL keys stay left out on both sides. What depends on
the session's time zone is rewritten for the zone that is given, and says so.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import sqlglot
from sqlglot import exp

from slabrow.core.pruning.predict import Predictor
from slabrow.core.rewriting.backquoted_conditions import BackquotedMender
from slabrow.core.rewriting.condition_rewrites import Mender
from slabrow.core.rewriting.mended import Refused
from slabrow.core.sql.clauses import as_written, conjuncts, folded
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.dialect import BACKQUOTED, spoken
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.method import By
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class Rewrite:
    """sql: the whole statement; before, after: what was changed; notes: when it holds."""

    sql: str
    before: tuple[str, ...]
    after: tuple[str, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Unequal:
    """Words that come to mind for a part of a statement, and why they are not offered."""

    fragment: str
    why: str


@dataclass(frozen=True, slots=True)
class Rewriting:
    """rewrite: None where no other words are known."""

    rewrite: Rewrite | None
    unequal: tuple[Unequal, ...] = ()


NOTHING = Rewriting(None)


def rewritten(
    sql: str,
    table: Name,
    schema: Schema,
    key: tuple[KeyColumn, ...],
    around: Surroundings,
    by: By = By.RANGE,
) -> Rewriting:
    """The statement with every condition on the key mended that is known here."""
    shared = parse(sql)
    if shared is None:
        return Rewriting(None)
    parsed = shared.copy()
    columns = _columns(table, schema, key)
    kind = BackquotedMender if spoken() == BACKQUOTED else Mender
    changes: list[tuple[str, str, str]] = []
    unequal: list[Unequal] = []
    for block, alias in blocks(parsed, table, schema):
        mender = kind(columns, around, alias)
        conditions = conjuncts(block.args["where"].this)
        conditions = _months(mender, conditions, changes, unequal)
        for condition in conditions:
            fragment = as_written(condition)
            try:
                found = mender.mended(condition)
            except Refused as refused:
                unequal.append(Unequal(fragment, str(refused)))
                continue
            if found is not None:
                changes.append((fragment, found.text, found.note))
                _replace(condition, found.text)
    if not changes and by is By.HASH and len(key) > 1:
        apart = _apart(parsed, table, schema, columns)
        if apart is not None:
            return Rewriting(apart, tuple(unequal))
    if not changes:
        return Rewriting(None, tuple(unequal))
    before, after, notes = zip(*changes, strict=True)
    kept = tuple(dict.fromkeys(note for note in notes if note))
    return Rewriting(Rewrite(as_written(parsed), before, after, kept), tuple(unequal))


def _columns(table: Name, schema: Schema, key: tuple[KeyColumn, ...]) -> dict[str, KeyColumn]:
    """The columns of the key. In the dialect with backquotes also those within a function of it, as TO_DAYS(taken_at):
    a range of the bare column prunes there.
    """
    columns = {column.name: column for column in key if column.name}
    if spoken() != BACKQUOTED:
        return columns
    own = {name.lower(): column for name, column in schema.tables.get(table, {}).items()}  # their case says nothing
    found = {name.lower(): column for name, column in columns.items()}
    for each in key:
        text = parse(f"SELECT {each.text}") if each.name is None else None
        named = [] if text is None else [column.name.lower() for column in text.find_all(exp.Column)]
        found |= {name: own[name] for name in named if name in own}
    return found


def _replace(condition: exp.Expression, text: str) -> None:
    condition.replace(exp.Paren(this=sqlglot.parse_one(text, read=spoken())))


def _months(
    mender: Mender | BackquotedMender,
    conditions: Sequence[exp.Expression],
    changes: list[tuple[str, str, str]],
    unequal: list[Unequal],
) -> list[exp.Expression]:
    """Mends a year and a month that are asked for apart, and returns the other conditions."""
    for year in conditions:
        for month in conditions:
            if year is month:
                continue
            try:
                found = mender.month_of_year(year, month)
            except Refused as refused:
                unequal.append(Unequal(f"{as_written(year)} AND {as_written(month)}", str(refused)))
                return [each for each in conditions if each is not year and each is not month]
            if found is not None:
                changes.append((f"{as_written(year)} AND {as_written(month)}", found.text, found.note))
                _replace(year, found.text)
                month.replace(exp.Boolean(this=True))
                return [each for each in conditions if each is not year and each is not month]
    return list(conditions)


def blocks(parsed: exp.Expression, table: Name, schema: Schema) -> Iterator[tuple[exp.Expression, str]]:
    """Each block with conditions that names the table once, and the name that it has there."""
    for block in list(parsed.find_all(exp.Select, exp.Update, exp.Delete)):
        alias = _alias(block, table, schema)
        if block.args.get("where") is not None and alias is not None:
            yield block, alias


def _alias(block: exp.Expression, table: Name, schema: Schema) -> str | None:
    """The name of the table in a block; None when the block does not read it, or reads it twice."""
    from_ = block.args.get("from_") or block.args.get("from")
    sources: list[Any] = [block.this] if isinstance(block, exp.Update | exp.Delete) else []
    sources += [from_.this] if from_ is not None else []
    sources += [join.this for join in block.args.get("joins") or ()]
    found = []
    for source in sources:
        if isinstance(source, exp.Table) and isinstance(source.this, exp.Identifier):
            in_schema = source.args.get("db")
            name = schema.find(Name(folded(in_schema) if in_schema else None, folded(source.this)))
            alias = source.args.get("alias")
            if name == table and (alias is None or not alias.args.get("columns")):
                found.append(folded(alias.this) if alias is not None else folded(source.this))
    return found[0] if len(found) == 1 else None


_MOST_APART = 8
_PLAIN = {"kind", "hint", "expressions", "from", "from_", "where", "joins"}


def _apart(parsed: exp.Expression, table: Name, schema: Schema, key: dict[str, KeyColumn]) -> Rewrite | None:
    """`a = 1 AND b IN (2, 3)` on a hash of (a, b), as two SELECTs.

    With an IN the server knows one column only, and of the same as an OR it takes out `a = 1` before it looks
    (find_duplicate_ors, prepqual.c). Only for a block whose rows nothing orders, counts, groups or cuts off.
    """
    if not isinstance(parsed, exp.Select) or any(parsed.args.get(name) for name in parsed.args.keys() - _PLAIN):
        return None
    alias = _alias(parsed, table, schema)
    if (
        alias is None
        or parsed.args.get("where") is None
        or any(each.find(exp.AggFunc, exp.Window) for each in parsed.expressions)
    ):
        return None
    for condition in conjuncts(parsed.args["where"].this):
        if (
            not isinstance(condition, exp.In)
            or condition.args.get("query")
            or not isinstance(condition.this, exp.Column)
        ):
            continue
        values = list(dict.fromkeys(value.sql(spoken()) for value in condition.expressions))
        if folded(condition.this.this) not in key or not 1 < len(values) <= _MOST_APART:
            continue
        if not all(isinstance(value, exp.Literal) for value in condition.expressions):
            continue  # two parameters may be given the same value
        column, before = condition.this.sql(spoken()), condition.sql(spoken())
        arms = []
        place = conjuncts(parsed.args["where"].this).index(condition)
        for value in values:
            arm = parsed.copy()
            _replace(conjuncts(arm.args["where"].this)[place], f"{column} = {value}")
            arms.append(arm.sql(spoken()))
        after = " UNION ALL ".join(f"… {column} = {value}" for value in values)
        return Rewrite(" UNION ALL ".join(arms), (before,), (after,), ("one SELECT for each value",))
    return None


def better_words(predictor: Predictor, sql: str, around: Surroundings) -> Rewriting:
    """The statement in other words that leave out more leaves, if any are known, and words that are not equal."""
    before = predictor.touched(sql, around)
    tree = predictor.tree
    found = rewritten(sql, tree.table, predictor.schema, tree.key, around, tree.by)
    if before is None or found.rewrite is None:
        return found
    after = predictor.touched(found.rewrite.sql, around)
    is_better = after is not None and len(after.started) < len(before.started)
    return found if is_better else Rewriting(None, found.unequal)
