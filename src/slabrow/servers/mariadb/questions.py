"""The questions of `servers/asking.py`, answered by MariaDB: one door to the modules that ask."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.read import catalogue, row_counts

if TYPE_CHECKING:
    from slabrow.core.pruning.plan_reading import PlanReading, Query, UnvaluedPlan
    from slabrow.core.pruning.predict import Settings
    from slabrow.core.sql.answers import Answers
    from slabrow.core.sql.schema import Schema
    from slabrow.core.statistics.estimates import ColumnStatistics
    from slabrow.core.statistics.facts import TableFacts
    from slabrow.core.statistics.glance import Overview
    from slabrow.core.table.belongings import Belongings
    from slabrow.core.table.bounds import Bounds
    from slabrow.core.table.counted import BucketCounts, CatchAllCount, Extent, LeafCount
    from slabrow.core.table.export_column import ExportColumn
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.relation import ColumnFact, ForeignKeyFact, IndexFact, LeafFact, LeavesTotal, Relation
    from slabrow.core.table.shape import Shape
    from slabrow.core.table.tree import Partition, Tree
    from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
    from slabrow.core.values.key_values import Value
    from slabrow.core.values.names import Name
    from slabrow.core.weighing.costs import Costs
    from slabrow.core.weighing.workload import Workload
    from slabrow.servers.asking import Fence


@dataclass(frozen=True, slots=True)
class MariaCatalogue:
    """`protocols.Catalogue`, on one connection. See the protocol for what each answers."""

    connection: Connection

    def exists(self, name: Name) -> bool:
        """As `Catalogue.exists`."""
        return catalogue.exists(self.connection, name)

    def has_schema(self, name: str) -> bool:
        """As `Catalogue.has_schema`."""
        return catalogue.has_schema(self.connection, name)

    def relation(self, name: Name) -> Relation:
        """As `Catalogue.relation`."""
        return catalogue.relation(self.connection, name)

    def tree(self, name: Name, *, with_values: bool = False) -> Tree:
        """As `Catalogue.tree`."""
        return catalogue.tree(self.connection, name, with_values=with_values)

    def columns(self, found: Relation) -> tuple[ColumnFact, ...]:
        """As `Catalogue.columns`."""
        return catalogue.columns(self.connection, found)

    def column_statistics(self, found: Relation) -> dict[str, ColumnStatistics]:
        """As `Catalogue.column_statistics`."""
        from slabrow.servers.mariadb.read import statistics

        return statistics.column_statistics(self.connection, found)

    def indexes(self, found: Relation) -> tuple[IndexFact, ...]:
        """As `Catalogue.indexes`."""
        return catalogue.indexes(self.connection, found)

    def foreign_keys(self, found: Relation) -> tuple[ForeignKeyFact, ...]:
        """As `Catalogue.foreign_keys`."""
        return catalogue.foreign_keys(self.connection, found)

    def all_leaves(self) -> tuple[LeafFact, ...]:
        """As `Catalogue.all_leaves`."""
        return catalogue.all_leaves(self.connection)

    def names_like(self, prefix: str, *, partitions: bool, most: int) -> tuple[str, ...]:
        """As `Catalogue.names_like`."""
        return catalogue.names_like(self.connection, prefix, partitions=partitions, most=most)

    def names_in_schema(self, schema: str | None) -> frozenset[str]:
        """As `Catalogue.names_in_schema`."""
        return catalogue.names_in_schema(self.connection, schema)

    def leaves_total(self, found: Relation) -> LeavesTotal:
        """As `Catalogue.leaves_total`."""
        return catalogue.leaves_total(self.connection, found)

    def whole(self, found: Relation) -> tuple[Relation, LeavesTotal | None]:
        """As `Catalogue.whole`."""
        return catalogue.whole(self.connection, found)

    def blocks(self, found: Relation) -> int:
        """As `Catalogue.blocks`: the pages of the rows."""
        return found.heap_bytes // 16_384

    def current_role(self) -> str:
        """As `Catalogue.current_role`."""
        return catalogue.current_role(self.connection)

    def owner(self, found: Relation) -> str:
        """As `Catalogue.owner`: tables have none here, so the account that acts counts."""
        return catalogue.current_role(self.connection)

    def comment(self, found: Relation) -> str | None:
        """As `Catalogue.comment`."""
        return catalogue.comment(self.connection, found)

    def has_record_hash(self, found: Relation) -> bool:
        """As `Catalogue.has_record_hash`: every row can be hashed as text."""
        return True

    def is_type(self, text: str) -> bool:
        """As `Catalogue.is_type`."""
        from slabrow.core.sql.backquoted_types import is_known_type

        return is_known_type(text)

    def time_zone(self) -> ZoneInfo | None:
        """As `Catalogue.time_zone`."""
        return catalogue.session_zone(self.connection)

    def moment(self) -> datetime:
        """As `Catalogue.moment`."""
        return catalogue.moment(self.connection)

    def shape(self, name: Name) -> Shape:
        """As `Catalogue.shape`."""
        from slabrow.servers.mariadb.read import shape

        return shape.shape(self.connection, name)

    def belongings(self, found: Relation) -> Belongings:
        """As `Catalogue.belongings`."""
        from slabrow.servers.mariadb.read import belongings

        return belongings.belongings(self.connection, found)

    def recorded_by(self, table: Name) -> str | None:
        """As `Catalogue.recorded_by`: by the body of the trigger, which names the log."""
        row = self.connection.row(
            "SELECT action_statement FROM information_schema.triggers WHERE event_object_schema = %s "
            "AND event_object_table = %s AND trigger_name RLIKE '^(log|back)_[0-9]+_i$'",
            (table.schema or self.connection.database, table.table),
        )
        match = None if row is None else re.match(r"INSERT INTO `((?:[^`]|``)+)`\.", str(row[0]))
        return None if match is None else match.group(1).replace("``", "`")

    def bodies_naming(self, table: Name) -> tuple[tuple[str, str], ...]:
        """As `Catalogue.bodies_naming`."""
        rows = self.connection.rows(
            "SELECT routine_name, routine_definition FROM information_schema.routines "
            "WHERE routine_definition LIKE concat('%%', %s, '%%')",
            (table.table,),
        )
        return tuple((str(name), str(body or "")) for name, body in rows)

    def table_facts(self, name: Name) -> TableFacts:
        """As `Catalogue.table_facts`."""
        from slabrow.servers.mariadb.read import statistics

        return statistics.table_facts(self.connection, name)

    def stored_columns(self, table: Name) -> list[ExportColumn]:
        """As `Catalogue.stored_columns`."""
        from slabrow.servers.mariadb.read import row_export

        return row_export.stored_columns(self.connection, table)

    def schema(self, names: Iterable[Name]) -> Schema:
        """As `Catalogue.schema`."""
        from slabrow.servers.mariadb.ask import predicting

        return predicting.schema(self.connection, names)

    def settings(self) -> Settings:
        """As `Catalogue.settings`."""
        from slabrow.servers.mariadb.ask import predicting

        return predicting.settings(self.connection)

    def trees_in_parts(
        self, names: Sequence[Name], *, with_sizes: bool = True
    ) -> Iterator[Callable[[], dict[Name, Tree]]]:
        """As `Catalogue.trees_in_parts`: in one part."""
        with explained("read the tables"):
            found = catalogue.trees(self.connection, names, with_sizes=with_sizes)
        yield lambda: found

    def overview(self, now: datetime) -> Overview:
        """As `Catalogue.overview`."""
        from slabrow.servers.mariadb.read import overview

        return overview.overview(self.connection, now)

    def upkeep_facts(self, tree: Tree, like: Name | None = None) -> UpkeepFacts:
        """As `Catalogue.upkeep_facts`."""
        from slabrow.core.upkeep.upkeep_facts import UpkeepFacts

        with explained("read the table"):
            role = catalogue.current_role(self.connection)
        # Names of partitions are those of their table alone.
        taken = frozenset(name for each in tree.partitions for name in (each.name.table, each.spelling))
        return UpkeepFacts(owner=role, role=role, taken=taken)

    def copying(self, tree: Tree) -> Copying | None:
        """As `Catalogue.copying`: REORGANIZE PARTITION moves rows itself."""
        return None

    def shape_from_sql(self, definitions: Sequence[str], table: Name, doing: str) -> Shape | None:
        """As `Catalogue.shape_from_sql`."""
        from slabrow.servers.mariadb.read import shape

        return shape.shape_from_sql(self.connection, definitions, table, doing)


@dataclass(frozen=True, slots=True)
class MariaCounting:
    """`protocols.Counting`, on one connection."""

    connection: Connection

    def extent(self, table: Name, column: ColumnFact) -> Extent:
        """As `Counting.extent`."""
        return row_counts.extent(self.connection, table, column)

    def count_rows(self, table: Name) -> int:
        """As `Counting.count_rows`."""
        return row_counts.count_rows(self.connection, table)

    def count_buckets(self, table: Name, column: ColumnFact, thresholds: Sequence[Value]) -> BucketCounts:
        """As `Counting.count_buckets`."""
        return row_counts.count_buckets(self.connection, table, column, thresholds)

    def count_values(self, table: Name, column: ColumnFact) -> dict[Value | None, int]:
        """As `Counting.count_values`."""
        return row_counts.count_values(self.connection, table, column)

    def count_leaves(self, tree: Tree) -> dict[str, LeafCount]:
        """As `Counting.count_leaves`."""
        return row_counts.count_leaves(self.connection, tree)

    def rows_of_leaves(self, tree: Tree, leaves: Sequence[Partition]) -> dict[str, int]:
        """As `Counting.rows_of_leaves`."""
        return row_counts.rows_of_leaves(self.connection, tree.table, leaves)

    def any_rows(self, tree: Tree, leaves: Sequence[Partition]) -> bool:
        """As `Counting.any_rows`."""
        return row_counts.any_rows(self.connection, [row_counts.leaf_source(tree.table, leaf) for leaf in leaves])

    def count_catch_all(
        self, tree: Tree, catch_all: Partition, key: tuple[str, ...], held: Sequence[Bounds | None]
    ) -> CatchAllCount:
        """As `Counting.count_catch_all`."""
        source = row_counts.leaf_source(tree.table, catch_all)
        return row_counts.count_catch_all(self.connection, source, key, held)

    def some_values(self, tree: Tree, leaf: Partition, column: ColumnFact, most: int) -> list[Value]:
        """As `Counting.some_values`."""
        return row_counts.some_values(self.connection, row_counts.leaf_source(tree.table, leaf), column, most)

    def moving_obstacle(self, parent: Name, catch_all: Name) -> str | None:
        """As `Counting.moving_obstacle`: rows move by REORGANIZE PARTITION, which fires no trigger."""
        return None

    def count_keys(
        self, table: Name, columns: Sequence[ColumnFact]
    ) -> Iterator[tuple[list[list[str | None]], list[int]]]:
        """As `Counting.count_keys`."""
        return row_counts.count_keys(self.connection, table, columns)

    def count_pairs(
        self,
        table: Name,
        leading: ColumnFact,
        thresholds: Sequence[Value] | None,
        columns: Sequence[ColumnFact],
    ) -> Iterator[tuple[list[str | None], list[list[str | None]], list[int]]]:
        """As `Counting.count_pairs`."""
        return row_counts.count_pairs(self.connection, table, leading, thresholds, columns)

    def sample(self, table: Name, columns: Sequence[ColumnFact], percent: float) -> dict[str, list[Value | None]]:
        """As `Counting.sample`."""
        return row_counts.sample(self.connection, table, columns, percent)

    def routes(self, tree: Tree, keys: Sequence[Sequence[str | None]], zone: ZoneInfo) -> list[str | None] | None:
        """As `Counting.routes`: the server is always asked, as it alone knows its collations and zero dates."""
        return row_counts.routes(self.connection, tree, keys, zone)


@dataclass(frozen=True, slots=True)
class MariaPlanner:
    """`protocols.Planner`, on one connection."""

    connection: Connection

    def is_explainable(self, sql: str) -> bool:
        """As `Planner.is_explainable`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.is_explainable(sql)

    def plan(self, query: Query, timeout_ms: int) -> PlanReading:
        """As `Planner.plan`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.plan(self.connection, query, timeout_ms)

    def explain(self, query: Query, timeout_ms: int) -> str:
        """As `Planner.explain`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.explain(self.connection, query, timeout_ms)

    def read_explained(self, text: str) -> PlanReading:
        """As `Planner.read_explained`."""
        from slabrow.servers.mariadb.ask import plans

        return plans.read_plan(text)

    def plan_generic(self, query: Query, timeout_ms: int) -> PlanReading | None:
        """As `Planner.plan_generic`: there is none."""
        return None

    def plan_unvalued(self, sql: str, timeout_ms: int) -> UnvaluedPlan:
        """As `Planner.plan_unvalued`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.plan_unvalued(sql)

    def run(self, query: Query, timeout_ms: int, *, prunes: bool = True) -> PlanReading:
        """As `Planner.run`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.run(self.connection, query, timeout_ms, prunes=prunes)

    def run_change(self, query: Query, timeout_ms: int) -> PlanReading:
        """As `Planner.run_change`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.run_change(self.connection, query, timeout_ms)

    def result_print(self, query: Query, timeout_ms: int) -> tuple[int, str]:
        """As `Planner.result_print`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.result_print(self.connection, query, timeout_ms)

    def count(self, sql: str, timeout_ms: int) -> int:
        """As `Planner.count`."""
        from slabrow.servers.mariadb.ask import queries

        return queries.count(self.connection, sql, timeout_ms)

    def forget(self) -> None:
        """As `Planner.forget`: nothing is prepared on the server."""

    def powers(self) -> str | None:
        """As `Planner.powers`."""
        with explained("read the rights"):
            rows = self.connection.rows("SHOW GRANTS")
        text = " ".join(str(row[0]).upper() for row in rows)
        more = [word for word in ("ALL PRIVILEGES", "INSERT", "UPDATE", "DELETE", "FILE", "SUPER") if word in text]
        if not more:
            return None
        return (
            f"this user may do more than read ({', '.join(word.lower() for word in more)}): queries are run in "
            "read-only transactions that are rolled back, and a user with SELECT alone is safer still"
        )

    def answer(self, answers: Answers, fence: Fence) -> None:
        """As `Planner.answer`."""
        from slabrow.servers.mariadb.ask import answering

        answering.answer(self.connection, answers, fence)

    def read_statistics(self) -> Workload:
        """As `Planner.read_statistics`."""
        from slabrow.servers.mariadb.ask import digests

        return digests.read_statistics(self.connection)

    def tried(self, shape: Shape, layout: Layout, statements: Sequence[str]) -> list[str | None]:
        """As `Planner.tried`: none can be, as every definition commits."""
        return [None for _ in statements]

    def calibrated(self, progress: Callable[[float, str], None]) -> Costs:
        """As `Planner.calibrated`."""
        from slabrow.servers.mariadb.ask import calibration

        return calibration.calibrated(self.connection, progress)

    def usual_costs(self) -> Costs:
        """As `Planner.usual_costs`."""
        from slabrow.servers.mariadb.ask import calibration

        return calibration.usual_costs()
