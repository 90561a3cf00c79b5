"""Upkeep that can be left alone: the sweep of the catch-all, archives, guards, holds, the ledger, and what it tells."""

import http.server
import json
import os
import re
import signal
import subprocess
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pyarrow.parquet

from tests.support import DatabaseTest
from tests.test_program_convert import layout

NOW = ("--now", "2026-03-01")
LATER = ("--now", "2026-06-15")
LOG = """
CREATE SCHEMA apiary; CREATE TABLE apiary.log (log_id bigint GENERATED ALWAYS AS IDENTITY, taken_at timestamptz, n int,
    note text, weight double precision, doubled int GENERATED ALWAYS AS (n * 2) STORED) PARTITION BY RANGE (taken_at);
"""


class KeepingTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(LOG)
        self.write()
        self.slabrow("tend", "--go", *NOW)

    def write(self, **changes):
        self.layout(layout(**{"keep": "2 months", "ahead": "2 months", "at_most_share": 0.9, **changes}))

    def fill(self, start="2026-03-01", rows=240):
        self.sql(
            f"INSERT INTO apiary.log (taken_at, n, note, weight) SELECT timestamptz '{start}' + n * interval '6 hours', n, "
            f"CASE n % 4 WHEN 0 THEN NULL WHEN 1 THEN '' WHEN 2 THEN E'a \"quoted\"\\nline, Ä' ELSE 'x' || n END, n / 7.0 "
            f"FROM generate_series(0, {rows - 1}) n"
        )

    def tables(self):
        rows = self.sql(
            "SELECT relname::text FROM pg_class WHERE relnamespace = 'apiary'::regnamespace AND relkind = 'r' ORDER BY 1"
        )
        return [name for (name,) in rows]

    def state(self, document):
        return {each["partition"]: (each["kind"], each["state"]) for each in document["actions"]}


