"""Statements that a new partition key breaks, or makes into something else (N53).

A unique key of a partitioned table contains the partition key (PostgreSQL manual, 5.12.2.3 Limitations). What relied on
the old key alone fails, or goes on and means less: an ON CONFLICT target without a matching key, a foreign key that
points here, a look-up that now reads every partition, an error that names another constraint.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from sqlglot import exp

from slabrow.core.sql.parsed import parse
from slabrow.core.table.shape import KeyChange, Shape
from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True, kw_only=True)
class Break:
    """code      `on_conflict`, `reference`, `every_partition`, `row_moves`, `uniqueness`, `constraint_name`
    name      of the statement, or of the function that holds it; empty for the table as a whole
    text      what happens after the conversion
    instead   what to write instead
    tried     the server's own words, where it was tried; None where it was not
    fails     whether it fails from then on; else it goes on, and does something else or more
    """

    code: str
    name: str
    sql: str
    text: str
    instead: str
    fails: bool
    tried: str | None = None
    weight: float = 0.0


@dataclass(frozen=True, slots=True)
class Breaking:
    """key: all columns of the partition key; changes: the unique keys that must take them in."""

    shape: Shape
    key: tuple[str, ...]
    changes: tuple[KeyChange, ...]

    @property
    def table(self) -> Name:
        """The table that is converted."""
        return self.shape.name

    def of_table(self) -> Iterator[Break]:
        """What holds for every statement."""
        for change in self.changes:
            before, after = ", ".join(change.before), ", ".join(change.after)
            yield Break(
                code="uniqueness",
                name="",
                sql="",
                text=(
                    f"({before}) alone is no longer kept unique by {change.name}, only ({after}) is: the same "
                    f"({before}) with another partition key is accepted"
                ),
                instead=f"let ({before}) come from a sequence, or look for it before inserting",
                fails=False,
            )

    def of_statement(self, name: str, sql: str, weight: float = 0.0) -> Iterator[Break]:
        """Of one statement of the workload; nothing for one that the parser does not understand."""
        tree = parse(sql)
        if tree is None:
            return
        found: list[tuple[str, str, str, bool]] = []
        for insert in tree.find_all(exp.Insert):
            found += self._on_conflict(insert)
        found += self._references(tree)
        for statement in tree.find_all(exp.Select, exp.Update, exp.Delete):
            found += self._looks_up(statement)
        for update in tree.find_all(exp.Update):
            found += self._moves(update)
        for code, text, instead, fails in dict.fromkeys(found):
            yield Break(code=code, name=name, sql=sql, text=text, instead=instead, fails=fails, weight=weight)

    def of_body(self, name: str, body: str) -> Iterator[Break]:
        """Of a function's body: of each statement in it that can be read, and of the names of constraints in it."""
        for statement in _STATEMENT.findall(body):
            yield from self.of_statement(name, re.sub(r"(?is)^\s*perform\b", "SELECT", statement))
        for change in self.changes:
            if re.search(rf"\b{re.escape(change.name)}\b", body):
                yield Break(
                    code="constraint_name",
                    name=name,
                    sql=change.name,
                    text=f"an error that names {change.name} will name the key of a partition instead",
                    instead="look at the SQLSTATE (23505), not at the name of the constraint",
                    fails=False,
                )

    def _on_conflict(self, insert: exp.Insert) -> Iterator[tuple[str, str, str, bool]]:
        conflict = insert.args.get("conflict")
        if not isinstance(conflict, exp.OnConflict) or not self._is_table(insert.this):
            return
        target = {_column(each) for each in conflict.args.get("conflict_keys") or ()}
        constraint = conflict.args.get("constraint")
        for change in self.changes:
            after = ", ".join(change.after)
            if target and target == set(change.before):
                yield (
                    "on_conflict",
                    f"no unique key matches ON CONFLICT ({', '.join(change.before)}) any more: the statement fails",
                    f"ON CONFLICT ({after}): it then finds only a row with the same {', '.join(change.added)}",
                    True,
                )
            elif (constraint is not None and _text(constraint) == change.name) or (not target and constraint is None):
                yield (
                    "on_conflict",
                    f"a row with the same ({', '.join(change.before)}) and another {', '.join(change.added)} is "
                    "no longer a "
                    "conflict: it is inserted beside the first one",
                    f"make sure that the same ({', '.join(change.before)}) always comes with the same "
                    f"{', '.join(change.added)}",
                    False,
                )

    def _references(self, tree: exp.Expression) -> Iterator[tuple[str, str, str, bool]]:
        for reference in tree.find_all(exp.Reference):
            into = reference.this
            schema = into if isinstance(into, exp.Schema) else None
            if not self._is_table(into):
                continue
            columns = {_column(each) for each in (schema.expressions if schema is not None else ())}
            for change in self.changes:
                if columns == set(change.before) or (not columns and change.what == "primary key"):
                    yield (
                        "reference",
                        f"no unique key matches REFERENCES {self.table} ({', '.join(change.before)}): it is refused",
                        f"refer to ({', '.join(change.after)}), with {', '.join(change.added)} in the other table too",
                        True,
                    )

    def _looks_up(self, statement: exp.Expression) -> Iterator[tuple[str, str, str, bool]]:
        where = statement.args.get("where")
        tables = {table.name for table in statement.find_all(exp.Table) if self._is_table(table)}
        if where is None or not tables:
            return
        named = {column.name for column in where.find_all(exp.Column)}
        equal = {
            side.name
            for test in where.find_all(exp.EQ)
            for side in (test.this, test.expression)
            if isinstance(side, exp.Column)
        }
        if self.key[0] in named:
            return
        for change in self.changes:
            if set(change.before) <= equal:
                yield (
                    "every_partition",
                    f"a look-up by ({', '.join(change.before)}) alone reads every partition",
                    f"add a condition on {self.key[0]}",
                    False,
                )

    def _moves(self, update: exp.Update) -> Iterator[tuple[str, str, str, bool]]:
        if not self._is_table(update.this):
            return
        changed = {_column(each.this) for each in update.expressions if isinstance(each, exp.EQ)} & set(self.key)
        if changed:
            yield (
                "row_moves",
                f"it sets {', '.join(sorted(changed))}: a row may move to another partition, and a transaction "
                "that waits "
                'for it fails with "tuple to be locked was already moved to another partition"',
                "let the application try again after SQLSTATE 40001",
                False,
            )

    def _is_table(self, found: object) -> bool:
        table = found.this if isinstance(found, exp.Schema) else found
        if not isinstance(table, exp.Table):
            return False
        return table.name == self.table.table and table.db in ("", self.table.schema)


# Statements within the body of a function: from their first word to the semicolon.
_STATEMENT = re.compile(r"(?is)\b(?:insert\s+into|update|delete\s+from|merge\s+into|select|perform)\b[^;]*")


def _column(found: object) -> str:
    column = found.this if isinstance(found, exp.Ordered) else found
    return column.name if isinstance(column, exp.Expression) else str(column)


def _text(found: object) -> str:
    return found.name if isinstance(found, exp.Expression) else str(found)
