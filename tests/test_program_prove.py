"""`prove` before there is anything to ask, expectations on the moment, and results for build servers."""

import json
import signal
from xml.etree import ElementTree

from tests.support import DatabaseTest, begin, run, validator

DDL = """
SET timezone = 'Europe/Berlin';
CREATE TABLE reading (id bigint, hive int NOT NULL, "Taken At" timestamptz) PARTITION BY RANGE ("Taken At");
CREATE TABLE reading_1 PARTITION OF reading FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');
CREATE TABLE reading_2 PARTITION OF reading FOR VALUES FROM ('2026-02-01') TO (MAXVALUE) PARTITION BY HASH (hive);
CREATE TABLE "reading 2 a" PARTITION OF reading_2 FOR VALUES WITH (MODULUS 2, REMAINDER 0);
CREATE TABLE reading_2_b (id bigint, hive int NOT NULL, "Taken At" timestamptz);
ALTER TABLE ONLY public.reading_2 ATTACH PARTITION reading_2_b FOR VALUES WITH (MODULUS 2, REMAINDER 1);
CREATE TABLE reading_rest PARTITION OF reading DEFAULT;
CREATE TABLE event (coop int, kind text) PARTITION BY LIST (kind);
CREATE TABLE event_a PARTITION OF event FOR VALUES IN ('a', 'b');
CREATE TABLE event_n PARTITION OF event FOR VALUES IN (NULL, 'c');
CREATE VIEW lately AS SELECT r.hive, r."Taken At" AS at FROM reading r WHERE r.hive > 0;
"""
QUERIES = """
-- name: january
-- touches: = 1
-- decided: plan
SELECT 1 FROM reading WHERE "Taken At" >= '2026-01-01' AND "Taken At" < '2026-02-01';
-- name: one-hive
SELECT 1 FROM reading WHERE "Taken At" = '2026-02-05 10:00' AND hive = 17;
-- name: clock
-- decided: plan
SELECT 1 FROM reading WHERE "Taken At" >= now();
-- name: view
SELECT * FROM lately WHERE at < '2026-01-15';
-- name: kinds
SELECT count(*) FROM event WHERE kind = 'c' OR kind IS NULL;
-- name: joined
SELECT 1 FROM event e JOIN reading r ON r.hive = e.coop WHERE e.coop = 5 AND e.kind <> 'a';
-- name: given
-- params: '2026-01-05'
SELECT 1 FROM reading WHERE "Taken At" = $1;
-- name: trunc
-- touches: <= 1
SELECT 1 FROM reading WHERE date_trunc('day', "Taken At") = '2026-01-05';
"""


class ProveAheadTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        (self.folder / "tables.sql").write_text(DDL)
        (self.folder / "queries.sql").write_text(QUERIES)

    def offline(self, *arguments, code=1):
        done = run(
            "prove", "--queries", "queries.sql", "--offline", "--schema", "tables.sql", *arguments, cwd=self.folder
        )
        self.assertEqual(code, done.returncode, done.stderr)
        return done

    def test_ddl_alone_gives_the_same_answer_as_the_live_catalogue(self):
        self.sql(DDL)
        document = json.loads(self.offline("--format", "json").stdout)
        validator("prove").validate(document)
        self.sql(f"ALTER DATABASE {self.database} SET timezone = 'Europe/Berlin'")
        live = self.json("prove", "--queries", "queries.sql", code=1)
        ahead = {(each["name"], each["table"]): each for each in document["queries"]}
        for each in live["queries"]:
            with self.subTest(each["name"], table=each["table"]):
                found = ahead.pop((each["name"], each["table"]))
                self.assertEqual(each["predicted"], found["predicted"])
                self.assertEqual(each["planned"], found["predicted"])
                self.assertEqual(
                    (each["pruned_at"], each["ok"], each["total"]), (found["pruned_at"], found["ok"], found["total"])
                )
                self.assertIsNone(found["planned"])
        self.assertEqual({}, ahead)

    def test_limits_on_the_moment_and_what_a_build_server_reads(self):
        self.offline("--junit", "proofs.xml")
        suite = ElementTree.parse(self.folder / "proofs.xml").getroot()
        failed = {
            case.get("name"): case.find("failure").get("message") for case in suite if case.find("failure") is not None
        }
        self.assertEqual({"clock", "trunc"}, set(failed))
        self.assertIn("decided by plan", failed["clock"])
        self.assertEqual(str(len(suite)), suite.get("tests"))
        self.assertIn("date_trunc", " ".join(suite.itertext()).lower())

    def test_the_shapes_of_a_log_are_proved_with_their_weights(self):
        lines = [
            f"2026-02-20 12:00:{number % 60:02d} UTC [7] app@db LOG:  duration: 1 ms  statement: {sql}\n"
            for number in range(90)
            for sql in [
                f"SELECT id FROM reading WHERE id = {number}"
                if number % 3
                else f"SELECT 1 FROM event WHERE kind = 'k{number}'"
            ]
        ]
        (self.folder / "server.log").write_text("".join(lines))
        done = run("prove", "--workload", "server.log", "--offline", "--schema", "tables.sql", cwd=self.folder)
        self.assertEqual(0, done.returncode, done.stderr)
        self.assertIn("The most expensive", done.stdout)
        self.assertRegex(done.stdout, r"shape-1 +[\d,]+ +[\d,]+ +SELECT id FROM reading")
        self.assertIn("--workload", run("prove", "--offline", "--schema", "tables.sql", cwd=self.folder).stderr)

    def test_only_what_got_worse_is_broken(self):
        (self.folder / "before.json").write_text(self.offline("--format", "json").stdout)
        self.assertEqual("", self.offline("--watch-for", "before.json", code=0).stderr)
        (self.folder / "queries.sql").write_text(
            QUERIES.replace("AND hive = 17", "").replace("kind = 'c' OR ", "coop = 1 OR ")
        )
        worse = self.offline("--watch-for", "before.json").stderr
        self.assertIn("one-hive touches 2 of 4 partitions, 1 of 4 before", worse)
        self.assertIn("kinds", worse)
        self.assertNotIn("trunc", worse)
        (self.folder / "before.json").write_text("[]")
        self.assertIn("is not a JSON object", self.offline("--watch-for", "before.json", code=2).stderr)

    def test_a_layout_is_tried_before_it_exists(self):
        self.sql(
            "CREATE TABLE plain (id int, day date); INSERT INTO plain SELECT n, date '2026-01-01' + n % 90 FROM generate_series(1, 9000) n; ANALYZE plain"
        )
        self.layout('[[layout]]\ntable = "public.plain"\nby = "range"\nkey = ["day"]\nspan = "1 month"\n')
        (self.folder / "queries.sql").write_text(
            "-- touches: 1\nSELECT 1 FROM plain WHERE day = '2026-02-03';\nSELECT 1 FROM plain WHERE id = 5;"
        )
        ahead = self.json("prove", "--queries", "queries.sql", "--laid-out", "--now", "2026-04-01")["queries"]
        self.slabrow("convert", "--way", "locked", "--table", "public.plain", "--now", "2026-04-01", "--go")
        live = self.json("prove", "--queries", "queries.sql")["queries"]
        self.assertEqual([each["planned"] for each in live], [each["predicted"] for each in ahead])

    def test_options_that_contradict_and_files_that_are_none(self):
        ask = ("prove", "--queries", "queries.sql")
        for arguments, words in [
            (("--offline",), "--schema"),
            (("--schema", "tables.sql"), "--offline"),
            (("--offline", "--schema", "tables.sql", "--run"), "--run"),
            (("--offline", "--schema", "tables.sql", "--laid-out"), "exclude"),
            (("--offline", "--schema", "queries.sql"), "creates no table"),
            (("--offline", "--schema", "gone.sql"), "gone.sql"),
        ]:
            with self.subTest(arguments):
                self.assertIn(words, self.slabrow(*ask, *arguments, code=2).stderr)
        (self.folder / "tables.sql").write_text("CREATE TABLE t (k int);")
        self.assertIn("no partitioned table", self.offline(code=2).stderr)
        (self.folder / "queries.sql").write_text("-- decided: soon\nSELECT 1;")
        self.assertIn("start or run", self.offline(code=2).stderr)


class PlansAheadTest(DatabaseTest):
    """The plans come from a session of their own, asked before anything else is ready."""

    def setUp(self):
        super().setUp()
        self.sql(DDL)
        whole = [f"-- name: q{number}\nSELECT 1 FROM reading WHERE hive = {number};" for number in range(9)]
        (self.folder / "queries.sql").write_text("\n".join([*whole[:4], "SELECT nothing FROM reading;", *whole[4:]]))

    def test_queries_after_one_that_is_wrong_are_proven(self):
        found = self.json("prove", "--queries", "queries.sql", code=1)
        self.assertEqual([f"q{number}" for number in range(9)], [each["name"] for each in found["queries"]])
        [wrong] = found["unproven"]
        self.assertIn('column "nothing" does not exist', wrong["reason"])

    def test_a_role_with_one_connection_is_enough(self):
        self.sql("CREATE ROLE single LOGIN CONNECTION LIMIT 1; GRANT SELECT ON ALL TABLES IN SCHEMA public TO single")
        self.addCleanup(self.sql, "DROP OWNED BY single; DROP ROLE single")
        found = self.json("prove", "--queries", "queries.sql", code=1, dsn=self.dsn_as("single"))
        self.assertEqual(9, len(found["queries"]))

    def test_stopped_while_the_server_waits_for_a_lock(self):
        with self.connection.transaction():
            self.sql("LOCK TABLE reading")
            process = begin("prove", "--queries", "queries.sql", "--dsn", self.dsn, cwd=self.folder)
            self.wait_until("SELECT count(*) > 0 FROM pg_locks WHERE NOT granted")
            process.send_signal(signal.SIGINT)
            _, error = process.communicate(timeout=20)
        self.assertEqual(5, process.returncode, error)
        self.assertNotIn("Traceback", error)
