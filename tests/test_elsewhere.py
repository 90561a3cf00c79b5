"""Partitions go to another server behind the same table, come home, and are kept up there: with real servers only."""

import os
import re
import signal
import subprocess
import time
from contextlib import contextmanager, suppress

import psycopg
from psycopg.conninfo import conninfo_to_dict

from slabrow.demo.data import Demo
from slabrow.demo.load import load
from slabrow.demo.workload import WORKLOAD
from slabrow.files.query_file import read_queries
from slabrow.servers.families import open_session
from slabrow.servers.postgresql.private.server import start
from tests.busy import longest_wait, writers
from tests.support import binaries, server
from tests.test_redivision import MONTHS, NOW, REST, RedivisionTest

LAYOUT = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
catch_all = true
{more}
[[elsewhere]]
name = "attic"
dsn = "{dsn}"
"""
OUT = ("--elsewhere", "attic", "--give-up-key")
HOME = ("--to-tablespace", "pg_default")
MARCH = "apiary.reading_2025_03"
PRINT = "SELECT count(*), md5(string_agg(r::text, '' ORDER BY r::text)) FROM {} r"


class FarTest(RedivisionTest):
    """The months of the writers' table, and a database elsewhere."""

    far_version = None

    def setUp(self):
        super().setUp()
        self.far_server = server(self.far_version)
        self.far_name = f"far_{self.database}"
        self.far_dsn = self.far_server.dsn.replace("/postgres?", f"/{self.far_name}?")
        with psycopg.connect(self.far_server.dsn, autocommit=True) as connection:
            connection.execute(f"CREATE DATABASE {self.far_name}")
        self.divide()
        self.sql("CREATE EXTENSION postgres_fdw")
        known = conninfo_to_dict(self.far_dsn)
        options = ", ".join(f"{name} '{known[name]}'" for name in ("host", "port", "dbname") if name in known)
        self.sql(f"CREATE SERVER attic FOREIGN DATA WRAPPER postgres_fdw OPTIONS ({options}, connect_timeout '3')")
        self.sql("CREATE USER MAPPING FOR PUBLIC SERVER attic OPTIONS (user 'postgres', password_required 'false')")
        self.tell()

    def divide(self):
        self.fill()
        self.sql("ALTER TABLE apiary.reading DROP CONSTRAINT reading_hive_id_fkey1")

    def tell(self, more=""):
        self.layout(LAYOUT.format(dsn=self.far_dsn, more=more))

    def far(self, query):
        with psycopg.connect(self.far_dsn, autocommit=True) as connection:
            cursor = connection.execute(query)
            return cursor.fetchall() if cursor.description else []

    @contextmanager
    def down(self):
        """Nobody gets into the database elsewhere meanwhile."""
        with psycopg.connect(self.far_server.dsn, autocommit=True) as connection:
            connection.execute(f"ALTER DATABASE {self.far_name} ALLOW_CONNECTIONS false")
            connection.execute(
                f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{self.far_name}'"
            )
            try:
                yield
            finally:
                connection.execute(f"ALTER DATABASE {self.far_name} ALLOW_CONNECTIONS true")

    def far_tables(self):
        return sorted(name for (name,) in self.far(
            "SELECT relname FROM pg_class WHERE relkind IN ('r', 'p') AND relnamespace = to_regnamespace('apiary')"))  # fmt: skip

    def kind(self, partition):
        return self.value(f"SELECT relkind::text FROM pg_class WHERE oid = '{partition}'::regclass")


