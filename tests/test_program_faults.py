"""Upkeep when something gives way midway: the disk, a right, the server, a lock; and two runs for a while."""

import os
import re
import signal
import subprocess
import threading
import time

import psycopg

from slabrow.servers.postgresql.private.server import start
from tests.support import binaries
from tests.test_program_keep import LATER, NOW, KeepingTest


class ArchivingFaultsTest(KeepingTest):
    def setUp(self):
        super().setUp()
        self.write(past_keep="archive", archive_to="old", at_most_share=1.0)

    def test_a_disk_that_is_full(self):
        self.slabrow("tend", "--go", "--now", "2026-05-05")
        (self.folder / "old").mkdir()
        if os.geteuid() != 0:
            self.skipTest("only root can mount a small disk")
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", self.folder / "old"], check=True)
        self.addCleanup(subprocess.run, ["umount", self.folder / "old"])
        self.sql(
            "INSERT INTO apiary.log (taken_at, n, note) SELECT timestamptz '2026-03-02' + n * interval '20 seconds', n, "
            "md5(n::text) FROM generate_series(1, 20000) n"
        )
        self.fill("2026-05-20", 90)
        done = self.json("tend", "--go", *LATER, code=3)
        text = next(each["text"] for each in done["actions"] if each["partition"] == "apiary.log_2026_03")
        self.assertIn("No space left on device", text)
        self.assertEqual(20_000, self.value("SELECT count(*) FROM apiary.log_2026_03"))
        self.assertEqual([], list((self.folder / "old").glob("*2026_03*")), "nothing half written stays")
        subprocess.run(["mount", "-o", "remount,size=8m", self.folder / "old"], check=True)
        self.json("tend", "--go", *LATER)
        self.assertTrue((self.folder / "old" / "apiary.log_2026_03.parquet").exists())

    def test_a_right_that_is_lost_midway(self):
        self.fill()
        self.slabrow("tend", "--go", "--now", "2026-05-05")
        self.fill("2026-05-20", 90)
        self.sql(
            "CREATE ROLE keeper LOGIN; ALTER SCHEMA apiary OWNER TO keeper; ALTER TABLE apiary.log OWNER TO keeper"
        )
        self.addCleanup(self.sql, "DROP OWNED BY keeper CASCADE; DROP ROLE keeper")
        for (table,) in self.sql(
            "SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = 'apiary.log'::regclass"
        ):
            self.sql(f"ALTER TABLE {table} OWNER TO keeper")
        self.sql("GRANT ALL ON SCHEMA slabrow TO keeper; GRANT ALL ON ALL TABLES IN SCHEMA slabrow TO keeper")
        self.sql("ALTER TABLE apiary.log_2026_04 OWNER TO postgres")
        done = self.json("tend", "--go", "--now", "2026-07-01", dsn=self.dsn_as("keeper"), code=3)
        state = self.state(done)
        self.assertEqual(("archive", "done"), state["apiary.log_2026_03"])
        self.assertEqual("failed", state["apiary.log_2026_04"][1])
        self.assertEqual(["apiary.log_2026_04"], [name for name, (_, end) in state.items() if end == "failed"])
        self.assertEqual(206, self.value("SELECT count(*) FROM apiary.log"), "the rest is still there")
        self.sql("ALTER TABLE apiary.log_2026_04 OWNER TO keeper")
        self.json("tend", "--go", "--now", "2026-07-01", dsn=self.dsn_as("keeper"))
        self.assertTrue((self.folder / "old" / "apiary.log_2026_04.json").exists())