class SweepTest(KeepingTest):
    def setUp(self):
        super().setUp()
        self.write(catch_all=True)
        self.slabrow("tend", "--go", *NOW)

    def test_rows_of_a_missing_partition_move_there_and_others_stay(self):
        self.fill("2026-05-20", 120)  # up to 2026-06-18
        self.sql("INSERT INTO apiary.log (taken_at) VALUES (NULL), ('2031-01-01'), ('2020-01-01')")
        check = self.slabrow("tend", "--check", "--now", "2026-05-05", code=1)
        self.assertIn("sweep", check.stdout)
        self.assertIn("lacks 3 partitions that `ahead` asks for", check.stderr)
        self.assertIn("has 123 rows in its catch-all", check.stderr)
        done = self.json("tend", "--go", "--now", "2026-05-05")
        self.assertEqual(("sweep", "done"), self.state(done)["apiary.log_2026_06"])
        self.assertEqual(48, self.value("SELECT count(*) FROM apiary.log_2026_05"))
        self.assertEqual(72, self.value("SELECT count(*) FROM apiary.log_2026_06"))
        self.assertEqual(3, self.value("SELECT count(*) FROM apiary.log_rest"))
        (finding,) = [each for each in done["findings"] if each["code"] == "catch_all_rows"]
        self.assertEqual("apiary.log", finding["table"])
        for words in ("3 rows", "1 without a key", "(late: 2020-01-01", "(a clock ahead: 2031-01-01"):
            self.assertIn(words, finding["text"])
        self.assertEqual(0, self.value("SELECT count(*) FROM apiary.log WHERE doubled <> n * 2"))
        entries = self.json("history", "--kind", "sweep")["entries"]
        self.assertEqual([72, 48], [entry["rows"] for entry in entries])
        self.slabrow("tend", "--check", "--now", "2026-05-05", code=1)  # the three rows still lie there

    def test_no_row_is_lost_or_doubled_under_a_writer(self):
        # What came while the lock was waited for must be seen once it is got, whatever the default is.
        self.sql(
            "DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET default_transaction_isolation = ''repeatable read''', "
            "current_database()); END $$"
        )
        ended, written, refused = threading.Event(), [], []

        def writing():
            with psycopg.connect(self.dsn, autocommit=True) as writer:
                while not ended.is_set():
                    n = len(written)
                    try:
                        writer.execute(
                            "INSERT INTO apiary.log (taken_at, n) VALUES (timestamptz '2026-05-10' + %s * interval '1 second', %s)",
                            [n % 90000, n],
                        )
                    except psycopg.Error as error:
                        refused.append(str(error))
                        return
                    written.append(n)

        thread = threading.Thread(target=writing)
        thread.start()
        time.sleep(0.7)
        self.json("tend", "--go", "--lock-wait", "5s", "--now", "2026-04-10")
        ended.set()
        thread.join()
        self.assertEqual([], refused)
        self.assertGreater(len(written), 300)
        self.assertEqual([(len(written), len(written))], self.sql("SELECT count(*), count(DISTINCT n) FROM apiary.log"))
        self.assertEqual(0, self.value("SELECT count(*) FROM apiary.log_rest"))

    def test_many_rows_are_copied_before_the_lock_while_others_write(self):
        for number, changes in enumerate(("INSERT", "INSERT UPDATE DELETE")):
            month = (5, 8)[number]
            self.sql(
                f"INSERT INTO apiary.log (taken_at, n) SELECT timestamptz '2026-0{month}-02' + n * interval '1 minute', n "
                "FROM generate_series(1, 30000) n; CREATE INDEX IF NOT EXISTS log_n ON apiary.log (n, taken_at)"
            )
            expected = dict(self.sql("SELECT n, note FROM apiary.log"))
            ended = threading.Event()
            thread = threading.Thread(target=self.change, args=(ended, expected, changes, month))
            thread.start()
            try:
                done = self.json("tend", "--go", "--lock-wait", "5s", "--now", f"2026-0{month}-01")
            finally:
                ended.set()
                thread.join()
            with self.subTest(changes=changes):
                (swept,) = [each for each in done["actions"] if each["kind"] == "sweep"]
                self.assertEqual("done", swept["state"])
                self.assertGreaterEqual(swept["rows"], 29_000)
                self.assertEqual(swept["rows"], self.json("history", "--kind", "sweep")["entries"][0]["rows"])
                rows = self.sql("SELECT n, note FROM apiary.log")
                self.assertEqual((len(rows), dict(rows)), (len(expected), expected))
                self.assertEqual(0, self.value("SELECT count(*) FROM apiary.log_rest"))
                self.assertEqual([], self.sql("SELECT conname FROM pg_constraint WHERE conname ~ 'slabrow'"))
                attached = self.sql(
                    "SELECT h.inhparent::regclass::text FROM pg_index i LEFT JOIN pg_inherits h ON h.inhrelid = i.indexrelid "
                    f"WHERE i.indrelid = 'apiary.log_2026_0{month}'::regclass"
                )
                self.assertEqual([("apiary.log_n",)], attached, "built before, and the parent's: none is built twice")
                self.assertEqual([], self.json("tend", "--now", f"2026-0{month}-01")["actions"])
            self.sql("TRUNCATE apiary.log")

    def change(self, ended, expected, changes, month):
        """A writer of the rows in the catch-all, that keeps what it did."""
        with psycopg.connect(self.dsn, autocommit=True) as writer:
            number = 1_000_000
            while not ended.is_set():
                number += 1
                row = [f"2026-0{month}-03", number]
                writer.execute("INSERT INTO apiary.log (taken_at, n) VALUES (%s, %s)", row)
                expected[number] = None
                if "UPDATE" in changes:
                    old = number % 30_000 + 1
                    writer.execute("UPDATE apiary.log SET note = 'late' WHERE n = %s", [old])
                    writer.execute("DELETE FROM apiary.log WHERE n = %s", [number - 1])
                    expected |= {old: "late"} if old in expected else {}
                    expected.pop(number - 1, None)

    def test_triggers_and_foreign_keys_that_would_act_keep_the_rows_where_they_are(self):
        self.fill("2026-05-20", 20)
        self.sql(
            "CREATE FUNCTION apiary.f() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN OLD; END';"
            "CREATE TRIGGER heard AFTER DELETE ON apiary.log_rest FOR EACH ROW EXECUTE FUNCTION apiary.f()"
        )
        done = self.json("tend", "--go", "--now", "2026-04-05", code=1)
        (swept,) = [each for each in done["actions"] if each["kind"] == "sweep"]
        self.assertEqual("skipped", swept["state"])
        self.assertIn("heard", swept["text"])
        self.assertEqual(20, self.value("SELECT count(*) FROM apiary.log_rest"))


