"""Layout against tree: what is proposed, and the laws that applying it leaves no drift and is proposed only once."""

import unittest
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st

from slabrow.core.statistics.estimates import ColumnStatistics, shares, split_evenly
from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range, range_order
from slabrow.core.table.layout import Group, Layout, PastKeep
from slabrow.core.table.spans import parse_span
from slabrow.core.table.tree import KeyColumn, Partition, Tree
from slabrow.core.upkeep.actions import Create
from slabrow.core.upkeep.planned_partitions import Namer, due_partitions
from slabrow.core.upkeep.reconcile import reconcile
from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Kind
from slabrow.core.values.method import By
from slabrow.core.values.names import Name

READING = Name("apiary", "reading")


def tree_of(layout, kind, bounds=()):
    key = tuple(KeyColumn(name, name, kind, str(kind)) for name in layout.key)
    return Tree(
        READING,
        "apiary.reading",
        layout.by,
        key,
        tuple(
            Partition(READING.sibling(f"held_{place}"), f"apiary.held_{place}", "apiary.reading", bound)
            for place, bound in enumerate(bounds)
        ),
    )


def applied(tree, actions):
    """The tree after the actions, as the server would have it; a name used twice would be its error."""
    partitions = {partition.name: partition for partition in tree.partitions}
    for action in actions:
        if isinstance(action, Create):
            assert action.partition not in partitions, action
            partitions[action.partition] = Partition(
                action.partition, str(action.partition), tree.spelling, action.bounds
            )
        else:
            del partitions[action.partition]
    ranges = [each for each in partitions.values() if isinstance(each.bounds, Range)]
    others = [each for each in partitions.values() if not isinstance(each.bounds, Range)]
    ranges.sort(key=lambda each: range_order(each.bounds))
    return replace(tree, partitions=(*ranges, *others))


def monthly(**changes):
    return replace(
        Layout(
            READING,
            By.RANGE,
            ("taken_at",),
            parse_span("1 month"),
            from_=date(2025, 1, 1),
            ahead=parse_span("3 months"),
            keep=parse_span("13 months"),
            catch_all=True,
        ),
        **changes,
    )


NOW = datetime(2026, 3, 1, tzinfo=UTC)


def kinds_and_names(layout, tree, now=NOW):
    return [(action.kind, action.partition.table) for action in reconcile(layout, tree, now).actions]


class RangeTest(unittest.TestCase):
    def test_coming_partitions_reach_ahead_and_past_ones_leave(self):
        layout = monthly()
        held = [action.bounds for action in reconcile(layout, tree_of(layout, Kind.TIMESTAMPTZ), NOW).actions]
        self.assertEqual(
            17, len(held)
        )  # from February 2025, what is older would be past at once, to May 2026; the rest
        found = kinds_and_names(layout, tree_of(layout, Kind.TIMESTAMPTZ, held), NOW + timedelta(days=106))
        self.assertEqual(
            [
                ("create", "reading_2026_06"),
                ("create", "reading_2026_07"),
                ("create", "reading_2026_08"),
                ("create", "reading_2026_09"),
                ("detach", "held_0"),
                ("detach", "held_1"),
                ("detach", "held_2"),
            ],
            found,
        )

    def test_ahead_that_ends_on_a_bound_needs_no_further_partition(self):
        layout = monthly(catch_all=False, keep=None, from_=date(2026, 3, 1), ahead=parse_span("1 month"))
        self.assertEqual([("create", "reading_2026_03")], kinds_and_names(layout, tree_of(layout, Kind.DATE)))
        self.assertEqual(2, len(kinds_and_names(layout, tree_of(layout, Kind.DATE), NOW + timedelta(days=1))))

    def test_a_foreign_partition_is_kept_named_and_worked_around(self):
        layout = monthly(catch_all=False, keep=parse_span("1 month"), from_=date(2026, 1, 1))
        strange = Range((date(2025, 11, 20),), (date(2026, 3, 10),))
        result = reconcile(layout, tree_of(layout, Kind.DATE, [strange]), datetime(2026, 6, 1, tzinfo=UTC))
        self.assertNotIn("held_0", [action.partition.table for action in result.actions])
        self.assertEqual(["undeclared_partition"], [finding.code for finding in result.leftovers])

    def test_a_gap_beside_a_foreign_partition_is_filled_exactly(self):
        layout = monthly(catch_all=False, keep=None, from_=date(2026, 3, 1), ahead=parse_span("1 month"))
        half = Range((date(2026, 3, 1),), (date(2026, 3, 15),))
        [action] = reconcile(layout, tree_of(layout, Kind.DATE, [half]), NOW).actions
        self.assertEqual(
            (Range((date(2026, 3, 15),), (date(2026, 4, 1),)), "reading_2026_03_15"),
            (action.bounds, action.partition.table),
        )

    def test_past_keep_says_what_becomes_of_it(self):
        for past_keep in PastKeep:
            layout = monthly(past_keep=past_keep, catch_all=False)
            old = Range((date(2024, 1, 1),), (date(2024, 2, 1),))
            with self.subTest(past_keep):
                actions = reconcile(layout, tree_of(layout, Kind.DATE, [old]), NOW).actions
                self.assertEqual((str(past_keep), "held_0"), (actions[-1].kind, actions[-1].partition.table))

    def test_several_key_columns_end_in_minvalue(self):
        layout = monthly(key=("taken_at", "hive_id"), catch_all=False, keep=None, from_=date(2026, 3, 1), ahead=None)
        tree = tree_of(layout, Kind.DATE)
        [action] = reconcile(layout, tree, NOW).actions
        again = reconcile(layout, applied(tree, [action]), NOW)
        self.assertEqual(((), 2), (again.actions, len(action.bounds.from_)))

    def test_too_many_partitions_are_refused(self):
        layout = monthly(span=parse_span("1 hour"), keep=None, from_=date(1990, 1, 1))
        with self.assertRaises(LayoutError) as raised:
            reconcile(layout, tree_of(layout, Kind.TIMESTAMPTZ), NOW)
        self.assertIn("wider span", raised.exception.fix)

    def test_another_key_or_strategy_is_no_upkeep(self):
        for other in [monthly(key=("seen_at",)), Layout(READING, By.HASH, ("taken_at",), parts=4)]:
            with self.subTest(str(other)), self.assertRaises(LayoutError):
                reconcile(other, tree_of(monthly(), Kind.DATE), NOW)


