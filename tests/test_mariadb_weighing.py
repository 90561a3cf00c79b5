"""Weighing on MariaDB: the server's own costs, its statement statistics, and how unevenly its KEY spreads rows."""

import tomllib
import unittest

from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.statistics.key_shares import key_shares
from slabrow.servers.mariadb.ask.digests import readable
from slabrow.servers.mariadb.private.server import start
from tests.mariadb import MariaTest
from tests.support import run

READING = """CREATE TABLE reading (reading_id bigint AUTO_INCREMENT PRIMARY KEY, hive_id int NOT NULL, taken_at datetime,
  weight int, KEY (hive_id, taken_at))"""
FILL = """INSERT INTO reading (hive_id, taken_at, weight)
  SELECT seq % 50, '2026-01-01' + INTERVAL seq MINUTE, seq FROM seq_1_to_50000"""


class CostsTest(MariaTest):
    def test_the_server_is_measured_and_nothing_of_it_stays(self):
        self.sql(READING)
        self.sql(FILL)
        (self.folder / "q.sql").write_text("-- per day: 500\nSELECT * FROM reading WHERE hive_id = 7;\n")
        self.sql("CREATE DATABASE slabrow_calibrating_4000000000")  # of a run that was killed
        self.json("weigh", "reading", "--workload", "q.sql", "--calibrate", "--costs", "costs.toml")
        costs = tomllib.loads((self.folder / "costs.toml").read_text())["costs"]
        self.assertEqual(0.0, costs["first_leaf"])
        for name in ("planning", "planning_leaf", "row", "block", "fetch", "insert", "delete", "drop"):
            self.assertGreater(costs[name], 0.0, name)
        self.assertLess(costs["planning_rest"], costs["planning"])
        self.assertEqual([], self.sql("SHOW DATABASES LIKE 'slabrow\\_calibrating%'"))
        self.sql("CREATE OR REPLACE USER watcher@localhost")
        self.addCleanup(self.sql, "DROP USER watcher@localhost")
        self.sql(f"GRANT SELECT ON {self.database}.* TO watcher@localhost")
        arguments = ("weigh", "reading", "--workload", "q.sql")
        self.slabrow(*arguments, dsn=self.dsn_as("watcher"))
        self.assertIn(
            "GRANT ALL ON", self.slabrow(*arguments, "--calibrate", dsn=self.dsn_as("watcher"), code=3).stderr
        )

    def test_keys_of_several_numbers_spread_as_unevenly_as_the_server_spreads_them(self):
        self.sql("CREATE TABLE numbers (one int, two bigint)")
        self.sql("INSERT INTO numbers SELECT floor(rand(3) * 50), seq FROM seq_1_to_20000")
        one = ColumnStatistics("one", 0.0, 50.0, (), tuple(range(50)))
        two = ColumnStatistics("two", 0.0, 20_000.0, (), tuple(range(1, 20_001, 200)))
        for parts in (4, 16, 64):
            self.sql(
                f"CREATE OR REPLACE TABLE spread (one int, two bigint) PARTITION BY KEY (one, two) PARTITIONS {parts}"
            )
            self.sql("INSERT INTO spread SELECT * FROM numbers")
            largest = (
                max(self.value(f"SELECT count(*) FROM spread PARTITION (p{part})") for part in range(parts)) / 20_000
            )
            self.assertAlmostEqual(1.0, max(key_shares(["int", "bigint"], [one, two], parts)) / largest, delta=0.05)
            self.assertGreater(largest * parts, 1.3)
        self.assertAlmostEqual(1 / 16, max(key_shares(["int"], [two], 16)), delta=0.002)
        self.assertEqual([0.25] * 4, key_shares(["varchar(20)"], [one], 4))


