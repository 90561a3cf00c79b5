"""Text that others wrote: in scripts that psql runs, on the terminal, in logs, manifests, unit files and JUnit."""

import json
import re
import xml.etree.ElementTree

import psycopg
from hypothesis import given, settings
from hypothesis import strategies as st

from slabrow.core.values.one_line import one_line
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.write.script import comment_line, quotes_on_one_line
from tests.support import DatabaseTest, server, unittest
from tests.test_program_convert import layout

NOW = ("--now", "2026-03-01")
# What psql, a terminal, a comment, a quote, or a format would take for its own.
EVIL = (
    "a\n\\! touch pwned\n", 'x"; DROP TABLE hive; --', "$slabrow$; \\! touch pwned", "é\u2028-- ü", "%s %(x)s %", "a\\", "\\", "'",
    "\x1b[31mred\x1b]0;title\x07", "*/ /* --", "E'\\'' \\g pwned", "\r\\q\r", "a\tb", "\x85\x9b31m", '""', ":name :'x' :\"y\"", "`touch pwned`",
)  # fmt: skip
CONTROLS = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u2028\u2029]")
TEXTS = st.text(
    st.one_of(
        st.sampled_from("'\"\\\n\r\t$;-/*%:`eEU&!xu0 "), st.characters(blacklist_categories=("Cs",), min_codepoint=1)
    ),
    max_size=30,
)


class SpellingTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.connection = psycopg.connect(server().dsn, autocommit=True, client_encoding="UTF8")
        cls.addClassCleanup(cls.connection.close)

    @settings(max_examples=250, deadline=None)
    @given(TEXTS, TEXTS)
    def test_a_quoted_thing_stays_on_its_line_and_means_the_same(self, text, name):
        while len(name.encode()) > 60:
            name = name[:-1]
        sql = f"SELECT {quoting.literal(text)} AS {quoting.identifier(name or 'a')}"
        spelled = quotes_on_one_line(sql)
        self.assertIsNone(CONTROLS.search(spelled.replace("\t", "")))
        self.assertEqual(1, len(spelled.splitlines()))
        found = self.connection.execute(spelled.encode())
        self.assertEqual((text, name or "a"), (found.fetchone()[0], found.description[0].name))

    @settings(max_examples=200, deadline=None)
    @given(TEXTS)
    def test_a_comment_is_one_line_and_shows_no_control(self, text):
        line = comment_line(text)
        self.assertEqual(1, len(line.splitlines()))
        self.assertIsNone(CONTROLS.search(line))
        self.assertEqual(one_line(text), line[3:])


