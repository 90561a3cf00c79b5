"""The questions of `servers/asking.py`, answered by PostgreSQL: one door to the modules that ask.

A module is loaded when one of its questions is asked for the first time: a run of `tend` that finds nothing to do needs
few of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from slabrow.core.values.method import By
from slabrow.servers.postgresql.connection import Connection

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
class PostgresCatalogue:
    """`protocols.Catalogue`, on one connection."""

    connection: Connection

    def exists(self, name: Name) -> bool:
        """As `Catalogue.exists`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.exists(self.connection, name)

    def has_schema(self, name: str) -> bool:
        """As `Catalogue.has_schema`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.has_schema(self.connection, name)

    def relation(self, name: Name) -> Relation:
        """As `Catalogue.relation`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.relation(self.connection, name)

    def tree(self, name: Name, *, with_values: bool = False) -> Tree:
        """As `Catalogue.tree`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.tree(self.connection, name, with_values=with_values)

    def columns(self, found: Relation) -> tuple[ColumnFact, ...]:
        """As `Catalogue.columns`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.columns(self.connection, found)

    def column_statistics(self, found: Relation) -> dict[str, ColumnStatistics]:
        """As `Catalogue.column_statistics`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.column_statistics(self.connection, found)

    def indexes(self, found: Relation) -> tuple[IndexFact, ...]:
        """As `Catalogue.indexes`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.indexes(self.connection, found)

    def foreign_keys(self, found: Relation) -> tuple[ForeignKeyFact, ...]:
        """As `Catalogue.foreign_keys`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.foreign_keys(self.connection, found)

    def all_leaves(self) -> tuple[LeafFact, ...]:
        """As `Catalogue.all_leaves`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.all_leaves(self.connection)

    def names_like(self, prefix: str, *, partitions: bool, most: int) -> tuple[str, ...]:
        """As `Catalogue.names_like`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.names_like(self.connection, prefix, partitions=partitions, most=most)

    def names_in_schema(self, schema: str | None) -> frozenset[str]:
        """As `Catalogue.names_in_schema`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.names_in_schema(self.connection, schema)

    def leaves_total(self, found: Relation) -> LeavesTotal:
        """As `Catalogue.leaves_total`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.leaves_total(self.connection, found)

    def whole(self, found: Relation) -> tuple[Relation, LeavesTotal | None]:
        """As `Catalogue.whole`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.whole(self.connection, found)

    def blocks(self, found: Relation) -> int:
        """As `Catalogue.blocks`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.blocks(self.connection, found)

    def current_role(self) -> str:
        """As `Catalogue.current_role`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.current_role(self.connection)

    def owner(self, found: Relation) -> str:
        """As `Catalogue.owner`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.owner(self.connection, found)

    def comment(self, found: Relation) -> str | None:
        """As `Catalogue.comment`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.comment(self.connection, found)

    def has_record_hash(self, found: Relation) -> bool:
        """As `Catalogue.has_record_hash`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.has_record_hash(self.connection, found)

    def is_type(self, text: str) -> bool:
        """As `Catalogue.is_type`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.is_type(self.connection, text)

    def time_zone(self) -> ZoneInfo | None:
        """As `Catalogue.time_zone`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.time_zone(self.connection)

    def moment(self) -> datetime:
        """As `Catalogue.moment`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.moment(self.connection)

    def shape(self, name: Name) -> Shape:
        """As `Catalogue.shape`."""
        from slabrow.servers.postgresql.read import shape

        return shape.shape(self.connection, name)

    def belongings(self, found: Relation) -> Belongings:
        """As `Catalogue.belongings`."""
        from slabrow.servers.postgresql.read import belongings

        return belongings.belongings(self.connection, found)

    def recorded_by(self, table: Name) -> str | None:
        """As `Catalogue.recorded_by`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.recorded_by(self.connection, table)

    def bodies_naming(self, table: Name) -> tuple[tuple[str, str], ...]:
        """As `Catalogue.bodies_naming`."""
        from slabrow.servers.postgresql.read import catalogue

        return catalogue.bodies_naming(self.connection, table)

    def table_facts(self, name: Name) -> TableFacts:
        """As `Catalogue.table_facts`."""
        from slabrow.servers.postgresql.read import facts

        return facts.table_facts(self.connection, name)

    def stored_columns(self, table: Name) -> list[ExportColumn]:
        """As `Catalogue.stored_columns`."""
        from slabrow.servers.postgresql.read import row_export

        return row_export.stored_columns(self.connection, table)

    def schema(self, names: Iterable[Name]) -> Schema:
        """As `Catalogue.schema`."""
        from slabrow.servers.postgresql.ask import predicting

        return predicting.schema(self.connection, names)

    def settings(self) -> Settings:
        """As `Catalogue.settings`."""
        from slabrow.servers.postgresql.ask import predicting

        return predicting.settings(self.connection)

    def trees_in_parts(
        self, names: Sequence[Name], *, with_sizes: bool = True
    ) -> Iterator[Callable[[], dict[Name, Tree]]]:
        """As `Catalogue.trees_in_parts`."""
        from slabrow.servers.postgresql.read import upkeep

        return upkeep.trees_in_parts(self.connection, names, with_sizes=with_sizes)

    def overview(self, now: datetime) -> Overview:
        """As `Catalogue.overview`."""
        from slabrow.servers.postgresql.read import overview

        return overview.overview(self.connection, now)

    def upkeep_facts(self, tree: Tree, like: Name | None = None) -> UpkeepFacts:
        """As `Catalogue.upkeep_facts`."""
        from slabrow.servers.postgresql.read import upkeep

        return upkeep.upkeep_facts(self.connection, tree, like)

    def copying(self, tree: Tree) -> Copying | None:
        """As `Catalogue.copying`."""
        from slabrow.servers.postgresql.read import upkeep

        return upkeep.copying(self.connection, tree)

    def shape_from_sql(self, definitions: Sequence[str], table: Name, doing: str) -> Shape | None:
        """As `Catalogue.shape_from_sql`."""
        from slabrow.servers.postgresql.read import schema_file

        return schema_file.shape_from_sql(self.connection, definitions, table, doing)


@dataclass(frozen=True, slots=True)
class PostgresCounting:
    """`protocols.Counting`, on one connection."""

    connection: Connection

    def extent(self, table: Name, column: ColumnFact) -> Extent:
        """As `Counting.extent`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.extent(self.connection, table, column)

    def count_rows(self, table: Name) -> int:
        """As `Counting.count_rows`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_rows(self.connection, table)

    def count_buckets(self, table: Name, column: ColumnFact, thresholds: Sequence[Value]) -> BucketCounts:
        """As `Counting.count_buckets`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_buckets(self.connection, table, column, thresholds)

    def count_values(self, table: Name, column: ColumnFact) -> dict[Value | None, int]:
        """As `Counting.count_values`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_values(self.connection, table, column)

    def count_leaves(self, tree: Tree) -> dict[str, LeafCount]:
        """As `Counting.count_leaves`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_leaves(self.connection, tree)

    def rows_of_leaves(self, tree: Tree, leaves: Sequence[Partition]) -> dict[str, int]:
        """As `Counting.rows_of_leaves`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.rows_of_leaves(self.connection, leaves)

    def any_rows(self, tree: Tree, leaves: Sequence[Partition]) -> bool:
        """As `Counting.any_rows`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.any_rows(self.connection, [leaf.name for leaf in leaves])

    def count_catch_all(
        self, tree: Tree, catch_all: Partition, key: tuple[str, ...], held: Sequence[Bounds | None]
    ) -> CatchAllCount:
        """As `Counting.count_catch_all`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_catch_all(self.connection, catch_all.name, key, held)

    def some_values(self, tree: Tree, leaf: Partition, column: ColumnFact, most: int) -> list[Value]:
        """As `Counting.some_values`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.some_values(self.connection, leaf.name, column, most)

    def moving_obstacle(self, parent: Name, catch_all: Name) -> str | None:
        """As `Counting.moving_obstacle`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.moving_obstacle(self.connection, parent, catch_all)

    def count_keys(
        self, table: Name, columns: Sequence[ColumnFact]
    ) -> Iterator[tuple[list[list[str | None]], list[int]]]:
        """As `Counting.count_keys`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_keys(self.connection, table, columns)

    def count_pairs(
        self,
        table: Name,
        leading: ColumnFact,
        thresholds: Sequence[Value] | None,
        columns: Sequence[ColumnFact],
    ) -> Iterator[tuple[list[str | None], list[list[str | None]], list[int]]]:
        """As `Counting.count_pairs`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.count_pairs(self.connection, table, leading, thresholds, columns)

    def sample(self, table: Name, columns: Sequence[ColumnFact], percent: float) -> dict[str, list[Value | None]]:
        """As `Counting.sample`."""
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.sample(self.connection, table, columns, percent)

    def routes(self, tree: Tree, keys: Sequence[Sequence[str | None]], zone: ZoneInfo) -> list[str | None] | None:
        """As `Counting.routes`."""
        if tree.by is not By.HASH:
            return None
        from slabrow.servers.postgresql.read import row_counts

        return row_counts.hash_routes(self.connection, tree, keys)


@dataclass(frozen=True, slots=True)
class PostgresPlanner:
    """`protocols.Planner`, on one connection."""

    connection: Connection

    def is_explainable(self, sql: str) -> bool:
        """As `Planner.is_explainable`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.is_explainable(sql)

    def plan(self, query: Query, timeout_ms: int) -> PlanReading:
        """As `Planner.plan`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.plan(self.connection, query, timeout_ms)

    def explain(self, query: Query, timeout_ms: int) -> str:
        """As `Planner.explain`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.explain(self.connection, query, timeout_ms)

    def read_explained(self, text: str) -> PlanReading:
        """As `Planner.read_explained`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.read_explained(text)

    def plan_generic(self, query: Query, timeout_ms: int) -> PlanReading:
        """As `Planner.plan_generic`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.plan_generic(self.connection, query, timeout_ms)

    def plan_unvalued(self, sql: str, timeout_ms: int) -> UnvaluedPlan:
        """As `Planner.plan_unvalued`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.plan_unvalued(self.connection, sql, timeout_ms)

    def run(self, query: Query, timeout_ms: int, *, prunes: bool = True) -> PlanReading:
        """As `Planner.run`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.run(self.connection, query, timeout_ms, prunes=prunes)

    def run_change(self, query: Query, timeout_ms: int) -> PlanReading:
        """As `Planner.run_change`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.run_change(self.connection, query, timeout_ms)

    def result_print(self, query: Query, timeout_ms: int) -> tuple[int, str]:
        """As `Planner.result_print`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.result_print(self.connection, query, timeout_ms)

    def count(self, sql: str, timeout_ms: int) -> int:
        """As `Planner.count`."""
        from slabrow.servers.postgresql.ask import queries

        return queries.count(self.connection, sql, timeout_ms)

    def forget(self) -> None:
        """As `Planner.forget`."""
        from slabrow.servers.postgresql.ask import queries

        queries.forget(self.connection)

    def powers(self) -> str | None:
        """As `Planner.powers`."""
        from slabrow.servers.postgresql.ask import side_effects

        return side_effects.powers(self.connection)

    def answer(self, answers: Answers, fence: Fence) -> None:
        """As `Planner.answer`."""
        from slabrow.servers.postgresql.ask import answering

        answering.answer(self.connection, answers, fence)

    def read_statistics(self) -> Workload:
        """As `Planner.read_statistics`."""
        from slabrow.servers.postgresql.ask import statement_statistics

        return statement_statistics.read_statistics(self.connection)

    def tried(self, shape: Shape, layout: Layout, statements: Sequence[str]) -> list[str | None]:
        """As `Planner.tried`."""
        from slabrow.servers.postgresql.ask import trying

        return trying.tried(self.connection, shape, layout, statements)

    def usual_costs(self) -> Costs:
        """As `Planner.usual_costs`: the defaults were measured there."""
        from slabrow.core.weighing.costs import Costs

        return Costs()

    def calibrated(self, progress: Callable[[float, str], None]) -> Costs:
        """As `Planner.calibrated`."""
        from slabrow.servers.postgresql.ask import calibration

        return calibration.calibrated(self.connection, progress)
