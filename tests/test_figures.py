"""Figures that are shown, each against plain SQL; values beyond the calendar; what a pretended day and a hold may do."""

import json
import os
import signal
import subprocess
import sys
import xml.etree.ElementTree

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import PROGRAM, DatabaseTest, run
from tests.test_program_convert import layout

FAR = (
    "0044-03-15 BC", "4713-01-01 BC", "0001-12-31 BC", "0001-01-01", "1582-10-15", "1999-12-31", "2000-01-01", "9999-12-31", "10000-01-01",
    "100000-02-29", "294276-12-31", "infinity", "-infinity", "2024-02-29",
)  # fmt: skip
PARTED = """
CREATE TABLE event (event_id bigint NOT NULL, at timestamptz NOT NULL, coop int, note text) PARTITION BY RANGE (at);
CREATE TABLE event_1 PARTITION OF event FOR VALUES FROM ('2026-01-01 00:00+00') TO ('2026-02-01 00:00+00');
CREATE TABLE event_2 PARTITION OF event FOR VALUES FROM ('2026-02-01 00:00+00') TO ('2026-03-01 00:00+00');
CREATE TABLE event_3 PARTITION OF event FOR VALUES FROM ('2026-03-01 00:00+00') TO ('2026-04-01 00:00+00');
CREATE INDEX ON event (at); CREATE INDEX ON event (coop);
INSERT INTO event SELECT n, timestamptz '2026-01-01 00:00+00' + n * interval '7 minutes', n % 9, repeat('x', n % 90) FROM generate_series(0, 12000) n;
"""


class FarValuesTest(DatabaseTest):
    def test_each_goes_where_the_server_puts_it(self):
        for kind, values in (("date", FAR), ("timestamp", FAR), ("timestamptz", [f"{each}" for each in FAR])):
            for by, parts in (
                ("HASH (k)", [f"FOR VALUES WITH (MODULUS 5, REMAINDER {n})" for n in range(5)]),
                ("RANGE (k)", ["FOR VALUES FROM (MINVALUE) TO ('0100-01-01 BC')", "FOR VALUES FROM ('0100-01-01 BC') TO ('1999-12-31')",
                               "FOR VALUES FROM ('1999-12-31') TO ('20000-01-01')", "FOR VALUES FROM ('20000-01-01') TO (MAXVALUE)"]),
                ("LIST (k)", ["FOR VALUES IN ('0044-03-15 BC', '10000-01-01')", "FOR VALUES IN ('infinity')", "DEFAULT"]),
            ):  # fmt: skip
                self.sql(
                    f"SET timezone = 'UTC'; DROP TABLE IF EXISTS far; CREATE TABLE far (k {kind}) PARTITION BY {by}"
                )
                for number, bound in enumerate(parts):
                    self.sql(f"CREATE TABLE far_{number} PARTITION OF far {bound}")
                usable = [each for each in values if not (kind != "date" and each.startswith("294276"))]
                self.sql(f"INSERT INTO far SELECT unnest(%s::text[])::{kind}", usable)
                homes = dict(self.sql("SELECT k::text, tableoid::regclass::text FROM far"))
                texts = list(homes)
                with self.subTest(kind, by=by):
                    said = self.slabrow("route", "--table", "far", "--format", "json", "--", *texts).stdout
                    routed = json.loads(said)
                    self.assertEqual(
                        homes, dict(zip(texts, [each["partition"] for each in routed["routes"]], strict=True))
                    )
                    counted = self.json("census", "far", "--exact", code=(1 if by.startswith("LIST") else 0))
                    self.assertEqual(len(texts), sum(each["rows"] for each in counted["partitions"]))
                    (self.folder / "q.sql").write_text(
                        "".join(
                            f"-- name: {n}\nSELECT * FROM far WHERE k = '{text}';\n" for n, text in enumerate(texts)
                        )
                    )
                    for each in self.json("prove", "--queries", "q.sql")["queries"]:
                        self.assertLessEqual(
                            set(each["planned"]), set(each["predicted"] or each["planned"]), texts[int(each["name"])]
                        )

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.integers(-2_451_545, 109_203_527), min_size=1, max_size=40))
    def test_hashes_of_any_day(self, days):
        connection = self.shared()
        texts = [
            text
            for (text,) in connection.execute("SELECT (date '2000-01-01' + d)::text FROM unnest(%s::int[]) d", [days])
        ]
        expected = [
            number for (number,) in connection.execute(
                "SELECT min(r) FROM unnest(%s::date[]) WITH ORDINALITY AS d (k, n), generate_series(0, 6) r "
                "WHERE satisfies_hash_partition('days'::regclass, 7, r, k) GROUP BY n ORDER BY n", [texts])
        ]  # fmt: skip
        done = run("route", "--by", "hash", "--types", "date", "--parts", "7", "--format", "json", "--", *texts)
        self.assertEqual(expected, [each["remainder"] for each in json.loads(done.stdout)["routes"]], done.stderr)

    def shared(self):
        self.sql("CREATE TABLE IF NOT EXISTS days (k date) PARTITION BY HASH (k); SET timezone = 'UTC'")
        return self.connection


class FiguresTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(PARTED + "ANALYZE event, event_1, event_2, event_3")

    def test_of_a_partitioned_table(self):
        sizes = self.sql(
            "SELECT sum(pg_table_size(relid))::bigint, sum(pg_indexes_size(relid))::bigint FROM pg_partition_tree('event') WHERE isleaf"
        )[0]
        for options in ((), ("--exact",), ("--sample", "100")):
            with self.subTest(options):
                seen = self.json("survey", "event", *options)
                self.assertEqual(12_001, seen["rows"])
                self.assertEqual(sum(sizes), seen["bytes"])
                self.assertEqual(sizes[1], seen["index_bytes"])
                months = {each["from"][:7]: each["rows"] for each in seen["counts"]["buckets"]}
                for month, rows in self.sql(
                    "SELECT to_char(at AT TIME ZONE 'UTC', 'YYYY-MM'), count(*) FROM event GROUP BY 1"
                ):
                    self.assertAlmostEqual(rows, months[month], delta=0 if options else rows * 0.03)
        counted = {each["name"]: each["rows"] for each in self.json("census", "event", "--exact")["partitions"]}
        self.assertEqual(
            {"event_3": 0, **dict(self.sql("SELECT tableoid::regclass::text, count(*) FROM event GROUP BY 1"))}, counted
        )

    def test_infinite_times_are_counted_apart(self):
        self.sql(
            "CREATE TABLE visit (at timestamptz); INSERT INTO visit SELECT timestamptz '2026-01-05' + n * interval '1 day' FROM generate_series(0, 49) n;"
            "INSERT INTO visit SELECT 'infinity' FROM generate_series(1, 7); INSERT INTO visit VALUES ('-infinity'), (NULL); ANALYZE visit"
        )
        counted = self.json("survey", "visit", "--exact")["counts"]
        self.assertEqual(
            (50, 8, 1), (sum(each["rows"] for each in counted["buckets"]), counted["outside"], counted["nulls"])
        )
        self.assertIn("8 rows with a time that no calendar holds", self.slabrow("survey", "visit", "--exact").stdout)
        self.assertIn("no lowest and highest value", self.slabrow("survey", "visit").stdout)

    def test_a_new_partition_makes_nothing_forgotten(self):
        self.layout(layout("public.event", key=["at"], ahead="2 months"))
        before = self.json("survey", "event")["rows"]
        self.slabrow("tend", "--go", "--now", "2026-03-20")
        self.assertEqual(before, self.json("survey", "event")["rows"])
        self.sql(
            "INSERT INTO event SELECT n, timestamptz '2026-04-01' + n * interval '1 second', 1, '' FROM generate_series(1, 20000) n"
        )
        after = self.json("survey", "event")
        self.assertAlmostEqual(32_000, after["rows"], delta=16_000)
        self.assertIn("event_2026_04", " ".join(after["notes"]))
        named = [
            each["partition"]
            for each in self.json("census", "event", code=1)["findings"]
            if each["code"] == "no_statistics"
        ]
        self.assertEqual(["event_2026_04"], named)

    def test_growth_is_what_came_a_day(self):
        """Even days, days that differ by chance, and a table whose statistics are older than half of its rows."""
        for what, column in (
            ("even", "n * interval '7 minutes'"),
            ("uneven", "(n + 900 * sin(n / 700.0)) * interval '7 minutes'"),
        ):
            self.sql(
                f"DROP TABLE IF EXISTS grows; CREATE TABLE grows (at timestamptz NOT NULL); INSERT INTO grows SELECT timestamptz '2026-01-01' + {column} FROM generate_series(0, 12000) n; ANALYZE grows"
            )
            for stale in (False, True):
                if stale:
                    self.sql("INSERT INTO grows SELECT at FROM grows")
                with self.subTest(what, stale=stale):
                    grown = self.json("survey", "grows", "--now", "2026-03-01")["growth"]
                    true = float(self.value("SELECT 12001 / extract(epoch FROM max(at) - min(at)) * 86400 FROM grows"))
                    self.assertLess(
                        abs(grown["rows_a_day"] - true), max(2 * grown["uncertainty_rows_a_day"], 0.05 * true), grown
                    )

    def test_rows_read_of_a_run(self):
        (self.folder / "q.sql").write_text("-- name: a\nSELECT * FROM event WHERE coop = 3 AND at < '2026-02-01';")
        (found,) = self.json("prove", "--queries", "q.sql", "--run")["queries"]
        self.assertEqual(
            self.value("SELECT count(*) FROM event WHERE coop = 3 AND at < '2026-02-01'"),
            found["measured"]["rows_returned"],
        )
        self.assertEqual(["event_1"], found["executed"])


