"""`compare` on real tables: the same rows or none of the sums, in turn, on two servers, from saved results, in money."""

import json
import unittest

from tests import support
from tests.support import DatabaseTest, run

QUERIES = """
-- name: first-half
-- weight: 1000
SELECT count(*), min(note) FROM hive_day WHERE day < 500;
-- name: one
-- weight: 10
-- params: 17
SELECT note FROM hive_day WHERE day = $1;
-- name: elsewhere
SELECT 1;
"""
PRICES = '[prices]\ncurrency = "EUR"\nmillion_blocks = 1000000\ngb_month = 2\ncpu_hour = 0\n'


class CompareTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        (self.folder / "q.sql").write_text(QUERIES)
        (self.folder / "p.toml").write_text(PRICES)
        self.sql("CREATE TABLE hive_day (day int, note text)")
        self.sql("INSERT INTO hive_day SELECT n, repeat('x', 200) || n FROM generate_series(1, 4000) n")
        self.sql("CREATE TABLE plain AS TABLE hive_day; CREATE INDEX ON hive_day (day)")
        self.sql("VACUUM ANALYZE")

    def compare(self, *arguments, code=0):
        return self.json("compare", *arguments, code=code)

    def both(self, *arguments, code=0):
        return self.compare("hive_day", "--with", "plain", "--queries", "q.sql", *arguments, code=code)

    def test_the_sums_are_those_of_the_queries(self):
        found = self.both("--times", "2", "--prices", "p.toml")
        by_name = {each["name"]: each for each in found["queries"]}
        self.assertEqual({"first-half", "one"}, set(by_name))
        self.assertEqual("elsewhere", found["left_out"][0]["name"])
        self.assertTrue(all(each["same_rows"] for each in by_name.values()))
        for side in ("before", "after"):
            self.assertEqual(
                sum(each["weight"] * each[side]["blocks"] for each in by_name.values()), found["day"][side]["blocks"]
            )
            month = sum(each["weight"] * each[side]["reads"] for each in by_name.values()) * 365.25 / 12
            self.assertAlmostEqual(month, found["money"]["parts"]["reads"][side], places=3)
            self.assertAlmostEqual(
                found["sides"][side]["bytes"] / 2**30 * 2, found["money"]["parts"]["storage"][side], places=9
            )
        self.assertLess(by_name["one"]["after"]["blocks"], by_name["one"]["before"]["blocks"])
        for each in by_name.values():
            for side in ("before", "after"):
                measured = each[side]
                total = measured["planning_ms"] + measured["execution_ms"]
                self.assertTrue(measured["least_ms"] * 0.99 <= total <= measured["most_ms"] * 1.01, measured)

    def test_rows_that_only_one_side_has_are_no_gain(self):
        self.sql("DELETE FROM hive_day WHERE day > 3000")  # the planner's estimate still tells the old number
        refused = self.slabrow("compare", "hive_day", "--with", "plain", "--queries", "q.sql", code=4)
        self.assertIn("4,000 in plain and 3,000 in hive_day (counted): 1,000 apart", refused.stderr)
        found = self.both("--despite-rows", "--prices", "p.toml")
        self.assertEqual((1000, None, None), (found["rows_apart"], found["day"], found["money"]))
        text = self.slabrow("compare", "hive_day", "--with", "plain", "--queries", "q.sql", "--despite-rows").stdout
        self.assertNotIn("faster", text)
        self.assertEqual(2, len(self.both("--estimate-rows")["queries"]))

    def test_a_result_that_differs_is_in_no_sum(self):
        self.sql("UPDATE hive_day SET note = 'a' WHERE day = 17")
        found = self.both()
        self.assertEqual(
            {"first-half": False, "one": False}, {each["name"]: each["same_rows"] for each in found["queries"]}
        )
        self.assertIsNone(found["day"])

    def test_saved_results_and_two_servers(self):
        alone = self.compare("plain", "--queries", "q.sql", "--save", "other.json")
        self.assertEqual([], alone["queries"])  # no query names it
        (self.folder / "plain.sql").write_text(QUERIES)
        self.compare("hive_day", "--queries", "q.sql", "--save", "then.json")
        self.sql("UPDATE hive_day SET note = note")
        self.compare("hive_day", "--queries", "q.sql", "--save", "now.json")
        saved = json.loads((self.folder / "now.json").read_text())
        support.validator("compare").validate(saved)
        self.assertIn("at", saved)
        found = self.compare("--saved", "now.json", "--with-saved", "then.json")
        self.assertEqual(2, found["day"]["queries"])
        found = self.compare("hive_day", "--queries", "q.sql", "--with-saved", "then.json")
        self.assertEqual(2, found["day"]["queries"])
        (self.folder / "q.sql").write_text(QUERIES.replace("< 500", "< 600"))
        found = self.compare("hive_day", "--queries", "q.sql", "--with-saved", "then.json")
        self.assertIn(
            {"name": "first-half", "reason": "as it is another statement in the other result"}, found["left_out"]
        )
        other = support.server(support.binaries()[-1].version)
        dsn = other.dsn
        import psycopg

        with psycopg.connect(dsn, autocommit=True) as connection:
            connection.execute(
                "CREATE TABLE hive_day AS SELECT n AS day, repeat('x', 200) || n AS note "
                "FROM generate_series(1, 4000) n"
            )
            self.addCleanup(lambda: psycopg.connect(dsn, autocommit=True).execute("DROP TABLE hive_day"))
        found = self.compare("hive_day", "--with", "hive_day", "--with-dsn", dsn, "--queries", "q.sql")
        self.assertEqual(2, found["day"]["queries"])
        self.assertEqual(f"PostgreSQL {other.version}", found["sides"]["before"]["server"])

    def test_wrong_usage(self):
        (self.folder / "s.json").write_text('{"slabrow": "1", "command": "survey"}')
        (self.folder / "c.json").write_text('{"slabrow": "1", "command": "compare", "queries": 3, "sides": 1}')
        for arguments, words in (
            (("hive_day",), "--queries is missing"),
            (("hive_day", "--queries", "q.sql", "--with-dsn", "x"), "name it: --with TABLE"),
            (("hive_day", "--queries", "q.sql", "--with", "plain", "--with-saved", "s.json"), "leave --with"),
            (("--saved", "c.json"), "--with-saved FILE"),
            (("hive_day", "--saved", "c.json", "--with-saved", "c.json"), "leave TABLE out"),
            (("--saved", "s.json", "--with-saved", "s.json"), "is the result of `survey`"),
            (("--saved", "c.json", "--with-saved", "c.json"), "not a comparison as this version saves it"),
            (("hive_day", "--queries", "q.sql", "--times", "0"), "--times 0"),
            (("hive_day", "--queries", "q.sql", "--save", "no/such/x"), "there is no folder"),
        ):
            with self.subTest(arguments):
                done = run("compare", *arguments, cwd=self.folder, env={"SLABROW_DSN": self.dsn})
                self.assertEqual(2, done.returncode, done.stderr)
                self.assertIn(words, done.stderr)


if __name__ == "__main__":
    unittest.main()
