"""MariaDB: plans are read as EXPLAIN PARTITIONS has them, and predictions equal them, statement by statement."""

import datetime
import random
import re

from tests.mariadb import MariaTest

MONTHS = "(PARTITION m01 VALUES LESS THAN ({0}'2026-02-01'{1}), PARTITION m02 VALUES LESS THAN ({0}'2026-03-01'{1}), PARTITION m03 VALUES LESS THAN ({0}'2026-04-01'{1}), PARTITION mx VALUES LESS THAN {2})"
COLUMNS = MONTHS.format("", "", "(MAXVALUE)")
NUMBERS = "(PARTITION p0 VALUES LESS THAN (0), PARTITION p1 VALUES LESS THAN (100), PARTITION p2 VALUES LESS THAN (200), PARTITION p3 VALUES LESS THAN MAXVALUE)"
TABLES = {
    "rc": f"(id INT, d DATETIME NOT NULL, v INT, KEY (id)) PARTITION BY RANGE COLUMNS (d) {COLUMNS}",
    "rn": f"(id INT, d DATE NOT NULL, v INT) PARTITION BY RANGE (TO_DAYS(d)) {MONTHS.format('TO_DAYS(', ')', 'MAXVALUE')}",
    "kn": "(id INT, d DATETIME(3) NOT NULL, v INT) PARTITION BY KEY (d) PARTITIONS 7",
    "rd": "(id INT, d DATE, v INT) PARTITION BY RANGE COLUMNS (d) (PARTITION m01 VALUES LESS THAN ('2026-02-01'), PARTITION m02 VALUES LESS THAN ('2026-03-01'), PARTITION m03 VALUES LESS THAN ('2026-04-01'))",
    "rt": f"(id INT, d DATETIME, v INT) PARTITION BY RANGE (TO_DAYS(d)) {MONTHS.format('TO_DAYS(', ')', 'MAXVALUE')}",
    "rtd": f"(id INT, d DATE, v INT) PARTITION BY RANGE (TO_DAYS(d)) {MONTHS.format('TO_DAYS(', ')', 'MAXVALUE')}",
    "rs": f"(id INT, d DATETIME(6), v INT) PARTITION BY RANGE (TO_SECONDS(d)) {MONTHS.format('TO_SECONDS(', ')', 'MAXVALUE')}",
    "ry": "(id INT, d DATETIME, v INT) PARTITION BY RANGE (YEAR(d)) (PARTITION p0 VALUES LESS THAN (2025), PARTITION p1 VALUES LESS THAN (2026), PARTITION p2 VALUES LESS THAN (2027), PARTITION px VALUES LESS THAN MAXVALUE)",
    "ru": f"(id INT, d TIMESTAMP NOT NULL, v INT) PARTITION BY RANGE (UNIX_TIMESTAMP(d)) {MONTHS.format('UNIX_TIMESTAMP(', ')', 'MAXVALUE')}",
    "rm": "(id INT, d DATE, v INT) PARTITION BY RANGE (MONTH(d)) (PARTITION p0 VALUES LESS THAN (4), PARTITION p1 VALUES LESS THAN (7), PARTITION p2 VALUES LESS THAN MAXVALUE)",
    "ri": f"(id INT, n INT, v INT) PARTITION BY RANGE (n) {NUMBERS}",
    "rci": f"(id INT, n INT, v INT) PARTITION BY RANGE COLUMNS (n) {NUMBERS.replace('MAXVALUE', '(MAXVALUE)')}",
    "rc2": "(d DATE, n INT, x INT) PARTITION BY RANGE COLUMNS (d, n) (PARTITION p0 VALUES LESS THAN ('2026-02-01', 10), PARTITION p1 VALUES LESS THAN ('2026-02-01', 20), PARTITION p2 VALUES LESS THAN ('2026-03-01', 10), PARTITION p3 VALUES LESS THAN (MAXVALUE, MAXVALUE))",
    "rst": "(s VARCHAR(20), x INT) PARTITION BY RANGE COLUMNS (s) (PARTITION p0 VALUES LESS THAN ('b'), PARTITION p1 VALUES LESS THAN ('d'), PARTITION p2 VALUES LESS THAN (MAXVALUE))",
    "li": "(n INT, x INT) PARTITION BY LIST (n) (PARTITION p0 VALUES IN (1, 2), PARTITION p1 VALUES IN (3, 4), PARTITION p2 VALUES IN (5, NULL))",
    "lid": "(n INT, x INT) PARTITION BY LIST (n) (PARTITION p0 VALUES IN (1, 2), PARTITION p1 VALUES IN (3), PARTITION pd DEFAULT)",
    "lc": "(s VARCHAR(10), x INT) PARTITION BY LIST COLUMNS (s) (PARTITION p0 VALUES IN ('a', 'b'), PARTITION p1 VALUES IN ('c', 'd'), PARTITION p2 VALUES IN (NULL))",
    "lc2": "(a INT, b INT) PARTITION BY LIST COLUMNS (a, b) (PARTITION p0 VALUES IN ((1, 1), (1, 2)), PARTITION p1 VALUES IN ((2, 1), (2, 2)), PARTITION p2 VALUES IN ((3, NULL)))",
    "h": "(n INT, x INT) PARTITION BY HASH (n) PARTITIONS 7",
    "lh": "(n INT, x INT) PARTITION BY LINEAR HASH (n) PARTITIONS 7",
    "hd": "(n INT, d DATE) PARTITION BY HASH (TO_DAYS(d)) PARTITIONS 5",
    "hab": "(a INT, b INT) PARTITION BY HASH (a + b) PARTITIONS 5",
    "k": "(n INT, x INT) PARTITION BY KEY (n) PARTITIONS 7",
    "ks": "(s VARCHAR(20), x INT) PARTITION BY KEY (s) PARTITIONS 7",
    "kab": "(a INT, b BIGINT) PARTITION BY KEY (a, b) PARTITIONS 5",
    "kd": "(d DATETIME, x INT) PARTITION BY LINEAR KEY ALGORITHM=1 (d) PARTITIONS 5",
    "rh": "(n INT, x INT) PARTITION BY RANGE (n) SUBPARTITION BY HASH (x) SUBPARTITIONS 3 (PARTITION p0 VALUES LESS THAN (10), PARTITION p1 VALUES LESS THAN (20), PARTITION p2 VALUES LESS THAN MAXVALUE)",
    "rk": "(d DATE, x INT) PARTITION BY RANGE COLUMNS (d) SUBPARTITION BY KEY (x) SUBPARTITIONS 3 (PARTITION m01 VALUES LESS THAN ('2026-02-01'), PARTITION mx VALUES LESS THAN (MAXVALUE))",
    "pl": "(k INT PRIMARY KEY, v INT, d DATE)",
}
TIMES, WHOLE = (
    ("rc", "rn", "kn", "rd", "rt", "rtd", "rs", "ry", "ru", "rm", "rk"),
    ("ri", "rci", "h", "lh", "k", "li", "lid", "rh"),
)
TEXTS, PAIRS = ("rst", "lc", "ks"), ("lc2", "hab", "kab")
SIGNS = ("=", "<", "<=", ">", ">=", "<>", "<=>")
MOMENTS = ("'2026-02-01'", "'2026-02-15 12:00:00'", "'2026-02-15 12:00:00.5'", "'2026-01-31 23:59:59.999999'", "'2026-02-28 23:59:59'", "DATE'2026-03-01'", "TIMESTAMP'2026-03-01 00:00:00'",
           "20260301", "CAST('2026-02-10' AS DATE)", "'2026-02-01' + INTERVAL 1 MONTH", "NOW() - INTERVAL 10 DAY", "NULL", "'2027-06-01'")  # fmt: skip
