"""Every type, and values at its edges: through a conversion and back, an archive and back, another server and home."""

import psycopg
from psycopg.conninfo import conninfo_to_dict

from tests.support import DatabaseTest, server

OF_TYPES = """
CREATE SCHEMA apiary; CREATE TYPE apiary.mood AS ENUM ('calm', 'an''gry', 'Ü "\\'); CREATE DOMAIN apiary.weight AS numeric(8,2) CHECK (VALUE >= 0 OR VALUE = -1);
CREATE TYPE apiary.spot AS (x int, "y of it" text, at timestamptz[]); CREATE COLLATION apiary.bytewise (provider = libc, locale = 'C');
"""
COLUMNS = {
    "small": ("smallint", ["-32768", "32767", "NULL"]),
    "big": ("bigint", ["-9223372036854775808", "9223372036854775807", "NULL"]),
    "exact": ("numeric", ["'NaN'", "-1e-300", "123456789012345678901234567890.123456789"]),
    "wide": ("numeric(12,3)", ["'-999999999.999'", "0", "NULL"]),
    "single": ("real", ["'NaN'", "'-Infinity'", "0.1"]),
    "twice": ("double precision", ["'-0'", "1.7976931348623157e308", "4.9e-324"]),
    "cash": ("money", ["-92233720368547758.08", "0.01", "NULL"]),
    "truth": ("boolean", ["true", "false", "NULL"]),
    "day": ("date", ["'infinity'", "'4713-01-01 BC'", "'5874897-12-31'"]),
    "clock": ("time(6)", ["'24:00:00'", "'00:00:00.000001'", "NULL"]),
    "zoned_clock": ("timetz", ["'12:00:00+15:59'", "'23:59:59-12'", "NULL"]),
    "local": ("timestamp", ["'-infinity'", "'294276-12-31 23:59:59.999999'", "'0044-03-15 12:00 BC'"]),
    "instant": ("timestamptz", ["'2026-10-25 02:30:00 Europe/Berlin'", "'infinity'", "NULL"]),
    "wait": ("interval", ["'-178000000 years'", "'1 mon -1 day 00:00:00.000001'", "NULL"]),
    "padded": ("char(10)", ["'ä  '", "''", "NULL"]),
    "one": ('"char"', ["'x'", "''", "NULL"]),
    "words": ("text", ["E'\\\\ \\\\N \\t\\n\\r \\x01 🐝 '' \" ; -- /*'", "''", "NULL"]),
    "limited": ("varchar(9)", ["'\\N'", "'  '", "NULL"]),
    "sorted": ('text COLLATE apiary.bytewise', ["'a10'", "'a9'", "NULL"]),
    "long_words": ("text", ["repeat('Honig ', 40000)", "''", "NULL"]),
    "bytes": ("bytea", ["'\\x00ff275c0a'", "''", "NULL"]),
    "bits": ("bit(9)", ["B'101010101'", "B'000000000'", "NULL"]),
    "more_bits": ("bit varying", ["B''", "B'1'", "NULL"]),
    "number": ("uuid", ["'123e4567-e89b-12d3-a456-426655440000'", "'00000000-0000-0000-0000-000000000000'", "NULL"]),
    "address": ("inet", ["'2001:db8::1/64'", "'192.168.0.1'", "NULL"]),
    "net": ("cidr", ["'10.0.0.0/8'", "'::/0'", "NULL"]),
    "card": ("macaddr8", ["'08:00:2b:01:02:03:04:05'", "'00:00:00:00:00:00:00:00'", "NULL"]),
    "old_tree": ("json", ["'{\"a\" : 1, \"a\": [null, \"ü\\\\u00e9\"]}'", "'null'", "NULL"]),
    "tree": ("jsonb", ["'{\"b\": 1e400, \"a\": {}}'", "'[]'", "NULL"]),
    "lexemes": ("tsvector", ["'''it''''s'':1A b:2'", "''", "NULL"]),
    "search": ("tsquery", ["'a & !b'", "''", "NULL"]),
    "place": ("point", ["'(1e-300,NaN)'", "'(0,0)'", "NULL"]),
    "area": ("polygon", ["'((0,0),(0,1),(1,1))'", "'((5,5))'", "NULL"]),
    "span": ("int4range", ["'empty'", "'(,)'", "'[1,5)'"]),
    "spans": ("tstzmultirange", ["'{[2026-01-01,2026-02-01),[2026-03-01,)}'", "'{}'", "NULL"]),
    "list": ("int[]", ["'{{1,NULL},{3,4}}'", "'[-2:0]={1,2,3}'", "'{}'"]),
    "texts": ("text[]", ["ARRAY['a,b', '\"', '\\', NULL, 'NULL', '']", "'{}'", "NULL"]),
    "mood": ("apiary.mood", ["'an''gry'", "'Ü \"\\'", "NULL"]),
    "moods": ("apiary.mood[]", ["ARRAY['calm', 'Ü \"\\']::apiary.mood[]", "'{}'", "NULL"]),
    "heavy": ("apiary.weight", ["-1", "999999.99", "NULL"]),
    "spot": ("apiary.spot", ["ROW(1, 'a\"(,)'::text, ARRAY[timestamptz '2026-01-01'])::apiary.spot", "ROW(NULL, '', NULL)::apiary.spot", "NULL"]),
    "object": ("regclass", ["'pg_class'", "'pg_type'", "NULL"]),
    "lsn": ("pg_lsn", ["'FFFFFFFF/FFFFFFFF'", "'0/0'", "NULL"]),
    "Wäge \"kg\" %s": ("int", ["1", "2", "NULL"]),
}  # fmt: skip
LAYOUT = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
from = 2026-01-01
ahead = "1 month"
keep = "1 month"
past_keep = "archive"
archive_to = "archive"
at_most_share = 1.0
"""
NOW = ("--now", "2026-04-10")


def quoted(name):
    return '"' + name.replace('"', '""') + '"'


class TypesTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql("DROP SCHEMA IF EXISTS apiary CASCADE")
        self.sql(OF_TYPES)
        self.make(self.connection)
        names = ", ".join(map(quoted, COLUMNS))
        for place in range(3):
            values = ", ".join(values[place] for _, values in COLUMNS.values())
            self.run_plain(
                f"INSERT INTO apiary.reading (taken_at, {names}) SELECT timestamptz '2026-01-05' + n * interval '1 day', {values} FROM generate_series(1, 80) n"
            )
        self.layout(LAYOUT)

    def run_plain(self, sql):
        """Without parameters: per cents and question marks are text."""
        self.connection.execute(sql.encode())

    def make(self, connection):
        defined = ", ".join(f"{quoted(name)} {type_}" for name, (type_, _) in COLUMNS.items())
        connection.execute(
            f"CREATE TABLE apiary.reading (reading_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, taken_at timestamptz NOT NULL, {defined}, "
            "doubled numeric GENERATED ALWAYS AS (wide * 2) STORED)".encode()
        )
        connection.execute(
            "CREATE INDEX ON apiary.reading (mood, sorted) WHERE truth; CREATE INDEX ON apiary.reading USING gin (tree)"
        )

    def contents(self, table="apiary.reading"):
        """Every value as it is sent: in binary, so that no spelling hides a difference."""
        every = ["reading_id", "taken_at", *COLUMNS, "doubled"]
        self.connection.execute("SET extra_float_digits = 3; SET timezone = 'UTC'")
        rows = self.connection.execute(
            f"SELECT md5(record_send(r)), r::text FROM (SELECT {', '.join(map(quoted, every))} FROM {table}) r".encode()
        ).fetchall()
        return sorted(rows)

    def test_through_a_conversion_and_back(self):
        before = self.contents()
        self.slabrow("convert", "--go", *NOW)
        self.assertEqual(before, self.contents())
        for place, (name, (_, values)) in enumerate(COLUMNS.items()):
            self.run_plain(f"UPDATE apiary.reading SET {quoted(name)} = {values[1]} WHERE reading_id = {1 + place}")
        self.sql("DELETE FROM apiary.reading WHERE reading_id BETWEEN 200 AND 210")
        changed = self.contents()
        self.slabrow("convert", "--undo", "--go", *NOW)
        self.assertEqual(changed, self.contents())

    def test_through_an_archive_and_back(self):
        self.slabrow("convert", "--go", *NOW)
        self.slabrow("convert", "--drop-old", "--go", *NOW)
        before = self.contents()
        self.slabrow("tend", "--go", "--retiring", "2", *NOW)
        self.assertLess(len(self.contents()), len(before))
        for manifest in sorted((self.folder / "archive").rglob("*.json")):
            self.slabrow("adopt", "--from-archive", manifest, "--into", "apiary.reading", "--go", *NOW)
        self.assertEqual(before, self.contents())

    def test_divided_and_joined_again(self):
        self.slabrow("convert", "--go", *NOW)
        self.slabrow("convert", "--drop-old", "--go", *NOW)
        before = self.contents()
        self.slabrow("split", "apiary.reading_2026_02", "--at", "2026-02-10", "--go", *NOW)
        self.slabrow("split", "apiary.reading_2026_02", "--drop-old", "--go", *NOW)
        self.assertEqual(before, self.contents())

    def test_another_server_and_home(self):
        self.slabrow("convert", "--go", *NOW)
        self.slabrow("convert", "--drop-old", "--go", *NOW)
        before = self.contents()
        elsewhere, name = server(self.far_version), f"far_{self.database}"
        with psycopg.connect(elsewhere.dsn, autocommit=True) as connection:
            connection.execute(f"CREATE DATABASE {name}")
        far = elsewhere.dsn.replace("/postgres?", f"/{name}?")
        with psycopg.connect(far, autocommit=True) as connection:
            connection.execute(OF_TYPES.encode())
        known = conninfo_to_dict(far)
        options = ", ".join(f"{option} '{known[option]}'" for option in ("host", "port", "dbname") if option in known)
        self.sql("CREATE EXTENSION postgres_fdw")
        self.sql(f"CREATE SERVER attic FOREIGN DATA WRAPPER postgres_fdw OPTIONS ({options})")
        self.sql("CREATE USER MAPPING FOR PUBLIC SERVER attic OPTIONS (user 'postgres', password_required 'false')")
        self.layout(LAYOUT.replace("past_keep", "#") + f'[[elsewhere]]\nname = "attic"\ndsn = "{far}"\n')
        for arguments in (("--elsewhere", "attic", "--give-up-key"), ("--to-tablespace", "pg_default")):
            self.slabrow("relocate", "apiary.reading_2026_01", *arguments, "--go", *NOW)
            self.assertEqual(before, self.contents())
            self.slabrow("relocate", "apiary.reading_2026_01", "--drop-old", "--go", *NOW)
            self.assertEqual(before, self.contents())

    far_version = None


class TypesFrom15Test(TypesTest):
    version = 15


class TypesOn16Test(TypesTest):
    version, far_version = 16, 18
    test_another_server_and_home = None  # its wheel has no postgres_fdw
