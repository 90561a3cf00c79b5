"""MariaDB: what is said of tables of many shapes, held against what the server counts."""

import random
import subprocess

from tests.mariadb import MariaTest, server

ODD = 'Bienen`stand "ü"'
SPELLED = '"Bienen`stand ""ü"""'
TABLES = """
CREATE TABLE reading (reading_id bigint NOT NULL AUTO_INCREMENT, hive_id int NOT NULL, taken_at datetime(6) NOT NULL,
  weight decimal(6,2), PRIMARY KEY (reading_id, taken_at), KEY by_time (taken_at), KEY by_hive (hive_id))
  PARTITION BY RANGE COLUMNS (taken_at) (PARTITION p01 VALUES LESS THAN ('2026-02-01'),
  PARTITION p02 VALUES LESS THAN ('2026-03-01'), PARTITION rest VALUES LESS THAN (MAXVALUE));
INSERT INTO reading (hive_id, taken_at, weight)
  SELECT seq % 40, '2026-01-01' + INTERVAL seq * 2 MINUTE, seq % 300 / 10 FROM seq_1_to_40000;
CREATE TABLE ping (ping_id bigint AUTO_INCREMENT PRIMARY KEY, hive_id int, at timestamp NULL, note varchar(60), KEY (at));
INSERT INTO ping (hive_id, at, note)
  SELECT IF(seq % 50 = 0, NULL, seq % 30), '2025-06-01' + INTERVAL seq HOUR, concat('n', seq % 7) FROM seq_1_to_6000;
INSERT INTO ping (ping_id, hive_id, at) VALUES (90000, 1, NULL);
CREATE TABLE `Bienen``stand "ü"` (`Käse``n` int, `at` date, note varchar(20), KEY (`at`)) PARTITION BY RANGE COLUMNS (`at`)
  (PARTITION `p-1` VALUES LESS THAN ('2026-02-01'), PARTITION `p``2` VALUES LESS THAN ('2026-03-01'));
INSERT INTO `Bienen``stand "ü"` SELECT seq, '2026-01-01' + INTERVAL seq % 50 DAY, 'x' FROM seq_1_to_3000;
CREATE TABLE coop_event (event_id bigint AUTO_INCREMENT, coop_id int NOT NULL, PRIMARY KEY (event_id, coop_id))
  PARTITION BY HASH (coop_id) PARTITIONS 4;
INSERT INTO coop_event (coop_id) SELECT seq % 9 FROM seq_1_to_3000;
CREATE TABLE inspection (id int, zone_code varchar(4)) PARTITION BY LIST COLUMNS (zone_code)
  (PARTITION a VALUES IN ('a', 'b'), PARTITION n VALUES IN (NULL), PARTITION r DEFAULT);
INSERT INTO inspection SELECT seq, elt(1 + seq % 5, 'a', 'b', 'c', NULL, 'Z') FROM seq_1_to_1000;
CREATE TABLE sub (id int, at date, k int) PARTITION BY RANGE COLUMNS (at) SUBPARTITION BY HASH (k) SUBPARTITIONS 2
  (PARTITION p1 VALUES LESS THAN ('2026-02-01'), PARTITION p2 VALUES LESS THAN (MAXVALUE));
INSERT INTO sub SELECT seq, '2026-01-01' + INTERVAL seq % 60 DAY, seq FROM seq_1_to_1000;
CREATE TABLE nothing (id int PRIMARY KEY, at date);
CREATE VIEW seen AS SELECT * FROM ping;
ANALYZE TABLE reading, ping, coop_event, inspection, sub, `Bienen``stand "ü"`
"""
NOW = ("--now", "2026-03-20")


