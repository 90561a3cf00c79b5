"""Converting a table in use on MariaDB: beside a writer that remembers what it wrote, with kills, and the way back."""

import random
import threading
import time

from tests.mariadb import MariaTest, connect
from tests.support import Kills

TABLE = """CREATE TABLE reading (
  reading_id bigint NOT NULL AUTO_INCREMENT, hive_id int NOT NULL, taken_at datetime NOT NULL, weight decimal(8,2),
  note varchar(40) DEFAULT 'it''s; (' COMMENT 'AUTO_INCREMENT, not GENERATED ALWAYS AS (x)', raw varbinary(20), PRIMARY KEY (reading_id), KEY by_hive (hive_id, taken_at))"""
LAYOUT = """
[[layout]]
table = "{0}.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
from = 2026-01-01
ahead = "1 month"
catch_all = true
"""
NOW = ("--now", "2026-04-10")
FILL = """INSERT INTO reading (hive_id, taken_at, weight, note, raw)
  SELECT seq % 50, '2026-01-01' + INTERVAL seq * 97 % 100 DAY, seq / 7, IF(seq % 5, concat('ä#', seq), NULL), unhex(hex(seq))
  FROM seq_1_to_{0}"""
COLUMNS = "reading_id, hive_id, taken_at, weight, note, raw"


class Writer:
    """Inserts, updates (also of the key) and deletes as fast as it can, one after the other; `rows` is what must be."""

    def __init__(self, database, rows):
        self.connection = connect(database)
        self.rows, self.errors, self.longest = dict(rows), [], 0.0
        self._stops, self._random = threading.Event(), random.Random(7)
        self._thread = threading.Thread(target=self._run)
        self._thread.start()

    def stop(self):
        self._stops.set()
        self._thread.join()
        if self.connection.open:
            self.connection.close()

    def _run(self):
        while not self._stops.is_set():
            began = time.monotonic()
            try:
                self._write()
            except Exception as error:  # the test looks at them at the end
                self.errors.append(error)
                return
            self.longest = max(self.longest, time.monotonic() - began)
            time.sleep(0.002)

    def _write(self):
        chosen, kind = self._random.choice(list(self.rows)[-3_000:]), self._random.random()
        with self.connection.cursor() as cursor:
            if kind < 0.5:
                cursor.execute(
                    "INSERT INTO reading (hive_id, taken_at, note, raw) VALUES (3, '2026-03-05', %s, %s)",
                    ("'\\", b"'\0"),
                )
                chosen = cursor.lastrowid
            elif kind < 0.7:
                cursor.execute("UPDATE reading SET weight = 1 + hive_id WHERE reading_id = %s", (chosen,))
            elif kind < 0.85:
                cursor.execute(
                    "UPDATE reading SET taken_at = taken_at + INTERVAL 25 DAY WHERE reading_id = %s", (chosen,)
                )
            else:
                cursor.execute("DELETE FROM reading WHERE reading_id = %s", (chosen,))
                del self.rows[chosen]
                return
            cursor.execute(f"SELECT {COLUMNS} FROM reading WHERE reading_id = %s", (chosen,))
            self.rows[chosen] = cursor.fetchone()