class StoppedServerTest(KeepingTest):
    def setUp(self):
        super().setUp()
        self.own = start(binaries()[0], {})
        self.addCleanup(self.own.stop)
        self.connection = psycopg.connect(self.own.dsn, autocommit=True)
        self.dsn = self.own.dsn
        super().sql(
            "CREATE SCHEMA apiary; CREATE TABLE apiary.log (taken_at timestamptz, n int) PARTITION BY RANGE (taken_at)"
        )

    def test_the_next_run_finishes_what_a_stopped_server_left(self):
        self.write(
            span="1 day", keep="20 days", ahead="60 days", past_keep="archive", archive_to="old", at_most_retired=99
        )
        self.slabrow("tend", "--go", *NOW)
        self.sql(
            "INSERT INTO apiary.log SELECT timestamptz '2026-03-01' + n * interval '6 hours', n FROM generate_series(0, 159) n"
        )
        process = self.begin("tend", "--go", "--log", "text", "--now", "2026-04-10")
        for line in process.stderr:
            if "done archive" in line:
                break
        os.kill(self.value("SELECT pg_backend_pid()"), signal.SIGKILL)  # every session of the server ends with it
        _, error = process.communicate(timeout=60)
        self.assertEqual(5, process.returncode, error)
        self.assertNotIn("Traceback", error)
        self.connection.close()
        self.connection = self.reconnected()
        self.json("tend", "--go", "--now", "2026-04-10")
        self.assertEqual([], self.json("tend", "--now", "2026-04-10")["actions"])
        archived = self.json("history", "--kind", "archive", "--state", "done")["entries"]
        rows = self.value("SELECT count(*) FROM apiary.log") + sum(each["rows"] for each in archived)
        self.assertEqual(160, rows)

    def test_what_stays_running_goes_on_when_the_server_is_back(self):
        self.write(ahead="30 months")
        process = self.begin("tend", "--go", "--every", "1s")
        self.wait_until("SELECT count(*) > 9 FROM pg_inherits WHERE inhparent = 'apiary.log'::regclass")
        for more in (40, 50):
            os.kill(
                self.value("SELECT pg_backend_pid()"), signal.SIGKILL
            )  # every session ends, and the log is replayed
            self.connection.close()
            self.connection = self.reconnected()
            self.write(ahead=f"{more} months")
            self.wait_until(
                f"SELECT count(*) > {more} FROM pg_inherits WHERE inhparent = 'apiary.log'::regclass", seconds=60
            )
        process.send_signal(signal.SIGTERM)
        _, error = process.communicate(timeout=20)
        self.assertNotIn("Traceback", error)
        self.assertNotIn("a fault in Slabrow", error)

    def reconnected(self):
        """A session that lasts: the first ones may still end with the others, until the server has seen its loss."""
        end = time.monotonic() + 60
        while True:
            try:
                connection = psycopg.connect(self.dsn, autocommit=True)
                for _ in range(10):
                    connection.execute("SELECT 1")
                    time.sleep(0.1)
                return connection
            except psycopg.OperationalError:
                self.assertLess(time.monotonic(), end)
                time.sleep(0.1)


