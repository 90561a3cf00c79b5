"""The tree that a PARTITION BY clause describes. Pure.

Bounds come out as they are everywhere: half-open, each from the one before it. There is nothing below the first one,
so the first partition is open there, and holds the rows whose key is NULL (MariaDB 10.11, measured).
"""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.partition_clause import (
    MAXVALUE,
    Bound,
    HowDivided,
    PartitionClause,
    Written,
    WrittenPartition,
)
from slabrow.core.sql.pieces import Piece
from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range
from slabrow.core.table.tree import Division, KeyColumn, KeyRule, Partition, Tree
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import Edge, Key, Kind, Opaque, OpaqueKey, Value, parse_value
from slabrow.core.values.method import By
from slabrow.core.values.names import Name

_METHODS = {"range": By.RANGE, "list": By.LIST, "hash": By.HASH, "key": By.HASH}
_OF_A_CONSTANT = re.compile(r"\s*(\w+)\s*\(\s*'([^'\\]*)'\s*\)\s*")
_YEAR_ZERO = 365  # TO_DAYS('0001-01-01') is 366, where Python's first ordinal is 1
_DAY_S = 86_400


def _from_days(number: int) -> date:
    return date.fromordinal(number - _YEAR_ZERO)


def _from_seconds(number: int) -> datetime:
    days, seconds = divmod(number, _DAY_S)
    return datetime.combine(_from_days(days), datetime.min.time()) + timedelta(seconds=seconds)


# Functions that rise with their column, and the least value of the column whose function is not below a number.
_RISING: dict[str, Callable[[int], date | datetime]] = {
    "to_days": _from_days,
    "to_seconds": _from_seconds,
    "year": lambda number: date(number, 1, 1),
    "unix_timestamp": lambda number: datetime.fromtimestamp(number, UTC),
}


@dataclass(frozen=True, slots=True)
class LeafFigures:
    """Of one leaf: the estimate of its rows, and its bytes."""

    rows: int
    bytes: int


def tree_of_clause(
    table: Name,
    spelling: str,
    clause: PartitionClause,
    columns: Mapping[str, KeyColumn],
    usual_key: Sequence[str] = (),
    figures: Mapping[str, LeafFigures] | None = None,
) -> Tree:
    """columns    of the table
    usual_key  the columns of KEY () without columns: those of the primary key, else of a unique one
    figures    of each leaf, by its spelling

    Raises UsageError when the clause names columns that are not there.
    """
    key, rule = _key(clause.how, columns, usual_key)
    by = _METHODS[clause.how.method]
    division = None
    if clause.within is not None:
        inner_key, inner_rule = _key(clause.within, columns, usual_key)
        division = Division(By.HASH, inner_key, inner_rule)
    partitions: list[Partition] = []
    named = clause.named()
    for written, bounds in zip(named, _bounds(clause.how, key, rule, named), strict=True):
        spelled = written.name
        partitions.append(
            _leaf(table, spelled, spelled, spelling, bounds, figures)
            if division is None
            else Partition(Name(table.schema, spelled), spelled, spelling, bounds, is_leaf=False, division=division)
        )
        for place, sub in enumerate(written.subs):
            inner = Hashed(len(written.subs), place)
            partitions.append(_leaf(table, sub, f"{spelled}_{sub}", spelled, inner, figures))
    return Tree(table, spelling, by, key, tuple(partitions), rule)


def _leaf(
    table: Name, name: str, spelled: str, parent: str, bounds: Bounds, figures: Mapping[str, LeafFigures] | None
) -> Partition:
    known = (figures or {}).get(spelled)
    return Partition(
        Name(table.schema, name),
        spelled,
        parent,
        bounds,
        rows=None if known is None else known.rows,
        bytes=0 if known is None else known.bytes,
    )