class ListAndHashTest(unittest.TestCase):
    zones = Layout(
        READING, By.LIST, ("zone",), groups=(Group("alpine", ("A1", "A2")), Group("coast", ("C1",))), catch_all=True
    )
    hashed = Layout(READING, By.HASH, ("hive_id",), parts=4)

    def test_missing_groups_and_parts_are_created(self):
        found = kinds_and_names(self.zones, tree_of(self.zones, Kind.TEXT, [Listed(("C1",))]))
        self.assertEqual([("create", "reading_alpine"), ("create", "reading_rest")], found)
        found = kinds_and_names(self.hashed, tree_of(self.hashed, Kind.INTEGER, [Hashed(4, 0), Hashed(4, 2)]))
        self.assertEqual([("create", "reading_m4r01"), ("create", "reading_m4r03")], found)

    def test_what_no_action_mends_is_drift(self):
        for layout, kind, bounds in [
            (self.zones, Kind.TEXT, [Listed(("A1",)), Listed(("C1",)), CatchAll()]),
            (self.hashed, Kind.INTEGER, [Hashed(8, 0)]),
        ]:
            with self.subTest(str(layout)):
                result = reconcile(layout, tree_of(layout, kind, bounds), NOW)
                self.assertEqual(((), ["drift"]), (result.actions, [each.code for each in result.leftovers]))