class MovingTest(FarTest):
    def test_what_is_asked_before(self):
        self.sql("CREATE ROLE looker LOGIN; GRANT SELECT ON apiary.reading TO looker")
        self.addCleanup(self.sql, "DROP OWNED BY looker; DROP ROLE looker")
        for before, arguments, code, words in (
            ("", (MARCH, "--elsewhere", "atic"), 2, "did you mean attic"),
            ("", (MARCH, "--elsewhere", "attic"), 4, "PRIMARY KEY (reading_id, taken_at)"),
            ("", ("apiary.reading_rest", *OUT), 4, "--still-written"),
            ("", (MARCH, *OUT, *HOME), 2, "exclude each other"),
            ("", (MARCH, *HOME, "--give-up-key"), 2, "go with --elsewhere"),
            ("", (MARCH, *OUT, "--script", "out"), 2, "not written as a script"),
            ("", (MARCH, "apiary.reading_2025_04", *OUT), 2, "one at a time"),
            ("DROP USER MAPPING FOR PUBLIC SERVER attic", (MARCH, *OUT), 4, "CREATE USER MAPPING FOR looker"),
            ("DROP SERVER attic", (MARCH, *OUT), 4, "CREATE SERVER attic FOREIGN DATA WRAPPER"),
            ("DROP EXTENSION postgres_fdw", (MARCH, *OUT), 4, "CREATE EXTENSION postgres_fdw"),
        ):
            with self.subTest(words):
                if before:
                    self.sql(before)
                self.assertIn(words, self.slabrow("relocate", *arguments, code=code).stderr)
        self.assertEqual("r", self.kind(MARCH))
        self.assertEqual([], self.far_tables())

    def test_what_the_table_cannot_keep(self):
        self.sql("ALTER TABLE apiary.reading ADD CONSTRAINT of_a_hive FOREIGN KEY (hive_id) REFERENCES apiary.hive")
        self.assertIn("foreign key of_a_hive: drop it", self.slabrow("relocate", MARCH, *OUT, code=4).stderr)
        self.sql("ALTER TABLE apiary.reading DROP CONSTRAINT of_a_hive; CREATE PUBLICATION all_of_it FOR TABLES IN SCHEMA "
                 "apiary; CREATE POLICY own ON apiary.reading_2025_04 USING (true)")  # fmt: skip
        said = self.slabrow("relocate", MARCH, *OUT, code=4).stderr
        for words in ("publication all_of_it: take", "policy of a partition apiary.reading_2025_04.own"):
            self.assertIn(words, said)
        self.sql("DROP PUBLICATION all_of_it; DROP POLICY own ON apiary.reading_2025_04")
        self.far("CREATE SCHEMA apiary; CREATE TABLE apiary.reading_2025_03 (n int)")
        self.assertIn("attic has a table", self.slabrow("relocate", MARCH, *OUT, code=4).stderr)
        self.far("DROP TABLE apiary.reading_2025_03")
        (self.folder / "w.sql").write_text(
            "-- name: upsert\nINSERT INTO apiary.reading (reading_id, hive_id, taken_at) VALUES (1, 1, now()) "
            "ON CONFLICT (reading_id, taken_at) DO NOTHING;\n-- name: merging\nMERGE INTO apiary.reading t USING "
            "(VALUES (1)) v (n) ON t.reading_id = v.n WHEN MATCHED THEN DELETE;\n-- name: moving\n"
            "UPDATE apiary.reading SET taken_at = now() WHERE reading_id = 1;\n-- name: fine\n"
            "SELECT count(*) FROM apiary.reading;\n"
        )
        self.sql("CREATE FUNCTION apiary.empty() RETURNS void LANGUAGE plpgsql "
                 "AS 'BEGIN TRUNCATE apiary.reading; END'")  # fmt: skip
        proposed = self.json("relocate", MARCH, *OUT, "--workload", "w.sql", code=1)
        said = " ".join(proposed["notes"])
        self.assertNotIn("fine will", said)
        for words in (
            "upsert will fail", "merging will fail", "moving will fail", "apiary.empty() will fail: TRUNCATE","ON CONFLICT (columns) fails", "While attic is down", "kept until --drop-old",
        ):  # fmt: skip
            self.assertIn(words, said)
        self.assertEqual("give each partition a key of its own", proposed["steps"][0]["name"])
        with self.down():
            failed = self.slabrow("relocate", MARCH, *OUT, code=3).stderr
        self.assertIn("attic: ", failed)
        self.assertNotIn("--dsn", failed)

    def test_beside_writers_there_and_back_and_home(self):
        moving = (MARCH, *OUT, "--still-written")
        with writers(self.dsn, self.ROWS, a_second=300, stays=True) as made:
            self.go("relocate", *moving)
            self.assertEqual(("f", 12), (self.kind(MARCH), self.value(
                "SELECT count(*) FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid "
                "WHERE i.relname LIKE '%own_key' AND indisvalid AND indrelid::regclass::text !~ 'before'")))  # fmt: skip
            self.assertEqual("swapped", self.json("relocate", MARCH, "--status")["phase"])
            time.sleep(0.5)
            self.go("relocate", MARCH, "--undo")
            self.assertEqual(("r", []), (self.kind(MARCH), self.far_tables()))
            self.go("relocate", *moving, "--pause-before-swap")
            self.assertEqual("r", self.kind(MARCH))
            self.go("relocate", *moving)
            self.go("relocate", MARCH, "--drop-old")
            self.assertEqual(["reading_2025_03", "reading_2025_03_arrived"], self.far_tables())
            lies = [each["tablespaces"] for each in self.json("relocate", MARCH, *HOME, code=1)["before"]]
            self.assertEqual([["attic"]], lies)
            self.go("relocate", MARCH, *HOME)
            self.assertEqual("r", self.kind(MARCH))
            time.sleep(0.5)
            self.go("relocate", MARCH, "--undo")
            self.assertEqual("f", self.kind(MARCH))
            self.go("relocate", MARCH, *HOME)
            self.go("relocate", MARCH, "--drop-old")
        self.assert_same(made)
        self.assert_nothing_left()
        self.assertEqual([], self.far_tables())
        march, april = (
            self.sql("SELECT indisunique, regexp_replace(pg_get_indexdef(indexrelid), '^.* USING', '') FROM pg_index "
                     f"WHERE indrelid = 'apiary.reading_2025_{month}'::regclass ORDER BY 1, 2")
            for month in ("03", "04")
        )  # fmt: skip
        self.assertEqual(april, march, "each index came home once")

    def test_a_key_is_kept_as_it_was(self):
        self.sql("""ALTER TABLE apiary.reading DROP CONSTRAINT reading_pkey;
            CREATE UNIQUE INDEX "a USING b" ON apiary.reading (reading_id DESC, taken_at) NULLS NOT DISTINCT
            WITH (fillfactor = 70)""")
        self.go("relocate", MARCH, *OUT)
        made = self.value("SELECT pg_get_indexdef(indexrelid) FROM pg_index "
                          "WHERE indrelid = 'apiary.reading_2025_04'::regclass AND indisunique")  # fmt: skip
        self.assertIn("(reading_id DESC, taken_at) NULLS NOT DISTINCT WITH (fillfactor='70')", made)

    def test_killed_at_each_step_it_goes_on(self):
        self.go("relocate", MARCH, *OUT)
        self.go("relocate", MARCH, "--undo")
        with writers(self.dsn, self.ROWS, a_second=200, stays=True) as made:
            for arguments in (
                (*OUT, "--still-written"), ("--undo",), (*OUT, "--still-written"), ("--drop-old",), HOME, ("--undo",),
                HOME, ("--drop-old",),
            ):  # fmt: skip
                midway = 0
                for actions in range(1, 14):
                    if not self.is_killed_midway(actions, "relocate", MARCH, *arguments, "--go", *NOW):
                        break
                    midway += 1
                else:
                    self.go("relocate", MARCH, *arguments)
                self.assertGreaterEqual(midway, 1, arguments)
        self.assert_same(made)
        self.assert_nothing_left()
        self.assertEqual(("r", []), (self.kind(MARCH), self.far_tables()))

    def test_given_up_nothing_is_left(self):
        self.go("relocate", MARCH, *OUT, "--pause-before-swap")
        self.go("relocate", MARCH, "--give-up")
        self.assertEqual(("r", []), (self.kind(MARCH), self.far_tables()))
        self.assert_nothing_left()
        self.go("relocate", MARCH, *OUT)
        self.go("relocate", MARCH, "--drop-old")
        self.go("relocate", MARCH, *HOME, "--pause-before-swap")
        self.go("relocate", MARCH, "--give-up")
        self.assertEqual("f", self.kind(MARCH))
        self.assert_same()

    def test_a_server_that_is_gone_leaves_one_right_copy(self):
        self.go("relocate", MARCH, *OUT, "--pause-before-swap")
        with self.down():
            self.assertIn("attic", self.slabrow("relocate", MARCH, *OUT, "--go", *NOW, code=3).stderr)
            self.assertEqual("r", self.kind(MARCH))
            self.assert_same()
        self.go("relocate", MARCH, *OUT)
        with self.down():
            # What is kept here is the way back, and all of it is here.
            self.assertIn("attic", self.slabrow("relocate", MARCH, "--undo", "--go", *NOW, code=3).stderr)
            found = self.json("census", "apiary.reading", code=1)["findings"]
            self.assertIn("far_down", [each["code"] for each in found])
            counted = self.json("census", "apiary.reading", "--exact", code=1)
            self.assertIn("far_uncounted", [each["code"] for each in counted["findings"]])
            self.assertEqual(12, sum(each["rows"] is not None and each["name"] != MARCH and each["low"] is not None
                                     for each in counted["partitions"]))  # fmt: skip
        self.go("relocate", MARCH, "--undo")
        self.assert_same()

    def test_a_commit_that_fails_there_leaves_the_rows_here(self):
        self.go("relocate", MARCH, *OUT, "--pause-before-swap")
        self.far("""CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE ''full''; END';
            CREATE CONSTRAINT TRIGGER refuse AFTER INSERT ON apiary.reading_2025_03 DEFERRABLE INITIALLY DEFERRED
            FOR EACH ROW EXECUTE FUNCTION refuse()""")
        for table in ("reading", "twin"):
            self.sql(f"UPDATE apiary.{table} SET weight = 99 WHERE taken_at = (SELECT min(taken_at) FROM apiary.twin "
                     "WHERE taken_at >= '2025-03-01+00')")  # fmt: skip
        self.assertIn("full", self.slabrow("relocate", MARCH, *OUT, "--go", *NOW, code=3).stderr)
        self.assertEqual("r", self.kind(MARCH))
        self.assert_same()
        self.far("DROP TRIGGER refuse ON apiary.reading_2025_03")
        self.go("relocate", MARCH, *OUT)
        self.assertEqual("f", self.kind(MARCH))
        self.assert_same()

    def test_a_server_that_restarts_in_the_middle(self):
        self.go("relocate", MARCH, *OUT, "--pause-before-swap")
        self.go("relocate", MARCH, "--give-up")
        for table in ("reading", "twin"):
            self.sql(f"INSERT INTO apiary.{table} (reading_id, hive_id, taken_at, weight, note) SELECT 900000 + n, n % 100, "
                     "'2025-03-07+00', 1, repeat('x', 60) FROM generate_series(1, 60000) n")  # fmt: skip
        ended = 0
        for moment in (0.05, 0.15, 0.3, 0.5):
            process = self.begin("relocate", MARCH, *OUT, "--go", *NOW)
            with psycopg.connect(self.far_server.dsn, autocommit=True) as connection:
                theirs = f"FROM pg_stat_activity WHERE datname = '{self.far_name}' AND application_name ~ 'slabrow|fdw'"
                while process.poll() is None and not connection.execute(f"SELECT count(*) {theirs}").fetchone()[0]:
                    time.sleep(0.01)
                time.sleep(moment)
                connection.execute(f"SELECT pg_terminate_backend(pid) {theirs}")
            said = process.communicate()
            self.assertIn(process.returncode, (0, 3, 5), said)
            ended += process.returncode != 0
        self.assertGreaterEqual(ended, 1)
        self.go("relocate", MARCH, *OUT)
        self.assertEqual("f", self.kind(MARCH))
        self.assert_same()

    def test_a_partition_that_is_rewritten_meanwhile_is_copied_anew(self):
        self.go("relocate", MARCH, *OUT, "--pause-before-swap")
        self.sql(f"DELETE FROM {MARCH} WHERE reading_id % 3 = 0; DELETE FROM apiary.twin WHERE reading_id % 3 = 0 "
                 "AND taken_at >= '2025-03-01+00' AND taken_at < '2025-04-01+00'")  # fmt: skip
        self.sql(f"VACUUM FULL {MARCH}")
        self.go("relocate", MARCH, *OUT)
        self.assertEqual("f", self.kind(MARCH))
        self.assert_same()

    def test_census_finds_what_has_become_another_table(self):
        self.go("relocate", MARCH, *OUT)
        self.go("relocate", MARCH, "--drop-old")
        census = self.json("census", "apiary.reading", code=1)
        march = next(each for each in census["partitions"] if each["name"] == MARCH)
        self.assertEqual(("attic", None), (march["elsewhere"], march["tablespace"]))
        self.assertGreater(march["bytes"], 8192)
        self.assertEqual(self.value(f"SELECT count(*) FROM {MARCH}"), march["rows"])
        self.assertNotIn("far_drift", [each["code"] for each in census["findings"]])
        self.sql(f"ALTER TABLE {MARCH} ADD CONSTRAINT of_this_one CHECK (hive_id > -1)")  # that is no drift
        self.sql("ALTER TABLE apiary.reading ADD COLUMN mood text NOT NULL DEFAULT 'it''s; calm', ADD COLUMN n int, "
                 "ADD CHECK (n > 0)")  # fmt: skip
        self.far("ALTER TABLE apiary.reading_2025_03 DROP CONSTRAINT slabrow_bounds")
        mending = f"slabrow relocate {MARCH} --elsewhere attic --go"
        self.assertIn(
            mending, self.drift("mood is missing there", "n is missing", "reading_n_check is not", "no check")
        )
        shown = self.slabrow("relocate", MARCH, "--elsewhere", "attic", code=1).stdout
        self.assertIn(
            "ADD COLUMN IF NOT EXISTS mood text DEFAULT 'it''s; calm'::text NOT NULL", " ".join(shown.split())
        )
        with self.assertRaises(psycopg.errors.UndefinedColumn):
            self.sql(f"SELECT * FROM {MARCH}")
        self.assertEqual("mend", self.json("relocate", MARCH, "--elsewhere", "attic", "--go", *NOW)["doing"])
        self.assertEqual([("it's; calm",)], self.sql(f"SELECT DISTINCT mood FROM {MARCH}"))
        for wrong in ("'2025-04-02', 1", "'2025-03-02', 0"):
            with self.assertRaises(psycopg.errors.CheckViolation):
                self.far("INSERT INTO apiary.reading_2025_03 (reading_id, hive_id, taken_at, mood, n) "
                         f"SELECT 0, 1, a::timestamptz, '', b FROM (VALUES ({wrong})) v (a, b)")  # fmt: skip
        self.assertEqual("", self.drift())
        self.assertIn("nothing to move", self.slabrow("relocate", MARCH, "--elsewhere", "attic", code=4).stderr)
        # A column that may have been renamed, and one of another type, are left to a person.
        self.sql("ALTER TABLE apiary.reading RENAME note TO remark")
        self.far("ALTER TABLE apiary.reading_2025_03 ALTER COLUMN weight TYPE float8")
        for said in (self.drift(), self.slabrow("relocate", MARCH, "--elsewhere", "attic", code=4).stderr):
            for words in ("RENAME COLUMN note TO remark", "weight is numeric here and double precision there"):
                self.assertIn(words, " ".join(said.split()))

    def drift(self, *words):
        said = " ".join(each["text"] for each in self.json("census", "apiary.reading", code=1)["findings"]
                        if each["code"] == "far_drift")  # fmt: skip
        for each in words:
            self.assertIn(each, said)
        return said


