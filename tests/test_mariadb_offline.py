"""Predictions from MariaDB's DDL alone, held against the server that the DDL was given to."""

from tests.mariadb import MariaTest

DUMP = """/*!40101 SET NAMES utf8mb4 */;
SET time_zone = '+00:00';
CREATE TABLE `reading` (
  `reading_id` bigint(20) NOT NULL AUTO_INCREMENT,
  `taken_at` datetime NOT NULL,
  `hive_id` int(11) NOT NULL COMMENT 'a, b; (PRIMARY KEY',
  PRIMARY KEY (`reading_id`,`taken_at`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='it''s; PARTITION BY'
 PARTITION BY RANGE  COLUMNS(`taken_at`)
(PARTITION `m01` VALUES LESS THAN ('2026-02-01') ENGINE = InnoDB,
 PARTITION `m02` VALUES LESS THAN ('2026-03-01') ENGINE = InnoDB,
 PARTITION `rest` VALUES LESS THAN (MAXVALUE) ENGINE = InnoDB);
create table if not exists coop_event (event_id integer not null, at timestamp not null, kind varchar(10), primary key (event_id, at))
 partition by range (unix_timestamp(at)) (partition a values less than (unix_timestamp('2026-02-01 00:00:00')),
   partition b values less than maxvalue);
create table hive (hive_id int primary key, name varchar(20)) partition by key () partitions 8;
create table zone (zone_code varchar(4) collate utf8mb4_bin, n int) partition by list columns (zone_code)
 (partition north values in ('n', 'ne'), partition rest default);
create algorithm=undefined definer=`root`@`localhost` sql security definer view `late` as select * from reading where taken_at >= '2026-02-10';
"""
QUERIES = """
-- name: month
SELECT count(*) FROM reading WHERE taken_at >= '2026-02-05' AND taken_at < '2026-02-10';
-- name: function
SELECT count(*) FROM reading WHERE date(taken_at) = '2026-02-05';
-- name: moment
SELECT * FROM coop_event WHERE at >= '2026-03-01';
-- name: hive
SELECT * FROM hive WHERE hive_id IN (5, 6);
-- name: list
SELECT * FROM zone WHERE zone_code = 'n';
-- name: view
SELECT * FROM late WHERE taken_at < '2026-02-20';
-- name: change
UPDATE reading SET hive_id = 3 WHERE taken_at = '2026-04-01';
"""


class OfflineTest(MariaTest):
    def test_predictions_from_a_dump_are_those_of_the_server(self):
        (self.folder / "dump.sql").write_text(DUMP)
        (self.folder / "q.sql").write_text(QUERIES)
        for statement in DUMP.split(";\n")[1:]:
            if statement.strip():
                self.sql(statement)
        self.sql("INSERT INTO reading (taken_at, hive_id) SELECT '2026-01-01' + INTERVAL seq DAY, seq FROM seq_1_to_90")
        self.sql("INSERT INTO hive SELECT seq, seq FROM seq_1_to_99")
        self.sql("INSERT INTO zone VALUES ('n', 1), ('s', 2)")
        self.sql("INSERT INTO coop_event SELECT seq, '2026-01-01' + INTERVAL seq DAY, 'x' FROM seq_1_to_90")
        offline = ("prove", "--offline", "--schema", "dump.sql", "--queries", "q.sql")
        predicted = self.touched(self.json(*offline, "--family", "mariadb", dsn="postgresql://nowhere/"))
        self.assertEqual(7, len(predicted))
        self.assertEqual(predicted, self.touched(self.json("prove", "--queries", "q.sql")))
        self.assertEqual(predicted, self.touched(self.json(*offline)), "the DSN tells the family")
        used = f"USE {self.database};\n{DUMP}"
        (self.folder / "dump.sql").write_text(used)
        self.assertEqual(predicted, self.touched(self.json(*offline)))

    def touched(self, document):
        return {each["name"]: sorted(each["planned"] or each["predicted"]) for each in document["queries"]}

    def test_what_is_no_dump_is_refused(self):
        (self.folder / "q.sql").write_text("SELECT 1 FROM reading;")
        for text, words in (
            ("SELECT 1;", "creates no table"),
            ("CREATE TABLE reading (a int);", "no partitioned table"),
            ("CREATE TABLE reading (a int) PARTITION BY RANGE (a) (PARTITION p VALUES LESS THAN", "not understood"),
            ("CREATE TABLE reading (a varchar(3) DEFAULT 'x;", "never closed"),
            ("CREATE TABLE", "without a name"),
            ("CREATE TABLE `r` (`a` int) PARTITION BY SYSTEM_TIME (PARTITION p0 HISTORY);", "not understood"),
        ):
            (self.folder / "dump.sql").write_text(text)
            arguments = ("prove", "--offline", "--schema", "dump.sql", "--queries", "q.sql", "--family", "mariadb")
            self.assertIn(words, self.slabrow(*arguments, code=2).stderr, text)
