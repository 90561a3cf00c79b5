"""Compares a table with its copy, in one statement and so in one view of both, while both are in use."""

from __future__ import annotations

from slabrow.core.table.bounds import Listed, Range
from slabrow.core.upkeep.live_plan import LivePlan
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.live.following import Following
from slabrow.servers.mariadb.quoting import identifier, literal

_BYTES = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit", "geometry")
_ALL = "'all partitions'"


def comparison(plan: LivePlan, following: Following) -> str:
    """The query: partition, rows of the table, rows of the copy, and whether they differ.

    Rows whose keys wait in the log are left out on both sides. Others are held against each other by their count and
    the sum of the checksums (CRC32) of their texts: unlike an XOR that does not lose rows that stand twice.
    """
    old, new = _sums(plan, following, following.source, 1), _sums(plan, following, following.target, -1)
    return (
        "SELECT part, sum(IF(sign = 1, held, 0)), sum(IF(sign = -1, held, 0)), "
        "sum(sign * held) <> 0 OR sum(sign * summed) <> 0 "
        f"FROM ({old} UNION ALL {new}) both_tables GROUP BY part ORDER BY part"
    )


def _sums(plan: LivePlan, following: Following, table: Name, sign: int) -> str:
    stored = [column for column in plan.shape.columns if column.name in plan.copied]
    text = ", '#', ".join(f"ifnull({_as_text(each.type_name, each.name)}, '\\\\N')" for each in stored)
    same = " AND ".join(f"l.{identifier(each.name)} = t.{identifier(each.name)}" for each in following.key)
    return (
        f"SELECT {sign:d} AS sign, {_label(plan)} AS part, count(*) AS held, sum(crc32(concat({text}))) AS summed "
        f"FROM {quoting.table(table)} t "
        f"WHERE NOT EXISTS (SELECT 1 FROM {quoting.table(following.log)} l WHERE {same}) GROUP BY 2"
    )


def _label(plan: LivePlan) -> str:
    """The partition that a row belongs to, by the bounds; of a hash, all are one."""
    arms = []
    for each in plan.planned:
        if isinstance(each.bounds, Range | Listed):
            try:
                arms.append(f"WHEN {quoting.condition(each.bounds, plan.layout.key)} THEN {literal(each.name)}")
            except ValueError:
                return _ALL
    return f"CASE {' '.join(arms)} ELSE 'the rest' END" if arms else _ALL


def _as_text(type_name: str, name: str) -> str:
    """A column as text of one character set, whatever its type."""
    column = f"t.{identifier(name)}"
    bare = type_name.split("(")[0].split(" ")[0]
    return f"hex({column})" if bare in _BYTES else f"convert({column} USING utf8mb4)"
