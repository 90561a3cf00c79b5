"""The workload: shapes without literals, server logs in every form as a real server writes them, and what is broken."""

import csv
import gzip
import io
import json
import random
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import psycopg
from hypothesis import given, settings
from hypothesis import strategies as st

from slabrow.core.sql.statement_shapes import exact_shape_of, filled, literals_of, marked, rough_shape_of, shape_of
from slabrow.core.values.errors import UsageError
from slabrow.core.weighing.workload import SAMPLES, Collector
from slabrow.files.log_segments import segments
from slabrow.files.server_log import read_log
from slabrow.servers.postgresql.private.server import start
from tests.support import binaries

CASES = [
    ("numbers and texts", "SELECT 1 FROM t WHERE k = 'a''b' AND n1 >= -2.5", "SELECT ? FROM t WHERE k = '?' AND n1 >= -?", ("1", "a'b", "2.5")),
    ("white space", "SELECT *\n\tFROM  t", "SELECT * FROM t", ()),
    ("lists of any length", "SELECT 1 FROM t WHERE k IN (1, 2,3)", "SELECT ? FROM t WHERE k IN (?…)", ("1", "1", "2", "3")),
    ("quoted names", 'SELECT "1 a" FROM "t\'s" WHERE k2 = 7', 'SELECT "1 a" FROM "t\'s" WHERE k2 = ?', ("7",)),
    ("parameters", "SELECT $1::int + 5", "SELECT $1::int + ?", ("5",)),
    ("comments", "SELECT /* 5 'x' */ 1 -- it's", "SELECT ?", ("1",)),
    ("escapes", r"SELECT E'a\'b\n'", "SELECT '?'", ("a'b\n",)),
    ("dollar quotes", "SELECT $q$it's 5$q$, $$6$$", "SELECT '?', '?'", ("it's 5", "6")),
    ("exponents and points", "SELECT 1e5, 0.5, 1.25e-3", "SELECT ?, ?, ?", ("1e5", "0.5", "1.25e-3")),
    ("rows of an INSERT", "INSERT INTO t (a, b) VALUES (1, 'x'), (2, 'y')", "INSERT INTO t (a, b) VALUES (…)", ("1", "x", "2", "y")),
    ("Unicode", "SELECT 'käfer' FROM bienenstöcke2", "SELECT '?' FROM bienenstöcke2", ("käfer",)),
]  # fmt: skip


class ShapesTest(unittest.TestCase):
    def test_literals_are_taken_out_and_put_back(self):
        for what, sql, shape, literals in CASES:
            with self.subTest(what):
                self.assertEqual(shape, shape_of(sql))
                self.assertEqual(literals, literals_of(sql))
                if not sql.startswith("INSERT"):
                    self.assertEqual(exact_shape_of(sql), exact_shape_of(filled(marked(sql), literals)))

    def test_the_fast_way_never_joins_what_the_careful_way_tells_apart(self):
        for _, one, _, _ in CASES:
            for _, other, _, _ in CASES:
                if rough_shape_of(one) == rough_shape_of(other):
                    self.assertEqual(shape_of(one), shape_of(other))

    def test_the_sample_is_bounded_and_spread_over_all_runs(self):
        collector = Collector()
        for number in range(5_000):
            collector.add(f"SELECT 1 FROM t WHERE k = {number}", took_ms=2.0)
        (shape,) = collector.workload("test").shapes
        self.assertEqual((5_000, SAMPLES, 10_000.0), (shape.calls, len(shape.runs), shape.total_ms))
        numbers = [int(run.literals[1]) for run in shape.runs]
        self.assertGreater(max(numbers), 2_500)
        self.assertLess(min(numbers), 2_500)


def csv_line(message, detail="", database="apiary", level="LOG", session="s1"):
    row = ["2026-02-28 10:00:00.123 UTC", "app", database, "77", "[local]", session, "1", "SELECT", "x", "", "0", level, "00000",
           message, detail, "", "", "", "", "", "", "", "app", "client backend", "", "0"]  # fmt: skip
    buffer = io.StringIO()
    csv.writer(buffer, lineterminator="\n").writerow(row)
    return buffer.getvalue()


