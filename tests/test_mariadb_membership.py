"""Partitions that leave and come back on MariaDB: archives, tables that are taken in, and kills in between."""

import json
import os

from slabrow.files.archive_place import claimed
from tests.mariadb import MariaTest
from tests.support import Kills

COLUMNS = """reading_id bigint NOT NULL AUTO_INCREMENT, taken_at datetime(3) NOT NULL, weight decimal(8,2), f float,
  g double, moment timestamp NULL, day date, kind enum('a','b"c'), flags bit(10), wide bigint unsigned,
  note varchar(40) DEFAULT 'it''s', raw varbinary(20), took time(2), twice int AS (weight * 2) STORED,
  PRIMARY KEY (reading_id, taken_at), KEY by_day (day)"""
PARTITIONS = """PARTITION BY RANGE COLUMNS (taken_at) (PARTITION m01 VALUES LESS THAN ('2026-02-01'),
  PARTITION m02 VALUES LESS THAN ('2026-03-01'), PARTITION `m Ö3` VALUES LESS THAN ('2026-04-01'),
  PARTITION m04 VALUES LESS THAN ('2026-05-01'), PARTITION m05 VALUES LESS THAN ('2026-06-01'))"""
FILL = """INSERT INTO {0} (taken_at, weight, f, g, moment, day, kind, flags, wide, note, raw, took)
  SELECT '{1}' + INTERVAL seq * 97 % {2} DAY + INTERVAL seq * 1007 MICROSECOND, seq / 7, seq / 3, seq / 7e10,
    IF(seq % 3, '2026-01-01' + INTERVAL seq HOUR, NULL), '2025-01-01' + INTERVAL seq % 700 DAY, IF(seq % 2, 'a', 'b"c'),
    seq % 1024, 18446744073709551615 - seq, IF(seq % 5, concat('ä#"\\n,', seq), IF(seq % 2, NULL, '')),
    unhex(lpad(hex(seq), 8, '0')), sec_to_time(seq + 0.25)
  FROM seq_1_to_{3}"""
LAYOUT = """
[[layout]]
table = "{0}.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
ahead = "1 month"
keep = "1 month"
past_keep = "archive"
archive_to = "old"
archive_as = "{1}"
"""
NOW = ("--now", "2026-04-20")
GO = ("--go", "--pretend", *NOW)
SUM = """count(*), sum(crc32(concat_ws('#', reading_id, taken_at, weight, f, g + 0, ifnull(moment, '-'), day, kind, flags + 0,
  wide, ifnull(note, '-'), hex(raw), took, twice)))"""


class MembershipTest(MariaTest):
    rows = 3_000

    def setUp(self):
        super().setUp()
        self.sql(f"CREATE TABLE reading ({COLUMNS}) {PARTITIONS}")
        self.sql(FILL.format("reading", "2026-01-01", 119, self.rows))
        self.sql("SET sql_mode = ''")
        self.sql("UPDATE reading SET day = '2025-02-00' WHERE reading_id % 100 = 0")
        self.sql("UPDATE reading SET reading_id = 0 WHERE reading_id = 97")
        self.layout(LAYOUT.format(self.database, "csv"))

    def of(self, source):
        return self.sql(f"SELECT {SUM} FROM {source}")[0]

    def partitions(self):
        return [row[0] for row in self.sql(
            "SELECT partition_name FROM information_schema.partitions WHERE table_schema = database() "
            "AND table_name = 'reading' ORDER BY partition_ordinal_position"
        )]  # fmt: skip

    def assert_sound(self, tables=("reading",)):
        self.assertEqual("OK", self.sql("CHECK TABLE reading")[0][3])
        self.assertEqual(sorted(tables), sorted(name for (name,) in self.sql("SHOW TABLES")))

    def manifests(self):
        return sorted((self.folder / "old").glob("*.json"))


