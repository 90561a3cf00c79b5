"""The models beneath choosing: shares against the server's own estimates, costs by their laws, growth to come, ages."""

import json
import random
import tempfile
import unittest
from collections import OrderedDict
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np

from slabrow.core.pruning.queries import read_statement
from slabrow.core.sql.schema import Schema
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.facts import TableFacts
from slabrow.core.statistics.future_sizes import expected_in, grown, steady_rows
from slabrow.core.statistics.row_growth import Growth
from slabrow.core.table.bounds import Hashed, Range
from slabrow.core.table.layout import Layout
from slabrow.core.table.relation import IndexShape
from slabrow.core.table.spans import parse_span
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.errors import UsageError
from slabrow.core.values.key_values import kind_of
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.weighing.ages import ages_read
from slabrow.core.weighing.arrival import Strips, arrival
from slabrow.core.weighing.block_touches import BlockTouches
from slabrow.core.weighing.cache import Memory, hit_ratios
from slabrow.core.weighing.costs import Access, Costs, Leaves, Paid
from slabrow.core.weighing.leaf_groups import one_leaf
from slabrow.core.weighing.selectivity import Shares
from slabrow.core.weighing.tomorrow import as_of
from slabrow.core.weighing.tomorrow import grown as grown_times
from slabrow.core.weighing.ways import Ways
from slabrow.core.weighing.workload import Collector
from slabrow.core.weighing.workload_reading import read_workload
from slabrow.files.costs_file import read_costs, write_costs
from slabrow.servers.postgresql.read.facts import table_facts
from tests.support import DatabaseTest

TABLE = Name("public", "t")
BEGIN = datetime(2025, 1, 1, tzinfo=UTC)
ALONE = one_leaf(Strips(np.array([0.0, 1.0])))


