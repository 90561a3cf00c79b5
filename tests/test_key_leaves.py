"""Routing of MariaDB's HASH and KEY without a server, against the server: the leaf of every row, type by type."""

import random
import struct
import unittest
import uuid
from datetime import datetime, timedelta
from decimal import Decimal

import numpy as np

from slabrow.core.hashing.key_leaves import hash_leaves, key_leaves
from slabrow.core.hashing.stored_bytes import parse_stored_type, stored, whole_numbers
from slabrow.core.values.errors import UsageError
from tests.mariadb import connect
from tests.support import ServerTest

ROWS = 400
LETTERS = "abcXYZ äÖßéñ  ŁøþЖя漢字𝄞😀'\\%_-09ſıİ"
ONE = random.Random(20260301)


def text(charset="utf-8"):
    made = "".join(ONE.choice(LETTERS) for _ in range(ONE.randint(0, 8)))
    if charset == "ucs-2":
        return "".join(letter for letter in made if ord(letter) <= 0xFFFF)
    return made.encode(charset, "ignore").decode(charset)


def moment(step=1_000_000):
    return datetime(1971, 1, 2) + timedelta(
        seconds=ONE.randint(0, 2_000_000_000), microseconds=ONE.randint(0, 999_999) // step * step
    )


def number(digits, scale):
    return Decimal(ONE.randint(-(10**digits) + 1, 10**digits - 1)).scaleb(-scale)


def signed(bits):
    return lambda: ONE.choice((ONE.randint(-(1 << bits - 1), (1 << bits - 1) - 1), 0, -1, 32, 0x61, 0x2020, (1 << bits - 1) - 1, -(1 << bits - 1))
                              if bits > 8 else (ONE.randint(-128, 127), 32, 97))  # fmt: skip


# Type → how a value of it is made; and how the server is given it, where the driver does not know.
TYPES = {
    **{name: signed(bits) for name, bits in (("tinyint", 8), ("smallint", 16), ("mediumint", 24), ("int", 32), ("bigint", 64))},
    "int unsigned": lambda: ONE.getrandbits(32), "bigint unsigned": lambda: ONE.getrandbits(64),
    "float": lambda: struct.unpack("<f", struct.pack("<f", ONE.uniform(-1e6, 1e6)))[0],
    "double": lambda: ONE.choice((ONE.uniform(-1e9, 1e9), 0.0, 1.0)),
    **{f"decimal({d},{s})": lambda d=d, s=s: number(d, s) for d, s in ((9, 2), (20, 5), (30, 0), (6, 6), (18, 9), (1, 0))},
    "year": lambda: ONE.choice([0, *range(1901, 2156)]), "date": lambda: moment().date(), "datetime": moment,
    "datetime(1)": lambda: moment(100_000), "datetime(3)": lambda: moment(1_000), "datetime(6)": lambda: moment(1),
    "timestamp": moment, "timestamp(6)": lambda: moment(1), "time": lambda: timedelta(seconds=ONE.randint(-3020399, 3020399)),
    "varchar(20) collate utf8mb4_general_ci": text, "char(20) collate utf8mb4_general_ci": text,
    "varchar(300) collate utf8mb4_bin": text, "varchar(20) collate utf8mb4_nopad_bin": text,
    "varchar(20) collate latin1_swedish_ci": lambda: text("cp1252"), "varchar(20) collate latin1_bin": lambda: text("cp1252"),
    "varchar(20) collate utf8mb3_general_ci": lambda: text("ucs-2"),
    "binary(8)": lambda: ONE.randbytes(ONE.randint(0, 8)), "varbinary(12)": lambda: ONE.randbytes(ONE.randint(0, 12)),
    "uuid": lambda: str(uuid.UUID(int=ONE.getrandbits(128), version=4)),
    "inet6": lambda: f"::{ONE.randint(0, 65535):x}:{ONE.randint(0, 65535):x}",
}  # fmt: skip


