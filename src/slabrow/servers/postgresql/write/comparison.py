"""Compares a table with its copy, partition by partition: rows, and a fingerprint of them.

The fingerprint is the sum of a 64-bit hash of each row: it does not depend on the order of the rows, and unlike an
exclusive-or it changes when a row is doubled. It does not overflow: the server adds bigint up to a numeric
(https://www.postgresql.org/docs/current/functions-aggregate.html). The query works out the leaf of an old row
from its key; the leaf of a new row is the one into which the server has put the row.
"""

from dataclasses import dataclass

from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range
from slabrow.core.table.layout import Layout
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.values.key_values import Value, order
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal


@dataclass(frozen=True, slots=True)
class Comparison:
    """source: as in a FROM clause; copy: the partitioned table; key_type: of the leading key column, as SQL."""

    source: str
    copy: Name
    layout: Layout
    planned: tuple[Planned, ...]
    columns: tuple[str, ...]
    key_type: str
    record_hash: bool

    @property
    def _print(self) -> str:
        return row_print(self.columns, self.record_hash)

    def query(self) -> str:
        """A query with a row a partition: leaf, rows in the old table and in the new one, and whether they differ."""
        return f"""SELECT coalesce(o.leaf, n.leaf) AS leaf,
       coalesce(o.rows, 0) AS old_rows, coalesce(n.rows, 0) AS new_rows,
       (o.rows, o.print) IS DISTINCT FROM (n.rows, n.print) AS differs
FROM ({self._old_side()}) o
FULL JOIN (SELECT c.relname::text AS leaf, g.rows, g.print
           FROM (SELECT tableoid, count(*) AS rows, sum({self._print}) AS print
                 FROM {quoting.table(self.copy)} GROUP BY 1) g
           JOIN pg_catalog.pg_class c ON c.oid = g.tableoid) n ON n.leaf = o.leaf"""

    def _old_side(self) -> str:
        """Groups the rows by the number of their leaf, and looks up the leaf's name at the end.

        With OFFSET the planner does not merge the inner query into the outer one. Merged, the planner would take each
        key for a group of its own, sort all rows, and use one process. OFFSET 0 without a type also forbids several
        processes: the planner accepts only a bigint constant before it simplifies casts (`limit_needed`, planner.c).
        """
        names = quoting.array([literal(name) for name in self._numbers], "text")
        return (
            f"SELECT ({names})[number] AS leaf, rows, print\n"
            "      FROM (SELECT number, count(*) AS rows, sum(print) AS print\n"
            f"            FROM (SELECT {self._expected_leaf()} AS number, {self._print} AS print\n"
            f"                  FROM {self.source} OFFSET bigint '0') r GROUP BY 1) g"
        )

    @property
    def _numbers(self) -> dict[str, int]:
        """The number of each partition, of both levels, from 1."""
        names = (each.name for top in self.planned for each in (top, *top.inner))
        return {name: number for number, name in enumerate(names, 1)}

    def _expected_leaf(self) -> str:
        """SQL for the number of the leaf that a row of the old table belongs to, from its key alone."""
        numbers = self._numbers
        outer = self._expected(self.layout, self.planned, self.copy, numbers)
        within = self.layout.within
        if within is None:
            return outer
        inner = [
            f"WHEN {numbers[partition.name]} THEN "
            f"{self._expected(within, partition.inner, self.copy.sibling(partition.name), numbers)}"
            for partition in self.planned
            if partition.inner
        ]
        return f"CASE {outer} {' '.join(inner)} ELSE {outer} END"

    def _expected(self, layout: Layout, planned: tuple[Planned, ...], parent: Name, numbers: dict[str, int]) -> str:
        """SQL for the number of the partition of `parent`."""
        rest = next((numbers[each.name] for each in planned if isinstance(each.bounds, CatchAll)), None)
        otherwise = "NULL::int" if rest is None else str(rest)
        column = identifier(layout.key[0])
        if layout.by is By.RANGE:
            edges, names = _ranges_as_buckets(planned)
            thresholds = quoting.array([quoting.value(edge) for edge in edges], self.key_type)
            leaves = quoting.array([otherwise if name is None else str(numbers[name]) for name in names], "int")
            bucket = f"width_bucket({column}, {thresholds}) + 1"
            return f"CASE WHEN {column} IS NULL THEN {otherwise} ELSE ({leaves})[{bucket}] END"
        tests = [
            f"WHEN {test} THEN {numbers[partition.name]}"
            for partition in planned
            if (test := self._test(partition, layout, parent)) is not None
        ]
        if not tests:
            return otherwise
        return f"CASE {' '.join(tests)} ELSE {otherwise} END"

    @staticmethod
    def _test(partition: Planned, layout: Layout, parent: Name) -> str | None:
        column = identifier(layout.key[0])
        match partition.bounds:
            case Listed(values=values):
                among = ", ".join(quoting.value(value) for value in values if value is not None)
                tests = ([f"{column} IN ({among})"] if among else []) + (
                    [f"{column} IS NULL"] if None in values else []
                )
                return " OR ".join(tests)
            case Hashed(modulus=modulus, remainder=remainder):
                # The server's own function, so that both sides rest on different computations of the same rule.
                return (
                    f"satisfies_hash_partition({literal(str(parent))}::regclass, {modulus}, "
                    f"{remainder}, {quoting.columns(layout.key)})"
                )
            case _:
                return None


def whole_comparison(source: str, copy: Name, columns: tuple[str, ...], *, record_hash: bool) -> str:
    """A query that compares all rows of a source with those of a partitioned copy, whose server has placed each row.

    The first row is of all rows, the others tell how many lie in each leaf: as a row of `Comparison.query`.
    """
    row = row_print(columns, record_hash)
    sums = f"count(*) AS rows, sum({row}) AS print"
    return f"""WITH n AS MATERIALIZED (SELECT tableoid, {sums} FROM {quoting.table(copy)} GROUP BY 1)
SELECT 'all rows' AS leaf, o.rows AS old_rows, n.rows AS new_rows, (o.rows, o.print) IS DISTINCT FROM (n.rows, n.print)
       AS differs
FROM (SELECT {sums} FROM {source} s) o, (SELECT coalesce(sum(rows), 0)::bigint AS rows, sum(print) AS print FROM n) n
UNION ALL SELECT c.relname::text, n.rows, n.rows, false FROM n JOIN pg_catalog.pg_class c ON c.oid = n.tableoid"""


def row_print(columns: tuple[str, ...], record_hash: bool) -> str:
    """The fingerprint of a row as SQL. record_hash: whether every column has a hash function."""
    row = f"ROW({quoting.columns(columns)})"
    return f"hash_record_extended({row}, 0)" if record_hash else f"hashtextextended({row}::text, 0)"


def _ranges_as_buckets(planned: tuple[Planned, ...]) -> tuple[list[Value], list[str | None]]:
    """Sorted thresholds for width_bucket(), and the partition of each bucket: one bucket more than thresholds."""
    ranges = [(partition.bounds, partition.name) for partition in planned if isinstance(partition.bounds, Range)]
    ends = {end[0] for bounds, _ in ranges for end in (bounds.from_, bounds.to) if end is not None}
    edges = sorted(ends, key=lambda value: order((value,)))
    starts = {bounds.from_[0]: name for bounds, name in ranges if bounds.from_ is not None}
    below = next((name for bounds, name in ranges if bounds.from_ is None), None)
    return edges, [below, *(starts.get(edge) for edge in edges)]
