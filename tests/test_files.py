"""Files that people write: layout files with all faults at once, query files, scripts; and the SQL named in them."""

import os
import re
import unittest
from datetime import date

from slabrow.core.sql.mentions import retargeted, tables_in, target_of_insert
from slabrow.core.table.shape import with_key
from slabrow.core.values.errors import LayoutError, UsageError
from slabrow.core.values.names import Name
from slabrow.demo.schema import LAYOUTS
from slabrow.demo.workload import WORKLOAD
from slabrow.files.layout_file import KEYS, layout_text, parse_layouts
from slabrow.files.query_file import parse_queries
from tests.support import DatabaseTest

GOOD = '[[layout]]\ntable = "apiary.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\n'


class LayoutFileTest(unittest.TestCase):
    def faults(self, text):
        with self.assertRaises(LayoutError) as raised:
            parse_layouts(text, "slabrow.toml")
        return raised.exception.found

    def test_the_demo_file_is_read(self):
        reading, event, inspection = parse_layouts(LAYOUTS, "slabrow.toml")
        self.assertEqual((date(2025, 1, 1), "3 months", True), (reading.from_, str(reading.ahead), reading.catch_all))
        self.assertEqual((16, ("C1", "C2", "C3")), (event.parts, inspection.groups[1].values))

    def test_each_fault_is_told_with_its_line_and_the_fix(self):
        for what, text, line, hint in [
            ("unknown key", GOOD + 'aheed = "3 months"\n', 6, "did you mean `ahead`?"),
            ("missing key", '[[layout]]\ntable = "a.b"\nby = "hash"\nparts = 4\n', 1, "`key` is missing"),
            ("wrong type", GOOD + "catch_all = 1\n", 6, "true or false"),
            ("no strategy", GOOD.replace('"range"', '"rang"'), 3, "'range', 'list' or 'hash'"),
            ("bad span", GOOD.replace("1 month", "1 mont"), 5, "did you mean 1 months?"),
            ("no span", GOOD.replace('span = "1 month"\n', ""), 3, "needs a `span`"),
            ("contradiction", GOOD + "parts = 4\n", 6, 'belongs to by = "hash"'),
            ("bad zone", GOOD + 'zone = "Europe/Berlim"\n', 6, "'Europe/Berlin'"),
            ("quoted date", GOOD + 'from = "2025-01-01"\n', 6, "without quotes"),
            ("bad table", GOOD.replace("apiary.reading", "a.b.c"), 2, "is not the name of a table"),
            ("key twice", GOOD.replace('["taken_at"]', '["a", "a"]'), 4, "stands twice"),
            ("no key column", GOOD.replace('["taken_at"]', "[]"), 4, "names no column"),
            ("kinds of span mixed", GOOD + "keep = 5000\n", 6, "same kind"),
            ("pattern without bound", GOOD + 'partition_name = "{table}_x"\n', 6, "add it"),
            (
                "value in two groups",
                '[[layout]]\ntable="a.b"\nby="list"\nkey=["z"]\ngroups={x=["A"], y=["A"]}\n',
                5,
                "keep one",
            ),
            (
                "hash with a catch-all",
                '[[layout]]\ntable="a.b"\nby="hash"\nkey=["z"]\nparts=2\ncatch_all=true\n',
                6,
                "remove",
            ),
            ("one part", '[[layout]]\ntable="a.b"\nby="hash"\nkey=["z"]\nparts=1\n', 5, "2 or more"),
            ("list of two columns", '[[layout]]\ntable="a.b"\nby="list"\nkey=["z", "y"]\n', 4, "keep the first"),
            ("two layouts", GOOD + GOOD, 7, "has a layout already"),
            ("unknown table of TOML", GOOD + "[layouts]\nx = 1\n", 6, "[[layout]]"),
            ("single brackets", GOOD.replace("[[layout]]", "[layout]"), 1, "two brackets"),
            ("nothing", "", 1, "no [[layout]]"),
            ("half of a within", GOOD + 'within = { by = "hash" }\n', 6, "`key` is missing"),
            (
                "a range within",
                GOOD + 'within = { by = "range", key = ["b"], span = "1 day" }\n',
                6,
                "a range stands outside",
            ),
            (
                "upkeep within",
                GOOD + 'within = { by = "hash", key = ["b"], parts = 2, keep = "1 day" }\n',
                6,
                "not a key of `within`",
            ),
            (
                "a misspelt key within",
                GOOD + 'within = { by = "hash", key = ["b"], partz = 2 }\n',
                6,
                "did you mean `parts`",
            ),
        ]:
            with self.subTest(what):
                found = self.faults(text)
                self.assertIn(f"line {line}: ", found)
                self.assertIn(hint, found)

    def test_a_layout_is_written_as_it_is_read(self):
        for text in (
            GOOD,
            '[[layout]]\ntable = "a.b"\nby = "list"\nkey = ["k"]\ngroups = { "o\\"ne" = ["x", "ü"], two = [1, -2] }\ncatch_all = true\nwithin = { by = "hash", key = ["k"], parts = 3 }\n',
            '[[layout]]\ntable = \'"A b".c\'\nby = "range"\nkey = ["at", "id"]\nspan = "6 hours"\nzone = "Asia/Kolkata"\nfrom = 2025-01-01T06:00:00\nahead = "1 day"\nkeep = "1 quarter"\npast_keep = "drop"\nwithin = { by = "list", key = ["z"], groups = { a = ["1"] }, catch_all = true }\n',
        ):
            (layout,) = parse_layouts(text, "before")
            self.assertEqual((layout,), parse_layouts(layout_text(layout), "after"))

    def test_all_faults_are_told_at_once(self):
        found = self.faults(GOOD + 'aheed = "1"\n[[layout]]\ntable = "a.b"\nby = "hash"\nkey = ["x"]\nparts = "4"\n')
        self.assertEqual(["line 6", "line 11"], re.findall(r"^line \d+", found, re.MULTILINE))

    def test_broken_toml_names_the_place(self):
        self.assertIn("line 2", self.faults("[[layout]]\ntable = \n"))

    def test_every_key_is_in_the_manual(self):
        from tests.support import ROOT

        manual = (ROOT / "docs" / "layout.md").read_text()
        self.assertEqual([], [key for key in KEYS if f"`{key}`" not in manual])


