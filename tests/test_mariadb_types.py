"""MariaDB: every type, and values at its edges, through a conversion and back, and through an archive and back."""

import re

from tests.mariadb import MariaTest

COLUMNS = {
    "tiny": ("tinyint unsigned", ["0", "255", "NULL"]),
    "small": ("smallint zerofill", ["0", "32767", "7"]),
    "medium": ("mediumint", ["-8388608", "8388607", "NULL"]),
    "big": ("bigint unsigned", ["18446744073709551615", "0", "9007199254740993"]),
    "exact": ("decimal(38,10)", ["-1234567890123456789012345678.0123456789", "0", "NULL"]),
    "single": ("float", ["1e-38", "0.1", "-3.4e38"]),
    "twice": ("double", ["0.1", "1.7976931348623157e308", "-0.0"]),
    "bits": ("bit(9)", ["b'101010101'", "b'0'", "NULL"]),
    "truth": ("boolean", ["true", "false", "NULL"]),
    "day": ("date", ["'0000-00-00'", "'9999-12-31'", "'2026-00-00'"]),
    "clock": ("time(6)", ["'-838:59:59.000001'", "'23:59:59.999999'", "NULL"]),
    "moment": ("datetime(6)", ["'0000-00-00 00:00:00'", "'9999-12-31 23:59:59.999999'", "'2026-10-25 02:30:00'"]),
    "instant": ("timestamp(3) NULL", ["'2038-01-19 03:14:07.999'", "'1970-01-01 00:00:01'", "'2026-03-29 02:30:00'"]),
    "since": ("year", ["2155", "0", "1901"]),
    "padded": ("char(10) CHARACTER SET latin1", ["'ä  '", "''", "NULL"]),
    "words": ("varchar(200) COLLATE utf8mb4_bin", ["'🐝 \\\\ '' \" ` ; -- /* */'", "' '", "'\\n\\t\\0'"]),
    "long_words": ("longtext", ["repeat('Honig ', 20000)", "''", "NULL"]),
    "bytes": ("varbinary(50)", ["unhex('00ff27225c0a')", "''", "NULL"]),
    "fixed": ("binary(4)", ["unhex('00ff')", "'abcd'", "NULL"]),
    "much": ("mediumblob", ["repeat(unhex('00ff275c'), 30000)", "''", "NULL"]),
    "chosen": ("enum('a','b''c','')", ["'b''c'", "''", "NULL"]),
    "several": ("set('x','y','z')", ["'x,z'", "''", "NULL"]),
    "tree": ("json", ['\'{"a": [1, "ü\\\\""]}\'', "'null'", "NULL"]),
    "address": ("inet6", ["'2001:db8::ff00:42:8329'", "'::'", "NULL"]),
    "address4": ("inet4", ["'192.0.2.255'", "'0.0.0.0'", "NULL"]),
    "number": ("uuid", ["'123e4567-e89b-12d3-a456-426655440000'", "'00000000-0000-0000-0000-000000000000'", "NULL"]),
    "squeezed": ("varchar(500) COMPRESSED", ["repeat('x', 400)", "''", "NULL"]),
    "unseen": ("int INVISIBLE DEFAULT 5", ["1", "2", "NULL"]),
    "Wäge `kg`": ("int", ["1", "2", "NULL"]),
}
COMPUTED = {
    "later": "bigint AS (big % 1000 + 1) PERSISTENT",
    "virtual": "varchar(30) AS (left(words, 5)) VIRTUAL",
}


def quoted(name):
    return "`" + name.replace("`", "``") + "`"