class ArchiveTest(MembershipTest):
    def test_there_and_back_in_both_forms(self):
        for form in ("csv", "parquet"):
            with self.subTest(form):
                self.layout(LAYOUT.format(self.database, form))
                before = self.of("reading PARTITION (m01)"), self.of("reading PARTITION (m02)"), self.of("reading")
                done = self.json("tend", *GO)
                self.assertEqual(["archive", "archive"], [each["kind"] for each in done["actions"]][-2:])
                self.assertEqual(["m Ö3", "m04", "m05"], self.partitions())
                self.assert_sound()
                one, two = self.manifests()[-2:] if form == "csv" else sorted(self.folder.glob("old/*.2.json"))
                said = json.loads(one.read_text())
                self.assertEqual((before[0][0], "m01"), (said["rows"], said["partition"].split(".")[1]))
                self.json("adopt", "--from-archive", two, code=1)
                self.sql("CREATE TRIGGER audit BEFORE INSERT ON reading FOR EACH ROW SET NEW.note = 'seen'")
                said = self.slabrow("adopt", "--from-archive", two, "--go", code=4).stderr
                self.assertIn("the trigger audit", said)
                self.sql("DROP TRIGGER audit")
                for manifest in (two, one):  # the later month first: the earlier one is then cut out of it
                    self.json("adopt", "--from-archive", manifest, "--go")
                self.assertEqual(
                    before, (self.of("reading PARTITION (m01)"), self.of("reading PARTITION (m02)"), self.of("reading"))
                )
                self.assert_sound()
                self.assertIn("already", self.slabrow("adopt", "--from-archive", one, "--go", code=4).stderr)
                self.assertIn("is under hold", self.slabrow("tend", *NOW).stdout)
                for name in ("m01", "m02"):
                    self.slabrow("tend", "--end-hold", name, "--table", f"{self.database}.reading", "--go")

    def test_an_archive_stands_alone_where_its_table_is_gone(self):
        before = self.of("reading PARTITION (m02)")
        self.json("tend", *GO)
        self.sql("DROP TABLE reading")
        two = self.manifests()[-1]
        self.json("adopt", "--from-archive", two, "--go")
        self.sql("ALTER TABLE m02 ADD COLUMN twice int AS (weight * 2) STORED")
        self.assertEqual(before, self.of("m02"))
        self.assertIn("already", self.slabrow("adopt", "--from-archive", two, "--go", code=4).stderr)
        self.sql("DROP TABLE m02")
        document = json.loads(two.read_text())
        document["columns"][0][1] = "int); DROP TABLE reading; --"
        two.write_text(json.dumps(document))
        self.assertIn("was changed", self.slabrow("adopt", "--from-archive", two, "--go", code=2).stderr)

    def test_rows_that_come_late_are_archived_too(self):
        self.begun_and_stopped()
        apart = next(name for (name,) in self.sql("SHOW TABLES") if name.startswith("slabrow_leaving"))
        self.sql(f"UPDATE {apart} SET note = 'late' WHERE reading_id = (SELECT max(reading_id) FROM {apart})")
        before = self.of(apart)
        self.assertEqual("it is archived, and left as", self.json("tend", *NOW, code=1)["actions"][0]["reason"][:27])
        self.json("tend", *GO)
        self.assert_sound()
        self.json("adopt", "--from-archive", self.manifests()[0], "--go")
        self.assertEqual(before, self.of("reading PARTITION (m01)"))

    def test_a_foreign_table_of_that_name_is_left_alone(self):
        self.begun_and_stopped()
        apart = next(name for (name,) in self.sql("SHOW TABLES") if name.startswith("slabrow_leaving"))
        self.sql(f"ALTER TABLE {apart} RENAME TO kept")
        self.sql(f"CREATE TABLE {apart} LIKE kept")
        self.sql("ALTER TABLE reading REORGANIZE PARTITION m02 INTO (PARTITION m01 VALUES LESS THAN ('2026-02-01'), "
                 "PARTITION m02 VALUES LESS THAN ('2026-03-01'))")  # fmt: skip
        self.assertIn("is in the way", json.dumps(self.json("tend", *GO, code=4)["errors"]))
        self.assertIn(apart, [name for (name,) in self.sql("SHOW TABLES")])

    def begun_and_stopped(self):
        """A run that was killed after m01 had become a table of its own, and before that was dropped."""
        for _ in range(60):
            process = self.begin("tend", *GO)
            while process.poll() is None:
                if any(name.startswith("slabrow_leaving") for (name,) in self.sql("SHOW TABLES")):
                    process.kill()
                    break
            process.communicate()
            if any(name.startswith("slabrow_leaving") and name.endswith("m01") for (name,) in self.sql("SHOW TABLES")):
                return
            for table in [name for (name,) in self.sql("SHOW TABLES")]:
                self.sql(f"DROP TABLE `{table}`")
            for path in (self.folder / "old").glob("*"):
                path.unlink()
            self.sql(f"CREATE TABLE reading ({COLUMNS}) {PARTITIONS}")
            self.sql(FILL.format("reading", "2026-01-01", 119, self.rows))
        self.fail("no kill fell between leaving and being dropped")

    def test_killed_at_any_moment_every_row_is_in_the_table_or_in_its_archive(self):
        kills = Kills(within_s=0.6)
        for _ in range(12):
            kills.kill(self.begin("tend", *GO))
        self.assertGreater(kills.midway, 2)
        self.json("tend", *GO)
        self.assert_sound()
        left, _ = self.of("reading")
        said = [json.loads(path.read_text()) for path in self.manifests()]
        self.assertEqual(
            self.rows, left + sum(each["rows"] for each in said if each["partition"].endswith(("m01", "m02")))
        )
        # A kill may fall into the writing of a manifest: a run an hour later clears that up.
        for path in (self.folder / "old").glob("*.json.partial"):
            os.utime(path, (0, 0))
        (self.folder / "old" / "other.json.partial").write_text("")
        os.utime(self.folder / "old" / "other.json.partial", (0, 0))
        with claimed(self.folder / "old", "another", "relation"):
            pass
        self.assertEqual([], list((self.folder / "old").glob("*.partial")))

    def test_without_the_right_to_tell_partitions_apart_nothing_leaves(self):
        self.sql("CREATE OR REPLACE USER keeper@localhost")
        self.addCleanup(self.sql, "DROP USER keeper@localhost")
        for database in (self.database, f"{self.database}_ledger"):
            self.sql(f"GRANT ALL ON {database}.* TO keeper@localhost")
        done = self.json("tend", *GO, dsn=self.dsn_as("keeper"), code=3)
        self.assertIn("PROCESS", json.dumps(done))
        self.assertEqual(["m01", "m02", "m Ö3", "m04", "m05"], self.partitions())