class From18To15Test(MovingTest):
    version, far_version = 18, 15


class From15To18Test(MovingTest):
    version, far_version = 15, 18


class From15To15Test(MovingTest):
    version, far_version = 15, 15


class OddTest(FarTest):
    """Names that need quotes, a type that each server numbers in its own way, and parts of a hash."""

    def divide(self):
        self.sql("""CREATE SCHEMA "Alt und %s"; CREATE TYPE "Alt und %s".mood AS ENUM ('calm', 'angry');
            CREATE TABLE "Alt und %s"."Völker's" ("Nr" bigint NOT NULL, "wie %" "Alt und %s".mood[],
                doubled bigint GENERATED ALWAYS AS ("Nr" * 2) STORED, PRIMARY KEY ("Nr")) PARTITION BY HASH ("Nr")""")
        for part in range(4):
            self.sql(f"""CREATE TABLE "Alt und %s"."Teil {part}" PARTITION OF "Alt und %s"."Völker's"
                         FOR VALUES WITH (MODULUS 4, REMAINDER {part})""")  # fmt: skip
        self.sql("""INSERT INTO "Alt und %s"."Völker's" SELECT n, ARRAY['calm', 'angry']::"Alt und %s".mood[]
                    FROM generate_series(1, 4000) n""")

    def test_there_and_home(self):
        self.far("""CREATE SCHEMA "Alt und %s"; CREATE TYPE "Alt und %s".mood AS ENUM ('calm', 'angry')""")
        table, part = '"Alt und %s"."Völker\'s"', '"Alt und %s"."Teil 2"'
        before = self.sql(PRINT.format(table))
        self.go("relocate", part, *OUT, "--still-written")
        self.assertEqual(before, self.sql(PRINT.format(table)))
        with self.assertRaises(psycopg.errors.CheckViolation):
            self.far("""INSERT INTO "Alt und %s"."Teil 2" ("Nr") SELECT generate_series(5000, 5020)""")
        self.sql(f"""INSERT INTO {table} SELECT n FROM generate_series(5000, 5400) n""")
        self.go("relocate", part, "--drop-old")
        after = self.sql(PRINT.format(table))
        self.go("relocate", part, *HOME)
        self.go("relocate", part, "--drop-old")
        self.assertEqual(after, self.sql(PRINT.format(table)))
        self.assertEqual([], self.far("SELECT 1 FROM pg_class WHERE relnamespace = '\"Alt und %s\"'::regnamespace "
                                      "AND relkind IN ('r', 'p')"))  # fmt: skip


