"""Silent mistakes in conditions on a time key (N38): rows at the end of a day or a month that are lost, or read twice.

A statement with one of them is valid and prunes; only its rows are not those that were meant. So nothing is rewritten:
each mistake says what is read now, and what would be written for the whole day or month.
"""

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from enum import StrEnum
from typing import Any
from zoneinfo import ZoneInfo

from sqlglot import exp

from slabrow.core.rewriting.statement_rewrites import blocks
from slabrow.core.sql.clauses import conjuncts, folded
from slabrow.core.sql.constant_values import NotKnown, Surroundings
from slabrow.core.sql.constants import evaluate
from slabrow.core.sql.dialect import spoken
from slabrow.core.sql.key_constants import as_key
from slabrow.core.sql.operators import ORDERING, TURNED
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.schema import Schema
from slabrow.core.table.bounds import Range
from slabrow.core.table.tree import KeyColumn, Tree
from slabrow.core.values.key_values import Kind, midnight, spell
from slabrow.core.values.method import By
from slabrow.core.values.periods import beginning, following


class Slip(StrEnum):
    """The kinds of silent mistakes: the code that scripts see."""

    END_OF_DAY = "end_of_day"
    BARE_DATE_END = "bare_date_end"
    END_TAKEN_TWICE = "end_taken_twice"
    MONTH_CUT_SHORT = "month_cut_short"
    OTHER_ZONE = "other_zone"


@dataclass(frozen=True, slots=True)
class Mistake:
    """fragment: the condition as it stands; instead: the condition that was probably intended; None where that is not
    known.

    rows_sql   counts the rows between the two, of this table alone; None where it cannot be asked so
    """

    slip: Slip
    text: str
    fragment: str
    instead: str | None = None
    rows_sql: str | None = None


@dataclass(frozen=True, slots=True)
class _End:
    """One end of a range on the key. sign: `<`, `<=`, or for the other end `>=` or `>`; node: what is written there."""

    column: exp.Column
    own: KeyColumn
    sign: str
    node: exp.Expression
    wall: datetime
    condition: exp.Expression

    @property
    def name(self) -> str:
        return self.column.sql(spoken())


def mistakes(sql: str, tree: Tree, schema: Schema, around: Surroundings) -> tuple[Mistake, ...]:
    """Those of every block that names the table, in the order of the statement."""
    parsed = parse(sql)
    if parsed is None or not any(column.kind.is_time for column in tree.key):
        return ()
    found: list[Mistake] = []
    key = {column.name: column for column in tree.key if column.name and column.kind.is_time}
    for block, alias in blocks(parsed, tree.table, schema):
        conditions = conjuncts(block.args["where"].this)
        ends = [end for each in conditions for end in _ends(each, alias, key, around)]
        for end in ends:
            lows = [each for each in ends if each.own == end.own and each.sign in (">=", ">")]
            with suppress(OverflowError):  # at an end of Python's calendar there is no day beside it
                found += _at(end, lows, tree, block, conditions, around)
    return tuple(dict.fromkeys(found))


def _ends(condition: exp.Expression, alias: str, key: dict[str, KeyColumn], around: Surroundings) -> Iterator[_End]:
    pairs: list[tuple[Any, str, Any]] = []
    if isinstance(condition, exp.Between) and not condition.args.get("symmetric"):
        pairs = [(condition.this, ">=", condition.args["low"]), (condition.this, "<=", condition.args["high"])]
    elif type(condition) in ORDERING:
        sign = ORDERING[type(condition)]
        pairs = [(condition.this, sign, condition.expression), (condition.expression, TURNED[sign], condition.this)]
    for column, sign, node in pairs:
        if not isinstance(column, exp.Column) or not isinstance(column.this, exp.Identifier):
            continue
        own, qualifier = key.get(folded(column.this)), column.args.get("table")
        if own is None or (qualifier is not None and folded(qualifier) != alias) or node.find(exp.Column) is not None:
            continue
        try:
            moment, _ = as_key(evaluate(node, around), own.kind, own.type_name, around)
        except NotKnown:
            continue
        if isinstance(moment, datetime):
            wall = moment.astimezone(around.zone).replace(tzinfo=None) if moment.tzinfo else moment
        elif isinstance(moment, date):
            wall = midnight(moment)
        else:
            continue
        yield _End(column=column, own=own, sign=sign, node=node, wall=wall, condition=condition)