VALUES = (
    "5",
    "0",
    "99",
    "100",
    "-3",
    "5.0",
    "5.5",
    "'5'",
    "'abc'",
    "99.5",
    "1e2",
    "true",
    "99999999999",
    "NULL",
    "2 + 3",
    "(SELECT 5)",
)
ON_TIMES = """d BETWEEN '2026-02-05' AND '2026-02-20'|d BETWEEN '2026-02-05' AND '2026-03-20'|d NOT BETWEEN '2026-02-05' AND '2026-02-20'
d IS NULL AND d <> '2026-01-05'|d IS NULL AND d < '2026-03-05'|d IS NULL AND d > '2026-01-05'|d IS NULL OR d > '2026-03-05'
d IN ('2026-01-05', '2026-03-20')|d NOT IN ('2026-01-05', '2026-03-20')|d IS NULL|d IS NOT NULL|YEAR(d) = 2026|DATE(d) = '2026-02-01'
d = '2026-01-05' OR d = '2026-03-20'|d < '2026-01-05' OR d > '2026-03-20'|NOT (d >= '2026-02-01')|d LIKE '2026-03%'
d >= '2026-02-01' AND d < '2026-03-01'|'2026-02-01' <= d AND '2026-03-01' > d|TO_DAYS(d) = TO_DAYS('2026-02-01')
d + INTERVAL 1 DAY < '2026-02-01'|d > '2026-02-01' AND d > '2026-03-05'|d < '2026-02-01' AND d > '2026-03-05'"""
ON_WHOLE = """n IN (1, 2, 3)|n NOT IN (1, 2)|n BETWEEN 3 AND 6|n BETWEEN 3 AND 60|n BETWEEN 1 AND 14|n BETWEEN 1 AND 33|n IS NULL|n IS NOT NULL
n + 0 = 5|-n = 5|n = 1 OR n = 4|n > 3 AND n < 7|n IS NULL OR n = 4|n NOT BETWEEN 3 AND 6|5 = n|n IN (1, NULL)|n IN (SELECT k FROM pl)
NOT n = 4|n < 4 AND n <> 2|1 = 0|1 = 1 AND n = 1"""
ON_TEXTS = """s = 'cat'|s < 'cat'|s >= 'CAT'|s BETWEEN 'b' AND 'c'|s IN ('a', 'z')|s LIKE 'ca%'|s LIKE 'c_t'|s = 'd '|s > 'c'|s < 'd'|s IS NULL
s = 'x' COLLATE utf8mb4_bin|s = 5|LOWER(s) = 'a'|BINARY s = 'a'|s LIKE '%a'|s NOT LIKE 'ca%'|s NOT LIKE 'a'|NOT s LIKE 'ca%'|NOT s NOT LIKE 'ca%'|s NOT BETWEEN 'b' AND 'c'|NOT s IN ('a')|NOT s IS NULL|s <> 'b'|s = 'Ä'|s NOT IN ('a')"""
ON_PAIRS = """a = 1|b = 1|a = 1 AND b = 1|a = 1 AND b = 9|a IN (1, 2) AND b = 1|(a, b) = (1, 2)|(a, b) IN ((1, 2), (2, 1))|a + b = 3
a BETWEEN 1 AND 2 AND b = 1|a = 3 AND b IS NULL|a < 2|a = 1 OR b = 1|(a = 1 AND b = 1) OR (a = 2 AND b = 2)"""
ON_RH = """n = 4 AND x = 1|n = 4|x = 1|n = 4 OR x = 1|n < 15 AND x IN (1, 2)|(n = 4 AND x = 1) OR (n = 25 AND x = 2)
(n = 4 OR x = 1) AND (n = 25 OR x = 2)|x BETWEEN 1 AND 2|n IS NULL AND x IS NULL"""
ON_RC2 = """d = '2026-02-01'|n = 5|d = '2026-02-01' AND n = 15|d = '2026-02-01' AND n > 15|d > '2026-02-01' AND n = 15
d IN ('2026-02-01', '2026-03-01') AND n = 5|(d, n) = ('2026-02-01', 15)|d IS NULL|d = '2026-02-01' AND n IS NULL|(d, n) > ('2026-02-01', 15)
d < '2026-02-01' OR (d = '2026-02-01' AND n < 10)"""
WHOLE_STATEMENTS = """SELECT * FROM rc a JOIN rd b ON a.id = b.id WHERE a.d < '2026-02-01'
SELECT * FROM rd a JOIN rk b ON a.d = b.d WHERE a.d < '2026-02-01'
SELECT * FROM rd a, rk b WHERE a.d = b.d AND a.d IN ('2026-01-05', '2026-02-05')
SELECT * FROM ri a LEFT JOIN rci b ON a.n = b.n WHERE a.n = 5
SELECT * FROM ri a LEFT JOIN rci b ON a.n = b.n AND b.n = 4
SELECT * FROM ri a LEFT JOIN rci b ON a.n = b.n WHERE b.n = 4
SELECT * FROM ri a LEFT JOIN rci b ON a.n = b.n WHERE b.n IS NULL
SELECT * FROM ri a RIGHT JOIN rci b ON a.n = b.n WHERE b.n = 4
SELECT * FROM h c LEFT JOIN (ri a JOIN rci b ON a.n = b.n) ON c.n = a.n WHERE c.n = 5
SELECT * FROM (SELECT * FROM rc WHERE d < '2026-02-01') q WHERE id = 1
SELECT * FROM (SELECT d, count(*) c FROM rc GROUP BY d) q WHERE d = '2026-01-05'
SELECT * FROM (SELECT * FROM rc LIMIT 5) q WHERE d = '2026-01-05'
SELECT * FROM (SELECT d FROM rc UNION ALL SELECT d FROM rd) q WHERE d < '2026-02-01'
SELECT * FROM (SELECT d, row_number() OVER (PARTITION BY d ORDER BY id) r FROM rc) q WHERE d < '2026-02-01'
SELECT * FROM (SELECT d, row_number() OVER (ORDER BY id) r FROM rc) q WHERE d < '2026-02-01'
WITH q AS (SELECT * FROM rc) SELECT * FROM q WHERE d < '2026-02-01'
SELECT * FROM rd WHERE d IN (SELECT d FROM rk WHERE d < '2026-02-01')
SELECT * FROM rd WHERE EXISTS (SELECT 1 FROM rk WHERE rk.d = rd.d AND rk.d < '2026-02-01')
SELECT * FROM rd WHERE d NOT IN (SELECT d FROM rk WHERE d < '2026-02-01')
SELECT (SELECT count(*) FROM rk WHERE rk.d = rd.d) FROM rd WHERE d < '2026-02-01'
SELECT * FROM rc PARTITION (m01, m02) WHERE d < '2026-02-01'
SELECT * FROM rh PARTITION (p0) WHERE x = 1
SELECT * FROM pl JOIN ri ON pl.v = ri.n WHERE pl.k = 1
UPDATE ri a JOIN rci b ON a.n = b.n SET a.v = 1 WHERE a.n = 5
DELETE a FROM ri a JOIN rci b ON a.n = b.n WHERE b.n < 50
INSERT INTO pl SELECT id, v, d FROM rd WHERE d < '2026-02-01'
REPLACE INTO pl SELECT id, v, d FROM rd WHERE d < '2026-02-01'
UPDATE rc SET id = 1 WHERE d = '2026-02-10'
DELETE FROM rt WHERE d < '2026-02-01'
SELECT d, count(*) FROM rc GROUP BY d HAVING d < '2026-02-01'
SELECT max(v) FROM rc WHERE d < '2026-02-01'
SELECT * FROM ri NATURAL JOIN pl WHERE n = 5
SELECT * FROM ri JOIN rci USING (n) WHERE n = 5
SELECT 1 FROM ri WHERE n = 1 UNION SELECT 2 FROM rci WHERE n = 150
SELECT * FROM ri a JOIN rci b WHERE a.n = 1 AND a.n = 2
SELECT * FROM ri a JOIN li b WHERE b.n = 77 AND a.n = 5
SELECT * FROM ri a LEFT JOIN li b ON b.n = 77 WHERE a.n = 5
SELECT * FROM ri WHERE n = rand() * 10
SELECT * FROM `ri` WHERE `n` = "5" # with a comment; and a semicolon
SELECT * FROM recent WHERE id = 3
SELECT * FROM per_day WHERE d = '2026-01-05'
SELECT * FROM ri WHERE coalesce(n, 0) = 5
SELECT * FROM ri WHERE n = 5 XOR v = 3"""


