"""Keys, bounds and names: half-open everywhere, NULL, open ends, and names that fit without colliding."""

import unittest
from datetime import UTC, date, datetime
from decimal import Decimal
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range, spell_bounds, uncovered
from slabrow.core.table.layout import Layout
from slabrow.core.table.spans import parse_span
from slabrow.core.table.tree import KeyColumn, Partition, Tree
from slabrow.core.upkeep.findings import findings
from slabrow.core.upkeep.planned_partitions import Namer
from slabrow.core.values.errors import LayoutError, UsageError
from slabrow.core.values.key_values import Edge, Far, Kind, Opaque, kind_of, order, parse_value, spell
from slabrow.core.values.method import By
from slabrow.core.values.names import Name, fit, parse_name

READING = Name("apiary", "reading")


def tree(*bounds, kinds=(Kind.DATE,), by=By.RANGE):
    key = tuple(KeyColumn(f"k{place}", f"k{place}", kind, str(kind)) for place, kind in enumerate(kinds))
    partitions = tuple(
        Partition(READING.sibling(f"p{place}"), f"p{place}", "reading", bound, rows=1, bytes=8192)
        for place, bound in enumerate(bounds)
    )
    return Tree(READING, "reading", by, key, partitions)


class BoundsTest(unittest.TestCase):
    march = Range((date(2026, 3, 1),), (date(2026, 4, 1),))

    def test_from_is_in_and_to_is_out(self):
        for what, key, expected in [
            ("the day before", date(2026, 2, 28), False),
            ("from", date(2026, 3, 1), True),
            ("the last day", date(2026, 3, 31), True),
            ("to", date(2026, 4, 1), False),
        ]:
            with self.subTest(what, key=key):
                self.assertEqual(expected, (key,) in self.march)

    def test_open_ends_hold_everything_beyond_infinity_too(self):
        self.assertIn((Edge.MINUS_INFINITY,), Range(None, (date(2026, 1, 1),)))
        self.assertIn((Edge.INFINITY,), Range((date(2026, 1, 1),), None))
        self.assertNotIn((Edge.INFINITY,), self.march)

    def test_what_follows_minvalue_is_not_looked_at(self):
        bounds = Range((date(2026, 3, 1), Edge.MINVALUE), (date(2026, 4, 1), Edge.MINVALUE))
        for key, expected in [
            ((date(2026, 3, 1), -5), True),
            ((date(2026, 3, 31), 99), True),
            ((date(2026, 4, 1), -99), False),
        ]:
            with self.subTest(key=key):
                self.assertEqual(expected, key in bounds)

    def test_empty_bounds_are_refused(self):
        for from_, to in [(1, 1), (2, 1)]:
            with self.subTest(from_=from_, to=to), self.assertRaises(LayoutError):
                Range((from_,), (to,))

    numbers = st.lists(st.integers(0, 40), min_size=0, max_size=12, unique=True)

    @given(edges=numbers, low=st.integers(0, 38), width=st.integers(1, 30))
    def test_uncovered_pieces_and_held_ranges_make_up_what_is_wanted(self, edges, low, width):
        ends = sorted(edges)
        held = [Range((a,), (b,)) for a, b in zip(ends[::2], ends[1::2], strict=False)]
        wanted = Range((low,), (low + width,))
        pieces = uncovered(wanted, held)
        for key in range(80):
            times = sum((key,) in bounds for bounds in (*held, *pieces))
            expected = (key,) in wanted or any((key,) in bounds for bounds in held)
            self.assertEqual(int(expected), times, key)

    def test_every_key_goes_to_exactly_one_home(self):
        apiary = tree(Range(None, (date(2026, 1, 1),)), self.march, Range((date(2026, 4, 1),), None), CatchAll())
        for key, expected in [
            ((date(2025, 5, 5),), "p0"),
            ((date(2026, 3, 1),), "p1"),
            ((date(2026, 4, 1),), "p2"),
            ((date(2026, 2, 1),), "p3"),
            (None, "p3"),
        ]:
            with self.subTest(key=key):
                self.assertEqual(expected, apiary.home(key).spelling)

    def test_null_goes_where_the_list_names_it(self):
        zones = tree(Listed(("A1", None)), Listed(("C1",)), kinds=(Kind.TEXT,), by=By.LIST)
        self.assertEqual(
            ("p0", "p1", None), (zones.home(None).spelling, zones.home(("C1",)).spelling, zones.home(("X",)))
        )

    def test_bounds_are_said_with_what_is_in_and_out(self):
        for bounds, expected in [
            (self.march, "from 2026-03-01 (in) to 2026-04-01 (out)"),
            (Range(None, (5,)), "from below everything to 5 (out)"),
            (Listed(("A1", None)), "one of A1, NULL"),
            (Hashed(16, 3), "remainder 3 of 16"),
        ]:
            with self.subTest(expected):
                self.assertEqual(expected, spell_bounds(bounds))


