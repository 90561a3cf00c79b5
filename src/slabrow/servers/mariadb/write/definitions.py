"""Writes tables and their partitions as MariaDB's SQL, and refuses what the server cannot do. Pure.

The form that prunes best is chosen (measured on 10.11): RANGE COLUMNS for days and moments, RANGE of a whole number,
RANGE(UNIX_TIMESTAMP()) for TIMESTAMP, which nothing else can divide; LIST COLUMNS for lists; HASH for one whole number,
as KEY spreads consecutive numbers badly, and KEY for all other keys.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import Bounds, CatchAll, Listed, Range
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Column, Shape, extended
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.errors import LayoutError, Refusal
from slabrow.core.values.key_values import Edge, Key, Kind, Value
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier

MOST_LEAVES = 8_192
_IN_COLUMNS = ("date", "datetime", "time", "char", "varchar", "binary", "varbinary", "uuid", "inet6", "tinyint",
               "smallint", "mediumint", "int", "bigint")  # fmt: skip
_NEVER = (
    "tinytext",
    "text",
    "mediumtext",
    "longtext",
    "tinyblob",
    "blob",
    "mediumblob",
    "longblob",
    "json",
    "geometry",
)


@dataclass(frozen=True, slots=True)
class Way:
    """How a table is divided: `RANGE COLUMNS (`taken_at`)`. is_instant: by UNIX_TIMESTAMP of an instant."""

    clause: str
    is_instant: bool = False
    is_columns: bool = True


def way_of(layout: Layout, columns: Mapping[str, Column]) -> Way:
    """Raises LayoutError where the server cannot divide by such a key, with the nearest that works."""
    key = [columns[name] for name in layout.key if name in columns]
    for column in key:
        if _bare(column) in _NEVER:
            raise LayoutError(
                f"{layout.table} cannot be divided by {column.name}",
                found=f"its type is {column.type_name}, which no partition key of this server may have",
                fix="divide by another column, or by a generated column of type VARCHAR",
            )
    match layout.by:
        case By.HASH:
            return _hashed(layout.key, columns)
        case By.LIST:
            _only_in_columns(layout, key, "list")
            return Way(f"LIST COLUMNS ({quoting.columns(layout.key)})")
        case By.RANGE:
            if len(key) == 1 and _bare(key[0]) == "timestamp":
                return Way(f"RANGE (UNIX_TIMESTAMP({identifier(key[0].name)}))", is_instant=True, is_columns=False)
            if len(key) == 1 and key[0].kind is Kind.INTEGER and _bare(key[0]) != "year":
                return Way(f"RANGE ({identifier(key[0].name)})", is_columns=False)
            _only_in_columns(layout, key, "range")
            return Way(f"RANGE COLUMNS ({quoting.columns(layout.key)})")


def _bare(column: Column) -> str:
    return column.type_name.split("(", 1)[0].split(" ", 1)[0]


def _only_in_columns(layout: Layout, key: Sequence[Column], method: str) -> None:
    for column in key:
        if _bare(column) not in _IN_COLUMNS:
            fix = "keep that column alone in the key" if _bare(column) == "timestamp" else 'use by = "hash" for it'
            raise LayoutError(
                f"{layout.table} cannot be divided by {method} of {', '.join(layout.key)}",
                found=f"{column.name} is of type {column.type_name}, which {method.upper()} COLUMNS does not take",
                fix=f"{fix}, or divide by another column",
            )


def _hashed(key: tuple[str, ...], columns: Mapping[str, Column]) -> Way:
    only = columns.get(key[0])
    if len(key) == 1 and only is not None and only.kind is Kind.INTEGER and _bare(only) != "year":
        return Way(f"HASH ({identifier(key[0])})", is_columns=False)
    return Way(f"KEY ({quoting.columns(key)})")


def check(layout: Layout, shape: Shape, planned: Sequence[Planned]) -> None:
    """Raises LayoutError or Refusal for what this server cannot do."""
    leaves = sum(len(each.leaves) for each in planned)
    if leaves > MOST_LEAVES:
        raise LayoutError(
            f"the layout of {layout.table} gives {leaves:,} partitions",
            found=f"this server takes {MOST_LEAVES:,} a table",
            fix="take a wider span, or fewer parts",
        )
    if layout.within is not None and layout.within.by is not By.HASH:
        raise LayoutError(
            f"{layout.table} cannot be divided by {layout.within.by} within {layout.by}",
            found="within a range or a list this server divides by hash alone",
            fix='write within = { by = "hash", … }, or a range over two columns: key = ["day", "zone_code"]',
        )
    if layout.within is not None and layout.by is By.HASH:
        raise LayoutError(
            f"{layout.table} cannot be divided within a hash", fix="put the range or the list outside, the hash within"
        )
    if layout.divides_catch_all_only:
        raise LayoutError(
            f"the catch-all of {layout.table} cannot be divided alone",
            found="every partition of a table has the same number of its own partitions on this server",
            fix="remove `within`",
        )
    if foreign := [each for each in shape.constraints if each.kind == "f"]:
        raise Refusal(
            f"{layout.table} has a foreign key ({foreign[0].name}), which no partitioned table of this server may have",
            fix="leave it out, and check the references in the application",
        )


def create_table(shape: Shape, layout: Layout, planned: Sequence[Planned], name: Name) -> str:
    """CREATE TABLE with all its partitions: one statement, that is done wholly or not at all."""
    check(layout, shape, planned)
    columns = {column.name: column for column in shape.columns}
    quoted = {column: identifier(column) for column in layout.full_key}
    whole = extended(shape, layout.full_key, quoted)
    lines = [f"{identifier(column.name)} {column.definition}" for column in whole.columns]
    lines += [each.definition for each in whole.constraints if each.kind == "p"]
    lines += [each.definition for each in whole.indexes]
    lines += [each.definition for each in whole.constraints if each.kind == "c"]
    body = ",\n  ".join(lines)
    options = f" {whole.options[0]}" if whole.options else ""
    return f"CREATE TABLE {quoting.table(name)} (\n  {body}\n){options}\n{partition_by(layout, columns, planned)}"


def alteration(shape: Shape, layout: Layout, planned: Sequence[Planned]) -> str:
    """The server's own statement that divides a table: it copies all rows, and writers wait."""
    check(layout, shape, planned)
    columns = {column.name: column for column in shape.columns}
    whole = extended(shape, layout.full_key, {column: identifier(column) for column in layout.full_key})
    pairs = [
        (old.name, old.definition, new.definition)
        for old, new in zip(shape.constraints, whole.constraints, strict=True)
    ]
    pairs += [(old.name, old.definition, new.definition) for old, new in zip(shape.indexes, whole.indexes, strict=True)]
    changed: list[str] = []
    for name, old, new in pairs:
        if old != new:
            dropped = "PRIMARY KEY" if name == "PRIMARY" else f"KEY {identifier(name)}"
            changed += [f"DROP {dropped}", f"ADD {new}"]
    clause = partition_by(layout, columns, planned)
    return f"ALTER TABLE {quoting.table(layout.table)} {', '.join(changed)} {clause}".replace("\n", " ")


