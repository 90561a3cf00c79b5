"""Choosing: what `weigh` ranks first on tables made for it, that it can say no, and what it needs and refuses."""

import itertools
import json
import random
import tempfile
import unittest
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import psycopg
import pyarrow
import pyarrow.parquet as parquet

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.row_growth import growth
from slabrow.core.statistics.sample import column_statistics
from slabrow.core.values.names import Name
from slabrow.core.weighing.wider_keys import with_wider_keys
from slabrow.core.weighing.windows import most_touched
from slabrow.servers.postgresql.private.server import start
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.facts import table_facts
from tests.support import DatabaseTest, ServerTest, binaries, run

NOW = ("--now", "2026-03-01")


class WindowRuleTest(unittest.TestCase):
    def test_the_most_partitions_of_a_window_wherever_it_begins(self):
        for window, span in itertools.product(range(1, 30), range(1, 12)):
            counted = max((begin + window - 1) // span - begin // span + 1 for begin in range(span))
            self.assertEqual(counted, most_touched(window, span), (window, span))
        with self.assertRaises(ValueError):
            most_touched(0, 5)


class GrowthTest(unittest.TestCase):
    def histogram(self, days, rows_of_day):
        begin, moments = datetime(2025, 1, 1, tzinfo=UTC), []
        for day in range(days):
            rows = rows_of_day(day)
            moments += [begin + timedelta(days=day + place / rows) for place in range(rows)]
        step = (len(moments) - 1) / 100
        return ColumnStatistics("at", 0.0, None, (), tuple(moments[round(place * step)] for place in range(101))), len(
            moments
        )

    def test_a_steady_table_grows_at_its_rate_and_doubles_in_its_own_age(self):
        found = growth("at", *self.histogram(400, lambda _: 50))
        self.assertAlmostEqual(50, found.rows_a_day, delta=1)
        self.assertEqual(0.0, found.trend)
        self.assertAlmostEqual(400, (found.doubles_on - found.newest).days, delta=8)

    def test_a_rising_rate_is_seen_with_its_slope(self):
        found = growth("at", *self.histogram(400, lambda day: 20 + day // 5))
        self.assertAlmostEqual(100, found.rows_a_day, delta=6)
        self.assertAlmostEqual(0.2, found.trend, delta=0.03)
        self.assertLess((found.doubles_on - found.newest).days, 400)

    def test_a_table_that_hardly_has_a_history_tells_nothing(self):
        self.assertIsNone(growth("at", ColumnStatistics("at", 0.0, 1.0), 5))


class WeighTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql("SET synchronous_commit = off")

    def weigh(self, table, queries, *arguments, **options):
        (self.folder / "workload.sql").write_text(queries)
        return self.json("weigh", table, "--workload", "workload.sql", *NOW, *arguments, **options)

    def readings(self, rows=300_000):
        self.sql(
            "CREATE TABLE reading (id bigint PRIMARY KEY, hive_id int NOT NULL, taken_at timestamptz NOT NULL, filler text);"
            f"INSERT INTO reading SELECT n, n::bigint * 7919 % 1000, timestamptz '2025-03-01' + n * interval '365 days' / {rows}, repeat('x', 60) FROM generate_series(1, {rows}) n;"
            "CREATE INDEX ON reading (hive_id); ANALYZE reading"
        )

    def test_reports_over_time_make_a_range_and_its_numbers_add_up(self):
        self.readings()
        found = self.weigh("reading", "-- name: month\n-- weight: 400\nSELECT avg(hive_id) FROM reading WHERE taken_at >= '2025-06-01' AND taken_at < '2025-07-01';"
                           "-- name: by-id\n-- weight: 100\nSELECT * FROM reading WHERE id = 7;", "--keep", "12 months")  # fmt: skip
        first = found["candidates"][0]
        self.assertEqual(("range", ["taken_at"], "1 month"), (first["by"], first["key"], first["span"]))
        queries = {query["name"]: query for query in first["queries"]}
        self.assertEqual((1, first["partitions"]), (queries["month"]["touched"], queries["by-id"]["touched"]))
        self.assertLess(first["read_share"], 0.2)
        as_it_is = next(each for each in found["candidates"] if each["by"] == "none")
        self.assertEqual(1.0, as_it_is["read_share"])
        self.assertGreater(as_it_is["retire_ms_a_day"], 20 * first["retire_ms_a_day"])
        self.assertGreater(as_it_is["retire_wal_bytes_a_day"], 20 * first["retire_wal_bytes_a_day"])
        self.assertIn("primary key", first["obstacles"][0])
        self.assertTrue(any("by-id gets slower" in text for text in found["price"]), found["price"])
        # From 31 January 30 days reach into March: a month may have 28 days.
        self.assertEqual((3, "30 days"), (found["windows"]["usual_touches"], found["windows"]["usual"]))
        self.assertEqual("taken_at", found["ageing"][0]["column"])

    def test_it_says_no_when_partitions_would_not_pay(self):
        self.readings(20_000)
        cases = {
            "a small table": "-- weight: 50\nSELECT count(*) FROM reading WHERE taken_at >= '2026-02-01';",
            "look-ups by another key": "-- weight: 90000\nSELECT * FROM reading WHERE id = 5; -- weight: 9\nSELECT 1 FROM reading WHERE taken_at = '2026-01-01';",
            "queries that need everything": "-- weight: 9\nSELECT hive_id, count(*) FROM reading GROUP BY hive_id;",
        }
        for what, queries in cases.items():
            with self.subTest(what):
                found = self.weigh("reading", queries)
                self.assertEqual("none", found["candidates"][0]["by"], found["candidates"][0])
                self.assertTrue(found["candidates"][0]["reasons"])
        self.assertIn(
            "Leave reading as it is", self.slabrow("weigh", "reading", "--workload", "workload.sql", *NOW).stdout
        )
        refused = self.slabrow("weigh", "reading", "--workload", "workload.sql", "--write", "new.toml", *NOW, code=2)
        self.assertIn("--choose", refused.stderr)
        self.assertFalse((self.folder / "new.toml").exists())

    def test_a_partitioned_table_is_weighed_as_it_is(self):
        self.readings(30_000)
        self.layout('[[layout]]\ntable = "public.reading"\nby = "hash"\nkey = ["id"]\nparts = 8\n')
        self.slabrow("convert", "--way", "locked", "--go")
        query = "-- name: look-up\n-- weight: 9\nSELECT * FROM reading WHERE id = 5; -- name: hive\nSELECT filler FROM reading WHERE hive_id = 5;"
        found = self.weigh("reading", query)
        as_it_is = next(each for each in found["candidates"] if each["by"] == "none")
        self.assertEqual((8, [1.0, 8.0]), (as_it_is["partitions"], [each["touched"] for each in as_it_is["queries"]]))

    def test_tables_with_nothing_in_them_and_names_with_anything(self):
        self.sql(
            "CREATE TABLE hollow (id int PRIMARY KEY, at timestamptz); ANALYZE hollow; CREATE TABLE fresh (id int); INSERT INTO fresh VALUES (1)"
        )
        self.sql(
            'CREATE TABLE "Odd Täble" ("Käy ""x""" int, "z%s" text); INSERT INTO "Odd Täble" SELECT n % 7, n FROM generate_series(1, 5000) n; ANALYZE "Odd Täble"'
        )
        found = self.weigh("hollow", "SELECT * FROM hollow WHERE at > now(); SELECT no sql at all FROM FROM;")
        self.assertEqual(("none", 1), (found["candidates"][0]["by"], found["workload"]["not_understood"]))
        (self.folder / "workload.sql").write_text("SELECT 1 FROM fresh WHERE id = 1;")
        self.assertIn("ANALYZE fresh", self.slabrow("weigh", "fresh", "--workload", "workload.sql", code=3).stderr)
        odd = self.weigh(
            '"Odd Täble"', 'SELECT 1 FROM "Odd Täble" WHERE "Käy ""x""" = 3;', "--key", 'Käy "x"', "--by", "list"
        )
        self.assertIn('Käy "x"', [each["key"][0] for each in odd["candidates"] if each["key"]])

    def test_giants_alone_and_the_tail_hashed_is_found_written_and_built(self):
        self.sql(
            "CREATE TABLE event (tenant int NOT NULL, at timestamptz, note text); INSERT INTO event SELECT CASE WHEN n % 2 = 0 THEN 1 ELSE (random() * 300)::int + 2 END,"
            " now(), repeat('y', 50) FROM generate_series(1, 60000) n; ANALYZE event"
        )
        query = "-- weight: 5000\nSELECT count(note) FROM event WHERE tenant = 77; -- weight: 900\nSELECT count(note) FROM event WHERE tenant = 1;"
        found = self.weigh("event", query, "--by", "list")
        giants = next(each for each in found["candidates"] if each["within"])
        self.assertEqual(
            ({"1": [1]}, "hash", ["tenant"]), (giants["groups"], giants["within"]["by"], giants["within"]["key"])
        )
        self.assertEqual(1.0, giants["queries"][0]["touched"])
        self.slabrow(
            "weigh",
            "event",
            "--workload",
            "workload.sql",
            "--by",
            "list",
            "--write",
            "slabrow.toml",
            "--choose",
            str(giants["rank"]),
            *NOW,
        )
        forecast = self.json("forecast", "--table", "public.event", "--exact")
        self.slabrow("convert", "--way", "locked", "--table", "public.event", "--go")
        held = {
            each["name"].split(".")[-1]: each["rows"] for each in self.json("census", "event", "--exact")["partitions"]
        }
        for each in forecast["partitions"]:
            self.assertEqual(each["rows"], held[each["name"]], each["name"])
        self.assertEqual(30_000, held["event_1"])
        self.assertEqual([], self.json("tend", "--table", "public.event")["actions"])

    def test_wishes_add_bar_and_bound(self):
        self.readings(30_000)
        query = "SELECT 1 FROM reading WHERE taken_at >= '2026-02-01' AND hive_id = 5;"

        def kinds(*arguments):
            found = self.weigh("reading", query, *arguments)["candidates"]
            return {(each["by"], *each["key"], each["span"] or each["parts"]) for each in found if each["by"] != "none"}

        self.assertEqual({("hash", "hive_id", 24)}, kinds("--key", "hive_id", "--by", "hash", "--parts", "24"))
        self.assertEqual(
            {("range", "taken_at", "10 days")}, kinds("--key", "taken_at", "--by", "range", "--span", "10 days")
        )
        self.assertFalse([each for each in kinds("--not", "hive_id") if "hive_id" in each])
        few = self.weigh("reading", query, "--ceiling", "20")["candidates"]
        self.assertLessEqual(max(each["partitions"] for each in few), 20)
        small = self.weigh("reading", query, "--size", "600kB")["candidates"]
        fits = [each["largest_bytes"] <= 600 * 1024 for each in small]
        self.assertEqual(sorted(fits, reverse=True), fits)

    def test_a_reader_with_select_only_can_choose_and_is_told_what_is_missing(self):
        self.readings(20_000)
        query = "SELECT 1 FROM reading WHERE taken_at >= '2026-02-01';"
        (self.folder / "workload.sql").write_text(query)
        asked = ("weigh", "reading", "--workload", "workload.sql", *NOW)
        refused = self.slabrow(*asked, dsn=self.dsn_as("reader"), code=3)
        self.assertIn("SELECT", refused.stderr)
        self.sql(f"GRANT SELECT ON reading TO reader; REVOKE TEMPORARY ON DATABASE {self.database} FROM PUBLIC")
        self.slabrow(*asked, dsn=self.dsn_as("reader"))
        self.slabrow("survey", "reading", "--workload", "workload.sql", *NOW, dsn=self.dsn_as("reader"))
        self.assertIn("TEMPORARY", self.slabrow(*asked, "--calibrate", dsn=self.dsn_as("reader"), code=3).stderr)
        self.slabrow(*asked, "--calibrate", "--costs", "costs.toml")
        self.assertIn("planning_leaf", (self.folder / "costs.toml").read_text())
        self.slabrow(*asked, "--costs", "costs.toml", dsn=self.dsn_as("reader"))
        self.assertEqual(0, self.value("SELECT count(*) FROM pg_class WHERE relname LIKE 'slabrow%'"))

    def test_bad_input_is_refused_before_anything_is_asked(self):
        self.readings(1_000)
        (self.folder / "workload.sql").write_text("SELECT 1 FROM other_table;")
        (self.folder / "bad.toml").write_text("[costs]\nplaning = 3\n")
        asked = ("weigh", "reading", *NOW)
        for what, arguments, words in [
            ("no workload", (), "--workload"),
            ("a workload about something else", ("--workload", "workload.sql"), "names reading"),
            ("an unknown cost", ("--workload", "workload.sql", "--costs", "bad.toml"), "`planning`"),
            ("a size that is none", ("--workload", "workload.sql", "--size", "big"), "20GB"),
            ("choosing without writing", ("--workload", "workload.sql", "--choose", "2"), "--write"),
            ("a missing file", ("--workload", "gone.csv"), "gone.csv"),
            ("a folder", ("--workload", "."), "."),
        ]:
            with self.subTest(what):
                self.assertIn(words, self.slabrow(*asked, *arguments, code=2).stderr)
        self.assertIn("pg_stat_statements", self.slabrow(*asked, "--statistics", code=3).stderr)
        (self.folder / "workload.sql").write_text("SELECT 1 FROM reading WHERE id = 1;")
        self.assertIn(
            "no column", self.slabrow(*asked, "--workload", "workload.sql", "--key", "nothing", code=2).stderr
        )
        (self.folder / "slabrow.toml").write_text("")
        self.slabrow(*asked, "--workload", "workload.sql", "--write", "slabrow.toml", code=2)

    def test_the_same_table_from_files_is_weighed_alike(self):
        self.readings(40_000)
        query = "-- weight: 40\nSELECT avg(hive_id) FROM reading WHERE taken_at >= '2025-06-01' AND taken_at < '2025-07-01';"
        online = self.weigh("public.reading", query)
        (self.folder / "tables.sql").write_text(
            "CREATE TABLE reading (id bigint PRIMARY KEY, hive_id int NOT NULL, taken_at timestamptz NOT NULL, filler text); CREATE INDEX i ON reading (hive_id);"
        )
        with (
            self.connection.cursor().copy("COPY reading TO STDOUT (FORMAT CSV, HEADER)") as copy,
            open(self.folder / "rows.csv", "wb") as file,
        ):
            for chunk in copy:
                file.write(chunk)
        files = ("--schema", "tables.sql", "--rows-from", "rows.csv")
        offline = self.weigh("public.reading", query, *files, dsn="postgresql://nowhere.invalid/x")
        tops = [
            [(each["by"], str(each["key"]), each["span"]) for each in found["candidates"]]
            for found in (online, offline)
        ]
        # Those behind the first are nearly alike, and statistics are samples.
        self.assertEqual(tops[0][0], tops[1][0])
        for one, other in (tops, tops[::-1]):
            self.assertLessEqual(set(one[:2]), set(other[:4]))
        self.assertAlmostEqual(online["bytes"], offline["bytes"], delta=0.25 * online["bytes"])
        survey = self.json("survey", "reading", *files, dsn="postgresql://nowhere.invalid/x")
        self.assertEqual(self.json("survey", "reading")["rows"], survey["rows"])
        self.assertIn("--rows-from", self.slabrow("survey", "reading", "--schema", "tables.sql", code=2).stderr)
        (self.folder / "rows.csv").write_text("id,hive_id\n1,two\n")
        self.assertIn("row 1", self.slabrow("survey", "reading", *files, code=2).stderr)

    def test_a_parquet_file_tells_what_the_same_rows_as_csv_tell(self):
        (self.folder / "tables.sql").write_text(
            "CREATE TABLE hive (id int PRIMARY KEY, founded date, site text, weight numeric(6,2));"
        )
        days = [date(2026, 1, 1) + timedelta(days=number // 9) for number in range(900)]
        columns = {
            "id": list(range(900)),
            "founded": days,
            "site": [None if number % 4 == 0 else f"s{number % 5}" for number in range(900)],
            "weight": [Decimal(number % 300).scaleb(-2) for number in range(900)],
        }
        parquet.write_table(pyarrow.table(columns), self.folder / "rows.parquet")
        lines = [
            ",".join("" if value is None else str(value) for value in row)
            for row in zip(*columns.values(), strict=True)
        ]
        (self.folder / "rows.csv").write_text("\n".join([",".join(columns), *lines]))
        found = [
            self.json("survey", "hive", "--schema", "tables.sql", "--rows-from", name, "--rows", "9000")
            for name in ("rows.parquet", "rows.csv")
        ]
        self.assertEqual(found[0]["columns"], found[1]["columns"])
        self.assertEqual((9_000, 0.25), (found[0]["rows"], found[0]["columns"][2]["null_share"]))
        (self.folder / "bad.parquet").write_text("nothing")
        self.assertIn(
            "not a Parquet",
            self.slabrow("survey", "hive", "--schema", "tables.sql", "--rows-from", "bad.parquet", code=2).stderr,
        )

    def test_a_block_sample_tells_what_analyze_tells(self):
        self.readings(60_000)
        exact, sampled = self.json("survey", "reading"), self.json("survey", "reading", "--sample", "30")
        for one, other in zip(exact["columns"], sampled["columns"], strict=True):
            with self.subTest(one["name"]):
                self.assertAlmostEqual(one["distinct"], other["distinct"], delta=0.15 * one["distinct"] + 1)
        self.assertIn("sample", sampled["notes"][0])
        self.slabrow("survey", "reading", "--sample", "0", code=2)

    def test_a_forecast_of_a_day_to_come_grows_with_the_table_and_settles_at_keep(self):
        self.readings(73_000)
        # From all rows: one sample in twenty would show a trend that is not there.
        self.sql("ALTER TABLE reading ALTER taken_at SET STATISTICS 250; ANALYZE reading")
        self.layout(
            '[[layout]]\ntable = "public.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\nkeep = "6 months"\nahead = "1 month"\n'
        )
        found = self.json("forecast", "--until", "2026-09-01", *NOW)
        until = found["until"]
        self.assertAlmostEqual(200, until["rows_a_day"], delta=1)
        self.assertAlmostEqual(200 * 184, until["rows"], delta=1_500)
        self.assertAlmostEqual(until["rows"], until["steady_rows"], delta=1_500)
        self.assertLessEqual(until["rows_low"], until["rows"])
        names = [each["name"] for each in found["partitions"]]
        self.assertEqual(("reading_2026_03", "reading_2026_09"), (names[0], names[-1]))
        self.slabrow("forecast", "--until", "2025-01-01", *NOW, code=2)

    def test_the_age_of_what_is_read_comes_from_the_log(self):
        self.readings(20_000)
        rows = [
            ("2026-02-20 12:00:00 UTC", "2026-02-19 18:00", 60),
            ("2026-02-20 12:00:00 UTC", "2026-02-01 00:00", 30),
            ("2025-06-01 12:00:00 UTC", "2025-05-31 18:00", 10),
        ]
        lines = [
            f"{at} [7] app@{self.database} LOG:  duration: 1 ms  statement: SELECT 1 FROM reading WHERE taken_at >= '{low}+00'\n"
            for at, low, times in rows
            for _ in range(times)
        ]
        random.Random(1).shuffle(lines)
        (self.folder / "server.log").write_text("".join(lines))
        ages = self.json("survey", "reading", "--workload", "server.log", *NOW)["ages"]
        # Counted from when each ran; the sample of 24 runs keeps the shares roughly.
        self.assertAlmostEqual(0.7, ages["last_day"], delta=0.25)
        self.assertEqual(1.0, ages["last_month"])


class SampleTest(DatabaseTest):
    def test_statistics_of_a_sample_are_like_those_of_analyze(self):
        self.sql(
            "CREATE TABLE t (few int, many int, skewed text, maybe date); INSERT INTO t SELECT n % 5, n, CASE WHEN n % 3 = 0 THEN 'big' ELSE 's' || n % 500 END,"
            " CASE WHEN n % 4 = 0 THEN NULL ELSE date '2026-01-01' + n % 90 END FROM generate_series(1, 20000) n; ANALYZE t"
        )
        found = catalogue.relation(self.connection, Name(None, "t"))
        for name, server in catalogue.column_statistics(self.connection, found).items():
            values = [row[0] for row in self.sql(f"SELECT {name} FROM t")]
            ours = column_statistics(name, values, 20_000)
            with self.subTest(name):
                self.assertAlmostEqual(server.null_share, ours.null_share, delta=0.01)
                self.assertAlmostEqual(server.distinct, ours.distinct, delta=0.05 * server.distinct + 1)
                self.assertAlmostEqual(server.commonest_share or 0, ours.commonest_share or 0, delta=0.01)


class WiderKeysTest(DatabaseTest):
    def test_a_unique_index_grows_by_the_key_as_on_the_server(self):
        for place, (own, type_name, value, key) in enumerate((
            ("id", "bigint", "n", "at"), ("id", "uuid", "md5(n::text)::uuid", "at"), ("id", "bigint", "n", "hive"),
            ("id", "uuid", "md5(n::text)::uuid", "day"), ("id", "text", "'a reading with number ' || n", "at"),
            ("id", "int", "n", "hive"), ("id", "int", "n", "at"), ("id, hive", "int", "n", "day"), ("id, day", "smallint", "n % 30000", "hive"),
        )):  # fmt: skip
            with self.subTest(type_name=type_name, key=key):
                table = f"wide_{place}"
                self.sql(
                    f"CREATE TABLE {table} (id {type_name} NOT NULL, hive int NOT NULL, day date NOT NULL, at timestamptz)"
                )
                self.sql(f"INSERT INTO {table} SELECT {value}, n % 9, '2026-01-01'::date + n % 90, '2026-01-01'::timestamptz"
                         f" + n * interval '1 min' FROM generate_series(1, 30000) n")  # fmt: skip
                self.sql(f"ALTER TABLE {table} ADD PRIMARY KEY ({own}); ANALYZE {table}")
                facts = table_facts(self.connection, Name("public", table))
                [index] = with_wider_keys(facts, (key,)).indexes
                self.sql(f"CREATE UNIQUE INDEX wider_{place} ON {table} ({own}, {key})")
                real = self.value(f"SELECT pg_relation_size('wider_{place}')")
                self.assertAlmostEqual(1.0, index.bytes / real, delta=0.06)
                self.assertEqual(facts, with_wider_keys(facts, own.split(", ")))


class StatementStatisticsTest(ServerTest):
    """On a server that has the extension; Debian's has."""

    def setUp(self):
        super().setUp()
        chosen = next((each for each in binaries() if list(each.folder.parent.glob("**/pg_stat_statements.control"))
                       or Path(f"/usr/share/postgresql/{each.version}/extension/pg_stat_statements.control").exists()), None)  # fmt: skip
        self.assertIsNotNone(chosen, "no PostgreSQL here has pg_stat_statements: install Debian's postgresql")
        server = start(chosen, {"shared_preload_libraries": "pg_stat_statements"})
        self.addCleanup(server.stop)
        self.dsn = server.dsn
        self.connection = psycopg.connect(server.dsn, autocommit=True)
        self.addCleanup(self.connection.close)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.connection.execute(
            "CREATE EXTENSION pg_stat_statements; CREATE TABLE p (at date, k int) PARTITION BY RANGE (at);"
            "CREATE TABLE p_2026_01 PARTITION OF p FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');"
            "CREATE TABLE p_2026_02 PARTITION OF p FOR VALUES FROM ('2026-02-01') TO ('2026-03-01');"
            "INSERT INTO p SELECT date '2026-01-01' + n % 59, n FROM generate_series(1, 5000) n; ANALYZE p"
        )

    def run_here(self, *arguments, code=0):
        done = run(*arguments, env={"SLABROW_DSN": self.dsn}, cwd=self.folder)
        self.assertEqual(code, done.returncode, done.stdout + done.stderr)
        return done.stdout

    def test_normalised_statements_are_weighed_with_stand_ins(self):
        self.connection.execute(
            "CREATE TABLE t (k int, at date); INSERT INTO t SELECT n % 100, date '2026-01-01' + n % 90 FROM generate_series(1, 50000) n; ANALYZE t"
        )
        for number in range(20):
            self.connection.execute(f"SELECT count(*) FROM t WHERE k = {number} AND at >= '2026-02-01'")
        self.connection.execute("SELECT count(*) FROM p WHERE at = '2026-02-02'")
        found = json.loads(self.run_here("weigh", "t", "--statistics", "--format", "json", *NOW))
        proved = json.loads(self.run_here("prove", "--statistics", "--format", "json"))
        (of_p,) = [each for each in proved["queries"] if each["sql"].startswith("SELECT count(*) FROM p")]
        self.assertEqual((["date"], "start", 2), (of_p["parameter_types"], of_p["pruned_at"], len(of_p["planned"])))
        self.assertGreaterEqual(found["workload"]["guessed"], 1)
        hashed = next(each for each in found["candidates"] if each["by"] == "hash" and each["key"] == ["k"])
        asked = next(query for query in hashed["queries"] if query["touched"] == 1.0)
        self.assertGreater(asked["runs_a_day"], 0)

    def test_the_share_of_runs_that_prune_is_checked(self):
        (self.folder / "slabrow.toml").write_text(
            '[[layout]]\ntable = "public.p"\nby = "range"\nkey = ["at"]\nspan = "1 month"\nahead = "1 day"\nwanted = { pruned = "60 %" }\n'
        )
        now = ("--now", "2026-02-20")

        def asked(whole, pruned):
            """Runs of a query of a day, and of one of all rows; returns what a check finds."""
            self.connection.execute("SELECT pg_stat_statements_reset()")
            for number in range(pruned):
                self.connection.execute(f"SELECT sum(k) FROM p WHERE at = '2026-01-{number % 28 + 1:02}'")
            for number in range(whole):
                self.connection.execute(f"SELECT count(*) FROM p WHERE k = {number}")
            code = 1 if whole > pruned else 0
            done = json.loads(self.run_here("tend", "--check", *now, "--format", "json", code=code))
            return done["findings"]

        self.assertEqual([], asked(whole=5, pruned=20))
        (found,) = asked(whole=20, pruned=10)
        self.assertEqual("not_pruning", found["code"])
        self.assertIn("33 %", found["text"])
        self.assertIn("SELECT count(*) FROM p WHERE k = $1", found["text"])
        (found,) = asked(whole=0, pruned=0)
        self.assertEqual("pruning_unknown", found["code"])