class LocksTest(KeepingTest):
    def test_a_lock_that_is_held_past_the_deadline(self):
        self.write(ahead="4 months")
        with psycopg.connect(self.dsn) as holder:
            holder.execute("LOCK TABLE apiary.log IN SHARE ROW EXCLUSIVE MODE")
            done = self.json("tend", "--go", "--lock-wait", "200ms", "--lock-deadline", "2s", *NOW, code=3)
        failed = [each for each in done["actions"] if each["state"] == "failed"]
        self.assertEqual(2, len(failed))
        for each in failed:
            self.assertRegex(each["text"], r"no lock after [1-5] tr(y|ies).*the oldest open transaction is of pid \d+")
            self.assertIn(each["lock_waits"], range(1, 6), "six without a deadline")
        failures = self.json("history", "--state", "failed")["entries"]
        self.assertEqual([each["lock_waits"] for each in failed][::-1], [each["lock_waits"] for each in failures])
        self.slabrow("tend", "--go", *NOW)
        self.assertEqual([], self.json("tend", *NOW)["actions"])

    def test_a_sweep_that_waits_never_holds_writers_up_for_long(self):
        self.write(catch_all=True)
        self.slabrow("tend", "--go", *NOW)
        self.fill("2026-05-20", 50)
        waits, ended = [], threading.Event()

        def write():
            with psycopg.connect(self.dsn, autocommit=True) as writer:
                while not ended.is_set():
                    began = time.monotonic()
                    writer.execute("INSERT INTO apiary.log (taken_at, n) VALUES ('2026-03-05', -1)")
                    waits.append(time.monotonic() - began)
                    time.sleep(0.01)

        with psycopg.connect(self.dsn) as reader:
            reader.execute("SELECT count(*) FROM apiary.log")  # holds ACCESS SHARE on every partition until its end
            thread = threading.Thread(target=write)
            thread.start()
            began = time.monotonic()
            self.json("tend", "--go", "--lock-wait", "300ms", "--lock-deadline", "6s", "--now", "2026-05-05", code=3)
            blocked_s = time.monotonic() - began
            ended.set()
            thread.join()
        self.assertGreater(len(waits), 50)
        # A lock that is asked for all the while would hold each writer as long; and a slow machine makes both longer.
        self.assertLess(max(waits), blocked_s / 3)
        self.json("tend", "--go", "--now", "2026-05-05")
        self.assertEqual(0, self.value("SELECT count(*) FROM apiary.log_rest WHERE taken_at IS NOT NULL"))

    def test_two_for_a_while_do_each_thing_once(self):
        self.write(
            span="1 day", keep="20 days", ahead="30 days", past_keep="drop", at_most_retired=99, at_most_share=1.0
        )
        self.sql("DROP TABLE apiary.log_2026_03, apiary.log_2026_04")
        self.slabrow("tend", "--go", *NOW)
        self.fill("2026-03-01", 116)
        codes = []

        def tend():
            for day in range(1, 13):
                process = self.begin("tend", "--go", "--now", f"2026-04-{day:02}")
                process.communicate(timeout=120)
                codes.append(process.returncode)

        threads = [threading.Thread(target=tend) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertLessEqual(set(codes), {0, 4}, "one works, the other waits its turn or says so")
        entries = self.json("history", "--state", "done")["entries"]
        done = [(each["kind"], each["partition"]) for each in entries if each["kind"] != "analyse"]
        self.assertEqual(len(set(done)), len(done))
        self.assertEqual([], self.json("history", "--state", "failed")["entries"])

    def test_a_detach_that_is_killed_stays_begun_in_the_ledger_and_is_finished(self):
        self.fill()
        with psycopg.connect(self.dsn) as reader:
            reader.execute("SELECT count(*) FROM apiary.log")
            process = self.begin("tend", "--go", "--lock-wait", "60s", *LATER)
            self.wait_until("SELECT count(*) > 0 FROM pg_inherits WHERE inhdetachpending")
            process.send_signal(signal.SIGKILL)
            process.communicate()
            self.sql(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE '%DETACH%' AND pid <> pg_backend_pid()"
            )
        [begun] = self.json("history", "--kind", "detach")["entries"]
        self.assertEqual(("begun", "log_2026_03"), (begun["state"], begun["partition"]))
        self.json("tend", "--go", *LATER)
        states = [each["state"] for each in self.json("history", "--kind", "detach")["entries"]]
        self.assertEqual(["done", "begun"], states)
        self.assertEqual(0, self.value("SELECT count(*) FROM pg_inherits WHERE inhdetachpending"))

    def test_what_a_role_may_only_add_to_the_ledger(self):
        self.fill()
        self.sql("CREATE ROLE adder LOGIN; ALTER SCHEMA apiary OWNER TO adder; GRANT USAGE ON SCHEMA slabrow TO adder")
        self.addCleanup(self.sql, "DROP OWNED BY adder CASCADE; DROP ROLE adder")
        for table in ("log", "log_2026_03", "log_2026_04"):
            self.sql(f"ALTER TABLE apiary.{table} OWNER TO adder")
        self.sql("GRANT SELECT, INSERT ON ALL TABLES IN SCHEMA slabrow TO adder")
        self.json("tend", "--go", *LATER, dsn=self.dsn_as("adder"))
        states = [each["state"] for each in self.json("history", "--kind", "detach")["entries"]]
        self.assertEqual(["done", "begun"], states)


class FeaturesTest(KeepingTest):
    def test_detached_partitions_go_into_the_schema_that_was_named(self):
        self.fill()
        self.slabrow("tend", "--go", "--now", "2026-05-05")
        self.fill("2026-05-20", 90)
        self.sql('CREATE SCHEMA "Old Hives"')
        for catch_all in (False, True):
            self.write(detach_to="Old Hives", catch_all=catch_all, keep="1 month" if catch_all else "2 months")
            self.slabrow("tend", "--go", *LATER)
        found = self.sql(
            "SELECT relname::text FROM pg_class WHERE relnamespace = '\"Old Hives\"'::regnamespace AND relkind = 'r' ORDER BY 1"
        )
        self.assertEqual(["log_2026_03", "log_2026_04"], [name for (name,) in found])
        self.write(detach_to="nowhere", keep="15 days")
        self.assertIn("nowhere", self.slabrow("tend", "--go", "--now", "2026-07-01", code=3).stdout)
        self.write(detach_to="x", past_keep="drop")
        self.assertIn("nothing is detached where past_keep", self.slabrow("tend", code=2).stderr)

    def test_one_that_was_moved_and_not_detached_is_detached_by_the_next_run(self):
        self.slabrow("tend", "--go", "--now", "2026-05-05")
        self.fill("2026-05-20", 90)
        self.sql("CREATE SCHEMA old; ALTER TABLE apiary.log_2026_03 SET SCHEMA old")
        self.write(detach_to="old")
        self.slabrow("tend", "--go", *LATER)
        self.assertFalse(self.value("SELECT relispartition FROM pg_class WHERE oid = 'old.log_2026_03'::regclass"))

    def test_number_keys_are_ahead_by_their_growth(self):
        self.sql("CREATE TABLE apiary.scan (id bigint PRIMARY KEY) PARTITION BY RANGE (id)")
        self.layout(
            '[[layout]]\ntable = "apiary.scan"\nby = "range"\nkey = ["id"]\nspan = 1000\nfrom = 0\nahead = "3 days"\n'
        )
        first = self.slabrow("tend", "--go", "--now", "2026-03-01").stdout
        self.assertIn("one span is kept ahead", first)
        self.sql("INSERT INTO apiary.scan SELECT generate_series(0, 1499)")
        done = self.json("tend", "--go", "--now", "2026-03-02")  # 1,499 keys in a day
        self.assertEqual(6, self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'apiary.scan'::regclass"))
        self.assertIn("3 days, 4497 keys as it grows now", done["actions"][0]["reason"])
        self.assertEqual(
            [], self.json("tend", "--go", "--now", "2026-09-01")["actions"]
        )  # after months it is not forgotten
        self.layout('[ledger]\nschema = ""\n' + (self.folder / "slabrow.toml").read_text())
        self.assertIn("needs the ledger", self.slabrow("tend", "--now", "2026-09-02").stdout)

    def test_new_values_of_a_list_get_partitions_of_their_own(self):
        self.sql(
            "CREATE TABLE apiary.event (coop text) PARTITION BY LIST (coop); CREATE TABLE apiary.event_rest PARTITION OF apiary.event DEFAULT;"
            "INSERT INTO apiary.event SELECT v FROM unnest(ARRAY['A1', 'B ''2', 'Ü', NULL]) v, generate_series(1, 5)"
        )
        self.layout('[[layout]]\ntable = "apiary.event"\nby = "list"\nkey = ["coop"]\ncatch_all = true\n')
        done = self.json("tend", "--go")
        self.assertEqual([("sweep", 5)] * 3, [(each["kind"], each["rows"]) for each in done["actions"]])
        self.assertEqual([(None,)] * 5, self.sql("SELECT coop FROM apiary.event_rest"))
        self.assertEqual([], self.json("tend", "--go")["actions"])
        self.sql("INSERT INTO apiary.event SELECT 'v' || n FROM generate_series(1, 60) n")
        many = self.json("tend", "--go", code=1)
        self.assertEqual(([], ["drift"]), (many["actions"], [each["code"] for each in many["findings"]]))

    def test_lines_of_a_log_and_measures_over_http(self):
        self.write(ahead="4 months")
        text = self.slabrow("tend", "--go", "--log", "text", *NOW).stderr
        self.assertRegex(text, r"(?m)^2\S+ done create apiary\.log_2026_06 duration_ms=[\d.]+ lock_waits=0$")
        process = self.begin("tend", "--every", "1s", "--serve", "19188", "--log", "json")
        end = time.monotonic() + 60
        while b"slabrow_partitions" not in (body := self.scraped("http://127.0.0.1:19188/metrics")):
            self.assertLess(time.monotonic(), end, body)
            time.sleep(0.2)
        taken = self.slabrow("tend", "--every", "1s", "--serve", "19188", code=2).stderr
        self.assertIn("Address already in use", taken)
        process.send_signal(signal.SIGTERM)
        process.communicate(timeout=20)
        self.assertIsNotNone(re.search(rb'slabrow_lock_waits\{server="",table="apiary.log"\} 0.0', body))

    @staticmethod
    def scraped(url):
        done = subprocess.run(["curl", "-s", url], capture_output=True)
        return done.stdout
