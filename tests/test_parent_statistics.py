"""Statistics of a partitioned table as a whole: told when they are stale, taken after a change."""

from tests.test_redivision import MONTHS, NOW, RedivisionTest

LAYOUT = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
from = 2025-01-01
ahead = "{}"
"""
KNOWN = "SELECT reltuples FROM pg_class WHERE oid = 'apiary.reading'::regclass"
YEAR = [
    *MONTHS,
    "CREATE TABLE apiary.reading_2026_01 PARTITION OF apiary.reading FOR VALUES FROM ('2026-01-01') TO ('2026-02-01')",
]


class ParentStatisticsTest(RedivisionTest):
    def stale(self, code=1):
        findings = self.json("census", "apiary.reading", code=code)["findings"]
        return [each["text"] for each in findings if each["code"] == "parent_statistics"]

    def test_what_is_stale_is_told_and_taken_anew_after_a_change(self):
        self.fill(parts=YEAR, rows=20_000)
        self.assertEqual([], self.stale(code=0))
        self.sql("DROP TABLE apiary.reading_2025_01, apiary.reading_2025_02, apiary.reading_2025_03")
        [text] = self.stale()
        self.assertIn("say 20,000 rows, and its leaves hold about 15,0", text)
        self.assertIn("reach back to keys of partitions that have left", text)
        survey = self.json("survey", "apiary.reading")
        self.assertEqual("2025-04-01 00:00:00+00:00", survey["counts"]["buckets"][0]["from"])
        self.assertGreater(survey["index_bytes"], 0)
        for analyse, months, is_taken in (("never", 2, False), ("after change", 4, True), ("after change", 4, False)):
            self.layout(LAYOUT.format(f"{months} months") + f'analyse = "{analyse}"\n')
            done = self.json("tend", "--go", *NOW)
            self.assertEqual(["apiary.reading"] if is_taken else [], done["analysed"])
        self.assertAlmostEqual(15_000, self.value(KNOWN), delta=200)
        self.assertEqual([], self.stale(code=0))
        self.layout(LAYOUT.format("4 months") + 'analyse = "7 days"\n')
        self.assertEqual([], self.json("tend", "--go", *NOW)["analysed"])
        self.assertIn("analyse", {each["kind"] for each in self.json("history")["entries"]})
        self.layout(LAYOUT.format("4 months") + 'analyse = "sometimes"\n')
        self.assertIn("says not when to analyse", self.slabrow("tend", *NOW[:2], code=2).stderr)

    def test_never_analysed_and_partitions_that_came(self):
        self.fill(parts=YEAR, rows=20_000)
        self.sql("INSERT INTO apiary.reading (reading_id, hive_id, taken_at) "
                 "SELECT n + 100000, 1, '2026-01-15' FROM generate_series(1, 1000) n; ANALYZE apiary.reading_2026_01")  # fmt: skip
        self.sql("DELETE FROM pg_statistic WHERE starelid = 'apiary.reading'::regclass; UPDATE pg_class SET reltuples = -1 "
                 "WHERE oid = 'apiary.reading'::regclass")  # fmt: skip
        self.assertIn("were never taken", self.stale()[0])


class ParentStatisticsOn15Test(ParentStatisticsTest):
    version = 15