# Partitioning expressions, and what their column is of.
FUNCTIONS = {
    "datetime": ("YEAR({})", "MONTH({})", "DAY({})", "DAYOFMONTH({})", "DAYOFWEEK({})", "DAYOFYEAR({})", "WEEKDAY({})", "QUARTER({})", "HOUR({})",
                 "MINUTE({})", "SECOND({})", "TO_DAYS({})", "TO_SECONDS({})", "EXTRACT(YEAR_MONTH FROM {})", "EXTRACT(HOUR FROM {})", "YEARWEEK({})",
                 "YEAR({}) * 100 + MONTH({})", "(YEAR({}) - 2020) DIV 3", "ABS(TO_DAYS({}) - 740000)", "MICROSECOND({})"),
    "datetime(6)": ("MICROSECOND({})", "YEARWEEK({}) * 10 + SECOND({})", *(f"YEARWEEK({{}}, {mode})" for mode in range(1, 8))),
    "date": ("TO_DAYS({})", "MONTH({})", "TO_SECONDS({})", "WEEKDAY({}) + 7 * QUARTER({})"),
    "timestamp NOT NULL": ("UNIX_TIMESTAMP({})", "UNIX_TIMESTAMP({}) DIV 3600"),
    "int": ("{}", "{} + 3", "{} - 30", "{} * 7", "{} DIV 9", "{} % 9", "MOD({}, 9)", "ABS({} - 100)", "-{}", "({} + 5) DIV 2 - 1", "CEILING({})"),
    "bigint unsigned": ("{} DIV 1000", "{} % 1000"),
}  # fmt: skip
OF_FUNCTIONS = {
    "int": ("0", "7", "-7", "44", "100", "NULL", "2147483647", "3 * 4 - 1", "17 DIV 3", "-(-5)", "floor(5.5)", "length('abc')", "'12'", "12.0",
            "CAST('5' AS UNSIGNED)", "IF(1 > 0, 5, 6)", "greatest(3, 9)", "ascii('a')"),
    "bigint unsigned": ("0", "18446744073709551615", "9223372036854775808", "123456"),
}  # fmt: skip
OF_TIMES = ("'2026-02-03 04:05:06.123456'", "'2024-02-29'", "'2023-01-01'", "'2022-12-31'", "DATE'1999-12-31'", "TIMESTAMP'2026-10-25 02:30:00'", "'2026-03-29 02:30:00'", "NULL", "20260203",
            "LAST_DAY('2026-02-03')", "STR_TO_DATE('3.2.2026', '%d.%m.%Y')", "MAKEDATE(2026, 40)", "CURDATE()",
            "CONCAT('2026', '-02-03')", "'2026-01-31' + INTERVAL 1 MONTH", "DATE_ADD('2026-02-28', INTERVAL 36 HOUR)", "FROM_UNIXTIME(1770000000)",
            "DATE('2026-02-03 23:00:00')", "CAST('2026-02-03 23:00:00' AS DATETIME)", "GREATEST(DATE'2026-01-01', DATE'2026-02-03')")  # fmt: skip