class LiveTest(MariaTest):
    def setUp(self):
        super().setUp()
        self.sql(TABLE)
        self.sql(FILL.format(30_000))
        self.layout(LAYOUT.format(self.database))

    def convert(self, *arguments, code=0):
        return self.slabrow("convert", "reading", *NOW, "--go", *arguments, code=code).stdout

    def contents(self, table="reading"):
        self.sql("COMMIT")
        return {row[0]: row for row in self.sql(f"SELECT {COLUMNS} FROM {table}")}

    def has_triggers(self):
        return [row[0] for row in self.sql("SHOW TRIGGERS")]

    def is_partitioned(self, table="reading"):
        return "PARTITION BY" in self.sql(f"SHOW CREATE TABLE {table}")[0][1]

    def beside_a_writer(self):
        writer = Writer(self.database, self.contents())
        self.addCleanup(writer.stop)
        return writer

    def assert_written(self, writer):
        writer.stop()
        self.assertEqual([], writer.errors)
        self.assertEqual(writer.rows, self.contents())

    def test_there_and_back_beside_a_writer(self):
        shown = self.slabrow("convert", "reading", *NOW, code=1)
        self.assertFalse(self.has_triggers())
        self.assertIn("swap names", shown.stdout)
        writer = self.beside_a_writer()
        self.convert()
        self.assertTrue(self.is_partitioned())
        self.assertIn("kept in step", self.slabrow("convert", "reading", "--status", *NOW).stdout)
        time.sleep(0.5)
        self.convert("--undo")
        self.assertFalse(self.is_partitioned())
        self.assert_written(writer)
        self.assertEqual([], self.has_triggers())
        self.assertEqual([("reading",)], self.sql("SHOW TABLES"))

    def test_a_partitioned_table_is_divided_by_another_key(self):
        self.convert()
        self.convert("--drop-old")
        self.layout(LAYOUT.format(self.database).split("by =")[0] + 'by = "hash"\nkey = ["hive_id"]\nparts = 8\n')
        writer = self.beside_a_writer()
        self.convert()
        self.assertIn("PARTITION BY HASH (`hive_id`)", self.sql("SHOW CREATE TABLE reading")[0][1])
        time.sleep(0.3)
        self.convert("--undo")
        self.assertIn("PARTITION BY RANGE", self.sql("SHOW CREATE TABLE reading")[0][1])
        self.assert_written(writer)
        for option, words in (
            (("--way", "locked"), "ADD PRIMARY KEY (`reading_id`, `taken_at`, `hive_id`) PARTITION BY HASH"),
            (("--way", "as-is"), "as it is"),
            (("--script", "walk"), "two connections at once"),
        ):
            said = self.slabrow("convert", "reading", *option, *NOW, code=4).stderr
            self.assertIn("partitioned already" if "locked" in option else words, said)

    def test_tend_keeps_the_old_table_in_step_until_it_goes(self):
        writer = self.beside_a_writer()
        self.convert()
        time.sleep(0.5)
        writer.stop()
        self.assertEqual([], writer.errors)
        self.sql("UPDATE reading SET weight = 2 WHERE reading_id < 1000")  # more than may wait
        writer.rows = self.contents()
        self.assertLess(100, len(set(writer.rows.items()) ^ set(self.contents("reading_before").items())))
        self.slabrow("tend", *NOW, "--go")
        behind = [key for key, row in self.contents("reading_before").items() if writer.rows.get(key) != row]
        self.assertLessEqual(len(behind), 100, "tend leaves at most 100 changes waiting")
        self.convert("--drop-old")
        self.assertEqual(writer.rows, self.contents())
        self.assertEqual([("reading",)], self.sql("SHOW TABLES"))
        self.sql("DELETE FROM reading WHERE reading_id > (SELECT max(reading_id) - 5 FROM (SELECT * FROM reading) r)")
        highest = max(writer.rows)
        self.sql("INSERT INTO reading (hive_id, taken_at) VALUES (1, '2026-01-01')")
        self.assertGreater(max(self.contents()), highest, "a number was given twice")

    def test_kills_at_any_moment_lose_nothing(self):
        writer = self.beside_a_writer()
        there, back = Kills(within_s=1.5), Kills(within_s=1)
        for kills, count, *undo in ((there, 8), (back, 4, "--undo")):
            for _ in range(count):
                kills.kill(self.begin("convert", "reading", *NOW, "--go", *undo))
            if not undo or self.is_partitioned() or self.has_triggers():
                self.convert(*undo)
        self.assertGreater(there.midway, 2)
        self.assertGreater(back.midway, 0)
        self.assertFalse(self.is_partitioned())
        self.assert_written(writer)
        self.assertEqual([("reading",)], self.sql("SHOW TABLES"))

    def test_no_row_is_lost_that_the_old_keys_forbid(self):
        self.sql("UPDATE reading SET note = reading_id")
        self.sql("ALTER TABLE reading ADD UNIQUE KEY by_note (note)")
        self.convert()
        self.sql("UPDATE reading SET note = 'other', taken_at = '2026-02-02' WHERE reading_id = 9")
        for key in ("reading_id = 9", "note = '10'"):  # the one is found by the key of the log, the other is not in it
            self.sql(f"UPDATE reading SET {key}, taken_at = '2026-01-03 07:00:00' WHERE reading_id = 11")
            said = self.slabrow("convert", "reading", *NOW, "--undo", "--go", code=4).stderr
            self.assertIn("share a key", said)
            self.sql("UPDATE reading SET reading_id = 11, note = '11' WHERE taken_at = '2026-01-03 07:00:00'")
        self.assertTrue(self.is_partitioned())
        self.convert("--undo")
        self.assertEqual(30_000, self.value("SELECT count(*) FROM reading"))

    def test_an_altered_table_is_not_swapped(self):
        self.convert("--pause-before-swap")
        self.sql("ALTER TABLE reading ADD COLUMN extra int")
        self.assertIn("altered", self.slabrow("convert", "reading", *NOW, "--go", code=4).stderr)
        self.convert("--give-up")
        self.assertFalse(self.is_partitioned())
        self.assertEqual([], self.has_triggers())

    def test_a_copy_that_was_changed_is_not_swapped(self):
        self.convert("--pause-before-swap")
        self.sql("UPDATE reading_incoming SET weight = 3.33 WHERE reading_id = 77")
        self.sql(f"UPDATE {self.database}_ledger.reshaping SET compared_at = NULL")
        said = self.slabrow("convert", "reading", *NOW, "--go", code=4).stderr
        self.assertIn("differs from the original", said)
        self.assertFalse(self.is_partitioned())

    def test_what_cannot_be_converted_is_refused(self):
        self.sql("CREATE TABLE weighing (reading_id bigint, FOREIGN KEY (reading_id) REFERENCES reading (reading_id))")
        self.assertIn("weighing", self.slabrow("convert", "reading", *NOW, code=4).stderr)
        self.sql("DROP TABLE weighing")

    def test_a_role_without_rights_is_told(self):
        self.sql("CREATE OR REPLACE USER watcher@localhost")
        self.addCleanup(self.sql, "DROP USER watcher@localhost")
        self.sql(f"GRANT SELECT ON {self.database}.* TO watcher@localhost")
        done = self.slabrow("convert", "reading", *NOW, "--go", dsn=self.dsn_as("watcher"), code=4)
        self.assertIn("GRANT", done.stderr)