AGED = """ahead = "2 months"
keep = "10 months"
archive_to = "archive"
past_keep = "{past_keep}"
at_most_retired = 9
at_most_share = 1.0
place = [{{ after = "6 months", elsewhere = "attic" }}]
"""


class UpkeepTest(FarTest):
    """Upkeep moves what has become old enough, retires it on both sides, and makes partitions with keys."""

    def tend(self, now, code=0):
        return self.json("tend", "--go", "--pretend", "--now", now, code=code)

    def test_by_age_there_and_into_the_archive(self):
        for past_keep in ("archive", "drop"):
            with self.subTest(past_keep):
                if past_keep == "drop":
                    self.far("DROP SCHEMA IF EXISTS apiary CASCADE")
                    self.divide()
                self.tell(AGED.format(past_keep=past_keep))
                refused = self.tend("2025-11-20", code=4)
                self.assertIn("has keys", str(refused))
                self.go("relocate", "apiary.reading_2025_01", *OUT)
                self.go("relocate", "apiary.reading_2025_01", "--drop-old")
                rows = self.value("SELECT count(*) FROM apiary.reading")
                with self.down():
                    failed = self.tend("2025-11-20", code=3)
                    self.assertEqual(["failed"] * 3, [each["state"] for each in failed["actions"]])
                self.tend("2025-11-20")
                self.assertEqual(["f", "f", "r"], [self.kind(f"apiary.reading_2025_0{month}") for month in (1, 4, 5)])
                self.assertEqual(rows, self.value("SELECT count(*) FROM apiary.reading"))
                gone = self.value("SELECT count(*) FROM apiary.reading WHERE taken_at < '2025-02-01'")
                shown = self.json("tend", "--pretend", "--now", "2025-12-20", code=1)["actions"]
                self.assertIn("-- on attic:\nDROP TABLE IF EXISTS apiary.reading_2025_01,", shown[1]["statements"][-1])
                self.tend("2025-12-20")
                noted = self.value("SELECT statements::text FROM slabrow.ledger WHERE partition_name = 'reading_2025_01' "
                                   "AND state = 'done' ORDER BY entry DESC LIMIT 1")  # fmt: skip
                self.assertIn("on attic", noted)
                made = self.sql("SELECT pg_get_indexdef(indexrelid) FROM pg_index x "
                                "WHERE indrelid = 'apiary.reading_2026_02'::regclass AND indisunique")  # fmt: skip
                self.assertIn("(reading_id, taken_at)", str(made))
                self.assertEqual(rows - gone, self.value("SELECT count(*) FROM apiary.reading"))
                there = [name for name in self.far_tables() if not name.endswith("_arrived")]
                self.assertEqual([f"reading_2025_0{month}" for month in (2, 3, 4, 5)], there)
        self.assertEqual(1, len(list((self.folder / "archive").glob("*.json"))))