COLLATIONS = (
    "utf8mb4_general_ci",
    "utf8mb4_bin",
    "latin1_swedish_ci",
    "latin1_bin",
    "utf8mb4_unicode_ci",
    "utf8mb4_german2_ci",
    "utf8mb3_general_ci",
)
WORDS = (
    "'a'",
    "'A'",
    "'ä'",
    "'Ä'",
    "'ae'",
    "'z'",
    "''",
    "' '",
    "'b '",
    "'ß'",
    "'ss'",
    "'o'",
    "'ö'",
    "CONCAT('a', 'b')",
    "UPPER('b')",
    "'Z' COLLATE {}",
    "5",
    "NULL",
)


def corpus():
    for table in TIMES:
        yield from (
            f"SELECT * FROM {table} WHERE d {sign} {value}"
            for value in MOMENTS
            for sign in SIGNS
            if table != "kn" or "NOW" not in value
        )
        yield from (f"SELECT * FROM {table} WHERE {each}" for each in split(ON_TIMES))
    for table in WHOLE:
        yield from (f"SELECT * FROM {table} WHERE n {sign} {value}" for value in VALUES for sign in SIGNS)
        yield from (f"SELECT * FROM {table} WHERE {each}" for each in split(ON_WHOLE))
    for tables, conditions in ((TEXTS, ON_TEXTS), (PAIRS, ON_PAIRS), (("rh",), ON_RH), (("rc2",), ON_RC2)):
        yield from (f"SELECT * FROM {table} WHERE {each}" for table in tables for each in split(conditions))
    yield from WHOLE_STATEMENTS.split("\n")