class QueryFileTest(unittest.TestCase):
    def test_the_demo_workload_is_read(self):
        queries = parse_queries(WORKLOAD, "workload.sql")
        prepared = next(query for query in queries if query.name == "prepared-day")
        self.assertEqual(
            (32, ("17", "'2026-02-10 00:00+00'", "'2026-02-11 00:00+00'"), 3000.0),
            (len(queries), prepared.params, prepared.weight),
        )
        self.assertEqual("<= 1", str(prepared.limit))

    def test_semicolons_in_quotes_and_comments_end_nothing(self):
        text = "SELECT ';', $$ a;b $$, \"x;y\" -- c;d\n/* e;f */ ; -- name: second\nSELECT 2"
        self.assertEqual(
            [("query-1", 1), ("second", 3)], [(query.name, query.line) for query in parse_queries(text, "f")]
        )

    def test_limits_are_exact_or_upper(self):
        for text, touched, expected in [
            ("<= 2", 2, True),
            ("<= 2", 3, False),
            ("= 1", 0, False),
            ("< 3", 2, True),
            ("4", 4, True),
        ]:
            [query] = parse_queries(f"-- touches: {text}\nSELECT 1;", "f")
            with self.subTest(text, touched=touched):
                self.assertEqual(expected, query.limit.holds(touched))

    def test_what_cannot_be_read_names_the_line(self):
        for text, line, hint in [
            ("-- touches: few\nSELECT 1;", 2, "<= 2"),
            ("-- weight: often\nSELECT 1;", 2, "runs a day"),
            ("SELECT 1;\n\n-- touch: <= 2\nSELECT 2;", 3, "touches:"),
            ("-- name: a\nSELECT 1;\n-- name: a\nSELECT 2;", 4, "own name"),
            ("SELECT 1;\nSELECT E'open\\';", 2, "this quote should end"),
            ("SELECT 1;\nSELECT 'it''", 2, "this quote should end"),
            ('SELECT\n "name""', 2, "this quote should end"),
            ("SELECT\n\n $a$ $$ ", 3, "this quote should end"),
            ("SELECT 1 /* /* */", 1, "this comment should end"),
        ]:
            with self.subTest(text), self.assertRaises(UsageError) as raised:
                parse_queries(text, "f")
            self.assertIn(f"line {line}", raised.exception.problem)
            self.assertIn(hint, raised.exception.fix)
        for text in ["", "-- nothing", " ; /* a */ ;"]:
            with self.subTest(text), self.assertRaises(UsageError):
                parse_queries(text, "f")