class JoiningTest(MembershipTest):
    def staged(self, name, month, rows=500):
        self.sql(f"CREATE TABLE `{name}` LIKE reading")
        self.sql(f"ALTER TABLE `{name}` REMOVE PARTITIONING")
        self.sql(f"ALTER TABLE `{name}` AUTO_INCREMENT = 1000000")
        self.sql(FILL.format(f"`{name}`", month, 28, rows))

    def adopt(self, name, *arguments, code=0):
        return self.json("adopt", f"{self.database}.{name}", "--into", "reading", *arguments, code=code)

    def test_a_table_comes_in_on_top_or_into_its_place_and_leaves_again(self):
        self.staged("june", "2026-06-01")
        self.sql("ALTER TABLE june DROP KEY by_day, ALTER note SET DEFAULT 'other'")
        inside, all_rows = self.of("june"), self.of("reading")
        self.adopt("june", code=1)
        self.adopt("june", "--go")
        self.assertEqual(inside, self.of("reading PARTITION (june)"))
        self.adopt("june", "--go")  # it is one already
        self.slabrow("release", "june", "--even-the-newest", "--go")
        back = self.json("release", "m02", "--go")["back"]
        self.assertEqual(all_rows[0] - self.value("SELECT count(*) FROM m02"), self.of("reading")[0])
        self.slabrow(*back.removeprefix("slabrow ").replace("'", "").replace(" 00:00:00", "").split())
        self.assertEqual(all_rows, self.of("reading"))
        self.assert_sound(("reading", "june"))

    def test_rows_that_lie_in_the_next_partition_come_along_or_keep_it_out(self):
        before = self.of("reading")
        self.slabrow("release", "m01", "--go")
        self.sql("INSERT INTO reading (reading_id, taken_at) VALUES (2000000, '2026-01-05')")
        said = self.slabrow("adopt", f"{self.database}.m01", "--into", "reading", "--to", "2026-02-01", "--go", code=4)
        self.assertIn("--from-catch-all", said.stderr)
        self.adopt("m01", "--to", "2026-02-01", "--from-catch-all", "--go")
        self.sql("DELETE FROM reading WHERE reading_id = 2000000")
        self.assertEqual(before, self.of("reading"))
        self.assert_sound()

    def test_killed_at_any_moment_no_row_is_lost_or_doubled(self):
        kills = Kills(within_s=0.7)
        before = self.of("reading")
        for round_ in range(6):
            moves = ["--from-catch-all"] if round_ % 2 else []
            self.slabrow("release", "m01", "--go")
            if moves:
                self.sql("INSERT INTO reading (reading_id, taken_at) VALUES (2000000, '2026-01-05')")
            kills.kill(
                self.begin("adopt", f"{self.database}.m01", "--into", "reading", "--to", "2026-02-01", *moves, "--go")
            )
            self.adopt("m01", "--to", "2026-02-01", *moves, "--go")
            self.sql("DELETE FROM reading WHERE reading_id = 2000000")
            self.assertEqual(before, self.of("reading"))
            self.assert_sound()
        self.assertGreater(kills.midway, 1)

    def test_beside_a_default_no_row_vanishes(self):
        self.sql("CREATE TABLE hive (kind int) PARTITION BY LIST (kind) "
                 "(PARTITION one VALUES IN (1), PARTITION rest DEFAULT)")  # fmt: skip
        self.sql("INSERT INTO hive VALUES (1), (3), (5), (8)")
        self.sql("CREATE TABLE five (kind int)")
        self.sql("INSERT INTO five VALUES (5), (5)")
        arguments = ("adopt", f"{self.database}.five", "--into", "hive", "--go", "--values")
        self.slabrow(*arguments, "1", code=4)
        self.slabrow(*arguments, "5", code=4)
        self.slabrow(*arguments, "5", "--from-catch-all")
        self.assertEqual([(1, 1), (3, 1), (5, 3), (8, 1)], self.sql("SELECT kind, count(*) FROM hive GROUP BY kind"))
        self.assertEqual((3,), self.sql("SELECT count(*) FROM hive WHERE kind = 5")[0])
        self.assertEqual("OK", self.sql("CHECK TABLE hive")[0][3])

    def test_what_cannot_come_in_is_refused_with_the_step_that_helps(self):
        self.staged("july", "2026-07-01")
        for change, words in (
            ("MODIFY weight decimal(9,2)", "MODIFY `weight` decimal(8,2)"),
            ("DROP PRIMARY KEY, ADD PRIMARY KEY (reading_id)", "has no PRIMARY KEY (`reading_id`,`taken_at`)"),
            ("ADD KEY other (note)", "drop it"),
            ("ADD COLUMN more int", "in this order"),
            ("CONVERT TO CHARACTER SET latin1", "must be"),
            ("DROP COLUMN note", "in this order"),
        ):
            with self.subTest(change):
                self.sql("CREATE OR REPLACE TABLE tried LIKE july")
                self.sql(f"ALTER TABLE tried {change}")
                said = self.slabrow(
                    "adopt",
                    f"{self.database}.tried",
                    "--into",
                    "reading",
                    "--to",
                    "2026-08-01",
                    "--from",
                    "2026-06-01",
                    code=4,
                )
                self.assertIn(words, said.stderr)
        for bounds, words in (
            (("--from", "2026-07-01", "--to", "2026-08-01"), "it would begin at 2026-06-01"),
            (("--from", "2026-05-01", "--to", "2026-06-01"), "already holds keys of it"),
            (("--from", "2026-06-01", "--to", "2026-07-01"), "lie outside of the bounds"),
            (("--values", "7"), "divided by range"),
        ):
            said = self.slabrow(
                "adopt",
                f"{self.database}.july",
                "--into",
                "reading",
                *bounds,
                "--go",
                code=2 if "--values" in bounds else 4,
            )
            self.assertIn(words, said.stderr)
        self.assertEqual(5, len(self.partitions()))
