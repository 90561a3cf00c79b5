"""What people see: tables that fit the terminal, numbers that can be read aloud, output without colours elsewhere."""

import unittest

import psycopg
from rich.console import Console
from rich.text import Text

from slabrow.core.table.spans import parse_span
from slabrow.core.values import wording
from slabrow.show import words
from slabrow.show.output import print_table, table
from tests.support import DatabaseTest, run


class TableTest(unittest.TestCase):
    def printed(self, width):
        out = Console(width=width, force_terminal=True, no_color=True)
        lines = table("query", "blocks", "decided", right=("blocks",))
        lines.add_row("hive-last-day", "1,024", "while planning")
        with out.capture() as captured:
            print_table(out, lines, ("decided", "blocks"))
        return captured.get()

    def test_a_narrow_terminal_gets_fewer_columns_and_is_told(self):
        for width, shown, missing in [
            (60, ["decided", "1,024"], ["narrow"]),
            (30, ["1,024", "narrow"], ["while"]),
            (18, ["hive-last-day"], ["1,024"]),
        ]:
            with self.subTest(width):
                text = self.printed(width)
                self.assertTrue(all(word in text for word in shown) and not any(word in text for word in missing), text)

    def test_a_table_written_without_colours_is_the_one_that_is_drawn(self):
        lines = table("partition", "rows", "", right=("rows",))
        lines.add_row("log «2026»", "1,024", Text("drop", style="red"))
        lines.add_row("養蜂_2026_03", "", Text("[bold]"))
        out = Console(width=80, force_terminal=False, no_color=True)
        with out.capture() as captured:
            out.print(lines.drawn(()))
        self.assertEqual(captured.get(), (lines.plain() or "") + "\n")
        lines.add_row("two\nlines", "1", "")
        self.assertIn("two lines", lines.plain(), "nothing that others wrote begins a line of its own")

    def test_very_long_tables_show_both_ends(self):
        shown = list(words.ends(range(10_000)))
        self.assertEqual((words.MOST_LINES + 1, 0, 9_999, 1), (len(shown), shown[0], shown[-1], shown.count(None)))


class WordsTest(unittest.TestCase):
    def test_numbers_are_said_as_people_read_them(self):
        for said, expected in [
            (wording.count(1_234_567), "1,234,567"),
            (wording.count(None), "–"),
            (wording.size(8192), "8,192 bytes"),
            (wording.size(25 * 1024**2), "25 MB"),
            (wording.share(0.0123), "1.2 %"),
            (wording.share(0.5), "50 %"),
            (wording.share(0.0001), "< 0.1 %"),
            (wording.share(0), "0.0 %"),
            (wording.milliseconds(0.514), "0.51 ms"),
            (wording.milliseconds(234.5), "234 ms"),
            (wording.milliseconds(1234.5), "1.2 s"),
            (wording.milliseconds(180_000), "3 min"),
            (words.plural(1, "leaf", "leaves"), "1 leaf"),
            (words.per_span(parse_span("1 month")), "per month"),
            (words.per_span(parse_span("7 days")), "per 7 days"),
            (words.rows_of(None, True), "rows not known"),
            (words.rows_of(2, False), "about 2 rows"),
            (words.listed("abcdef", 4), "a, b, c, d and 2 more"),
            (words.bar(0.5, 4).plain, "━━"),
            (words.bar(1e-9, 4).plain, "╸"),
        ]:
            with self.subTest(expected):
                self.assertEqual(expected, said)


class SurroundingsTest(DatabaseTest):
    def test_databases_of_other_encodings_and_roles_with_timeouts_are_served(self):
        for encoding in ("SQL_ASCII", "LATIN1"):
            name = f"{self.database}_{encoding.lower()}"
            self.sql(f"CREATE DATABASE {name} ENCODING '{encoding}' TEMPLATE template0 LOCALE 'C'")
            dsn = self.dsn.replace(self.database, name)
            with psycopg.connect(dsn, autocommit=True, client_encoding="utf8") as connection:
                connection.execute('CREATE TABLE bienen (t date NOT NULL, "Stöcke" text)')
                connection.execute("INSERT INTO bienen SELECT '2026-03-01', 'ä' || n FROM generate_series(1, 20000) n")
                connection.execute(f"ALTER DATABASE {name} SET statement_timeout = '40ms'")
            self.layout('[[layout]]\ntable = "public.bienen"\nby = "range"\nkey = ["t"]\nspan = "1 month"\n')
            with self.subTest(encoding):
                done = self.slabrow("convert", "--way", "locked", "--go", "--verbose", "--now", "2026-03-01", dsn=dsn)
                self.assertIn("INSERT INTO public.bienen_incoming", done.stderr)
                self.assertIn("20,000 rows in 1 partition", done.stdout)

    def test_output_that_is_no_terminal_is_plain_whatever_its_encoding(self):
        self.sql("CREATE TABLE t (k int) PARTITION BY LIST (k); CREATE TABLE t_1 PARTITION OF t FOR VALUES IN (1)")
        for encoding in ("utf-8", "latin-1", "ascii"):
            done = run(
                "census", "t", env={"SLABROW_DSN": self.dsn, "PYTHONIOENCODING": encoding}, cwd=self.folder, built=True
            )
            with self.subTest(encoding):
                self.assertEqual((0, ""), (done.returncode, done.stderr))
                self.assertNotIn("\x1b", done.stdout)
        self.assertEqual(
            2,
            run(
                "survey", b"caf\xe9".decode(errors="surrogateescape"), env={"SLABROW_DSN": self.dsn}, built=True
            ).returncode,
        )
