"""Old partitions become wider ones as a part of upkeep."""

import json
import unittest
from dataclasses import replace

from slabrow.core.table.layout import Coarsen, Layout
from slabrow.core.table.spans import Span, Unit
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.core.weighing.coarser import coarser
from slabrow.core.weighing.windows import window_rule
from tests.busy import DIFFERENCES, writers
from tests.test_redivision import RedivisionTest

DAYS = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 day"
from = 2025-01-01
ahead = "3 days"
catch_all = true
at_most_retired = 100
"""
COARSEN = 'coarsen = { after = "2 months", span = "1 month" }\n'
NOW = ("--now", "2025-05-20", "--pretend")
DAILY = [
    "DO $$ BEGIN FOR n IN 0..141 LOOP EXECUTE format('CREATE TABLE apiary.reading_%s PARTITION OF apiary.reading FOR VALUES "
    "FROM (%L) TO (%L)', to_char(date '2025-01-01' + n, 'YYYY_MM_DD'), date '2025-01-01' + n, date '2025-01-02' + n); "
    "END LOOP; END $$",
    "CREATE TABLE apiary.reading_rest PARTITION OF apiary.reading DEFAULT",
]


class CoarsenTest(RedivisionTest):
    def test_days_become_months_beside_writers(self):
        self.fill(parts=DAILY)
        self.layout(DAYS + COARSEN)
        seen = self.json("forecast", "apiary.reading", "--now", "2025-05-20")
        # January, February and March are old enough; 50 days, and three ahead.
        self.assertEqual(
            (143, 2), (seen["without_coarsen"], sum(each["name"].count("_") == 2 for each in seen["partitions"]))
        )
        later = self.json("forecast", "apiary.reading", "--until", "2026-05-20", "--now", "2025-05-20")
        self.assertGreater(later["without_coarsen"], 4 * len(later["partitions"]))
        proposed = self.json("tend", *NOW, code=1)
        self.assertEqual(["merge", "merge"], [each["kind"] for each in proposed["actions"]])
        with writers(self.dsn, self.ROWS, a_second=200) as made:
            process = self.begin("tend", "--go", *NOW)
            self.wait_until("SELECT to_regclass('slabrow.reshaping_mark') IS NOT NULL")
            self.wait_until("SELECT EXISTS (SELECT FROM slabrow.reshaping_mark WHERE what = 'watched')")
            process.kill()
            process.communicate()
            self.assertIn("conversion_under_way", {each["code"] for each in self.json("tend", *NOW)["findings"]})
            done = self.json("tend", "--go", *NOW)
            self.assertEqual([], done["errors"])
            self.assertEqual([], self.json("tend", "--go", *NOW)["actions"])
        self.assert_same(made)
        self.assert_nothing_left()
        names = self.leaves()
        self.assertIn("reading_2025_01", names)
        self.assertIn("reading_2025_02", names)
        self.assertEqual(142 - 31 - 28 + 2 + 1, len(names))
        self.assertEqual([], [each for each in self.json("census", "apiary.reading", code=1)["findings"]
                              if each["code"] in ("gap", "overlap", "drift")])  # fmt: skip
        route = self.json("route", "apiary.reading", "2025-01-17")["routes"][0]
        self.assertEqual("apiary.reading_2025_01", route["partition"])

    def test_weeks_become_quarters_and_holds_and_retirement_come_first(self):
        weekly = ("DO $$ BEGIN FOR n IN 0..59 LOOP EXECUTE format('CREATE TABLE apiary.reading_%s PARTITION OF apiary.reading "
                  "FOR VALUES FROM (%L) TO (%L)', n, date '2024-12-30' + 7 * n, date '2025-01-06' + 7 * n); END LOOP; "
                  "END $$",)  # fmt: skip
        self.fill(parts=weekly)
        self.layout(DAYS.replace("1 day", "7 days").replace("2025-01-01", "2024-12-30")
                    + 'keep = "9 months"\ncoarsen = { after = "2 months", span = "1 quarter" }\n')  # fmt: skip
        now = ("--now", "2025-12-20", "--pretend")
        self.slabrow("tend", "--hold", "reading_20", "--go", *now)
        kinds = [each["kind"] for each in self.json("tend", "--retiring", "11", *now, code=1)["actions"]]
        self.assertEqual(1, kinds.count("merge"))  # the second quarter has a hold, the first leaves
        self.json("tend", "--go", "--retiring", "11", *now)
        self.sql("DELETE FROM apiary.twin WHERE taken_at < (SELECT min(taken_at) FROM apiary.reading)")
        self.assertEqual(0, self.value(DIFFERENCES))

    def test_what_the_layout_may_say(self):
        self.fill(parts=DAILY, rows=100)
        for coarsen, words in [
            ('{ after = "2 months" }', "has two keys"), ('{ after = "2 months", span = "1 hour" }', "no wider than"),
            ('{ after = 5, span = 10 }', "are counted as"), ('{ after = "x", span = "1 month" }', "is not a span"),
        ]:  # fmt: skip
            self.layout(DAYS + f"coarsen = {coarsen}\n")
            self.assertIn(words, self.slabrow("tend", *NOW, code=2).stderr)
        self.layout(DAYS + COARSEN + "[ledger]\nschema = ''\n")
        document = json.loads(self.slabrow("tend", *NOW, "--go", "--format", "json", code=1).stdout)
        self.assertIn("keeps its state in the ledger", document["actions"][0]["text"])


class CoarserTest(unittest.TestCase):
    def test_what_it_would_bring(self):
        layout = Layout(
            Name("apiary", "reading"), By.RANGE, ("taken_at",), span=Span(1, Unit.DAY), keep=Span(8, Unit.YEAR)
        )
        day = 86_400_000_000
        rule = window_rule([(7 * day, 90.0), (400 * day, 1.0)], day, 100.0)
        found = coarser(layout, 2_922, rule)
        self.assertEqual(Coarsen(Span(3, Unit.MONTH), Span(1, Unit.MONTH)), found.coarsen)
        self.assertTrue(150 < found.partitions < 250, found)
        self.assertEqual(15, found.most_widest)
        self.assertEqual(
            Span(13, Unit.MONTH), coarser(layout, 2_922, window_rule([(370 * day, 1.0)], day, 1.0)).coarsen.after
        )
        self.assertIsNone(coarser(layout, 40, rule))
        self.assertIsNone(coarser(replace(layout, keep=Span(3, Unit.MONTH)), 90, rule))
        self.assertIsNone(coarser(replace(layout, keep=None), 2_922, rule))