class DividingTest(MariaTest):
    """`split` and `merge`: one statement of the server, done wholly or not at all."""

    def setUp(self):
        super().setUp()
        self.layout(LAYOUT.format(self.database))
        self.sql(TABLE.replace("PRIMARY KEY (reading_id)", "PRIMARY KEY (reading_id, taken_at)"))
        self.sql(
            "ALTER TABLE reading PARTITION BY RANGE COLUMNS (taken_at) ("
            "PARTITION reading_2026_01 VALUES LESS THAN ('2026-02-01'), "
            "PARTITION reading_2026_02 VALUES LESS THAN ('2026-03-01'), PARTITION reading_rest VALUES LESS THAN MAXVALUE)"
        )
        self.sql(FILL.format(20_000))
        self.sql(
            "CREATE TABLE inspection (zone varchar(4)) PARTITION BY LIST COLUMNS (zone) (PARTITION p_north VALUES IN "
            "('N1', 'N2', NULL), PARTITION p_other DEFAULT)"
        )
        self.sql("INSERT INTO inspection VALUES ('N1'), ('N2'), (NULL), ('S1'), ('S2'), ('S2')")

    def rows(self, table="reading"):
        found = self.sql(
            f"SELECT DISTINCT partition_name FROM information_schema.partitions WHERE table_schema = '{self.database}' "
            f"AND table_name = '{table}' ORDER BY partition_ordinal_position"
        )
        return {name: self.value(f"SELECT count(*) FROM {table} PARTITION (`{name}`)") for (name,) in found}

    def test_ranges(self):
        before, whole = self.rows(), self.value("SELECT count(*) FROM reading")
        shown = self.json("split", "reading_2026_01", "--at", "2026-01-15", code=1)
        self.assertEqual([None], [each["kept_as"] for each in shown["before"]])
        self.assertEqual(before, self.rows())
        self.slabrow("split", "reading_2026_01", "--at", "2026-01-15", "--go")
        first, second, *_ = self.rows().values()
        self.assertEqual(before["reading_2026_01"], first + second)
        self.assertEqual(self.value("SELECT count(*) FROM reading WHERE taken_at < '2026-01-15'"), first)
        self.slabrow("split", "reading_rest", "--span", "1 month", "--go")
        self.assertEqual(0, self.rows()["reading_rest"])
        self.assertEqual(
            {"reading_2026_03", "reading_2026_04"}, set(self.rows()) - set(before) - set(list(self.rows())[:2])
        )
        names = list(self.rows())
        self.slabrow("merge", *names[:3], "--go")
        self.assertEqual(before["reading_2026_01"] + before["reading_2026_02"], next(iter(self.rows().values())))
        self.assertEqual(whole, sum(self.rows().values()))
        self.assertEqual(["OK"], [row[3] for row in self.sql("CHECK TABLE reading")])
        self.assertIn("split", self.slabrow("history").stdout)

    def test_upkeep_coarsens(self):
        self.layout(
            LAYOUT.format(self.database) + 'coarsen = { after = "2 months", span = "1 year" }\nkeep = "9 years"\n'
        )
        whole = sum(self.rows().values())
        self.slabrow("tend", "--go", "--now", "2027-06-01")
        fine = self.rows()
        self.slabrow("tend", "--go", "--now", "2027-06-01")  # what was made is merged by the next run
        self.assertEqual(len(fine) - 10, len(self.rows()), "all of 2026 but the first, which is open below")
        self.assertEqual(whole, sum(self.rows().values()))
        self.assertIn(whole - fine["reading_2026_01"], self.rows().values())
        self.assertEqual(["OK"], [row[3] for row in self.sql("CHECK TABLE reading")])

    def test_a_list_gets_new_partitions_beside_its_default(self):
        self.layout(
            f'[[layout]]\ntable = "{self.database}.inspection"\nby = "list"\nkey = ["zone"]\ncatch_all = true\n'
            'groups = { north = ["N1", "N2"], south = ["S2"] }\n'
        )
        self.slabrow("tend", "--go", "--now", "2027-06-01")
        self.assertEqual(2, self.value("SELECT count(*) FROM inspection WHERE zone = 'S2'"))
        self.assertEqual(1, self.value("SELECT count(*) FROM inspection WHERE zone = 'S1'"))
        self.assertEqual(["OK"], [row[3] for row in self.sql("CHECK TABLE inspection")])

    def test_lists(self):
        self.slabrow("split", "p_other", "--values", "S2", "--go")
        self.assertEqual([3, 2, 1], sorted(self.rows("inspection").values(), reverse=True))
        self.assertEqual(2, self.value("SELECT count(*) FROM inspection WHERE zone = 'S2'"))
        self.slabrow("split", "p_north", "--values", "NULL", "--go")
        self.assertEqual(1, self.value("SELECT count(*) FROM inspection WHERE zone IS NULL"))
        self.assertEqual([1, 1, 2, 2], sorted(self.rows("inspection").values()))

    def test_a_partition_leaves_as_a_table(self):
        held = self.sql("SELECT * FROM reading PARTITION (reading_2026_01) ORDER BY reading_id")
        shown = self.json("release", "reading_2026_01", code=1)
        self.assertIn(f"slabrow adopt {self.database}.reading_2026_01 --into", shown["back"])
        self.assertIn("reading_2026_02", shown["notes"][0])
        self.slabrow("release", "reading_2026_01", "--go")
        self.assertEqual(held, self.sql("SELECT * FROM reading_2026_01 ORDER BY reading_id"))
        self.assertEqual(["reading_2026_02", "reading_rest"], list(self.rows()))
        self.assertIn("is no partition", self.slabrow("release", "reading_2026_01", "--go", code=2).stderr)
        self.sql("CREATE TABLE p_north (a int)")
        self.assertIn("already exists", self.slabrow("release", "p_north", "--go", code=3).stderr)
        self.assertEqual(3, self.rows("inspection")["p_north"])

    def test_indexes(self):
        create = ("index", "reading", "--create", "CREATE INDEX by_weight ON reading (weight, note(5))")
        self.slabrow(*create, code=1)
        for more in (", DROP COLUMN note", " /*! , DROP COLUMN note */", " -- "):
            more = f"CREATE INDEX x ON reading (weight){more}"
            said = self.slabrow("index", "reading", "--create", more, "--go", code=2).stderr
            self.assertIn("more than one index", said)
        reader = connect(self.database)
        self.addCleanup(reader.close)
        with reader.cursor() as cursor:
            cursor.execute("SET autocommit = 0")
            cursor.execute("SELECT count(*) FROM reading PARTITION (reading_2026_01)")
            self.assertIn("reading", self.slabrow(*create, "--go", code=3).stderr, "an open transaction is in the way")
        reader.rollback()
        self.slabrow(*create, "--go")
        (made,) = [each for each in self.json("index", "reading")["indexes"] if each["name"].endswith("by_weight")]
        self.assertEqual(3, made["there"])
        self.assertIn("there is an index", self.slabrow(*create, "--go", code=4).stderr)
        self.slabrow("index", "reading", "--create", "UNIQUE (hive_id)", "--go", code=3)
        self.slabrow("index", "reading", "--drop", "by_weight", "--go")
        self.assertEqual(2, len(self.json("index", "reading")["indexes"]))
        self.assertIn("belongs to a key", self.slabrow("index", "reading", "--drop", "PRIMARY", code=4).stderr)

    def test_what_cannot_be_divided_is_refused(self):
        self.sql("CREATE TABLE tenant (id int PRIMARY KEY) PARTITION BY HASH (id) PARTITIONS 2")
        before = self.rows()
        for arguments, code, words in (
            (("split", "reading_2026_01", "--at", "2027-01-15"), 2, "does not lie within"),
            (("split", "reading_rest", "--at", "2026-05-01", "2026-06-01"), 4, "gap"),
            (("merge", "reading_2026_01", "reading_rest"), 4, "catch-all"),
            (("merge", "reading_2026_01", "nowhere"), 2, "nowhere"),
            (("split", "p0"), 4, "whole table"),
        ):  # fmt: skip
            self.assertIn(words, self.slabrow(*arguments, "--go", code=code).stderr)
        self.assertEqual(before, self.rows())

    def test_kills_leave_the_old_or_the_new(self):
        whole, kills = sum(self.rows().values()), Kills(within_s=1.2)
        is_open = f"SELECT count(*) FROM {self.database}_ledger.reshaping WHERE ended IS NULL"
        for _ in range(6):
            is_split = "reading_2026_01" not in self.rows()
            wanted = list(self.rows())[:2]
            command = ("merge", *wanted) if is_split else ("split", "reading_2026_01", "--at", "2026-01-10")
            kills.kill(self.begin(*command, "--go"))
            self.assertEqual(whole, sum(self.rows().values()))
            if self.sql("SHOW DATABASES LIKE %s", f"{self.database}_ledger") and self.value(is_open):
                self.slabrow(*command, "--go")
        if "reading_2026_01" in self.rows():
            self.slabrow("split", "reading_2026_01", "--at", "2026-01-10", "--go")
        self.assertEqual(whole, sum(self.rows().values()))
        self.assertEqual(0, self.value(is_open))
