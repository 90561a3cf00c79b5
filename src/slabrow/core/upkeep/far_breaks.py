"""Statements that fail, or do something else, once a partition of their table lies on another server (N50, N53).

Each was seen on PostgreSQL 15 and 18: such a table has no key, so ON CONFLICT finds none; MERGE is refused for a plan
with a foreign table in it; a row leaves its partition for another one only when neither of them lies elsewhere.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from sqlglot import exp

from slabrow.core.sql.parsed import parse
from slabrow.core.upkeep.breaks import Break
from slabrow.core.values.names import Name

_STATEMENT = re.compile(r"(?is)\b(?:insert\s+into|update|merge\s+into|truncate)\b[^;]*")
_TRUNCATE = re.compile(r"(?is)\btruncate\s+(?:table\s+)?(?:only\s+)?([\w.\"]+)")


@dataclass(frozen=True, slots=True)
class FarBreaking:
    """key: the columns of the partition key."""

    table: Name
    key: tuple[str, ...]

    def of_statement(self, name: str, sql: str) -> Iterator[Break]:
        """What breaks in one statement of the workload; nothing when the parser does not understand the statement."""
        found: list[tuple[str, str, str]] = []
        if (emptied := _TRUNCATE.search(sql)) is not None and self._is_named(emptied.group(1)):
            found.append(("truncate", "TRUNCATE of the table is refused", "empty its partitions by name, or DELETE"))
        tree = parse(sql)
        for each in tree.find_all(exp.Insert, exp.Merge, exp.Update) if tree is not None else ():
            target = each.this.this if isinstance(each.this, exp.Schema) else each.this
            if isinstance(target, exp.Table) and self._is(target):
                found += self._of(each)
        for code, text, instead in dict.fromkeys(found):
            yield Break(code=code, name=name, sql=sql, text=text, instead=instead, fails=True)

    def of_body(self, name: str, body: str) -> Iterator[Break]:
        """What breaks in the statements of a function's body, as far as the parser understands them."""
        for statement in _STATEMENT.findall(body):
            yield from self.of_statement(name, statement)

    def _of(self, statement: exp.Expression) -> Iterator[tuple[str, str, str]]:
        if isinstance(statement, exp.Merge):
            yield (
                "merge",
                "MERGE fails when its plan reaches the partition elsewhere",
                "name the partition key in its ON, so that other partitions are left out; or UPDATE, then INSERT",
            )
        conflict = statement.args.get("conflict")
        if isinstance(conflict, exp.OnConflict) and (
            conflict.args.get("conflict_keys") or conflict.args.get("constraint")
        ):
            yield (
                "on_conflict",
                "no key matches its ON CONFLICT any more, for partitions that stay here too",
                "ON CONFLICT DO NOTHING without columns; or UPDATE, and INSERT what was not there",
            )
        if isinstance(statement, exp.Update):
            changed = {each.this.name for each in statement.expressions if isinstance(each, exp.EQ)} & set(self.key)
            if changed:
                yield (
                    "row_moves",
                    f"it sets {', '.join(sorted(changed))}: a row cannot leave the partition elsewhere, nor come there "
                    "when that is part of the plan",
                    "DELETE the row, and INSERT it anew",
                )

    def _is(self, table: exp.Table) -> bool:
        return table.name == self.table.table and table.db in ("", self.table.schema)

    def _is_named(self, spelled: str) -> bool:
        *schema, name = spelled.replace('"', "").split(".")
        return name == self.table.table and (not schema or schema[0] == self.table.schema)
