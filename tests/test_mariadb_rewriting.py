"""MariaDB: what `prove` offers to write instead returns the same rows as what was written, and prunes."""

import datetime
import random
from zoneinfo import ZoneInfo

from slabrow.core.rewriting.statement_rewrites import rewritten
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.dialect import BACKQUOTED, speaking
from slabrow.core.sql.schema import Schema
from slabrow.core.table.tree import KeyColumn
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name
from tests.mariadb import MariaTest

COLUMNS = {
    "at": KeyColumn("at", "at", Kind.TIMESTAMPTZ, "timestamp(3)"),
    "local": KeyColumn("local", "local", Kind.TIMESTAMP, "datetime"),
    "day": KeyColumn("day", "day", Kind.DATE, "date"),
    "n": KeyColumn("n", "n", Kind.INTEGER, "int"),
}
TIMES = ("at", "local", "day")
# {} is the key. The second part: columns that it is tried on.
EQUAL = [
    ("DATE({}) = '2026-02-28'", TIMES),
    ("DATE({}) = DATE '2026-03-29'", TIMES),
    ("DATE({}) = '2026-03-29 00:00:00'", TIMES),
    ("CAST({} AS DATE) < '2026-03-01'", TIMES),
    ("'2026-03-01' >= DATE({})", TIMES),
    ("DATE({}) > CAST('2026-03-10 13:00:00' AS DATE)", TIMES),
    ("DATE({}) BETWEEN '2026-01-30' AND '2026-02-02'", TIMES),
    ("DATE({}) IN ('2026-03-28', '2026-03-29')", TIMES),
    ("YEAR({}) = 2026", TIMES),
    ("YEAR({}) < 2026", TIMES),
    ("YEAR({}) IN (2025, 2026)", TIMES),
    ("2026 <= YEAR({})", TIMES),
    ("EXTRACT(YEAR FROM {}) > 2025", TIMES),
    ("YEAR({}) = 2026 AND MONTH({}) = 2", TIMES),
    ("MONTH({}) = 12 AND EXTRACT(YEAR FROM {}) = 2025", TIMES),
    ("EXTRACT(YEAR_MONTH FROM {}) = 202602", TIMES),
    ("EXTRACT(YEAR_MONTH FROM {}) >= 202603", TIMES),
    ("DATE_FORMAT({}, '%Y-%m') = '2026-03'", TIMES),
    ("DATE_FORMAT({}, '%Y-%m') <= '2026-01'", TIMES),
    ("DATE_FORMAT({}, '%Y-%m-%d') > '2026-03-29'", TIMES),
    ("DATE_FORMAT({}, '%Y%m%d') IN ('20260228', '20260301')", TIMES),
    ("DATE_FORMAT({}, '%Y') = '2025'", TIMES),
    ("LEFT({}, 7) = '2026-02'", TIMES),
    ("LEFT({}, 10) >= '2026-03-01'", TIMES),
    ("{} LIKE '2026-02%'", TIMES),
    ("{} LIKE '2026-03-29%'", TIMES),
    ("{} LIKE '2025-%'", TIMES),
    ("{} LIKE '2026-03-29 %'", ("at", "local")),
    ("{} + INTERVAL 1 DAY > '2026-03-29'", TIMES),
    ("{} - INTERVAL 90 MINUTE <= '2026-03-29 03:00:00'", ("at", "local")),
    ("DATE_ADD({}, INTERVAL 2 WEEK) >= '2026-03-01'", TIMES),
    ("DATE_SUB({}, INTERVAL 3 HOUR) < NOW()", ("at", "local")),
    ("{} + INTERVAL 2 DAY > CURDATE()", TIMES),
    ("DATE({}) = CURDATE() - INTERVAL 3 DAY", TIMES),
    ("DATE({}) >= DATE_SUB(CURRENT_DATE, INTERVAL 1 MONTH)", TIMES),
    ("DATE({}) < DATE(NOW())", TIMES),
    ("DATE({}) <= CURDATE()", TIMES),
    ("DATE({}) > CURDATE() - INTERVAL 1 WEEK", TIMES),
    ("DATEDIFF(NOW(), {}) < 40", TIMES),
    ("DATEDIFF(CURDATE(), {}) <= 40", TIMES),
    ("DATEDIFF('2026-03-01', {}) = 3", TIMES),
    ("DATEDIFF('2026-03-01 12:00:00', {}) >= 20", TIMES),
    ("DATEDIFF(CURDATE(), {}) > 10", TIMES),
    ("DATEDIFF({}, '2026-02-01') BETWEEN 1 AND 9", TIMES),
    ("30 > DATEDIFF({}, '2026-02-01')", TIMES),
    ("TO_DAYS({}) = TO_DAYS('2026-02-03')", TIMES),
    ("TO_DAYS({}) < TO_DAYS(CURDATE())", TIMES),
    ("COALESCE({}, '2027-01-01') >= '2026-02-01'", ("day",)),
    ("COALESCE({}, DATE '2027-01-01') >= '2026-02-01'", ("local", "day")),
    ("IFNULL({}, TIMESTAMP '2025-01-01 12:00:00') >= '2026-02-01'", ("local", "day")),
    ("IFNULL({}, 0) < 20", ("n",)),
    ("COALESCE({}, 50) < 20", ("n",)),
]