def split(text):
    return text.replace("\n", "|").split("|")


def random_condition(chance, table, depth=0):
    """Any condition on the key of a table, and on what is no key."""
    if depth < 3 and chance.random() < 0.45:
        word = chance.choice((" AND ", " OR "))
        inner = word.join(random_condition(chance, table, depth + 1) for _ in range(chance.randint(2, 3)))
        return chance.choice(
            (
                *["({})"] * 12,
                "NOT ({})",
                "NOT ({})",
                "({}) IS TRUE",
                "({}) IS NOT TRUE",
                "({}) IS FALSE",
                "IF(({}), 1, 0)",
                "(({}) XOR false)",
            )
        ).format(inner)
    columns = {
        "d": _day,
        "n": _number,
        "x": _number,
        "v": _number,
        "a": _number,
        "b": _number,
        "s": _text,
        "id": _number,
    }
    column = chance.choice(
        [name for name in columns if f" {name} " in TABLES[table].replace("(", "( ").replace(",", " ,")]
    )
    value = columns[column]
    if column == "s" and chance.random() < 0.3:
        return f"{column} {chance.choice(('LIKE', 'NOT LIKE'))} '{chance.choice('abcdexz')}{chance.choice(('', '%', 'a%', '_', '%a'))}'"
    match chance.randint(0, 8):
        case 6:
            return f"{column} {chance.choice(('IN', 'NOT IN'))} ({value(chance)}, NULL, {value(chance)})"
        case 7:
            return chance.choice((
                f"{column} <=> NULL", f"NOT {column} <=> {value(chance)}", f"{column} BETWEEN {value(chance)} AND NULL", f"{column} = NULL",
                f"{column} IS NOT NULL AND {column} <> {value(chance)}", f"coalesce({column}, {value(chance)}) = {value(chance)}", "NULL", "0", "2 > 1",
                f"{column} = (SELECT {value(chance)})", f"{value(chance)} BETWEEN {column} AND {value(chance)}", f"{column} = {column}", f"{value(chance)} = {column}",
            ))  # fmt: skip
        case 0:
            return f"{column} {chance.choice(('IN', 'NOT IN'))} ({', '.join(value(chance) for _ in range(chance.randint(1, 4)))})"
        case 1:
            return f"{column} {chance.choice(('BETWEEN', 'NOT BETWEEN'))} {value(chance)} AND {value(chance)}"
        case 2:
            return f"{column} IS {chance.choice(('', 'NOT '))}NULL"
        case _:
            return f"{column} {chance.choice(SIGNS)} {value(chance)}"


