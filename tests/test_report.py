"""`report`: from what commands really save, one page that a real browser shows without a word of complaint."""

import json
import re
import unittest
from html.parser import HTMLParser
from pathlib import Path
from tempfile import TemporaryDirectory

from tests.browser import CONTRAST, Browser
from tests.support import DatabaseTest, run
from tests.test_compare import PRICES

LAYOUT = """
[[layout]]
table = "hive_day"
by = "range"
key = ["day"]
span = 1000
from = 0
ahead = 2000
keep = 3000
past_keep = "drop"
catch_all = true
"""
NASTY = '<script>alert("x")</script>'
QUERIES = f"""
-- name: window
-- touches: <= 1
-- weight: 100
SELECT count(*) FROM hive_day WHERE day >= 1200 AND day < 1300;
-- name: {NASTY}
-- touches: <= 1
SELECT count(*), '{NASTY}' FROM hive_day WHERE day + 0 = 1200;
"""
VOID = {"meta", "link", "br", "rect", "line", "path"}


class _Balanced(HTMLParser):
    """Fails where a tag is not closed; gathers what refers to something outside."""

    def __init__(self, test):
        super().__init__()
        self.test, self.open, self.outside, self.names = test, [], [], set()

    def handle_starttag(self, tag, attributes):
        self.names.add(tag)
        self.outside += [
            value
            for name, value in attributes
            if name in ("src", "href") and not (value or "").startswith(("#", "data:"))
        ]
        if tag not in VOID:
            self.open.append(tag)

    def handle_endtag(self, tag):
        if tag not in VOID:
            self.test.assertEqual(self.open.pop() if self.open else None, tag, self.getpos())


class ReportTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql("CREATE TABLE hive_day (day int NOT NULL, note text, PRIMARY KEY (day))")
        self.sql("INSERT INTO hive_day SELECT n, repeat('x', 200) || n FROM generate_series(1, 5000) n")
        self.sql("VACUUM ANALYZE")
        self.layout(LAYOUT)
        (self.folder / "q.sql").write_text(QUERIES)
        (self.folder / "p.toml").write_text(PRICES)

    def saved(self):
        """Everything that the page can tell of, from a real walk."""
        # A limit that is broken, or a partition that is proposed, ends with 1: all of them are saved.
        for name, *arguments in (
            ("survey", "survey", "hive_day", "--exact"),
            ("weigh", "weigh", "hive_day", "--workload", "q.sql", "--prices", "p.toml"),
            ("forecast", "forecast", "hive_day"),
            ("rehearse", "rehearse", "hive_day", "--workload", "q.sql", "--for", "5s"),
            ("convert", "convert", "hive_day", "--go"),
            ("census", "census", "hive_day", "--exact"),
            ("compare", "compare", "hive_day", "--with", "hive_day_before", "--queries", "q.sql", "--prices", "p.toml"),
            ("prove", "prove", "--queries", "q.sql"),
            ("tend", "tend", "--go"),
            ("history", "history"),
            ("overview", "survey", "--all"),
        ):
            done = run(*arguments, "--save", f"{name}.json", env={"SLABROW_DSN": self.dsn}, cwd=self.folder)
            self.assertIn(done.returncode, (0, 1), done.stderr)
            yield f"{name}.json"

    def test_the_page_of_a_whole_walk(self):
        names = list(self.saved())
        done = self.slabrow("report", *names, "--out", "page.html", "--title", f"Days & hives {NASTY}")
        self.assertIn("page.html is written, from 11 results", done.stdout)
        text = (self.folder / "page.html").read_text()
        page = _Balanced(self)
        page.feed(text)
        self.assertEqual([], page.outside + page.open)
        self.assertNotIn("script", page.names)
        self.assertNotIn("<script", text)
        for title in ("The table as it is", "The choice", "The partitions", "The rehearsal", "The conversion", "The count",
                      "The proof", "Before and after", "Upkeep", "The ledger", "In short", "What to watch"):  # fmt: skip
            self.assertIn(f">{title}<", text)
        self.assertIn("EUR before", text)
        self.assertIn("5,000 rows, the same as before in each of", text)
        compared = json.loads((self.folder / "compare.json").read_text())
        self.assertIn(f"{compared['money']['before']:,.2f} EUR", text)
        browser = Browser()
        self.addCleanup(browser.close)
        for width, height, dark in ((1280, 800, False), (400, 800, False), (1280, 800, True), (400, 800, True)):
            with self.subTest(width=width, dark=dark):
                browser.show(self.folder / "page.html", width, height, dark)
                self.assertEqual([], browser.requests())
                self.assertEqual([], browser.complaints())
                self.assertEqual([], browser.value(CONTRAST))
                self.assertLessEqual(browser.value("document.documentElement.scrollWidth"), width)
                self.assertEqual(
                    0,
                    browser.value(
                        "document.querySelectorAll('table:not(:has(caption)), svg[role=img]:not([aria-labelledby])').length"
                    ),
                )
                dark_page = browser.value("getComputedStyle(document.documentElement).backgroundColor")
                self.assertEqual(dark, sum(map(int, re.findall(r"\d+", dark_page)[:3])) < 200)
        self.assertLess(browser.printed_pages(), 25)

    def test_parts_that_are_missing_are_left_out(self):
        name = next(self.saved())
        self.slabrow("report", name)
        text = (self.folder / "report.html").read_text()
        self.assertIn("The table as it is", text)
        self.assertNotIn("The choice", text)


class UsageTest(unittest.TestCase):
    def test_what_is_no_result(self):
        with TemporaryDirectory() as folder:
            files = {
                "a.json": "{", "b.json": "[]", "c.json": '{"slabrow": "1"}', "d.json": '{"slabrow": "1", "command": "prove"}',
                "e.json": '{"slabrow": "1", "command": "route"}', "f.json": '{"slabrow": 3, "command": "prove"}',
                "g.json": '{"slabrow": "1", "command": "survey", "tables": 7, "database": 1}', "h.json": b"\xff\xfe",
            }  # fmt: skip
            for name, text in files.items():
                Path(folder, name).write_bytes(text if isinstance(text, bytes) else text.encode())
            for arguments, words in (
                (("a.json",), "is not JSON"),
                (("b.json",), "not a JSON object"),
                (("c.json",), "is no saved result"),
                (("d.json",), "is not a result as this version saves it"),
                (("e.json",), "nothing to report"),
                (("f.json",), "is no saved result"),
                (("g.json",), "is not a result as this version saves it"),
                (("h.json",), "h.json"),
                (("none.json",), "none.json"),
                (("d.json", "--out", "x.txt"), "end its name in .html"),
                (("d.json", "--out", "no/x.html"), "there is no folder"),
            ):
                with self.subTest(arguments):
                    done = run("report", *arguments, cwd=folder)
                    self.assertEqual(2, done.returncode, done.stderr)
                    self.assertIn(words, done.stderr)
                    self.assertFalse(Path(folder, "report.html").exists())


if __name__ == "__main__":
    unittest.main()