class ArchiveTest(KeepingTest):
    def archived(self, form="parquet", code=0):
        self.write(past_keep="archive", archive_to="old", archive_as=form)
        return self.json("tend", "--go", *LATER, code=code)

    def test_written_compared_dropped_and_brought_back_equal(self):
        self.fill()
        self.write(past_keep="archive", archive_to="old")
        refused = self.slabrow("tend", "--script", "upkeep.sql", *LATER, code=2)
        self.assertIn("before it is dropped", refused.stderr)
        self.assertFalse((self.folder / "upkeep.sql").exists(), "a script would drop what was never archived")
        for form, number in (("parquet", ""), ("csv", ".2")):
            with self.subTest(form):
                before = self.sql("SELECT * FROM apiary.log_2026_03 ORDER BY log_id")
                done = self.archived(form)
                self.assertEqual(("archive", "done"), self.state(done)["apiary.log_2026_03"])
                self.assertNotIn("log_2026_03", self.tables())
                path = f"old/apiary.log_2026_03{number}.json"
                manifest = json.loads((self.folder / path).read_text())
                self.assertEqual((124, form), (manifest["rows"], manifest["form"]))
                if form == "parquet":
                    table = pyarrow.parquet.read_table(self.folder / "old" / manifest["file"])
                    self.assertEqual(124, table.num_rows)
                    self.assertEqual("timestamp[us, tz=UTC]", str(table.schema.field("taken_at").type))
                    self.assertIn('a "quoted"\nline, Ä', table.column("note").to_pylist())
                self.assertEqual("proposed", self.json("adopt", "--from-archive", path, code=1)["state"])
                back = self.json("adopt", "--from-archive", path, "--go")
                self.assertEqual(("done", "apiary.log", True), (back["state"], back["attached_to"], back["held"]))
                self.assertEqual(["hold"], [each["code"] for each in self.json("tend", "--go", *LATER)["findings"]])
                self.slabrow("tend", "--end-hold", "apiary.log_2026_03", "--go")
                self.assertEqual(before, self.sql("SELECT * FROM apiary.log_2026_03 ORDER BY log_id"))
                self.assertIn("already", self.slabrow("adopt", "--from-archive", path, "--go", code=4).stderr)
        for kind in ("archive", "adopt"):
            self.assertEqual([124, 124], [each["rows"] for each in self.json("history", "--kind", kind)["entries"]])
        self.assertIn("as SQL", self.slabrow("adopt", "--from-archive", path, "--script", "x.sql", code=2).stderr)

    def test_an_archive_is_never_written_over(self):
        self.fill()
        self.archived()
        first = json.loads((self.folder / "old" / "apiary.log_2026_03.json").read_text())
        self.assertIsNotNone(first["left"])
        # `keep` was lengthened: the partition is made again, rows come late, and it leaves a second time.
        self.write(keep="12 months", past_keep="archive", archive_to="old", **{"from": "2026-03-01"})
        self.slabrow("tend", "--go", *LATER)
        self.sql("INSERT INTO apiary.log (taken_at) VALUES ('2026-03-05')")
        (again,) = self.archived()["actions"]
        self.assertIn("old/apiary.log_2026_03.2.json", again["text"])
        # Another database that archives into the same folder.
        other = f"{self.database}_twin"
        self.sql(f"CREATE DATABASE {other}")
        dsn = self.dsn.replace(f"/{self.database}?", f"/{other}?")
        with psycopg.connect(dsn, autocommit=True) as connection:
            connection.execute(LOG)
        self.slabrow("tend", "--go", *NOW, dsn=dsn)
        done = self.json("tend", "--go", *LATER, dsn=dsn)
        self.assertIn("old/apiary.log_2026_03.3.json", done["actions"][-1]["text"])
        for name, rows in (("", 124), (".2", 1), (".3", 0)):
            found = self.json("adopt", "--from-archive", f"old/apiary.log_2026_03{name}.json", code=1)
            self.assertEqual(rows, found["rows"])
        self.assertEqual(first, json.loads((self.folder / "old" / "apiary.log_2026_03.json").read_text()))
        self.assertEqual([], list((self.folder / "old").glob("*.partial")))

    def test_values_that_other_programs_do_not_know_are_kept_as_text(self):
        self.sql(
            "ALTER TABLE apiary.log ADD j jsonb, ADD big numeric, ADD b bytea, ADD day date, ADD odd interval, ADD many int[];"
            "INSERT INTO apiary.log (taken_at, weight, j, big, b, day, odd, many) VALUES ('2026-03-02', 'NaN', '{\"a\": [1, null]}', 1e40, '\\x00ff',"
            " 'infinity', '1 mon 2 days 03:04:05.6', '{1,NULL}'), ('2026-03-03', 0.1, 'null', 'NaN', '', '4713-01-01 BC', '-1 year', '{}');"
            "INSERT INTO apiary.log (taken_at) VALUES ('2026-04-01')"
        )
        before = self.sql("SELECT l::text FROM apiary.log_2026_03 l ORDER BY 1")
        self.archived()
        self.json("adopt", "--from-archive", "old/apiary.log_2026_03.json", "--go")
        self.assertEqual(before, self.sql("SELECT l::text FROM apiary.log_2026_03 l ORDER BY 1"))

    def test_rows_that_a_policy_hides_are_not_lost(self):
        self.fill()
        self.sql(
            "GRANT ALL ON SCHEMA apiary, slabrow TO reader; GRANT ALL ON ALL TABLES IN SCHEMA slabrow TO reader;"
            "ALTER TABLE apiary.log OWNER TO reader; ALTER TABLE apiary.log_2026_03 OWNER TO reader;"
            "ALTER TABLE apiary.log_2026_04 OWNER TO reader; ALTER TABLE apiary.log_2026_03 ENABLE ROW LEVEL SECURITY;"
            "ALTER TABLE apiary.log_2026_03 FORCE ROW LEVEL SECURITY;"
            "CREATE POLICY third ON apiary.log_2026_03 USING (n % 3 = 1)"
        )
        self.write(past_keep="archive", archive_to="old")
        refused = self.json("tend", "--go", *LATER, code=3, dsn=self.dsn_as("reader"))
        self.assertEqual(("archive", "failed"), self.state(refused)["apiary.log_2026_03"])
        self.assertIn("row-level security", refused["actions"][-1]["text"])
        self.assertEqual(124, self.value("SELECT count(*) FROM apiary.log_2026_03"))
        counting = self.slabrow("census", "apiary.log", "--exact", code=3, dsn=self.dsn_as("reader"))
        self.assertIn("BYPASSRLS", counting.stderr)

    def test_a_changed_file_a_full_disk_and_a_stopped_run(self):
        self.fill()
        (self.folder / "old").mkdir()
        os.chmod(self.folder / "old", 0o500)
        if os.geteuid() == 0:
            (self.folder / "old").rmdir()
            (self.folder / "old").write_text("a file where the folder should be")
        done = self.archived(code=3)
        self.assertEqual(("archive", "failed"), self.state(done)["apiary.log_2026_03"])
        self.assertEqual(124, self.value("SELECT count(*) FROM apiary.log_2026_03"))
        self.assertEqual("failed", self.json("history", "--kind", "archive")["entries"][0]["state"])
        (self.folder / "old").unlink() if (self.folder / "old").is_file() else (self.folder / "old").rmdir()
        self.archived()
        file = self.folder / "old" / "apiary.log_2026_03.parquet"
        file.write_bytes(file.read_bytes()[:-9])
        self.assertIn("SHA-256", self.slabrow("adopt", "--from-archive", "old/apiary.log_2026_03.json", code=2).stderr)
        self.assertIn("is not JSON", self.slabrow("adopt", "--from-archive", "slabrow.toml", code=2).stderr)

    def test_rows_that_come_while_it_is_written_are_not_lost(self):
        self.fill()
        with psycopg.connect(self.dsn) as late:
            late.execute("INSERT INTO apiary.log (taken_at, n) VALUES ('2026-03-09', -1)")
            self.write(past_keep="archive", archive_to="old")
            process = self.begin("tend", "--go", "--lock-wait", "8s", *LATER)
            deadline = time.monotonic() + 20
            while not list(Path(self.folder).glob("old/*.json")) and time.monotonic() < deadline:
                time.sleep(0.05)
            late.commit()
        process.communicate(timeout=60)
        self.assertEqual((4, 125), (process.returncode, self.value("SELECT count(*) FROM apiary.log_2026_03")))
        self.archived()
        self.assertEqual(125, json.loads((self.folder / "old" / "apiary.log_2026_03.json").read_text())["rows"])

    def test_killed_at_any_moment_every_row_is_in_the_table_or_in_its_archive(self):
        self.write(
            span="1 day", keep="20 days", ahead="30 days", past_keep="archive", archive_to="old", at_most_retired=99
        )
        self.slabrow("tend", "--go", *NOW)
        self.fill("2026-03-01", 160)  # forty days
        midway = sum(self.is_killed_midway(1, "tend", "--go", "--now", "2026-04-10") for round_ in range(10))
        self.assertGreaterEqual(midway, 1, "kills that found the program at work")
        self.json("tend", "--go", "--lock-wait", "20s", "--now", "2026-04-10")
        self.assertEqual([], self.json("tend", "--now", "2026-04-10")["actions"])
        left = {n for (n,) in self.sql("SELECT n FROM apiary.log")}
        kept = [
            n
            for file in sorted((self.folder / "old").glob("*.parquet"))
            for n in pyarrow.parquet.read_table(file).column("n").to_pylist()
        ]
        self.assertEqual(set(range(160)), left | set(kept))
        self.assertEqual(160, len(left) + len(kept), "no row stands in both")
        self.assertEqual(
            len(list((self.folder / "old").glob("*.parquet"))), len(list((self.folder / "old").glob("*.json")))
        )
        self.assertEqual([], list((self.folder / "old").glob("*.partial")))