def facts(rows=1_000_000, **changes):
    types = {"id": "bigint", "hive": "integer", "at": "timestamp with time zone"}
    columns = {name: KeyColumn(name, name, kind_of(type_), type_, True) for name, type_ in types.items()}
    moments = tuple(BEGIN + timedelta(days=4 * place) for place in range(101))
    statistics = {
        "id": ColumnStatistics("id", 0.0, rows, (), tuple(range(0, rows + 1, rows // 100)), 1.0),
        "hive": ColumnStatistics("hive", 0.0, 1_000, (), tuple(range(0, 1_001, 10)), 0.0),
        "at": ColumnStatistics("at", 0.0, rows, (), moments, 1.0),
    }
    indexes = (
        IndexShape("t_pkey", ("id",), True, True, rows * 22),
        IndexShape("t_hive_at", ("hive", "at"), False, False, rows * 30),
    )
    known = {"heap_bytes": rows * 80, "index_bytes": rows * 52, "columns": columns, "statistics": statistics}
    return TableFacts(name=TABLE, spelling="t", rows=rows, indexes=indexes, **known, **changes)


class CostLawsTest(unittest.TestCase):
    def setUp(self):
        self.facts = facts()

    def paid(self, shares, leaves, key=("at",), known=None, **access):
        """One run that finds all of its blocks in memory, or what it finds when it runs all day."""
        known = known or self.facts
        ways = Ways(known, Costs())
        choice = ways.choice(Access(shares, **access), leaves, key, False)
        if choice.way is None:
            return Paid(0.0, choice.planning_ms, 0.0)
        day = BlockTouches(known, Costs(), Memory(known.buffers_bytes, known.cache_bytes), ALONE, arrival(known), {})
        touched = day.touched(choice.way, leaves, (0.0, 1.0))
        day.add(touched, 1_000.0)
        day.settle(1.0)
        reads, waiting = day.reads(touched)
        waiting += choice.way.heap * Costs().block
        return Paid(choice.blocks, choice.planning_ms, ways.running_ms(choice, waiting, leaves.touched), reads)

    def test_a_look_up_without_the_key_gets_slower_with_every_partition(self):
        look_up = Shares({"id": 1e-6}, {"id": 1})
        times = [self.paid(look_up, Leaves(parts, parts, parts, 1.0)).ms for parts in (1, 4, 16, 64, 256)]
        self.assertEqual(sorted(times), times)
        self.assertGreater(times[-1], 20 * times[0])
        blocks = [self.paid(look_up, Leaves(parts, parts, parts, 1.0)).blocks for parts in (4, 64)]
        self.assertGreater(blocks[1], 8 * blocks[0])

    def test_a_window_over_the_key_reads_its_partitions_and_no_more(self):
        month = Shares({"at": 1 / 13}, {}, {"at"})
        whole = self.paid(month, Leaves(1, 1, 1, 1.0), ())
        pruned = self.paid(month, Leaves(13, 1, 1, 1 / 13))
        self.assertLess(pruned.running_ms, whole.running_ms)
        self.assertAlmostEqual(self.facts.blocks / 13, pruned.blocks, delta=pruned.blocks * 0.05)

    def test_what_is_pruned_while_planning_costs_next_to_nothing_and_what_waits_costs_planning(self):
        one = Shares({"at": 1e-4}, {}, {"at"})
        at_plan = self.paid(one, Leaves(1_000, 1, 1, 0.001)).planning_ms
        at_start = self.paid(one, Leaves(1_000, 1_000, 1, 0.001)).planning_ms
        self.assertLess(at_plan, 0.5)
        self.assertGreater(at_start, 40)

    def test_a_limit_in_the_order_of_an_index_stops_early(self):
        hive = Shares({"hive": 1e-3}, {"hive": 1})
        every = self.paid(hive, Leaves(1, 1, 1, 1.0), ())
        first = self.paid(hive, Leaves(1, 1, 1, 1.0), (), ordered=("at",), limit=1.0)
        self.assertLess(first.blocks, every.blocks / 50)

    def test_nothing_touched_costs_planning_only(self):
        none = self.paid(Shares(), Leaves(12, 0, 0, 0.0))
        self.assertEqual((0.0, 0.0), (none.blocks, none.running_ms))
        self.assertGreater(none.planning_ms, 0)

    def test_what_does_not_fit_into_the_cache_is_read_slowly(self):
        warm = self.paid(Shares(), Leaves(1, 1, 1, 1.0), ())
        small = facts(cache_bytes=10 << 20, buffers_bytes=10 << 20)
        cold = self.paid(Shares(), Leaves(1, 1, 1, 1.0), (), known=small)
        self.assertGreater(cold.running_ms, 1.8 * warm.running_ms)
        self.assertEqual((warm.blocks, 0.0), (cold.blocks, warm.reads))
        # Alone, its scans fill the cache bit by bit, and find that much of it.
        self.assertAlmostEqual(small.blocks - (10 << 20) // 8192, cold.reads, delta=0.02 * small.blocks)

    def test_an_index_alone_answers_what_it_holds(self):
        hives = Shares({"hive": 0.01}, {}, {"hive"})
        both = self.paid(hives, Leaves(1, 1, 1, 1.0), (), wanted=frozenset({"hive", "at"}))
        heap = self.paid(hives, Leaves(1, 1, 1, 1.0), (), wanted=frozenset({"hive", "id"}))
        self.assertLess(both.blocks, heap.blocks / 10)


class CacheTest(unittest.TestCase):
    """Hit ratios against a cache that is played."""

    def test_groups_that_are_touched_unevenly_are_found_as_in_a_real_cache(self):
        draw = random.Random(5)
        for blocks, touched, cache in [
            ((50, 10_000), (10.0, 1.0), 100),
            ((300, 300), (9.0, 1.0), 300),
            ((100, 1_000, 5_000), (5.0, 3.0, 2.0), 900),
            ((2_000,), (1.0,), 500),
            ((80, 20), (1.0, 1.0), 200),
        ]:
            with self.subTest((blocks, touched, cache)):
                found = hit_ratios(np.array(blocks, float), np.array(touched), float(cache))
                held, hits, times = OrderedDict(), [0] * len(blocks), [0] * len(blocks)
                for turn in range(60_000):
                    group = draw.choices(range(len(blocks)), touched)[0]
                    block = (group, draw.randrange(blocks[group]))
                    if turn > 20_000:
                        times[group] += 1
                        hits[group] += block in held
                    held[block] = None
                    held.move_to_end(block)
                    if len(held) > cache:
                        held.popitem(last=False)
                for one, hit, time in zip(found, hits, times, strict=True):
                    self.assertAlmostEqual(hit / time, one, delta=0.03)

    def test_a_large_leaf_comes_in_through_the_ring_only_where_it_is_scanned_often(self):
        def found(scans, others):
            sizes, leaf = np.array([1_000.0, 50_000.0]), np.array([1_000.0, 0.0])
            return hit_ratios(sizes, np.array([scans * 1_000.0, others]), 1_500.0, leaf)[0]

        self.assertGreater(found(50.0, 1_000.0), 0.9)
        self.assertLess(found(0.1, 100_000.0), 0.1)


class SharesTest(DatabaseTest):
    def test_shares_are_near_the_server_s_own_estimates(self):
        self.sql(
            "CREATE TABLE t (n int, zone text, day date, maybe int);"
            "INSERT INTO t SELECT m % 500, (ARRAY['a','a','a','b','c'])[1 + m % 5], date '2026-01-01' + m % 100,"
            " CASE WHEN m % 4 = 0 THEN NULL ELSE m % 9 END FROM generate_series(1, 50000) m; ANALYZE t"
        )
        known = table_facts(self.connection, Name(None, "t"))
        schema = Schema({TABLE: known.columns})
        for where in [
            "n = 17",
            "n < 100",
            "n BETWEEN 100 AND 200",
            "n IN (1, 2, 3)",
            "zone = 'a'",
            "zone <> 'a'",
            "zone IN ('b', 'c') AND n < 250",
            "day >= '2026-02-01' AND day < '2026-02-11'",
            "maybe IS NULL",
            "maybe = 5 AND day = '2026-01-05'",
            "n = 5 OR n = 7 OR zone = 'c'",
            "n NOT IN (1, 2)",
            "day >= '2026-03-01' AND zone = 'b'",
        ]:
            with self.subTest(where):
                sql = f"SELECT 1 FROM t WHERE {where}"
                plan = self.value(f"EXPLAIN (FORMAT JSON) {sql}")
                plan = json.loads(plan) if isinstance(plan, str) else plan
                theirs = plan[0]["Plan"]["Plan Rows"]
                collector = Collector()
                collector.add_named("q", sql, 1.0, ())
                read = read_workload(collector.workload("w"), known, schema, ZoneInfo("UTC"), BEGIN)
                ours = read.shapes[0].runs[0][0].access.shares.total * known.rows
                self.assertAlmostEqual(theirs, ours, delta=0.35 * theirs + 5)


class OutlookTest(unittest.TestCase):
    growth = Growth("at", BEGIN + timedelta(days=365), 36_500, 100.0, 0.0, 5.0)

    def test_partitions_to_come_fill_up_to_the_day_that_is_asked_about(self):
        newest = self.growth.newest
        until = newest + timedelta(days=45)

        def piece(first, last):
            return Range((newest + timedelta(days=first),), (newest + timedelta(days=last),))

        for what, bounds, had, expected in [
            ("past", piece(-60, -30), 3_000, 3_000),
            ("current", piece(-10, 20), 1_000, 3_000),
            ("to come", piece(20, 50), 0, 2_500),
            ("beyond", piece(50, 80), 0, 0),
        ]:
            with self.subTest(what):
                found = expected_in(bounds, had, self.growth, until, ZoneInfo("UTC"))
                self.assertEqual(expected, found.rows)
                self.assertLessEqual(found.low, found.rows)
                self.assertGreaterEqual(found.high, found.rows)
        self.assertEqual(
            [40], [each.rows for each in [expected_in(Hashed(2, 0), 40, self.growth, until, ZoneInfo("UTC"))]]
        )

    def test_hash_parts_grow_alike_and_keep_settles(self):
        until = self.growth.newest + timedelta(days=365)
        self.assertEqual([20_000, 53_000], [each.rows for each in grown([10_000, 26_500], self.growth, until)])
        layout = Layout(TABLE, By.RANGE, ("at",), span=parse_span("1 month"), keep=parse_span("100 days"))
        self.assertEqual(10_000, steady_rows(layout, self.growth, until))
        self.assertIsNone(steady_rows(Layout(TABLE, By.HASH, ("id",), parts=4), self.growth, until))

    def test_a_falling_rate_ends_at_zero(self):
        falling = Growth("at", BEGIN, 1_000, 10.0, -1.0, 0.0)
        self.assertEqual(50.0, falling.rows_until(BEGIN + timedelta(days=10)))
        self.assertEqual(50.0, falling.rows_until(BEGIN + timedelta(days=900)))
        self.assertIsNone(falling.doubles_on)


class TomorrowTest(unittest.TestCase):
    known = facts(400_000)
    trend = Growth("at", BEGIN + timedelta(days=400), 400_000, 1_000.0, 0.0, 1.0)

    def test_a_day_to_come_is_seen_from_that_day(self):
        newest = self.trend.newest
        for what, days, kept, rows, oldest in [
            ("without keep", 400, None, 800_000, -800),
            ("half a year kept", 400, timedelta(days=180), 180_000, -180),
            ("kept for longer than it reaches", 100, timedelta(days=900), 500_000, -500),
        ]:
            with self.subTest(what):
                then = as_of(self.known, self.trend, newest + timedelta(days=days), kept)
                seen = then.facts.statistics["at"]
                self.assertAlmostEqual(rows, then.facts.rows, delta=0.02 * rows)
                self.assertEqual(newest, seen.high)
                self.assertAlmostEqual(oldest, (seen.low - newest).days, delta=6)
                self.assertAlmostEqual(0.5, seen.between(None, newest + timedelta(days=oldest / 2)), delta=0.03)
                self.assertAlmostEqual(
                    self.known.heap_bytes * rows / 400_000, then.facts.heap_bytes, delta=0.02 * then.facts.heap_bytes
                )
                self.assertEqual(1_000.0, then.rows_a_day)

    def test_so_many_times_the_rows_have_the_same_shape(self):
        then = grown_times(self.known, 100.0, 1_000.0)
        self.assertEqual((40_000_000, 100_000.0), (then.facts.rows, then.rows_a_day))
        self.assertEqual(self.known.statistics["at"].histogram, then.facts.statistics["at"].histogram)
        distinct = {name: seen.distinct for name, seen in then.facts.statistics.items()}
        self.assertEqual((40_000_000, 1_000), (distinct["id"], distinct["hive"]))
        self.assertEqual(100 * self.known.indexes[0].bytes, then.facts.indexes[0].bytes)


class ReadingTest(unittest.TestCase):
    def read(self, *queries):
        known = facts()
        collector = Collector()
        for number, (sql, weight) in enumerate(queries):
            collector.add_named(f"q{number}", sql, weight, ())
        now = BEGIN + timedelta(days=400)
        return read_workload(collector.workload("w"), known, Schema({TABLE: known.columns}), ZoneInfo("UTC"), now)

    def test_how_old_what_is_read_is(self):
        read = self.read(
            ("SELECT 1 FROM t WHERE at >= now() - interval '12 hours'", 50),
            ("SELECT 1 FROM t WHERE at >= '2026-01-20' AND at < '2026-01-27'", 30),
            ("SELECT 1 FROM t WHERE at = '2025-01-02'", 10),
            ("SELECT 1 FROM t WHERE hive = 5", 10),
        )
        ages = ages_read(read, "at", BEGIN + timedelta(days=400))
        self.assertEqual(
            {"day": 0.5, "week": 0.5, "month": 0.8, "quarter": 0.8, "year": 0.8},
            {n: round(s, 3) for n, s in ages.within},
        )
        self.assertEqual((0.1, 0.1), (round(ages.older, 3), round(ages.all, 3)))

    def test_statements_that_write_or_make_no_sense(self):
        read = self.read(
            ("INSERT INTO t (id) VALUES (1), (2)", 900),
            ("UPDATE t SET at = now() WHERE id = 5", 3),
            ("SELECT FROM WHERE", 2),
            ("SELECT 1 FROM elsewhere", 40),
        )
        self.assertEqual([True, False], [each.inserts for each in read.shapes])
        self.assertEqual(frozenset({"at"}), read.shapes[1].changed)
        self.assertEqual((1, 40.0), (len(read.unread), read.others))

    def test_the_order_and_limit_of_a_query_are_seen_where_they_count(self):
        schema = Schema({TABLE: facts().columns})
        for sql, ordered, limited in [
            ("SELECT * FROM t WHERE hive = 1 ORDER BY at DESC LIMIT 5", ("at",), True),
            ("SELECT * FROM t ORDER BY at, id LIMIT 5", ("at", "id"), True),
            ("SELECT * FROM t ORDER BY lower(hive::text) LIMIT 5", (), False),
            ("SELECT count(*) FROM t LIMIT 5", (), False),
            ("SELECT hive FROM t GROUP BY hive ORDER BY hive LIMIT 5", (), False),
            ("SELECT * FROM t LIMIT 5", (), True),
        ]:
            with self.subTest(sql):
                (place,) = read_statement(sql, schema).places
                self.assertEqual((ordered, limited), (place.ordered, place.limit is not None))


class CostsFileTest(unittest.TestCase):
    def test_constants_are_written_as_they_are_read_and_faults_are_told(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "costs.toml"
            measured = Costs(planning=0.031, planning_leaf=0.0000125, read=12.0)
            write_costs(path, measured, "PostgreSQL 18")
            self.assertEqual(measured, read_costs(path))
            for what, text, words in [
                ("no table", "planning = 1", "[costs]"),
                ("a wrong name", "[costs]\nblok = 1", "`block`"),
                ("a text", '[costs]\nblock = "much"', "milliseconds"),
                ("below nothing", "[costs]\nblock = -1", "milliseconds"),
                ("no TOML", "[costs", "TOML"),
            ]:
                with self.subTest(what):
                    path.write_text(text)
                    with self.assertRaises(UsageError) as raised:
                        read_costs(path)
                    self.assertIn(words, f"{raised.exception.problem} {raised.exception.fix}")