def partition_by(layout: Layout, columns: Mapping[str, Column], planned: Sequence[Planned]) -> str:
    """The PARTITION BY clause."""
    way = way_of(layout, columns)
    if layout.by is By.HASH:
        names = ", ".join(f"PARTITION {identifier(each.name)}" for each in planned)
        return f"PARTITION BY {way.clause} ({names})"
    within = ""
    if layout.within is not None:
        inner = _hashed(layout.within.key, columns)
        within = f"\nSUBPARTITION BY {inner.clause}"
    made = ",\n  ".join(definition(each, way, len(layout.key)) for each in planned)
    return f"PARTITION BY {way.clause}{within} (\n  {made}\n)"


def definition(planned: Planned, way: Way, width: int) -> str:
    """One partition with its bounds, and its own partitions by name."""
    subs = ", ".join(f"SUBPARTITION {identifier(each.name)}" for each in planned.inner)
    within = f" ({subs})" if subs else ""
    return f"PARTITION {identifier(planned.name)} {values(planned.bounds, way, width)}{within}"


def values(bounds: Bounds, way: Way, width: int = 1) -> str:
    """The bounds of a partition. Of a range only the end is written: it begins where the one before it ends."""
    match bounds:
        case Range(to=to):
            return f"VALUES LESS THAN {_end(to, way, width)}"
        case CatchAll() if way.clause.startswith("LIST"):
            return "DEFAULT"
        case CatchAll():
            return "VALUES LESS THAN MAXVALUE" if not way.is_columns else f"VALUES LESS THAN {_end(None, way, width)}"
        case Listed(values=listed):
            return f"VALUES IN ({', '.join(map(quoting.value, listed))})"
    raise LayoutError("a hash partition has no bounds of its own on this server", fix="convert the table")


def _end(to: Key | None, way: Way, width: int) -> str:
    if to is None:
        return "(" + ", ".join(["MAXVALUE"] * width) + ")" if way.is_columns else "MAXVALUE"
    if way.is_instant:
        return f"(UNIX_TIMESTAMP({quoting.value(to[0])}))"
    return "(" + ", ".join(_lowest(value) if value is Edge.MINVALUE else quoting.value(value) for value in to) + ")"


def _lowest(_: Value) -> str:
    """Below every value of a later column: there is no MINVALUE here, so the least that a column of days or numbers
    holds has to do.
    """
    raise LayoutError(
        "a range over several columns cannot begin below everything on this server",
        fix="divide by the first column alone, and put a hash within",
    )


def way_of_tree(tree: Tree) -> Way:
    """How a table is divided that is there already."""
    rule = tree.rule
    is_columns = rule is None or rule.is_columns
    method = {By.RANGE: "RANGE", By.LIST: "LIST", By.HASH: "HASH"}[tree.by]
    return Way(
        method + (" COLUMNS" if is_columns else ""),
        is_instant=rule is not None and rule.function == "unix_timestamp",
        is_columns=is_columns,
    )


def function_end(tree: Tree, bounds: Bounds, width: int) -> str:
    """The bounds of a new partition of a table that is there, in the form of its own partitions."""
    way = way_of_tree(tree)
    rule = tree.rule
    if (
        rule is not None
        and rule.function
        and rule.function != "unix_timestamp"
        and isinstance(bounds, Range)
        and bounds.to
    ):
        return f"VALUES LESS THAN ({rule.function.upper()}({quoting.value(bounds.to[0])}))"
    return values(bounds, way, width)