class GuardsTest(KeepingTest):
    def test_each_guard_speaks_and_nothing_leaves_while_the_coming_ones_are_made(self):
        self.write(ahead="9 months")
        self.slabrow("tend", "--go", *NOW)
        self.sql(
            "INSERT INTO apiary.log (taken_at) SELECT timestamptz '2026-03-02' + n * interval '1 day' FROM generate_series(0, 250) n; ANALYZE apiary.log"
        )
        before = self.tables()
        for what, changes, options, words in [
            ("too many at once", {}, ("--now", "2026-11-15"), "would leave in one run"),
            ("another number named", {}, ("--now", "2026-11-15", "--retiring", "2"), "--retiring says 2"),
            ("too large a share", {"at_most_retired": 9, "at_most_share": 0.5}, ("--now", "2026-11-15"), "of the rows"),
            ("another span", {"span": "1 week"}, NOW, "no longer fits"),
            ("another zone", {"zone": "Asia/Tokyo"}, NOW, "no longer fits"),
            ("another key", {"key": ["n"], "span": 10, "ahead": 10, "keep": 10}, NOW, "not divided as its layout says"),
        ]:  # fmt: skip
            with self.subTest(what):
                self.write(**{"ahead": "1 month", **changes})
                code = 2 if what == "another key" else 4
                done = self.json("tend", "--go", *options, code=code)
                self.assertIn(words, done["errors"][0]["problem"])
                self.assertEqual(
                    [], [each for each in done["actions"] if each["kind"] == "detach" and each["state"] == "done"]
                )
                self.assertEqual(before, [name for name in self.tables() if name != "log_2026_12"])
        self.assertIn("log_2026_12", self.tables(), "a guard of what leaves holds back nothing that has to come")
        self.write(ahead="1 month")
        proposed = self.json("tend", "--now", "2026-11-15", code=4)
        leaving = [each for each in proposed["actions"] if each["kind"] == "detach"]
        self.assertEqual({"skipped"}, {each["state"] for each in leaving})
        done = self.json("tend", "--go", "--now", "2026-11-15", "--retiring", len(leaving))
        self.assertEqual(len(leaving), sum(each["kind"] == "detach" for each in done["actions"]))

    def test_partitions_that_were_never_analysed_do_not_pass_for_empty_ones(self):
        self.fill()
        self.sql("ANALYZE apiary.log_2026_03")
        self.write(at_most_share=0.6)
        done = self.json("tend", "--go", *LATER)
        self.assertEqual(("detach", "done"), self.state(done)["apiary.log_2026_03"])

    def test_a_clock_that_went_backwards(self):
        self.sql("UPDATE slabrow.ledger SET clock = now() + interval '3 days', is_machine_clock = true")
        self.assertIn("went backwards", self.slabrow("tend", "--go", code=4).stderr)
        self.slabrow("tend", *NOW)  # a time that is named is believed

    def test_what_is_under_hold_stays(self):
        self.fill()
        self.assertIn(
            "is under hold until 2026-07-01",
            self.slabrow("tend", "--hold", "log_2026_03", "--go", "--until", "2026-07-01", *NOW).stdout,
        )
        done = self.json("tend", "--go", *LATER)
        self.assertEqual(["hold"], [each["code"] for each in done["findings"]])
        self.assertIn("log_2026_03", self.tables())
        self.assertEqual(
            1, self.value("SELECT count(*) FROM pg_inherits WHERE inhrelid = 'apiary.log_2026_03'::regclass")
        )
        self.sql("COMMENT ON TABLE slabrow.ledger IS 'slabrow ledger, version 7'")
        self.assertIn("newer", self.slabrow("tend", "--go", *LATER, code=3).stderr)  # it may say what has to stay
        self.sql(
            "COMMENT ON TABLE slabrow.ledger IS 'slabrow ledger, version 1'; DROP TABLE slabrow.growth, "
            "slabrow.reshaping, slabrow.reshaping_source, slabrow.reshaping_piece, slabrow.reshaping_mark"
        )  # an older one
        self.slabrow("tend", "--end-hold", "apiary.log_2026_03", "--go", *LATER)
        self.json("tend", "--go", *LATER)
        self.assertEqual(
            0, self.value("SELECT count(*) FROM pg_inherits WHERE inhrelid = 'apiary.log_2026_03'::regclass")
        )
        error = self.slabrow("tend", "--hold", "log_2026_33", code=2).stderr
        self.assertIn("did you mean", error)
        for arguments in (("--until", "2026-07-01"), ("--hold", "a", "--end-hold", "a"), ("--check", "--go")):
            self.slabrow("tend", *arguments, code=2)