class CompareTest(MariaTest):
    def test_two_layouts_are_measured_side_by_side_and_results_can_be_kept(self):
        self.sql(READING)
        self.sql(FILL)
        self.sql("CREATE TABLE by_hive LIKE reading")
        self.sql(
            "ALTER TABLE by_hive DROP PRIMARY KEY, ADD PRIMARY KEY (reading_id, hive_id) PARTITION BY HASH (hive_id) PARTITIONS 8"
        )
        self.sql("INSERT INTO by_hive SELECT * FROM reading")
        self.sql("ANALYZE TABLE reading, by_hive")
        (self.folder / "q.sql").write_text(
            "-- name: whole\nSELECT hive_id, max(taken_at), 'a?b' FROM by_hive WHERE weight > 7 GROUP BY hive_id;\n"
            "-- name: one\nSELECT * FROM by_hive IGNORE INDEX (hive_id) WHERE hive_id = 7;\n"
        )
        side_by_side = self.json("compare", "by_hive", "--with", "reading", "--queries", "q.sql", "--times", "2")
        self.assertEqual([True, True], [each["same_rows"] for each in side_by_side["queries"]])
        one = side_by_side["queries"][1]
        self.assertLess(one["after"]["blocks"] * 3, one["before"]["blocks"])
        for name in ("first.json", "later.json"):  # two processes
            self.slabrow("compare", "by_hive", "--queries", "q.sql", "--times", "1", "--save", name)
        kept = self.json("compare", "--with-saved", "first.json", "--saved", "later.json")
        self.assertEqual([True, True], [each["same_rows"] for each in kept["queries"]])


class StatisticsTest(MariaTest):
    def test_statistics_of_statements_are_a_workload(self):
        self.assertIn("performance_schema is off", self.slabrow("prove", "--statistics", code=3).stderr)
        server = start(more=("--performance-schema=ON",))
        self.addCleanup(server.stop)
        import pymysql

        connection = pymysql.connect(unix_socket=f"{server.folder}/s", user="root", autocommit=True)
        self.addCleanup(connection.close)
        with connection.cursor() as cursor:
            cursor.execute("CREATE DATABASE apiary")
            cursor.execute("USE apiary")
            cursor.execute(READING)
            cursor.execute(FILL)
            cursor.execute("ANALYZE TABLE reading PERSISTENT FOR ALL")
            for hive in range(40):
                cursor.execute(f"SELECT * FROM reading WHERE hive_id = {hive} AND taken_at >= '2026-01-05'")
                cursor.execute(
                    f"SELECT count(*), max(weight) FROM reading WHERE hive_id IN (1, {hive}) AND taken_at > now() - INTERVAL 3 DAY"
                )
                cursor.execute("INSERT INTO reading (hive_id, taken_at) VALUES (1, '2026-05-01'), (2, '2026-05-01')")
        env = {"SLABROW_DSN": server.dsn.replace("/?", "/apiary?")}
        done = run("weigh", "reading", "--statistics", "--keep", "1 month", env=env, cwd=self.folder)
        self.assertEqual(0, done.returncode, done.stderr)
        self.assertIn("shapes of statement ask of it", done.stdout)
        self.assertIn("came without values", done.stdout)


class DigestTest(unittest.TestCase):
    def test_words_of_the_statistics_become_statements(self):
        for text, wanted in (
            ("SELECT COUNT ( * ) FROM `r` WHERE `v` IN (...)", "SELECT COUNT( * ) FROM `r` WHERE `v` IN (?)"),
            ("INSERT INTO `r` VALUES (...) /* , ... */ ", "INSERT INTO `r` VALUES (?)"),
            ("SELECT NOW ( ) - INTERVAL ? SQL_TSI_DAY", "SELECT NOW( ) - INTERVAL ? DAY"),
            ("SELECT ?, ... FROM `r`", "SELECT ? FROM `r`"),
            ("SELECT `a` FROM `r` WHERE `b` = ? AND ...", None),
            ("SELECT ? , (unknown)", None),
        ):
            found = readable(text)
            self.assertEqual(wanted, found if found is None else found.strip(), text)