def _key(
    how: HowDivided, columns: Mapping[str, KeyColumn], usual_key: Sequence[str]
) -> tuple[tuple[KeyColumn, ...], KeyRule]:
    by_name = {name.lower(): column for name, column in columns.items()}

    def column(name: str) -> KeyColumn:
        found = by_name.get(name.lower())
        if found is None:
            raise UsageError(f"the partition key names {name}", found=f"the columns are {', '.join(columns)}")
        return found

    if not how.expression:
        key = tuple(column(name) for name in how.columns or usual_key)
        return key, KeyRule(columns=key, is_key=how.method == "key", is_linear=how.is_linear, algorithm=how.algorithm)
    pieces = [each for each in lexemes(how.expression) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
    named = tuple(
        dict.fromkeys(
            by_name[each.value.lower()]
            for each in pieces
            if each.piece in (Piece.WORD, Piece.NAME) and each.value.lower() in by_name
        )
    )
    words = [each.value.lower() for each in pieces]
    if len(pieces) == 1 and named:
        return named, KeyRule(is_columns=False, columns=named, is_linear=how.is_linear)
    if how.method == "range" and len(pieces) == 4 and words[0] in _RISING and named and words[1::2] == ["(", ")"]:
        return named, KeyRule(is_columns=False, function=words[0], columns=named)
    spelled = KeyColumn(None, how.expression, Kind.INTEGER, "bigint")
    return (spelled,), KeyRule(is_columns=False, expression=how.expression, columns=named, is_linear=how.is_linear)


def _bounds(
    how: HowDivided, key: tuple[KeyColumn, ...], rule: KeyRule, partitions: Sequence[WrittenPartition]
) -> list[Bounds]:
    match how.method:
        case "range":
            return _ranges(key, rule, partitions)
        case "list":
            return [
                CatchAll() if each.is_default or each.values == () else Listed(tuple(_listed(each.values or (), key)))
                for each in partitions
            ]
        case _:
            return [Hashed(len(partitions), place) for place in range(len(partitions))]


def _ranges(key: tuple[KeyColumn, ...], rule: KeyRule, partitions: Sequence[WrittenPartition]) -> list[Bounds]:
    found: list[Bounds] = []
    before: Key | None = None
    for each in partitions:
        if each.less_than is None:
            raise UsageError(f"the partition {each.name} has no bound")
        if all(bound is MAXVALUE for bound in each.less_than):
            found.append(CatchAll())
            continue
        to = tuple(_end(bound, column, rule) for bound, column in zip(each.less_than, key, strict=True))
        found.append(Range(before, to))
        before = to
    return found


def _end(bound: Bound, column: KeyColumn, rule: KeyRule) -> Value:
    if bound is MAXVALUE:
        return Edge.MAXVALUE
    if rule.function and isinstance(bound, int):
        try:
            at = _RISING[rule.function](bound)
        except (ValueError, OverflowError):
            return Opaque(f"{rule.function}() = {bound}")
        if column.kind is Kind.DATE and isinstance(at, datetime):
            return at.date() if at == datetime.combine(at.date(), datetime.min.time()) else Opaque(str(at))
        if column.kind is Kind.TIMESTAMP and not isinstance(at, datetime):
            return datetime.combine(at, datetime.min.time())
        return at
    match = _OF_A_CONSTANT.fullmatch(bound.text) if isinstance(bound, Written) else None
    if match is not None and match.group(1).lower() == rule.function:  # as people write it: the server prints a number
        try:
            return parse_value(match.group(2), column.kind)
        except UsageError:
            return Opaque(match.group())
    value = as_value(bound, column.kind)
    return Opaque("NULL") if value is None else value


def as_value(bound: Bound, kind: Kind) -> Value | None:
    """A bound as a value of a column's kind; opaque where it cannot be read."""
    match bound:
        case None:
            return None
        case Written(text):
            return Opaque(text)
        case bytes():
            return Opaque("0x" + bound.hex())
        case int() if kind is Kind.INTEGER:
            return bound
        case int() | str():
            try:
                return parse_value(str(bound), kind)
            except UsageError:
                return Opaque(str(bound))
    return Opaque(str(bound))


def _listed(values: Sequence[Sequence[Bound]], key: tuple[KeyColumn, ...]) -> list[Value | None]:
    found: list[Value | None] = []
    for each in values:
        parts = tuple(as_value(bound, column.kind) for bound, column in zip(each, key, strict=True))
        if len(parts) == 1:
            found.append(parts[0])
        else:
            text = ", ".join("NULL" if part is None else str(part) for part in parts)
            found.append(OpaqueKey(f"({text})", parts))
    return found