class LedgerTest(KeepingTest):
    def test_every_action_is_in_it_with_who_when_and_how(self):
        entries = self.json("history")["entries"]
        self.assertEqual(["apiary.log"] * len(entries), [each["table"] for each in entries])
        first = entries[-1]
        self.assertEqual(
            ("create", "done", "postgres", False),
            (first["kind"], first["state"], first["role"], first["machine_clock"]),
        )
        self.assertIn("ATTACH PARTITION", " ".join(first["statements"]))
        self.assertGreater(first["duration_ms"], 0)
        self.assertEqual([], self.json("history", "--kind", "drop")["entries"])
        self.assertEqual(1, len(self.json("history", "--most", "1")["entries"]))
        self.assertEqual([], self.json("history", "--since", "2099-01-01")["entries"])
        self.assertTrue(
            self.slabrow("history", "--format", "csv").stdout.startswith("entry,at,clock,machine_clock,role")
        )
        self.assertIn("log_2026_03", self.slabrow("history").stdout)

    def test_settings_of_a_role_neither_cut_it_off_nor_change_what_is_read(self):
        for name, value in {
            "DateStyle": "SQL, DMY", "TimeZone": "Asia/Tokyo", "IntervalStyle": "sql_standard", "bytea_output": "escape",
            "quote_all_identifiers": "on", "standard_conforming_strings": "off", "search_path": "pg_catalog",
            "statement_timeout": "800ms", "idle_in_transaction_session_timeout": "800ms",
        }.items():  # fmt: skip
            self.sql(f"ALTER DATABASE {self.database} SET {name} = '{value}'")
        with psycopg.connect(self.dsn) as reader:
            reader.execute("SET LOCAL idle_in_transaction_session_timeout = 0")
            reader.execute("SELECT FROM apiary.log")
            begun = self.begin("tend", "--go", "--lock-wait", "20s")
            self.wait_until("SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted)")
            time.sleep(1.5)
        self.assertEqual((0, ""), (begun.wait(30), begun.stderr.read()))
        begun.communicate()
        today = datetime.now(UTC)
        entries = self.json("history", "--since", f"{today - timedelta(days=1):%Y-%m-%d}")["entries"]
        self.assertIn(f"log_{today:%Y_%m}", [entry["partition"] for entry in entries])

    def test_none_another_schema_a_newer_one_and_no_right(self):
        (self.folder / "slabrow.toml").write_text(layout(ahead="4 months") + '[ledger]\nschema = "Up keep"\n')
        self.slabrow("tend", "--go", *NOW)
        self.assertGreater(self.value('SELECT count(*) FROM "Up keep".ledger'), 0)
        (self.folder / "slabrow.toml").write_text(layout(ahead="5 months") + '[ledger]\nschema = ""\n')
        self.slabrow("tend", "--go", *NOW)
        self.assertIn("no ledger", self.slabrow("history", code=2).stderr)
        (self.folder / "slabrow.toml").write_text(layout() + '[ledger]\nname = "x"\n')
        self.assertIn("[ledger]", self.slabrow("tend", code=2).stderr)
        self.write(ahead="6 months")
        self.sql("COMMENT ON TABLE slabrow.ledger IS 'slabrow ledger, version 7'")
        self.assertIn("newer", self.slabrow("history", code=3).stderr)
        self.sql(
            "DROP SCHEMA slabrow CASCADE; GRANT ALL ON SCHEMA apiary TO reader; ALTER TABLE apiary.log OWNER TO reader"
        )
        done = self.slabrow("tend", "--go", *NOW, dsn=self.dsn_as("reader"))
        self.assertIn("GRANT CREATE ON DATABASE", done.stderr)
        self.assertIn("log_2026_08", self.tables())
        self.assertIn("no ledger", self.slabrow("history").stdout)


