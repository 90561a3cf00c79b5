"""`prove` on a server: what is run and what is not, what it counted, silent mistakes, other words, and the picture."""

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import psycopg

from slabrow.core.rewriting.mistakes import mistakes
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.ask import predicting
from slabrow.servers.postgresql.read import catalogue
from tests.support import DatabaseTest

READING = """
CREATE TABLE reading (hive int NOT NULL, at timestamptz, weight int) PARTITION BY RANGE (at);
CREATE TABLE reading_1 PARTITION OF reading FOR VALUES FROM ('2026-01-01 00:00+00') TO ('2026-02-01 00:00+00');
CREATE TABLE reading_2 PARTITION OF reading FOR VALUES FROM ('2026-02-01 00:00+00') TO ('2026-03-01 00:00+00');
CREATE TABLE reading_3 PARTITION OF reading FOR VALUES FROM ('2026-03-01 00:00+00') TO ('2026-04-01 00:00+00');
INSERT INTO reading SELECT n % 9, timestamptz '2026-01-01 00:00+00' + n * interval '30 minutes', n FROM generate_series(0, 4300) n;
INSERT INTO reading VALUES (1, '2026-02-28 23:59:59.5+00', 0);
CREATE TABLE daily (hive int, day date) PARTITION BY RANGE (day);
CREATE TABLE daily_1 PARTITION OF daily FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');
CREATE TABLE daily_2 PARTITION OF daily FOR VALUES FROM ('2026-02-01') TO ('2026-03-01');
ANALYZE reading, daily;
"""


class ProvingTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(READING)

    def proved(self, *queries, options=(), code=0):
        """Entries of the JSON result by name."""
        (self.folder / "q.sql").write_text("".join(f"-- name: {name}\n{sql};\n" for name, sql in queries))
        document = self.json("prove", "--queries", "q.sql", *options, code=code)
        return {each["name"]: each for each in document["queries"]}

    def test_what_is_run_is_counted_and_nothing_is_changed(self):
        self.sql("CREATE SEQUENCE numbers")
        found = self.proved(
            ("month", "SELECT * FROM reading WHERE at >= '2026-02-01' AND at < '2026-03-01' AND hive = 3"),
            ("change", "UPDATE reading SET weight = 7 WHERE at = '2026-02-03 10:00'"),
            ("gone", "WITH w AS (SELECT 3 AS hive) DELETE FROM reading USING w WHERE reading.hive = w.hive"),
            ("locks", "SELECT * FROM reading WHERE at = '2026-02-03 10:00' FOR UPDATE"),
            ("adds", "INSERT INTO daily SELECT hive, at::date FROM reading WHERE at < '2026-01-02'"),
            ("counts", "SELECT nextval('numbers') FROM reading"),
            ("slow", "SELECT count(*) FROM reading, generate_series(1, 100000) a, generate_series(1, 100000) b"),
            options=("--run", "--contrast", "--timeout", "2s"),
        )
        month = found["month"]["measured"]
        self.assertEqual((1, 1345), (month["leaves"], month["rows_read"]))
        self.assertEqual(self.value("SELECT count(*) FROM reading_2 WHERE hive = 3"), month["rows_returned"])
        self.assertEqual(month["blocks_hit"] + month["blocks_read"], found["month"]["blocks"])
        self.assertEqual(3, found["month"]["contrast"]["leaves"])
        self.assertGreater(found["month"]["contrast"]["rows_read"], 2 * month["rows_read"])
        self.assertEqual(
            (["reading_2"], 1), (found["change"]["executed"], found["change"]["measured"]["rows_returned"])
        )
        self.assertGreater(found["gone"]["measured"]["rows_returned"], 400)
        for name, words in [
            ("locks", "locks rows"),
            ("adds", "inserts"),
            ("counts", "nextval"),
            ("slow", "within 2 s"),
        ]:
            with self.subTest(name):
                self.assertIsNone(found[name]["executed"])
                self.assertIn(words, found[name]["note"])
        self.assertEqual(4302, self.value("SELECT count(*) FROM reading"))
        self.assertEqual((0, False), self.sql("SELECT (SELECT count(*) FROM daily), is_called FROM numbers")[0])
        self.assertIn("add --run", self.slabrow("prove", "--queries", "q.sql", "--contrast", code=2).stderr)

    def test_prepared_statements_with_and_without_values(self):
        (self.folder / "q.sql").write_text(
            "-- name: array\n-- params: '{2026-02-03}'\nSELECT * FROM reading WHERE at = ANY ($1::timestamptz[]);\n"
            "-- name: one\n-- params: '2026-02-03'\nSELECT * FROM reading WHERE at >= $1 AND at < $1::timestamptz + interval '1 hour';\n"
            "-- name: free\n-- touches: <= 1\nSELECT * FROM reading WHERE at = $1 AND hive = $2;"
        )
        found = {each["name"]: each for each in self.json("prove", "--queries", "q.sql", code=1)["queries"]}
        self.assertEqual((1, 3), (len(found["array"]["planned"]), len(found["array"]["generic"]["leaves"])))
        self.assertEqual("never", found["array"]["generic"]["pruned_at"])
        self.assertEqual(("start", 1), (found["one"]["generic"]["pruned_at"], len(found["one"]["generic"]["leaves"])))
        for each in (found["array"], found["one"]):
            self.assertEqual(each["generic"]["leaves"], each["generic"]["predicted"])
        self.assertEqual(["timestamp with time zone", "integer"], found["free"]["parameter_types"])
        self.assertEqual(
            ("start", 3, False), (found["free"]["pruned_at"], len(found["free"]["planned"]), found["free"]["ok"])
        )
        self.assertIn("generic plan", self.slabrow("prove", "--queries", "q.sql", code=1).stdout)

    def test_rows_that_are_lost_are_counted(self):
        found = self.proved(
            ("bare", "SELECT count(*) FROM reading WHERE at BETWEEN '2026-02-01' AND '2026-02-28'"),
            (
                "last second",
                "SELECT count(*) FROM reading r WHERE r.at >= '2026-02-28' AND r.at <= '2026-02-28 23:59:59' AND hive = 1",
            ),
            options=("--run",),
        )
        (bare,), (last,) = found["bare"]["warnings"], found["last second"]["warnings"]
        self.assertEqual(("bare_date_end", 48), (bare["code"], bare["rows"]))
        self.assertEqual("at >= '2026-02-01' AND at < '2026-03-01'", bare["instead"])
        self.assertEqual(("end_of_day", 1), (last["code"], last["rows"]))
        self.assertIn("(1 row here)", self.slabrow("prove", "--queries", "q.sql", "--run").stdout)

    def test_each_silent_mistake_and_what_is_none(self):
        names = [Name(None, "reading"), Name(None, "daily")]
        schema = predicting.schema(self.connection, names)
        trees = {name: catalogue.tree(self.connection, Name("public", name)) for name in ("reading", "daily")}
        for table, where, zone, expected in [
            ("reading", "at <= '2026-02-03 23:59:59.999'", "UTC", ["end_of_day"]),
            ("reading", "at < '2026-02-03 23:59'", "UTC", ["end_of_day"]),
            ("reading", "at <= '2026-02-03 23:59:59.999999'", "UTC", []),
            ("reading", "'2026-02-03' >= at", "UTC", ["bare_date_end"]),
            ("reading", "at <= date '2026-02-03'", "UTC", ["bare_date_end"]),
            ("reading", "at BETWEEN '2026-02-01' AND '2026-03-01'", "UTC", ["end_taken_twice"]),
            ("reading", "at >= '2026-02-01' AND at < '2026-02-28'", "UTC", ["month_cut_short"]),
            ("reading", "at >= '2026-02-01' AND at < '2026-03-01'", "UTC", []),
            ("reading", "at >= '2026-02-05' AND at < '2026-02-28'", "UTC", []),
            ("reading", "at >= '2026-02-01'", "Asia/Tokyo", ["other_zone"]),
            ("reading", "at >= '2026-02-01 00:00+00'", "Asia/Tokyo", []),
            ("reading", "at = '2026-02-01 09:00'", "Asia/Tokyo", []),
            ("daily", "day BETWEEN '2026-02-01' AND '2026-02-28'", "UTC", []),
            ("daily", "day >= '2026-01-01' AND day < '2026-01-31'", "UTC", ["month_cut_short"]),
            ("daily", "day BETWEEN '2026-01-01' AND '2026-02-01'", "UTC", ["end_taken_twice"]),
            ("reading", "hive <= 23", "UTC", []),
        ]:  # fmt: skip
            with self.subTest(where, zone=zone):
                around = Surroundings(ZoneInfo(zone), datetime(2026, 3, 1, tzinfo=UTC))
                found = mistakes(f"SELECT * FROM {table} WHERE {where}", trees[table], schema, around)
                self.assertEqual(expected, [str(each.slip) for each in found])
                for each in found:
                    if each.rows_sql is not None:
                        self.value(each.rows_sql)

    def test_words_that_are_not_equal_are_refused_with_the_reason(self):
        self.sql(f"ALTER DATABASE {self.database} SET timezone = 'America/Havana'")
        found = self.proved(
            ("months", "SELECT * FROM reading WHERE at + interval '1 month' > now()"),
            ("midnight twice", "SELECT * FROM reading WHERE at::date = '2026-11-01'"),
            (
                "prepared",
                "SELECT * FROM reading WHERE date_trunc('day', at) = date_trunc('day', timestamptz '2026-02-03')",
            ),
            ("other words", "SELECT * FROM reading WHERE extract(year FROM at) = 2026 AND extract(month FROM at) = 2"),
            options=("--run",),
        )
        self.assertIn("months differ", found["months"]["not_offered"][0]["why"])
        self.assertIn("midnight comes twice", found["midnight twice"]["not_offered"][0]["why"])
        self.assertTrue(found["prepared"]["rewrite_same_rows"])
        self.assertEqual(
            (True, 2), (found["other words"]["rewrite_same_rows"], found["other words"]["rewrite"].count("at"))
        )

    def test_halves_of_a_hash_key_are_asked_for_apart(self):
        parts = "".join(
            f"CREATE TABLE h_{n} PARTITION OF h FOR VALUES WITH (MODULUS 8, REMAINDER {n});" for n in range(8)
        )
        self.sql(
            f"CREATE TABLE h (a int, b int) PARTITION BY HASH (a, b); {parts} INSERT INTO h SELECT n, n FROM generate_series(1, 99) n"
        )
        found = self.proved(
            ("apart", "SELECT * FROM h WHERE a = 5 AND b IN (5, 6)"), ("counted", "SELECT count(*) FROM h WHERE a = 5 AND b IN (5, 6)"), options=("--run",)
        )  # fmt: skip
        self.assertEqual((8, True), (len(found["apart"]["planned"]), found["apart"]["rewrite_same_rows"]))
        self.assertEqual(2, found["apart"]["rewrite"].count("SELECT"))
        self.assertIsNone(found["counted"]["rewrite"])

    def test_the_picture(self):
        self.proved(
            ("a $ sign", "SELECT * FROM reading WHERE hive = 3"),
            ("two", "SELECT * FROM daily, reading WHERE day = '2026-01-05'"),
        )
        self.slabrow("prove", "--queries", "q.sql", "--picture", "touched.png")
        self.assertEqual(b"\x89PNG", (self.folder / "touched.png").read_bytes()[:4])
        (self.folder / "q.sql").write_text("SELECT 1;")
        self.assertIn(
            "nothing to draw", self.slabrow("prove", "--queries", "q.sql", "--picture", "t.svg", code=2).stderr
        )

    def test_a_lock_held_by_another_session_ends_in_a_plan(self):
        with psycopg.connect(self.dsn) as other:
            other.execute("SELECT * FROM reading WHERE at = '2026-02-03 10:00' FOR UPDATE")
            change = ("change", "UPDATE reading SET weight = 7 WHERE at = '2026-02-03 10:00'")
            found = self.proved(change, options=("--run", "--timeout", "3s"))
            self.assertIn("another session", found["change"]["note"])