class MentionsTest(unittest.TestCase):
    reading = Name("apiary", "reading")

    def test_tables_are_found_and_names_of_with_are_not(self):
        sql = 'WITH r AS (SELECT 1 FROM apiary.reading) SELECT * FROM r JOIN "Hive" h ON true WHERE EXISTS (SELECT FROM x.Y)'
        self.assertEqual({self.reading, Name(None, "Hive"), Name("x", "y")}, tables_in(sql))
        self.assertEqual(self.reading, target_of_insert("INSERT INTO apiary.reading (a) SELECT 1"))
        self.assertIsNone(tables_in("SELECT FROM WHERE ((("))

    def test_a_statement_is_pointed_at_another_table(self):
        for sql, expected in [
            ("SELECT 1 FROM apiary.reading", 'SELECT 1 FROM b.old AS "reading"'),
            ("SELECT r.x FROM apiary.reading AS r -- reading", "SELECT r.x FROM b.old AS r -- reading"),
            ("SELECT apiary.reading.x FROM apiary.reading, t", 'SELECT "reading".x FROM b.old AS "reading", t'),
            ("SELECT 'apiary.reading' FROM hive", "SELECT 'apiary.reading' FROM hive"),
        ]:
            with self.subTest(sql):
                self.assertEqual(expected, retargeted(sql, self.reading, "b.old"))

    def test_a_key_takes_in_a_column_whatever_is_quoted_in_it(self):
        for definition, expected in [
            ("PRIMARY KEY (a)", "PRIMARY KEY (a, k)"),
            ('UNIQUE (a, "b)") INCLUDE (c)', 'UNIQUE (a, "b)", k) INCLUDE (c)'),
            ("USING btree (lower(a)) WHERE (x = ')')", "USING btree (lower(a), k) WHERE (x = ')')"),
        ]:
            with self.subTest(definition):
                self.assertEqual(expected, with_key(definition, ("k",)))


class ExtrasTest(DatabaseTest):
    """A plain installation: what needs a library that is not there says so, and all else works."""

    HIDING = """
import sys
from importlib.machinery import PathFinder

class Hiding:
    def find_spec(self, name, path=None, target=None):
        return None if name.split(".")[0] in ("pyarrow", "matplotlib") else PathFinder.find_spec(name, path, target)

sys.meta_path = [Hiding() if finder is PathFinder else finder for finder in sys.meta_path]
"""

    def test_what_is_missing_is_named_with_the_command_that_installs_it(self):
        (self.folder / "sitecustomize.py").write_text(self.HIDING)
        plain = {"PYTHONPATH": os.pathsep.join([str(self.folder), os.environ.get("PYTHONPATH", "")])}
        self.sql(
            "CREATE TABLE log (t date NOT NULL) PARTITION BY RANGE (t);"
            "CREATE TABLE log_2026_01 PARTITION OF log FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');"
            "CREATE TABLE log_2026_03 PARTITION OF log FOR VALUES FROM ('2026-03-01') TO ('2026-04-01');"
            "INSERT INTO log VALUES ('2026-01-05'), ('2026-03-05'), ('2026-03-06'), ('2026-03-07')"
        )
        keys = 'by = "range"\nkey = ["t"]\nspan = "1 month"\nfrom = 2026-01-01\nkeep = "1 month"\npast_keep = "archive"\narchive_to = "old"\n'
        self.layout(f'[[layout]]\ntable = "public.log"\n{keys}')
        drawn = self.slabrow("forecast", "log", "--picture", "x.png", code=2, env=plain, built=True)
        self.assertIn("pip install 'slabrow[pictures]'", drawn.stderr)
        kept = self.slabrow("tend", "--go", "--now", "2026-03-08", code=2, env=plain, built=True)
        self.assertIn("pip install 'slabrow[parquet]'", kept.stdout + kept.stderr)
        self.assertEqual(4, self.value("SELECT count(*) FROM log"))
        self.layout(f'[[layout]]\ntable = "public.log"\n{keys}archive_as = "csv"\n')
        self.slabrow("tend", "--go", "--now", "2026-03-08", env=plain, built=True)
        self.assertEqual(3, self.value("SELECT count(*) FROM log"))
        self.assertEqual(1, len(list((self.folder / "old").glob("*.csv.gz"))))
