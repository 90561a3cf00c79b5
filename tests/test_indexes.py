"""Every index on every leaf, beside writers."""

import unittest

from slabrow.core.sql.index_statement import IndexAsked, parse_index
from slabrow.core.values.errors import UsageError
from tests.busy import writers
from tests.test_redivision import MONTHS, NOW, REST, WITHIN, RedivisionTest

TABLE = "apiary.reading"


class StatementTest(unittest.TestCase):
    def test_what_is_asked(self):
        for sql, asked in [
            ("CREATE INDEX ON apiary.reading (note)", IndexAsked(None, False, "(note)", columns=("note",))),
            ('create unique index concurrently "By Note" on only "Öl".r using btree (a, lower(b) DESC) where a > 3;',
             IndexAsked("By Note", True, "using btree (a, lower(b) DESC) where a > 3", columns=("a", ""))),
            ("CREATE INDEX IF NOT EXISTS i ON r(a) INCLUDE (b)", IndexAsked("i", False, "(a) INCLUDE (b)", columns=("a",))),
            ("PRIMARY KEY (a, \"B\")", IndexAsked(None, True, '(a, "B")', "p", ("a", "B"))),
            ("UNIQUE (a)", IndexAsked(None, True, "(a)", "u", ("a",))),
        ]:  # fmt: skip
            self.assertEqual(asked, parse_index(sql))
        for sql in ("", "DROP TABLE r", "CREATE INDEX ON r", "CREATE INDEX ON r (a); DROP TABLE r", "CREATE TABLE r (a int)",
                    "CREATE INDEX i ON r (a) WHERE b = 'x", "PRIMARY KEY", "UNIQUE (lower(a))", "CREATE INDEX"):  # fmt: skip
            with self.assertRaises(UsageError, msg=sql):
                parse_index(sql)


class IndexTest(RedivisionTest):
    def look(self, code=0):
        return {each["name"].split(".")[1]: each for each in self.json("index", TABLE, code=code)["indexes"]}

    def faults(self, name):
        return {each["partition"].split(".")[1]: each["state"] for each in self.look(code=1)[name]["faults"]}

    def test_what_is_not_everywhere_is_found_and_mended(self):
        for parts in ([*MONTHS, REST], [*WITHIN, REST]):
            self.fill(parts=parts)
            self.assertEqual(0, self.json("index", TABLE)["faults"])
            leaves = self.leaves()
            self.sql(f"CREATE INDEX by_weight ON ONLY {TABLE} (weight)")
            self.sql(f"CREATE INDEX by_note ON ONLY {TABLE} (note) WHERE weight > 3")
            self.sql(
                f'CREATE INDEX "Loose" ON apiary.{leaves[0]} (weight); CREATE INDEX ON apiary.{leaves[1]} (weight DESC)'
            )
            self.sql(f"CREATE INDEX broken ON apiary.{leaves[2]} (weight); UPDATE pg_index SET indisvalid = false "
                     "WHERE indexrelid = 'apiary.broken'::regclass")  # fmt: skip
            found = self.faults("by_weight")
            self.assertEqual(["not attached", "other", "invalid"], [found[leaf] for leaf in leaves[:3]])
            self.assertEqual({"missing"}, {found[leaf] for leaf in leaves[3:]} or {"missing"})
            self.assertIn("index_missing", self.slabrow("census", TABLE, code=1).stdout)
            with writers(self.dsn, self.ROWS, a_second=300) as made:
                self.json("index", TABLE, "--mend", *NOW, code=1)
                self.assertEqual(0, self.go("index", TABLE, "--mend")["faults"])
                self.assertEqual(0, self.go("index", TABLE, "--mend")["faults"])
                self.assertEqual(
                    0, self.go("index", TABLE, "--create", "CREATE INDEX ON apiary.reading (note, weight)")["faults"]
                )
                done = self.go("index", TABLE, "--create", "UNIQUE (hive_id, reading_id, taken_at)", "--jobs", "1")
                self.assertEqual((0, True), (done["faults"], done["longest_lock_ms"] < 1_000))
                self.go("index", TABLE, "--drop", "reading_note_weight_idx")
            self.assertNotIn("reading_note_weight_idx", self.look())
            self.assertTrue(all(each["valid"] for each in self.look().values()))
            self.assert_same(made)
        self.assertEqual({"index"}, {each["kind"] for each in self.json("history")["entries"]})

    def test_an_invalid_one_that_is_attached_is_built_anew(self):
        self.fill()
        for name in ("reading_hive_id_taken_at_idx", "reading_2025_03_hive_id_taken_at_idx"):
            self.sql(f"UPDATE pg_index SET indisvalid = false WHERE indexrelid = 'apiary.{name}'::regclass")
        self.assertEqual({"reading_2025_03": "invalid"}, self.faults("reading_hive_id_taken_at_idx"))
        self.assertEqual(0, self.go("index", TABLE, "--mend")["faults"])

    def test_it_is_killed_and_goes_on_beside_an_old_transaction(self):
        self.fill(rows=200_000)
        create = ("index", TABLE, "--create", "CREATE INDEX by_note ON apiary.reading (note, weight, hive_id)")
        self.go("index", TABLE, "--create", "CREATE INDEX first ON apiary.reading (weight)")
        with writers(self.dsn, 200_000, a_second=300) as made:
            killed = sum(self.is_killed_midway(steps, *create, "--go", *NOW) for steps in (1, 1, 1, 1))
            is_valid = self.value(
                "SELECT coalesce(bool_and(indisvalid), false) FROM pg_index WHERE indexrelid = to_regclass('apiary.by_note')"
            )
            done = self.json("index", TABLE) if is_valid else self.go(*create)
        self.assertGreater(killed, 0)
        self.assertEqual(0, done["faults"])
        self.assert_same(made)

    def test_what_is_refused(self):
        self.fill()
        self.sql("CREATE TABLE apiary.plain (a int)")
        for code, words, arguments in [
            (2, "is not partitioned", ("apiary.plain",)), (2, "is a partition", ("apiary.reading_2025_03", "--mend")),
            (2, "has no index nothing", (TABLE, "--drop", "nothing")), (4, "belongs to a key", (TABLE, "--drop", "reading_pkey")),
            (4, "already", (TABLE, "--create", "CREATE INDEX reading_hive_id_taken_at_idx ON r (note)")),
            (4, "has a primary key already", (TABLE, "--create", "PRIMARY KEY (reading_id, taken_at)")),
            (2, "this is not one statement", (TABLE, "--create", "CREATE INDEX ON r (note); SELECT 1")),
            (2, "not allowed with", (TABLE, "--create", "UNIQUE (a)", "--mend")), (2, "out of range", (TABLE, "--jobs", "0")),
        ]:  # fmt: skip
            with self.subTest(arguments):
                self.assertIn(words, self.slabrow("index", *arguments, *NOW, code=code).stderr)
        self.assertIn('column "nowhere" does not exist', self.slabrow(
            "index", TABLE, "--create", "CREATE INDEX ON r (nowhere)", "--go", *NOW, code=3).stderr)  # fmt: skip
        self.sql(f"INSERT INTO {TABLE} (reading_id, hive_id, taken_at) SELECT reading_id + 1000000, 1, taken_at FROM {TABLE} "
                 "WHERE reading_id = 7")  # fmt: skip
        self.assertIn("could not create unique index", self.slabrow(
            "index", TABLE, "--create", "UNIQUE (taken_at)", "--go", *NOW, code=3).stderr)  # fmt: skip


class IndexOn15Test(IndexTest):
    version = 15
