"""Calendar spans: grids that tile the time without gap, in zones with daylight saving, over leap days and year ends."""

import unittest
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from slabrow.core.table.spans import Grid, Span, Unit, parse_span, shifted, suffix
from slabrow.core.values.errors import LayoutError
from slabrow.core.values.key_values import Edge, Kind

UTC_ZONE = ZoneInfo("UTC")
BERLIN = ZoneInfo("Europe/Berlin")


def at(text):
    return datetime.fromisoformat(text)


class ParseTest(unittest.TestCase):
    def test_spans_are_read_in_words_iso_and_numbers(self):
        for text, expected in [
            ("1 month", Span(1, Unit.MONTH)),
            ("7 days", Span(7, Unit.DAY)),
            ("P1M", Span(1, Unit.MONTH)),
            ("P2W", Span(2, Unit.WEEK)),
            ("PT6H", Span(6, Unit.HOUR)),
            ("2 Quarters", Span(2, Unit.QUARTER)),
            ("1000000", Span(1_000_000, Unit.NUMBER)),
            (500, Span(500, Unit.NUMBER)),
            ("13months", Span(13, Unit.MONTH)),
        ]:
            with self.subTest(text):
                self.assertEqual(expected, parse_span(text))

    def test_what_is_no_span_is_refused_with_a_fix(self):
        for text, hint in [
            ("1 mnth", "1 months"),
            ("month", "a count and one unit"),
            ("0 days", "at least 1"),
            ("1 month 2 days", "one unit"),
            ("-3 days", "one unit"),
            ("P1M2D", "one unit"),
            ("", "unit"),
        ]:
            with self.subTest(text), self.assertRaises(LayoutError) as raised:
                parse_span(text)
            self.assertIn(hint, raised.exception.fix)

    def test_a_span_that_does_not_fit_the_key_is_refused(self):
        for span, kind in [
            ("1 month", Kind.INTEGER),
            ("1000", Kind.TIMESTAMPTZ),
            ("6 hours", Kind.DATE),
            ("1 day", Kind.TEXT),
            ("1 day", Kind.UUID),
        ]:
            with self.subTest(span=span, kind=kind), self.assertRaises(LayoutError):
                Grid(parse_span(span), kind, UTC_ZONE)


class GridTest(unittest.TestCase):
    def test_slots_begin_where_the_calendar_says(self):
        cases = [
            ("month", "1 month", BERLIN, "2026-03-15T12:00+00:00", "2026-02-28T23:00+00:00", "2026-03-31T22:00+00:00"),
            (
                "a day of 23 hours",
                "1 day",
                BERLIN,
                "2026-03-29T12:00+00:00",
                "2026-03-28T23:00+00:00",
                "2026-03-29T22:00+00:00",
            ),
            (
                "a day of 25 hours",
                "1 day",
                BERLIN,
                "2026-10-25T12:00+00:00",
                "2026-10-24T22:00+00:00",
                "2026-10-25T23:00+00:00",
            ),
            (
                "half-hour zone",
                "1 day",
                ZoneInfo("Asia/Kolkata"),
                "2026-03-01T00:00+00:00",
                "2026-02-28T18:30+00:00",
                "2026-03-01T18:30+00:00",
            ),
            (
                "half-hour daylight saving",
                "1 day",
                ZoneInfo("Australia/Lord_Howe"),
                "2026-04-04T18:00+00:00",
                "2026-04-04T13:00+00:00",
                "2026-04-05T13:30+00:00",
            ),
            (
                "clocks go forward at midnight",
                "1 day",
                ZoneInfo("Africa/Cairo"),
                "2026-04-24T12:00+00:00",
                "2026-04-23T22:00+00:00",
                "2026-04-24T21:00+00:00",
            ),
            (
                "midnight twice",
                "1 day",
                ZoneInfo("America/Havana"),
                "2026-11-01T12:00+00:00",
                "2026-11-01T04:00+00:00",
                "2026-11-02T05:00+00:00",
            ),
            (
                "ISO week 53",
                "1 week",
                UTC_ZONE,
                "2021-01-01T00:00+00:00",
                "2020-12-28T00:00+00:00",
                "2021-01-04T00:00+00:00",
            ),
            (
                "quarter",
                "1 quarter",
                UTC_ZONE,
                "2026-12-31T23:59+00:00",
                "2026-10-01T00:00+00:00",
                "2027-01-01T00:00+00:00",
            ),
            (
                "leap February",
                "1 month",
                UTC_ZONE,
                "2028-02-29T23:00+00:00",
                "2028-02-01T00:00+00:00",
                "2028-03-01T00:00+00:00",
            ),
            (
                "hours count in UTC",
                "6 hours",
                BERLIN,
                "2026-03-29T01:30+00:00",
                "2026-03-29T00:00+00:00",
                "2026-03-29T06:00+00:00",
            ),
        ]
        for what, span, zone, inside, start, end in cases:
            grid = Grid(parse_span(span), Kind.TIMESTAMPTZ, zone)
            with self.subTest(what):
                slot = grid.index(at(inside))
                self.assertEqual((at(start), at(end)), (grid.start(slot), grid.start(slot + 1)))

    def test_several_days_are_counted_from_the_anchor(self):
        grid = Grid(parse_span("7 days"), Kind.DATE, UTC_ZONE, date(2026, 3, 4))
        self.assertEqual(date(2026, 3, 11), grid.start(grid.index(date(2026, 3, 17))))

    def test_numbers_tile_below_zero_too(self):
        grid = Grid(parse_span(100), Kind.INTEGER, UTC_ZONE)
        self.assertEqual(
            [(-1, -100), (0, 0), (0, 0), (1, 100)],
            [(grid.index(key), grid.start(grid.index(key))) for key in (-1, 0, 99, 100)],
        )

    def test_years_beyond_the_calendar_are_refused(self):
        grid = Grid(parse_span("1 year"), Kind.DATE, UTC_ZONE)
        with self.assertRaises(LayoutError):
            grid.start(grid.index(date(9999, 6, 1)) + 1)

    zones = st.sampled_from(
        [
            "UTC",
            "Europe/Berlin",
            "Asia/Kolkata",
            "Australia/Lord_Howe",
            "America/Havana",
            "Africa/Cairo",
            "Pacific/Apia",
            "America/Sao_Paulo",
            "Asia/Kathmandu",
        ]
    )
    spans = st.sampled_from(
        [
            "1 hour",
            "6 hours",
            "1 day",
            "3 days",
            "1 week",
            "2 weeks",
            "1 month",
            "2 months",
            "1 quarter",
            "1 year",
            "5 years",
        ]
    )

    @settings(max_examples=300, deadline=None)
    @given(zone=zones, span=spans, instant=st.datetimes(datetime(1950, 1, 1), datetime(2090, 1, 1)))
    def test_every_instant_is_in_the_slot_that_the_grid_gives_it(self, zone, span, instant):
        grid = Grid(parse_span(span), Kind.TIMESTAMPTZ, ZoneInfo(zone))
        instant = instant.replace(tzinfo=UTC)
        slot = grid.index(instant)
        self.assertLessEqual(grid.start(slot), instant)
        self.assertLess(instant, grid.start(slot + 1))
        self.assertEqual(slot, grid.index(grid.start(slot)))