class LimitsTest(DatabaseTest):
    def test_a_limit_that_cannot_be_checked_fails(self):
        self.sql("CREATE TABLE plain (k int); " + PARTED)
        (self.folder / "q.sql").write_text(
            "-- name: plain\n-- touches: <= 1\nSELECT * FROM plain;\n-- name: gone\n-- touches: <= 1\nSELECT * FROM nowhere;\n"
            "-- name: fine\n-- touches: <= 1\nSELECT * FROM event WHERE at = '2026-01-05';\n-- name: free\nSELECT 1;\n"
        )
        done = self.json("prove", "--queries", "q.sql", "--junit", "j.xml", code=1)
        self.assertEqual(
            {"plain": False, "gone": False, "free": None}, {each["name"]: each["ok"] for each in done["unproven"]}
        )
        root = xml.etree.ElementTree.parse(self.folder / "j.xml").getroot()
        self.assertEqual(
            ["gone", "plain"],
            sorted(
                case.get("name")
                for case in root.iter("testcase")
                if case.find("failure") is not None or case.find("error") is not None
            ),
        )
        text = self.slabrow("prove", "--queries", "q.sql", code=1).stdout
        self.assertRegex(text, r"plain .*touches no partitioned table")


class ClockTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(PARTED + "ANALYZE event")
        self.layout(
            layout("public.event", key=["at"], keep="3 months", ahead="1 month", past_keep="drop", at_most_share=0.99)
        )

    def test_a_pretended_day_needs_a_word_and_is_kept_apart(self):
        go = ("tend", "--go", "--now", "2026-04-20")
        refused = run(*go, env={"SLABROW_DSN": self.dsn}, cwd=self.folder, pretends=False)
        self.assertEqual(4, refused.returncode)
        self.assertIn("--pretend", refused.stderr)
        self.assertEqual(3, self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'event'::regclass"))
        self.slabrow(*go)
        entries = self.json("history")["entries"]
        self.assertEqual({False}, {each["machine_clock"] for each in entries})
        self.assertIn("with --now 2026-04-20", self.slabrow("history").stdout)
        said = self.attempt("tend")  # today: no clock went backwards
        self.assertNotIn("backwards", said.stdout + said.stderr)
        for command in (("convert",), ("build",)):
            self.layout(layout("public.other", key=["at"]))
            self.sql("DROP TABLE IF EXISTS other; CREATE TABLE other (at timestamptz NOT NULL)")
            done = run(
                *command, "--go", "--now", "2026-03-01", env={"SLABROW_DSN": self.dsn}, cwd=self.folder, pretends=False
            )
            self.assertEqual(4, done.returncode, done.stdout + done.stderr)

    def test_nothing_is_held_or_let_go_without_go(self):
        for option in ("--hold", "--end-hold"):
            self.assertIn("--go", self.slabrow("tend", option, "event_1", code=1).stdout)
            self.assertIsNone(self.value("SELECT to_regclass('slabrow.ledger')"))
        self.slabrow("tend", "--hold", "event_1", "--go")
        self.slabrow("tend", "--end-hold", "event_1", code=1)
        self.assertEqual(["hold"], [each["kind"] for each in self.json("history")["entries"]])


class OutputTest(DatabaseTest):
    def test_a_closed_or_full_output_ends_without_a_trace(self):
        self.sql(PARTED)
        environment = {**os.environ, "SLABROW_DSN": self.dsn}
        for redirected, code in (("> /dev/full", {2, 3}), (">&-", {0, 2, 3}), ("2>&-", {0}), ("| head -c 1", {0})):
            with self.subTest(redirected):
                done = subprocess.run(
                    f"'{PROGRAM}' census event --exact --format csv {redirected}",
                    shell=True,
                    env=environment,
                    cwd=self.folder,
                    capture_output=True,
                    text=True,
                    timeout=60,
                )
                self.assertIn(done.returncode, code, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
                self.assertNotIn("Exception ignored", done.stderr)

    def test_ctrl_c_at_any_moment_of_a_start_is_one_line(self):
        self.sql(PARTED)
        for moment in (0.01, 0.03, 0.06, 0.1, 0.15, 0.2, 0.3, 0.4):
            program = (
                "import os, signal, sys, threading; signal.signal(signal.SIGINT, signal.default_int_handler);"
                "sys.argv = ['slabrow', 'survey', 'event', '--exact']; from slabrow.cli.entry import main;"
                f"threading.Timer({moment}, os.kill, (os.getpid(), signal.SIGINT)).start(); main()"
            )
            done = subprocess.run(
                [sys.executable, "-c", program], env={**os.environ, "SLABROW_DSN": self.dsn}, capture_output=True, text=True, timeout=20
            )  # fmt: skip
            with self.subTest(moment):
                self.assertNotIn("Traceback", done.stderr)
                self.assertIn(done.returncode, (0, 5, -signal.SIGINT))