QUERIES = """-- name: sent
SELECT count(*), sum(hive_id) FROM apiary.reading
WHERE taken_at >= timestamptz '2025-03-05 00:00+00' AND taken_at < timestamptz '2025-03-06 00:00+00';
-- name: a-day
SELECT reading_id FROM apiary.reading WHERE taken_at >= timestamp '2025-03-05' AND taken_at < timestamp '2025-03-06';
-- name: lately
SELECT reading_id FROM apiary.reading WHERE taken_at >= date '2025-02-01' + interval '29 days' AND hive_id = 3
  AND taken_at < date '2025-03-20';
-- name: counted
SELECT count(*) FROM apiary.reading WHERE taken_at >= '2025-03-05+00' AND taken_at < '2025-03-06+00' GROUP BY hive_id;
"""


class ProvingTest(FarTest):
    def test_what_is_not_sent_is_found_and_said_otherwise(self):
        self.go("relocate", MARCH, *OUT)
        (self.folder / "queries.sql").write_text(QUERIES)
        proofs = {each["name"]: each for each in self.json("prove", "--queries", "queries.sql", "--run")["queries"]}
        for name, is_sent in (("sent", True), ("a-day", False), ("lately", False), ("counted", True)):
            with self.subTest(name):
                found = proofs[name]
                self.assertIn(MARCH, found["executed"])
                codes = [each["code"] for each in found["reasons"]]
                self.assertEqual(not is_sent, "not_sent" in codes)
                if not is_sent:
                    self.assertGreater(found["measured"]["rows_sent"], 20)
                    self.assertTrue(found["rewrite_same_rows"])
                    self.assertIn("CAST('2025-03", found["rewrite"])
        self.assertEqual((1, [MARCH]), (len(proofs["sent"]["executed"]), proofs["sent"]["executed"]))
        self.assertLess(proofs["sent"]["measured"]["rows_sent"], 200)
        said = self.slabrow("prove", "--queries", "queries.sql", "--run").stdout
        self.assertIn("What other servers are not sent", said)
        (self.folder / "day.sql").write_text(
            "-- name: a-day\n-- weight: 10\nSELECT sum(weight) FROM apiary.reading WHERE taken_at >= '2025-03-05+00' "
            "AND taken_at < '2025-03-06+00';\n"
        )
        weighed = self.json("weigh", "apiary.reading", "--workload", "day.sql", *NOW[:2])["candidates"]
        as_it_is = next(each for each in weighed if each["by"] == "none")
        self.assertAlmostEqual(820, as_it_is["rows_sent_a_day"], delta=200)
        self.assertEqual({0}, {each["rows_sent_a_day"] for each in weighed if each is not as_it_is})


