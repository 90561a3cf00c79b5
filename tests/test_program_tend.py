"""Upkeep under trouble: locks held, killed midway, two at once, wrong clocks, strangers; and five years day by day."""

import re
import threading
import time
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import psycopg

from slabrow.core.table.bounds import Range
from slabrow.core.table.spans import parse_span
from slabrow.core.upkeep.reconcile import reconcile
from slabrow.core.values.key_values import Kind
from slabrow.demo.schema import LAYOUTS
from slabrow.files.layout_file import parse_layouts
from tests.support import DatabaseTest, run
from tests.test_core_reconcile import applied, tree_of
from tests.test_program_convert import layout

NOW = ("--now", "2026-03-01")
LATER = ("--now", "2026-06-15")


class TendTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(
            "CREATE SCHEMA apiary; CREATE TABLE apiary.log (log_id bigint GENERATED ALWAYS AS IDENTITY, "
            "taken_at timestamptz NOT NULL, n int DEFAULT 7 CHECK (n > 0)) PARTITION BY RANGE (taken_at); "
            "CREATE INDEX ON apiary.log (n)"
        )
        self.write_layout(keep="2 months", ahead="2 months")
        self.slabrow("tend", "--go", *NOW)
        self.sql(
            "INSERT INTO apiary.log (taken_at) SELECT '2026-03-01'::timestamptz + n * interval '6 hours' "
            "FROM generate_series(0, 239) n"
        )

    def write_layout(self, **changes):
        # Half of the rows leave here, and whether the server has counted them by then is chance.
        self.layout(layout(**{"at_most_share": 0.9, **changes}))

    def tables(self):
        return [
            name
            for (name,) in self.sql(
                "SELECT relname::text FROM pg_class WHERE relnamespace = 'apiary'::regnamespace "
                "AND relkind IN ('r', 'p') ORDER BY 1"
            )
        ]

    def test_new_partitions_are_like_the_others(self):
        self.assertEqual(["log", "log_2026_03", "log_2026_04"], self.tables())
        self.sql("INSERT INTO apiary.log (taken_at) VALUES ('2026-04-15')")
        self.assertEqual((7, 241), self.sql("SELECT n, log_id FROM apiary.log_2026_04 ORDER BY log_id DESC")[0])
        self.assertEqual(1, self.value("SELECT count(*) FROM pg_indexes WHERE tablename = 'log_2026_04'"))
        with self.assertRaises(psycopg.errors.CheckViolation):
            self.sql(
                "INSERT INTO apiary.log_2026_04 (log_id, taken_at, n) OVERRIDING SYSTEM VALUE VALUES (1, '2026-04-15', -1)"
            )

    def test_new_partitions_take_what_their_siblings_have_of_their_own(self):
        self.sql(
            "ALTER TABLE apiary.log_2026_04 SET (fillfactor = 70, autovacuum_enabled = off); ALTER TABLE apiary.log_2026_04 REPLICA IDENTITY FULL;"
            "GRANT SELECT ON apiary.log_2026_04 TO reader WITH GRANT OPTION; GRANT INSERT ON apiary.log_2026_04 TO PUBLIC;"
            "ALTER TABLE apiary.log_2026_04 ENABLE ROW LEVEL SECURITY;"
            'CREATE POLICY "own 7" ON apiary.log_2026_04 AS RESTRICTIVE FOR SELECT TO reader, PUBLIC USING (n = 7);'
            "CREATE POLICY adding ON apiary.log_2026_04 FOR INSERT WITH CHECK (n < 9);"
            "CREATE POLICY knowing ON apiary.log_2026_04 USING (EXISTS (SELECT FROM apiary.log_2026_03 l "
            "WHERE l.n = log_2026_04.n)); SET allow_in_place_tablespaces = on"
        )
        self.sql(f"CREATE TABLESPACE {self.database}_disk LOCATION ''")
        self.sql(f"ALTER TABLE apiary.log_2026_04 SET TABLESPACE {self.database}_disk")
        self.write_layout(keep="2 months", ahead="3 months")
        done = self.json("tend", "--go", *NOW)
        (finding,) = done["findings"]
        self.assertEqual("policy", finding["code"])
        self.assertIn("knowing", finding["text"])
        self.sql("DROP POLICY knowing ON apiary.log_2026_04")
        for wanted in (
            "SELECT reloptions, relreplident::text, relacl::text, relrowsecurity, reltablespace <> 0 FROM pg_class "
            "WHERE oid = %s::regclass",
            "SELECT polname, polcmd::text, polpermissive, polroles, pg_get_expr(polqual, polrelid), "
            "pg_get_expr(polwithcheck, polrelid) FROM pg_policy WHERE polrelid = %s::regclass ORDER BY 1",
        ):
            self.assertEqual(self.sql(wanted, "apiary.log_2026_04"), self.sql(wanted, "apiary.log_2026_05"))
        self.assertTrue(self.value("SELECT reltablespace <> 0 FROM pg_class WHERE relname = 'log_2026_05'"))

    def test_published_one_by_one_and_as_a_whole(self):
        self.sql(
            "CREATE PUBLICATION whole FOR TABLE apiary.log; CREATE PUBLICATION parts FOR TABLE ONLY apiary.log_2026_04;"
            "CREATE ROLE keeper LOGIN; GRANT ALL ON SCHEMA slabrow, apiary TO keeper; GRANT ALL ON ALL TABLES IN SCHEMA slabrow TO keeper;"
            "ALTER TABLE apiary.log OWNER TO keeper; ALTER TABLE apiary.log_2026_04 OWNER TO keeper"
        )
        self.addCleanup(self.sql, "DROP OWNED BY keeper CASCADE; DROP ROLE keeper")
        self.write_layout(keep="2 months", ahead="3 months")
        self.slabrow("tend", "--go", *NOW)
        published = "SELECT tablename::text FROM pg_publication_tables WHERE pubname = %s ORDER BY 1"
        self.assertEqual([("log_2026_04",), ("log_2026_05",)], self.sql(published, "parts"))
        self.assertIn(("log_2026_05",), self.sql(published, "whole"))
        self.sql("ALTER TABLE apiary.log_2026_05 OWNER TO keeper")
        self.write_layout(keep="2 months", ahead="4 months")
        done = self.json("tend", "--go", *NOW, dsn=self.dsn_as("keeper"))
        self.assertEqual(["publication"], [each["code"] for each in done["findings"]])
        self.assertIn("apiary.log_2026_06", done["findings"][0]["text"])

    def test_detached_partitions_stay_and_dropped_ones_go(self):
        for past_keep, stays in [("detach", True), ("drop", False)]:
            with self.subTest(past_keep):
                self.write_layout(at_most_share=1.0, keep="2 months", ahead="2 months", past_keep=past_keep)
                now = {"detach": "2026-06-15", "drop": "2026-07-15"}[past_keep]
                self.sql("INSERT INTO apiary.log (taken_at) VALUES ('2026-07-01')") if past_keep == "drop" else None
                done = self.json("tend", "--go", "--now", now)
                self.assertIn(past_keep, [action["kind"] for action in done["actions"]])
                name = {"detach": "log_2026_03", "drop": "log_2026_04"}[past_keep]
                self.assertEqual(stays, name in self.tables())
                self.assertEqual([], self.json("tend", "--now", now)["actions"])
        self.assertEqual(124, self.value("SELECT count(*) FROM apiary.log_2026_03"))

    def test_the_last_rows_never_leave_by_a_wrong_clock(self):
        error = self.json("tend", "--go", "--now", "2036-01-01", code=4)["errors"][0]
        self.assertIn("would leave apiary.log without rows", error["problem"])
        self.assertEqual(240, self.value("SELECT count(*) FROM apiary.log"))

    def test_a_stranger_is_left_alone_and_rows_in_the_way_are_told(self):
        self.sql("CREATE TABLE apiary.strange PARTITION OF apiary.log FOR VALUES FROM ('2025-01-10') TO ('2025-02-20')")
        self.sql(
            "CREATE TABLE apiary.log_rest PARTITION OF apiary.log DEFAULT; INSERT INTO apiary.log (taken_at) VALUES ('2026-06-01')"
        )
        self.write_layout(keep="2 months", ahead="2 months", catch_all=True)
        done = self.json("tend", "--go", "--now", "2026-05-02")
        self.assertEqual(["undeclared_partition"], [finding["code"] for finding in done["findings"]])
        states = {action["partition"]: (action["state"], action["text"]) for action in done["actions"]}
        self.assertEqual("done", states["apiary.log_2026_05"][0])
        self.assertEqual("done", states["apiary.log_2026_06"][0])
        self.assertEqual(1, self.value("SELECT count(*) FROM apiary.log_2026_06"))
        self.assertIn("apiary", done["actions"][0]["statements"][1])
        self.assertIn("strange", self.tables())

    def test_a_failure_on_one_table_does_not_stop_the_others(self):
        self.sql(
            "CREATE SCHEMA hidden; CREATE TABLE hidden.log (taken_at timestamptz) PARTITION BY RANGE (taken_at);"
            "GRANT ALL ON SCHEMA apiary, slabrow TO reader; GRANT ALL ON ALL TABLES IN SCHEMA slabrow TO reader; "
            "ALTER TABLE apiary.log OWNER TO reader"
        )
        troubled = layout("apiary.gone", ahead="1 month") + layout("hidden.log", ahead="1 month")
        self.layout(troubled + layout(keep="2 months", ahead="4 months"))
        done = self.json("tend", "--go", *NOW, code=3, dsn=self.dsn_as("reader"))
        problems = {error["table"]: error["found"] for error in done["errors"]}
        self.assertEqual(["apiary.gone", "hidden.log"], list(problems))
        self.assertIn("permission denied for schema hidden", problems["hidden.log"])
        self.assertEqual(2, len(done["actions"]))
        rows = self.slabrow("tend", "--format", "csv", *NOW, code=3, dsn=self.dsn_as("reader"))
        self.assertIn("hidden.log: could not read the catalogue: permission denied for schema hidden", rows.stderr)

    def test_of_many_tables_those_that_need_something_get_it_wherever_they_stand(self):
        names = [f"apiary.log_of_{place:02d}" for place in range(60)]
        for name in names[:-1]:  # the last one is not there
            self.sql(f"CREATE TABLE {name} (taken_at timestamptz) PARTITION BY RANGE (taken_at)")
        self.sql("CREATE TABLE apiary.scan (scan_id int) PARTITION BY RANGE (scan_id)")
        numbered = (
            '[[layout]]\ntable = "apiary.scan"\nby = "range"\nkey = ["scan_id"]\nspan = 10\nfrom = 0\nahead = 20\n'
        )
        self.layout(numbered + "\n".join(layout(table=name, ahead="2 months") for name in names))
        self.slabrow("tend", "--go", *NOW, code=2)
        lacking = [names[3], names[30], names[50]]
        for name in lacking:
            self.sql(f"DROP TABLE {name}_2026_04")
        again = self.json("tend", "--go", *NOW, code=2)
        self.assertEqual([f"{name}_2026_04" for name in lacking], [each["partition"] for each in again["actions"]])
        self.assertEqual([names[-1]], [each["table"] for each in again["errors"]])
        heads = re.findall(r"(?m)^(\S+) at", self.slabrow("tend", *NOW, code=2).stdout)
        self.assertEqual(["apiary.scan", *names], heads, "in the order of the file")
        self.layout(numbered)
        self.assertEqual("apiary.scan at 2026-03-01 00:00+00: nothing to do\n", self.slabrow("tend", *NOW).stdout)

    def test_a_lock_held_for_long_delays_neither_writers_nor_the_end(self):
        with psycopg.connect(self.dsn) as holder, psycopg.connect(self.dsn, autocommit=True) as writer:
            holder.execute("SELECT count(*) FROM apiary.log")  # an open transaction of a reader
            waits, ended = [], threading.Event()

            def write():
                while not ended.is_set():
                    began = time.monotonic()
                    writer.execute("INSERT INTO apiary.log (taken_at) VALUES ('2026-04-02')")
                    waits.append(time.monotonic() - began)
                    time.sleep(0.002)

            thread = threading.Thread(target=write)
            thread.start()
            began = time.monotonic()
            done = self.json("tend", "--go", "--lock-wait", "100ms", *LATER, code=3)
            blocked_s = time.monotonic() - began
            ended.set()
            thread.join()
        states = {action["partition"]: action["state"] for action in done["actions"]}
        self.assertEqual(("done", "failed"), (states["apiary.log_2026_07"], states["apiary.log_2026_03"]))
        self.assertLess(max(waits), blocked_s / 3)
        self.json("tend", "--go", *LATER)  # also finishes what was left half detached
        self.assertEqual(([], 1), (self.json("tend", *LATER)["actions"], self.tables().count("log_2026_03")))

    def test_an_interrupted_detach_is_finished(self):
        with psycopg.connect(self.dsn) as holder, psycopg.connect(self.dsn, autocommit=True) as other:
            holder.execute("SELECT count(*) FROM apiary.log")
            other.execute("SET statement_timeout = '300ms'")
            with self.assertRaises(psycopg.errors.QueryCanceled):
                other.execute("ALTER TABLE apiary.log DETACH PARTITION apiary.log_2026_03 CONCURRENTLY")
        census = self.json("census", "apiary.log", code=1)
        self.assertIn("detach_unfinished", [finding["code"] for finding in census["findings"]])
        self.json("tend", "--go", *LATER)
        self.assertEqual(0, self.value("SELECT count(*) FROM pg_inherits WHERE inhdetachpending"))
        self.assertEqual(124, self.value("SELECT count(*) FROM apiary.log_2026_03"))

    def test_two_at_once_do_no_harm(self):
        codes = []
        threads = [
            threading.Thread(
                target=lambda: codes.append(
                    run(
                        "tend", "--go", "--lock-wait", "20s", *LATER, env={"SLABROW_DSN": self.dsn}, cwd=self.folder
                    ).returncode
                )
            )
            for _ in range(4)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([0, 0, 0, 0], codes)
        self.assertEqual([], self.json("tend", *LATER)["actions"])

    def test_killed_at_any_moment_the_next_run_finishes(self):
        self.write_layout(span="1 day", keep="20 days", ahead="60 days", past_keep="drop")
        self.sql("TRUNCATE apiary.log; INSERT INTO apiary.log (taken_at) VALUES ('2026-04-20')")
        kept, midway = 1, 0
        for round_ in range(8):
            moment = ("--now", f"2026-05-{round_ + 1:02d}")
            midway += self.is_killed_midway(3 * round_ + 1, "tend", "--go", *moment)
        self.assertGreaterEqual(midway, 1, "kills that found the program at work")
        self.json("tend", "--go", "--lock-wait", "10s", "--now", "2026-05-08")
        self.assertEqual([], self.json("tend", "--now", "2026-05-08")["actions"])
        self.assertEqual([], self.json("census", "apiary.log", "--exact")["findings"])
        self.assertEqual(kept, self.value("SELECT count(*) FROM apiary.log"))
        orphans = self.value(
            "SELECT count(*) FROM pg_class WHERE relnamespace = 'apiary'::regnamespace AND relkind = 'r' "
            "AND NOT relispartition AND relname NOT IN ('log_2026_03', 'log_2026_04')"
        )
        self.assertEqual(0, orphans)

    def test_number_keys_go_ahead_of_the_greatest(self):
        self.sql("CREATE TABLE apiary.scan (n bigint NOT NULL) PARTITION BY RANGE (n)")
        self.layout(layout("apiary.scan", key=["n"], span=100, ahead=150, keep=300))
        self.slabrow("tend", "--go", *NOW)
        self.sql("INSERT INTO apiary.scan VALUES (110)")
        for expected in (["scan_200"], []):
            done = self.json("tend", "--go", *NOW)
            self.assertEqual(
                [f"apiary.{name}" for name in expected], [action["partition"] for action in done["actions"]]
            )
        self.sql("INSERT INTO apiary.scan VALUES (299)")
        self.slabrow("tend", "--go", *NOW)
        self.sql("INSERT INTO apiary.scan VALUES (405)")
        done = self.json("tend", "--go", *NOW)
        self.assertEqual(["create", "detach"], [action["kind"] for action in done["actions"]])


class FiveYearsTest(DatabaseTest):
    def test_every_day_what_must_be_there_is_and_the_number_stays_bounded(self):
        reading = parse_layouts(LAYOUTS, "slabrow.toml")[0]
        tree = tree_of(reading, Kind.TIMESTAMPTZ)
        for day in range(5 * 365 + 2):
            now = datetime(2025, 3, 1, 3, tzinfo=UTC) + timedelta(days=day)
            tree = applied(tree, reconcile(reading, tree, now).actions)
            for ahead in (0, 30, 88):
                self.assertIsInstance(tree.home((now + timedelta(days=ahead),)).bounds, Range)
            oldest = date(now.year - 1 - (now.month == 1), (now.month - 2) % 12 + 1, 1)  # 13 months behind
            if day > 400:
                self.assertIsInstance(
                    tree.home(
                        (datetime(oldest.year, oldest.month, now.day if now.day < 28 else 28, 12, tzinfo=UTC),)
                    ).bounds,
                    Range,
                )
            self.assertLessEqual(len(tree.leaves), 19)

    def test_in_every_zone_over_leap_days_year_ends_week_53_and_clocks_that_change(self):
        reading = parse_layouts(LAYOUTS, "slabrow.toml")[0]
        for zone in ("America/New_York", "Asia/Tokyo", "Europe/Berlin", "Australia/Lord_Howe", "Pacific/Kiritimati"):
            for span, most in [("1 day", 130), ("1 week", 26), ("1 month", 9)]:
                declared = replace(
                    reading,
                    zone=zone,
                    span=parse_span(span),
                    keep=parse_span("3 months"),
                    ahead=parse_span("1 month"),
                    from_=None,
                )
                tree = tree_of(declared, Kind.TIMESTAMPTZ)
                for day in range(430):  # from the last days of 2026, a year of 53 weeks, past the leap day of 2028
                    now = datetime(2026, 12, 27, 4, 30, tzinfo=UTC) + timedelta(days=day)
                    tree = applied(tree, reconcile(declared, tree, now).actions)
                    homes = [tree.home((now + timedelta(hours=hours),)) for hours in (-25, -1, 0, 1, 25, 24 * 27)]
                    with self.subTest(zone, span=span, now=now):
                        # Nothing lies before the first day of a table that began today.
                        self.assertTrue(
                            all(
                                home is not None and isinstance(home.bounds, Range)
                                for home in homes[2 if day == 0 else 1 :]
                            )
                        )
                        self.assertLessEqual(len(tree.leaves), most)
                self.assertEqual((), reconcile(declared, tree, now).actions)