class ScriptTest(DatabaseTest):
    def test_scripts_of_evil_names_do_what_they_show_and_nothing_else(self):
        self.sql("CREATE TABLE hive (n int)")
        for number, evil in enumerate(EVIL):
            with self.subTest(evil):
                schema, table, key = (psycopg.sql.Identifier(f"{evil}{part}").as_string() for part in ("s", "t", "k"))
                self.sql(
                    f"CREATE SCHEMA {schema}; CREATE TABLE {schema}.{table} ({key} date NOT NULL, v text);"
                    f"CREATE INDEX ON {schema}.{table} ({key}); COMMENT ON TABLE {schema}.{table} IS {quoting.literal(evil)};"
                    f"INSERT INTO {schema}.{table} SELECT date '2026-01-01' + n, {quoting.literal(evil)} FROM generate_series(0, 40) n"
                )
                self.layout(
                    f'[[layout]]\ntable = {json.dumps(f"{schema}.{table}")}\nby = "range"\nspan = "1 month"\nahead = "1 month"\n'
                    f"key = [{json.dumps(f'{evil}k')}]\n"
                )
                self.slabrow("convert", "--way", "locked", "--script", f"{number}.sql", *NOW)
                script = (self.folder / f"{number}.sql").read_text()
                self.assertIsNone(CONTROLS.search(script.replace("\n", "")))
                for line in script.splitlines():
                    self.assertNotRegex(line, r"^\s*\\(?!set ON_ERROR_STOP on$)")
                self.psql(f"{number}.sql")
                self.assertEqual(
                    3,
                    self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = %s::regclass", f"{schema}.{table}"),
                )
                shown = self.slabrow("census", f"{schema}.{table}", "--exact")
                self.assertIsNone(CONTROLS.search((shown.stdout + shown.stderr).replace("\n", "")))
                self.slabrow("tend", "--now", "2026-08-01", "--script", f"{number}t.sql")
                self.psql(f"{number}t.sql")
                self.slabrow("tend", "--now", "2026-08-01")
        self.assertEqual([], [path.name for path in self.folder.iterdir() if path.suffix not in (".sql", ".toml")])
        self.assertEqual(0, self.value("SELECT count(*) FROM hive"))

    def test_values_of_lists_are_spelled_so_too(self):
        self.sql("CREATE TABLE coop (name text)")
        values = ", ".join(json.dumps(each) for each in EVIL)
        self.layout(
            f'[[layout]]\ntable = "public.coop"\nby = "list"\nkey = ["name"]\ngroups = {{ evil = [{values}] }}\n'
        )
        for (name,) in ((each,) for each in EVIL):
            self.sql("INSERT INTO coop VALUES (%s)", name)
        self.slabrow("convert", "--way", "locked", "--script", "list.sql")
        self.psql("list.sql")
        self.assertEqual(len(EVIL), self.value("SELECT count(*) FROM coop_evil"))
        self.assertFalse((self.folder / "pwned").exists())

    def test_names_reach_neither_a_log_line_nor_junit_nor_a_terminal_unchanged(self):
        evil = "a\n\x1b[31m<x>&]]>"
        name = psycopg.sql.Identifier(evil).as_string()
        self.sql(
            f"CREATE TABLE {name} (k date) PARTITION BY RANGE (k);"
            f"CREATE TABLE {psycopg.sql.Identifier(evil + '1').as_string()} PARTITION OF {name} FOR VALUES FROM ('2026-01-01') TO ('2026-02-01')"
        )
        (self.folder / "q.sql").write_text(f"-- name: {evil[2:]}\n-- touches: <= 0\nSELECT * FROM {name};", newline="")
        found = self.slabrow("prove", "--queries", "q.sql", "--junit", "j.xml", code=1)
        self.assertNotIn("\x1b", found.stdout + found.stderr)
        root = xml.etree.ElementTree.parse(self.folder / "j.xml").getroot()
        self.assertEqual(1, len(list(root.iter("failure"))))
        self.assertNotIn("\x1b", (self.folder / "j.xml").read_text())
        self.layout(
            f'[[layout]]\ntable = {json.dumps(name)}\nby = "range"\nkey = ["k"]\nspan = "1 month"\nahead = "1 month"\n'
        )
        said = self.slabrow("tend", "--go", "--log", "text", *NOW).stderr
        for line in said.splitlines():
            self.assertRegex(line, r"^(\d{4}-|slabrow: )")


class ManifestTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(
            "CREATE SCHEMA apiary; CREATE TABLE apiary.log (taken_at timestamptz NOT NULL, note text) PARTITION BY RANGE (taken_at);"
        )
        keep = {
            "ahead": "2 months",
            "keep": "2 months",
            "past_keep": "archive",
            "archive_to": "old",
            "archive_as": "csv",
            "at_most_share": 0.9,
        }
        self.layout(layout(**keep))
        self.slabrow("tend", "--go", *NOW)
        self.sql(
            "INSERT INTO apiary.log SELECT timestamptz '2026-03-02' + n * interval '1 day', 'n' || n FROM generate_series(0, 50) n; ANALYZE apiary.log"
        )
        self.slabrow("tend", "--go", "--now", "2026-06-15")
        self.path = self.folder / "old" / "apiary.log_2026_03.json"
        self.manifest = json.loads(self.path.read_text())

    def adopted(self, code, **changes):
        self.path.write_text(
            json.dumps({key: value for key, value in {**self.manifest, **changes}.items() if value is not Ellipsis})
        )
        return self.slabrow("adopt", "--from-archive", "old/apiary.log_2026_03.json", "--go", code=code).stderr

    def test_a_manifest_that_was_changed_brings_nothing_in(self):
        evil = "int); CREATE TABLE pwned (n int"
        columns = self.manifest["columns"]
        as_it_was = self.manifest["digest"]
        for what, changes in {
            "bounds": {"bounds": "DEFAULT; DROP TABLE apiary.log"},
            "bounds that are a call": {"bounds": "FOR VALUES FROM (pg_sleep(9)) TO (now())"},
            "held": {"held": {"range": [["2026-03-01); DROP TABLE x; --"], ["2026-04-01"]]}},
            "type": {"columns": [[columns[0][0], evil, *columns[0][2:]], *columns[1:]]},
            "name of a column": {"columns": [['x" int); --', *columns[0][1:]], *columns[1:]]},
            "file beside another": {"file": "../../etc/passwd"},
            "absolute file": {"file": "/etc/passwd"},
            "rows": {"rows": 1},
            "rows as text": {"rows": "many"},
            "no columns": {"columns": []},
            "digest": {"digest": "0" * 64},
            "table": {"table": "pg_catalog.pg_class"},
            "missing": {"partition": ...},
            "version": {"version": 77},
        }.items():  # fmt: skip
            for digest in (as_it_was, ...):  # as who changes it with care would: without the digest, as older ones are
                if what == "digest" and digest is ...:
                    continue
                with self.subTest(what, digest=digest is not ...):
                    changed = (
                        changes
                        if digest is not ... or "digest" in changes
                        else {"held": ..., **changes, "digest": ..., "version": changes.get("version", 1)}
                    )
                    self.path.write_text(
                        json.dumps(
                            {key: value for key, value in {**self.manifest, **changed}.items() if value is not Ellipsis}
                        )
                    )
                    done = self.attempt("adopt", "--from-archive", "old/apiary.log_2026_03.json", "--go")
                    self.assertIn(done.returncode, (2, 3, 4), done.stderr)
                    self.assertNotIn("fault in Slabrow", done.stderr)
                    self.assertEqual(None, self.value("SELECT to_regclass('pwned')"))
                    self.assertEqual(None, self.value("SELECT to_regclass('apiary.log_2026_03')"))
        self.adopted(0)
        self.assertEqual(30, self.value("SELECT count(*) FROM apiary.log_2026_03"))

    def test_another_folder_and_another_server_read_it_as_it_is(self):
        self.sql("DROP TABLE apiary.log CASCADE")
        self.adopted(0)
        self.assertEqual(30, self.value("SELECT count(*) FROM apiary.log_2026_03"))


class UnitTest(DatabaseTest):
    def test_a_unit_keeps_what_was_asked_or_says_that_it_cannot(self):
        self.layout(layout())
        (self.folder / "a\nb.toml").write_text(layout())
        for options, words in (
            (("--go", "--lock-wait", "7s", "--check"), None),
            (("--now", "2026-01-01"), "--now"),
            (("--webhook", "https://u:honey-comb@h/x"), "--webhook"),
            (("--dsn", "postgresql://u:honey-comb@h/d"), "password"),
            (("--dsn", "host=h password=honey-comb"), "password"),
            (("--dsn", "postgresql://h/d?password=honey-comb"), "password"),
            (("--layout", "a\nb.toml"), "line break"),
            (("--hold", "x", "--go"), "--hold"),
        ):
            for form in ("cron", "systemd"):
                with self.subTest(options, form=form):
                    done = self.attempt("tend", "--unit", form, *options)
                    self.assertNotIn("honey-comb", done.stdout + done.stderr)
                    if words is None:
                        self.assertEqual(
                            2 if "--check" in options and "--go" in options else 0, done.returncode, done.stderr
                        )
                    else:
                        self.assertEqual(2, done.returncode, (options, done.stdout))
                        self.assertIn(words, done.stderr)
        kept = self.slabrow(
            "tend", "--unit", "cron", "--lock-wait", "7s", "--log", "json", "--metrics", "a b%c.prom"
        ).stdout
        self.assertIn("--lock-wait 7s", kept)
        self.assertIn(r"a b\%c.prom", kept)