class ReadingTest(MariaTest):
    def setUp(self):
        super().setUp()
        self.sql("SET SESSION sql_mode = ''")  # zero dates may come in
        for statement in TABLES.split(";\n"):
            self.sql(statement)

    def months(self, table, *arguments):
        """Rows by the month, as a survey has them."""
        counts = self.json("survey", table, *arguments)["counts"]
        return {each["from"][:7]: each["rows"] for each in counts["buckets"]}, counts

    def test_tables_at_a_glance(self):
        found = self.json("survey", *NOW)
        tables = {each["table"].rpartition(".")[2]: each for each in found["tables"]}
        self.assertEqual({"reading", "ping", "coop_event", "inspection", "sub", "nothing", SPELLED}, set(tables))
        self.assertEqual({None}, {each["rows_scanned"] for each in found["tables"]})
        self.assertIn("userstat", self.slabrow("survey", *NOW).stdout)
        self.assertEqual("leave it", tables["ping"]["verdict"])
        self.assertEqual("fine", tables["coop_event"]["verdict"])
        self.assertIn("has ended (2026-03-01)", tables["reading"]["why"])
        self.assertEqual(
            ("2026-03-01", 3), (tables["reading"]["partitions"]["ends"][:10], tables["reading"]["partitions"]["leaves"])
        )
        self.assertIn("in the catch-all", tables["inspection"]["why"])
        # The command is for a shell: the name stays one word of it, whoever made it up.
        words = subprocess.run(
            ["bash", "-c", f"printf '%s\\n' {tables[SPELLED]['command']}"], capture_output=True, text=True
        ).stdout.splitlines()
        self.assertEqual(["slabrow", "census", SPELLED], words)
        self.assertEqual([], self.json("census", SPELLED)["findings"])
        self.sql("SET GLOBAL userstat = 1")
        self.addCleanup(self.sql, "SET GLOBAL userstat = 0")
        self.sql("FLUSH TABLE_STATISTICS, INDEX_STATISTICS")
        self.sql("SELECT count(*) FROM ping WHERE note = 'n1'")
        self.sql("SELECT note FROM ping WHERE at = '2025-07-01'")
        self.sql("UPDATE ping SET note = 'n' WHERE ping_id <= 3")
        [ping] = [each for each in self.json("survey", *NOW)["tables"] if each["table"].endswith(".ping")]
        self.assertEqual((6_001, 3), (ping["rows_scanned"], ping["rows_written"]))
        # One more row may be looked at behind the last that an index finds.
        self.assertIn(ping["rows_fetched"], (4, 5))
        self.sql(f"CREATE DATABASE {self.database}_empty")
        self.addCleanup(self.sql, f"DROP DATABASE {self.database}_empty")
        empty = self.dsn.replace(f"/{self.database}?", f"/{self.database}_empty?")
        self.assertIn("Nothing asks for a change", self.slabrow("survey", dsn=empty).stdout)

    def test_estimates_are_like_what_is_counted(self):
        for table, spelled in (
            ("reading", "reading"),
            ("ping", "ping"),
            ("sub", "sub"),
            (f"`{ODD.replace('`', '``')}`", SPELLED),
        ):
            column = "taken_at" if table == "reading" else "at"
            rows = dict(
                self.sql(
                    f"SELECT date_format({column}, '%Y-%m'), count(*) FROM {table} WHERE {column} IS NOT NULL GROUP BY 1"
                )
            )
            with self.subTest(table):
                self.assertEqual(rows, self.months(spelled, "--exact")[0])
                for options in ((), ("--sample", "40")):
                    months, counts = self.months(spelled, *options)
                    self.assertEqual(set(rows), set(months))
                    for month, count in rows.items():
                        self.assertAlmostEqual(count, months[month], delta=0.2 * count + 60)
                    self.assertLess(counts["nulls"], 40)
        columns = {each["name"]: each for each in self.json("survey", "ping")["columns"]}
        # The key leaps from 6,000 to 90,000: the row behind the gap must not count for all that are not there.
        self.assertAlmostEqual(0.02, columns["hive_id"]["null_share"], delta=0.015)
        self.assertAlmostEqual(30, columns["hive_id"]["distinct"], delta=4)
        self.assertEqual((1, 90_000), (columns["ping_id"]["low"], columns["ping_id"]["high"]))
        events = self.json("survey", "coop_event")
        self.assertEqual(["event_id"], [each["column"] for each in events["ageing"]])
        empty = self.json("survey", "nothing")
        self.assertEqual((0, None), (empty["rows"], empty["counts"]))
        self.assertIn("it is a view", self.slabrow("survey", "seen", code=2).stderr)

    def test_a_large_table_is_known_by_what_its_indexes_show(self):
        """Above 50,000 rows nothing is read as a whole."""
        for key, is_known in (("PRIMARY KEY (id)", True), ("KEY (at)", True), ("KEY (note)", False), ("", False)):
            columns = "id bigint NOT NULL, at datetime, note varchar(20)" + (f", {key}" if key else "")
            self.sql(f"CREATE OR REPLACE TABLE large ({columns})")
            # A hole of three months in the key as in the times.
            self.sql(
                "INSERT INTO large SELECT seq, '2025-01-01' + INTERVAL seq MINUTE, concat('n', seq % 9) FROM seq_1_to_60000"
            )
            self.sql(
                "INSERT INTO large SELECT seq, '2025-01-01' + INTERVAL seq MINUTE, concat('n', seq % 9) FROM seq_200001_to_260000"
            )
            self.sql("ANALYZE TABLE large")
            with self.subTest(key):
                found = self.json("survey", "large")
                columns = {each["name"]: each for each in found["columns"]}
                self.assertEqual(is_known, columns["at"]["distinct"] is not None)
                if not is_known:
                    self.assertIn("PERSISTENT FOR ALL", found["notes"][0])
                    continue
                self.assertEqual("2025-01-01", columns["at"]["low"][:10])
                months = {each["from"][:7]: each["rows"] for each in found["counts"]["buckets"]}
                self.assertAlmostEqual(44_640, months["2025-01"], delta=6_000)
                self.assertLess(months["2025-04"], 3_000)
                # Only the primary key tells in which order the rows lie.
                self.assertEqual(key.startswith("PRIMARY"), bool(found["ageing"]))
        self.sql("ANALYZE TABLE large PERSISTENT FOR ALL")
        self.assertEqual("2025-01-01", self.json("survey", "large")["columns"][1]["low"][:10])

    def test_days_that_no_calendar_holds(self):
        self.sql(
            "CREATE TABLE odd (id int PRIMARY KEY, d date, x set('a', 'b'), b binary(4), t time, y year, j json, f double)"
        )
        self.sql("INSERT INTO odd SELECT seq, IF(seq % 10 = 0, '0000-00-00', '2026-01-01' + INTERVAL seq DAY), 'a,b', unhex('00ff27'), "
                 "'12:01:02', 2020, '{\"a\":1}', seq / 7 FROM seq_1_to_500")  # fmt: skip
        months, counts = self.months("odd", "--exact")
        self.assertEqual((450, 50), (sum(months.values()), counts["outside"]))
        self.assertIn("50 rows with a time that no calendar holds", self.slabrow("survey", "odd", "--exact").stdout)
        estimated, counts = self.months("odd")
        self.assertEqual((set(months), 0), (set(estimated), counts["outside"]))
        self.sql("UPDATE odd SET d = '0000-00-00'")
        months, counts = self.months("odd", "--exact")
        self.assertEqual(({}, 500), (months, counts["outside"]))

    def test_censuses_count_every_leaf(self):
        for table, spelled in (
            ("reading", "reading"),
            ("coop_event", "coop_event"),
            ("inspection", "inspection"),
            ("sub", "sub"),
            (f"`{ODD.replace('`', '``')}`", SPELLED),
        ):
            with self.subTest(table):
                found = self.json("census", spelled, "--exact", code=1 if table == "inspection" else 0)
                leaves = [each for each in found["partitions"] if each["rows"] is not None]
                self.assertEqual(self.value(f"SELECT count(*) FROM {table}"), sum(each["rows"] for each in leaves))
                parts = dict(self.sql("SELECT coalesce(concat(partition_name, '_', subpartition_name), partition_name), coalesce(subpartition_name, partition_name) "
                                      "FROM information_schema.partitions WHERE table_schema = database() AND table_name = %s", table.strip("`").replace("``", "`")))  # fmt: skip
                self.assertEqual(set(parts), {each["name"] for each in leaves})
                for each in leaves:
                    part = parts[each["name"]].replace("`", "``")
                    self.assertEqual(self.value(f"SELECT count(*) FROM {table} PARTITION (`{part}`)"), each["rows"])
        codes = [each["code"] for each in self.json("census", "inspection", "--exact", code=1)["findings"]]
        self.assertEqual(["catch_all_rows"], codes)
        self.assertIn("not partitioned", self.slabrow("census", "nothing", code=2).stderr)

    def test_routes_are_where_the_rows_are(self):
        chance = random.Random(3)
        for table, spelled, column in (("reading", "reading", "taken_at"), ("coop_event", "coop_event", "coop_id"),
                                       ("inspection", "inspection", "zone_code"), (f"`{ODD.replace('`', '``')}`", SPELLED, "at")):  # fmt: skip
            parts = [name for (name,) in self.sql("SELECT partition_name FROM information_schema.partitions WHERE table_schema = database() AND table_name = %s",
                                                  table.strip("`").replace("``", "`"))]  # fmt: skip
            held = {}
            for part in parts:
                name = part.replace("`", "``")
                for (value,) in self.sql(
                    f"SELECT DISTINCT CAST({column} AS CHAR) FROM {table} PARTITION (`{name}`) WHERE {column} IS NOT NULL"
                ):
                    held[value] = part
            asked = chance.sample(sorted(held), min(12, len(held)))
            with self.subTest(table):
                found = self.json("route", spelled, *asked)["routes"]
                self.assertEqual([held[each] for each in asked], [each["partition"] for each in found])
        self.assertIn("nowhere", self.slabrow("route", SPELLED, "2027-01-01", code=1).stdout)
        self.assertIn("write a date", self.slabrow("route", SPELLED, "soon", code=2).stderr)

    def test_a_script_does_by_hand_what_tend_would(self):
        self.layout(
            f'[[layout]]\ntable = "{self.database}.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\nfrom = 2026-01-01\n'
            'ahead = "2 months"\nkeep = "1 month"\npast_keep = "drop"\ncatch_all = true\n'
        )
        self.assertIn("at_most_share", self.slabrow("tend", *NOW, "--script", "t.sql", code=4).stderr)
        self.assertFalse((self.folder / "t.sql").exists())
        self.slabrow("tend", *NOW, "--retiring", "1", "--script", "t.sql")
        text = (self.folder / "t.sql").read_text()
        self.assertIn(f"-- Upkeep of {self.database}.reading\n", text)
        self.assertEqual(40_000, self.value("SELECT count(*) FROM reading"))
        done = subprocess.run(
            ["mariadb", "-S", f"{server().folder}/s", "-u", "root", self.database],
            input=text,
            capture_output=True,
            text=True,
        )
        self.assertEqual((0, ""), (done.returncode, done.stderr))
        self.assertEqual(17_681, self.value("SELECT count(*) FROM reading"))
        self.assertEqual([], self.json("tend", *NOW)["actions"])
