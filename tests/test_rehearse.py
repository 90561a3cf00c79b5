"""`rehearse` end to end: rows made from statistics alone, layouts tried under a played load, nothing left behind."""

import json
import math
import signal
import time
import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
import psycopg

from slabrow.core.rehearsal.made_up_column import ColumnFacts, made_up
from slabrow.core.rehearsal.outcome import rank_correlation
from slabrow.core.rehearsal.played_day import BUILT_IN, Curve
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.values.key_values import Kind
from tests.support import DatabaseTest, run

ROWS = 30_000
TABLE = """
CREATE SCHEMA apiary;
CREATE TYPE apiary.mood AS ENUM ('calm', 'busy', 'O''Hara "x"');
CREATE DOMAIN apiary.share AS numeric(5,2) CHECK (VALUE >= 0);
CREATE TABLE apiary.keeper (keeper_no int PRIMARY KEY, "Full Name" text NOT NULL);
CREATE TABLE apiary.visit (
    visit_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, token uuid NOT NULL UNIQUE,
    at timestamptz NOT NULL, left_at timestamptz, day date NOT NULL, keeper_no int NOT NULL REFERENCES apiary.keeper,
    region varchar(6) NOT NULL, mood apiary.mood NOT NULL, honey apiary.share, weight numeric(10,3), is_wet bool,
    "Odd; Name" text, extra jsonb, tags text[], took interval, seen_from inet, doubled int GENERATED ALWAYS AS (keeper_no * 2) STORED,
    CHECK (left_at > at), UNIQUE (keeper_no, at));
INSERT INTO apiary.keeper SELECT n, 'keeper ' || n FROM generate_series(10, 4000, 10) n;
INSERT INTO apiary.visit (token, at, left_at, day, keeper_no, region, mood, honey, weight, is_wet, "Odd; Name", extra, tags,
                          took, seen_from)
SELECT gen_random_uuid(), at, at + interval '20 min', at::date,
       CASE WHEN random() < .3 THEN 70 ELSE 10 * (1 + floor(random() * 400)::int) END,
       CASE WHEN random() < .6 THEN 'north' WHEN random() < .7 THEN 'süd' ELSE 'w''est' END, 'calm',
       random() * 100, random() * 50, random() < .2, CASE WHEN random() < .5 THEN 'secret ' || n END, '{"a": 1}', '{a,b}',
       '2 hours', '10.1.2.3'
FROM (SELECT n, timestamptz '2026-01-01 00:00+00' + n * interval '5 min' AS at FROM generate_series(1, 30000) n) r;
CREATE INDEX visit_at_idx ON apiary.visit (at);
CREATE INDEX visit_region_idx ON apiary.visit (lower(region)) WHERE is_wet;
"""
WORKLOAD = """
-- name: by-keeper
-- weight: 4000
SELECT count(*) FROM apiary.visit WHERE keeper_no = 70 AND at >= '2026-03-01 00:00+00' AND at < '2026-03-08 00:00+00';
-- name: prepared
-- weight: 2000
-- params: 70, '2026-02-01 00:00+00'
SELECT max(weight) FROM apiary.visit WHERE keeper_no = $1 AND at > $2;
-- name: with-names
-- weight: 50
SELECT k."Full Name", count(*) FROM apiary.visit v JOIN apiary.keeper k USING (keeper_no)
WHERE v.region = 'süd' AND v.day = '2026-03-05' GROUP BY 1;
-- name: correct
-- weight: 100
UPDATE apiary.visit SET weight = weight + 1 WHERE visit_id = 100 AND at < '2027-01-01';
-- name: harmful
-- weight: 10
SELECT pg_sleep(0), count(*) FROM apiary.visit, pg_ls_dir('/');
"""
LAYOUT = """
[[layout]]
table = "apiary.visit"
by = "range"
key = ["at"]
span = "1 week"
zone = "UTC"
from = 2025-12-29
ahead = "2 weeks"
keep = "{keep}"
past_keep = "{past}"
archive_to = "archive"
catch_all = true
"""
HASH = '[[layout]]\ntable = "apiary.visit"\nby = "hash"\nkey = ["keeper_no"]\nparts = 4\n'