def _at(
    end: _End,
    lows: Sequence[_End],
    tree: Tree,
    block: exp.Expression,
    conditions: Sequence[exp.Expression],
    around: Surroundings,
) -> Iterator[Mistake]:
    text = _literal(end.node, around)
    if text is None:
        return
    is_bare = re.fullmatch(r"\d{4}-\d\d-\d\d", text.strip()) is not None
    is_moment = end.own.kind is not Kind.DATE
    wall, next_day = end.wall, following(beginning(end.wall, "day"), "day")
    from_first = any(low.wall == beginning(low.wall, "month") for low in lows)
    may_write = end.node.find(exp.Parameter, exp.Placeholder) is None

    def slip(kind: Slip, words: str, instead_end: datetime, rows: str) -> Mistake:
        low = end.condition.args.get("low")
        before = f"{end.name} >= {low.sql(spoken())} AND " if low is not None else ""
        instead = f"{before}{end.name} < {_quoted(instead_end)}" if may_write else None
        return Mistake(kind, words, end.condition.sql(spoken()), instead, _count(end, rows, block, conditions, tree))

    here = end.node.sql(spoken())
    if is_moment and end.sign in ("<=", "<") and (wall.hour, wall.minute) == (23, 59) and wall.microsecond != 999_999:
        rows = f"{end.name} {'>' if end.sign == '<=' else '>='} {here} AND {end.name} < {_quoted(next_day)}"
        yield slip(Slip.END_OF_DAY, "the day goes on after this moment, and its last rows are not read", next_day, rows)
    elif end.sign == "<=" and is_bare and wall == beginning(wall, "month") and from_first:
        words = "the beginning of the next month is read too, and with that month once more"
        yield slip(Slip.END_TAKEN_TWICE, words, wall, f"{end.name} = {here}")
    elif is_moment and end.sign == "<=" and is_bare:
        words = "a bare date means its midnight: of that day only the first moment is read"
        rows = f"{end.name} > {here} AND {end.name} < {_quoted(next_day)}"
        yield slip(Slip.BARE_DATE_END, words, next_day, rows)
    elif end.sign == "<" and is_bare and from_first and next_day == beginning(next_day, "month"):
        words = "the end is left out, so the last day of the month is not read"
        rows = f"{end.name} >= {here} AND {end.name} < {_quoted(next_day)}"
        yield slip(Slip.MONTH_CUT_SHORT, words, next_day, rows)
    if end.own.kind is Kind.TIMESTAMPTZ and tree.by is By.RANGE and tree.key[0] == end.own:
        yield from _other_zone(end, text, tree, around.zone)


_OFFSET = re.compile(r"(?:[+-]\d\d(?::?\d\d)?|Z|UTC)\s*$", re.IGNORECASE)


def _other_zone(end: _End, text: str, tree: Tree, zone: ZoneInfo) -> Iterator[Mistake]:
    """A midnight of the session's zone in a table whose partitions begin at midnights of another zone."""
    has_clock = ":" in text
    if end.wall != beginning(end.wall, "day") or (has_clock and _OFFSET.search(text)):
        return
    bounds = [
        edge
        for child in tree.children
        if isinstance(child.bounds, Range)
        for key in (child.bounds.from_, child.bounds.to)
        if key is not None and isinstance(edge := key[0], datetime)
    ]
    if not bounds or any(_is_midnight(edge, zone) for edge in bounds):
        return
    moment = end.wall.replace(tzinfo=zone).astimezone(UTC)
    near = min(bounds, key=lambda edge: abs(edge - moment))
    apart = moment - near
    if not timedelta() < abs(apart) <= timedelta(hours=14):
        return
    hours = f"{abs(apart).total_seconds() / 3600:g} hours {'after' if apart > timedelta() else 'before'}"
    yield Mistake(
        Slip.OTHER_ZONE,
        f"the session's time zone is {zone}, and no partition begins at a midnight there: this moment lies {hours} "
        f"the bound {spell(near)}",
        end.condition.sql(spoken()),
    )


def _is_midnight(edge: datetime, zone: ZoneInfo) -> bool:
    return edge.astimezone(zone).time() == time()


def _literal(node: Any, around: Surroundings) -> str | None:
    """The text of a literal, through casts and parameters; None for anything that is worked out."""
    while isinstance(node, exp.Paren | exp.Cast):
        node = node.this
    if isinstance(node, exp.Parameter | exp.Placeholder):
        given = around.parameter(node)
        return None if given is None else _literal(given, around)
    return around.literal(node) if isinstance(node, exp.Literal) and node.is_string else None


def _quoted(wall: datetime) -> str:
    return f"'{spell(wall.date() if wall.time() == time() else wall)}'"


def _count(end: _End, rows: str, block: exp.Expression, conditions: Sequence[exp.Expression], tree: Tree) -> str | None:
    """Counts what lies between: with the other conditions of a block that reads this table alone."""
    if end.node.find(exp.Parameter, exp.Placeholder) is not None:
        return None
    others = [
        each for each in conditions if not any(column.this == end.column.this for column in each.find_all(exp.Column))
    ]
    is_alone = isinstance(block, exp.Select) and not block.args.get("joins") and block.args.get("with_") is None
    usable = [each.sql(spoken()) for each in others if each.find(exp.Select, exp.Parameter, exp.Placeholder) is None]
    table = next((each for each in block.find_all(exp.Table) if isinstance(each.this, exp.Identifier)), None)
    if table is None:
        return None
    if not is_alone:
        qualifier = end.column.args.get("table")
        named = f"{tree.spelling} AS {qualifier.sql(spoken())}" if qualifier is not None else tree.spelling
        return f"SELECT count(*) FROM {named} WHERE {rows}"
    return f"SELECT count(*) FROM {table.sql(spoken())} WHERE {' AND '.join([rows, *(f'({each})' for each in usable)])}"
