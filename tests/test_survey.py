"""What `survey` and `forecast` say under each of their options, on both families, held against SQL."""

from collections import Counter
from datetime import date, datetime, timedelta

from tests.mariadb import MariaTest
from tests.support import DatabaseTest

BEGIN = datetime(2025, 9, 1)
NOW = ("--now", "2026-03-01")


class Options:
    """A table of 181 days with 40 rows each, by hand: what comes out is known without any server."""

    def setUp(self):
        super().setUp()
        self.rows = [
            (number, number % 7, BEGIN + timedelta(minutes=36 * number), f"Z{number % 5 % 3}", None if number % 10 == 0 else number)
            for number in range(181 * 40)
        ]  # fmt: skip
        self.sql(
            f"CREATE TABLE {self.schema}.visit (visit_id bigint PRIMARY KEY, hive_id int NOT NULL, at {self.moment} NOT NULL, zone varchar(4), n int)"
        )
        with self.connection.cursor() as cursor:
            cursor.executemany(f"INSERT INTO {self.schema}.visit VALUES (%s, %s, %s, %s, %s)", self.rows)
        self.sql(f"ANALYZE {self.analyse}{self.schema}.visit")
        self.table = f"{self.schema}.visit"

    def counts(self, *options, code=0):
        return self.json("survey", self.table, *options, code=code)["counts"]

    def buckets(self, *options):
        found = self.counts(*options)
        return {each.get("value", each.get("from")): each["rows"] for each in found["buckets"]}, found

    def test_by_value_and_by_period(self):
        by_hive = Counter(hive for _, hive, *_ in self.rows)
        self.assertEqual(dict(by_hive), self.buckets("--by", "hive_id", "--exact")[0])
        self.assertEqual(Counter(zone for *_, zone, _ in self.rows), self.buckets("--by", "zone", "--exact")[0])
        by_week = Counter(at.date() - timedelta(days=at.weekday()) for _, _, at, *_ in self.rows)
        found, counts = self.buckets("--by", "at", "--per", "1 week", "--exact")
        self.assertEqual(dict(by_week), {date.fromisoformat(begin[:10]): rows for begin, rows in found.items()})
        self.assertEqual(("1 week", True, 0), (counts["per"], counts["exact"], counts["nulls"]))
        by_thousand = Counter(n // 1000 * 1000 for *_, n in self.rows if n is not None)
        found, counts = self.buckets("--by", "n", "--per", "1000", "--exact")
        self.assertEqual(dict(by_thousand), found)
        self.assertEqual(len(self.rows) // 10, counts["nulls"])
        self.assertEqual(len(self.rows), len(self.counts("--by", "visit_id", "--per", "1", "--exact")["buckets"]))
        self.assertIn(
            "… 6,840 more, in json",
            self.slabrow("survey", self.table, "--by", "visit_id", "--per", "1", "--exact").stdout,
        )
        # Without a word the time column by months; estimates are near.
        by_month = Counter(at.strftime("%Y-%m") for _, _, at, *_ in self.rows)
        self.assertEqual(by_month, {begin[:7]: rows for begin, rows in self.buckets("--exact")[0].items()})
        for begin, rows in self.buckets()[0].items():
            self.assertAlmostEqual(by_month[begin[:7]], rows, delta=0.12 * by_month[begin[:7]] + 20)
        for value, rows in self.buckets("--by", "hive_id")[0].items():
            self.assertAlmostEqual(by_hive[value], rows, delta=0.2 * by_hive[value])

    def test_what_cannot_be_counted_so_is_refused(self):
        for words, options in [
            ("no column hives", ("--by", "hives")),
            ("cannot be counted per", ("--by", "at", "--per", "1000")),
            ("cannot be counted per", ("--by", "n", "--per", "1 month")),
            ("cannot be counted per", ("--by", "zone", "--per", "1 month")),
            ("not a unit", ("--by", "at", "--per", "1 second")),
            ("not a span", ("--per", "soon")),
            ("share of a hundred", ("--sample", "101")),
        ]:
            with self.subTest(options):
                self.assertIn(words, self.slabrow("survey", self.table, *options, code=2).stderr)

    def test_the_layout_says_what_is_counted(self):
        for keys, expected in [
            ('by = "list"\nkey = ["zone"]\ngroups = { z = ["Z0"] }\ncatch_all = true', Counter(zone for *_, zone, _ in self.rows)),
            ('by = "range"\nkey = ["visit_id"]\nspan = 2000\nahead = 2000', Counter(number // 2000 * 2000 for number, *_ in self.rows)),
            ('by = "hash"\nkey = ["hive_id"]\nparts = 4', None),
        ]:  # fmt: skip
            self.layout(f'[[layout]]\ntable = "{self.table}"\n{keys}\n')
            with self.subTest(keys):
                if expected is None:
                    self.assertIsNone(self.counts("--exact"))
                else:
                    self.assertEqual(dict(expected), self.buckets("--exact")[0])

    def test_what_it_will_be(self):
        found = self.json("survey", self.table, "--grown", "10", "--as-of", "2026-05-30", *NOW)
        times, day = found["later"]
        self.assertEqual((10 * found["rows"], 10 * found["bytes"]), (times["rows"], times["bytes"]))
        self.assertAlmostEqual(len(self.rows) + 40 * 90, day["rows"], delta=0.1 * len(self.rows))
        self.assertAlmostEqual(40, found["growth"]["rows_a_day"], delta=4)
        self.assertIn("a later day", self.slabrow("survey", self.table, "--as-of", "2025-01-01", *NOW, code=2).stderr)
        self.sql(f"CREATE TABLE {self.schema}.keeper (keeper_id int PRIMARY KEY)")
        self.sql(f"INSERT INTO {self.schema}.keeper VALUES (1), (2)")
        self.sql(f"ANALYZE {self.analyse}{self.schema}.keeper")
        refused = self.slabrow("survey", f"{self.schema}.keeper", "--as-of", "2027-01-01", *NOW, code=2).stderr
        self.assertIn("no growth along a time column", refused)

    def test_what_a_layout_would_give(self):
        self.layout(
            f'[[layout]]\ntable = "{self.table}"\nby = "range"\nkey = ["at"]\nspan = "1 month"\nahead = "2 months"\nkeep = "3 months"\n'
            'coarsen = { after = "2 months", span = "1 quarter" }\n'
        )
        by_month = Counter(at.strftime("%Y-%m") for _, _, at, *_ in self.rows)
        exact = self.json("forecast", self.table, "--exact", *NOW)
        self.assertEqual(len(self.rows), sum(each["rows"] for each in exact["partitions"]) + exact["homeless_rows"])
        newest = next(each for each in exact["partitions"] if each["from"][:10] == "2026-02-01")
        self.assertEqual(by_month["2026-02"], newest["rows"])
        self.assertTrue(
            any(each["from"][:10] == "2025-10-01" and each["to"][:10] == "2026-01-01" for each in exact["partitions"])
        )
        text = self.slabrow("forecast", self.table, *NOW).stdout
        self.assertIn("without `coarsen` there would be", text)
        times = self.json("forecast", self.table, "--exact", "--grown", "3", *NOW)
        self.assertEqual(
            [3 * each["rows"] for each in exact["partitions"]], [each["rows"] for each in times["partitions"]]
        )
        until = self.json("forecast", self.table, "--until", "2026-06-01", *NOW)
        self.assertAlmostEqual(40, until["until"]["rows_a_day"], delta=4)
        self.assertLess(until["until"]["rows"], len(self.rows))
        self.assertIn("retired", self.slabrow("forecast", self.table, "--until", "2026-06-01", *NOW).stdout)


class PostgresTest(Options, DatabaseTest):
    moment, analyse, schema = "timestamp", "", "public"


class MariaDbTest(Options, MariaTest):
    moment, analyse = "datetime", "TABLE "

    @property
    def schema(self):
        return self.database