class MadeUpTest(unittest.TestCase):
    """The makers alone: shapes of columns, the curve, the order of scores."""

    def values(self, statistics, kind=Kind.INTEGER, type_name="integer", named=(), rows=20_000, **facts):
        given = {"width": 8, "not_null": True, "is_unique": False, **facts}
        column = made_up(
            ColumnFacts(name="c", type_name=type_name, kind=kind, statistics=statistics, **given),
            rows, rows, named, with_values=False,
        )  # fmt: skip
        chance = np.random.default_rng(5)
        numbers = np.arange(rows)
        return column, column.of_rows(numbers, rows, chance, chance.uniform(-1, 1, rows))

    def test_shares_distinct_values_and_what_is_named(self):
        common = ((7, 0.3), (13, 0.2))
        histogram = tuple(range(0, 1001, 10))
        _, made = self.values(ColumnStatistics("c", 0.0, 200, common, histogram, 0.0), named=(13,))
        found, counts = np.unique(made, return_counts=True)
        self.assertAlmostEqual(200, len(found), delta=4)
        ordered = sorted(counts.tolist(), reverse=True)
        self.assertAlmostEqual(0.3 * len(made), ordered[0], delta=400)
        self.assertAlmostEqual(0.2 * len(made), counts[found == 13][0], delta=400)
        self.assertTrue(7 not in found[counts > 2_000], "the commonest value is told although nothing names it")

    def test_correlation_follows_the_statistics(self):
        histogram = tuple(range(0, 100_001, 1000))
        for wanted in (1.0, 0.97, 0.8, 0.4, 0.0, -0.6, -1.0):
            _, made = self.values(ColumnStatistics("c", 0.0, 90_000, (), histogram, wanted), rows=40_000)
            ranks = np.argsort(np.argsort(made, kind="stable"), kind="stable")
            self.assertAlmostEqual(wanted, np.corrcoef(ranks, np.arange(len(made)))[0, 1], delta=0.05, msg=wanted)

    def test_unique_columns_never_repeat(self):
        for kind, type_name in ((Kind.INTEGER, "bigint"), (Kind.UUID, "uuid"), (Kind.TEXT, "text"),
                                (Kind.TIMESTAMPTZ, "timestamp with time zone")):  # fmt: skip
            for correlation in (1.0, 0.0, -1.0):
                begin = datetime(2026, 1, 1, tzinfo=UTC)
                ends = (begin, begin + timedelta(days=30)) if kind is Kind.TIMESTAMPTZ else (5, 20_004)
                histogram = ends if kind in (Kind.INTEGER, Kind.TIMESTAMPTZ) else ()
                statistics = ColumnStatistics("c", 0.0, 20_000, (), histogram, correlation)
                column, made = self.values(statistics, kind, type_name, is_unique=True)
                self.assertTrue(column.never_repeats)
                self.assertEqual(len(made), len(np.unique(made)), (kind, correlation))

    def test_the_curve_is_a_day_and_arrivals_do_not_wait(self):
        due = Curve(BUILT_IN).due(100_000, 60.0, np.random.default_rng(1))
        self.assertTrue(np.all(np.diff(due) >= 0) and due[0] >= 0 and due[-1] <= 60)
        counts = np.histogram(due, bins=24, range=(0, 60))[0]
        self.assertGreater(counts[10], 8 * counts[3])
        for hour in range(24):
            self.assertAlmostEqual(BUILT_IN[hour] / sum(BUILT_IN), counts[hour] / len(due), delta=0.006)

    def test_rank_correlation_knows_ties(self):
        for one, other, expected in (
            ((1, 2, 3), (10, 20, 30), 1.0),
            ((1, 2, 3), (30, 20, 10), -1.0),
            ((1, 1.02, 3), (10, 9.9, 30), 1.0),  # the first two are too close for an order
            ((5, 5, 5), (7, 8, 9), None),
        ):
            names = "abc"
            found = rank_correlation(dict(zip(names, one, strict=True)), dict(zip(names, other, strict=True)))
            self.assertTrue(found is None if expected is None else math.isclose(expected, found), (one, other, found))


class RehearseTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(TABLE)
        self.sql("VACUUM ANALYZE")
        (self.folder / "w.sql").write_text(WORKLOAD)
        (self.folder / "week.toml").write_text(LAYOUT.format(keep="12 weeks", past="archive"))
        (self.folder / "hash.toml").write_text(HASH)
        self.scratch_name = f"scratch_{self.database}"
        self.sql(f"CREATE DATABASE {self.scratch_name}")
        self.scratch = self.dsn.replace(f"/{self.database}?", f"/{self.scratch_name}?")

    def on_scratch(self, query):
        with psycopg.connect(self.scratch, autocommit=True) as connection:
            return connection.execute(query).fetchall()

    def leftovers(self):
        return self.on_scratch(
            "SELECT relname FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace WHERE nspname LIKE 'apiary%'"
        )

    def test_rows_from_statistics_alone(self):
        done = self.json("rehearse", "apiary.visit", "--layout", "week.toml", "--workload", "w.sql", "--tables-only",
                         "--scratch", self.scratch)  # fmt: skip
        self.assertEqual(
            {"apiary.keeper": 400, "apiary.visit": ROWS}, {each["name"]: each["rows"] for each in done["tables"]}
        )
        real, made = (dict(rows) for rows in (self.sql(_SHAPE), self.on_scratch(_SHAPE)))
        self.assertLessEqual(made["rows"], real["rows"])
        for name, apart in (("rows", 0.03), ("keepers", 0.03), ("first keeper", 0.1), ("regions", 0), ("first region", 0.05),
                            ("secrets", 0.05), ("wet", 0.15), ("days", 0.05), ("size", 0.25)):  # fmt: skip
            self.assertAlmostEqual(float(real[name]), float(made[name]), delta=apart * float(real[name]), msg=name)
        # Not one text or token of a row has left; what the workload names is there under its name.
        self.assertEqual(
            [(0,)], self.on_scratch("SELECT count(*) FROM apiary.visit WHERE \"Odd; Name\" LIKE 'secret%'")
        )
        self.assertEqual(
            [(0,)], self.on_scratch("SELECT count(*) FROM apiary.visit WHERE region IN ('north', 'w''est')")
        )
        self.assertGreater(self.on_scratch("SELECT count(*) FROM apiary.visit WHERE region = 'süd'")[0][0], 1_000)
        self.assertGreater(self.on_scratch("SELECT count(*) FROM apiary.visit WHERE keeper_no = 70")[0][0], 7_000)
        tokens = {token for (token,) in self.sql("SELECT token FROM apiary.visit")}
        self.assertFalse(tokens & {token for (token,) in self.on_scratch("SELECT token FROM apiary.visit")})
        # The same question has the same answer there.
        places = []
        for dsn in (self.dsn, self.scratch):
            found = self.json(
                "weigh", "apiary.visit", "--workload", "w.sql", "--now", "2026-04-15", "--keep", "12 weeks", dsn=dsn
            )
            first = found["candidates"][0]
            proved = self.json(
                "prove", "--queries", "w.sql", "--layout", "week.toml", "--laid-out", "--now", "2026-04-15", dsn=dsn
            )
            places.append(({key: first[key] for key in ("by", "key", "span", "parts")},
                           [each["predicted"] for each in proved["queries"]]))  # fmt: skip
        self.assertEqual(*places)
        # The next rehearsal takes away what an earlier one left, and may take real values over when it is told to.
        self.json("rehearse", "apiary.visit", "--layout", "week.toml", "--workload", "w.sql", "--tables-only", "--with-values",
                  "--scratch", self.scratch)  # fmt: skip
        self.assertGreater(self.on_scratch("SELECT count(*) FROM apiary.visit WHERE region = 'north'")[0][0], 10_000)

    def test_layouts_under_load(self):
        done = self.json("rehearse", "apiary.visit", "--layout", "week.toml", "--layout", "hash.toml", "--workload", "w.sql",
                         "--for", "8s", "--scratch", self.scratch, "--picture", "day.png", "--save", "r.json")  # fmt: skip
        self.assertEqual(b"\x89PNG", (self.folder / "day.png").read_bytes()[:4])
        self.assertEqual(done["layouts"], json.loads((self.folder / "r.json").read_text())["layouts"])
        self.assertEqual(["harmful"], [each["name"] for each in done["left_out"]])
        by_name = {each["name"]: each for each in done["layouts"]}
        self.assertEqual(3, len(by_name))
        self.assertEqual([1, 2, 3], [each["rank"] for each in done["layouts"]])
        self.assertEqual({1, 2, 3}, {each["predicted_rank"] for each in done["layouts"]})
        week, plain = (next(each for name, each in by_name.items() if start in name) for start in ("range", "as it is"))
        self.assertEqual((1, True), (week["upkeep"]["created"], week["upkeep"]["retired"] >= 1))
        self.assertEqual((0, 0), (plain["upkeep"]["created"], plain["upkeep"]["retired"]))
        # Inserts that are played meanwhile count with both.
        self.assertGreater(plain["upkeep"]["wal_bytes"], week["upkeep"]["wal_bytes"])
        for each in done["layouts"]:
            self.assertEqual(0, each["throughput"]["failed"], each["throughput"]["error"])
            self.assertEqual(each["throughput"]["asked"], each["throughput"]["done"])
            self.assertLess(each["client_cpu"], 0.25)
            self.assertGreater(each["writes"]["runs"], 10)
            queries = {query["name"]: query for query in each["queries"]}
            self.assertEqual({"by-keeper", "prepared", "with-names", "correct"}, set(queries))
            self.assertGreaterEqual(queries["by-keeper"]["p99_ms"], queries["by-keeper"]["p50_ms"])
        touched = {query["name"]: query["touched"] for query in week["queries"]}
        self.assertEqual(
            (2, 1), (touched["by-keeper"], {q["name"]: q["touched"] for q in plain["queries"]}["by-keeper"])
        )
        self.assertEqual([], self.leftovers())
        self.assertEqual(ROWS, self.value("SELECT count(*) FROM apiary.visit"))

    def test_parts_on_several_servers(self):
        """Private servers stand for the others, and end with the rehearsal."""
        text = (
            HASH
            + 'servers = ["here", "north"]\n[[elsewhere]]\nname = "north"\ndsn = "postgresql://nowhere.invalid/x"\n'
        )
        (self.folder / "far.toml").write_text(text)
        asked = ("rehearse", "apiary.visit", "--layout", "far.toml", "--layout", "week.toml", "--workload", "w.sql")
        self.assertIn("north", self.slabrow(*asked, "--scratch", self.scratch, code=2).stderr)
        weighed = self.json("weigh", "apiary.visit", "--layout", "far.toml", "--workload", "w.sql")["candidates"]
        [far] = [each for each in weighed if each["rows_sent_a_day"]]
        here = next(each for each in weighed if (each["key"], each["parts"]) == (["keeper_no"], 4) and each is not far)
        self.assertGreater(far["workload_ms_a_day"], here["workload_ms_a_day"])
        self.assertGreater(far["insert_ms_a_day"], here["insert_ms_a_day"])
        done = self.json(*asked, "--for", "5s", "--rows", "5000")
        self.assertIn("private ones", " ".join(done["notes"]))
        by_name = {each["name"]: each for each in done["layouts"]}
        far = by_name["hash (keeper_no) in 4 parts over here, north"]
        plain = by_name["as it is"]
        self.assertEqual((4, 0), (far["partitions"], far["throughput"]["failed"]), far["throughput"]["error"])
        self.assertEqual(1, {query["name"]: query["touched"] for query in far["queries"]}["by-keeper"])
        # Both servers' bytes and log count: about as much as in one table.
        self.assertGreater(far["bytes"], 0.6 * plain["bytes"])
        self.assertGreater(far["upkeep"]["wal_bytes"], 0)
        self.assertGreater(far["predicted_ms"], 0)

    def test_never_beside_data_of_others(self):
        arguments = ("rehearse", "apiary.visit", "--layout", "week.toml", "--workload", "w.sql", "--for", "5s")
        refused = self.slabrow(*arguments, "--scratch", self.dsn, code=4)
        self.assertIn("--here", refused.stderr)
        with psycopg.connect(self.scratch, autocommit=True) as connection:
            connection.execute("CREATE TABLE theirs (a int)")
        self.assertIn("theirs", self.slabrow(*arguments, "--scratch", self.scratch, code=4).stderr)
        before = self.sql("SELECT relname FROM pg_class WHERE relnamespace = 'apiary'::regnamespace ORDER BY 1")
        done = self.json(*arguments, "--scratch", self.dsn, "--here", "--rows", "2000")
        self.assertEqual(
            {"apiary_rehearsal.keeper", "apiary_rehearsal.visit"}, {each["name"] for each in done["tables"]}
        )
        self.assertEqual(0, done["layouts"][0]["throughput"]["failed"], done["layouts"][0]["throughput"]["error"])
        self.assertEqual(
            before, self.sql("SELECT relname FROM pg_class WHERE relnamespace = 'apiary'::regnamespace ORDER BY 1")
        )
        self.assertEqual(ROWS, self.value("SELECT count(*) FROM apiary.visit"))
        self.assertIsNone(self.value("SELECT to_regnamespace('apiary_rehearsal')"))
        self.sql("CREATE SCHEMA apiary_rehearsal")
        self.assertIn(
            "no rehearsal has made it", self.slabrow(*arguments, "--scratch", self.dsn, "--here", code=4).stderr
        )

    def test_names_stay_within_their_quotes(self):
        """A schema, a table and a type whose names hold quotes and dots, in a schema of the rehearsal's own."""
        self.sql('CREATE SCHEMA "o""dd.s"; CREATE TYPE "o""dd.s"."a "" AS ENUM (); DROP TABLE t; --" AS ENUM (\'x"y\')')
        self.sql(
            'CREATE TABLE "o""dd.s"."t.b""l" (id int PRIMARY KEY, at timestamptz NOT NULL, m "o""dd.s"."a "" AS ENUM (); DROP TABLE t; --")'
        )
        self.sql(
            """INSERT INTO "o""dd.s"."t.b""l" SELECT n, timestamptz '2026-01-01' + n * interval '1 h', 'x"y' FROM generate_series(1, 2000) n"""
        )
        self.sql("ANALYZE")
        (self.folder / "n.sql").write_text(
            '-- name: q\nSELECT count(*) FROM "o""dd.s"."t.b""l" WHERE id = 7 AND at > \'2026-01-02\';\n'
        )
        (self.folder / "n.toml").write_text(
            '[[layout]]\ntable = "\\"o\\"\\"dd.s\\".\\"t.b\\"\\"l\\""\nby = "hash"\nkey = ["id"]\nparts = 2\n'
        )
        done = self.json("rehearse", '"o""dd.s"."t.b""l"', "--layout", "n.toml", "--workload", "n.sql", "--for", "5s",
                         "--scratch", self.dsn, "--here")  # fmt: skip
        self.assertEqual(['"o""dd.s_rehearsal"."t.b""l"'], [each["name"] for each in done["tables"]])
        self.assertEqual([0, 0], [each["throughput"]["failed"] for each in done["layouts"]], done["layouts"])
        self.assertIsNone(self.value("SELECT to_regnamespace(quote_ident(%s))", 'o"dd.s_rehearsal'))

    def test_stopped_midway_and_killed(self):
        arguments = ("rehearse", "apiary.visit", "--layout", "week.toml", "--workload", "w.sql", "--for", "30s",
                     "--scratch", self.scratch)  # fmt: skip
        for how, code in ((signal.SIGINT, 5), (signal.SIGKILL, -9)):
            process = self.begin(*arguments)
            end = time.monotonic() + 60
            while not self.on_scratch("SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%keeper_no = %' AND datname = "
                                      "current_database() AND pid <> pg_backend_pid()")[0][0]:  # fmt: skip
                self.assertLess(time.monotonic(), end)
                self.assertIsNone(process.poll(), "it ended before it was stopped")
                time.sleep(0.05)
            process.send_signal(how)
            _, errors = process.communicate(timeout=60)
            self.assertEqual(code, process.returncode, errors)
            self.assertNotIn("Traceback", errors)
            if how is signal.SIGINT:
                self.assertEqual([], self.leftovers())
        time.sleep(1)
        self.assertTrue(self.leftovers())
        self.json("rehearse", "apiary.visit", "--layout", "week.toml", "--workload", "w.sql", "--for", "5s", "--rows", "1000",
                  "--scratch", self.scratch)  # fmt: skip
        self.assertEqual([], self.leftovers())

    def test_wrong_usage(self):
        (self.folder / "c.txt").write_text("1 2 3")
        (self.folder / "d.txt").write_text(" ".join(["0"] * 24))
        (self.folder / "e.txt").write_text("1 x")
        known = ("apiary.visit", "--layout", "week.toml", "--workload", "w.sql")
        self.sql("CREATE TABLE apiary.empty (a int); CREATE TABLE apiary.unseen (at timestamptz)")
        (self.folder / "u.toml").write_text(
            LAYOUT.format(keep="1 year", past="drop").replace("visit", "unseen").replace("archive_to", "#")
        )
        for arguments, words, code in (
            (("apiary.visit",), "no workload", 2),
            ((*known, "--for", "1s"), "--for", 2),
            ((*known, "--curve", "c.txt"), "3 numbers", 2),
            ((*known, "--curve", "d.txt"), "no load at all", 2),
            ((*known, "--curve", "e.txt"), "is no number", 2),
            ((*known, "--rows", "5"), "--rows 5", 2),
            ((*known, "--here"), "--scratch", 2),
            ((*known, "--tables-only"), "--scratch URL", 2),
            ((*known, "--memory", "64MB", "--scratch", "x"), "private server", 2),
            ((*known, "--layout", "week.toml"), "the same", 2),
            (("apiary.unseen", "--layout", "u.toml", "--workload", "w.sql"), "ANALYZE", 3),
            (("apiary.visit", "--layout", "u.toml", "--workload", "w.sql"), "no layout for", 2),
        ):
            with self.subTest(arguments):
                done = run("rehearse", *arguments, cwd=self.folder, env={"SLABROW_DSN": self.dsn})
                self.assertEqual(code, done.returncode, done.stderr)
                self.assertIn(words, done.stderr)


_SHAPE = """
    SELECT 'rows', count(*)::float FROM apiary.visit
    UNION ALL SELECT 'keepers', count(DISTINCT keeper_no) FROM apiary.visit
    UNION ALL SELECT 'first keeper', max(n) FROM (SELECT count(*) n FROM apiary.visit GROUP BY keeper_no) k
    UNION ALL SELECT 'regions', count(DISTINCT region) FROM apiary.visit
    UNION ALL SELECT 'first region', max(n) FROM (SELECT count(*) n FROM apiary.visit GROUP BY region) k
    UNION ALL SELECT 'secrets', count("Odd; Name") FROM apiary.visit
    UNION ALL SELECT 'wet', count(*) FROM apiary.visit WHERE is_wet
    UNION ALL SELECT 'days', count(DISTINCT day) FROM apiary.visit
    UNION ALL SELECT 'size', pg_total_relation_size('apiary.visit')"""


if __name__ == "__main__":
    unittest.main()