class RewritingTest(MariaTest):
    def setUp(self):
        super().setUp()
        self.sql(
            "CREATE TABLE plain (id bigint AUTO_INCREMENT PRIMARY KEY, at timestamp(3) NULL, local datetime NULL, day date NULL, n int)"
        )
        every = "'2025-12-20' + INTERVAL seq * 30 MINUTE"  # midnights among them
        now = "now(3) - INTERVAL seq HOUR"
        for values, rows in (
            (f"{every}, {every}, {every}, seq % 40", 5_000),
            (f"'2026-02-28 23:59:59.999', {now}, {now}, 1", 200),
            (f"{now}, NULL, NULL, 1", 2_000),
            ("NULL, NULL, NULL, NULL", 1),
        ):
            self.sql(f"INSERT INTO plain (at, local, day, n) SELECT {values} FROM seq_1_to_{rows}")
        self.schema = Schema({self.table: COLUMNS})

    @property
    def table(self):
        return Name(self.database, "plain")

    def found(self, where, column, zone="UTC"):
        around = Surroundings(ZoneInfo(zone), datetime.datetime(2026, 3, 15, tzinfo=datetime.UTC))
        sql = f"SELECT count(*), sum(id * id % 99991) FROM {self.database}.plain p WHERE {where.replace('{}', 'p.' + column)}"
        with speaking(BACKQUOTED):
            return sql, rewritten(sql, self.table, self.schema, (COLUMNS[column],), around)

    def test_they_return_the_same_rows(self):
        for zone, offset in (("UTC", "+00:00"), ("Asia/Kolkata", "+05:30"), ("Etc/GMT+7", "-07:00")):
            self.sql(f"SET time_zone = '{offset}'")
            for where, columns in EQUAL:
                for column in columns:
                    with self.subTest(where, column=column, zone=zone):
                        sql, found = self.found(where, column, zone)
                        self.assertIsNotNone(found.rewrite, found.unequal)
                        rows = self.sql(sql)
                        self.assertGreater(rows[0][0], 0)
                        self.assertEqual(rows, self.sql(found.rewrite.sql), found.rewrite.sql)

    def test_random_conditions_return_the_same_rows(self):
        chance, offered = random.Random(8), 0
        for number in range(700):
            column = chance.choice(TIMES)
            where = self.random_condition(chance)
            zone, offset = chance.choice((("UTC", "+00:00"), ("Asia/Kolkata", "+05:30"), ("Etc/GMT+7", "-07:00")))
            self.sql(f"SET time_zone = '{offset}'")
            sql, found = self.found(where, column, zone)
            if found.rewrite is None:
                continue
            offered += 1
            with self.subTest(where, column=column, zone=zone, number=number):
                self.assertEqual(self.sql(sql), self.sql(found.rewrite.sql), found.rewrite.sql)
        self.assertGreater(offered, 400)

    @staticmethod
    def random_condition(chance):
        days = ("2025-12-20", "2026-01-01", "2026-01-31", "2026-02-28", "2026-03-01", "2026-03-29")

        def day():
            return chance.choice(
                (
                    f"'{chance.choice(days)}'",
                    f"DATE '{chance.choice(days)}'",
                    f"CAST('{chance.choice(days)} 13:00:00' AS DATE)",
                )
            )

        def moment():
            return f"'{chance.choice(days)} {chance.choice(('00:00:00', '00:30:00', '12:00:00', '23:59:59'))}'"

        def today():
            step = chance.choice(
                ("", " - INTERVAL 3 DAY", " + INTERVAL 1 MONTH", " - INTERVAL 2 WEEK", " - INTERVAL 1 YEAR")
            )
            return chance.choice(("CURDATE()", "CURRENT_DATE", "DATE(NOW())")) + step

        sign = chance.choice(("=", "<", "<=", ">", ">="))
        step = f"INTERVAL {chance.randint(-40, 40)} {chance.choice(('DAY', 'WEEK', 'HOUR', 'MINUTE', 'SECOND'))}"
        return chance.choice((
            f"DATE({{}}) {sign} {day()}",
            f"{day()} {sign} CAST({{}} AS DATE)",
            f"DATE({{}}) {sign} {moment()}",
            f"DATE({{}}) {sign} {today()}",
            f"DATE({{}}) BETWEEN {day()} AND {day()}",
            f"DATE({{}}) IN ({day()}, {day()}, {day()})",
            f"YEAR({{}}) {sign} {chance.randint(2024, 2027)}",
            f"EXTRACT(YEAR FROM {{}}) = {chance.randint(2025, 2026)} AND MONTH({{}}) = {chance.randint(1, 12)}",
            f"EXTRACT(YEAR_MONTH FROM {{}}) {sign} {chance.choice((202512, 202601, 202602, 202603))}",
            f"DATE_FORMAT({{}}, '{chance.choice(('%Y', '%Y-%m', '%Y-%m-%d', '%Y%m'))}') {sign} '{chance.choice(('2026', '2026-02', '2026-02-28', '202602'))}'",
            f"LEFT({{}}, {chance.choice((4, 7, 10))}) {sign} '{chance.choice(('2026', '2026-02', '2026-02-28'))}'",
            f"{{}} LIKE '{chance.choice(('2026%', '2026-%', '2026-02%', '2026-02-28%', '2026-02-28 %'))}'",
            f"{{}} {chance.choice('+-')} {step} {sign} {moment()}",
            f"{{}} {chance.choice('+-')} {step} {sign} {day()}",
            f"DATE_{chance.choice(('ADD', 'SUB'))}({{}}, {step}) {sign} {chance.choice((day(), today()))}",
            f"DATEDIFF({chance.choice((day(), moment(), today()))}, {{}}) {sign} {chance.randint(-50, 50)}",
            f"DATEDIFF({{}}, {chance.choice((day(), today()))}) {sign} {chance.randint(-50, 50)}",
            f"TO_DAYS({{}}) {sign} TO_DAYS({chance.choice((day(), today()))})",
            f"IFNULL({{}}, {day()}) {sign} {day()}",
        ))  # fmt: skip

    def test_what_is_not_equal_or_not_certain_is_not_offered(self):
        for where in (
            "DATE({}) = '2026-02-28 12:00:00'",  # compared as moments: never true
            "DATE({}) >= NOW()",  # the same
            "DATE({}) = CURDATE() + 1",  # a number
            "DATE({}) = ?",  # a text with a clock, perhaps
            "DATE({}) = '28.2.2026'",
            "YEAR({}) = '2026'",
            "YEAR({}) = 99",
            "MONTH({}) = 2",
            "{} NOT IN ('2026-02-01') AND DATE({}) NOT IN ('2026-02-03')",
            "DATE({}) NOT BETWEEN '2026-02-01' AND '2026-02-03'",
            "DATE_FORMAT({}, '%m') = '02'",
            "DATE_FORMAT({}, '%Y-%m') = 'May'",
            "DATE_FORMAT({}, '%Y-%m') = '2026-13'",
            "LEFT({}, 8) = '2026-02-'",
            "{} LIKE '%2026'",
            "{} LIKE '2026-0_%'",
            "{} NOT LIKE '2026-02%'",
            "NOT DATE({}) = '2026-02-28'",
            "{} + INTERVAL n DAY > '2026-02-01'",
            "{} + INTERVAL 1 MONTH > '2026-02-01'",
            "DATEDIFF(NOW(), {}) < n",
            "DATEDIFF(NOW(), {}) < '3'",
            "DATEDIFF(local, {}) < 3",
            "COALESCE({}, NOW()) > '2026-02-01'",
            "COALESCE({}, '2027-01-01') >= '2026-02-01'",  # a text
            "IFNULL({}, '2026-02-01') > NOW()",
        ):
            with self.subTest(where):
                self.assertIsNone(self.found(where, "at")[1].rewrite)

    def test_where_the_clocks_change_a_doubtful_range_is_refused(self):
        for where, is_offered in (
            ("DATE({}) = '2026-10-25'", True),
            ("{} + INTERVAL 1 DAY > '2026-10-26'", False),
            ("DATE({}) = CURDATE()", True),
        ):
            with self.subTest(where):
                found = self.found(where, "at", "Europe/Berlin")[1]
                self.assertEqual(is_offered, found.rewrite is not None)
                self.assertEqual(is_offered, not found.unequal)
        refused = self.found("DATE({}) = CURDATE()", "at", "America/Havana")[1]
        self.assertIn("twice", refused.unequal[0].why)

    def test_prove_offers_them_where_they_prune(self):
        months = "(PARTITION p01 VALUES LESS THAN ({0}'2026-02-01'{1}), PARTITION p02 VALUES LESS THAN ({0}'2026-03-01'{1}), PARTITION rest VALUES LESS THAN {2})"
        self.sql(
            f"CREATE TABLE columns_of (id int, at datetime) PARTITION BY RANGE COLUMNS (at) {months.format('', '', '(MAXVALUE)')}"
        )
        self.sql(
            f"CREATE TABLE days_of (id int, at datetime) PARTITION BY RANGE (TO_DAYS(at)) {months.format('TO_DAYS(', ')', 'MAXVALUE')}"
        )
        # TO_DAYS() of no day is NULL, so the first partition is always read as well (MariaDB, Partition Pruning).
        for table, also in (("columns_of", 0), ("days_of", 1)):
            self.sql(f"INSERT INTO {table} SELECT seq, '2026-01-01' + INTERVAL seq HOUR FROM seq_1_to_1500")
            with self.subTest(table):
                (self.folder / "q.sql").write_text(
                    f"-- name: month\nSELECT count(*) FROM {table} WHERE YEAR(at) = 2026 AND MONTH(at) = 2;\n"
                    f"-- name: today\nSELECT count(*) FROM {table} WHERE DATE(at) = CURDATE() ORDER BY 1;\n"
                    f"-- name: whole\nSELECT count(*) FROM {table} WHERE TO_DAYS(at) = TO_DAYS('2026-02-03');\n"
                )
                found = {each["name"]: each for each in self.json("prove", "--queries", "q.sql")["queries"]}
                for name in ("month", "today", "whole"):
                    instead = found[name]["rewrite"]
                    self.assertTrue(instead, name)
                    plan = self.sql("EXPLAIN PARTITIONS " + instead)
                    self.assertLessEqual(len(plan[0][3].split(",")), 1 + also, instead)
                self.assertIn("INTERVAL '1' DAY", found["today"]["rewrite"])
                self.assertIn("TO_DAYS(at)", str(found["whole"]))
