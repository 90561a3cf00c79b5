"""Writes the conversion of a plain table into a partitioned one: a copy, proved equal, then a swap of names.

One transaction. The table can be read all the time; writers wait from its first statement to its last. The old table
stays, under another name, until it is dropped on purpose.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from slabrow.core.upkeep.conversion_plan import ConversionPlan
from slabrow.core.upkeep.statements import Check, Part, Statement, Transaction
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.names import NAME_LIMIT, Name, fit, parse_name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.comparison import Comparison

COPIES = 24  # the copy goes in this many slices of blocks, so that progress can be shown
_INCOMING = "_incoming"

# How the whole work divides, measured on the demo's readings; only the progress bar depends on it.
_COPY_SHARE, _CHECK_SHARE, _KEYS_SHARE, _ANALYZE_SHARE = 0.45, 0.15, 0.35, 0.05


@dataclass(frozen=True, slots=True)
class Conversion:
    """Writes the statements of one plan."""

    plan: ConversionPlan

    @property
    def table(self) -> Name:
        """The table that is converted."""
        return self.plan.shape.name

    @property
    def incoming(self) -> Name:
        """The new table, under its passing name."""
        return self.table.sibling(fit(self.table.table, _INCOMING, NAME_LIMIT))

    def steps(self) -> tuple[Step, ...]:
        """All of it is one step, which cannot be taken back without losing what was written since."""
        name, old = (literal(str(each)) for each in (self.table, self.plan.old_name))
        is_done = (
            f"SELECT EXISTS (SELECT FROM pg_partitioned_table WHERE partrelid = to_regclass({name})) "
            f"AND obj_description(to_regclass({old}), 'pg_class') LIKE {literal(_like(mark(self.table, None)))}"
        )
        return (Step(name="copy and swap", transaction=self.transaction(), is_done=is_done),)

    def transaction(self) -> Transaction:
        """All statements, from the lock to the swap of names."""
        keys = ddl.NewKeys(self.plan.shape, self.plan.layout, _INCOMING)
        table, incoming = quoting.table(self.table), quoting.table(self.incoming)
        statements: list[Part] = [
            ddl.lock_timeout(self.plan.lock_wait_ms),
            # A limit that the role has for its queries is not meant for this; waits for locks stay bounded.
            Statement("SET LOCAL statement_timeout = 0"),
            # Readers go on; writers, and another conversion, wait.
            Statement(f"LOCK TABLE {table} IN SHARE ROW EXCLUSIVE MODE", is_lock=True),
            Check(self._same_columns(), f"the columns of {self.table} have changed meanwhile", fix="convert it again"),
            Statement(ddl.create_table(self.plan.shape, self.incoming, self.plan.layout)),
            *ddl.column_settings(self.plan.shape, self.incoming),
            *ddl.create_partitions(self.incoming, self.plan.planned, self.plan.shape, self.plan.layout),
            *self._copies(),
            *self._checks(),
            *keys.statements(self.incoming, _KEYS_SHARE),
            Statement(f"ANALYZE {incoming}", _ANALYZE_SHARE, "analysing"),
            *ddl.owners(self.plan.shape, self.incoming, self.plan.planned, self.plan.role),
            *ddl.grants(self.plan.shape, self.incoming, self.plan.planned),
            *ddl.comments(self.plan.shape, self.incoming),
            *self._swap(keys),
        ]
        # A partition, its TOAST table with index, and its other indexes, each locked until the end.
        tables = 1 + sum(1 for _ in ddl.names_of(self.incoming, self.plan.planned))
        locks = tables * (3 + keys.count)
        return Transaction(f"convert {self.table} to {self.plan.layout}", tuple(statements), locks=locks)

    def _checks(self) -> Iterator[Part]:
        if self.plan.is_compared:
            differs = f"the copy of {self.table} differs from the original"
            yield Check(self.comparison(), differs, _CHECK_SHARE, "comparing")

    def _same_columns(self) -> str:
        """Whether the table still has the columns that this was planned for: they were read before it was locked."""
        columns = [f"{column.name} {column.type_name}" for column in self.plan.shape.columns]
        planned = quoting.array([literal(column) for column in columns], "text")
        return f"""SELECT 'columns' AS what, {len(columns)} AS before, count(*) AS after,
       array_agg(attname || ' ' || format_type(atttypid, atttypmod) ORDER BY attnum)
           IS DISTINCT FROM {planned} AS differs