class ShiftTest(unittest.TestCase):
    def test_months_end_where_the_shorter_month_ends(self):
        for value, span, steps, expected in [
            (date(2026, 3, 31), "1 month", -1, date(2026, 2, 28)),
            (date(2028, 3, 31), "1 month", -1, date(2028, 2, 29)),
            (date(2028, 2, 29), "1 year", -1, date(2027, 2, 28)),
            (date(2026, 12, 15), "1 month", 1, date(2027, 1, 15)),
            (date(2026, 1, 31), "13 months", -1, date(2024, 12, 31)),
            (17, "5", 2, 27),
            (datetime(2026, 3, 1, 5), "36 hours", -1, datetime(2026, 2, 27, 17)),
            (Edge.INFINITY, "1 day", 1, Edge.INFINITY),
        ]:
            with self.subTest(value=value, span=span):
                self.assertEqual(expected, shifted(value, parse_span(span), steps, UTC_ZONE))

    def test_a_day_keeps_its_wall_clock_over_daylight_saving(self):
        noon = datetime(2026, 3, 28, 12, tzinfo=BERLIN).astimezone(UTC)
        moved = shifted(noon, parse_span("1 day"), 1, BERLIN)
        self.assertEqual((12, timedelta(hours=23)), (moved.astimezone(BERLIN).hour, moved - noon))


class SuffixTest(unittest.TestCase):
    def test_names_carry_the_bound_in_iso_order(self):
        for span, start, expected in [
            ("1 month", date(2026, 3, 1), "2026_03"),
            ("1 day", date(2026, 3, 17), "2026_03_17"),
            ("1 week", date(2026, 3, 30), "2026_w14"),
            ("1 week", date(2020, 12, 28), "2020_w53"),
            ("1 quarter", date(2026, 4, 1), "2026_q2"),
            ("1 year", date(2026, 1, 1), "2026"),
            ("1 hour", datetime(2026, 3, 17, 5), "2026_03_17t0500"),
            ("1000", 5000, "5000"),
            ("1000", -1000, "minus1000"),
            ("1 month", date(2026, 3, 15), "2026_03_15"),
            ("1 month", datetime(2026, 3, 1, 4, 30), "2026_03_01t043000"),
        ]:
            with self.subTest(span=span, start=start):
                self.assertEqual(expected, suffix(parse_span(span), Kind.TIMESTAMP, start, UTC_ZONE))

    def test_an_hour_of_an_instant_is_named_in_utc_and_once(self):
        grid = Grid(parse_span("1 hour"), Kind.TIMESTAMPTZ, BERLIN)
        first = grid.index(at("2026-10-25T00:00+00:00"))
        names = [suffix(grid.span, grid.kind, grid.start(slot), BERLIN) for slot in range(first, first + 3)]
        self.assertEqual(["2026_10_25t0000z", "2026_10_25t0100z", "2026_10_25t0200z"], names)