SPREAD = """[[layout]]
table = "apiary.weighing"
by = "hash"
key = ["hive_id"]
parts = 8
servers = ["here", "attic", "cellar", "shed"]
"""


class FrozenTest(FarTest):
    """A server of its own, which can be stopped as a whole."""

    def setUp(self):
        frozen = start(binaries()[0])
        self.addCleanup(frozen.stop)
        self.frozen = frozen
        super().setUp()
        self.sql(
            f"ALTER SERVER attic OPTIONS (SET host '{conninfo_to_dict(frozen.dsn)['host']}', SET dbname 'postgres')"
        )
        self.far_dsn = frozen.dsn
        self.tell()

    def test_a_server_that_does_not_answer_keeps_no_writer_waiting(self):
        moving = (MARCH, *OUT, "--still-written")
        self.go("relocate", *moving, "--pause-before-swap")
        with writers(self.dsn, self.ROWS, a_second=200, stays=True) as made:
            time.sleep(1)
            process = self.begin("relocate", *moving, "--go", *NOW)
            self.wait_until("SELECT count(*) > 0 FROM pg_stat_activity WHERE application_name LIKE 'slabrow%'")
            self.signal(signal.SIGSTOP)
            try:
                said = process.communicate(timeout=60)
            finally:
                self.signal(signal.SIGCONT)
        self.assertIn(process.returncode, (0, 3, 5), said)
        self.assertLess(longest_wait(made), 2_500)
        self.go("relocate", *moving)
        self.assertEqual("f", self.kind(MARCH))
        self.assert_same(made)

    def signal(self, number):
        with psycopg.connect(self.dsn, autocommit=True):
            pids = subprocess.run(["pgrep", "-f", f"-D {self.frozen.folder}"], capture_output=True, text=True).stdout
        family = subprocess.run(["pgrep", "-P", ",".join(pids.split())], capture_output=True, text=True).stdout
        for pid in {*pids.split(), *family.split()}:
            with suppress(ProcessLookupError):
                os.kill(int(pid), number)