class LawTest(unittest.TestCase):
    spans = st.sampled_from(["1 day", "7 days", "1 week", "1 month", "2 months", "1 quarter", "1 year", "12 hours"])
    lengths = st.sampled_from([None, "3 days", "2 weeks", "3 months", "1 year"])
    zones = st.sampled_from(["UTC", "Europe/Berlin", "Asia/Kolkata", "Africa/Cairo", "Pacific/Apia"])
    moments = st.datetimes(datetime(2019, 1, 1), datetime(2031, 1, 1))

    @settings(max_examples=150, deadline=None)
    @given(
        span=spans,
        ahead=lengths,
        keep=lengths,
        zone=zones,
        now=moments,
        later=st.integers(0, 500),
        start=st.none() | st.dates(date(2018, 1, 1), date(2030, 1, 1)),
        kind=st.sampled_from([Kind.TIMESTAMPTZ, Kind.TIMESTAMP]),
        catch_all=st.booleans(),
        edges=st.lists(moments, max_size=6, unique=True),
    )
    def test_applying_leaves_no_drift_and_is_proposed_once(
        self, span, ahead, keep, zone, now, later, start, kind, catch_all, edges
    ):
        layout = Layout(
            READING,
            By.RANGE,
            ("taken_at",),
            parse_span(span),
            zone=zone,
            from_=start,
            catch_all=catch_all,
            ahead=parse_span(ahead) if ahead else None,
            keep=parse_span(keep) if keep else None,
        )
        now = now.replace(tzinfo=UTC)
        ends = sorted(edge.replace(tzinfo=UTC if kind is Kind.TIMESTAMPTZ else None) for edge in edges)
        held = [Range((low,), (high,)) for low, high in zip(ends[::2], ends[1::2], strict=False)]
        tree = tree_of(layout, kind, held)
        for moment in (now, now + timedelta(days=later)):
            result = reconcile(layout, tree, moment)
            tree = applied(tree, result.actions)
            again = reconcile(layout, tree, moment)
            self.assertEqual((), again.actions)
            self.assertNotIn("drift", [finding.code for finding in again.leftovers])
            ranges = sorted((bounds for _, bounds in tree.ranges), key=range_order)
            for lower, upper in zip(ranges, ranges[1:], strict=False):
                self.assertLessEqual(lower.to, upper.from_)  # no key in two partitions

    @settings(max_examples=60, deadline=None)
    @given(
        span=spans,
        zone=zones,
        now=moments,
        ahead=st.sampled_from(["3 days", "2 weeks", "3 months"]),
        offset=st.floats(0, 0.999),
    )
    def test_every_instant_within_ahead_has_a_partition(self, span, zone, now, ahead, offset):
        layout = Layout(READING, By.RANGE, ("taken_at",), parse_span(span), zone=zone, ahead=parse_span(ahead))
        now = now.replace(tzinfo=UTC)
        tree = applied(
            tree_of(layout, Kind.TIMESTAMPTZ), reconcile(layout, tree_of(layout, Kind.TIMESTAMPTZ), now).actions
        )
        least = {"3 days": 3, "2 weeks": 14, "3 months": 89}[ahead] - 1  # a day may have 23 hours
        self.assertIsNotNone(tree.home((now + timedelta(days=least * offset),)))

    @given(parts=st.integers(2, 60), kept=st.sets(st.integers(0, 59)))
    def test_a_hash_layout_is_completed_whatever_is_left_of_it(self, parts, kept):
        layout = Layout(READING, By.HASH, ("hive_id",), parts=parts)
        tree = tree_of(layout, Kind.INTEGER, [Hashed(parts, each) for each in sorted(kept) if each < parts])
        done = applied(tree, reconcile(layout, tree, NOW).actions)
        self.assertEqual(((), parts), (reconcile(layout, done, NOW).actions, len(done.leaves)))


class EstimateTest(unittest.TestCase):
    statistics = ColumnStatistics(
        "taken_at",
        0.1,
        None,
        ((date(2026, 1, 5), 0.3),),
        tuple(date(2026, 1, 1) + timedelta(days=10 * step) for step in range(7)),
    )

    def test_shares_come_from_common_values_and_the_histogram(self):
        for what, bounds, expected in [
            ("a common value and a sixth of the histogram", Range((date(2026, 1, 1),), (date(2026, 1, 11),)), 0.4),
            ("half a bucket", Range((date(2026, 1, 11),), (date(2026, 1, 16),)), 0.05),
            ("beyond the last", Range((date(2026, 3, 2),), None), 0.0),
            ("everything", Range(None, None), 0.9),
            ("nothing known", Listed((date(2026, 1, 6),)), 0.0),
            ("NULL", Listed((None,)), 0.1),
            ("hash", Hashed(8, 3), 0.125),
        ]:
            with self.subTest(what):
                self.assertAlmostEqual(expected, shares([bounds], self.statistics)[0], places=6)

    def test_the_catch_all_takes_what_is_left(self):
        parts = shares([Range(None, (date(2026, 1, 31),)), CatchAll()], self.statistics)
        self.assertAlmostEqual(1.0, sum(parts))

    @given(total=st.integers(0, 10**12), weights=st.lists(st.floats(0, 1), min_size=1, max_size=40))
    def test_whole_numbers_add_up(self, total, weights):
        all_ = sum(weights) or 1.0
        rows = list(split_evenly(total, [weight / all_ for weight in weights]))
        self.assertLessEqual(abs(sum(rows) - total * (sum(weights) / all_)), 1)
        self.assertTrue(all(row >= 0 for row in rows))

    def test_due_partitions_hold_all_the_rows_there_are(self):
        layout = monthly(from_=None, catch_all=False)
        planned = due_partitions(
            layout, (Kind.DATE,), Namer(layout, Kind.DATE, 63), now=NOW, low=date(2025, 11, 30), high=date(2027, 1, 1)
        )
        self.assertEqual(("reading_2025_11", "reading_2027_01"), (planned[0].name, planned[-1].name))