FROM pg_catalog.pg_attribute
WHERE attrelid = {literal(str(self.table))}::regclass AND attnum > 0 AND NOT attisdropped"""

    @property
    def _copied_columns(self) -> str:
        return ", ".join(identifier(column.name) for column in self.plan.shape.columns if column.generated is None)

    def _copies(self) -> Iterator[Statement]:
        """The copy in slices of blocks: TID range scans, so that each block is read once."""
        insert = f"INSERT INTO {quoting.table(self.incoming)} ({self._copied_columns})"
        if any(column.identity for column in self.plan.shape.columns):
            insert += " OVERRIDING SYSTEM VALUE"
        select = f"SELECT {self._copied_columns} FROM ONLY {quoting.table(self.table)}"
        slices = min(COPIES, max(1, self.plan.blocks // 1024))
        edges = [self.plan.blocks * place // slices for place in range(slices)]
        for place, first in enumerate(edges):
            where = [f"ctid >= '({first},0)'"] if first else []
            where += [f"ctid < '({edges[place + 1]},0)'"] if place + 1 < slices else []
            condition = f" WHERE {' AND '.join(where)}" if where else ""
            yield Statement(f"{insert}\n{select}{condition}", _COPY_SHARE / slices, f"copying the rows of {self.table}")

    def comparison(self) -> str:
        """A query with a row a partition: leaf, rows in the old table and in the new one, and whether they differ."""
        plan = self.plan
        columns = tuple(column.name for column in plan.shape.columns)
        source = f"ONLY {quoting.table(self.table)}"
        return Comparison(
            source, self.incoming, plan.layout, plan.planned, columns, plan.key_type, record_hash=plan.record_hash
        ).query()

    def _swap(self, keys: ddl.NewKeys) -> Iterator[Statement]:
        table, old, incoming = (quoting.table(name) for name in (self.table, self.plan.old_name, self.incoming))
        yield Statement(f"LOCK TABLE {table} IN ACCESS EXCLUSIVE MODE", is_lock=True)
        for sequence in self.plan.shape.sequences:
            column = identifier(sequence.column)
            if sequence.is_identity:
                new_sequence = f"pg_get_serial_sequence({literal(incoming)}, {literal(sequence.column)})"
                yield Statement(
                    f"SELECT setval({new_sequence}, last_value, is_called) FROM {quoting.table(sequence.name)}"
                )
            else:
                yield Statement(f"ALTER SEQUENCE {quoting.table(sequence.name)} OWNED BY {incoming}.{column}")
        for constraint in self.plan.shape.constraints:
            if constraint.is_key:
                yield Statement(
                    f"ALTER TABLE {table} RENAME CONSTRAINT {identifier(constraint.name)} "
                    f"TO {identifier(self._old(constraint.name))}"
                )
        for index in self.plan.shape.indexes:
            yield Statement(
                f"ALTER INDEX {quoting.table(self.table.sibling(index.name))} "
                f"RENAME TO {identifier(self._old(index.name))}"
            )
        yield Statement(f"ALTER TABLE {table} RENAME TO {identifier(self.plan.old_name.table)}")
        yield Statement(f"ALTER TABLE {incoming} RENAME TO {identifier(self.table.table)}")
        yield from keys.renames(self.table)
        yield Statement(f"COMMENT ON TABLE {old} IS {literal(mark(self.table, self.plan.shape.comment))}")

    def _old(self, name: str) -> str:
        return fit(name, "_before", NAME_LIMIT)


def _like(text: str) -> str:
    """A pattern for texts that begin with this one."""
    return re.sub(r"([\\%_])", r"\\\1", text) + "%"


_MARK = "slabrow: {table} as it was before its conversion"


def mark(table: Name, comment: str | None) -> str:
    """The comment that marks an old table as free to be dropped, followed by the comment that it had before."""
    return _MARK.format(table=table) + (f". {comment}" if comment else "")


def unmarked(comment: str | None) -> tuple[Name, str | None] | None:
    """Of an old table's comment the table that it was, and the comment that this had; None of another comment."""
    begin, end = _MARK.split("{table}")
    if comment is None or not comment.startswith(begin) or end not in comment:
        return None
    name, _, rest = comment.removeprefix(begin).partition(end)
    return parse_name(name), rest.removeprefix(". ") or None