class ValueTest(unittest.TestCase):
    def test_values_are_read_as_the_server_spells_them(self):
        for text, kind, expected in [
            ("17", Kind.INTEGER, 17),
            ("2026-03-01", Kind.DATE, date(2026, 3, 1)),
            ("17.50", Kind.NUMERIC, Decimal("17.50")),
            ("2026-03-01 00:00:00+00", Kind.TIMESTAMPTZ, datetime(2026, 3, 1, tzinfo=UTC)),
            ("2026-03-01T05:30+05:30", Kind.TIMESTAMPTZ, datetime(2026, 3, 1, tzinfo=UTC)),
            ("t", Kind.BOOL, True),
            ("infinity", Kind.DATE, Edge.INFINITY),
            ("-infinity", Kind.TIMESTAMPTZ, Edge.MINUS_INFINITY),
            ("0044-03-15 BC", Kind.DATE, Far(-746117)),
            ("20260-03-15", Kind.DATE, Far(6669402)),
            ("NaN", Kind.NUMERIC, Opaque("NaN")),
            (" a ", Kind.TEXT, " a "),
            ("5F0C1A52-1D6E-4A53-9D2C-0C8F2B1F7A10", Kind.UUID, UUID("5f0c1a52-1d6e-4a53-9d2c-0c8f2b1f7a10")),
        ]:
            with self.subTest(text=text, kind=kind):
                self.assertEqual(expected, parse_value(text, kind))

    def test_nonsense_is_refused_with_an_example(self):
        for text, kind in [
            ("seventeen", Kind.INTEGER),
            ("2026-13-01", Kind.DATE),
            ("2026-02-29", Kind.DATE),
            ("x", Kind.UUID),
            ("maybe", Kind.BOOL),
            ("", Kind.INTEGER),
            ("1.5", Kind.INTEGER),
        ]:
            with self.subTest(text=text), self.assertRaises(UsageError) as raised:
                parse_value(text, kind)
            self.assertIn("write true or false" if kind is Kind.BOOL else "such as", raised.exception.fix)

    @given(st.datetimes(timezones=st.just(UTC)))
    def test_an_instant_is_spelled_so_that_it_is_read_back(self, instant):
        self.assertEqual(instant, parse_value(spell(instant), Kind.TIMESTAMPTZ))

    def test_types_of_one_kind_are_known_with_their_modifiers(self):
        for name, kind in [
            ("timestamp(3) with time zone", Kind.TIMESTAMPTZ),
            ("numeric(10,2)", Kind.NUMERIC),
            ("character varying(20)", Kind.TEXT),
            ("point", Kind.OTHER),
            ("bigint", Kind.INTEGER),
        ]:
            with self.subTest(name):
                self.assertEqual(kind, kind_of(name))

    def test_infinities_lie_outermost(self):
        keys = [(Edge.INFINITY,), (date(2026, 1, 1),), (Edge.MINVALUE,), (Edge.MAXVALUE,), (Edge.MINUS_INFINITY,)]
        self.assertEqual(
            [Edge.MINVALUE, Edge.MINUS_INFINITY, date(2026, 1, 1), Edge.INFINITY, Edge.MAXVALUE],
            [key[0] for key in sorted(keys, key=order)],
        )


class NameTest(unittest.TestCase):
    def test_names_are_read_as_sql_reads_them(self):
        for text, expected in [
            ("apiary.reading", ("apiary", "reading")),
            ("Reading", (None, "reading")),
            ('"Old Hives"."Log.1"', ("Old Hives", "Log.1")),
            ('a."b""c"', ("a", 'b"c')),
            ("bienen.stöcke", ("bienen", "stöcke")),
        ]:
            with self.subTest(text):
                self.assertEqual(Name(*expected), parse_name(text))

    def test_what_is_no_name_is_refused(self):
        for text in ["", "a.b.c", 'a."b', "a b", ".a", "a."]:
            with self.subTest(text), self.assertRaises(UsageError):
                parse_name(text)

    @given(
        stem=st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), min_size=1, max_size=90),
        suffix=st.sampled_from(["_2026_03", "_m16r03", "_rest"]),
    )
    def test_a_fitted_name_keeps_its_suffix_and_the_limit(self, stem, suffix):
        name = fit(stem, suffix, 63)
        self.assertTrue(name.endswith(suffix) and len(name.encode()) <= 63)

    def test_long_names_that_begin_alike_stay_different(self):
        stems = [("käfer" * 20) + letter for letter in "abc"]
        self.assertEqual(3, len({fit(stem, "_2026_03", 63) for stem in stems}))

    def test_list_values_that_look_alike_get_different_names(self):
        namer = Namer(Layout(READING, By.LIST, ("zone",)), Kind.TEXT, 63)
        given: set[str] = set()
        for value in ["A1", "a1", "a-1", "a/1", "", "ß", "x" * 200, "x" * 201]:
            given.add(namer.name(Listed((value,)), also_taken=given))
        self.assertEqual(8, len(given))
        self.assertLessEqual(max(len(name.encode()) for name in given), 63)

    def test_a_pattern_changes_the_name(self):
        layout = Layout(READING, By.RANGE, ("t",), parse_span("1 month"), partition_name="p_{bound}_of_{table}")
        self.assertEqual("p_2026_03_of_reading", Namer(layout, Kind.DATE, 63).name(BoundsTest.march))


class FindingsTest(unittest.TestCase):
    def codes(self, found):
        return [finding.code for finding in findings(found)]

    def test_gaps_and_overlaps_are_found_between_neighbours(self):
        def month(first, last):
            return Range((date(2026, first, 1),), (date(2026, last, 1),))

        for what, bounds, expected in [
            ("none", [month(1, 2), month(2, 3)], []),
            ("gap", [month(1, 2), month(3, 4)], ["gap"]),
            ("overlap", [month(1, 3), month(2, 4)], ["overlap"]),
            ("one", [month(1, 2)], []),
            ("open ends touch", [Range(None, (date(2026, 1, 1),)), Range((date(2026, 1, 1),), None)], []),
            ("rows in the catch-all", [month(1, 2), CatchAll()], ["catch_all_rows"]),
        ]:
            with self.subTest(what):
                self.assertEqual(expected, self.codes(tree(*bounds)))

    def test_missing_remainders_are_counted_under_uneven_moduli(self):
        whole = [Hashed(2, 0), Hashed(4, 1), Hashed(4, 3)]
        self.assertEqual([], self.codes(tree(*whole, by=By.HASH)))
        self.assertEqual(["missing_remainder"], self.codes(tree(*whole[:2], by=By.HASH)))
