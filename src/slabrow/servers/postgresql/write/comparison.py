"""Compares a table with its copy, partition by partition: rows, and a fingerprint of them.

The fingerprint is the sum of a 64-bit hash of each row: it does not depend on the order of the rows, and unlike an
exclusive-or it changes when a row is doubled. It does not overflow: the server adds bigint up to a numeric
(https://www.postgresql.org/docs/current/functions-aggregate.html). On the old side the partition is worked out from
the key, on the new side it is where the server has put the row.
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

MOST_FILTERS = 64  # above, one test for each leaf and row costs more than grouping


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
        """Few leaves: a sum for each in one pass, which the server divides among its processes. Many: grouped."""
        tests = self._tests()
        if tests is None:
            return (
                f"SELECT {self._expected_leaf()} AS leaf, count(*) AS rows, sum({self._print}) AS print\n"
                f"      FROM {self.source} GROUP BY 1"
            )
        sums = ", ".join(
            f"count(*) FILTER (WHERE {test}) AS rows_{number}, sum({self._print}) FILTER (WHERE {test}) "
            f"AS print_{number}"
            for number, (_, test) in enumerate(tests)
        )
        leaves = ", ".join(
            f"({literal(leaf)}, rows_{number}, print_{number})" for number, (leaf, _) in enumerate(tests)
        )
        # Rows that no leaf takes are there under no name, and differ.
        return (
            f"SELECT leaf, rows, print FROM (SELECT count(*) AS rows_all, {sums} FROM {self.source}) s, LATERAL "
            f"(VALUES {leaves}, "
            f"(NULL, rows_all - {' - '.join(f'rows_{number}' for number in range(len(tests)))}, NULL)) v (leaf, "
            "rows, print)"
            "\n      WHERE rows > 0"
        )

    def _tests(self) -> list[tuple[str, str]] | None:
        """The condition of each leaf; None where there are too many, or only the server can tell."""
        leaves = [(top, leaf) for top in self.planned for leaf in top.leaves]
        if len(leaves) > MOST_FILTERS or self.layout.by is By.HASH or any(top.inner for top in self.planned):
            return None
        column = identifier(self.layout.key[0])
        found = []
        for _, leaf in leaves:
            match leaf.bounds:
                case Range() as range_:
                    found.append((leaf.name, _between(column, range_)))
                case Listed():
                    found.append((leaf.name, f"({self._test(leaf, self.layout, self.copy)})"))
                case CatchAll():
                    others = [each for each in leaves if each[1] is not leaf]
                    found.append((leaf.name, self._outside(column, [each.bounds for _, each in others])))
        return found

    def _outside(self, column: str, bounds: list[object]) -> str:
        """The condition of the rows that none of the bounds holds: the gaps between them, and NULL."""
        ranges = sorted(
            (each for each in bounds if isinstance(each, Range)),
            key=lambda each: (each.from_ is not None, order(each.from_[:1]) if each.from_ else ()),
        )
        values = [value for each in bounds if isinstance(each, Listed) for value in each.values]
        tests = [] if None in values else [f"{column} IS NULL"]
        if values:
            listed = ", ".join(quoting.value(value) for value in values if value is not None)
            return " OR ".join([*tests, f"{column} NOT IN ({listed})" if listed else f"{column} IS NOT NULL"])
        end = None
        for range_ in ranges:
            if range_.from_ is not None and (end is None or order(end) < order(range_.from_[:1])):
                low = "" if end is None else f"{column} >= {quoting.value(end[0])} AND "
                tests.append(f"({low}{column} < {quoting.value(range_.from_[0])})")
            end = range_.to[:1] if range_.to is not None else None
        if end is not None or not ranges:
            tests.append(f"{column} >= {quoting.value(end[0])}" if end is not None else f"{column} IS NOT NULL")
        return "(" + " OR ".join(tests or ["false"]) + ")"

    def _expected_leaf(self) -> str:
        """SQL for the leaf's name that a row of the old table belongs to, from its key alone."""
        outer = self._expected(self.layout, self.planned, self.copy)
        within = self.layout.within
        if within is None:
            return outer
        inner = [
            f"WHEN {literal(partition.name)} THEN "
            f"{self._expected(within, partition.inner, self.copy.sibling(partition.name))}"
            for partition in self.planned
            if partition.inner
        ]
        return f"CASE {outer} {' '.join(inner)} ELSE {outer} END"

    def _expected(self, layout: Layout, planned: tuple[Planned, ...], parent: Name) -> str:
        """SQL for the name of the partition of `parent`."""
        rest = next((partition.name for partition in planned if isinstance(partition.bounds, CatchAll)), None)
        otherwise = "NULL::text" if rest is None else f"{literal(rest)}::text"
        column = identifier(layout.key[0])
        if layout.by is By.RANGE:
            edges, labels = _ranges_as_buckets(planned, rest)
            thresholds = quoting.array([quoting.value(edge) for edge in edges], self.key_type)
            names = quoting.array(["NULL" if label is None else literal(label) for label in labels], "text")
            bucket = f"width_bucket({column}, {thresholds}) + 1"
            return f"CASE WHEN {column} IS NULL THEN {otherwise} ELSE ({names})[{bucket}] END"
        tests = [
            f"WHEN {test} THEN {literal(partition.name)}"
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


def _between(column: str, held: Range) -> str:
    ends = [
        f"{column} {sign} {quoting.value(end[0])}"
        for end, sign in ((held.from_, ">="), (held.to, "<"))
        if end is not None
    ]
    return "(" + " AND ".join(ends or [f"{column} IS NOT NULL"]) + ")"


def _ranges_as_buckets(planned: tuple[Planned, ...], rest: str | None) -> tuple[list[Value], list[str | None]]:
    """Sorted thresholds for width_bucket(), and the leaf of each bucket: one bucket more than thresholds."""
    ranges = [(partition.bounds, partition.name) for partition in planned if isinstance(partition.bounds, Range)]
    ends = {end[0] for bounds, _ in ranges for end in (bounds.from_, bounds.to) if end is not None}
    edges = sorted(ends, key=lambda value: order((value,)))
    starts = {bounds.from_[0]: name for bounds, name in ranges if bounds.from_ is not None}
    below = next((name for bounds, name in ranges if bounds.from_ is None), rest)
    return edges, [below, *(starts.get(edge, rest) for edge in edges)]