class TellingTest(KeepingTest):
    def test_metrics_and_checks(self):
        self.fill()
        well = self.measured(*NOW)
        then = datetime(2026, 3, 1, tzinfo=UTC).timestamp()
        self.assertEqual(
            {"partitions": 2, "partitions_ahead": 1, "days_ahead": 61, "missing_ahead": 0, "catch_all_rows": 0,
             "success": 1, "last_success_timestamp_seconds": then},
            {name: well[name] for name in (
                "partitions", "partitions_ahead", "days_ahead", "missing_ahead", "catch_all_rows", "success",
                "last_success_timestamp_seconds")},
        )  # fmt: skip
        thin = self.measured("--now", "2026-05-01", code=1)
        self.assertEqual((2, 0, 0), (thin["missing_ahead"], thin["partitions_ahead"], thin["success"]))
        self.assertEqual(then, thin["last_success_timestamp_seconds"], "kept from the run before")

    def measured(self, *options, code=0):
        self.slabrow("tend", "--check", "--metrics", "upkeep.prom", *options, code=code)
        text = (self.folder / "upkeep.prom").read_text()
        self.assertTrue(text.endswith("# EOF\n"))
        return {
            name: float(value)
            for name, value in re.findall(r'slabrow_(\w+)\{server="",table="apiary.log"\} (\S+)', text)
        }

    def test_a_webhook_hears_the_result_and_one_that_is_away_changes_nothing(self):
        heard = []

        class Hearing(http.server.BaseHTTPRequestHandler):
            def do_POST(self):
                heard.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
                self.send_response(200)
                self.end_headers()

            def log_message(self, *_):
                pass

        server = http.server.HTTPServer(("127.0.0.1", 0), Hearing)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        address = f"http://127.0.0.1:{server.server_port}/secret-path"
        self.slabrow("tend", "--webhook", address, "--now", "2026-05-01", code=1)
        server.shutdown()
        server.server_close()
        self.assertEqual(("tend", 2), (heard[0]["command"], len(heard[0]["actions"])))
        away = self.slabrow("tend", "--webhook", address, *NOW)
        self.assertIn("was not told", away.stderr)
        self.assertNotIn("secret-path", away.stderr)
        self.slabrow("tend", "--webhook", "ftp://x", code=2)

    def test_units_hold_no_password_and_are_read_by_their_programs(self):
        for kind, words in [("cron", "15 * * * * "), ("systemd", "RandomizedDelaySec=5min")]:
            text = self.slabrow("tend", "--unit", kind, "--metrics", "a b%.prom").stdout
            self.assertIn(words, text)
            self.assertIn("--go", text)
            self.assertIn("b%%.prom" if kind == "systemd" else r"b\%.prom", text)
        line = self.slabrow("tend", "--unit", "cron", built=True).stdout.splitlines()[-1].replace("\\%", "%")
        command = re.sub(r"^15 \* \* \* \* \S+ ", "", line).replace("sleep $((RANDOM % 300))", "true")
        environment = {**os.environ, "SLABROW_DSN": self.dsn}
        for table, sent in (("apiary.log", ""), ("apiary.gone", "there is no table apiary.gone")):
            self.layout(layout(table=table, ahead="1 month"))
            done = subprocess.run(["bash", "-c", command], capture_output=True, text=True, env=environment)
            self.assertEqual(bool(sent), bool(done.stdout), "what is printed is sent by mail")
            self.assertIn(sent, done.stdout)
        secret = self.dsn.replace("postgres@", "postgres:honey-comb@")
        refused = self.slabrow("tend", "--unit", "cron", dsn=secret, code=2)
        self.assertNotIn("honey-comb", refused.stderr + refused.stdout)

    def test_it_stays_running_through_what_fails_and_stops_cleanly(self):
        self.write(ahead="30 months")
        process = self.begin("tend", "--go", "--every", "1s")
        deadline = time.monotonic() + 30
        while len(self.tables()) < 9 and time.monotonic() < deadline:
            time.sleep(0.2)
        time.sleep(2.5)
        self.write(ahead="x months")
        time.sleep(2.5)
        self.write(ahead="34 months")
        before = len(self.tables())
        while len(self.tables()) <= before and time.monotonic() < deadline + 20:
            time.sleep(0.2)
        process.send_signal(signal.SIGTERM)
        out, error = process.communicate(timeout=30)
        self.assertGreater(len(self.tables()), before)
        self.assertIn("fault", error)
        self.assertNotIn("Traceback", error)
        self.assertIn("nothing to do", out)

    def test_several_servers_side_by_side_and_one_that_is_away(self):
        other = f"{self.database}_other"
        with psycopg.connect(self.server.dsn, autocommit=True) as connection:
            connection.execute(f"CREATE DATABASE {other}")
        far = self.dsn.replace(f"/{self.database}?", f"/{other}?")
        with psycopg.connect(far, autocommit=True) as connection:
            connection.execute(LOG)
        servers = "".join(
            f'[[server]]\nname = "{name}"\ndsn = "{dsn}"\n'
            for name, dsn in [
                ("near", self.dsn),
                ("far", far),
                ("gone", "postgresql://127.0.0.1:1/x?connect_timeout=2"),
            ]
        )
        (self.folder / "slabrow.toml").write_text(layout(ahead="4 months") + servers)
        done = self.json("tend", "--go", "--on", "all", *NOW, code=3)
        made = {(each["server"], each["partition"]) for each in done["actions"] if each["state"] == "done"}
        self.assertEqual(
            {("near", "apiary.log_2026_06"), ("far", "apiary.log_2026_06")}, {each for each in made if "06" in each[1]}
        )
        self.assertEqual(["gone"], [each["server"] for each in done["errors"]])
        self.assertEqual([], self.json("tend", "--on", "near", "--on", "far", *NOW)["actions"])
        self.assertIn("near, far, gone", self.slabrow("tend", "--on", "nowhere", code=2).stderr)
        self.assertIn("on far", self.slabrow("tend", "--on", "far", *NOW).stdout)
        self.slabrow("tend", "--on", "all", "--dsn", self.dsn, code=2)