class AnyTextTest(unittest.TestCase):
    """Logs hold whatever people send: nothing in them may stop the reading."""

    @settings(max_examples=300, deadline=None)
    @given(st.text(alphabet="SELECT 1fromt'\"$-/*;(),.eE\\n\\\\é ", max_size=60))
    def test_any_text_has_a_shape_and_goes_back_together(self, text):
        shape = shape_of(text)
        self.assertEqual(shape, shape_of(text))
        literals = literals_of(text)
        whole = filled(marked(text), literals)
        if not text[:6].upper().startswith("INSERT"):
            self.assertEqual(literals, literals_of(whole))

    @settings(max_examples=60, deadline=None)
    @given(st.binary(max_size=400), st.sampled_from(["csv", "json", "log"]))
    def test_any_bytes_between_two_statements_leave_those_two(self, noise, form):
        message = "duration: 1.5 ms  statement: SELECT 1 FROM t"
        good = {
            "csv": csv_line(message).encode(),
            "json": json.dumps(
                {"timestamp": "2026-02-28 10:00:00 UTC", "error_severity": "LOG", "message": message}
            ).encode()
            + b"\n",
            "log": f"2026-02-28 10:00:00.000 UTC [7] app@db LOG:  {message}\n".encode(),
        }[form]
        noise = noise.replace(b'"', b"").replace(b"\t", b"")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"server.{form}"
            path.write_bytes(good + noise + b"\n" + good)
            found = read_log(path)
        self.assertGreaterEqual(found.statements, 2)
        self.assertIn("SELECT ? FROM t", [shape.text[:15] for shape in found.shapes])


class LogTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def read(self, name, text, database=None):
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return read_log(path, database)

    def test_what_counts_as_a_statement(self):
        lines = [
            csv_line("duration: 1.5 ms  statement: SELECT 1 FROM t WHERE k = 5"),
            csv_line("duration: 2.5 ms  execute S_1: SELECT 1 FROM t WHERE k = $1", "parameters: $1 = '17'"),
            csv_line("duration: 0.1 ms  bind S_1: SELECT 1 FROM t WHERE k = $1"),
            csv_line("duration: 9 ms  plan:\nQuery Text: SELECT 1 FROM t"),
            csv_line("statement: SELECT 2 FROM t", session="s2"),
            csv_line("duration: 7.25 ms", session="s2"),
            csv_line("statement: BEGIN"),
            csv_line("statement: SELECT 1 FROM elsewhere", database="other"),
            csv_line("SELECT 1 FROM t", level="ERROR"),
            csv_line("checkpoint starting: time"),
        ]
        found = self.read("log.csv", "".join(lines), "apiary")
        self.assertEqual(3, found.statements)
        self.assertEqual(1, found.left_out)
        times = {shape.text: shape.total_ms for shape in found.shapes}
        self.assertEqual(
            {"SELECT ? FROM t WHERE k = ?": 1.5, "SELECT ? FROM t WHERE k = $1": 2.5, "SELECT ? FROM t": 7.25}, times
        )
        self.assertEqual({("'17'",)}, {run.params for s in found.shapes for run in s.runs if run.params})

    def test_broken_lines_are_counted_and_the_rest_is_read(self):
        good = csv_line("duration: 1 ms  statement: SELECT 1 FROM t")
        cases = {
            "too few fields": good + "2026-02-28 10:00:00 UTC,app\n" + good,
            "a quote that is never closed": good * 2 + '2026-02-28 10:00:00 UTC,"app\n',
            "bytes that are no text": good.encode() + b"\xff\xfe,\x00\n" + good.encode(),
        }
        for what, text in cases.items():
            with self.subTest(what):
                found = self.read("log.csv", text)
                self.assertEqual((2, 1), (found.statements, found.broken))
        line = json.dumps(
            {
                "timestamp": "2026-02-28 10:00:00 UTC",
                "error_severity": "LOG",
                "message": "duration: 1 ms  statement: SELECT 1",
            }
        )
        found = self.read("log.json", f'{line}\n{line[:-9]}\n{{"timestamp"\nnot json\n{line}\n')
        self.assertEqual(2, found.statements)
        self.assertGreaterEqual(found.broken, 2)

    def test_packed_logs_and_files_that_are_none(self):
        found = self.read("log.csv.gz", gzip.compress(csv_line("statement: SELECT 1 FROM t").encode()))
        self.assertEqual(1, found.statements)
        for text in ("", "name,age\n1,2\n", "hello\n"):
            with self.subTest(text), self.assertRaises(UsageError):
                self.read("other.csv", text)
        with self.assertRaises(UsageError) as raised:
            self.read("log.csv", csv_line("checkpoint starting: time"))
        self.assertIn("log_min_duration_statement", raised.exception.fix)
        with self.assertRaises(UsageError):
            read_log(self.folder / "missing.csv")

    def test_several_processes_read_what_one_reads(self):
        """With cuts that fall on statements of many lines, on quotes, DETAILs, broken lines and times that follow."""
        draw = random.Random(3)
        entries = []
        for number in range(4_000):
            session = f"s{draw.randrange(6)}"
            nasty = f"SELECT {number % 7} AS p{number % 7},\n2026-02-28 10:00:00.123 UTC,\n'a \"\" b' FROM t WHERE k = {number}"
            if number % 5 == 0:
                entries += [(session, f"statement: {nasty}", ""), (session, "duration: 2.5 ms", "")]
            elif number % 5 == 1:
                entries.append(
                    (session, f"duration: 1.5 ms  execute x: {nasty} AND z = $1", "parameters: $1 = 'it''s'")
                )
            else:
                entries.append((session, f"duration: 1.25 ms  statement: {nasty}", ""))
        stamp = "2026-02-28 10:00:00.123 UTC"
        texts = {"csv": [], "json": [], "log": []}
        for number, (session, message, detail) in enumerate(entries):
            texts["csv"].append(csv_line(message, detail, session=session))
            entry = {"timestamp": stamp, "error_severity": "LOG", "message": message, "session_id": session}
            texts["json"].append(json.dumps(entry | ({"detail": detail} if detail else {})) + "\n")
            head = f"{stamp} [{session[1:]}] app@apiary "
            text = f"{head}LOG:  {message}\n" + (f"{head}DETAIL:  {detail}\n" if detail else "")
            texts["log"].append(text.replace("\n2026", "\n\t2026").replace("\n'a", "\n\t'a"))
            if number % 900 == 7:
                texts["csv"].append("2026-02-28 10:00:00 UTC,app\n")
                texts["json"].append('{"timestamp"\n')
        for form, lines in texts.items():
            for name in (f"big.{form}", f"big.{form}.gz"):
                path, text = self.folder / name, "".join(lines).encode()
                path.write_bytes(gzip.compress(text) if name.endswith(".gz") else text)
                with self.subTest(name), mock.patch("slabrow.files.server_log._STEP", 40_000):
                    stretches = segments(path, 3, {"log": "stderr"}.get(form, form), 40_000)
                    self.assertEqual(3, len(stretches))
                    alone, several = (read_log(path, "apiary", jobs=jobs) for jobs in (1, 3))
                    figures = [
                        {each.text: (each.calls, each.total_ms, len(each.runs)) for each in found.shapes}
                        for found in (alone, several)
                    ]
                    self.assertEqual(figures[0], figures[1])
                    self.assertEqual((alone.statements, alone.broken), (several.statements, several.broken))
                    self.assertEqual(4_000, alone.statements)

    def test_a_real_server_writes_the_same_workload_in_all_three_forms(self):
        server = start(binaries()[0], {"logging_collector": "on", "log_destination": "csvlog,jsonlog,stderr", "log_filename": "server.log",
                                       "log_line_prefix": "%m [%p] %q%u@%d ", "log_min_duration_statement": "0"})  # fmt: skip
        self.addCleanup(server.stop)
        with psycopg.connect(server.dsn, autocommit=True) as connection:
            connection.execute("CREATE TABLE t (k int, v text)")
            for number in range(5):
                connection.execute(
                    f"SELECT *\n  FROM t -- number {number}\n WHERE k = {number} AND v = 'it''s; {number}'"
                )
                connection.execute("SELECT 1 FROM t WHERE k = %s AND v = %s", [number, "a'b, $2 = 'c'"])
            connection.execute("INSERT INTO t VALUES (1, 'x'), (2, 'y')")
            folder = Path(connection.execute("SELECT current_setting('data_directory') || '/log'").fetchone()[0])
        # The collector writes what it was sent a moment later.
        for ending in ("csv", "json", "log"):
            deadline = time.monotonic() + 30
            while "data_directory" not in (folder / f"server.{ending}").read_text() and time.monotonic() < deadline:
                time.sleep(0.05)
        found = [read_log(folder / f"server.{ending}", "postgres") for ending in ("csv", "json", "log")]
        shapes = [{shape.text: shape.calls for shape in each.shapes if " t" in shape.text} for each in found]
        self.assertEqual(
            {
                "SELECT * FROM t WHERE k = ? AND v = '?'": 5,
                "SELECT ? FROM t WHERE k = $1 AND v = $2": 5,
                "INSERT INTO t VALUES (…)": 1,
            },
            shapes[0],
        )
        self.assertEqual(shapes[0], shapes[1])
        self.assertEqual(shapes[0], shapes[2])
        runs = [sorted(run.params for s in each.shapes if "$1" in s.text for run in s.runs) for each in found]
        self.assertEqual(("'0'", "'a''b, $2 = ''c'''"), runs[0][0])
        self.assertEqual(runs[0], runs[1])
        self.assertEqual(runs[0], runs[2])