class ServerAsOracleTest(ServerTest):
    family = "mariadb"

    @classmethod
    def setUpClass(cls):
        connection = connect()
        cls.addClassCleanup(connection.close)
        cls.cursor = connection.cursor()
        for sql in ("SET time_zone = '+00:00'", "CREATE OR REPLACE DATABASE leaves", "USE leaves"):
            cls.cursor.execute(sql)

    def homes(self, columns, rows, how, parts):
        """The leaf of each row on the server. columns: their types; rows: tuples of values."""
        names = [f"v{place}" for place in range(len(columns))]
        listed = ", ".join(f"{name} {_spelled(kind)}" for name, kind in zip(names, columns, strict=True))
        self.cursor.execute(
            f"CREATE OR REPLACE TABLE x (n int, {listed}) PARTITION BY {how} ({', '.join(names)}) PARTITIONS {parts}"
        )
        marks = ", ".join(["%s"] * (len(columns) + 1))
        self.cursor.executemany(
            f"INSERT INTO x VALUES ({marks})", [(place, *map(_given, row)) for place, row in enumerate(rows)]
        )
        found = np.full(len(rows), -1)
        for leaf in range(parts):
            self.cursor.execute(f"SELECT n FROM x PARTITION (p{leaf})")
            for (place,) in self.cursor.fetchall():
                found[place] = leaf
        return found

    def test_every_type_by_key(self):
        for kind, make in TYPES.items():
            values = [None, *(make() for _ in range(ROWS))]
            for how, parts, algorithm in (
                ("KEY", 97, 2),
                ("KEY", 16, 2),
                ("LINEAR KEY", 97, 2),
                ("KEY ALGORITHM=1", 97, 1),
            ):
                with self.subTest(kind, how=how, parts=parts):
                    mine = key_leaves(
                        [stored(parse_stored_type(kind), values, algorithm)], parts, linear="LINEAR" in how
                    )
                    np.testing.assert_array_equal(self.homes([kind], [(value,) for value in values], how, parts), mine)

    def test_several_columns_one_after_the_other(self):
        kinds = ["varchar(20) collate utf8mb4_general_ci", "datetime(3)", "int"]
        rows = [tuple(None if ONE.random() < 0.1 else TYPES[kind]() for kind in kinds) for _ in range(ROWS)]
        columns = [stored(parse_stored_type(kind), [row[place] for row in rows]) for place, kind in enumerate(kinds)]
        np.testing.assert_array_equal(self.homes(kinds, rows, "KEY", 97), key_leaves(columns, 97))

    def test_whole_numbers_by_hash(self):
        for kind in ("int", "bigint", "bigint unsigned"):
            values = [None, 0, 1, *(TYPES[kind]() for _ in range(ROWS))]
            numbers, nulls = whole_numbers(values)
            for how, parts in (
                ("HASH", 97),
                ("HASH", 16),
                ("HASH", 3),
                ("LINEAR HASH", 97),
                ("LINEAR HASH", 12),
                ("HASH", 1),
            ):
                with self.subTest(kind, how=how, parts=parts):
                    mine = hash_leaves(numbers, parts, linear="LINEAR" in how, nulls=nulls)
                    np.testing.assert_array_equal(self.homes([kind], [(value,) for value in values], how, parts), mine)


def _spelled(kind):
    """A type as DDL: with the character set of its collation, and NULL allowed."""
    name, _, collation = kind.partition(" collate ")
    return f"{name} CHARACTER SET {collation.split('_')[0]} COLLATE {collation} NULL" if collation else f"{name} NULL"


def _given(value):
    if isinstance(value, timedelta):
        seconds = int(value.total_seconds())
        return f"{'-' if seconds < 0 else ''}{abs(seconds) // 3600}:{abs(seconds) // 60 % 60:02}:{abs(seconds) % 60:02}"
    return value


class TypesTest(unittest.TestCase):
    def test_what_is_not_hashed_here(self):
        for spelled, words in (("geometry", "types:"), ("bigin", "did you mean bigint?"), ("varchar(9) collate utf8mb4_unicode_ci", "here are"),
                               ("int; DROP TABLE x", "not hashed here"), ("", "not hashed here")):  # fmt: skip
            with self.subTest(spelled), self.assertRaises(UsageError) as caught:
                parse_stored_type(spelled)
            self.assertIn(words, f"{caught.exception.problem} {caught.exception.fix}")

    def test_values_that_a_type_does_not_hold(self):
        for kind, value in (("tinyint", 128), ("int unsigned", -1), ("decimal(3,1)", Decimal("100.0"))):
            with self.subTest(kind), self.assertRaises(ValueError):
                stored(parse_stored_type(kind), [value])


if __name__ == "__main__":
    unittest.main()
