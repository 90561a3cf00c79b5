"""Tables become partitions, and partitions tables, while the table is in use."""

from tests.busy import writers
from tests.test_redivision import HASHED, LISTED, MONTHS, NOW, RedivisionTest

STAGED = """CREATE TABLE apiary.staged (taken_at timestamptz, note text, "reading_id" bigint, hive_id int, weight numeric,
    doubled int GENERATED ALWAYS AS (hive_id * 2) STORED);
INSERT INTO apiary.staged SELECT '2027-02-01'::timestamptz + n * interval '1 minute', 'x', n + 1000000, n % 100, 1
    FROM generate_series(1, {}) n"""
ADOPT = ("adopt", "apiary.staged", "--into", "apiary.reading")
MONTH = ("--from", "2027-02-01", "--to", "2027-03-01")
IS_LIKE_THE_OTHERS = """SELECT count(*) FROM pg_index p JOIN pg_inherits i ON i.inhparent = p.indexrelid
    JOIN pg_index c ON c.indexrelid = i.inhrelid
    WHERE p.indrelid = 'apiary.reading'::regclass AND c.indrelid = 'apiary.staged'::regclass AND c.indisvalid"""


class AdoptTest(RedivisionTest):
    def refused(self, words, *options, code=4):
        self.assertIn(words, self.slabrow(*ADOPT, *options, "--go", *NOW, code=code).stderr)

    def test_a_staged_table_comes_in_and_goes_out(self):
        self.fill()
        self.sql(
            "GRANT SELECT ON apiary.reading_2025_12 TO PUBLIC; ALTER TABLE apiary.reading_2025_12 SET (fillfactor = 70)"
        )
        self.sql(STAGED.format(5_000))
        self.sql("INSERT INTO apiary.reading VALUES ('late', 5000000, 1, '2027-02-15', 3)")
        with writers(self.dsn, self.ROWS, a_second=300) as made:
            self.assertEqual("proposed", self.json(*ADOPT, *MONTH, "--from-catch-all", *NOW, code=1)["state"])
            self.refused("1 row of the catch-all would belong", *MONTH)
            done = self.go(*ADOPT, *MONTH, "--from-catch-all")
            self.assertEqual(5_001, done["rows"])
            self.assertLess(done["longest_lock_ms"], 1_000)
            self.assertEqual(2, self.value(IS_LIKE_THE_OTHERS))
            self.assertEqual(5_001, self.value("SELECT count(*) FROM apiary.staged"))
            self.assertEqual(["fillfactor=70"], self.value("SELECT reloptions FROM pg_class WHERE relname = 'staged'"))
            self.assertTrue(self.value("SELECT has_table_privilege('public', 'apiary.staged', 'SELECT')"))
            self.sql("CREATE SCHEMA attic")
            gone = self.go("release", "apiary.staged", "--to", "attic", "--keep-check", "--even-the-newest")
            self.assertEqual("attic.staged", gone["partition"])
            self.assertIn("slabrow adopt attic.staged --into apiary.reading --from", gone["back"])
            self.assertEqual(5_001, self.value("SELECT count(*) FROM attic.staged"))
            self.assertEqual(1, self.value("SELECT count(*) FROM pg_constraint WHERE conrelid = 'attic.staged'::regclass "
                                           "AND conname = 'slabrow_bounds' AND convalidated"))  # fmt: skip
            self.go("adopt", "attic.staged", "--into", "apiary.reading", *MONTH)
            self.go("release", "attic.staged", "--even-the-newest")
        self.assert_same(made)
        self.assertEqual(["adopt", "release"], sorted({each["kind"] for each in self.json("history")["entries"]}))

    def test_a_layout_gives_the_bounds_and_lists_and_hash_parts_come_in_too(self):
        self.fill()
        self.layout('[[layout]]\ntable = "apiary.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\n')
        self.sql(STAGED.format(5_000))
        self.assertEqual("2027-02-01 00:00:00+00:00", self.go(*ADOPT)["from"])
        for by, parts, part, options in (
            ("HASH (hive_id)", HASHED[:3], "satisfies_hash_partition('apiary.reading'::regclass, 4, 3, hive_id)",
             ("--part", "3/4")),
            ("LIST (hive_id)", LISTED[:3], "hive_id >= 75", ("--values", *map(str, range(75, 100)))),
        ):  # fmt: skip
            self.fill(
                by,
                [
                    *HASHED,
                ]
                if by.startswith("HASH")
                else LISTED,
            )
            name = f"reading_{'m4r03' if by.startswith('HASH') else '75'}"
            self.sql(f"ALTER TABLE apiary.reading DETACH PARTITION apiary.{name}")
            self.go("adopt", f"apiary.{name}", "--into", "apiary.reading", *options)
            self.assertEqual(4, len(self.leaves()))
            self.assert_same()
            if by.startswith("LIST"):
                self.go("release", f"apiary.{name}")
            else:
                self.assertIn("is a hash part", self.slabrow("release", f"apiary.{name}", "--go", *NOW, code=4).stderr)

    def test_what_is_refused(self):
        self.fill()
        self.sql(STAGED.format(100))
        self.refused("100 of 100 rows of apiary.staged lie outside", "--from", "2028-01-01", "--to", "2029-01-01")
        self.refused("already holds keys of it", "--from", "2025-05-05", "--to", "2025-05-06")
        self.refused("is divided by range", "--values", "1", code=2)
        self.refused("nothing says which keys", code=2)
        self.refused("is not a value of type", "--from", "x", code=2)
        for spoil, mend, words in (
            ("ALTER TABLE apiary.staged ADD COLUMN more int", "ALTER TABLE apiary.staged DROP COLUMN more", "column more"),
            ("ALTER TABLE apiary.staged ALTER weight TYPE int", "ALTER TABLE apiary.staged ALTER weight TYPE numeric",
             "column weight is integer, and must be numeric"),
            ("ALTER TABLE apiary.staged SET UNLOGGED", "ALTER TABLE apiary.staged SET LOGGED", "unlogged table"),
            ("ALTER TABLE apiary.staged ADD PRIMARY KEY (reading_id)",
             "ALTER TABLE apiary.staged DROP CONSTRAINT staged_pkey", "another primary key"),
        ):  # fmt: skip
            self.sql(spoil)
            self.refused(words, *MONTH)
            self.sql(mend)
        self.sql(
            "INSERT INTO apiary.staged (reading_id, hive_id, taken_at) SELECT 1000001, 1, min(taken_at) FROM apiary.staged"
        )
        self.refused("could not create unique index", *MONTH, code=3)
        self.sql("DELETE FROM apiary.staged WHERE weight IS NULL; UPDATE apiary.staged SET hive_id = 5000 "
                 "WHERE reading_id = 1000007")  # fmt: skip
        self.refused("violates foreign key constraint", *MONTH, code=3)
        self.sql("UPDATE apiary.staged SET hive_id = 5 WHERE reading_id = 1000007")
        self.go(*ADOPT, *MONTH)  # what the tries have built stands, and the rest comes to it
        self.assertEqual(["It is a partition already."], self.go(*ADOPT, *MONTH)["notes"])
        for words, arguments, code in (
            ("holds the newest rows", ("apiary.staged",), 4), ("is no partition", ("apiary.reading",), 2),
            ("there is no schema", ("apiary.reading_2025_01", "--to", "nowhere"), 2),
        ):  # fmt: skip
            self.assertIn(words, self.slabrow("release", *arguments, "--go", *NOW, code=code).stderr)
        back = self.go("release", "apiary.reading_rest")["back"]
        self.assertIn("--into apiary.reading --catch-all", back)
        self.go("adopt", "apiary.reading_rest", "--into", "apiary.reading", "--catch-all")
        self.layout('[[layout]]\ntable = "apiary.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\n')
        self.slabrow("tend", "--hold", "reading_2025_01", "--go", *NOW)
        self.assertIn("under hold", self.slabrow("release", "apiary.reading_2025_01", "--go", *NOW, code=4).stderr)

    def test_killed_at_each_step_beside_writers(self):
        self.fill(parts=[*MONTHS, "CREATE TABLE apiary.reading_2026 PARTITION OF apiary.reading "
                                  "FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')"])  # fmt: skip
        self.sql(STAGED.format(40_000))
        with writers(self.dsn, self.ROWS, a_second=300) as made:
            for arguments in (ADOPT + MONTH, ("release", "apiary.staged", "--even-the-newest", "--keep-check")):
                midway = sum(self.is_killed_midway(actions, *arguments, "--go", *NOW) for actions in (1, 2, 3))
                self.assertGreater(midway, 0)
                # A statement that the server was at when the program died is done to its end.
                self.wait_until(
                    "SELECT count(*) = 0 FROM pg_stat_activity WHERE application_name = 'slabrow' AND datname = current_database()"
                )
                is_partition = self.value("SELECT relispartition FROM pg_class WHERE relname = 'staged'")
                if is_partition != (arguments[0] == "adopt"):
                    self.go(*arguments)
        self.assertEqual(40_000, self.value("SELECT count(*) FROM apiary.staged"))
        self.assert_same(made)
        again = self.slabrow("release", "apiary.staged", "--go", *NOW, code=2).stderr
        self.assertIn("slabrow history", again)


class AdoptOn15Test(AdoptTest):
    version = 15