class SpreadTest(FarTest):
    """Parts of a hash on four databases: all queries return what a plain twin does."""

    def setUp(self):
        super().setUp()
        layout = SPREAD
        for name in ("cellar", "shed"):
            with psycopg.connect(self.far_server.dsn, autocommit=True) as connection:
                connection.execute(f"CREATE DATABASE {name}_{self.database}")
            known = conninfo_to_dict(self.far_dsn)
            options = f"host '{known['host']}', dbname '{name}_{self.database}', fetch_size '10000', batch_size '500'"
            self.sql(f"CREATE SERVER {name} FOREIGN DATA WRAPPER postgres_fdw OPTIONS ({options})")
            self.sql(
                f"CREATE USER MAPPING FOR PUBLIC SERVER {name} OPTIONS (user 'postgres', password_required 'false')"
            )
        for name, database in (("attic", self.far_name), *((n, f"{n}_{self.database}") for n in ("cellar", "shed"))):
            dsn = self.far_dsn.replace(self.far_name, database)
            layout += f'[[elsewhere]]\nname = "{name}"\ndsn = "{dsn}"\n'
        self.layout(layout)
        (self.folder / "table.sql").write_text(
            "CREATE TABLE apiary.weighing (hive_id int NOT NULL, taken_at timestamptz NOT NULL, weight numeric, note text,"
            " PRIMARY KEY (hive_id, taken_at)); CREATE INDEX ON apiary.weighing (taken_at);"
        )

    def test_built_asked_and_measured(self):
        self.sql("DROP USER MAPPING FOR PUBLIC SERVER shed")
        build = ("build", "--table", "apiary.weighing", "--schema", "table.sql")
        self.assertIn("missing for shed: a user mapping", self.slabrow(*build, code=4).stderr)
        self.sql("CREATE USER MAPPING FOR PUBLIC SERVER shed OPTIONS (user 'postgres', password_required 'false')")
        with self.down():
            self.assertIn("attic", self.slabrow(*build, "--go", *NOW, code=3).stderr)
        self.assertIn("several servers", self.slabrow(*build, "--script", "all.sql", code=2).stderr)
        self.go(*build)
        self.slabrow(*build, "--go", *NOW)
        census = self.json("census", "apiary.weighing")
        lies = [each["elsewhere"] for each in census["partitions"]]
        self.assertEqual([None, "attic", "cellar", "shed"] * 2, lies)
        self.sql("""CREATE TABLE apiary.plain (hive_id int, taken_at timestamptz, weight numeric, note text);
            INSERT INTO apiary.plain SELECT n % 97, '2026-01-01'::timestamptz + n * interval '1 minute', n % 50, 'x' || n
            FROM generate_series(1, 20000) n; INSERT INTO apiary.weighing SELECT * FROM apiary.plain;
            ANALYZE apiary.weighing""")
        with self.assertRaises(psycopg.errors.UniqueViolation):
            self.sql("INSERT INTO apiary.weighing SELECT * FROM apiary.plain LIMIT 1")
        queries = (
            "SELECT count(*), sum(weight) FROM {}",
            "SELECT hive_id, count(*), max(weight) FROM {} GROUP BY hive_id",
            "SELECT * FROM {} WHERE hive_id = 13 ORDER BY taken_at LIMIT 20",
            "SELECT hive_id, weight FROM {} WHERE hive_id IN (1, 2, 3) AND taken_at < timestamptz '2026-01-02 00:00+00'",
            "SELECT a.hive_id, count(*) FROM {} a JOIN {} b USING (hive_id, taken_at) WHERE a.weight > 40 GROUP BY 1",
        )
        for partitionwise in ("off", "on"):
            self.sql(f"SET enable_partitionwise_aggregate = {partitionwise}; "
                     f"SET enable_partitionwise_join = {partitionwise}")  # fmt: skip
            for query in queries:
                both = [sorted(self.sql(query.replace("{}", table))) for table in ("apiary.weighing", "apiary.plain")]
                self.assertEqual(*both, query)
        (self.folder / "q.sql").write_text("".join(
            f"-- name: q{place}\n{query.replace('{}', 'apiary.weighing')};\n" for place, query in enumerate(queries)
        ))  # fmt: skip
        proofs = {each["name"]: each for each in self.json("prove", "--queries", "q.sql", "--run")["queries"]}
        self.assertEqual(8, len(proofs["q1"]["executed"]))
        homes = {
            leaf
            for (leaf,) in self.sql("SELECT DISTINCT tableoid::regclass::text FROM apiary.weighing WHERE hive_id = 13")
        }
        self.assertEqual(homes, set(proofs["q2"]["executed"]))
        self.sql("DROP TABLE apiary.weighing_m8r00")
        self.assertIn(
            "slabrow build", self.json("tend", "--table", "apiary.weighing", "--go", code=1)["actions"][0]["text"]
        )
        self.go(*build[:3])
        self.assertEqual(8, len(self.json("census", "apiary.weighing", code=1)["partitions"]))
        made = "SELECT count(*) FROM pg_index WHERE indrelid = 'apiary.weighing_m8r00'::regclass AND indisunique"
        self.assertEqual(1, self.value(made))
        self.sql("CREATE TABLE apiary.alone (LIKE apiary.plain)")
        (self.folder / "alone.toml").write_text((self.folder / "slabrow.toml").read_text().replace("weighing", "alone"))
        said = self.slabrow("convert", "apiary.alone", "--layout", "alone.toml", code=4).stderr
        self.assertIn("move parts", said)
        places = [each["tablespace"] for each in self.json("forecast", "--table", "apiary.weighing")["partitions"]]
        self.assertEqual([None, "attic", "cellar", "shed"] * 2, places)

    def test_the_demo_queries_return_what_a_plain_table_does(self):
        session = open_session(self.dsn)
        self.addCleanup(session.close)
        self.sql("DROP SCHEMA IF EXISTS apiary CASCADE")
        load(session, Demo(40_000), lambda *_: None)
        self.sql("ALTER TABLE apiary.reading RENAME TO plain")
        (self.folder / "slabrow.toml").write_text(
            (self.folder / "slabrow.toml").read_text().replace("weighing", "reading")
        )
        (self.folder / "table.sql").write_text(
            "CREATE TABLE apiary.reading (reading_id bigint NOT NULL, hive_id integer NOT NULL, taken_at timestamptz NOT "
            "NULL, weight_kg real NOT NULL, brood_c real, humidity_pct smallint NOT NULL, sound_db real NOT NULL, "
            "PRIMARY KEY (reading_id, hive_id)); CREATE INDEX ON apiary.reading (hive_id, taken_at);"
        )
        self.go("build", "--table", "apiary.reading", "--schema", "table.sql")
        self.sql("INSERT INTO apiary.reading SELECT * FROM apiary.plain; ANALYZE apiary.reading")
        (self.folder / "day.sql").write_text(re.sub("-- touches.*\n", "", WORKLOAD))
        queries = [each for each in read_queries(self.folder / "day.sql") if "apiary.reading" in each.sql]
        self.assertEqual(23, len(queries))
        for query in queries:
            with self.subTest(query.name):
                spread, plain = (self.rows_of(query, table) for table in ("apiary.reading", "apiary.plain"))
                self.assertEqual(len(plain), len(spread))
                for one, other in zip(spread, plain, strict=True):
                    for value, wanted in zip(one, other, strict=True):
                        if isinstance(wanted, float):
                            self.assertAlmostEqual(wanted, value, places=3)
                        else:
                            self.assertEqual(wanted, value)
        homes = dict(self.sql("SELECT DISTINCT hive_id, tableoid::regclass::text FROM apiary.reading"))
        proofs = {each["name"]: each for each in self.json("prove", "--queries", "day.sql", "--run")["queries"]}
        for query in queries:
            with self.subTest(query.name):
                found = proofs[query.name]
                self.assertEqual(set(found["predicted"]), set(found["planned"]))
                hive = re.search(r"hive_id = (\d+)", query.sql) or re.match(r"(\d+)$", (*query.params, "")[0])
                if hive:
                    self.assertEqual({homes[int(hive[1])]}, set(found["executed"]))

    def rows_of(self, query, table):
        """The rows of a query about the readings, in an order of their own."""
        with self.connection.transaction(force_rollback=True):
            self.sql(f"PREPARE asked AS {query.sql.replace('apiary.reading', table)}")
            values = f"({', '.join(query.params)})" if query.params else ""
            done = self.connection.execute(f"EXECUTE asked{values}")
            rows = done.fetchall() if done.description else [(done.rowcount,)]
            self.sql("DEALLOCATE asked")
        return sorted(rows, key=lambda row: [f"{each:.3f}" if isinstance(each, float) else str(each) for each in row])


del RedivisionTest, MONTHS, REST