def _day(chance):
    day = datetime.datetime(2025, 12, 1) + datetime.timedelta(
        days=chance.randint(0, 150), seconds=chance.choice((0, 0, 43_200, 86_399))
    )
    return chance.choice((f"'{day:%Y-%m-%d}'", f"'{day:%Y-%m-%d %H:%M:%S}'", f"DATE'{day:%Y-%m-%d}'", f"{day:%Y%m%d}"))


def _number(chance):
    return chance.choice(
        (
            str(chance.randint(-5, 12)),
            str(chance.randint(0, 220)),
            f"{chance.randint(0, 9)}.5",
            f"'{chance.randint(0, 9)}'",
        )
    )


def _text(chance):
    return repr(chance.choice("aAbBcCdDeEz") + chance.choice(("", "", "at", " ")))


class PruningTest(MariaTest):
    def setUp(self):
        super().setUp()
        for name, definition in TABLES.items():
            self.sql(f"CREATE TABLE {name} {definition}")
        self.sql("CREATE VIEW recent AS SELECT * FROM rc WHERE d >= '2026-03-01'")
        self.sql("CREATE VIEW per_day AS SELECT d, count(*) c FROM rc GROUP BY d")
        self.sql("INSERT INTO pl SELECT seq, seq, '2026-01-01' + INTERVAL seq DAY FROM seq_1_to_300")
        for name in ("rc", "rd", "rt", "ri", "rci"):
            key = "'2026-01-01' + INTERVAL seq DAY" if name in TIMES else "seq * 6"
            self.sql(f"INSERT INTO {name} SELECT seq, {key}, seq FROM seq_0_to_40")
        for name in ("h", "k", "lh", "rh"):
            self.sql(f"INSERT INTO {name} SELECT seq, seq FROM seq_0_to_40")

    def proven(self, statements):
        """What `prove` says of each statement: a list for each, with an entry for each table."""
        text = ";\n".join(f"-- name: q{place}\n{each}\n" for place, each in enumerate(statements))
        (self.folder / "queries.sql").write_text(text)
        found = [[] for _ in statements]
        for each in self.json("prove", "--queries", "queries.sql")["queries"]:
            found[int(each["name"][1:])].append(each)
        return found

    def explained(self, statement):
        """The leaves of each table or alias, as EXPLAIN PARTITIONS lists them."""
        self.sql(f"USE {self.database}")
        rows = self.sql(f"EXPLAIN PARTITIONS {statement}")
        return [set(row[3].split(",")) for row in rows if row[3]]

    def held_against_the_server(self, statements):
        """How many entries there are, and those in which the prediction keeps more leaves than the plan."""
        total, wider = 0, []
        for statement, entries in zip(statements, self.proven(statements), strict=True):
            read = self.explained(statement)
            with self.subTest(statement):
                planned = [set(each["planned"]) for each in entries if each["planned"]]
                for leaves in planned:
                    self.assertTrue(leaves in read or any(each <= leaves for each in read), (leaves, read))
                if not entries or len(entries) == 1 == len(read):
                    self.assertEqual(read, planned)
                for entry in entries:
                    total += 1
                    predicted, plan = set(entry["predicted"]), set(entry["planned"])
                    self.assertLessEqual(plan, predicted)  # never narrower than the server
                    wider += [(statement, sorted(predicted), sorted(plan))] if predicted > plan else []
        return total, wider

    def test_every_kind_of_layout_and_key(self):
        statements = list(dict.fromkeys(corpus()))
        self.assertGreater(len(statements), 1_500)
        total, wider = self.held_against_the_server(statements)
        self.assertLess(len(wider), 0.01 * total, wider[:10])

    def test_random_conditions(self):
        chance = random.Random(18)
        tables = [name for name in TABLES if name != "pl"]
        statements = [
            f"SELECT * FROM {table} WHERE {random_condition(chance, table)}"
            for table in (chance.choice(tables) for _ in range(900))
        ]
        total, wider = self.held_against_the_server(list(dict.fromkeys(statements)))
        self.assertLess(len(wider), 0.03 * total, wider[:10])

    def test_functions_in_the_key(self):
        statements = []
        for type_, functions in FUNCTIONS.items():
            values = OF_FUNCTIONS.get(type_, OF_TIMES)
            for place, function in enumerate(functions):
                table = f"f_{re.sub('[^a-z0-9]+', '_', type_.lower())}_{place}"
                self.sql(
                    f"CREATE TABLE {table} (k {type_}, v int) PARTITION BY HASH ({function.replace('{}', 'k')}) PARTITIONS 11"
                )
                statements += [f"SELECT * FROM {table} WHERE k = {value}" for value in values]
        self.sql("CREATE TABLE f_range (k datetime, v int) PARTITION BY RANGE (YEAR(k) * 100 + MONTH(k)) "
                 "(PARTITION p0 VALUES LESS THAN (202602), PARTITION p1 VALUES LESS THAN (202603), PARTITION p2 VALUES LESS THAN MAXVALUE)")  # fmt: skip
        self.sql("CREATE TABLE f_list (k int, v int) PARTITION BY LIST (k DIV 10) "
                 "(PARTITION p0 VALUES IN (0, 1, NULL), PARTITION p1 VALUES IN (2, 3), PARTITION p2 DEFAULT)")  # fmt: skip
        statements += [f"SELECT * FROM f_range WHERE k {sign} {value}" for sign in SIGNS for value in OF_TIMES]
        statements += [
            f"SELECT * FROM f_list WHERE k {sign} {value}" for sign in SIGNS for value in OF_FUNCTIONS["int"]
        ]
        total, wider = self.held_against_the_server(statements)
        self.assertGreater(total, 600)
        self.assertLess(len(wider), 0.01 * total, [each[0] for each in wider])

    def test_texts_in_the_order_of_their_collation(self):
        statements = []
        for collation in COLLATIONS:
            column = f"k varchar(20) CHARACTER SET {collation.split('_')[0]} COLLATE {collation}, v int"
            self.sql(f"CREATE TABLE r_{collation} ({column}) PARTITION BY RANGE COLUMNS (k) (PARTITION p0 VALUES LESS THAN ('b'), "
                     "PARTITION p1 VALUES LESS THAN ('o'), PARTITION p2 VALUES LESS THAN ('ss'), PARTITION p3 VALUES LESS THAN (MAXVALUE))")  # fmt: skip
            self.sql(f"CREATE TABLE l_{collation} ({column}) PARTITION BY LIST COLUMNS (k) "
                     "(PARTITION p0 VALUES IN ('a', 'o'), PARTITION p1 VALUES IN ('ß', 'z'), PARTITION p2 VALUES IN ('', NULL))")  # fmt: skip
            self.sql(f"CREATE TABLE k_{collation} ({column}) PARTITION BY KEY (k) PARTITIONS 7")
            # A word of the connection's character set takes no collation of another one.
            words = [each.format(collation) for each in WORDS if collation.startswith("utf8mb4") or "{}" not in each]
            # How KEY takes texts of these two is not known: all parts are predicted.
            keyed = collation not in ("utf8mb4_unicode_ci", "utf8mb4_german2_ci")
            for kind, signs in (("r", SIGNS), ("l", ("=", "<>", "<=>")), ("k", ("=", "<=>") if keyed else ())):
                statements += [
                    f"SELECT * FROM {kind}_{collation} WHERE k {sign} {word}" for sign in signs for word in words
                ]
            statements += [
                f"SELECT * FROM r_{collation} WHERE k LIKE {each}"
                for each in ("'a%'", "'Ä%'", "'s_'", "'%'", "'o'", "'ss%'")
            ]
        total, wider = self.held_against_the_server(statements)
        self.assertGreater(total, 1_000)
        self.assertLess(len(wider), 0.01 * total, [each[0] for each in wider])

    def test_a_statement_is_planned_at_every_execution(self):
        (self.folder / "queries.sql").write_text(
            "-- name: one\n-- params: '2026-02-10'\nSELECT * FROM rc WHERE d = ?;\n"
        )
        (entry,) = self.json("prove", "--queries", "queries.sql")["queries"]
        self.assertEqual((["m02"], ["m02"], "plan"), (entry["predicted"], entry["planned"], entry["pruned_at"]))

    def test_a_run_changes_nothing_and_what_may_not_run_is_only_planned(self):
        self.sql("CREATE FUNCTION fib(n INT) RETURNS INT DETERMINISTIC RETURN n")
        before = self.sql("SELECT count(*), sum(v) FROM rc")
        statements = ["UPDATE rc SET v = v + 1 WHERE d < '2026-02-01'", "DELETE FROM rc WHERE d < '2026-02-01'",
                      "SELECT * FROM rc WHERE v = fib(3)", "SELECT get_lock('x', 0) FROM rc", "SELECT * FROM rc WHERE d < '2026-02-01'"]  # fmt: skip
        (self.folder / "queries.sql").write_text(";\n".join(statements))
        found = self.json("prove", "--queries", "queries.sql", "--run")["queries"]
        self.assertEqual(before, self.sql("SELECT count(*), sum(v) FROM rc"))
        self.assertEqual([True, True, False, False, True], [each["executed"] is not None for each in found])
        self.assertEqual(["m01"], found[4]["executed"])