class TypesTest(MariaTest):
    def setUp(self):
        super().setUp()
        self.sql("SET SESSION sql_mode = 'ALLOW_INVALID_DATES', time_zone = '+00:00'")
        defined = ", ".join(f"{quoted(name)} {type_}" for name, (type_, _) in COLUMNS.items())
        computed = ", ".join(f"{name} {definition}" for name, definition in COMPUTED.items())
        self.sql(
            f"CREATE TABLE reading (reading_id bigint NOT NULL AUTO_INCREMENT, taken_at datetime NOT NULL, {defined}, {computed}, "
            "PRIMARY KEY (reading_id), KEY by_bits (bits, chosen), KEY by_words (words(10)), CONSTRAINT sane CHECK (tiny >= 0)) "
            "COMMENT='it''s; all' ROW_FORMAT=DYNAMIC"
        )
        names = ", ".join(map(quoted, COLUMNS))
        for place in range(3):
            values = ", ".join(values[place] for _, values in COLUMNS.values())
            self.sql(
                f"INSERT INTO reading (taken_at, {names}) SELECT '2026-01-05' + INTERVAL seq DAY, {values} FROM seq_1_to_90"
            )
        self.layout(
            f'[[layout]]\ntable = "{self.database}.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\nahead = "1 month"\n'
            'keep = "1 month"\npast_keep = "archive"\narchive_to = "archive"\nat_most_share = 1.0\n'
        )
        self.now = ("--now", "2026-04-10")

    def contents(self):
        """Every value by its bytes: hexadecimal, and what a number or a moment is as a text beside it."""
        every = ["reading_id", "taken_at", *COLUMNS, *COMPUTED]
        columns = ", ".join(
            f"hex({quoted(each)}), CAST({quoted(each)} AS CHAR)"
            if each not in ("bytes", "fixed", "much")
            else f"hex({quoted(each)})"
            for each in every
        )
        self.sql("SET time_zone = '+00:00'")
        return sorted(self.sql(f"SELECT {columns} FROM reading"))

    def definition(self):
        """Without the divisions, and with the counter left out."""
        text = self.sql("SHOW CREATE TABLE reading")[0][1]
        return re.sub(r"\n PARTITION BY .*", "", re.sub(r" AUTO_INCREMENT=\d+", "", text), flags=re.DOTALL)

    def test_through_a_conversion_and_back(self):
        before, defined = self.contents(), self.definition()
        self.slabrow("convert", "reading", "--go", *self.now)
        self.assertEqual(before, self.contents())
        self.assertEqual(
            defined.replace("PRIMARY KEY (`reading_id`)", "PRIMARY KEY (`reading_id`,`taken_at`)"), self.definition()
        )
        # Followed while the old table is kept in step: each column is changed once.
        for place, (name, (_, values)) in enumerate(COLUMNS.items()):
            self.sql(f"UPDATE reading SET {quoted(name)} = {values[2]} WHERE reading_id = {1 + place}")
        self.sql("DELETE FROM reading WHERE reading_id BETWEEN 200 AND 210")
        changed = self.contents()
        self.slabrow("convert", "reading", "--undo", "--go", *self.now)
        self.assertEqual((changed, defined), (self.contents(), self.definition()))

    def test_through_an_archive_and_back(self):
        self.slabrow("convert", "reading", "--go", *self.now)
        self.slabrow("convert", "reading", "--drop-old", "--go", *self.now)
        before = self.contents()
        self.slabrow("tend", "--go", "--retiring", "2", *self.now)
        self.assertLess(len(self.contents()), len(before))
        for manifest in sorted((self.folder / "archive").rglob("*.json")):
            self.slabrow("adopt", "--from-archive", manifest, "--into", f"{self.database}.reading", "--go", *self.now)
        self.assertEqual(before, self.contents())

    def test_tables_that_cannot_follow_are_refused_with_the_reason(self):
        plain = "id int PRIMARY KEY, taken_at datetime NOT NULL"
        for number, (words, statement) in enumerate([
            ("keeps its history", f"({plain}) WITH SYSTEM VERSIONING"),
            ("of type point", f"({plain}, place point NOT NULL DEFAULT point(0, 0), SPATIAL INDEX (place))"),
            ("of type geometry", f"({plain}, place geometry)"),
            ("its engine is MyISAM", f"({plain}) ENGINE=MyISAM"),
            ("unique", "(id int, taken_at datetime NOT NULL)"),
        ]):  # fmt: skip
            table = f"odd_{number}"
            self.sql(f"CREATE TABLE {table} {statement}")
            self.sql(f"INSERT INTO {table} (id, taken_at) VALUES (1, '2026-03-05')")
            self.layout(
                f'[[layout]]\ntable = "{self.database}.{table}"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\nahead = "1 month"\n'
            )
            with self.subTest(statement):
                self.assertEqual(1, self.json("survey", table)["rows"])
                self.assertIn(words, self.slabrow("convert", table, "--go", *self.now, code=4).stderr)
                self.assertEqual(1, self.value(f"SELECT count(*) FROM {table}"))
                self.assertEqual([], self.sql("SHOW TRIGGERS"))

    def test_a_search_for_words_goes_on(self):
        self.sql("CREATE TABLE note (id int PRIMARY KEY, taken_at datetime NOT NULL, words text, FULLTEXT (words))")
        self.sql("INSERT INTO note SELECT seq, '2026-03-05', concat('honey ', seq) FROM seq_1_to_50")
        self.layout(
            f'[[layout]]\ntable = "{self.database}.note"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\nahead = "1 month"\n'
        )
        self.slabrow("convert", "note", "--go", *self.now)
        self.assertEqual(
            50, self.value("SELECT count(*) FROM note WHERE match(words) AGAINST ('honey' IN BOOLEAN MODE)")
        )
